package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"yarnpost/core/plan"
	"yarnpost/service/journal"
)

// ErrStale is wrapped when a change was made against a revision that is no
// longer the newest.
var ErrStale = errors.New("the plan has changed meanwhile")

// Revision is one revision of the plan as recorded.
type Revision struct {
	Number int64
	At     time.Time
	Author string
	Reason string
	Lines  []plan.Line // filled by Revisions, the first ones at least
	Items  int         // how many items changed
	Length int         // how many lines tell of that
}

// planLock keeps a process that takes the database over apart from plan changes
// of the one before it that are still under way.
const planLock = writerLock + 1

// ErrUnknown is wrapped when it is not known whether a revision was recorded:
// ask PlanRecorded once the database is back.
var ErrUnknown = errors.New("it is not known whether the change was recorded")

// PlanRecorded reports whether a revision of SavePlan is on record.
func (s *Store) PlanRecorded(ctx context.Context, r Revision) (bool, error) {
	var there bool
	err := s.pool.QueryRow(ctx, "select exists (select from plan_revision where revision = $1 and at = $2 and author = $3)", r.Number, r.At,
		r.Author).Scan(&there)
	if err != nil {
		return false, fmt.Errorf("look for plan revision %d: %w", r.Number, err)
	}
	return there, nil
}

// SavePlan records one revision with its changes in one transaction. An error
// that wraps ErrUnknown leaves open whether it did. The time of the revision
// tells it from others: it is kept in whole microseconds.
func (s *Store) SavePlan(ctx context.Context, r Revision, changes []plan.Change, lines func(plan.Change) []plan.Line) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("record plan revision %d: %w", r.Number, err)
	}
	defer conn.Release()
	filled := false // all but the commit is done
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		var last int64
		for _, c := range changes {
			last = max(last, int64(c.ID))
		}
		// No row is locked that the journal writes: whoever takes over waits for
		// this lock before it changes the epoch.
		var epoch int64
		if err := tx.QueryRow(ctx, "select epoch from server, pg_advisory_xact_lock_shared($1)", planLock).Scan(&epoch); err != nil {
			return err
		}
		if epoch != s.epoch {
			return journal.ErrFenced
		}
		_, err := tx.Exec(ctx,
			"insert into plan_revision (revision, at, author, reason, last_id) values ($1, $2, $3, $4, greatest($5, (select max(last_id) from plan_revision)))",
			r.Number, r.At, r.Author, r.Reason, last)
		rows, stop := encodeChanges(changes, lines)
		defer stop()
		before := s.commits.Load()
		for from, part := 0, planPart; from < len(changes) && err == nil; from += part {
			if now := s.commits.Load(); now != before {
				before, part = now, planPart
				time.Sleep(planPause)
			} else if from > 0 {
				part = planPartIdle
			}
			err = savePart(ctx, tx, r.Number, from, min(part, len(changes)-from), rows)
		}
		filled = err == nil
		return err
	})
	var pg *pgconn.PgError
	switch {
	case isCode(err, "23505"):
		err = ErrStale
	case err != nil && filled && !errors.As(err, &pg):
		err = fmt.Errorf("%w: %w", ErrUnknown, err)
	}
	if err != nil {
		return fmt.Errorf("record plan revision %d: %w", r.Number, err)
	}
	return nil
}

// A large change is recorded a part at a time: so many items, and a pause behind each during
// which leases were recorded, so that the database has its processor and its log for those.
const (
	planPart     = 100
	planPartIdle = 1000 // while nobody is given a lease
	planPause    = 10 * time.Millisecond
)

// planRow is a change as it is recorded.
type planRow struct {
	plan.Change
	before, after, lines []byte
	parent               *int64
	err                  error
}

// encodeChanges encodes changes, in their order, ahead of the database that takes them. The caller calls
// stop.
func encodeChanges(changes []plan.Change, lines func(plan.Change) []plan.Line) (rows chan planRow, stop func()) {
	rows, done := make(chan planRow, planPartIdle), make(chan struct{})
	go func() {
		for _, c := range changes {
			r := planRow{Change: c}
			if r.before, r.after, r.err = encode(c.Before, c.After); r.err == nil {
				r.lines, r.err = json.Marshal(lines(c))
			}
			if c.After != nil {
				if id, ok := plan.Parent(c.Kind, c.After); ok {
					r.parent = (*int64)(&id)
				}
			}
			select {
			case rows <- r:
			case <-done:
				return
			}
		}
	}()
	return rows, func() { close(done) }
}

// savePart records the next n changes, the first of them with a number.
func savePart(ctx context.Context, tx pgx.Tx, revision int64, first, n int, rows chan planRow) error {
	kinds, names, ids := make([]string, n), make([]string, n), make([]int64, n)
	befores, afters, texts := make([][]byte, n), make([][]byte, n), make([][]byte, n)
	parents := make([]*int64, n)
	for i := range n {
		r := <-rows
		if r.err != nil {
			return r.err
		}
		kinds[i], names[i], ids[i], parents[i] = string(r.Kind), r.Name, int64(r.ID), r.parent
		befores[i], afters[i], texts[i] = r.before, r.after, r.lines
	}
	_, err := tx.Exec(ctx, `with x as (
	select * from unnest($3::text[], $4::bigint[], $5::text[], $6::jsonb[], $7::jsonb[], $8::jsonb[], $9::bigint[])
	with ordinality x (kind, id, name, before, after, lines, parent, n)
), changed as (
	insert into plan_change (revision, seq, kind, id, name, before, after, lines)
	select $1::bigint, $2::int + n - 1, kind, id, name, before, after, lines from x
), gone as (
	delete from plan_item i using x where x.after is null and i.kind = x.kind and i.id = x.id
)
insert into plan_item (kind, id, parent, body)
select kind, id, parent, after from x where after is not null
on conflict (kind, id) do update set parent = excluded.parent, body = excluded.body`,
		revision, first, kinds, ids, names, befores, afters, texts, parents)
	return err
}

func encode(before, after plan.Item) (b, a []byte, err error) {
	if before != nil {
		if b, err = json.Marshal(before); err != nil {
			return nil, nil, err
		}
	}
	if after != nil {
		a, err = json.Marshal(after)
	}
	return b, a, err
}

// LoadPlan builds the newest revision from its items.
func (s *Store) LoadPlan(ctx context.Context) (*plan.Plan, error) {
	var revision, last int64
	err := s.pool.QueryRow(ctx, "select coalesce(max(revision), 0), coalesce(max(last_id), 0) from plan_revision").Scan(&revision, &last)
	if err != nil {
		return nil, fmt.Errorf("load plan: %w", err)
	}
	rows, err := s.pool.Query(ctx, "select kind, body from plan_item order by id")
	if err != nil {
		return nil, fmt.Errorf("load plan: %w", err)
	}
	items, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (i plan.Stored, err error) {
		var body []byte
		if err := row.Scan(&i.Kind, &body); err != nil {
			return i, err
		}
		i.Item, err = plan.Decode(i.Kind, body)
		return i, err
	})
	if err != nil {
		return nil, fmt.Errorf("load plan: %w", err)
	}
	p, err := plan.Restore(revision, items)
	if err != nil {
		return nil, err
	}
	return p.KeepIDsAbove(plan.ID(last)), nil
}
