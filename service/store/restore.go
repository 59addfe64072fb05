package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/tern/v2/migrate"

	"yarnpost/service/journal"
)

// Restore puts a backup, which was read once to its end (ReadBackup), into an empty database: all of it
// or nothing. Alone leaves out the pair that the server was in. At its first start the service takes
// what it finds for what it is: of some moment ago (Watermark).
func Restore(ctx context.Context, dsn string, r io.Reader, alone bool) (m Manifest, err error) {
	s := &Store{dsn: dsn}
	conn, err := s.lockSoon(ctx)
	if errors.Is(err, journal.ErrLocked) {
		err = fmt.Errorf("%w: a service uses this database; stop it first", ErrBackup)
	}
	if err != nil {
		return m, fmt.Errorf("restore: %w", err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	migrator, err := migrator(ctx, conn)
	if err != nil {
		return m, fmt.Errorf("restore: %w", err)
	}
	if err := empty(ctx, conn, migrator); err != nil {
		return m, fmt.Errorf("restore: %w", err)
	}
	var into *copying
	m, err = ReadBackup(r, func(m Manifest) error {
		if err := toSchema(ctx, migrator, m); err != nil {
			return err
		}
		into, err = beginCopying(ctx, conn, m)
		return err
	}, func(table string, part []byte) error { return into.take(table, part) })
	if into != nil {
		err = into.end(err)
	}
	if err == nil {
		err = migrator.Migrate(ctx)
	}
	if err != nil {
		return m, fmt.Errorf("restore: %w", err)
	}
	said := fmt.Sprintf("it was restored from the backup that %s made at %s", m.Server, m.Made.UTC().Format("2 Jan 2006 15:04 UTC"))
	if _, err := conn.Exec(ctx, "update server set restored = $1, alone = $2 and exists (select from pair)", said, alone); err != nil {
		return m, fmt.Errorf("restore: %w", err)
	}
	return m, nil
}

// migrator brings the tables of a connection's database from version to version.
func migrator(ctx context.Context, conn *pgx.Conn) (*migrate.Migrator, error) {
	m, err := migrate.NewMigrator(ctx, conn, "schema_version")
	if err != nil {
		return nil, err
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return m, m.LoadMigrations(sub)
}

// empty refuses a database in which a server has worked.
func empty(ctx context.Context, conn *pgx.Conn, m *migrate.Migrator) error {
	version, err := m.GetCurrentVersion(ctx)
	if err != nil || version == 0 {
		return err
	}
	var worked bool
	err = conn.QueryRow(ctx, "select exists (select from plan_revision) or exists (select from lease) or exists (select from account)").Scan(&worked)
	if err == nil && worked {
		err = fmt.Errorf("%w: a server has worked here already; restore into an empty folder (--data) or database", ErrBackup)
	}
	return err
}

// toSchema brings empty tables to where those of a backup were.
func toSchema(ctx context.Context, m *migrate.Migrator, of Manifest) error {
	version, err := m.GetCurrentVersion(ctx)
	switch {
	case err != nil:
		return err
	case of.Schema > int32(len(m.Migrations)):
		return fmt.Errorf("%w: it was made by version %s, which is newer than this one; restore it with that", ErrBackup, of.Version)
	case version > of.Schema:
		return fmt.Errorf("%w: the tables here are newer than those of the backup; restore into an empty folder (--data) or database", ErrBackup)
	}
	return m.MigrateTo(ctx, of.Schema)
}

// copying copies the rows of tables, one after the other, in one transaction.
type copying struct {
	ctx   context.Context
	tx    pgx.Tx
	of    map[string]Backed
	table string
	pipe  *io.PipeWriter
	done  chan error
}

func beginCopying(ctx context.Context, conn *pgx.Conn, m Manifest) (*copying, error) {
	tx, err := conn.Begin(ctx)
	if err != nil {
		return nil, err
	}
	c := &copying{ctx: ctx, tx: tx, of: map[string]Backed{}}
	known, err := tables(ctx, tx, true)
	if err == nil {
		err = ours(m, known)
	}
	if err != nil {
		return nil, errors.Join(err, tx.Rollback(ctx))
	}
	for _, t := range m.Tables {
		c.of[t.Name] = t
		if _, err := tx.Exec(ctx, "delete from "+pgx.Identifier{t.Name}.Sanitize()); err != nil { // what migrations put there
			return nil, errors.Join(fmt.Errorf("table %s: %w", t.Name, err), tx.Rollback(ctx))
		}
	}
	return c, nil
}

// ours refuses a backup that speaks of anything else than the service's own tables.
func ours(m Manifest, known []Backed) error {
	for _, t := range m.Tables {
		i := slices.IndexFunc(known, func(k Backed) bool { return k.Name == t.Name })
		if i < 0 {
			return fmt.Errorf("%w: it is damaged: there is no table %.80q", ErrBackup, t.Name)
		}
		for _, c := range t.Columns {
			if !slices.Contains(known[i].Columns, c) {
				return fmt.Errorf("%w: it is damaged: table %s has no column %.80q", ErrBackup, t.Name, c)
			}
		}
	}
	return nil
}

// take takes a part of a table.
func (c *copying) take(table string, part []byte) error {
	if table != c.table {
		if err := c.close(nil); err != nil {
			return err
		}
		var r *io.PipeReader
		r, c.pipe = io.Pipe()
		c.table, c.done = table, make(chan error, 1)
		go func(sql string, done chan<- error) {
			_, err := c.tx.Conn().PgConn().CopyFrom(c.ctx, r, sql)
			r.CloseWithError(errors.Join(err, io.ErrClosedPipe)) // so that nobody waits to write
			done <- err
		}("copy "+pgx.Identifier{table}.Sanitize()+" ("+columnList(c.of[table])+") from stdin (format binary)", c.done)
	}
	if _, err := c.pipe.Write(part); err != nil { // the database refused what came before
		return c.close(nil)
	}
	return nil
}

// close ends the table that is being copied.
func (c *copying) close(why error) error {
	if c.pipe == nil {
		return why
	}
	c.pipe.CloseWithError(why) // nil is the end
	c.pipe = nil
	if err := <-c.done; err != nil && why == nil {
		return fmt.Errorf("table %s: %w", c.table, err)
	}
	return why
}

// end keeps all of it, or nothing if anything went wrong.
func (c *copying) end(failed error) error {
	if failed = c.close(failed); failed == nil {
		_, failed = c.tx.Exec(c.ctx, numbersGoOn)
	}
	if failed != nil {
		_ = c.tx.Rollback(context.WithoutCancel(c.ctx)) // the connection may be gone, and that with it
		return failed
	}
	return c.tx.Commit(c.ctx)
}

// numbersGoOn has the numbers that the database gives go on behind those that are taken.
const numbersGoOn = `select setval(pg_get_serial_sequence(quote_ident(table_name), column_name), greatest(1,
	(xpath('//m/text()', query_to_xml(format('select max(%I) as m from %I', column_name, table_name), true, true, '')))[1]::text::bigint))
	from information_schema.columns where table_schema = current_schema() and is_identity = 'YES'`
