package node

import (
	"math"
	"net/netip"
	"sort"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// Pulse is how often a relay is heard.
type Pulse struct {
	First, Last lease.Time
	Count       uint64
	Gap         float64 // usual time between messages, in seconds: an average that forgets slowly
	Longest     float64 // longest pause, in seconds; half forgotten in a week
	Link        string  // of the scope last concerned
}

// pulse notes that a relay was heard, with a message of some scope or of none.
// The caller holds the lock.
func (e *Engine) pulse(relay netip.Addr, v *plan.View, now lease.Time) {
	if relay.IsUnspecified() || e.isOwn(relay) {
		return
	}
	p := e.relays.get(relay)
	if p == nil {
		p = &Pulse{First: now}
	} else if gap := float64(now - p.Last); gap >= 0 {
		const slowly, week = 0.05, 7 * 24 * 3600
		p.Gap += slowly * (gap - p.Gap)
		p.Longest = max(gap, p.Longest*math.Exp2(-gap/week))
	}
	e.relays.put(relay, p)
	p.Last = now
	p.Count++
	if v != nil {
		p.Link = v.LinkName
	}
}

// Silence limits: a relay that was busy, and not for a moment only, counts as
// silent after many times its usual gap, and more than any night or weekend.
const (
	busyCount    = 50
	busySpan     = 5 * time.Minute
	silentTimes  = 20
	silentPauses = 1.5
	silentLeast  = 2 * time.Minute
)

func (p *Pulse) silent(now lease.Time) bool {
	limit := max(silentLeast.Seconds(), silentTimes*max(p.Gap, 1), silentPauses*p.Longest)
	return p.Count >= busyCount && p.Last.Sub(p.First) >= busySpan && now.Sub(p.Last).Seconds() > limit
}

// Relay is a relay that forwards to this server.
type Relay struct {
	Address netip.Addr
	Pulse
	Silent bool // usually busy, and quiet for unusually long
}

// Relays lists the relays heard since the start, and those the plan names.
func (e *Engine) Relays() []Relay {
	e.mu.Lock()
	defer e.mu.Unlock()
	p := e.table.Plan()
	now := lease.At(e.clock.Now())
	out := []Relay{}
	for a, pulse := range e.relays.all() {
		r := Relay{Address: a, Pulse: *pulse}
		if of := p.LinkOfRelay(a); of != 0 {
			r.Link = p.Label(of)
		}
		r.Silent = pulse.silent(now)
		out = append(out, r)
	}
	for _, l := range p.Links() {
		for _, a := range l.Relays {
			if e.relays.get(a) == nil {
				out = append(out, Relay{Address: a, Pulse: Pulse{Link: l.Name}})
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address.Less(out[j].Address) })
	return out
}
