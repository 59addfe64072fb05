package httpd

import (
	"slices"
	"time"

	"yarnpost/api"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// endings are when the active leases of a scope end, the first first.
func (s *Server) endings(scope plan.ID) (out []lease.Time) {
	s.Engine.EachLease(scope, func(l *lease.Lease) {
		if l.Status == lease.Active {
			out = append(out, l.Expires)
		}
	})
	slices.Sort(out)
	return out
}

// leftSteps is in how many steps it is said how a scope becomes empty.
const leftSteps = 30

// insideView is who is inside a scope still, by when their leases end.
func insideView(ends []lease.Time, now lease.Time) *api.Inside {
	out := &api.Inside{Clients: len(ends), Left: []int{}}
	n, _ := slices.BinarySearch(ends, lease.Never) // those behind never end
	out.Endless = len(ends) - n
	if n == 0 {
		return out
	}
	last := ends[n-1].Std().UTC()
	out.Last = &last
	step := max(time.Duration(ends[n-1].Sub(now))/leftSteps, time.Second).Round(time.Second)
	out.Step = option.FormatDuration(step)
	for i := range leftSteps + 1 {
		over, _ := slices.BinarySearch(ends, now.Add(step*time.Duration(i))+1)
		out.Left = append(out.Left, len(ends)-over)
	}
	return out
}
