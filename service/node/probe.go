package node

import (
	"net"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/wire"
)

// Times and limits of probing.
const (
	probeWait    = 400 * time.Millisecond // silence after which an address counts as unused
	probeAge     = 2 * time.Minute        // how long that holds
	probeRate    = 200                    // probes a second, all scopes together
	probeHolds   = 1024                   // requests that wait for probes
	demandSpan   = lease.Time(10)         // seconds over which arrivals are counted
	demandMemory = 24 * time.Hour         // silence after which a scope is no longer probed ahead
	readyLeast   = 4
	readyMost    = 64
	scopesAhead  = 32                    // scopes that are looked at in one tick
	stillUsed    = lease.Time(15 * 60)   // seconds for which an address that its former client answers for is kept
	keptAgain    = lease.Time(10 * 60)   // seconds after which an address that is kept is probed again
	keptMost     = 10_000                // kept addresses that are probed again
	abandonAlone = lease.Time(24 * 3600) // seconds after which an abandoned address that no probe reaches is given back
)

// probes finds out ahead of demand whether somebody squats on the addresses
// that are next. It is used under the engine's lock.
type probes struct {
	arp    func(scope *plan.View, a netip.Addr) error // nil: cannot
	ping   func(a netip.Addr) error                   // nil: cannot
	local  func(scope *plan.View) bool                // whether ARP reaches the scope
	ready  map[netip.Addr]silence                     // found unused
	flying map[netip.Addr]*flight
	demand map[plan.ID]*demand
	turns  []plan.ID                          // scopes with demand that wait for their turn to be probed ahead
	kept   *forgetful[netip.Addr, lease.Time] // addresses kept from others, by when they were probed last
	second lease.Time
	sent   int // probes in this second
	held   int
}

// silence is what a probe met: since when, and the one host that did answer, for
// which the address is free all the same.
type silence struct {
	since lease.Time
	but   addr.Hardware
}

// age forgets what was found out too long ago, or at a time that is not yet.
func (p *probes) age(now lease.Time) {
	if now == p.second {
		return
	}
	p.second, p.sent = now, 0
	for a, s := range p.ready {
		if !s.holds(now) {
			delete(p.ready, a)
		}
	}
}

func (s silence) holds(now lease.Time) bool {
	return s.since <= now && now.Sub(s.since) <= probeAge
}

// flight is a probe under way.
type flight struct {
	waiting []heldPacket
	watch   []chan<- Probed // people who want to know
	timer   *time.Timer
}

// heldPacket is a request that waits for a probe.
type heldPacket struct {
	packet  wire.Packet
	arrived time.Time
}

// Probed is the result of a probe.
type Probed struct {
	Answered bool
	Hardware addr.Hardware // who answered, if that is known
}

// demand is how many new clients a scope had lately.
type demand struct {
	last    lease.Time
	span    lease.Time // start of the span that is counted
	now     int
	earlier int // of the span before
}

func newProbes() *probes {
	return &probes{ready: map[netip.Addr]silence{}, kept: newForgetful[netip.Addr, lease.Time](keptMost), flying: map[netip.Addr]*flight{}, demand: map[plan.ID]*demand{}}
}

func (p *probes) can() bool { return p.arp != nil || p.ping != nil }

// reaches reports whether there is a way to probe addresses of a scope.
func (p *probes) reaches(v *plan.View) bool {
	return p.local != nil && p.local(v) && p.arp != nil || p.ping != nil
}

// probed is what is known of an address for a client. The caller holds the lock.
func (e *Engine) probed(a netip.Addr, client addr.Hardware, now lease.Time) answer.Probe {
	v := e.table.Plan().ScopeAt(a)
	if v == nil || !e.probes.reaches(v) {
		return answer.Unreachable
	}
	switch s, ok := e.probes.ready[a]; {
	case !ok || !s.holds(now):
		return answer.Unprobed
	case s.but != "" && s.but != client:
		return answer.InUse
	}
	return answer.Silent
}

// used notes that an address was offered: it is no longer ready for others, and
// the scope has demand.
func (p *probes) used(scope plan.ID, a netip.Addr, now lease.Time) {
	if !p.can() {
		return
	}
	d := p.demand[scope]
	if d == nil {
		d = &demand{span: now}
		p.demand[scope] = d
	}
	if s, was := p.ready[a]; was && s.holds(now) {
		d.roll(now)
		d.now++
	}
	d.last = now
}

