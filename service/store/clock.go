package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/pair"
)

// ClockMark is the service's time, tied to the time since the host was started.
type ClockMark struct {
	Host string        // one start of the host
	Boot time.Duration // since then
	At   time.Time
}

// LoadClock gives the last mark that was kept; the zero value if none was.
func (s *Store) LoadClock(ctx context.Context) (m ClockMark, err error) {
	err = s.pool.QueryRow(ctx, "select host, boot, at from clock").Scan(&m.Host, &m.Boot, &m.At)
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return m, fmt.Errorf("read the clock's mark: %w", err)
	}
	return m, nil
}

const saveClock = `insert into clock (host, boot, at) values ($1, $2, $3)
	on conflict (one) do update set host = excluded.host, boot = excluded.boot, at = excluded.at`

// SaveClock keeps a mark.
func (s *Store) SaveClock(ctx context.Context, m ClockMark) error {
	return s.exec(ctx, "keep the clock's mark", saveClock, m.Host, int64(m.Boot), m.At)
}

// shiftPair moves the times along that a server of a pair keeps of where it stands.
func shiftPair(ctx context.Context, tx pgx.Tx, by time.Duration) error {
	var body []byte
	err := tx.QueryRow(ctx, "select record from pair").Scan(&body)
	if errors.Is(err, pgx.ErrNoRows) || err == nil && body == nil {
		return nil
	}
	if err != nil {
		return err
	}
	r, err := pair.ParseRecord(body)
	if err != nil {
		return err
	}
	r.Shift(by)
	_, err = tx.Exec(ctx, "update pair set record = $1::jsonb", string(r.Body()))
	return err
}

// ShiftLeases moves all times of the lease table, and of a pair, along, because the host's clock
// was set by that much while the service was away, and keeps the mark that says
// so. Call it before the leases are read.
func (s *Store) ShiftLeases(ctx context.Context, by time.Duration, m ClockMark) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "set local statement_timeout = 0"); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update lease set since = since + $1, changed = changed + $1, heard = heard + $1,
			expires = case when expires = 9223372036854775807 then expires else expires + $1 end,
			acked = case when acked in (0, 4294967295) then acked else greatest(acked + $1, 1) end,
			told = case when told in (0, 4294967295) then told else greatest(told + $1, 1) end`, int64(by/time.Second))
		if err != nil {
			return err
		}
		if err := shiftPair(ctx, tx, by); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update server set set_back = jsonb_set(set_back, '{until}', to_jsonb((set_back->>'until')::bigint + $1))
			where set_back is not null and (set_back->>'until')::bigint > 0`, int64(by/time.Second)); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, saveClock, m.Host, int64(m.Boot), m.At)
		return err
	})
	if err != nil {
		return fmt.Errorf("move the leases along with the clock: %w", err)
	}
	return nil
}
