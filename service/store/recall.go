package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// SaveRecall keeps what the service wants to remember over a restart.
func (s *Store) SaveRecall(ctx context.Context, at time.Time, body []byte) error {
	_, err := s.pool.Exec(ctx,
		"insert into recall (at, body) values ($1, $2) on conflict (one) do update set at = excluded.at, body = excluded.body", at, body)
	if err != nil {
		return fmt.Errorf("keep what is remembered: %w", err)
	}
	return nil
}

// LoadRecall gives what was last kept, and when; nil if nothing ever was.
func (s *Store) LoadRecall(ctx context.Context) (body []byte, at time.Time, err error) {
	err = s.pool.QueryRow(ctx, "select body, at from recall").Scan(&body, &at)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, at, nil
	}
	if err != nil {
		return nil, at, fmt.Errorf("read what is remembered: %w", err)
	}
	return body, at, nil
}
