// Package report says what would be decided, and for whom, without touching anything: what a
// client would be answered, who holds old options, whom a rule would fit. The code that says
// so is the one that serves.
package report

import (
	"sort"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// Engine has the lease table.
type Engine interface {
	Plan() *plan.Plan
	EachLease(scope plan.ID, share ...func(*lease.Lease))
	Given(digest uint64) (answer.Set, bool)
	// Consider runs f with what decisions are made of, while nothing else is decided.
	Consider(f func(answer.World))
}

// Reporter makes reports.
type Reporter struct {
	Engine Engine
	Clock  interface{ Now() time.Time }
}

// Unmet is one option that clients ask for and are not given.
type Unmet struct {
	option.Key
	Clients int
	Scopes  map[string]int // clients by scope
	Vendors map[string]int // clients by vendor class
}

// Unmet counts what the holders of active leases ask for and nobody set.
func (r *Reporter) Unmet() []Unmet {
	p := r.Engine.Plan()
	missing := map[uint64][]option.Key{}
	counts := map[option.Key]*Unmet{}
	r.Engine.EachLease(0, func(l *lease.Lease) {
		if l.Status != lease.Active || l.Given == 0 {
			return
		}
		codes, known := missing[l.Given]
		if !known {
			s, _ := r.Engine.Given(l.Given)
			of := option.V4
			if l.Address().Is6() {
				of = option.V6
			}
			for _, code := range s.Unmet(of) {
				codes = append(codes, option.Key{Family: of, Code: code})
			}
			missing[l.Given] = codes
		}
		for _, c := range codes {
			u := counts[c]
			if u == nil {
				u = &Unmet{Key: c, Scopes: map[string]int{}, Vendors: map[string]int{}}
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
		return out[i].Key.Compare(out[j].Key) < 0
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
func (r *Reporter) renewal(l *lease.Lease, set answer.Set, into *answer.Decision) (digest uint64, served bool) {
	r.Engine.Consider(func(w answer.World) { _, digest, served = answer.Renewal(l, set.Asked, w, into) })
	return digest, served
}

// Stale lists the holders of active leases, of one scope or of all for 0, whose
// options are not what they would be given now. The very code that serves
// decides what that is.
func (r *Reporter) Stale(scope plan.ID) []Stale {
	var d answer.Decision
	var out []Stale
	r.Engine.EachLease(scope, func(l *lease.Lease) {
		if l.Status != lease.Active || l.Given == 0 {
			return
		}
		set, ok := r.Engine.Given(l.Given)
		if !ok {
			return
		}
		digest, served := r.renewal(l, set, &d)
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
func (r *Reporter) StaleCounts() map[plan.ID]int {
	type group struct {
		scope    plan.ID
		given    uint64
		revision int64
	}
	type tried struct{ old, fresh int }
	out := map[plan.ID]int{}
	groups := map[group]*tried{}
	var d answer.Decision
	p := r.Engine.Plan()
	var v *plan.View
	r.Engine.EachLease(0, func(l *lease.Lease) {
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
		set, ok := r.Engine.Given(l.Given)
		if !ok {
			return
		}
		digest, served := r.renewal(l, set, &d)
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
func (r *Reporter) Where(hw addr.Hardware) (out []*lease.Lease) {
	now := lease.At(r.Clock.Now())
	r.Engine.EachLease(0, func(l *lease.Lease) {
		if l.Hardware == hw && l.HeldAt(now) {
			out = append(out, l.Clone())
		}
	})
	return out
}
