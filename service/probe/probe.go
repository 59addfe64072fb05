// Package probe probes ahead of demand: which addresses were found unused a
// moment ago, which are being asked about, and which requests wait for that. What
// an answer means for the lease table is the engine's to say. The engine uses it
// under its own lock.
package probe

import (
	"log/slog"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/lru"
	"yarnpost/service/wire"
)

// Times and limits of probing.
const (
	Wait         = 400 * time.Millisecond // silence after which an address counts as unused
	Age          = 2 * time.Minute        // how long that holds
	Rate         = 200                    // probes a second, all scopes together
	holdsMost    = 1024                   // requests that wait for probes
	demandSpan   = lease.Time(10)         // seconds over which arrivals are counted
	demandMemory = 24 * time.Hour         // silence after which a scope is no longer probed ahead
	readyLeast   = 4
	readyMost    = 64
	scopesAhead  = 32                  // scopes that are looked at in one tick
	keptAgain    = lease.Time(10 * 60) // seconds after which an address that is kept is probed again
	keptSoon     = lease.Time(15)      // seconds after which one that becomes kept is
	keptMost     = 10_000              // kept addresses that are probed again
)

// Probes finds out ahead of demand whether somebody squats on the addresses that
// are next. Where neither ARP nor Ping is set, nothing is probed.
type Probes struct {
	ARP   func(scope *plan.View, a netip.Addr) error // of IPv6 a neighbour solicitation
	Ping  func(a netip.Addr) error
	Ping6 func(a netip.Addr) error
	Local func(scope *plan.View) bool // whether ARP reaches the scope
	// Over is called when a probe met silence, not under the engine's lock.
	Over func(netip.Addr)
	// Guard ends a panic of what runs by itself.
	Guard func(what string, about []byte)
	// Sent counts probes; with an error, one that could not leave.
	Sent func(error)
	// Kept are addresses kept from others, by when they were probed last.
	Kept *lru.Map[netip.Addr, lease.Time]

	log    *slog.Logger
	ready  map[netip.Addr]silence // found unused
	flying map[netip.Addr]*Flight
	demand map[plan.ID]*demand
	turns  []plan.ID // scopes with demand that wait for their turn to be probed ahead
	second lease.Time
	sent   int // probes in this second
	held   int
}

// New has no way to probe yet.
func New(log *slog.Logger) *Probes {
	return &Probes{log: log, ready: map[netip.Addr]silence{}, Kept: lru.New[netip.Addr, lease.Time](keptMost),
		flying: map[netip.Addr]*Flight{}, demand: map[plan.ID]*demand{},
		Over: func(netip.Addr) {}, Guard: func(string, []byte) {}, Sent: func(error) {}}
}

// Soon is when an address that becomes kept is taken to have been probed last: it is
// probed as soon as its client has had the time to leave it.
func Soon(now lease.Time) lease.Time { return now - keptAgain + keptSoon }

// Can reports whether there is any way to probe.
func (p *Probes) Can() bool { return p.ARP != nil || p.Ping != nil || p.Ping6 != nil }

// Reaches reports whether there is a way to probe addresses of a scope.
func (p *Probes) Reaches(v *plan.View) bool {
	return p.Local != nil && p.Local(v) && p.ARP != nil || p.pings(v.Subnet.Addr()) != nil
}

// pings asks an address beyond relays, or is nil where nothing does.
func (p *Probes) pings(a netip.Addr) func(netip.Addr) error {
	if a.Is6() {
		return p.Ping6
	}
	return p.Ping
}

// Spare reports whether more may be probed in this second.
func (p *Probes) Spare() bool { return p.sent < Rate }

// silence is what a probe met: since when, and the one host that did answer, for
// which the address is free all the same.
type silence struct {
	since lease.Time
	but   addr.Hardware
}

func (s silence) holds(now lease.Time) bool {
	return s.since <= now && now.Sub(s.since) <= Age
}

