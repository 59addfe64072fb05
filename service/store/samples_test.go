package store

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/capacity"
	"yarnpost/core/lease"
)

// Samples come back as they went in: by the minute as long as those are kept, by
// the hour for longer, whenever hours and days were closed.
func TestSamplesAreKept(t *testing.T) {
	ctx := context.Background()
	s := open(t, fresh(t))
	numbers, err := s.SeriesNumbers(ctx, []string{"scope 1", "scope 2", "all"})
	if err != nil || len(numbers) != 3 {
		t.Fatal(numbers, err)
	}
	again, err := s.SeriesNumbers(ctx, []string{"scope 2"})
	if err != nil || again["scope 2"] != numbers["scope 2"] {
		t.Fatal(again, err)
	}
	random := rand.New(rand.NewPCG(1, 1))
	start := time.Date(2026, 5, 4, 22, 10, 0, 0, time.UTC)
	kept := map[time.Time]uint32{}
	closed := time.Time{}
	for at := start; at.Before(start.Add(30 * time.Hour)); at = at.Add(time.Minute) {
		if at.Hour() == 3 { // the service is away for an hour
			continue
		}
		used := uint32(random.IntN(200))
		kept[at] = used
		var rows []SampleRow
		for _, key := range []string{"scope 1", "scope 2"} {
			r := SampleRow{Series: numbers[key]}
			r.Row[capacity.ColSize], r.Row[capacity.ColUsed], r.Row[capacity.ColNew] = 300, used, 1
			rows = append(rows, r)
		}
		if err := s.SaveSample(ctx, at, rows); err != nil {
			t.Fatal(err)
		}
		if hour := at.Truncate(time.Hour); hour != closed {
			for range 2 { // it may be repeated
				if err := s.CloseHours(ctx, at); err != nil {
					t.Fatal(err)
				}
				if err := s.CloseDays(ctx, at); err != nil {
					t.Fatal(err)
				}
			}
			closed = hour
		}
	}
	list, err := s.Minutes(ctx, "scope 1", start)
	if err != nil || len(list) != len(kept) {
		t.Fatalf("%d samples came back of %d: %v", len(list), len(kept), err)
	}
	for _, m := range list {
		if m.Row[capacity.ColUsed] != kept[m.At] {
			t.Fatalf("%s: %d, not %d", m.At, m.Row[capacity.ColUsed], kept[m.At])
		}
	}
	from, hours, err := s.Hours(ctx, "scope 2", start)
	if err != nil || len(hours) < 30 {
		t.Fatal(len(hours), err)
	}
	known := 0
	for i, h := range hours {
		at := from.Add(time.Duration(i) * time.Hour)
		peak, n := uint32(0), uint32(0)
		for m, used := range kept {
			if m.Truncate(time.Hour).Equal(at) {
				peak = max(peak, used)
				n++
			}
		}
		if h[capacity.HourPeak] != peak || h[capacity.HourSamples] != n || h[capacity.HourNew] != n {
			t.Errorf("hour %s: %v, the peak is %d of %d samples", at, h, peak, n)
		}
		if n > 0 {
			known++
		}
	}
	if known != 28 { // the last hour is not over
		t.Errorf("%d hours are known", known)
	}
	if _, none, err := s.Hours(ctx, "scope 77", start); err != nil || none != nil {
		t.Error(none, err)
	}
	var minutes int
	if err := s.CloseDays(ctx, start.AddDate(0, 0, 10)); err != nil {
		t.Fatal(err)
	}
	if err := s.pool.QueryRow(ctx, "select count(*) from capacity_minutes").Scan(&minutes); err != nil || minutes != 0 {
		t.Errorf("%d hours are kept by the minute for too long: %v", minutes, err)
	}
}

func TestAddPast(t *testing.T) {
	ctx := context.Background()
	s := open(t, fresh(t))
	at := time.Date(2026, 5, 4, 8, 0, 0, 0, time.UTC)
	l := lease.Lease{Prefix: netip.MustParsePrefix("10.77.0.5/32"), Status: lease.Active, Client: lease.ByHardware(1,
		"\x02\x00\x00\x00\x00\x01"),
		Hardware: "\x02\x00\x00\x00\x00\x01", Hostname: "loom-1", Circuit: "\x00\x01", Relay: netip.MustParseAddr("10.77.0.1"),
		By: lease.Primary, Vendor: "x", Since: lease.At(at), Expires: lease.At(at.Add(time.Hour))}
	if err := s.AddPast(ctx, []Event{{At: at.Add(24 * time.Hour), Lease: l}, {At: at, Lease: l}}, at.AddDate(0, 0, 2)); err != nil {
		t.Fatal(err)
	}
	list, err := s.written(ctx, Past{Key: lease.Host(netip.MustParseAddr("10.77.0.5")), Before: at.AddDate(1, 0, 0), Limit: 10})
	if err != nil || len(list) != 2 || list[0].Lease.Client != l.Client || list[1].Circuit != l.Circuit {
		t.Errorf("%+v, %v", list, err)
	}
}
