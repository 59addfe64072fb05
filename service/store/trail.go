package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// Deed is something that a person did.
type Deed struct {
	At      time.Time
	Who     string // account
	Source  string // address that it was asked from; "" if that is not known
	Deed    string // such as "ended a lease"
	Subject string // an address, a name, or "revision 12"
	Reason  string
	Detail  string // what came of it
}

// ChangedPlan is the deed of a revision of the plan.
const ChangedPlan = "changed the plan"

// AddDeeds records what people did.
func (s *Store) AddDeeds(ctx context.Context, list []Deed) error {
	rows := make([][]any, len(list))
	for i, d := range list {
		rows[i] = []any{d.At, d.Who, d.Source, storable(d.Deed), storable(d.Subject), storable(d.Reason), storable(d.Detail)}
	}
	_, err := s.pool.CopyFrom(ctx, pgx.Identifier{"trail"}, []string{"at", "who", "source", "deed", "subject", "reason", "detail"},
		pgx.CopyFromRows(rows))
	if err != nil {
		return fmt.Errorf("record what was done: %w", err)
	}
	return nil
}

// TrailQuery says which deeds are wanted: those before a moment that have a text in any
// part, the latest first.
type TrailQuery struct {
	Before  time.Time
	Since   time.Time
	Search  string
	Subject string // exactly, if not ""
	Limit   int
	Own     bool // without the revisions of the plan, which a partner has as well
}

// Trail lists what people did: each revision of the plan, and all else.
func (s *Store) Trail(ctx context.Context, q TrailQuery) ([]Deed, error) {
	rows, err := s.pool.Query(ctx, `
		select at, who, source, deed, subject, reason, detail from (
			select at, who, source, deed, subject, reason, detail from trail where deed <> $6 or $5
			union all
			select r.at, r.author, coalesce((select t.source from trail t where t.deed = $6 and t.subject = 'revision ' || r.revision
					order by t.id limit 1), ''), $6, 'revision ' || r.revision, r.reason,
				coalesce((select string_agg((l->>'Kind') || ' ' || (l->>'Name') || ': ' || (l->>'Text'), '; ') || case when max(n) > 3 then
						'; and ' || max(n) - 3 || ' more' else '' end from (
					select l, count(*) over () as n from plan_change c, jsonb_array_elements(c.lines) with ordinality x(l, o)
					where c.revision = r.revision order by c.seq, o limit 3) y), '')
			from (select * from plan_revision where not $5 and at < $1 and at >= $2 order by revision desc
				limit case when $3 = '' and $7 = '' then $4::bigint end) r
		) all_of_it
		where at < $1 and at >= $2 and ($3 = '' or who || ' ' || source || ' ' || deed || ' ' || subject || ' ' || reason || ' ' ||
			detail ilike '%' || $3 || '%')
			and ($7 = '' or subject = $7)
		order by at desc limit $4`, q.Before, q.Since, like(q.Search), q.Limit, q.Own, ChangedPlan, q.Subject)
	if err != nil {
		return nil, fmt.Errorf("read what was done: %w", err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Deed])
	if err != nil {
		return nil, fmt.Errorf("read what was done: %w", err)
	}
	return out, nil
}

// like is a text as a pattern has it that means no more than itself.
func like(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}
