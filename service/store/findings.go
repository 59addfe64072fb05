package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Finding is a finding as it is kept.
type Finding struct {
	Key         string
	First, Last time.Time
	Gone        time.Time // zero: it is there
	Body        json.RawMessage
}

// WasThere reports whether an audit of a moment found it.
func (f *Finding) WasThere(at time.Time) bool {
	return !f.First.After(at) && (f.Gone.IsZero() || f.Gone.After(at))
}

// AuditRun is one audit that was made.
type AuditRun struct {
	ID     int64
	At     time.Time
	Why    string
	Took   time.Duration
	Counts map[string]int // findings by severity, and leases looked at
}

// Acknowledged says that a finding is known and why it may stay.
type Acknowledged struct {
	Key    string    `json:"key"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until"`
	Reason string    `json:"reason"`
}

// goneKept is for how long it is kept that something was found and is gone, and that an audit
// was made.
const goneKept = 366 * 24 * time.Hour

// SaveAudit records what an audit found: what is not among it any more is gone since
// then. It gives the number of the run.
func (s *Store) SaveAudit(ctx context.Context, r AuditRun, keys []string, bodies []json.RawMessage) (id int64, err error) {
	counts, err := json.Marshal(r.Counts)
	if err != nil {
		return 0, err
	}
	keys = append([]string{}, keys...) // none is an empty list, not null
	texts := make([]string, len(bodies))
	for i, b := range bodies {
		texts[i] = string(b)
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "update finding set gone = $1 where gone is null and not (key = any($2))", r.At, keys); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into finding_past select key, first, gone, body from finding
			where gone is not null and key = any($1)`, keys); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into finding (key, first, last, body) select k, $1, $1, b::jsonb from unnest($2::text[], $3::text[]) x(k, b)
			on conflict (key) do update set last = excluded.last, body = excluded.body,
				first = case when finding.gone is null then finding.first else excluded.first end, gone = null`, r.At, keys, texts); err != nil {
			return err
		}
		for _, old := range []string{"finding where gone", "finding_past where gone", "audit_run where at"} {
			if _, err := tx.Exec(ctx, "delete from "+old+" < $1", r.At.Add(-goneKept)); err != nil {
				return err
			}
		}
		return tx.QueryRow(ctx, "insert into audit_run (at, why, took, counts) values ($1, $2, $3, $4) returning id", r.At, r.Why, r.Took.Milliseconds(),
			counts).Scan(&id)
	})
	if err != nil {
		return 0, fmt.Errorf("record an audit: %w", err)
	}
	return id, nil
}

// Findings lists what audits found: what is there, and what went since a moment.
func (s *Store) Findings(ctx context.Context, goneSince time.Time) ([]Finding, error) {
	return s.findings(ctx, "select key, first, last, coalesce(gone, 'epoch'), body from finding where gone is null or gone >= $1", goneSince)
}

// FindingsBetween lists each time that a finding was there within a span, also of those that went
// and came again.
func (s *Store) FindingsBetween(ctx context.Context, from, to time.Time) ([]Finding, error) {
	return s.findings(ctx, `select key, first, last, coalesce(gone, 'epoch'), body from finding where (gone is null or gone >= $1) and first <= $2
		union all select key, first, gone, gone, body from finding_past where gone >= $1 and first <= $2`, from, to)
}

func (s *Store) findings(ctx context.Context, query string, args ...any) ([]Finding, error) {
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("read findings: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (f Finding, err error) {
		err = row.Scan(&f.Key, &f.First, &f.Last, &f.Gone, &f.Body)
		if f.Gone.Unix() == 0 {
			f.Gone = time.Time{}
		}
		return f, err
	})
}

// AuditRuns lists audits, newest first.
func (s *Store) AuditRuns(ctx context.Context, limit int) ([]AuditRun, error) {
	return s.runs(ctx, "order by id desc limit $1", limit)
}

// AuditAt is the last audit that was made up to a moment, or the first there is; ok is false if
// none is on record.
func (s *Store) AuditAt(ctx context.Context, at time.Time) (r AuditRun, ok bool, err error) {
	list, err := s.runs(ctx, "order by at <= $1 desc, case when at <= $1 then at end desc, at limit 1", at)
	if err != nil || len(list) == 0 {
		return r, false, err
	}
	return list[0], true, nil
}

func (s *Store) runs(ctx context.Context, which string, args ...any) ([]AuditRun, error) {
	rows, err := s.pool.Query(ctx, "select id, at, why, took, counts from audit_run "+which, args...)
	if err != nil {
		return nil, fmt.Errorf("read audits: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r AuditRun, err error) {
		var took int64
		var counts []byte
		if err = row.Scan(&r.ID, &r.At, &r.Why, &took, &counts); err == nil {
			err = json.Unmarshal(counts, &r.Counts)
		}
		r.Took = time.Duration(took) * time.Millisecond
		return r, err
	})
}

// Acknowledge records that findings are known, unless something newer is on record
// of them. One that is taken back ends at once.
func (s *Store) Acknowledge(ctx context.Context, list []Acknowledged) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		for _, a := range list {
			_, err := tx.Exec(ctx, `insert into acknowledged (key, by_whom, at, until, reason) values ($1, $2, $3, $4, $5)
				on conflict (key) do update set by_whom = excluded.by_whom, at = excluded.at, until = excluded.until, reason = excluded.reason
				where excluded.at > acknowledged.at`, a.Key, a.By, a.At, a.Until, a.Reason)
			if err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "delete from acknowledged where until < now() - interval '1 year'")
		return err
	})
	if err != nil {
		return fmt.Errorf("acknowledge findings: %w", err)
	}
	return nil
}

// AllAcknowledged lists what was acknowledged, whether it still holds or not.
func (s *Store) AllAcknowledged(ctx context.Context) ([]Acknowledged, error) {
	rows, err := s.pool.Query(ctx, "select key, by_whom, at, until, reason from acknowledged")
	if err != nil {
		return nil, fmt.Errorf("read acknowledgements: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Acknowledged])
}

// HistoryBehind counts the days whose history has no room of its own, or which are
// over for two days and have no index.
func (s *Store) HistoryBehind(ctx context.Context, now time.Time) (days int, err error) {
	stray, err := s.strayDays(ctx)
	if err != nil {
		return 0, err
	}
	day := now.UTC().Truncate(24 * time.Hour)
	for i := 2; i <= 3; i++ {
		name := dayTable(day.AddDate(0, 0, -i))
		var behind bool
		err := s.pool.QueryRow(ctx, "select to_regclass($1) is not null and to_regclass($2) is null", name, name+"_address").Scan(&behind)
		if err != nil {
			return 0, errors.Join(err)
		}
		if behind {
			days++
		}
	}
	return days + len(stray), nil
}
