// Package scheduled makes reports on a schedule, keeps so many of them, and has them sent
// where alerts go.
package scheduled

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"yarnpost/core/audit"
	"yarnpost/service/store"
)

// Store keeps the schedule and the reports.
type Store interface {
	Schedule(context.Context) (store.Schedule, error)
	SaveSchedule(context.Context, store.Schedule) error
	Reports(context.Context) ([]store.Report, error)
	SaveReport(ctx context.Context, r store.Report, page []byte, keep int, q store.Queued, targets []store.Target) (int64, error)
	Targets(context.Context) ([]store.Target, error)
}

// Parts are what a Keeper needs.
type Parts struct {
	Store  Store
	Sends  func(audit.Area) bool // whether this server of a pair sends what is of an area
	Share  func(context.Context) // tells the partner of the schedule
	Wake   func()                // has what is queued sent
	Server func() string
	Clock  interface{ Now() time.Time }
	Log    *slog.Logger
}

// Made is a report.
type Made struct {
	Page     []byte // of HTML
	Severity string // the worst that it tells of, or ""
	Text     string // in one line
}

// Keeper makes reports when they are due.
type Keeper struct {
	Parts
	mu    sync.Mutex
	make  Maker
	tried time.Time // when one could not be made
}

// Maker makes a report, which says what changed since a moment.
type Maker func(ctx context.Context, since time.Time) (Made, error)

// New makes a Keeper that makes no reports before it has something to make them with.
func New(p Parts) *Keeper { return &Keeper{Parts: p} }

// MakeWith sets what makes reports.
func (k *Keeper) MakeWith(f Maker) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.make = f
}

// Bounds of a schedule.
const (
	shortest = time.Hour
	longest  = 366 * 24 * time.Hour
	keepMost = 1000
)

// retryAfter is how long a report that could not be made is left alone.
const retryAfter = 10 * time.Minute

// ErrSchedule is wrapped by refusals of a schedule.
var ErrSchedule = errors.New("refused")

// Set sets when reports are made; no time between them ends that.
func (k *Keeper) Set(ctx context.Context, c store.Schedule) error {
	now := k.Clock.Now().UTC()
	switch {
	case c.Every < 0 || c.Every > 0 && (c.Every < shortest || c.Every > longest):
		return fmt.Errorf("%w: reports are made each hour at most, and once a year at least", ErrSchedule)
	case c.Every > 0 && (c.Keep < 1 || c.Keep > keepMost):
		return fmt.Errorf("%w: between 1 and %d reports are kept, and not %d", ErrSchedule, keepMost, c.Keep)
	case !c.Begins.IsZero() && c.Begins.Sub(now).Abs() > longest:
		return fmt.Errorf("%w: the first report is made within a year from now, or was to be made within the last", ErrSchedule)
	}
	if c.Begins.IsZero() {
		c.Begins = now
	}
	c.Begins, c.Changed = c.Begins.UTC().Truncate(time.Second), now
	if err := k.Store.SaveSchedule(ctx, c); err != nil {
		return err
	}
	k.Share(ctx)
	return nil
}

// Tick makes a report if one is due.
func (k *Keeper) Tick(ctx context.Context) {
	now := k.Clock.Now()
	maker := k.maker(now)
	if maker == nil {
		return
	}
	c, err := k.Store.Schedule(ctx)
	if err != nil || c.Every == 0 {
		return // while the database is away there is nothing to report to
	}
	list, err := k.Store.Reports(ctx)
	if err != nil {
		return
	}
	// The report of a moment before the schedule was set is nobody's wish any more.
	due, since := c.Due(now), now.Add(-c.Every)
	if due.IsZero() || due.Before(c.Changed.Truncate(time.Second)) {
		return
	}
	if len(list) > 0 {
		if since = list[0].At; !since.Before(due) {
			return
		}
	}
	if err := k.report(ctx, maker, c, since); err != nil {
		k.Log.Error("a report could not be made", "err", err)
		k.mu.Lock()
		defer k.mu.Unlock()
		k.tried = now
	}
}

// maker is what makes reports, or nil if nothing does yet, or one failed a short while ago. A clock
// that was set back ends that.
func (k *Keeper) maker(now time.Time) Maker {
	k.mu.Lock()
	defer k.mu.Unlock()
	if wait := now.Sub(k.tried); !k.tried.IsZero() && wait >= 0 && wait < retryAfter {
		return nil
	}
	return k.make
}

func (k *Keeper) report(ctx context.Context, maker Maker, c store.Schedule, since time.Time) error {
	m, err := maker(ctx, since)
	if err != nil {
		return err
	}
	var targets []store.Target
	if k.Sends(audit.InPlan) {
		if targets, err = k.Store.Targets(ctx); err != nil {
			return err
		}
	}
	now := k.Clock.Now().UTC().Truncate(time.Microsecond)
	severity, err := audit.ParseSeverity(m.Severity)
	if err != nil {
		severity = audit.Note
	}
	q := store.Queued{At: now, What: "report", Server: k.Server(), Alert: store.Alert{Key: "report", Since: since.UTC(),
		Finding: audit.Finding{Code: &audit.Code{ID: "report"}, Severity: severity, Subject: "report", Text: m.Text,
			Mend: "Read it.", Command: "yarnpost audit reports"}}}
	id, err := k.Store.SaveReport(ctx, store.Report{At: now, Severity: m.Severity, Text: m.Text}, m.Page, c.Keep, q, targets)
	if err != nil {
		return err
	}
	k.Log.Info("a report was made", "number", id, "sentTo", len(targets), "says", m.Text)
	k.Wake()
	return nil
}
