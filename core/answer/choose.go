package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

// choose picks the address to offer: reserved, held, on offer, former,
// requested, and then whatever is free for longest.
func (d *decider) choose() (*plan.View, netip.Addr) {
	if v, a, done := d.chooseReserved(); done {
		return v, a
	}
	why := reason.ScopeHeld
	for _, v := range d.scopes {
		switch {
		case v.Mode == plan.Draining && why == reason.ScopeHeld:
			why = reason.ScopeDraining
		case v.Mode == plan.Serving && len(v.Pools) > 0 && d.ruling(v).action != plan.ReservedOnly:
			why = reason.PoolEmpty
		case v.Mode == plan.Serving && why != reason.PoolEmpty:
			why = reason.ReservedOnly
		}
		if v.Mode == plan.Draining {
			l := d.former(v)
			if l != nil && l.HeldAt(d.now) && d.free(v, l.Address()) && !d.elsewhere(v) && d.leaseTime(v, nil, true) >= time.Minute {
				d.step("it has {a} until the drain of scope {t} ends", l.Address(), v.Name)
				return v, l.Address()
			}
		}
		if v.Mode != plan.Serving {
			continue
		}
		if l := d.former(v); l != nil && d.free(v, l.Address()) && d.stillItsOwn(v, l) {
			d.step("it had {a} before", l.Address(), "")
			return v, l.Address()
		} else if l != nil {
			d.step(d.whyLost(v, l))
		}
		if a, ok := d.table.OfferTo(v, d.who.client); ok && d.free(v, a) {
			d.step("{a} is on offer to it already", a, "")
			return v, a
		}
	}
	if a := d.who.wish; a.IsValid() {
		for _, v := range d.scopes {
			if v.Mode != plan.Serving || !v.Subnet.Contains(a) || !d.free(v, a) || d.mayBeHeld(v, a) || d.crowded(v) {
				continue
			}
			switch d.probe(v, a) {
			case Unprobed:
				d.step("it asks for {a}, which is probed first", a, "")
				d.waitFor(v, a)
				return nil, netip.Addr{}
			case InUse:
				d.step("it asks for {a}, which somebody answers for", a, "")
				continue
			}
			d.step("it asks for {a}, which is free", a, "")
			return v, a
		}
	}
	for _, v := range d.scopes {
		if v.Mode != plan.Serving {
			continue
		}
		if d.crowded(v) {
			why = reason.TooMany
			continue
		}
		if a, ok := d.pick(v); ok {
			return v, a
		}
		if d.answer.Probe.IsValid() {
			d.waitFor(v, d.answer.Probe)
			return nil, netip.Addr{}
		}
	}
	d.answer.Scope = d.scopes[0]
	switch {
	case why == reason.PoolEmpty && d.partnersShare():
		why = reason.PartnersShare
	case why == reason.PoolEmpty && d.world.RecordsLost:
		why = reason.RecordsLost
	}
	d.ignore(why)
	return nil, netip.Addr{}
}

// chooseReserved takes the address that is reserved for the client, if it can be
// had, or says that it has to be probed first.
func (d *decider) chooseReserved() (v *plan.View, a netip.Addr, done bool) {
	r, v, available := d.reservation()
	if r == nil {
		return nil, netip.Addr{}, false
	}
	probe := d.probe(v, r.Address)
	if l := d.table.At(r.Address); probe == InUse || l != nil && l.Status == lease.Abandoned {
		d.step("another host answers for {a}, which is reserved for it as {t}", r.Address, r.Name)
		d.answer.Trouble, d.answer.Key = reason.ReservedInUse, lease.Host(r.Address)
	}
	switch {
	case available && (d.mine(d.table.At(r.Address)) || d.unused(v, r.Address) || r.Insist && probe == InUse):
		d.step("{a} is reserved for it as {t}", r.Address, r.Name)
		return v, r.Address, true
	case available && probe == Unprobed:
		d.step("{a} is reserved for it as {t}, and is probed first", r.Address, r.Name)
		d.waitFor(v, r.Address)
		return nil, netip.Addr{}, true
	}
	d.step("{a} is reserved for it, but cannot be had now", r.Address, "")
	return nil, netip.Addr{}, false
}

// pick takes the best address of a scope that nobody has, or says in Probe which
// one has to be probed first.
func (d *decider) pick(v *plan.View) (netip.Addr, bool) {
	r := d.ruling(v)
	if r.action == plan.ReservedOnly {
		d.step("rule {t} lets reserved clients alone have an address", netip.Addr{}, r.by)
		return netip.Addr{}, false
	}
	if r.pool.Valid() {
		d.step("rules send it to pool {t}", netip.Addr{}, r.pool.String())
	}
	open := func(a netip.Addr) bool {
		return !d.ofNetwork(a, true) && !d.mayBeHeld(v, a) && d.gives(a, d.table.At(a))
	}
	if a, ok := d.table.Pick(v, r.pool, func(a netip.Addr) bool { return open(a) && d.unused(v, a) }); ok {
		d.step("{a} is free for longest in scope {t}", a, v.Name)
		return a, true
	}
	if a, ok := d.table.Pick(v, r.pool,
		func(a netip.Addr) bool {
			return open(a) && d.probe(v, a) == Unprobed
		}); ok {
		d.step("{a} is next in scope {t}, and is probed first", a, v.Name)
		d.answer.Probe = a
		return netip.Addr{}, false
	}
	text := "scope {t} has no address left"
	if d.world.Pair != nil && d.table.Count(v.ID).Partner > 0 {
		text = "what scope {t} has left is the partner's to give"
	}
	if len(v.Pools) == 0 {
		text = "scope {t} has no pool: only reserved clients are served"
	}
	d.step(text, netip.Addr{}, v.Name)
	return netip.Addr{}, false
}

