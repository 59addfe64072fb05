package scheduled

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"yarnpost/core/audit"
	"yarnpost/service/store"
)

// kept is a store that keeps nothing on disk.
type kept struct {
	schedule store.Schedule
	reports  []store.Report // newest first
	sent     [][]store.Target
	err      error
}

func (k *kept) Schedule(context.Context) (store.Schedule, error) { return k.schedule, k.err }

func (k *kept) SaveSchedule(_ context.Context, c store.Schedule) error {
	k.schedule = c
	return k.err
}

func (k *kept) Reports(context.Context) ([]store.Report, error) { return k.reports, k.err }

func (k *kept) SaveReport(_ context.Context, r store.Report, _ []byte, keep int, _ store.Queued, to []store.Target) (int64, error) {
	k.reports = append([]store.Report{r}, k.reports...)
	k.reports = k.reports[:min(len(k.reports), keep)]
	k.sent = append(k.sent, to)
	return int64(len(k.sent)), k.err
}

func (k *kept) Targets(context.Context) ([]store.Target, error) {
	return []store.Target{{Name: "desk"}}, k.err
}

type hands struct{ at time.Time }

func (h *hands) Now() time.Time { return h.at }

// A report is made at its moment and once, by whichever server sends; what was due while the service
// stood still is made once; one that fails is tried again after a while.
func TestReportsAreMade(t *testing.T) {
	clock := &hands{time.Date(2026, 11, 2, 5, 0, 0, 0, time.UTC)}
	db := &kept{}
	sends, fails := true, error(nil)
	var since []time.Time
	k := New(Parts{Store: db, Sends: func(audit.Area) bool { return sends }, Share: func(context.Context) {}, Wake: func() {},
		Server: func() string { return "bobbin" }, Clock: clock, Log: slog.New(slog.DiscardHandler)})
	tick := func(d time.Duration) int {
		clock.at = clock.at.Add(d)
		before := len(db.sent)
		k.Tick(t.Context())
		k.Tick(t.Context())
		return len(db.sent) - before
	}
	if err := k.Set(t.Context(), store.Schedule{Every: 24 * time.Hour, Begins: clock.at.Add(time.Hour), Keep: 3}); err != nil {
		t.Fatal(err)
	}
	if tick(2*time.Hour) != 0 {
		t.Fatal("one was made without anything to make it with")
	}
	k.MakeWith(func(_ context.Context, at time.Time) (Made, error) {
		since = append(since, at)
		return Made{Page: []byte("page"), Text: "all is well"}, fails
	})
	if tick(0) != 1 || tick(time.Hour) != 0 || tick(22*time.Hour) != 1 {
		t.Errorf("reports were made at %v", db.reports)
	}
	if !since[1].Equal(db.reports[1].At) {
		t.Errorf("the second is of what changed since %v, and the first was made at %v", since[1], db.reports[1].At)
	}
	sends = false
	if tick(9*24*time.Hour) != 1 || db.sent[len(db.sent)-1] != nil {
		t.Errorf("after nine days, at the server that sends nothing: %v", db.sent)
	}
	fails = errors.New("the disk is full")
	asked := len(since)
	if tick(24*time.Hour) != 0 || len(since) != asked+1 {
		t.Errorf("one that fails was tried %d times at once", len(since)-asked)
	}
	fails = nil
	if tick(retryAfter) != 1 || len(db.reports) != 3 {
		t.Errorf("kept are %v", db.reports)
	}
	// A schedule that begins in the past makes nothing of what passed before it was set.
	clock.at = clock.at.Add(time.Hour)
	if err := k.Set(t.Context(), store.Schedule{Every: 24 * time.Hour, Begins: clock.at.Add(-90 * time.Minute), Keep: 3}); err != nil {
		t.Fatal(err)
	}
	if tick(time.Minute) != 0 || tick(23*time.Hour) != 1 {
		t.Errorf("after a schedule that began before it was set: %v", db.reports)
	}
	db.err = errors.New("the database is away")
	if tick(48*time.Hour) != 0 {
		t.Error("a report was made without a database")
	}
}

// Schedules that make no sense are refused with what does.
func TestScheduleIsRefused(t *testing.T) {
	clock := &hands{time.Date(2026, 11, 2, 5, 0, 0, 0, time.UTC)}
	k := New(Parts{Store: &kept{}, Share: func(context.Context) {}, Clock: clock})
	for says, c := range map[string]store.Schedule{
		"each hour at most":       {Every: time.Minute, Keep: 1},
		"once a year at least":    {Every: 10000 * time.Hour, Keep: 1},
		"between 1 and 1000":      {Every: time.Hour, Keep: 1001},
		"is made within a year":   {Every: time.Hour, Keep: 1, Begins: clock.at.AddDate(2, 0, 0)},
		"within the last":         {Every: time.Hour, Keep: 1, Begins: time.Unix(-1<<40, 0)},
		"reports are made each h": {Every: -time.Hour, Keep: 1},
	} {
		if err := k.Set(t.Context(), c); !errors.Is(err, ErrSchedule) || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v", c, err)
		}
	}
	if err := k.Set(t.Context(), store.Schedule{}); err != nil {
		t.Errorf("none at all: %v", err)
	}
}
