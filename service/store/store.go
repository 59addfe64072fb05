// Package store keeps records in PostgreSQL: plan revisions, the lease
// journal, history and accounts. It turns values of the core into rows and
// back, and decides nothing.
package store

import (
	"context"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"yarnpost/service/journal"
)

//go:embed migrations/*.sql
var migrations embed.FS

// writerLock is the advisory lock that the one writing service holds.
const writerLock = 0x7961726e // "yarn"

// Store is an open database. Reads and plan changes go through a pool of their
// own, so that they never wait for the journal's connection.
type Store struct {
	pool    *pgxpool.Pool
	dsn     string
	epoch   int64
	last    int64              // batch of the run before
	token   string             // of the run before
	mark    *mark              // nil: none is kept
	writer  *pgx.Conn          // holds the writer's lock until the journal takes it over
	commits atomic.Uint64      // batches of leases that were handed to the database
	unwatch context.CancelFunc // ends the look whether the database gives a sign; nil for none
}

// Open takes the database for this process, refusing while another service
// holds it, and migrates the schema. The epoch it draws fences off any writer
// that comes back from the dead.
func Open(ctx context.Context, dsn string) (*Store, error) {
	config, err := pgxpool.ParseConfig(dsn)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	config.MaxConns = 6
	config.ConnConfig.RuntimeParams["statement_timeout"] = "20000"
	config.ConnConfig.RuntimeParams["timezone"] = "UTC"
	waits := newBreaker()
	config.ConnConfig.Tracer = waits
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	s := &Store{pool: pool, dsn: dsn}
	if s.writer, err = s.lockSoon(ctx); err == nil {
		err = s.prepare(ctx)
	}
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	watched, unwatch := context.WithCancel(context.Background())
	s.unwatch = unwatch
	own := config.ConnConfig.Copy()
	own.Tracer = nil
	go waits.watch(watched, own)
	return s, nil
}

// lockSoon locks as soon as a process that was just killed lets go of its lock, which may take
// it a moment.
func (s *Store) lockSoon(ctx context.Context) (conn *pgx.Conn, err error) {
	for range 100 {
		if conn, err = s.lock(ctx); err == nil || !errors.Is(err, journal.ErrLocked) {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return conn, err
}

// lock opens a connection for the journal that holds the writer's lock. The
// lock ends with the connection, so no commit of an earlier writer can still be
// under way once it is had.
func (s *Store) lock(ctx context.Context) (*pgx.Conn, error) {
	config, err := pgx.ParseConfig(s.dsn)
	if err != nil {
		return nil, err
	}
	// One statement all day long: it is planned once.
	config.RuntimeParams["plan_cache_mode"] = "force_generic_plan"
	config.RuntimeParams["jit"] = "off"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	var locked bool
	err = conn.QueryRow(ctx, "select pg_try_advisory_lock($1)", writerLock).Scan(&locked)
	if err == nil && !locked {
		err = journal.ErrLocked
	}
	if err != nil {
		conn.Close(ctx)
		return nil, err
	}
	return conn, nil
}

func (s *Store) prepare(ctx context.Context) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	m, err := migrator(ctx, conn.Conn())
	if err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, "set statement_timeout = 0"); err != nil { // a large table takes its time
		return err
	}
	if err := m.Migrate(ctx); err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, "reset statement_timeout"); err != nil {
		return err
	}
	var fsync, commit string
	if err := conn.QueryRow(ctx, "select current_setting('fsync'), current_setting('synchronous_commit')").Scan(&fsync,
		&commit); err != nil {
		return err
	}
	if fsync != "on" || commit == "off" {
		return fmt.Errorf("it does not keep what it confirms (fsync %s, synchronous_commit %s); turn both on", fsync, commit)
	}
	// A plan change of an earlier process may still be under way.
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1)", planLock); err != nil {
		return err
	}
	err = conn.QueryRow(ctx, "update server set epoch = epoch + 1 returning epoch, last_batch, token").Scan(&s.epoch, &s.last, &s.token)
	if _, after := conn.Exec(ctx, "select pg_advisory_unlock($1)", planLock); err == nil {
		err = after
	}
	return err
}

// tokenText is the token of this run, or "".
func (s *Store) tokenText() string {
	if s.mark == nil {
		return ""
	}
	return hex.EncodeToString(s.mark.token[:])
}

// Close ends all connections but the journal's own.
func (s *Store) Close() {
	if s.writer != nil {
		s.writer.Close(context.Background())
	}
	if s.unwatch != nil {
		s.unwatch()
	}
	if s.mark != nil {
		s.mark.file.Close()
	}
	s.pool.Close()
}

func isCode(err error, code string) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == code
}

// LoadSets gives every recorded set of what clients asked with and were given,
// by its digest.
func (s *Store) LoadSets(ctx context.Context) (map[uint64][]byte, error) {
	rows, err := s.pool.Query(ctx, "select digest, body from given_set")
	if err != nil {
		return nil, fmt.Errorf("load given options: %w", err)
	}
	out := map[uint64][]byte{}
	var digest int64
	var body []byte
	if _, err = pgx.ForEachRow(rows, []any{&digest, &body}, func() error {
		out[uint64(digest)] = append([]byte(nil), body...)
		return nil
	}); err != nil {
		return nil, fmt.Errorf("load given options: %w", err)
	}
	return out, nil
}
