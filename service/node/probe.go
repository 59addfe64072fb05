package node

import (
	"net"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/store"
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
)

// probes finds out ahead of demand whether somebody squats on the addresses
// that are next. It is used under the engine's lock.
type probes struct {
	arp    func(scope *plan.View, a netip.Addr) error // nil: cannot
	ping   func(a netip.Addr) error                   // nil: cannot
	local  func(scope *plan.View) bool                // whether ARP reaches the scope
	ready  map[netip.Addr]lease.Time                  // found unused, since
	flying map[netip.Addr]*flight
	demand map[plan.ID]*demand
	second lease.Time
	sent   int // probes in this second
	held   int
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
	return &probes{ready: map[netip.Addr]lease.Time{}, flying: map[netip.Addr]*flight{}, demand: map[plan.ID]*demand{}}
}

func (p *probes) can() bool { return p.arp != nil || p.ping != nil }

// reaches reports whether there is a way to probe addresses of a scope.
func (p *probes) reaches(v *plan.View) bool {
	return p.local != nil && p.local(v) && p.arp != nil || p.ping != nil
}

// ready reports whether the address was probed lately, or cannot be probed.
func (e *Engine) ready(a netip.Addr, now lease.Time) bool {
	v := e.table.Plan().ScopeAt(a)
	if v == nil || !e.probes.reaches(v) {
		return true
	}
	at, ok := e.probes.ready[a]
	return ok && now.Sub(at) <= probeAge
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
	if at, was := p.ready[a]; was && now.Sub(at) <= probeAge {
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
			time.AfterFunc(probeWait/2, func() { p.arp(v, a) })
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

// probeAhead keeps addresses ready in scopes that had new clients lately. The
// caller holds the lock.
func (e *Engine) probeAhead(now lease.Time) {
	p := e.probes
	if !p.can() {
		return
	}
	if now != p.second {
		p.second, p.sent = now, 0
		for a, at := range p.ready {
			if now.Sub(at) > probeAge {
				delete(p.ready, a)
			}
		}
	}
	for id, d := range p.demand {
		v := e.table.Plan().Scope(id)
		if v == nil || now.Sub(d.last) > demandMemory {
			delete(p.demand, id)
			continue
		}
		if v.NoProbe || v.Mode != plan.Serving || !p.reaches(v) {
			continue
		}
		for _, a := range e.table.Upcoming(id, d.want(now)) {
			at, known := p.ready[a]
			if p.flying[a] != nil || known && now.Sub(at) < probeAge*3/4 || e.isOwn(a) {
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
	e.mu.Lock()
	_, flying := e.probes.flying[a]
	e.mu.Unlock()
	if flying {
		e.probeOver(a, Probed{true, addr.Hardware(hw)})
	}
}

// probeOver ends a probe: the address is ready, or abandoned with who answered;
// requests that waited are decided.
func (e *Engine) probeOver(a netip.Addr, result Probed) {
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
	now := lease.At(time.Now())
	if result.Answered {
		delete(p.ready, a)
		e.abandon(a, result, now)
	} else {
		p.ready[a] = now
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

// abandon records that somebody uses an address that nobody was given. The
// caller holds the lock.
func (e *Engine) abandon(a netip.Addr, who Probed, now lease.Time) {
	before := e.table.Get(a)
	if before != nil && (before.Status == lease.Active || before.Status == lease.Abandoned) {
		return
	}
	n := &lease.Lease{Address: a, Status: lease.Abandoned, Hardware: who.Hardware, Since: now, Changed: now, Heard: now, Expires: now, Revision: e.table.Plan().Revision}
	if e.journal.Add(store.Entry{Before: before, After: n, Note: waiting{lease: n}}) {
		e.table.Put(n)
		e.table.DropOffer(a)
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
