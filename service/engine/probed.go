package engine

import (
	"net"
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/service/probe"
	"yarnpost/service/wire"
)

// What the answer to a probe means for the lease table.

// Seconds for which an address is kept, or left alone.
const (
	stillUsed    = lease.Time(15 * 60)   // that its former client answers for
	abandonAlone = lease.Time(24 * 3600) // abandoned, where no probe reaches it
)

// Heard is told of every sign that an address is in use: an ARP packet that
// speaks for it, or an echo reply.
func (e *Engine) Heard(a netip.Addr, hw net.HardwareAddr) {
	defer e.Guard("a sign of use", a.AsSlice())
	flying := false
	e.With(func(*lease.Table) { flying = e.probes.Flying(a) })
	if flying {
		e.probeOver(a, probe.Result{Answered: true, Hardware: addr.Hardware(hw)})
	}
}

// probeOver ends a probe: what it means depends on the record of the address.
// Requests that waited are decided.
func (e *Engine) probeOver(a netip.Addr, result probe.Result) {
	defer e.Guard("the end of a probe", a.AsSlice())
	var f *probe.Flight
	e.part("the end of a probe", func() {
		if f = e.probes.Land(a); f == nil {
			return
		}
		if result.Answered {
			e.answered(a, f, result, e.now())
		} else {
			e.silent(a, e.now())
		}
	})
	if f == nil {
		return
	}
	f.Tell(result)
	var m dhcp4.Message
	var six dhcp6.Message
	for i := range f.Waiting {
		w := &f.Waiting[i]
		reply, ok := wire.Reply{}, false
		if w.Packet.From.Addr().Is6() {
			reply, ok = e.handle6(&w.Packet, &six, w.Arrived)
		} else {
			reply, ok = e.handle(&w.Packet, &m, w.Arrived)
		}
		if ok {
			e.send([]wire.Reply{reply})
		}
	}
}

// silent takes in that nobody answers for an address. The caller holds the lock.
func (e *Engine) silent(a netip.Addr, now lease.Time) {
	l := e.table.At(a)
	switch {
	case l == nil:
	case l.Status == lease.Active:
		return // its holder may be asleep
	case l.Kept():
		e.become(l, l.Ended(lease.Released, now))
		e.probes.Kept.Drop(a)
	case l.Status == lease.Abandoned:
		e.giveBack(l, now)
	}
	e.probes.Unused(a, "", now)
}

// giveBack records that an abandoned address is free again. The caller holds the
// lock.
func (e *Engine) giveBack(l *lease.Lease, now lease.Time) {
	if e.become(l, Cleared(l, now)) {
		e.log.Info("an abandoned address is free again", "address", l.Address())
	} else {
		e.table.Put(l) // due again
	}
}

// Cleared is the record of an abandoned address that is free again.
func Cleared(l *lease.Lease, now lease.Time) *lease.Lease {
	if l.Found() { // nobody was ever given it
		return &lease.Lease{Prefix: l.Prefix, Status: lease.Free, Changed: now, Expires: now}
	}
	return l.Ended(lease.Expired, now)
}

// Forgotten is the record of an address whose former client is forgotten. To whom it
// belongs in a pair stays.
func Forgotten(l *lease.Lease) *lease.Lease {
	n := &lease.Lease{Prefix: l.Prefix, Status: l.Status, By: l.By, Version: l.Version, Acked: l.Acked, Told: l.Told,
		Changed: l.Changed, Expires: l.Expires}
	if l.Status == lease.Expired || l.Status == lease.Released {
		n.Status = lease.Free
	}
	return n
}

// lookAgain sees whether an abandoned address is in use still: a probe tells, or
// where none reaches it, a day. The caller holds the lock.
func (e *Engine) lookAgain(l *lease.Lease, now lease.Time) {
	v := e.table.Plan().ScopeAt(l.Address())
	switch p := e.probes; {
	case v != nil && p.Can() && p.Reaches(v):
		if p.Spare() {
			p.Ask(v, l.Address())
		}
		again := *l
		again.Expires = now + 60 // unless the probe says more
		e.table.Put(&again)
	case now-l.Changed >= abandonAlone:
		e.giveBack(l, now)
	default:
		again := *l
		again.Expires = l.Changed + abandonAlone
		e.table.Put(&again)
	}
}

