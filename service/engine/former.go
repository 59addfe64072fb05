package engine

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// former says for how long the records of those that went away are kept, by scope; of a scope that
// is not in it, lease.FormerKept.
type former struct {
	kept  map[plan.ID]time.Duration
	swept lease.Time
}

// Pace of a sweep of former clients.
const (
	formerPause = 3600 // seconds between two, unless there are too many
	formerPart  = 1000 // keys that leave the disk at a time
)

// SweepFormer takes out the records of IPv6 clients that went away long ago, once an hour or when a
// scope has too many of them; drop takes them off the disk, as far as nothing was recorded of
// them since a moment. What drop fails to take off comes back with the next start, and goes then.
func (e *Engine) SweepFormer(drop func(keys []netip.Prefix, before lease.Time) error) {
	now := lease.At(e.clock.Now())
	if e.journal.Down() != nil || !e.formerDue(now) {
		return
	}
	var at *lease.Iterator
	e.With(func(t *lease.Table) { at = t.Iterator(0) })
	var gone []netip.Prefix
	var part lease.Part
	for more := true; more; {
		e.With(func(t *lease.Table) {
			more = at.Next(&part, walkPart)
			for l := range part.Leases {
				if l.Past(now) && l.PastFor(e.formerKept(t, l), now) && !e.journal.Pending(l.Prefix) && t.Forget(l.Prefix) {
					gone = append(gone, l.Prefix)
				}
			}
		})
	}
	e.metrics.forgotten.Add(float64(len(gone)))
	for some := range slices.Chunk(gone, formerPart) {
		if err := drop(some, now); err != nil {
			e.log.Warn("records of former clients left memory and not the disk; they go after the next start", "error", err)
			return
		}
	}
}

// formerKept is for how long the former client of a lease is remembered.
func (e *Engine) formerKept(t *lease.Table, l *lease.Lease) time.Duration {
	if v := t.Plan().ScopeAt(l.Address()); v != nil {
		return cmp.Or(e.former.kept[v.ID], lease.FormerKept)
	}
	return lease.FormerKept
}

// formerDue reports whether it is time for a sweep, and says for how long each scope remembers its
// former clients then.
func (e *Engine) formerDue(now lease.Time) (due bool) {
	var all []*plan.View
	e.With(func(t *lease.Table) { all = t.Plan().Scopes() })
	all = slices.DeleteFunc(all, func(v *plan.View) bool { return v.Family() != option.V6 })
	f, kept := &e.former, map[plan.ID]time.Duration{} // nobody else uses those
	due = now-f.swept >= formerPause || f.swept > now
	for some := range slices.Chunk(all, turnScopes) {
		e.With(func(t *lease.Table) {
			for _, v := range some {
				had := cmp.Or(f.kept[v.ID], lease.FormerKept)
				if d := lease.KeepFormer(t.Former(v.ID), had); d != lease.FormerKept {
					kept[v.ID] = d
					due = due || d < had
				}
			}
		})
	}
	if due {
		f.kept, f.swept = kept, now
	}
	return due
}
