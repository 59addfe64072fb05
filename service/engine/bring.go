package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yarnpost/core/lease"
	"yarnpost/service/journal"
)

// bringEach is how many records are put into the table in one step: what waits for the lock waits
// no longer than for a few datagrams.
const bringEach = 256

// Bring puts many records into the table, those that may be, and returns when all are durable. The
// function may is asked of each under the engine's lock, with what is on record now; it must not
// block.
func (e *Engine) Bring(ctx context.Context, list []*lease.Lease, may func(t *lease.Table, before,
	next *lease.Lease) bool) (brought int, err error) {
	for done := 0; done < len(list); {
		part := list[done:min(len(list), done+bringEach)]
		durable := make(chan struct{})
		n := 0
		e.With(func(t *lease.Table) { n, err = e.bring(t, part, may, durable) })
		if err != nil {
			return brought, err
		}
		select {
		case <-durable:
		case <-ctx.Done():
			return brought, ctx.Err()
		case <-time.After(patience):
			return brought, errors.New("what was brought could not be recorded in time; look at the leases, and bring the rest again")
		}
		brought, done = brought+n, done+len(part)
	}
	return brought, nil
}

// bring puts some records into the table; the channel is closed when all are durable. The caller
// holds the lock.
func (e *Engine) bring(t *lease.Table, part []*lease.Lease, may func(t *lease.Table, before, next *lease.Lease) bool,
	durable chan struct{}) (n int, err error) {
	var entries []journal.Entry
	for _, l := range part {
		if before := t.Get(l.Prefix); may(t, before, l) {
			entries = append(entries, e.owned(before, l, waiting{lease: l}))
		}
	}
	if len(entries) == 0 {
		close(durable)
		return 0, nil
	}
	last := &entries[len(entries)-1] // what stands before it is durable when it is
	w := last.Note.(waiting)
	w.done = durable
	last.Note = w
	if !e.commit(entries...) {
		return 0, fmt.Errorf("the database is away, so nothing can be recorded: %w", e.journal.Down())
	}
	return len(entries), nil
}
