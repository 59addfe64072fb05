package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Prepared is a change of the plan in preparation, as it is kept.
type Prepared struct {
	Name    string    `json:"name"` // in small letters
	Changed time.Time `json:"changed"`
	Body    []byte    `json:"body,omitempty"` // JSON; nil: it is gone
}

// preparedKept is for how long it is kept that a change in preparation is gone.
const preparedKept = 90 * 24 * time.Hour

// Prepared lists the changes in preparation, and those that are gone.
func (s *Store) Prepared(ctx context.Context) ([]Prepared, error) {
	rows, err := s.pool.Query(ctx, "select name, changed, body from prepared order by name")
	if err != nil {
		return nil, fmt.Errorf("read changes in preparation: %w", err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Prepared])
	if err != nil {
		return nil, fmt.Errorf("read changes in preparation: %w", err)
	}
	return out, nil
}

// SavePrepared records changes in preparation, each unless a later state of it is on record.
func (s *Store) SavePrepared(ctx context.Context, list ...Prepared) error {
	b := &pgx.Batch{}
	for _, p := range list {
		b.Queue(`insert into prepared (name, changed, body) values ($1, $2, $3)
			on conflict (name) do update set changed = excluded.changed, body = excluded.body where prepared.changed < excluded.changed`,
			p.Name, p.Changed, p.Body)
		b.Queue("delete from prepared where body is null and changed < $1", p.Changed.Add(-preparedKept))
	}
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error { return tx.SendBatch(ctx, b).Close() })
	if err != nil {
		return fmt.Errorf("record a change in preparation: %w", err)
	}
	return nil
}
