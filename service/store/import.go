package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// OpenBeside opens the records of a service that runs, for what only adds to its
// past.
func OpenBeside(ctx context.Context, dsn string) (*Store, error) {
	pool, err := pgxpool.New(ctx, dsn)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	return &Store{pool: pool, dsn: dsn}, nil
}

// AddPast adds lines to the history. Days that have no room of their own get it.
func (s *Store) AddPast(ctx context.Context, events []Event, now time.Time) error {
	events = slices.Clone(events)
	slices.SortStableFunc(events, func(a, b Event) int { return a.At.Compare(b.At) })
	for i, e := range events {
		day := e.At.UTC().Truncate(24 * time.Hour)
		if i == 0 || !day.Equal(events[i-1].At.UTC().Truncate(24*time.Hour)) {
			if err := s.openDay(ctx, day); err != nil {
				return err
			}
		}
	}
	columns := append([]string{"at"}, strings.FieldsFunc(pastColumns, func(r rune) bool { return r == 44 || r == 32 })...)
	_, err := s.pool.CopyFrom(ctx, pgx.Identifier{"lease_history"}, columns, pgx.CopyFromSlice(len(events), func(i int) ([]any, error) {
		l := &events[i].Lease
		values := map[string]any{"address": l.Prefix, "status": int16(l.Status), "client": l.Client.Append(nil), "hardware": []byte(l.Hardware),
			"hostname": l.Hostname, "vendor": l.Vendor, "circuit": []byte(l.Circuit), "relay": nil, "since": int64(l.Since),
			"expires": int64(l.Expires),
			"given":   int64(l.Given), "given_by": int16(l.By)}
		if l.Relay.IsValid() {
			values["relay"] = l.Relay
		}
		row := []any{events[i].At}
		for _, c := range columns[1:] {
			row = append(row, values[c])
		}
		return row, nil
	}))
	for i := 1; i <= 3 && err == nil; i++ {
		err = s.closeDay(ctx, now.UTC().Truncate(24*time.Hour).AddDate(0, 0, -i))
	}
	if err != nil {
		return fmt.Errorf("add to the history: %w", err)
	}
	return nil
}