// answered takes in that a host answers for an address that is probed. The
// caller holds the lock.
func (e *Engine) answered(a netip.Addr, f *probe.Flight, who probe.Result, now lease.Time) {
	l := e.table.At(a)
	e.probes.Taken(a)
	v := e.table.Plan().ScopeAt(a)
	switch {
	case v != nil && (l == nil || l.Over()) && e.table.Plan().ReservationAt(a) == nil && e.seen.Relays.Answered(a, v, now):
		e.log.Info("a relay that the plan does not name answers, and its address is left to it", "relay", a, "scope", v.Name)
	case v != nil && l != nil && l.Status == lease.Abandoned && e.claims.disbelieved(v, who.Hardware):
		e.silent(a, now)
	case v != nil && (l == nil || l.Over()) && e.claims.over(v, who.Hardware, e.table.Count(v.ID).Abandoned, now):
		e.silent(a, now) // it answers for so many that it is not believed
	case l != nil && l.Status == lease.Active:
		e.seen.Twins.Meet(a, who.Hardware, now)
	case l != nil && l.Status == lease.Abandoned:
		n := *l
		n.Heard, n.Expires = now, now.Add(e.claims.rest(v, who.Hardware))
		if l.Found() && who.Hardware != "" {
			n.Hardware = who.Hardware
		}
		e.become(l, &n)
	case l != nil && l.Client.Known() && (who.Hardware == l.Hardware || who.Hardware == ""):
		// Its former client uses it still, and may have it back; nobody else.
		until := now + stillUsed
		if l.Kept() {
			until = max(until, l.Expires)
		}
		if e.become(l, l.KeptUntil(now, until)) {
			e.probes.Kept.Put(a, now)
			e.metrics.stillUsed.Inc()
			e.log.Warn("an address is still in use by its former client, and is kept from others", "address", a, "hardware", l.Hardware)
		}
	case who.Hardware != "" && e.wants(a, f, who.Hardware):
		e.probes.Unused(a, who.Hardware, now)
	default:
		e.abandon(a, l, who, now)
	}
}

// wants reports whether the host that answered for an address is the one that
// asks for it, or that it is reserved for: it is no stranger there.
func (e *Engine) wants(a netip.Addr, f *probe.Flight, hw addr.Hardware) bool {
	if r := e.table.Plan().ReservationAt(a); r != nil {
		return r.Hardware == hw
	}
	for _, w := range f.Waiting {
		if b := w.Packet.Data; len(b) >= 44 && len(hw) <= 16 && string(b[28:28+len(hw)]) == string(hw) {
			return true
		}
	}
	return false
}

// abandon records that somebody uses an address that nobody was given. The
// caller holds the lock.
func (e *Engine) abandon(a netip.Addr, before *lease.Lease, who probe.Result, now lease.Time) {
	n := (&lease.Lease{Prefix: lease.Host(a), Hardware: who.Hardware, Since: now, Heard: now, Revision: e.table.Plan().Revision}).Abandon(now)
	if v := e.table.Plan().ScopeAt(a); v != nil {
		e.claims.note(v, who.Hardware, now)
		n.Expires = now.Add(e.claims.rest(v, who.Hardware))
	}
	if e.become(before, n) {
		e.table.DropOffer(lease.Host(a))
		e.metrics.squatters.Inc()
		e.log.Warn("an address is in use by a client that was not given it", "address", a, "hardware", who.Hardware)
	}
}

// ProbeNow finds out whether an address is in use; ok is false if there is no
// way to.
func (e *Engine) ProbeNow(k netip.Prefix) (result probe.Result, ok bool) {
	if !k.IsSingleIP() {
		return result, false
	}
	a := k.Addr()
	c := make(chan probe.Result, 1)
	e.With(func(t *lease.Table) {
		v := t.Plan().ScopeAt(a)
		if ok = v != nil && e.probes.Reaches(v); ok {
			e.probes.Ask(v, a).Watch(c)
		}
	})
	if !ok {
		return result, false
	}
	return <-c, true
}
