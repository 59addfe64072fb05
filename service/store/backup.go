package store

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// A backup is a gzipped tar archive: manifest.json, then the rows of each table as PostgreSQL copies
// them (binary), in parts, then sums.json, without which it is cut short. All is of one moment.

// Manifest says what a backup is.
type Manifest struct {
	Format  int       `json:"yarnpost-backup"` // 1
	Made    time.Time `json:"made"`
	Server  string    `json:"server"`
	Version string    `json:"version"` // of the service that made it
	Schema  int32     `json:"schema"`  // how many migrations its tables have been through
	History bool      `json:"history"` // it has the history of leases
	Tables  []Backed  `json:"tables"`
	Rows    int64     `json:"-"` // of all tables, once it was read
	Leases  int64     `json:"-"`
	Plan    int64     `json:"-"` // revisions
}

// Backed is a table of a backup.
type Backed struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
}

// sum is what a table of a backup must come to.
type sum struct {
	Rows   int64  `json:"rows"`
	SHA256 string `json:"sha256"`
}

const (
	backupFormat = 1
	backupPart   = 1 << 20 // octets of rows in one part
	partMost     = 64 << 20
)

// notBacked are the tables that a backup has not: what is of this host, or over with this run.
var notBacked = []string{"schema_version", "session", "clock"}

// ErrBackup is wrapped when a backup cannot be read, or not be restored here.
var ErrBackup = errors.New("backup")

// Backup writes a backup.
func (s *Store) Backup(ctx context.Context, w io.Writer, m Manifest) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("back up: %w", err)
	}
	defer conn.Release()
	err = pgx.BeginTxFunc(ctx, conn, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "set local statement_timeout = 0"); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, "select version from schema_version").Scan(&m.Schema); err != nil {
			return err
		}
		m.Format = backupFormat
		if m.Tables, err = tables(ctx, tx, m.History); err != nil {
			return err
		}
		return writeBackup(ctx, tx, w, m)
	})
	if err != nil {
		return fmt.Errorf("back up: %w", err)
	}
	return nil
}

// tables are the tables of a backup with their columns.
func tables(ctx context.Context, tx pgx.Tx, history bool) ([]Backed, error) {
	rows, err := tx.Query(ctx, `select c.relname, array_agg(a.attname::text order by a.attnum)
		from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid
		where n.nspname = current_schema() and c.relkind in ('r', 'p') and not c.relispartition
			and a.attnum > 0 and not a.attisdropped and a.attgenerated = ''
		group by c.oid, c.relname
		order by exists (select from pg_constraint k where k.contype = 'f' and k.confrelid = c.oid) desc, c.relname`) // what others refer to first
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Backed])
	return slices.DeleteFunc(all, func(t Backed) bool {
		return slices.Contains(notBacked, t.Name) || t.Name == "lease_history" && !history
	}), err
}

func writeBackup(ctx context.Context, tx pgx.Tx, w io.Writer, m Manifest) error {
	zip := gzip.NewWriter(w)
	out := tar.NewWriter(zip)
	put := func(name string, b []byte) error {
		if err := out.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(b)), ModTime: m.Made}); err != nil {
			return err
		}
		_, err := out.Write(b)
		return err
	}
	head, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	if err := put("manifest.json", head); err != nil {
		return err
	}
	sums := map[string]sum{}
	for _, t := range m.Tables {
		p := &parts{put: put, table: t.Name}
		h := sha256.New()
		done, err := tx.Conn().PgConn().CopyTo(ctx, io.MultiWriter(h, p), "copy (select "+columnList(t)+" from "+
			pgx.Identifier{t.Name}.Sanitize()+") to stdout (format binary)")
		if err == nil {
			err = p.flush()
		}
		if err != nil {
			return fmt.Errorf("table %s: %w", t.Name, err)
		}
		sums[t.Name] = sum{done.RowsAffected(), hex.EncodeToString(h.Sum(nil))}
	}
	foot, err := json.MarshalIndent(sums, "", "  ")
	if err != nil {
		return err
	}
	return errors.Join(put("sums.json", foot), out.Close(), zip.Close())
}

func columnList(t Backed) string {
	var out []string
	for _, c := range t.Columns {
		out = append(out, pgx.Identifier{c}.Sanitize())
	}
	return strings.Join(out, ", ")
}

// parts writes what comes of a table as entries of an archive.
type parts struct {
	put    func(name string, b []byte) error
	table  string
	number int
	buffer []byte
}