func (d *demand) roll(now lease.Time) {
	switch {
	case now-d.span >= 2*demandSpan:
		d.span, d.now, d.earlier = now, 0, 0
	case now-d.span >= demandSpan:
		d.span, d.now, d.earlier = now, 0, d.now
	}
}

// want is how many addresses of a scope should be ready.
func (d *demand) want(now lease.Time) int {
	d.roll(now)
	return min(max(readyLeast, 2*(d.now+d.earlier)), readyMost)
}

// hold keeps a request until the probe of an address is over.
func (p *probes) hold(packet *wire.Packet, a netip.Addr, arrived time.Time) bool {
	if p.held >= probeHolds {
		return false
	}
	f := p.flying[a]
	if f == nil {
		f = &flight{}
		p.flying[a] = f
	}
	for _, h := range f.waiting { // a client that repeats itself waits once
		if len(h.packet.Data) >= 44 && len(packet.Data) >= 44 && string(h.packet.Data[28:44]) == string(packet.Data[28:44]) {
			return true
		}
	}
	copied := *packet
	copied.Data = append([]byte(nil), packet.Data...)
	f.waiting = append(f.waiting, heldPacket{copied, arrived})
	p.held++
	return true
}

// askNow probes an address that a request waits for. The caller holds the lock.
func (e *Engine) askNow(v *plan.View, a netip.Addr, now lease.Time) {
	d := e.probes.demand[v.ID]
	if d == nil {
		d = &demand{span: now}
		e.probes.demand[v.ID] = d
	}
	d.last = now
	e.ask(v, a)
}

// ask starts the probe of an address, unless it is under way. The caller holds
// the lock.
func (e *Engine) ask(v *plan.View, a netip.Addr) *flight {
	p := e.probes
	f := p.flying[a]
	if f == nil {
		f = &flight{}
		p.flying[a] = f
	}
	if f.timer != nil {
		return f
	}
	f.timer = time.AfterFunc(probeWait, func() { e.probeOver(a, Probed{}) })
	p.sent++
	var err error
	if p.local(v) && p.arp != nil {
		if err = p.arp(v, a); err == nil { // once more, in case the first is lost
			time.AfterFunc(probeWait/2, func() {
				defer e.guard("a probe", a.AsSlice())
				p.arp(v, a)
			})
		}
	} else if p.ping != nil {
		err = p.ping(a)
	}
	if err != nil {
		e.metrics.drop("probe-not-sent")
		e.log.Debug("a probe could not be sent", "address", a, "err", err)
	}
	e.metrics.probes.Inc()
	return f
}

// probeAhead keeps addresses ready in scopes that had new clients lately, some
// scopes at a time. The caller holds the lock.
func (e *Engine) probeAhead(now lease.Time) {
	p := e.probes
	if !p.can() {
		return
	}
	for a, at := range p.kept.all() { // the oldest first
		if now-at < keptAgain || p.sent >= probeRate {
			break
		}
		p.kept.drop(a)
		if v, l := e.table.Plan().ScopeAt(a), e.table.At(a); v != nil && l != nil && l.Kept() {
			p.kept.put(a, now)
			e.ask(v, a)
		}
	}
	if len(p.turns) == 0 {
		for id := range p.demand {
			p.turns = append(p.turns, id)
		}
	}
	for range min(scopesAhead, len(p.turns)) {
		id := p.turns[0]
		p.turns = p.turns[1:]
		d, v := p.demand[id], e.table.Plan().Scope(id)
		if d == nil || v == nil || now.Sub(d.last) > demandMemory {
			delete(p.demand, id)
			continue
		}
		if v.NoProbe || v.Mode != plan.Serving || !p.reaches(v) {
			continue
		}
		for _, a := range e.table.Upcoming(id, d.want(now)) {
			s, known := p.ready[a]
			if p.flying[a] != nil || known && now.Sub(s.since) < probeAge*3/4 || e.isOwn(a) || e.isRelay(a) {
				continue
			}
			if p.sent >= probeRate {
				return
			}
			e.ask(v, a)
		}
	}
}

// Heard is told of every sign that an address is in use: an ARP packet that
// speaks for it, or an echo reply.
func (e *Engine) Heard(a netip.Addr, hw net.HardwareAddr) {
	defer e.guard("a sign of use", a.AsSlice())
	e.mu.Lock()
	_, flying := e.probes.flying[a]
	e.mu.Unlock()
	if flying {
		e.probeOver(a, Probed{true, addr.Hardware(hw)})
	}
}

