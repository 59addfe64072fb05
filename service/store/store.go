// Package store is the room of records in PostgreSQL: plan revisions, the lease
// journal, history and accounts. It turns values of the core into rows and
// back, and decides nothing.
package store

import (
	"context"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/tern/v2/migrate"

	"yarnpost/core/plan"
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
	waits := newPatience()
	config.ConnConfig.Tracer = waits
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	s := &Store{pool: pool, dsn: dsn}
	// A process that was just killed may take a moment to let go of its lock.
	for range 100 {
		if s.writer, err = s.lock(ctx); err == nil || !errors.Is(err, journal.ErrLocked) {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if err == nil {
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
	m, err := migrate.NewMigrator(ctx, conn.Conn(), "schema_version")
	if err != nil {
		return err
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	if err := m.LoadMigrations(sub); err != nil {
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

// ErrStale is wrapped when a change was made against a revision that is no
// longer the newest.
var ErrStale = errors.New("the plan has changed meanwhile")

// Revision is one revision of the plan as recorded.
type Revision struct {
	Number int64
	At     time.Time
	Author string
	Reason string
	Lines  []plan.Line // filled by Revisions, the first ones at least
	Items  int         // how many items changed
	Length int         // how many lines tell of that
}

// planLock keeps a process that takes the database over apart from plan changes
// of the one before it that are still under way.
const planLock = writerLock + 1

func isCode(err error, code string) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == code
}

// ErrUnknown is wrapped when it is not known whether a revision was recorded:
// ask PlanRecorded once the database is back.
var ErrUnknown = errors.New("it is not known whether the change was recorded")

// PlanRecorded reports whether a revision of SavePlan is on record.
func (s *Store) PlanRecorded(ctx context.Context, r Revision) (bool, error) {
	var there bool
	err := s.pool.QueryRow(ctx, "select exists (select from plan_revision where revision = $1 and at = $2 and author = $3)", r.Number, r.At,
		r.Author).Scan(&there)
	if err != nil {
		return false, fmt.Errorf("look for plan revision %d: %w", r.Number, err)
	}
	return there, nil
}

// SavePlan records one revision with its changes in one transaction. An error
// that wraps ErrUnknown leaves open whether it did. The time of the revision
// tells it from others: it is kept in whole microseconds.
func (s *Store) SavePlan(ctx context.Context, r Revision, changes []plan.Change, lines func(plan.Change) []plan.Line) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("record plan revision %d: %w", r.Number, err)
	}
	defer conn.Release()
	filled := false // all but the commit is done
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		var last int64
		for _, c := range changes {
			last = max(last, int64(c.ID))
		}
		// No row is locked that the journal writes: whoever takes over waits for
		// this lock before it changes the epoch.
		var epoch int64
		if err := tx.QueryRow(ctx, "select epoch from server, pg_advisory_xact_lock_shared($1)", planLock).Scan(&epoch); err != nil {
			return err
		}
		if epoch != s.epoch {
			return journal.ErrFenced
		}
		_, err := tx.Exec(ctx,
			"insert into plan_revision (revision, at, author, reason, last_id) values ($1, $2, $3, $4, greatest($5, (select max(last_id) from plan_revision)))",
			r.Number, r.At, r.Author, r.Reason, last)
		for from := 0; from < len(changes) && err == nil; from += planPart {
			if from > 0 {
				time.Sleep(planPause)
			}
			err = savePart(ctx, tx, r.Number, from, changes[from:min(from+planPart, len(changes))], lines)
		}
		filled = err == nil
		return err
	})
	var pg *pgconn.PgError
	switch {
	case isCode(err, "23505"):
		err = ErrStale
	case err != nil && filled && !errors.As(err, &pg):
		err = fmt.Errorf("%w: %w", ErrUnknown, err)
	}
	if err != nil {
		return fmt.Errorf("record plan revision %d: %w", r.Number, err)
	}
	return nil
}

// A large change is recorded a part at a time: so many items, with a pause after each,
// in which the database has its processor and its log for the leases of clients.
const (
	planPart  = 100
	planPause = 10 * time.Millisecond
)

// savePart records some changes, the first of them with a number.
func savePart(ctx context.Context, tx pgx.Tx, revision int64, first int, changes []plan.Change, lines func(plan.Change) []plan.Line) error {
	n := len(changes)
	kinds, names, ids := make([]string, n), make([]string, n), make([]int64, n)
	befores, afters, texts := make([][]byte, n), make([][]byte, n), make([][]byte, n)
	parents := make([]*int64, n)
	for i, c := range changes {
		kinds[i], names[i], ids[i] = string(c.Kind), c.Name, int64(c.ID)
		var err error
		if befores[i], afters[i], err = encode(c.Before, c.After); err != nil {
			return err
		}
		if texts[i], err = json.Marshal(lines(c)); err != nil {
			return err
		}
		if c.After != nil {
			if id, ok := plan.Parent(c.Kind, c.After); ok {
				parents[i] = (*int64)(&id)
			}
		}
	}
	b := &pgx.Batch{}
	b.Queue(`insert into plan_change (revision, seq, kind, id, name, before, after, lines)
select $1::bigint, $2::int + n - 1, kind, id, name, before, after, lines
from unnest($3::text[], $4::bigint[], $5::text[], $6::jsonb[], $7::jsonb[], $8::jsonb[]) with ordinality x (kind, id, name, before, after,
	lines, n)`,
		revision, first, kinds, ids, names, befores, afters, texts)
	b.Queue(`delete from plan_item i using unnest($1::text[], $2::bigint[], $3::jsonb[]) x (kind, id, after)
where x.after is null and i.kind = x.kind and i.id = x.id`, kinds, ids, afters)
	b.Queue(`insert into plan_item (kind, id, parent, body)
select kind, id, parent, after from unnest($1::text[], $2::bigint[], $3::bigint[], $4::jsonb[]) x (kind, id, parent,
	after) where after is not null
on conflict (kind, id) do update set parent = excluded.parent, body = excluded.body`, kinds, ids, parents, afters)
	return tx.SendBatch(ctx, b).Close()
}

func encode(before, after plan.Item) (b, a []byte, err error) {
	if before != nil {
		if b, err = json.Marshal(before); err != nil {
			return nil, nil, err
		}
	}
	if after != nil {
		a, err = json.Marshal(after)
	}
	return b, a, err
}

// LoadPlan builds the newest revision from its items.
func (s *Store) LoadPlan(ctx context.Context) (*plan.Plan, error) {
	var revision, last int64
	err := s.pool.QueryRow(ctx, "select coalesce(max(revision), 0), coalesce(max(last_id), 0) from plan_revision").Scan(&revision, &last)
	if err != nil {
		return nil, fmt.Errorf("load plan: %w", err)
	}
	rows, err := s.pool.Query(ctx, "select kind, body from plan_item order by id")
	if err != nil {
		return nil, fmt.Errorf("load plan: %w", err)
	}
	items, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (i plan.Stored, err error) {
		var body []byte
		if err := row.Scan(&i.Kind, &body); err != nil {
			return i, err
		}
		i.Item, err = plan.Decode(i.Kind, body)
		return i, err
	})
	if err != nil {
		return nil, fmt.Errorf("load plan: %w", err)
	}
	p, err := plan.Restore(revision, items)
	if err != nil {
		return nil, err
	}
	return p.KeepIDsAbove(plan.ID(last)), nil
}

// Changes lists what a revision changed, in order; none if there is no such
// revision.
func (s *Store) Changes(ctx context.Context, revision int64) ([]plan.Change, error) {
	rows, err := s.pool.Query(ctx, "select kind, id, name, before, after from plan_change where revision = $1 order by seq", revision)
	if err != nil {
		return nil, fmt.Errorf("read revision %d: %w", revision, err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (c plan.Change, err error) {
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
	if err != nil {
		return nil, fmt.Errorf("read revision %d: %w", revision, err)
	}
	return out, nil
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
