package store

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// archive is a backup with the entries given, each as it is.
func archive(t testing.TB, entries ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	zip := gzip.NewWriter(&b)
	out := tar.NewWriter(zip)
	for _, e := range entries {
		if err := out.WriteHeader(&tar.Header{Name: e[0], Mode: 0o600, Size: int64(len(e[1]))}); err != nil {
			t.Fatal(err)
		}
		if _, err := out.Write([]byte(e[1])); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(out.Close(), zip.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

const (
	leaseOnly = `{"yarnpost-backup": 1, "server": "bobbin", "schema": 15, "tables": [{"name": "lease", "columns": ["address"]}]}`
	sumOfRows = `{"lease": {"rows": 1, "sha256": "2c26b46b68ffc68ff99b453c1d30413413422d706483bfa0f98a5e886266e7ae"}}` // of "foo"
)

// Whatever a file is, it is read to its end or refused with a word that tells why.
func TestReadBackup(t *testing.T) {
	good := archive(t, [2]string{"manifest.json", leaseOnly}, [2]string{"lease/000001", "fo"}, [2]string{"lease/000002", "o"},
		[2]string{"sums.json", sumOfRows})
	for _, c := range []struct {
		what string
		file []byte
		says string
	}{
		{"a good one", good, ""},
		{"nothing", nil, "none of Yarn Post's"},
		{"text", []byte("hello"), "none of Yarn Post's"},
		{"another archive", archive(t, [2]string{"letter.txt", "hello"}), "does not begin with a manifest"},
		{"of a later format", archive(t, [2]string{"manifest.json", strings.Replace(leaseOnly, ": 1", ": 2", 1)}), "its format is 2"},
		{"no sums", archive(t, [2]string{"manifest.json", leaseOnly}, [2]string{"lease/000001", "foo"}), "cut short"},
		{"other rows", archive(t, [2]string{"manifest.json", leaseOnly}, [2]string{"lease/000001", "fox"}, [2]string{"sums.json",
			sumOfRows}),
			"table lease is not what was written"},
		{"rows of another table", archive(t, [2]string{"manifest.json", leaseOnly}, [2]string{"account/000001", "foo"},
			[2]string{"sums.json", sumOfRows}), "no part of it"},
		{"sums of another table", archive(t, [2]string{"manifest.json", leaseOnly}, [2]string{"lease/000001", "foo"},
			[2]string{"sums.json", `{"account": {}}`}), "table lease"},
	} {
		m, err := ReadBackup(bytes.NewReader(c.file), nil, nil)
		if c.says == "" && (err != nil || m.Leases != 1) || c.says != "" && (!errors.Is(err, ErrBackup) ||
			!strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %+v, %v", c.what, m, err)
		}
	}
	for i := range good { // an octet less, and another octet
		if _, err := ReadBackup(bytes.NewReader(good[:i]), nil, nil); !errors.Is(err, ErrBackup) {
			t.Fatalf("cut after %d octets: %v", i, err)
		}
	}
	var m Manifest
	if err := json.Unmarshal([]byte(leaseOnly), &m); err != nil {
		t.Fatal(err)
	}
	for _, known := range [][]Backed{nil, {{"lease", nil}}, {{"pg_authid", []string{"address"}}}} {
		if err := ours(m, known); !errors.Is(err, ErrBackup) {
			t.Errorf("with %v: %v", known, err)
		}
	}
}

// A backup of an older version is restored by this one; it goes into an empty database alone, all of it
// or nothing, and the numbers that the database gives go on.
func TestRestoreOlder(t *testing.T) {
	ctx := context.Background()
	old := fresh(t)
	conn, err := pgx.Connect(ctx, old)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	m, err := migrator(ctx, conn)
	if err != nil {
		t.Fatal(err)
	}
	if err := m.MigrateTo(ctx, 13); err != nil { // before changes could be prepared
		t.Fatal(err)
	}
	for _, sql := range []string{"insert into account (name, password, must_change, changed) values ('admin', 'x', false, now())",
		"insert into token (hash, name, account) values ('h', 'desk', 'admin')", "insert into plan_revision values (1, now(), 'admin', 'why', 7)",
		"insert into plan_change (revision, seq, kind, id, name, lines) values (1, 0, 'link', 7, 'looms', '[]')",
		"insert into trail (at, who, source, deed, subject, reason, detail) select now(), 'admin', '', 'swept', '', '', '' from generate_series(1, 5)",
		"update server set epoch = 4, last_batch = 9"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			t.Fatal(sql, err)
		}
	}
	beside, err := OpenBeside(ctx, old)
	if err != nil {
		t.Fatal(err)
	}
	defer beside.Close()
	var file bytes.Buffer
	if err := beside.Backup(ctx, &file, Manifest{Made: time.Now(), Server: "bobbin", Version: "0.0.9", History: true}); err != nil {
		t.Fatal(err)
	}
	into := fresh2(t)
	for _, bad := range [][]byte{file.Bytes()[:file.Len()-40], bytes.Replace(file.Bytes(), nil, []byte("x"), 1)} {
		if _, err := Restore(ctx, into, bytes.NewReader(bad), false); !errors.Is(err, ErrBackup) {
			t.Errorf("a bad file: %v", err)
		}
	}
	for try := range 2 {
		_, err := Restore(ctx, into, bytes.NewReader(file.Bytes()), false)
		if try == 0 && err != nil || try == 1 && (!errors.Is(err, ErrBackup) || !strings.Contains(err.Error(), "worked here already")) {
			t.Fatalf("try %d: %v", try, err)
		}
	}
	s := open(t, into)
	if p, err := s.Revisions(ctx, 0, 10, 10); err != nil || len(p) != 1 || p[0].Reason != "why" || p[0].Items != 1 {
		t.Errorf("%+v %v", p, err)
	}
	if rows, err := s.Prepared(ctx); err != nil || len(rows) != 0 {
		t.Errorf("%v %v", rows, err)
	}
	if _, err := s.pool.Exec(ctx, "insert into trail (at, who, source, deed, subject, reason, detail) values (now(), 'a', '', 'b', '', '', '')"); err != nil {
		t.Errorf("the numbers do not go on: %v", err)
	}
	how, err := s.Watermark(ctx, t.TempDir(), quiet)
	if err != nil || !strings.Contains(how, "restored from the backup that bobbin made") {
		t.Errorf("%q %v", how, err)
	}
	if err := s.SaveSetBack(ctx, SetBack{Text: how}); err != nil {
		t.Fatal(err)
	}
	if how, err := s.Watermark(ctx, t.TempDir(), quiet); err != nil || how != "" {
		t.Errorf("it is told again: %q %v", how, err)
	}
}

// No file makes the reader panic, or take more memory than a part has.
func FuzzReadBackup(f *testing.F) {
	f.Add(archive(f, [2]string{"manifest.json", leaseOnly}, [2]string{"lease/000001", "foo"}, [2]string{"sums.json", sumOfRows}))
	f.Add([]byte("hello"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, err := ReadBackup(bytes.NewReader(b), nil, nil); err != nil && !errors.Is(err, ErrBackup) {
			t.Error(err)
		}
	})
}