// probe is what is known of an address by probing, for this client.
func (d *decider) probe(v *plan.View, a netip.Addr) Probe {
	if d.world.Probed == nil || v.NoProbe {
		return Unreachable
	}
	return d.world.Probed(a, d.who.hardware)
}

// stillItsOwn reports whether what the client last had can have become another's
// meanwhile, of which the record was lost.
func (d *decider) stillItsOwn(v *plan.View, l *lease.Lease) bool {
	return !d.world.RecordsLost || l.HeldAt(d.now) || d.probe(v, l.Address()) == Silent
}

// mayBeHeld reports whether an address that is free by the records may be held all the
// same, since records were lost, and no probe can tell.
func (d *decider) mayBeHeld(v *plan.View, a netip.Addr) bool {
	return d.world.RecordsLost && d.probe(v, a) == Unreachable
}

// unused reports whether an address may be offered without another probe.
func (d *decider) unused(v *plan.View, a netip.Addr) bool {
	p := d.probe(v, a)
	return p == Silent || p == Unreachable
}

// Default limits of a scope: newcomers a minute, of which a port may be half,
// and offers that stand.
const (
	newcomersLeast = 60
	newcomersPart  = 10 // one tenth of the pools
	offersLeast    = 64
	strangersLeast = 8 // offers that stand before relays that the plan does not name have to wait
)

// crowded reports whether the client, which has no record in the scope, is one
// too many: more than the scope's limits let in at a time. So made-up hardware
// addresses do not empty a pool in moments, and one port does not for all.
func (d *decider) crowded(v *plan.View) bool {
	at := d.who.port()
	if n := v.Limits.PerCircuit; n > 0 && at.Circuit != "" && d.table.Behind(v.ID, at) >= n {
		d.step("clients behind its circuit have all addresses that scope {t} allows a circuit", netip.Addr{}, v.Name)
		return true
	}
	most := v.Limits.NewPerMinute
	if most < 0 {
		return false
	}
	if most == 0 {
		most = max(newcomersLeast, int(min(v.Size, 1<<30))/newcomersPart)
	}
	all, behind := d.table.Newcomers(v.ID, at, d.now)
	n := d.table.Count(v.ID)
	switch {
	case all >= most || at.Circuit != "" && behind >= (most+1)/2:
		d.step("scope {t} takes no more clients this minute that it never saw before", netip.Addr{}, v.Name)
	case d.who.stranger && n.Offered >= strangersLeast && uint64(2*n.Offered) > n.Headroom:
		d.step("so much of scope {t} is on offer that relays which the plan does not name have to wait", netip.Addr{}, v.Name)
	case n.Offered >= offersLeast && uint64(n.Offered) > n.Headroom:
		d.step("more of scope {t} is on offer than is left", netip.Addr{}, v.Name)
	default:
		return false
	}
	return true
}

// leaseTime is what the client gets: what it asks for, if that is less than
// the plan grants, but never under a minute; without asked, what the plan grants. BOOTP
// leases never end.
func (d *decider) leaseTime(v *plan.View, r *plan.Reservation, asked bool) time.Duration {
	if d.who.forever {
		return option.Infinite
	}
	t := v.LeaseFor(r)
	if of := d.ruling(v).lease; of != 0 && (r == nil || r.Lease == 0) {
		t = of
	}
	if asked && d.who.time != 0 {
		t = min(t, d.who.time)
	}
	if v.Mode == plan.Draining && r == nil && !v.DrainUntil.IsZero() {
		t = min(t, max(lease.At(v.DrainUntil).Sub(d.now), 0))
	}
	if !v.RunDown.IsZero() {
		if left := lease.At(v.RunDown).Sub(d.now); left > 0 {
			t = min(t, max(left, plan.RunDownLeast))
		}
	}
	return t
}

// leaseFrom is whose setting the lease time is.
func (d *decider) leaseFrom(v *plan.View, r *plan.Reservation) plan.Origin {
	switch of := d.ruling(v); {
	case r != nil && r.Lease != 0:
		return plan.Origin{Level: plan.AtReservation, Name: r.Name}
	case of.lease != 0:
		return plan.Origin{Level: plan.AtRule, Name: of.leased}
	}
	return v.LeaseFrom
}
