package engine

import (
	"yarnpost/core/lease"
	"yarnpost/service/journal"
)

// Everything gives all that is on record (store.Owner). Nothing is recorded meanwhile.
func (e *Engine) Everything(leases func([]journal.Entry) error) (sets map[uint64][]byte, body []byte, err error) {
	const some = 1000
	var part []journal.Entry
	flush := func() {
		if err == nil && len(part) > 0 {
			err = leases(part)
		}
		part = part[:0]
	}
	e.EachLease(0, func(l *lease.Lease) {
		if part = append(part, journal.Entry{After: l.Clone()}); len(part) == some {
			flush()
		}
	})
	flush()
	e.mu.Lock()
	defer e.mu.Unlock()
	for l := range e.table.Blocks {
		part = append(part, journal.Entry{After: l.Clone()})
	}
	flush()
	sets = map[uint64][]byte{}
	for digest, s := range e.sets.known {
		sets[digest] = s.body
	}
	if e.pairing != nil {
		rec := e.pairing.Server.Record()
		body = rec.Body()
	}
	return sets, body, err
}

// WasSetBack is told that the database was set back and has everything again
// (store.Owner).
func (e *Engine) WasSetBack(cause error, leases int) {
	defer e.Guard("a database that was set back", nil)
	if e.setBack != nil {
		e.setBack(cause, leases)
	}
}

// OnLost names who is told when the database was set back, and who knows whether records
// were lost before this start. Call it before the first request.
func (e *Engine) OnLost(setBack func(cause error, leases int), lost func(now lease.Time) bool) {
	e.setBack, e.behind = setBack, lost
}