// probeOver ends a probe: what it means depends on the record of the address.
// Requests that waited are decided.
func (e *Engine) probeOver(a netip.Addr, result Probed) {
	defer e.guard("the end of a probe", a.AsSlice())
	e.mu.Lock()
	p := e.probes
	f := p.flying[a]
	if f == nil {
		e.mu.Unlock()
		return
	}
	delete(p.flying, a)
	if f.timer != nil {
		f.timer.Stop()
	}
	p.held -= len(f.waiting)
	now := lease.At(e.clock.Now())
	if result.Answered {
		e.answered(a, f, result, now)
	} else {
		e.silent(a, now)
	}
	e.mu.Unlock()
	for _, w := range f.watch {
		w <- result
	}
	var m dhcp4.Message
	for i := range f.waiting {
		if reply, ok := e.handle(&f.waiting[i].packet, &m, f.waiting[i].arrived); ok {
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
		e.probes.kept.drop(a)
	case l.Status == lease.Abandoned:
		e.giveBack(l, now)
	}
	e.probes.ready[a] = silence{since: now}
}

// giveBack records that an abandoned address is free again. The caller holds the
// lock.
func (e *Engine) giveBack(l *lease.Lease, now lease.Time) {
	if e.become(l, cleared(l, now)) {
		e.log.Info("an abandoned address is free again", "address", l.Address())
	} else {
		e.table.Put(l) // due again
	}
}

// cleared is the record of an abandoned address that is free again.
func cleared(l *lease.Lease, now lease.Time) *lease.Lease {
	if l.Found() { // nobody was ever given it
		return &lease.Lease{Prefix: lease.Host(l.Address()), Status: lease.Free, Changed: now, Expires: now}
	}
	return l.Ended(lease.Expired, now)
}

// lookAgain sees whether an abandoned address is in use still: a probe tells, or
// where none reaches it, a day. The caller holds the lock.
func (e *Engine) lookAgain(l *lease.Lease, now lease.Time) {
	v := e.table.Plan().ScopeAt(l.Address())
	switch p := e.probes; {
	case v != nil && p.can() && p.reaches(v):
		if p.sent < probeRate {
			e.ask(v, l.Address())
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
func (e *Engine) answered(a netip.Addr, f *flight, who Probed, now lease.Time) {
	l := e.table.At(a)
	delete(e.probes.ready, a)
	switch {
	case l != nil && l.Status == lease.Active:
		e.meet(a, l, who, now)
	case l != nil && l.Status == lease.Abandoned:
		n := *l
		n.Heard, n.Expires = now, now.Add(lease.AbandonRest)
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
			e.probes.kept.put(a, now)
			e.metrics.stillUsed.Inc()
			e.log.Warn("an address is still in use by its former client, and is kept from others", "address", a, "hardware", l.Hardware)
		}
	case who.Hardware != "" && e.wants(a, f, who.Hardware):
		e.probes.ready[a] = silence{now, who.Hardware}
	default:
		e.abandon(a, l, who, now)
	}
}

// wants reports whether the host that answered for an address is the one that
// asks for it, or that it is reserved for: it is no stranger there.
func (e *Engine) wants(a netip.Addr, f *flight, hw addr.Hardware) bool {
	if r := e.table.Plan().ReservationAt(a); r != nil {
		return r.Hardware == hw
	}
	for _, w := range f.waiting {
		if b := w.packet.Data; len(b) >= 44 && len(hw) <= 16 && string(b[28:28+len(hw)]) == string(hw) {
			return true
		}
	}
	return false
}

// abandon records that somebody uses an address that nobody was given. The
// caller holds the lock.
func (e *Engine) abandon(a netip.Addr, before *lease.Lease, who Probed, now lease.Time) {
	n := (&lease.Lease{Prefix: lease.Host(a), Hardware: who.Hardware, Since: now, Heard: now, Revision: e.table.Plan().Revision}).Abandon(now)
	if e.become(before, n) {
		e.table.DropOffer(lease.Host(a))
		e.metrics.squatters.Inc()
		e.log.Warn("an address is in use by a client that was not given it", "address", a, "hardware", who.Hardware)
	}
}

// ProbeNow finds out whether an address is in use; ok is false if there is no
// way to.
func (e *Engine) ProbeNow(a netip.Addr) (result Probed, ok bool) {
	e.mu.Lock()
	p := e.probes
	v := e.table.Plan().ScopeAt(a)
	if v == nil || !p.reaches(v) {
		e.mu.Unlock()
		return result, false
	}
	f := e.ask(v, a)
	c := make(chan Probed, 1)
	f.watch = append(f.watch, c)
	e.mu.Unlock()
	return <-c, true
}
