package engine

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// patience is how long a person waits for a record to become durable.
const patience = 30 * time.Second

// Replace puts another record in place of an address's, and returns when that is
// durable. The change function runs under the engine's lock; if it gives back what
// it got, nothing happens.
func (e *Engine) Replace(ctx context.Context, k netip.Prefix,
	change func(l *lease.Lease, now lease.Time) (*lease.Lease, error)) (next *lease.Lease, err error) {
	done := make(chan struct{})
	e.With(func(t *lease.Table) {
		l := t.Get(k)
		if next, err = change(l, lease.At(e.clock.Now())); err != nil || next == l {
			close(done)
		} else if !e.commit(e.owned(l, next, waiting{lease: next, done: done})) {
			err = fmt.Errorf("the database is away, so nothing can be recorded: %w", e.journal.Down())
		}
	})
	if err != nil {
		return nil, err
	}
	select {
	case <-done:
		return next, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(patience):
		return nil, errors.New("the change could not be recorded in time; look at the lease again")
	}
}

// ProbeAgain has an address that is kept from others probed now and then.
func (e *Engine) ProbeAgain(k netip.Prefix) {
	a := k.Addr()
	if !a.Is4() {
		return
	}
	e.With(func(*lease.Table) { e.probes.Kept.Put(a, lease.At(e.clock.Now())) })
}

// Propose gives a free address of a scope for a reservation: the one that is preferred, if it
// is free.
func (e *Engine) Propose(p *plan.Plan, v *plan.View, prefer netip.Addr) (netip.Addr, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := lease.At(e.clock.Now())
	return plan.FreeForReservation(p, v, prefer, func(a netip.Addr) bool {
		l := e.table.At(a)
		_, offered := e.table.OfferOf(lease.Host(a))
		return offered || e.ofNetwork(a) || l != nil && (l.HeldAt(now) || l.Kept() || l.Status == lease.Abandoned)
	})
}