func (p *parts) Write(b []byte) (int, error) {
	p.buffer = append(p.buffer, b...)
	if len(p.buffer) < backupPart {
		return len(b), nil
	}
	return len(b), p.flush()
}

func (p *parts) flush() error {
	if len(p.buffer) == 0 {
		return nil
	}
	p.number++
	err := p.put(fmt.Sprintf("%s/%06d", p.table, p.number), p.buffer)
	p.buffer = p.buffer[:0]
	return err
}

// ReadBackup reads a backup and gives each part of a table to take, which may be nil; it ends with an
// error that wraps ErrBackup unless the whole file is what was written.
func ReadBackup(r io.Reader, begin func(Manifest) error, take func(table string, part []byte) error) (m Manifest, err error) {
	zip, err := gzip.NewReader(r)
	if err != nil {
		return m, fmt.Errorf("%w: it is none of Yarn Post's (%v)", ErrBackup, err)
	}
	in := tar.NewReader(zip)
	b, name, err := entry(in)
	if err != nil || name != "manifest.json" || json.Unmarshal(b, &m) != nil || m.Format == 0 {
		return m, fmt.Errorf("%w: it is none of Yarn Post's: it does not begin with a manifest", ErrBackup)
	}
	if m.Format > backupFormat {
		return m, fmt.Errorf("%w: its format is %d, and this version reads %d at most; use the version that made it (%s)", ErrBackup, m.Format,
			backupFormat, m.Version)
	}
	if begin != nil {
		if err := begin(m); err != nil {
			return m, err
		}
	}
	hashes := map[string]interface {
		io.Writer
		Sum([]byte) []byte
	}{}
	for _, t := range m.Tables {
		hashes[t.Name] = sha256.New()
	}
	for {
		b, name, err := entry(in)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return m, fmt.Errorf("%w: it is cut short; it was not written to its end", ErrBackup)
		} else if err != nil {
			return m, fmt.Errorf("%w: it is damaged: %v", ErrBackup, err)
		}
		if name == "sums.json" {
			return m, m.check(b, hashes, zip)
		}
		table, _, _ := strings.Cut(name, "/")
		h := hashes[table]
		if h == nil {
			return m, fmt.Errorf("%w: it is damaged: %.80q is no part of it", ErrBackup, name)
		}
		_, _ = h.Write(b) // never fails
		if take != nil {
			if err := take(table, b); err != nil {
				return m, err
			}
		}
	}
}

func entry(in *tar.Reader) (b []byte, name string, err error) {
	h, err := in.Next()
	if err != nil {
		return nil, "", err
	}
	if h.Size > partMost {
		return nil, "", fmt.Errorf("%.80q has %d octets", h.Name, h.Size)
	}
	b = make([]byte, h.Size)
	_, err = io.ReadFull(in, b)
	return b, h.Name, err
}

// check holds what was read against the sums, and sees that nothing comes behind them.
func (m *Manifest) check(b []byte, hashes map[string]interface {
	io.Writer
	Sum([]byte) []byte
}, rest io.Reader) error {
	var sums map[string]sum
	if err := json.Unmarshal(b, &sums); err != nil || len(sums) != len(hashes) {
		return fmt.Errorf("%w: it is damaged: its sums cannot be read", ErrBackup)
	}
	for _, name := range slices.Sorted(maps.Keys(hashes)) {
		if s, ok := sums[name]; !ok || s.SHA256 != hex.EncodeToString(hashes[name].Sum(nil)) {
			return fmt.Errorf("%w: it is damaged: table %s is not what was written", ErrBackup, name)
		}
		m.Rows += sums[name].Rows
	}
	m.Leases, m.Plan = sums["lease"].Rows, sums["plan_revision"].Rows
	if _, err := io.Copy(io.Discard, rest); err != nil { // to its own sum
		return fmt.Errorf("%w: it is damaged: %v", ErrBackup, err)
	}
	return nil
}

// FileName is what the file of a backup is called: by server and time.
func (m Manifest) FileName() string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, m.Server)
	return "yarnpost-" + name + "-" + m.Made.UTC().Format(fileTime) + fileEnd
}

const (
	fileTime = "2006-01-02T150405Z"
	fileEnd  = ".backup"
)

// BackupTime is when a backup was made, by the name of its file.
func BackupTime(file string) (at time.Time, ok bool) {
	name, ok := strings.CutSuffix(file, fileEnd)
	if !ok || len(name) < len(fileTime) || !strings.HasPrefix(name, "yarnpost-") {
		return at, false
	}
	at, err := time.Parse(fileTime, name[len(name)-len(fileTime):])
	return at, err == nil
}
