package backup

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/service/store"
)

// room stands in for the service: its clock, and a database that can fail or lie.
type room struct {
	now   time.Time
	fails error
	short bool // what is written is cut short
}

func (r *room) Now() time.Time { return r.now }

func (r *room) Backup(_ context.Context, w io.Writer, m store.Manifest) error {
	m.Format = 1
	zip := gzip.NewWriter(w)
	out := tar.NewWriter(zip)
	for _, e := range []struct {
		name string
		v    any
	}{{"manifest.json", m}, {"sums.json", struct{}{}}} {
		if r.short && e.name == "sums.json" {
			break
		}
		b, err := json.Marshal(e.v)
		if err != nil {
			return err
		}
		if err := out.WriteHeader(&tar.Header{Name: e.name, Mode: 0o600, Size: int64(len(b))}); err != nil {
			return err
		}
		if _, err := out.Write(b); err != nil {
			return err
		}
	}
	return errors.Join(out.Close(), zip.Close(), r.fails)
}

// Backups come when they are due, so many are kept, and those of others are left alone; one that
// fails, or is not whole, is told and leaves nothing, and is tried again.
func TestSchedule(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "backups")
	r := &room{now: time.Date(2026, 12, 1, 3, 0, 0, 0, time.UTC)}
	parts := Parts{Config: Config{To: dir, Every: 6 * time.Hour, Keep: 3}, Store: r, Name: func() string { return "bobbin" }, Version: "x",
		Clock: r, Log: slog.New(slog.DiscardHandler)}
	k := New(parts)
	have := func(n int, newest string) {
		t.Helper()
		all, err := k.all()
		if err != nil || len(all) != n || n > 0 && all[n-1] != newest {
			t.Errorf("%v, %v; wanted %d, the last %s", all, err, n, newest)
		}
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".part") {
				t.Errorf("%s is left", e.Name())
			}
		}
	}
	says := func(want string) {
		t.Helper()
		if got := k.Text(); (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("it says %q, not %q", got, want)
		}
	}
	tick := func(after time.Duration) {
		r.now = r.now.Add(after)
		k.Tick(t.Context())
	}
	tick(0)
	have(1, "yarnpost-bobbin-2026-12-01T030000Z.backup")
	others := filepath.Join(dir, "yarnpost-bobbin-two-2020-01-01T000000Z.backup")
	if err := os.WriteFile(others, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	tick(5 * time.Hour)
	k = New(parts) // over a restart
	tick(59 * time.Minute)
	have(1, "yarnpost-bobbin-2026-12-01T030000Z.backup")
	for range 4 {
		tick(6 * time.Hour)
	}
	have(3, "yarnpost-bobbin-2026-12-02T085900Z.backup")
	if _, err := os.Stat(others); err != nil {
		t.Error("another server's backup is gone")
	}
	says("")
	r.fails = errors.New("no room")
	tick(6 * time.Hour)
	have(3, "yarnpost-bobbin-2026-12-02T085900Z.backup")
	says("no room; the last is of 2 Dec 08:59 UTC")
	r.fails, r.short = nil, true
	tick(time.Minute) // too soon to be tried again
	says("no room")
	tick(retryAfter)
	says("cut short")
	r.short = false
	tick(retryAfter)
	have(3, "yarnpost-bobbin-2026-12-02T152000Z.backup")
	says("")
	// A folder that went away is made anew; one that cannot be is told.
	if err := errors.Join(os.RemoveAll(dir), os.WriteFile(dir, nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	tick(time.Minute)
	if k.Text() == "" {
		t.Error("a folder that is none is not told")
	}
}
