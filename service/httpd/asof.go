package httpd

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/store"
)

// This file has plan and lease table as they were at a moment, for whoever has to answer later.

var errNoPlanYet = fmt.Errorf("%w: there was no plan yet", plan.ErrRefused)

// planAt is the plan as a revision left it, or as it was at a moment; one of them is named.
func (s *Server) planAt(ctx context.Context, revision int64, at time.Time) (*plan.Plan, error) {
	p := s.Engine.Plan()
	if !at.IsZero() {
		var err error
		if revision, err = s.Store.RevisionAt(ctx, at); err != nil {
			return nil, err
		}
		if revision == 0 {
			return nil, fmt.Errorf("%w at %s", errNoPlanYet, at.UTC().Format(time.RFC3339))
		}
	}
	if revision > p.Revision {
		return nil, fmt.Errorf("%w: there is no revision %d; yarnpost plan history lists all", plan.ErrNotFound, revision)
	}
	since, err := s.Store.ChangesBehind(ctx, revision, p.Revision)
	if err != nil {
		return nil, err
	}
	return asLeftBy(p, revision, since)
}

// asLeftBy is a plan as a revision left it, by what was changed since.
func asLeftBy(p *plan.Plan, revision int64, since []plan.Change) (*plan.Plan, error) {
	then, err := p.Before(revision, since)
	if err != nil {
		return nil, plan.Refused("the plan of revision %d cannot be put together any more: %v", revision, err)
	}
	return then, nil
}

// Bounds of looking back.
const (
	backLeast  = 48 * time.Hour
	backMost   = 90 * 24 * time.Hour
	leasesMost = 300_000 // that are put together at a time
)

// tableAt gives the leases of a scope, or of all, as they were at a moment: what history has of it.
// It looks back over the longest lease that the plan of that time gives. What lasts longer, such as a
// lease without end, is known from the table as it is now, or by what became of it since.
func (s *Server) tableAt(ctx context.Context, p *plan.Plan, scope *plan.View, at time.Time) (map[netip.Prefix]*lease.Lease, error) {
	scopes := p.Scopes()
	var subnets []netip.Prefix
	if scope != nil {
		scopes, subnets = []*plan.View{scope}, scope.Prefixes()
	}
	back := backLeast
	for _, v := range scopes {
		back = max(back, min(2*v.ValidFor(nil, v.LeaseFor(nil)), backMost))
	}
	found := map[netip.Prefix]*lease.Lease{}
	now := lease.At(at)
	s.Engine.EachLease(0, func(l *lease.Lease) {
		if l.Status == lease.Active && l.Expires == lease.Never && l.Since <= now && (scope == nil || scope.Has(l.Prefix)) {
			found[l.Prefix] = l.Clone()
		}
	})
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	keep := func(l *lease.Lease) {
		if found[l.Prefix] = l; len(found) > leasesMost {
			stop()
		}
	}
	err := s.Store.EachPast(ctx, at.Add(-back), at.Add(time.Microsecond), subnets, func(e store.Event) {
		l := e.Lease
		l.Heard, l.Changed = lease.At(e.At), lease.At(e.At)
		if l.Expires != lease.Never {
			l.Granted = time.Duration(l.Expires.Sub(l.Heard))
		}
		keep(&l)
	})
	if err == nil {
		err = s.Store.EachBegun(ctx, at.Add(time.Microsecond), s.Clock.Now(), subnets, func(e store.Event) {
			if l := e.Lease; found[l.Prefix] == nil && (l.Status == lease.Active || l.Status == lease.Released) {
				if l.Status == lease.Released { // it was given for longer than anybody looked back
					l.Status, l.Expires = lease.Active, lease.Never
				}
				l.Heard, l.Changed = l.Since, l.Since
				keep(&l)
			}
		})
	}
	if len(found) > leasesMost {
		return nil, plan.Refused("more than %d leases were there; name a scope", leasesMost)
	} else if err != nil {
		return nil, err
	}
	for _, l := range found {
		if l.Status == lease.Active && l.Expires != lease.Never && l.Expires <= now {
			l.Status = lease.Expired
		}
		if r := p.ReservationOf(l.Prefix); r != nil {
			l.Reserved = answer.Holds(r, l)
		}
	}
	return found, nil
}
