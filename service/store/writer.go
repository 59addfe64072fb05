package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"yarnpost/service/journal"
)

// writer is the connection by which leases are recorded; it holds the writer's lock.
type writer struct {
	*pgx.Conn
	token string // of this run, for a database that was set back
	rows  rows

	commits *atomic.Uint64 // of the store
}

const recordName = "record"

var binaryFormat = []int16{pgx.BinaryFormatCode} // of every parameter

// StartJournal starts the journal of this database.
func (s *Store) StartJournal(ctx context.Context, log *slog.Logger, owner journal.Owner, now func() time.Time) (*journal.Journal, error) {
	j, err := journal.Start(ctx, journal.Config{Database: s, Epoch: s.epoch, Owner: owner, Now: now, Durable: s.mark.note, Log: log},
		s.newWriter(s.writer))
	if err == nil {
		s.writer = nil
	}
	return j, err
}

func (s *Store) newWriter(c *pgx.Conn) *writer {
	return &writer{c, s.tokenText(), newRows(), &s.commits}
}

// Take implements journal.Database.
func (s *Store) Take(ctx context.Context) (journal.Conn, error) {
	c, err := s.lock(ctx)
	if err != nil {
		return nil, err
	}
	return s.newWriter(c), nil
}

// Epoch implements journal.Database.
func (s *Store) Epoch(ctx context.Context) (epoch int64, err error) {
	err = s.pool.QueryRow(ctx, "select epoch from server").Scan(&epoch)
	return epoch, err
}

// Place implements journal.Conn.
func (w *writer) Place(ctx context.Context) (epoch, batch int64, err error) {
	err = w.QueryRow(ctx, "select epoch, last_batch from server").Scan(&epoch, &batch)
	if missing(err) {
		err = fmt.Errorf("%w: %w", journal.ErrSetBack, err)
	}
	return epoch, batch, err
}

// Closed implements journal.Conn.
func (w *writer) Closed() bool { return w.IsClosed() }

// Close implements journal.Conn.
func (w *writer) Close(ctx context.Context) { w.Conn.Close(ctx) }

// Prepare implements journal.Conn.
func (w *writer) Prepare(ctx context.Context) error {
	_, err := w.Conn.Prepare(ctx, recordName, record)
	return err
}

// Record implements journal.Conn.
func (w *writer) Record(ctx context.Context, b *journal.Batch) error {
	w.commits.Add(1)
	r := &w.rows
	r.fill(b.Entries)
	if err := w.recordSets(ctx, b.Forget); err != nil {
		return err
	}
	if r.count == 0 {
		return outcome(w.recordBody(ctx, b))
	}
	return outcome(w.recordRows(ctx, b))
}

// recordSets records sets and forgets others, which happens rarely, before anything of a
// batch is sent.
func (w *writer) recordSets(ctx context.Context, gone []int64) error {
	if len(gone) > 0 {
		if _, err := w.Exec(ctx, "delete from given_set where digest = any($1)", gone); err != nil {
			return certain(err)
		}
	}
	if len(w.rows.sets) > 0 {
		if _, err := w.Exec(ctx, saveSets, w.rows.digests, w.rows.sets); err != nil {
			return certain(err)
		}
	}
	return nil
}

const saveSets = "insert into given_set (digest, body) select * from unnest($1::bigint[], $2::bytea[]) on conflict do nothing"

// recordRows records leases, with the rest of a batch.
func (w *writer) recordRows(ctx context.Context, b *journal.Batch) error {
	result := w.PgConn().ExecPrepared(ctx, recordName, w.rows.values(b.Epoch, b.Number, b.After, b.At), binaryFormat, nil).Read()
	if result.Err == nil && result.CommandTag.RowsAffected() == 0 {
		return journal.ErrTurnedAway
	}
	return result.Err
}

// recordBody records where this server of a pair stands, and nothing else.
func (w *writer) recordBody(ctx context.Context, b *journal.Batch) error {
	var ours int // the pair may have ended meanwhile, which is no sign of another process
	err := w.QueryRow(ctx, `with mark as (update server set last_batch = $2 where epoch = $1 and last_batch = $4 returning 1),
		p as (update pair set record = $3::jsonb from mark) select count(*) from mark`, b.Epoch, b.Number, string(w.rows.body),
		b.After).Scan(&ours)
	if err == nil && ours == 0 {
		return journal.ErrTurnedAway
	}
	return err
}

// Try implements journal.Conn.
func (w *writer) Try(ctx context.Context, b *journal.Batch) error {
	if _, err := w.Exec(ctx, "begin"); err != nil {
		return err
	}
	w.rows.fill(b.Entries)
	err := w.recordRows(ctx, b)
	if err == nil {
		_, err = w.Exec(ctx, "update server set last_batch = last_batch")
	}
	if _, after := w.Exec(ctx, "rollback"); err == nil {
		err = after
	}
	return err
}

// outcome says what an error of a statement that is a transaction means.
func outcome(err error) error {
	var pg *pgconn.PgError
	switch {
	case err == nil, errors.Is(err, journal.ErrTurnedAway):
		return err
	case missing(err), errors.As(err, &pg) && pg.Severity == "ERROR", pgconn.SafeToRetry(err):
		return certain(err) // the server itself said that it did not happen, or never heard of it
	}
	return fmt.Errorf("%w: %w", journal.ErrUnknown, err)
}

// certain says what an error of a statement means that certainly did nothing: tables that
// were there are gone if somebody brings back an older state; and what the database refuses
// for what it holds has a SQLSTATE of class 22, 23 or 54.
func certain(err error) error {
	var pg *pgconn.PgError
	switch {
	case missing(err):
		return fmt.Errorf("%w: %w", journal.ErrSetBack, err)
	case errors.As(err, &pg) && len(pg.Code) == 5 && pg.Severity == "ERROR" && slices.Contains([]string{"22", "23", "54"}, pg.Code[:2]):
		return fmt.Errorf("%w: %w", journal.ErrUnfit, err)
	}
	return err
}

// Restore implements journal.Conn.
func (w *writer) Restore(ctx context.Context, epoch, batch int64, everything journal.Everything) (leases int, err error) {
	tx, err := w.Begin(ctx)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback(context.WithoutCancel(ctx)) //nolint:errcheck // after Commit it does nothing
	if _, err := tx.Exec(ctx, "set local statement_timeout = 0"); err != nil {
		return 0, err
	}
	tag, err := tx.Exec(ctx, "update server set epoch = $1, last_batch = $2, token = $3", epoch, batch, w.token)
	if err == nil && tag.RowsAffected() == 0 {
		err = errors.New("its tables are empty")
	}
	if err != nil {
		return 0, err
	}
	sets, body, err := everything(func(part []journal.Entry) error {
		leases += w.rows.fill(part)
		params := make([][]byte, 0, len(fields)+1)
		for i := range w.rows.columns {
			params = append(params, w.rows.columns[i])
		}
		return w.PgConn().ExecParams(ctx, restoreStatement(), append(params, w.rows.newest), nil, binaryFormat, nil).Read().Err
	})
	if err != nil {
		return 0, err
	}
	var digests []int64
	var bodies [][]byte
	for d, b := range sets {
		digests, bodies = append(digests, int64(d)), append(bodies, b)
	}
	if _, err := tx.Exec(ctx, saveSets, digests, bodies); err != nil {
		return 0, err
	}
	if body != nil {
		if _, err := tx.Exec(ctx, "update pair set record = $1::jsonb", string(body)); err != nil {
			return 0, err
		}
	}
	return leases, tx.Commit(ctx)
}
