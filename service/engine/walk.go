package engine

import (
	"runtime"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/work"
)

// How many leases move to a new revision while the lock is held, and how many scopes are
// begun.
const (
	turnPart   = 256
	turnScopes = 16
)

// Take makes the table follow a revision.
func (e *Engine) Take(next *plan.Plan, items []plan.Change) {
	u := e.table.NewRebuild(next, items) // nobody else changes the plan
	e.With(func(*lease.Table) { u.Begin() })
	for more := true; more; {
		e.With(func(*lease.Table) { more = u.Shape(turnScopes) })
		runtime.Gosched()
	}
	for more := true; more; {
		e.With(func(*lease.Table) { more = u.Step(turnPart) })
		runtime.Gosched()
	}
	u.Sort()
	for more := true; more; {
		e.With(func(*lease.Table) { more = u.Queue(turnPart) })
		runtime.Gosched()
	}
	e.With(func(*lease.Table) { u.End() })
	for more := true; more; {
		e.With(func(*lease.Table) { more = u.Rest(turnPart) })
		runtime.Gosched()
	}
}

// walkPart is how many leases a walk takes while the lock is held.
const walkPart = 512

// EachLease walks a scope (0: the whole table), a part at a time. A lease that it
// yields is good until the function returns; who keeps it keeps a Clone. A panic of
// one that walks is that of the caller.
func (e *Engine) EachLease(scope plan.ID, share ...func(*lease.Lease)) {
	var at *lease.Iterator
	e.With(func(t *lease.Table) { at = t.Iterator(scope) })
	work.SideBySide(len(share), len(share), func(i int) {
		var part lease.Part
		for more := true; more; {
			e.With(func(*lease.Table) { more = at.Next(&part, walkPart) })
			for l := range part.Leases {
				share[i](l)
			}
		}
	})
}
