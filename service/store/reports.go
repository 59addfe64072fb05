package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Schedule says when reports are made.
type Schedule struct {
	Every   time.Duration `json:"every"` // 0: never
	Begins  time.Time     `json:"begins"`
	Keep    int           `json:"keep"` // so many are kept
	Changed time.Time     `json:"changed"`
}

// Due is the last moment up to now at which a report was to be made; zero if there is none.
func (c Schedule) Due(now time.Time) time.Time {
	if c.Every <= 0 || now.Before(c.Begins) {
		return time.Time{}
	}
	return c.Begins.Add(now.Sub(c.Begins) / c.Every * c.Every)
}

// Next is the first moment after now at which a report is to be made; zero if there is none.
func (c Schedule) Next(now time.Time) time.Time {
	switch {
	case c.Every <= 0:
		return time.Time{}
	case now.Before(c.Begins):
		return c.Begins
	}
	return c.Due(now).Add(c.Every)
}

// Schedule gives the schedule; the zero one if none was set.
func (s *Store) Schedule(ctx context.Context) (c Schedule, err error) {
	var seconds int64
	err = s.pool.QueryRow(ctx, "select every, begins, keep, changed from report_schedule").Scan(&seconds, &c.Begins, &c.Keep, &c.Changed)
	if errors.Is(err, pgx.ErrNoRows) {
		return Schedule{}, nil
	} else if err != nil {
		return c, fmt.Errorf("read when reports are made: %w", err)
	}
	c.Every, c.Begins, c.Changed = time.Duration(seconds)*time.Second, c.Begins.UTC(), c.Changed.UTC()
	return c, nil
}

const putSchedule = `insert into report_schedule (every, begins, keep, changed) values ($1, $2, $3, $4)
	on conflict (one) do update set every = excluded.every, begins = excluded.begins, keep = excluded.keep, changed = excluded.changed
	where report_schedule.changed < excluded.changed`

func (c Schedule) row() []any {
	return []any{int64(c.Every / time.Second), c.Begins, c.Keep, c.Changed.UTC().Truncate(time.Microsecond)}
}

// SaveSchedule records a schedule, unless a newer one is on record.
func (s *Store) SaveSchedule(ctx context.Context, c Schedule) error {
	return s.exec(ctx, "record when reports are made", putSchedule, c.row()...)
}

// Report is a report that was made on schedule.
type Report struct {
	ID       int64
	At       time.Time
	Severity string // the worst that it tells of, or ""
	Text     string // in one line
	Size     int    // of its page, in octets
}

// SaveReport records a report with its page, lets go of those beyond the number that is kept,
// and queues it for targets, all at once.
func (s *Store) SaveReport(ctx context.Context, r Report, page []byte, keep int, q Queued, targets []Target) (id int64, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, "insert into report (at, severity, text, page) values ($1, $2, $3, $4) returning id", r.At, r.Severity, r.Text,
			page).Scan(&id)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "delete from report where id not in (select id from report order by id desc limit $1)", keep); err != nil {
			return err
		}
		q.Report = id
		message, err := json.Marshal(q)
		if err != nil {
			return err
		}
		for _, t := range targets {
			if _, err := tx.Exec(ctx, "insert into alert_queue (target, at, next, body) values ($1, $2, $2, $3)", t.Name, q.At, message); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return 0, fmt.Errorf("record a report: %w", err)
	}
	return id, nil
}

// Reports lists the reports that are kept, newest first.
func (s *Store) Reports(ctx context.Context) ([]Report, error) {
	rows, err := s.pool.Query(ctx, "select id, at, severity, text, length(page) from report order by id desc")
	if err != nil {
		return nil, fmt.Errorf("read the reports: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Report])
}

// ReportPage is the page of a report; ok is false if it is not kept.
func (s *Store) ReportPage(ctx context.Context, id int64) (page []byte, ok bool, err error) {
	err = s.pool.QueryRow(ctx, "select page from report where id = $1", id).Scan(&page)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, false, nil
	} else if err != nil {
		return nil, false, fmt.Errorf("read a report: %w", err)
	}
	return page, true, nil
}
