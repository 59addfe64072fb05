package node

import (
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
	Link        string  // of the scope last concerned
}

// pulse notes that a relay was heard, with a message of some scope or of none.
// The caller holds the lock.
func (e *Engine) pulse(relay netip.Addr, v *plan.View, now lease.Time) {
	if relay.IsUnspecified() || e.isOwn(relay) {
		return
	}
	p := e.relays[relay]
	if p == nil {
		if len(e.relays) >= 10000 {
			return
		}
		p = &Pulse{First: now}
		e.relays[relay] = p
	} else {
		const slowly = 0.05
		p.Gap += slowly * (float64(now-p.Last) - p.Gap)
	}
	p.Last = now
	p.Count++
	if v != nil {
		p.Link = v.LinkName
	}
}

// Silence limits: a relay counts as silent after many times its usual gap.
const (
	busyCount   = 50
	silentTimes = 20
	silentLeast = 2 * time.Minute
)

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
	now := lease.At(time.Now())
	out := []Relay{}
	for a, pulse := range e.relays {
		r := Relay{Address: a, Pulse: *pulse}
		if of := p.LinkOfRelay(a); of != 0 {
			r.Link = p.Label(of)
		}
		quiet := now.Sub(pulse.Last)
		r.Silent = pulse.Count >= busyCount && quiet > silentLeast && quiet.Seconds() > silentTimes*max(pulse.Gap, 1)
		out = append(out, r)
	}
	for _, l := range p.Links() {
		for _, a := range l.Relays {
			if e.relays[a] == nil {
				out = append(out, Relay{Address: a, Pulse: Pulse{Link: l.Name}})
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address.Less(out[j].Address) })
	return out
}
