package observe

import (
	"math"
	"net/netip"
	"sort"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/lru"
)

// Pulse is how often a relay is heard.
type Pulse struct {
	First, Last lease.Time
	Count       uint64
	Gap         float64    // usual time between messages, in seconds: an average that forgets slowly
	Longest     float64    // longest pause, in seconds; half forgotten in a week
	Link        string     // of the scope last concerned
	Named       bool       // the plan names it
	Found       bool       // it answered a probe while nobody held its address
	Asked       lease.Time // when it was last probed for that
}

// Known reports whether it is a relay for sure, and not only what messages say.
func (p *Pulse) Known() bool { return p.Named || p.Found }

// relaysMost bounds how many relays are remembered.
const relaysMost = 10_000

// Relays are the relays that were heard.
type Relays struct {
	heard  *lru.Map[netip.Addr, *Pulse]
	second lease.Time // in which asks were counted
	asks   int
}

func newRelays() *Relays {
	return &Relays{heard: lru.Proved[netip.Addr](relaysMost, (*Pulse).Known)}
}

// Found reports whether an address is that of a relay that answered a probe. Any
// message can name a relay, so what was heard alone takes an address from nobody.
func (r *Relays) Found(a netip.Addr) bool {
	p := r.heard.Get(a)
	return p != nil && p.Found
}

// Limits of looking whether relays that messages name are there.
const (
	foundMost  = 4                   // relays a scope that were found by probes
	askedAgain = lease.Time(10 * 60) // seconds after which one is probed again
	asksMost   = 4                   // probes a second
)

// Ask reports whether it is to be found out by a probe that a relay is there that the
// plan does not name. The caller probes it.
func (r *Relays) Ask(relay netip.Addr, now lease.Time) bool {
	p := r.heard.Get(relay)
	if p == nil || p.Known() || p.Asked != 0 && now-p.Asked < askedAgain {
		return false
	}
	if r.second != now {
		r.second, r.asks = now, 0
	}
	if r.asks >= asksMost {
		return false
	}
	r.asks++
	p.Asked = now
	return true
}

// Answered notes that a probe of an address in a scope was answered, while nobody held
// it. It reports whether that is a relay's, which is out of question for clients then.
func (r *Relays) Answered(a netip.Addr, v *plan.View, now lease.Time) bool {
	p := r.heard.Get(a)
	if p == nil || p.Named || p.Asked == 0 || now-p.Asked > askedAgain {
		return p != nil && p.Named
	}
	if !p.Found {
		n := 0
		for other, of := range r.heard.All() {
			if of.Found && v.Subnet.Contains(other) {
				n++
			}
		}
		if n >= foundMost {
			return false
		}
		p.Found = true
		r.heard.Put(a, p)
	}
	return true
}

// Forget forgets a relay, or all that the plan does not name with the zero address; it
// tells how many.
func (r *Relays) Forget(relay netip.Addr) (n int) {
	for a, p := range r.heard.All() {
		if a == relay || !relay.IsValid() && !p.Named {
			r.heard.Drop(a)
			n++
		}
	}
	return n
}

// Pulse notes that a relay was heard, with a message of some scope or of none; named
// says whether the plan names it.
func (r *Relays) Pulse(relay netip.Addr, named bool, v *plan.View, now lease.Time) {
	p := r.heard.Get(relay)
	if p == nil {
		p = &Pulse{First: now}
	} else if gap := float64(now - p.Last); gap >= 0 {
		const slowly, week = 0.05, 7 * 24 * 3600
		p.Gap += slowly * (gap - p.Gap)
		p.Longest = max(gap, p.Longest*math.Exp2(-gap/week))
	}
	p.Named = named
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
		of.Named = p.LinkOfRelay(a) != 0
		of.Silent = of.Known() && pulse.silent(now) // who was made up is not missed
		out = append(out, of)
	}
	for _, l := range p.Links() {
		for _, a := range l.Relays {
			if r.heard.Get(a) == nil {
				out = append(out, Relay{Address: a, Pulse: Pulse{Link: l.Name, Named: true}})
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address.Less(out[j].Address) })
	return out
}
