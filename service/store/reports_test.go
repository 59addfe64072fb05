package store

import (
	"context"
	"testing"
	"time"

	"yarnpost/core/audit"
)

// When reports are due, and when the next is.
func TestSchedule(t *testing.T) {
	week := Schedule{Every: 7 * 24 * time.Hour, Begins: began}
	for _, c := range []struct {
		of        Schedule
		at        time.Duration
		due, next time.Duration // since it began; -1: never
	}{
		{week, -time.Hour, -1, 0},
		{week, 0, 0, week.Every},
		{week, week.Every - time.Second, 0, week.Every},
		{week, week.Every, week.Every, 2 * week.Every},
		{week, 10*week.Every + time.Hour, 10 * week.Every, 11 * week.Every},
		{Schedule{Begins: began}, time.Hour, -1, -1},
	} {
		now := began.Add(c.at)
		for _, x := range []struct {
			what string
			got  time.Time
			want time.Duration
		}{{"due", c.of.Due(now), c.due}, {"next", c.of.Next(now), c.next}} {
			if want := began.Add(x.want); x.want < 0 && !x.got.IsZero() || x.want >= 0 && !x.got.Equal(want) {
				t.Errorf("every %v, %v after it began: %s is %v", c.of.Every, c.at, x.what, x.got)
			}
		}
	}
}

// Reports are kept in a number, with what is to be sent of them; of two schedules the newer counts.
func TestReportsOnRecord(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	if c := ok[Schedule](t)(s.Schedule(ctx)); c != (Schedule{}) {
		t.Errorf("nobody set a schedule, and it is %+v", c)
	}
	set := func(days int, changed time.Duration) {
		t.Helper()
		c := Schedule{Every: time.Duration(days) * 24 * time.Hour, Begins: began, Keep: 2, Changed: began.Add(changed)}
		if err := s.SaveSchedule(ctx, c); err != nil {
			t.Fatal(err)
		}
	}
	set(7, time.Hour)
	set(1, 0) // of the partner, and older
	if c := ok[Schedule](t)(s.Schedule(ctx)); c.Every != 7*24*time.Hour || c.Keep != 2 {
		t.Errorf("the schedule is %+v", c)
	}
	target := Target{Name: "desk", URL: "https://desk.mill.example/hook", Severity: "trouble"}
	if err := s.SaveTarget(ctx, target, began); err != nil {
		t.Fatal(err)
	}
	for n := range 3 {
		at := began.Add(time.Duration(n) * time.Hour)
		q := Queued{At: at, What: "report", Server: "bobbin",
			Alert: Alert{Key: "report", Finding: audit.Finding{Code: &audit.Code{ID: "report"}}}}
		ok[int64](t)(s.SaveReport(ctx, Report{At: at, Text: "all is well"}, []byte{byte('a' + n)}, 2, q, []Target{target}))
	}
	list := ok[[]Report](t)(s.Reports(ctx))
	if len(list) != 2 || list[0].ID != 3 || list[1].ID != 2 || list[0].Size != 1 {
		t.Errorf("kept are %+v", list)
	}
	if page, there, err := s.ReportPage(ctx, 3); string(page) != "c" || !there || err != nil {
		t.Errorf("page 3 is %q, %v, %v", page, there, err)
	}
	if _, there, err := s.ReportPage(ctx, 1); there || err != nil {
		t.Errorf("the first is still there: %v", err)
	}
	queue := ok[[]Queued](t)(s.QueuedAlerts(ctx))
	if len(queue) != 3 || queue[2].Report != 3 || queue[2].Alert.Finding.ID != "report" {
		t.Errorf("queued are %+v", queue)
	}
}