// Age forgets what was found out too long ago, or at a time that is not yet.
func (p *Probes) Age(now lease.Time) {
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

// Known is what is known of an address of a scope for a client.
func (p *Probes) Known(v *plan.View, a netip.Addr, client addr.Hardware, now lease.Time) answer.Probe {
	if v == nil || !p.Reaches(v) {
		return answer.Unreachable
	}
	switch s, ok := p.ready[a]; {
	case !ok || !s.holds(now):
		return answer.Unprobed
	case s.but != "" && s.but != client:
		return answer.InUse
	}
	return answer.Silent
}

// Unused notes that nobody answers for an address but one host, for which it is
// free all the same, or "".
func (p *Probes) Unused(a netip.Addr, but addr.Hardware, now lease.Time) {
	p.ready[a] = silence{now, but}
}

// Taken forgets what is known of an address.
func (p *Probes) Taken(a netip.Addr) { delete(p.ready, a) }

// Flight is a probe under way.
type Flight struct {
	Waiting []Held
	watch   []chan<- Result // people who want to know
	timer   *time.Timer
}

// Held is a request that waits for a probe.
type Held struct {
	Packet  wire.Packet
	Arrived time.Time
}

// Result is what came of a probe.
type Result struct {
	Answered bool
	Hardware addr.Hardware // who answered, if that is known
}

// Watch tells the result to a channel that has room for it.
func (f *Flight) Watch(c chan<- Result) { f.watch = append(f.watch, c) }

// Tell tells the result to those who watch.
func (f *Flight) Tell(r Result) {
	for _, w := range f.watch {
		w <- r
	}
}

// demand is how many new clients a scope had lately.
type demand struct {
	last    lease.Time
	span    lease.Time // start of the span that is counted
	now     int
	earlier int // of the span before
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

// Used notes that an address was offered: it is no longer ready for others, and
// the scope has demand.
func (p *Probes) Used(scope plan.ID, a netip.Addr, now lease.Time) {
	if !p.Can() {
		return
	}
	d := p.wanted(scope, now)
	if s, was := p.ready[a]; was && s.holds(now) {
		d.roll(now)
		d.now++
	}
}

// wanted notes that a scope has demand.
func (p *Probes) wanted(scope plan.ID, now lease.Time) *demand {
	d := p.demand[scope]
	if d == nil {
		d = &demand{span: now}
		p.demand[scope] = d
	}
	d.last = now
	return d
}

// Hold keeps a request until the probe of an address is over; it reports whether
// there was room.
func (p *Probes) Hold(packet *wire.Packet, a netip.Addr, arrived time.Time) bool {
	if p.held >= holdsMost {
		return false
	}
	f := p.flight(a)
	for _, h := range f.Waiting { // a client that repeats itself waits once
		if len(h.Packet.Data) >= 44 && len(packet.Data) >= 44 && string(h.Packet.Data[28:44]) == string(packet.Data[28:44]) {
			return true
		}
	}
	copied := *packet
	copied.Data = append([]byte(nil), packet.Data...)
	f.Waiting = append(f.Waiting, Held{copied, arrived})
	p.held++
	return true
}

func (p *Probes) flight(a netip.Addr) *Flight {
	f := p.flying[a]
	if f == nil {
		f = &Flight{}
		p.flying[a] = f
	}
	return f
}

// Flying reports whether an address is being probed.
func (p *Probes) Flying(a netip.Addr) bool { return p.flying[a] != nil }

// Land ends the probe of an address, and gives it, or nil.
func (p *Probes) Land(a netip.Addr) *Flight {
	f := p.flying[a]
	if f == nil {
		return nil
	}
	delete(p.flying, a)
	if f.timer != nil {
		f.timer.Stop()
	}
	p.held -= len(f.Waiting)
	return f
}

// AskNow probes an address that a request waits for.
func (p *Probes) AskNow(v *plan.View, a netip.Addr, now lease.Time) {
	p.wanted(v.ID, now)
	p.Ask(v, a)
}

// Ask starts the probe of an address, unless it is under way.
func (p *Probes) Ask(v *plan.View, a netip.Addr) *Flight {
	f := p.flight(a)
	if f.timer != nil {
		return f
	}
	f.timer = time.AfterFunc(Wait, func() { p.Over(a) })
	p.sent++
	var err error
	if p.Local(v) && p.ARP != nil {
		if err = p.ARP(v, a); err == nil { // once more, in case the first is lost
			time.AfterFunc(Wait/2, func() {
				defer p.Guard("a probe", a.AsSlice())
				if err := p.ARP(v, a); err != nil {
					p.log.Debug("a probe could not be sent again", "address", a, "err", err)
				}
			})
		}
	} else if ping := p.pings(a); ping != nil {
		err = ping(a)
	}
	if err != nil {
		p.log.Debug("a probe could not be sent", "address", a, "err", err)
	}
	p.Sent(err)
	return f
}

// Ahead keeps addresses ready in scopes that had new clients lately, some scopes
// at a time, and looks again at those that are kept from others. Addresses of the
// network are left alone.
func (p *Probes) Ahead(t *lease.Table, now lease.Time, ofNetwork func(netip.Addr) bool) {
	if !p.Can() {
		return
	}
	for a, at := range p.Kept.All() { // the oldest first
		if now-at < keptAgain || !p.Spare() {
			break
		}
		p.Kept.Drop(a)
		if v, l := t.Plan().ScopeAt(a), t.At(a); v != nil && l != nil && l.Kept() {
			p.Kept.Put(a, now)
			p.Ask(v, a)
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
		d, v := p.demand[id], t.Plan().Scope(id)
		if d == nil || v == nil || now.Sub(d.last) > demandMemory {
			delete(p.demand, id)
			continue
		}
		if v.NoProbe || v.Mode != plan.Serving || !p.Reaches(v) {
			continue
		}
		for _, a := range t.Upcoming(id, d.want(now)) {
			s, known := p.ready[a]
			if p.Flying(a) || known && now.Sub(s.since) < Age*3/4 || ofNetwork(a) {
				continue
			}
			if !p.Spare() {
				return
			}
			p.Ask(v, a)
		}
	}
}
