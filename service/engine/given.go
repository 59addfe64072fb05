package engine

import (
	"sort"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// Given is the set of what the holder of a lease asked with and was last given;
// ok is false if that is not known.
func (e *Engine) Given(digest uint64) (s answer.Set, ok bool) {
	var known *givenSet
	e.With(func(*lease.Table) { known = e.sets.known[digest] })
	if known == nil {
		return s, false
	}
	s, err := answer.ParseSet(known.body)
	return s, err == nil
}

// Unmet is one option that clients ask for and are not given.
type Unmet struct {
	Code    uint8
	Clients int
	Scopes  map[string]int // clients by scope
	Vendors map[string]int // clients by vendor class
}

// Unmet counts what the holders of active leases ask for and nobody set.
func (e *Engine) Unmet() []Unmet {
	p := e.Plan()
	missing := map[uint64][]uint8{}
	counts := map[uint8]*Unmet{}
	e.EachLease(0, func(l *lease.Lease) {
		if l.Status != lease.Active || l.Given == 0 {
			return
		}
		codes, known := missing[l.Given]
		if !known {
			s, _ := e.Given(l.Given)
			codes = s.Unmet()
			missing[l.Given] = codes
		}
		for _, c := range codes {
			u := counts[c]
			if u == nil {
				u = &Unmet{Code: c, Scopes: map[string]int{}, Vendors: map[string]int{}}
				counts[c] = u
			}
			u.Clients++
			if v := p.ScopeAt(l.Address()); v != nil {
				u.Scopes[v.Name]++
			}
			u.Vendors[l.Vendor]++
		}
	})
	out := []Unmet{}
	for _, u := range counts {
		out = append(out, *u)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Clients != out[j].Clients {
			return out[i].Clients > out[j].Clients
		}
		return out[i].Code < out[j].Code
	})
	return out
}

// Stale is a client that still has other options than it would get now.
type Stale struct {
	Lease    *lease.Lease
	Renews   time.Time // when it should renew by itself
	Nudge    bool      // it can be nudged
	NotGiven bool      // it would not be given its address again
}

// renewal decides what the holder of a lease would be given if it renewed now.
func (e *Engine) renewal(l *lease.Lease, set answer.Set, into *answer.Decision) (digest uint64, served bool) {
	e.With(func(*lease.Table) { _, digest, served = answer.Renewal(l, set.Asked, e.world(e.clock.Now()), into) })
	return digest, served
}

// Stale lists the holders of active leases, of one scope or of all for 0, whose
// options are not what they would be given now. The very code that serves
// decides what that is.
func (e *Engine) Stale(scope plan.ID) []Stale {
	var d answer.Decision
	var out []Stale
	e.EachLease(scope, func(l *lease.Lease) {
		if l.Status != lease.Active || l.Given == 0 {
			return
		}
		set, ok := e.Given(l.Given)
		if !ok {
			return
		}
		digest, served := e.renewal(l, set, &d)
		if served && digest == l.Given {
			return
		}
		at := l.Expires
		if l.Expires != lease.Never {
			at = l.Heard.Add(l.Granted / 2)
		}
		out = append(out, Stale{l.Clone(), at.Std(), l.Nudge != "", !served})
	})
	return out
}

// staleTried is how many of those that were given the same under the same revision
// are decided before the rest is taken to be like them.
const staleTried = 16

// StaleCounts counts, by scope, the clients whose options are not what they would be
// given now; those that would have to move are not among them. Of many that were
// given the same it looks at some, and at all only where those differ.
func (e *Engine) StaleCounts() map[plan.ID]int {
	type group struct {
		scope    plan.ID
		given    uint64
		revision int64
	}
	type tried struct{ old, fresh int }
	out := map[plan.ID]int{}
	groups := map[group]*tried{}
	var d answer.Decision
	p := e.Plan()
	var v *plan.View
	e.EachLease(0, func(l *lease.Lease) {
		if l.Status != lease.Active || l.Given == 0 {
			return
		}
		if v == nil || !v.Subnet.Contains(l.Address()) {
			if v = p.ScopeAt(l.Address()); v == nil {
				return
			}
		}
		k := group{v.ID, l.Given, l.Revision}
		g := groups[k]
		if g == nil {
			g = &tried{}
			groups[k] = g
		}
		if n := g.old + g.fresh; n >= staleTried && (g.old == 0 || g.fresh == 0) {
			if g.old > 0 {
				out[v.ID]++
			}
			return
		}
		set, ok := e.Given(l.Given)
		if !ok {
			return
		}
		digest, served := e.renewal(l, set, &d)
		if served && digest != l.Given {
			g.old++
			out[v.ID]++
		} else {
			g.fresh++
		}
	})
	return out
}

// Where finds what a hardware address holds now, in the whole table.
func (e *Engine) Where(hw addr.Hardware) (out []*lease.Lease) {
	now := lease.At(e.clock.Now())
	e.EachLease(0, func(l *lease.Lease) {
		if l.Hardware == hw && l.HeldAt(now) {
			out = append(out, l.Clone())
		}
	})
	return out
}
