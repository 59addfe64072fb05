package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/plan"
)

// HistoryDays is how long history is kept.
const HistoryDays = 180

// daysAhead is how many days have a partition before they begin.
const daysAhead = 3

const restTable = "lease_history_rest" // for days without a partition of their own

// KeepHistory makes the partitions of today and the next days, indexes those
// that are over by address, and drops those past their time. Each step is a
// transaction of its own and gives way to the journal, so one that fails stops
// no other; what failed is tried again next time.
func (s *Store) KeepHistory(ctx context.Context, now time.Time) error {
	day := now.UTC().Truncate(24 * time.Hour)
	failed := []error{s.OpenHistory(ctx, now)}
	try := func(step func(context.Context, time.Time) error, at time.Time) {
		if err := step(ctx, at); err != nil {
			failed = append(failed, err)
		}
	}
	stray, err := s.strayDays(ctx)
	if err != nil {
		failed = append(failed, err)
	}
	for _, at := range stray {
		try(s.openDay, at)
	}
	for i := 1; i <= 3; i++ {
		try(s.closeDay, day.AddDate(0, 0, -i))
	}
	for i := range 10 {
		try(s.dropDay, day.AddDate(0, 0, -HistoryDays-i))
	}
	if err := errors.Join(failed...); err != nil {
		return fmt.Errorf("keep history: %w", err)
	}
	return nil
}

// OpenHistory makes the partitions of today and the next days alone.
func (s *Store) OpenHistory(ctx context.Context, now time.Time) error {
	day := now.UTC().Truncate(24 * time.Hour)
	var failed []error
	for i := range daysAhead + 1 {
		failed = append(failed, s.openDay(ctx, day.AddDate(0, 0, i)))
	}
	return errors.Join(failed...)
}

func dayTable(day time.Time) string { return "lease_history_" + day.Format("20060102") }

// lockPatience is how long a step waits for a lock, while the journal would wait
// behind it.
const lockPatience = "set local lock_timeout = '40ms'"

// briefly runs a transaction that gives way: if it cannot have its locks at
// once, it comes back a little later, some times.
func (s *Store) briefly(ctx context.Context, what string, do func(pgx.Tx) error) (err error) {
	for try := range 20 {
		err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, lockPatience); err != nil {
				return err
			}
			return do(tx)
		})
		if !isCode(err, "55P03") { // lock_not_available
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(50+20*try) * time.Millisecond):
		}
	}
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// openDay makes the partition of a day, if there is none. Rows of that day that
// were written while there was none move into it.
func (s *Store) openDay(ctx context.Context, day time.Time) error {
	name := dayTable(day)
	from, to := day.Format(time.DateOnly), day.AddDate(0, 0, 1).Format(time.DateOnly)
	var there bool
	if err := s.pool.QueryRow(ctx, "select to_regclass($1) is not null", name).Scan(&there); err != nil || there {
		return err
	}
	// Attached rather than made in place: that lets the journal write meanwhile.
	// The check spares it a look at every row.
	return s.briefly(ctx, "open "+name, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, fmt.Sprintf(`create table %[1]s (like lease_history including defaults, constraint %[1]s_day check (at >= '%[2]s+00' and at < '%[3]s+00' and at is not null));
			create index on %[1]s using brin (at);
			with moved as (delete from %[4]s where at >= '%[2]s+00' and at < '%[3]s+00' returning *) insert into %[1]s select * from moved;
			alter table lease_history attach partition %[1]s for values from ('%[2]s+00') to ('%[3]s+00');
			alter table %[1]s drop constraint %[1]s_day`, name, from, to, restTable))
		return err
	})
}

// strayDays lists days of which rows were written while they had no partition.
func (s *Store) strayDays(ctx context.Context) ([]time.Time, error) {
	rows, err := s.pool.Query(ctx, "select distinct date_trunc('day', at at time zone 'UTC') from "+restTable+" limit 100")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[time.Time])
}

// closeDay indexes a day that is over by address and by hardware address. The
// moment is not in the indexes: without it equal keys share an entry, so there is
// a fraction to be written and flushed while commits wait for the same disk.
func (s *Store) closeDay(ctx context.Context, day time.Time) error {
	name := dayTable(day)
	for _, column := range []string{"address", "hardware"} {
		var needed bool
		if err := s.pool.QueryRow(ctx, "select to_regclass($1) is not null and to_regclass($2) is null", name,
			name+"_"+column).Scan(&needed); err != nil {
			return err
		}
		if !needed {
			continue
		}
		conn, err := s.pool.Acquire(ctx)
		if err != nil {
			return err
		}
		// No time limit: the day is over, so nobody waits for its lock.
		_, err = conn.Exec(ctx, fmt.Sprintf("set statement_timeout = 0; set max_parallel_maintenance_workers = 0; set maintenance_work_mem = '256MB'; create index if not exists %s_%s on %s (%s)", name, column, name, column))
		if _, after := conn.Exec(context.WithoutCancel(ctx),
			"reset statement_timeout; reset max_parallel_maintenance_workers; reset maintenance_work_mem"); after != nil {
			conn.Conn().Close(ctx)
		}
		conn.Release()
		if err != nil {
			return fmt.Errorf("index %s: %w", name, err)
		}
	}
	return nil
}

func (s *Store) dropDay(ctx context.Context, day time.Time) error {
	var there bool
	if err := s.pool.QueryRow(ctx, "select to_regclass($1) is not null", dayTable(day)).Scan(&there); err != nil || !there {
		return err
	}
	return s.briefly(ctx, "drop "+dayTable(day), func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "drop table if exists "+dayTable(day))
		return err
	})
}

// AddedSince lists the items that came into the plan after a moment.
func (s *Store) AddedSince(ctx context.Context, since time.Time) (map[plan.ID]bool, error) {
	rows, err := s.pool.Query(ctx, `select distinct c.id from plan_change c join plan_revision r using (revision)
		where c.before is null and r.at > $1`, since)
	if err != nil {
		return nil, fmt.Errorf("read what is new in the plan: %w", err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return nil, fmt.Errorf("read what is new in the plan: %w", err)
	}
	out := make(map[plan.ID]bool, len(list))
	for _, id := range list {
		out[plan.ID(id)] = true
	}
	return out, nil
}
