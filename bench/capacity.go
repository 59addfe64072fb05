package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/core/capacity"
	"yarnpost/demo"
	"yarnpost/service/store"
)

// audited times an audit of plan and table, and what it does to clients: beside
// exchanges without one, in turns.
func audited(ctx context.Context, s *service, load *generator) error {
	runtime.GOMAXPROCS(2)
	load.open(2*time.Second, holdUpRate)
	var took, without, beside []float64
	findings := 0
	for range 3 {
		without = append(without, load.open(4*time.Second, auditRate).percentile(0.99))
		done := make(chan error, 1)
		begun := time.Now()
		go func() {
			r, err := s.client.RunAudit(ctx, api.AuditOrder{})
			took = append(took, time.Since(begun).Seconds())
			findings = len(r.Findings)
			done <- err
		}()
		var err error
		r := load.openUntil(auditRate, func(time.Duration) bool {
			select {
			case err = <-done:
				return true
			default:
				return false
			}
		})
		if err != nil {
			return fmt.Errorf("audit: %w", err)
		}
		beside = append(beside, r.percentile(0.99))
	}
	fmt.Printf("\nAn audit of %d scopes, %d reservations and %d leases (%d findings), median of three: %.1f s   (bar 5 s, goal 2 s)\n",
		manyScopes,
		manyScopes*reservedEach, manyLeases, findings, median(took))
	fmt.Printf("  p99 of %d exchanges a second beside it ÷ without: %.2f ×   (%.1f ms, %.1f ms; bar 1.5 ×, goal 1.1 ×)\n", auditRate,
		median(beside)/median(without), median(beside), median(without))
	return nil
}

// auditRate is how many clients a second come while an audit is made.
const auditRate = 250

// sampled measures what samples of use cost: the processor's time while the service
// has nothing else to do, and the room that they take.
func sampled(ctx context.Context, s *service) error {
	used := func() (float64, error) {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.process.Process.Pid))
		if err != nil {
			return 0, err
		}
		f := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		user, err1 := strconv.ParseFloat(f[11], 64) // in hundredths of a second
		system, err2 := strconv.ParseFloat(f[12], 64)
		return (user + system) / 100, errors.Join(err1, err2)
	}
	before, err := used()
	if err != nil {
		return err
	}
	begun := time.Now()
	time.Sleep(2 * time.Minute)
	after, err := used()
	if err != nil {
		return err
	}
	fmt.Printf("\nSamples each minute of %d scopes, alerts and forecasts among them: %.1f %% of one core   (bar 3 %% for samples)\n",
		manyScopes,
		100*(after-before)/time.Since(begun).Seconds())
	st, err := store.OpenBeside(ctx, s.dsn())
	if err != nil {
		return err
	}
	defer st.Close()
	conn, err := s.database(ctx)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	const days = 14
	all := map[int32][]capacity.HourRow{}
	series := demo.SeriesOf("weekly growing", 1, 2)
	for d := range days {
		for n := range manyScopes {
			hours := make([]capacity.HourRow, 24)
			for h := range hours {
				x := series.Hours[(d*24+h+n%24)%len(series.Hours)]
				hours[h] = capacity.HourRow{254, uint32(x.Low) % 254, uint32(x.Mean) % 254, uint32(x.Peak) % 254, uint32(x.Peak) % 254,
					uint32(n % 3),
					254 - uint32(x.Peak)%254, uint32(h % 3), uint32(h % 7), uint32(h % 8), 60}
			}
			all[int32(1_000_000+n)] = hours
		}
		if err := st.SaveDay(ctx, time.Date(2020, 1, 1+d, 0, 0, 0, 0, time.UTC), all); err != nil {
			return err
		}
	}
	var octets, minutes int64
	if err := conn.QueryRow(ctx, "select pg_total_relation_size('capacity_days')").Scan(&octets); err != nil {
		return err
	}
	row := make([]capacity.Row, 60)
	for m := range row {
		row[m] = capacity.Row{254, uint32(100 + m%9), uint32(100 + m%9), 0, 0, uint32(154 - m%9), 0, 0, uint32(m % 2), uint32(m % 2)}
	}
	minutes = int64(len(capacity.PackRows(row))+8+52) * 24 * store.MinuteDays * manyScopes
	fmt.Printf("  their room for %d scopes: a year by the hour %.2f GB, %d days by the minute %.2f GB   (bar 2 GB)\n", manyScopes,
		float64(octets)/days*365/1e9, store.MinuteDays, float64(minutes)/1e9)
	_, err = conn.Exec(ctx, "delete from capacity_days where series >= 1000000")
	return err
}

// forecasts prints how good forecasts are: against a straight line and against last
// week's value, and how often what came was between low and high.
func forecasts() {
	fmt.Println("\nForecasts of each day's peak, a week ahead, back-tested; pinball loss in addresses, mean of eight made-up series of eight weeks:")
	fmt.Printf("  %-16s %9s %9s %9s   %s\n", "", "own", "line", "last week", "within 80 %")
	const seeds = 8
	for _, kind := range append([]string{"demo"}, demo.SeriesKinds...) {
		var sum capacity.Score
		for seed := range uint64(seeds) {
			var r capacity.Score
			if kind == "demo" {
				r = capacity.BackTest(demo.Visitors(seed + 1))
			} else {
				r = capacity.BackTest(demo.SeriesOf(kind, seed+1, 8))
			}
			sum.Own, sum.Line, sum.Week, sum.Covered = sum.Own+r.Own/seeds, sum.Line+r.Line/seeds, sum.Week+r.Week/seeds,
				sum.Covered+r.Covered/seeds
		}
		fmt.Printf("  %-16s %9.2f %9.2f %9.2f   %.0f %%\n", kind, sum.Own, sum.Line, sum.Week, 100*sum.Covered)
	}
	fmt.Printf("\nThe date on which a pool runs out, by eight weeks of growth with a strong week, days off (bar 1.0 of those of a line through weekly peaks, goal 0.6):\n")
	fmt.Printf("  %-16s %7s %9s %9s %7s   %-12s %s\n", "", "in days", "own", "line", "ratio", "within 80 %", "width, of what can be seen")
	for i, kind := range demo.GrowingKinds {
		r := demo.ScoreDates(kind, 40)
		doubt := ""
		if i < demo.ClearKinds {
			doubt = "   (bar a third, goal a sixth)"
		}
		fmt.Printf("  %-16s %7.0f %9.1f %9.1f %7.2f   %3.0f %%        %.2f%s\n", kind, r.Days, r.Own, r.Line, r.Own/r.Line, 100*r.Covered,
			r.Width, doubt)
	}
}
