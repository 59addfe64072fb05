package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/plan"
)

// PlanChange is a change of one item, in words.
type PlanChange struct {
	At       time.Time
	Revision int64
	Text     string
}

// ChangesOf lists what changed a scope since a moment, newest first.
func (s *Store) ChangesOf(ctx context.Context, scope plan.ID, since time.Time, limit int) ([]PlanChange, error) {
	rows, err := s.pool.Query(ctx, `select r.at, r.revision,
			case when c.before is null then 'added' when c.after is null then 'removed'
			else (select coalesce(string_agg(l->>'Text', '; '), '') from jsonb_array_elements(c.lines) l) end
		from plan_change c join plan_revision r using (revision) where c.kind = 'scope' and c.id = $1 and r.at >= $2 order by r.revision desc limit $3`,
		int64(scope), since, limit)
	if err != nil {
		return nil, fmt.Errorf("read changes: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[PlanChange])
}

// Changes lists what a revision changed, in order; none if there is no such
// revision.
func (s *Store) Changes(ctx context.Context, revision int64) ([]plan.Change, error) {
	out, err := s.changes(ctx, "select kind, id, name, before, after from plan_change where revision = $1 order by seq", revision)
	if err != nil {
		return nil, fmt.Errorf("read revision %d: %w", revision, err)
	}
	return out, nil
}

// ChangesBehind lists what the revisions behind one changed, up to and with another, the newest
// first.
func (s *Store) ChangesBehind(ctx context.Context, revision, upTo int64) ([]plan.Change, error) {
	out, err := s.changes(ctx, `select kind, id, name, before, after from plan_change where revision > $1 and revision <= $2
order by revision desc, seq desc`, revision, upTo)
	if err != nil {
		return nil, fmt.Errorf("read what changed since revision %d: %w", revision, err)
	}
	return out, nil
}

// RevisionAt is the revision that was in force at a moment; 0 before the first.
func (s *Store) RevisionAt(ctx context.Context, at time.Time) (revision int64, err error) {
	err = s.pool.QueryRow(ctx, "select coalesce(max(revision), 0) from plan_revision where at <= $1", at).Scan(&revision)
	if err != nil {
		return 0, fmt.Errorf("read which revision was in force: %w", err)
	}
	return revision, nil
}

func (s *Store) changes(ctx context.Context, query string, args ...any) ([]plan.Change, error) {
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (c plan.Change, err error) {
		var before, after []byte
		if err := row.Scan(&c.Kind, &c.ID, &c.Name, &before, &after); err != nil {
			return c, err
		}
		if c.Before, err = plan.Decode(c.Kind, before); err != nil {
			return c, err
		}
		c.After, err = plan.Decode(c.Kind, after)
		return c, err
	})
}

// Revisions lists revisions below before (0: from the newest), newest first,
// with the first lines of what changed, in plain words (0: all of them).
func (s *Store) Revisions(ctx context.Context, before int64, limit, lines int) ([]Revision, error) {
	rows, err := s.pool.Query(ctx, `select r.revision, r.at, r.author, r.reason, c.items, c.length,
		coalesce((select jsonb_agg(l) from (select l from plan_change c, jsonb_array_elements(c.lines) with ordinality x(l, o)
			where c.revision = r.revision order by c.seq, o limit nullif($3, 0)) y), '[]')
		from plan_revision r, lateral (select count(*) as items, coalesce(sum(jsonb_array_length(lines)),
			0) as length from plan_change where revision = r.revision) c
		where $1::bigint = 0 or r.revision < $1 order by r.revision desc limit $2`, before, limit, lines)
	if err != nil {
		return nil, fmt.Errorf("list revisions: %w", err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (r Revision, err error) {
		var lines []byte
		if err := row.Scan(&r.Number, &r.At, &r.Author, &r.Reason, &r.Items, &r.Length, &lines); err != nil {
			return r, err
		}
		return r, json.Unmarshal(lines, &r.Lines)
	})
	if err != nil {
		return nil, fmt.Errorf("list revisions: %w", err)
	}
	return out, nil
}

// Changed says when items of a kind were last changed, as far as that is on record.
func (s *Store) Changed(ctx context.Context, kind plan.Kind, ids []plan.ID) (map[plan.ID]time.Time, error) {
	out := map[plan.ID]time.Time{}
	if len(ids) == 0 {
		return out, nil
	}
	rows, err := s.pool.Query(ctx,
		`select c.id, max(r.at) from plan_change c join plan_revision r using (revision) where c.kind = $1 and c.id = any($2)
		group by c.id`, kind, ids)
	if err != nil {
		return nil, fmt.Errorf("read when items changed: %w", err)
	}
	var id plan.ID
	var at time.Time
	if _, err := pgx.ForEachRow(rows, []any{&id, &at}, func() error { out[id] = at; return nil }); err != nil {
		return nil, fmt.Errorf("read when items changed: %w", err)
	}
	return out, nil
}
