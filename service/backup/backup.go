// Package backup takes backups on a schedule: each is written beside its place, read to its end, and
// put there; so many are kept.
package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"yarnpost/service/store"
)

// Store can be backed up.
type Store interface {
	Backup(context.Context, io.Writer, store.Manifest) error
}

// Config says where backups go, and how often.
type Config struct {
	To      string        // folder; "" for none
	Every   time.Duration // how far apart they are
	Keep    int           // how many are kept
	History bool          // with the history of leases
}

// Parts are what a keeper needs.
type Parts struct {
	Config
	Store   Store
	Name    func() string // what this server is called
	Version string        // of the service
	Clock   interface{ Now() time.Time }
	Log     *slog.Logger
}

// Keeper takes backups.
type Keeper struct {
	Parts
	mu     sync.Mutex
	begun  time.Time // when it was first looked whether one is due
	tried  time.Time // when one was taken, or not, last
	failed string    // why not
}

// New makes a keeper.
func New(p Parts) *Keeper { return &Keeper{Parts: p} }

// retryAfter is how long a backup that failed is left alone.
const retryAfter = 10 * time.Minute

// Tick takes a backup if one is due.
func (k *Keeper) Tick(ctx context.Context) {
	if k.To == "" || !k.due() {
		return
	}
	err := k.take(ctx)
	if err != nil {
		k.Log.Error("a backup could not be taken", "to", k.To, "err", err)
	}
	k.ended(err)
}

// due reports whether one is to be taken now. A clock that was set back makes none.
func (k *Keeper) due() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := k.Clock.Now()
	if k.begun.IsZero() {
		k.begun = now
	}
	if wait := now.Sub(k.tried); k.failed != "" && wait >= 0 && wait < retryAfter {
		return false
	}
	last, err := k.last()
	return err != nil || now.Sub(last) >= k.Every
}

func (k *Keeper) ended(err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.tried, k.failed = k.Clock.Now(), ""; err != nil {
		k.failed = err.Error()
	}
}

// last is when the newest backup of this server was taken; zero if there is none.
func (k *Keeper) last() (time.Time, error) {
	all, err := k.all()
	if err != nil || len(all) == 0 {
		return time.Time{}, err
	}
	at, _ := store.BackupTime(all[len(all)-1])
	return at, nil
}

// all are the names of this server's backups, the oldest first.
func (k *Keeper) all() (out []string, err error) {
	entries, err := os.ReadDir(k.To)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	mine := store.Manifest{Server: k.Name()}.FileName()
	prefix := mine[:strings.LastIndex(mine, "-0001-")+1]
	for _, e := range entries {
		if _, ok := store.BackupTime(e.Name()); ok && strings.HasPrefix(e.Name(), prefix) && len(e.Name()) == len(mine) {
			out = append(out, e.Name())
		}
	}
	slices.Sort(out)
	return out, nil
}

// take takes one, reads it to its end, and lets the oldest go.
func (k *Keeper) take(ctx context.Context) error {
	if err := os.MkdirAll(k.To, 0o700); err != nil {
		return err
	}
	part, err := os.CreateTemp(k.To, ".part-")
	if err != nil {
		return err
	}
	defer os.Remove(part.Name()) // gone if all went well
	defer part.Close()
	m := store.Manifest{Made: k.Clock.Now().UTC().Truncate(time.Second), Server: k.Name(), Version: k.Version, History: k.History}
	err = errors.Join(k.Store.Backup(ctx, part, m), part.Sync())
	if err == nil {
		_, err = part.Seek(0, 0)
	}
	if err == nil {
		_, err = store.ReadBackup(part, nil, nil)
	}
	if err == nil {
		err = os.Rename(part.Name(), filepath.Join(k.To, m.FileName()))
	}
	if err != nil {
		return err
	}
	k.Log.Info("a backup was taken", "file", filepath.Join(k.To, m.FileName()))
	all, err := k.all()
	for ; err == nil && len(all) > max(k.Keep, 1); all = all[1:] {
		err = os.Remove(filepath.Join(k.To, all[0]))
	}
	return err
}

// Text says what is wrong with the backups, or "": the last failed, or is too old.
func (k *Keeper) Text() string {
	if k.To == "" {
		return ""
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	last, err := k.last()
	now, late := k.Clock.Now(), k.Every+k.Every/2
	since := "there is none yet"
	if !last.IsZero() {
		since = "the last is of " + last.Format("2 Jan 15:04 UTC")
	}
	switch {
	case err != nil:
		return fmt.Sprintf("the folder of backups cannot be read: %v", err)
	case k.failed != "":
		return fmt.Sprintf("a backup could not be taken: %s; %s", k.failed, since)
	case !k.begun.IsZero() && now.Sub(last) > late && now.Sub(k.begun) > late:
		return since
	}
	return ""
}
