package observe

import (
	"math"
	"net/netip"
	"sort"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/forgetful"
)

// Pulse is how often a relay is heard.
type Pulse struct {
	First, Last lease.Time
	Count       uint64
	Gap         float64 // usual time between messages, in seconds: an average that forgets slowly
	Longest     float64 // longest pause, in seconds; half forgotten in a week
	Link        string  // of the scope last concerned
}

// relaysMost bounds how many relays are remembered.
const relaysMost = 10_000

// Relays are the relays that were heard.
type Relays struct {
	heard *forgetful.Map[netip.Addr, *Pulse]
}

func newRelays() *Relays { return &Relays{forgetful.New[netip.Addr, *Pulse](relaysMost)} }

// Known reports whether an address is that of a relay that was heard.
func (r *Relays) Known(a netip.Addr) bool { return r.heard.Get(a) != nil }

// Pulse notes that a relay was heard, with a message of some scope or of none.
func (r *Relays) Pulse(relay netip.Addr, v *plan.View, now lease.Time) {
	p := r.heard.Get(relay)
	if p == nil {
		p = &Pulse{First: now}
	} else if gap := float64(now - p.Last); gap >= 0 {
		const slowly, week = 0.05, 7 * 24 * 3600
		p.Gap += slowly * (gap - p.Gap)
		p.Longest = max(gap, p.Longest*math.Exp2(-gap/week))
	}
	r.heard.Put(relay, p)
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

// All lists the relays heard since the start, and those that a plan names.
func (r *Relays) All(p *plan.Plan, now lease.Time) []Relay {
	out := []Relay{}
	for a, pulse := range r.heard.All() {
		of := Relay{Address: a, Pulse: *pulse}
		if link := p.LinkOfRelay(a); link != 0 {
			of.Link = p.Label(link)
		}
		of.Silent = pulse.silent(now)
		out = append(out, of)
	}
	for _, l := range p.Links() {
		for _, a := range l.Relays {
			if !r.Known(a) {
				out = append(out, Relay{Address: a, Pulse: Pulse{Link: l.Name}})
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address.Less(out[j].Address) })
	return out
}
