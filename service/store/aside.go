package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/plan"
)

// Rewind takes revisions back, which are kept aside, and records the partner's in
// their place, all in one transaction.
func (s *Store) Rewind(ctx context.Context, own, theirs []Carried) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		for i := len(own) - 1; i >= 0; i-- {
			c := own[i]
			items, err := json.Marshal(c.Items)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "insert into plan_aside (at, revision, made, author, reason, items) values (now(), $1, $2, $3, $4, $5)", c.Number, time.UnixMicro(c.At), c.Author, c.Reason,
				items); err != nil {
				return err
			}
			for k := len(c.Items) - 1; k >= 0; k-- {
				if err := putItem(ctx, tx, c.Items[k], c.Items[k].Before); err != nil {
					return err
				}
			}
			for _, q := range []string{"delete from plan_change where revision = $1", "delete from plan_revision where revision = $1"} {
				if _, err := tx.Exec(ctx, q, c.Number); err != nil {
					return err
				}
			}
		}
		for _, c := range theirs {
			if _, err := tx.Exec(ctx,
				"insert into plan_revision (revision, at, author, reason, last_id) values ($1, $2, $3, $4, (select coalesce(max(id), 0) from plan_item))",
				c.Number, time.UnixMicro(c.At), c.Author, c.Reason); err != nil {
				return err
			}
			for i, item := range c.Items {
				if _, err := tx.Exec(ctx, "insert into plan_change (revision, seq, kind, id, name, before, after, lines) values ($1, $2, $3, $4, $5, $6, $7, $8)",
					c.Number, i, item.Kind, item.ID, item.Name, item.Before, item.After, item.Lines); err != nil {
					return err
				}
				if err := putItem(ctx, tx, item, item.After); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("take the partner's plan: %w", err)
	}
	return nil
}

// putItem records what an item is, or that it is gone.
func putItem(ctx context.Context, tx pgx.Tx, c CarriedItem, body json.RawMessage) error {
	if body == nil {
		_, err := tx.Exec(ctx, "delete from plan_item where kind = $1 and id = $2", c.Kind, c.ID)
		return err
	}
	i, err := plan.Decode(c.Kind, body)
	if err != nil {
		return err
	}
	var parent *int64
	if id, ok := plan.Parent(c.Kind, i); ok {
		parent = (*int64)(&id)
	}
	_, err = tx.Exec(ctx,
		"insert into plan_item (kind, id, parent, body) values ($1, $2, $3, $4) on conflict (kind, id) do update set parent = excluded.parent, body = excluded.body",
		c.Kind, c.ID, parent, body)
	return err
}

// Kept is a revision of a line that was not chosen.
type Kept struct {
	ID     int64     `json:"id"`
	Chosen time.Time `json:"chosen"` // when the other line was
	Carried
}

// Aside lists the revisions of lines that were not chosen: the last choice first,
// those of one line in their order.
func (s *Store) Aside(ctx context.Context) (out []Kept, err error) {
	rows, err := s.pool.Query(ctx, "select id, at, revision, made, author, reason, items from plan_aside order by at desc, revision limit 1000")
	if err != nil {
		return nil, fmt.Errorf("read revisions kept aside: %w", err)
	}
	out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (k Kept, err error) {
		var made time.Time
		var items []byte
		if err := row.Scan(&k.ID, &k.Chosen, &k.Number, &made, &k.Author, &k.Reason, &items); err != nil {
			return k, err
		}
		k.At = made.UnixMicro()
		return k, json.Unmarshal(items, &k.Items)
	})
	if err != nil {
		return nil, fmt.Errorf("read revisions kept aside: %w", err)
	}
	return out, nil
}
