package capacity

import (
	"math"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

var monday = time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)

// made makes a series of days from the use at an hour.
func made(days int, used func(day, hour int) float64) Series {
	s := Series{Start: monday, Hours: make([]Hour, days*dayHours)}
	for i := range s.Hours {
		v := used(i/dayHours, i%dayHours)
		s.Hours[i] = Hour{v, v, v, !math.IsNaN(v)}
	}
	return s
}

func noise(seed uint64, size float64) func() float64 {
	random := rand.New(rand.NewPCG(seed, 1))
	return func() float64 { return size * random.NormFloat64() }
}

// Series whose answer is known.
func TestForecastsWithKnownAnswers(t *testing.T) {
	n := noise(1, 3)
	pattern := func(h int) float64 { return 1 + 0.3*math.Sin(float64(h-9)/dayHours*2*math.Pi) }
	for _, c := range []struct {
		name     string
		series   Series
		size     float64
		verdict  Verdict
		from, to int // days ahead between which Date has to be
	}{
		{"flat", made(42, func(int, int) float64 { return 300 + n() }), 500, NotBefore, 0, 0},
		{"growing by ten a day", made(42, func(d, _ int) float64 { return 200 + 10*float64(d) + n() }), 800, RunsOut, 15, 22},
		{"growing with days like waves", made(42, func(d, h int) float64 { return (200 + 5*float64(d)) * pattern(h) }), 650, RunsOut, 14, 22},
		{"shrinking", made(42, func(d, _ int) float64 { return 500 - 8*float64(d) + n() }), 600, NotBefore, 0, 0},
		{"full", made(42, func(int, int) float64 { return 100 }), 100, OutNow, -1, 1},
		{"four days", made(4, func(int, int) float64 { return 100 }), 200, HistoryThin, 0, 0},
		{"nothing at all", Series{}, 200, HistoryThin, 0, 0},
		{"nobody", made(42, func(int, int) float64 { return 0 }), 200, NotBefore, 0, 0},
		{"known from nine to twelve", made(42, func(d, h int) float64 {
			if h < 9 || h >= 12 {
				return math.NaN()
			}
			return 200 + 10*float64(d) + n()
		}), 800, RunsOut, 15, 22},
		{"known once a day", made(42, func(d, h int) float64 {
			if h != 17 {
				return math.NaN()
			}
			return 200 + 10*float64(d) + n()
		}), 800, RunsOut, 15, 22},
		{"with half a day of outage", made(42, func(d, h int) float64 {
			if d == 35 && h > 8 {
				return 0
			}
			return 300 + n()
		}), 400, NotBefore, 0, 0},
		{"with a day without samples", made(42, func(d, _ int) float64 {
			if d == 30 {
				return math.NaN()
			}
			return 200 + 10*float64(d) + n()
		}), 800, RunsOut, 15, 22},
		{"with one busy day", made(42, func(d, _ int) float64 {
			if d == 36 {
				return 520 + n()
			}
			return 300 + n()
		}), 550, NotBefore, 0, 0},
		{"with a step", made(42, func(d, _ int) float64 {
			if d >= 28 {
				return 450 + n()
			}
			return 300 + n()
		}), 600, NotBefore, 0, 0},
	} {
		f := Predict(c.series, c.size)
		if c.verdict == NotBefore && !f.Early.IsZero() {
			t.Errorf("%s: %s", c.name, f.Text())
		}
		if f.Verdict != c.verdict {
			t.Errorf("%s: %s (%s)", c.name, f.Verdict, f.Text())
			continue
		}
		if c.verdict != RunsOut {
			continue
		}
		days := f.Date.Sub(c.series.End()).Hours() / dayHours
		if days < float64(c.from) || days > float64(c.to) || f.Early.After(f.Date) || !f.Late.IsZero() && f.Late.Before(f.Date) {
			t.Errorf("%s: in %.1f days, between %s and %s", c.name, days, f.Early, f.Late)
		}
	}
	step := Predict(made(42, func(d, _ int) float64 { return 300 + 150*math.Floor(float64(d)/28) + n() }), 600)
	if step.Step.IsZero() || step.Step.Sub(monday) != 28*24*time.Hour {
		t.Errorf("the step is seen at %s", step.Step)
	}
	event := Predict(made(42, func(d, _ int) float64 { return 300 + 200*float64(boolean(d == 20)) + n() }), 600)
	if len(event.Events) != 1 || !event.Events[0].Equal(monday.AddDate(0, 0, 20)) {
		t.Errorf("the event is seen at %v", event.Events)
	}
}

// A place goes by its own clock: where it is put on by an hour, its busy hours are an
// hour earlier in UTC, and stay what they were there. The morning of a day says nothing
// of its peak.
func TestLocalTime(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	begin := time.Date(2026, 3, 2, 0, 0, 0, 0, berlin) // a Monday; summer time begins on the 29th
	s := Series{Start: begin, Hours: make([]Hour, 8*weekHours+10)}
	for i := range s.Hours {
		v := 20.0
		if h := s.At(i).Hour(); h >= 9 && h < 17 {
			v = 100 + float64(weekday(s.At(i)))
		}
		s.Hours[i] = Hour{v, v, v, true}
	}
	for d, hours := range s.Busy() {
		for h, n := range hours {
			if busy := h >= 9 && h < 17; busy != (n >= 100) || busy && n != 100+d {
				t.Errorf("day %d, %d:00: %d", d, h, n)
			}
		}
	}
	m, _ := historyOf(s)
	if len(m.starts) != 57+1 || m.starts[28]-m.starts[27] != 23 {
		t.Errorf("%d days; that of the change has %d hours", len(m.starts)-1, m.starts[28]-m.starts[27])
	}
	// Ten hours of the last day are known; of the last nine of ten there is no peak yet.
	if p := m.peak(56); p != 100 {
		t.Errorf("of a day known until ten: %v", p)
	}
	s.Hours = s.Hours[:8*weekHours+8]
	if m, _ = historyOf(s); !math.IsNaN(m.peak(56)) {
		t.Errorf("at eight in the morning the peak of the day is %v", m.peak(56))
	}
	f := Predict(s, 1000)
	for i, b := range f.Bands[:14] {
		if want := begin.AddDate(0, 0, 56+i); !b.Day.Equal(want) || math.Abs(b.Mid-100-float64(weekday(want))) > 2 {
			t.Errorf("%s: %.1f", b.Day, b.Mid)
		}
	}
	if f.Until.Hour() != 0 || f.Until.Location() != berlin {
		t.Errorf("until %s", f.Until)
	}
}

func boolean(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Series of any kind are answered without a panic and within bounds.
func FuzzPredict(f *testing.F) {
	f.Add([]byte{1, 2, 3}, uint16(10), 100.0)
	f.Add([]byte{0}, uint16(2000), 0.0)
	f.Add([]byte{255, 0, 0, 255}, uint16(400), 1e9)
	f.Fuzz(func(t *testing.T, b []byte, hours uint16, size float64) {
		if len(b) == 0 || math.IsNaN(size) {
			return
		}
		s := Series{Start: monday, Hours: make([]Hour, int(hours)%3000)}
		for i := range s.Hours {
			v := float64(b[i%len(b)]) * float64(1+i%7)
			s.Hours[i] = Hour{v, v, v, b[(i*7)%len(b)] != 13}
		}
		p := Predict(s, size)
		for _, x := range p.Bands {
			if !(x.Low >= 0 && x.Low <= x.Mid && x.Mid <= x.High) || math.IsInf(x.High, 0) {
				t.Fatalf("%+v", x)
			}
		}
		for _, v := range []float64{p.Level, p.PerDay, p.Peak} {
			if math.IsNaN(v) || math.IsInf(v, 0) {
				t.Fatalf("%+v", p)
			}
		}
		if p.Text() == "" {
			t.Fatal("no text")
		}
	})
}

func TestRowsArePacked(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		rows := make([]Row, random.IntN(60))
		hours := make([]HourRow, random.IntN(24))
		for i := range rows {
			for c := range rows[i] {
				if random.IntN(3) == 0 {
					rows[i][c] = random.Uint32() >> random.IntN(32)
				}
			}
		}
		for i := range hours {
			for c := range hours[i] {
				hours[i][c] = uint32(random.IntN(1000))
			}
		}
		if got, err := UnpackRows(PackRows(rows)); err != nil || len(got) != len(rows) || len(rows) > 0 && !reflect.DeepEqual(got, rows) {
			t.Fatalf("%v, %v", got, err)
		}
		b := PackHours(hours)
		if got, err := UnpackHours(b); err != nil || len(hours) > 0 && !reflect.DeepEqual(got, hours) {
			t.Fatalf("%v, %v", got, err)
		}
		for n := range b {
			if _, err := UnpackHours(b[:n]); err == nil {
				t.Fatalf("%d of %d octets are taken for the whole", n, len(b))
			}
		}
	}
	// A quiet day of a pool takes little.
	day := make([]HourRow, 24)
	for i := range day {
		day[i] = HourRow{254, 100, 101, 102, 102, 0, 150, 0, 1, 1, 60}
	}
	if n := len(PackHours(day)); n > 60 {
		t.Errorf("a day takes %d octets", n)
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(PackHours(make([]HourRow, 24)))
	f.Add(PackRows(make([]Row, 60)))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _ = UnpackRows(b)
		_, _ = UnpackHours(b)
	})
}

func TestFold(t *testing.T) {
	row := func(used, head, n uint32) (r Row) {
		r[ColSize], r[ColUsed], r[ColHeadroom], r[ColNew] = 50, used, head, n
		return r
	}
	h := Fold([]Row{row(10, 40, 1), row(30, 20, 2), row(20, 30, 0)})
	if h[HourSize] != 50 || h[HourLow] != 10 || h[HourMean] != 20 || h[HourPeak] != 30 || h[HourHeadroom] != 20 || h[HourNew] != 3 ||
		h[HourSamples] != 3 {
		t.Errorf("%v", h)
	}
	if none := Fold(nil); none.Hour().Known {
		t.Error("an hour without samples is known")
	}
}

func TestSubnets(t *testing.T) {
	for text, want := range map[string][4]string{
		"10.40.64.0/20":     {"4094", "10.40.64.1", "10.40.79.254", "10.40.79.255"},
		"10.40.64.77/20":    {"4094", "10.40.64.1", "10.40.79.254", "10.40.79.255"},
		"10.0.0.0/31":       {"2", "10.0.0.0", "10.0.0.1", "invalid IP"},
		"10.0.0.1/32":       {"1", "10.0.0.1", "10.0.0.1", "invalid IP"},
		"0.0.0.0/0":         {"4294967294", "0.0.0.1", "255.255.255.254", "255.255.255.255"},
		"2001:db8:40::/64":  {"18446744073709551616", "2001:db8:40::", "2001:db8:40:0:ffff:ffff:ffff:ffff", "invalid IP"},
		"2001:db8:40::/127": {"2", "2001:db8:40::", "2001:db8:40::1", "invalid IP"},
	} {
		s, err := Calculate(netip.MustParsePrefix(text), 0)
		if got := [4]string{s.Hosts, s.First.String(), s.Last.String(), s.Broadcast.String()}; err != nil || got != want {
			t.Errorf("%s: %v, %v", text, got, err)
		}
	}
	s, err := Calculate(netip.MustParsePrefix("10.40.64.0/20"), 22)
	if err != nil || len(s.Parts) != 4 || s.Parts[3].String() != "10.40.76.0/22" || s.Neighbor.String() != "10.40.80.0/20" ||
		s.Wildcard.String() != "0.0.15.255" {
		t.Errorf("%+v, %v", s, err)
	}
	if s, err := Calculate(netip.MustParsePrefix("::/0"), 128); err != nil || len(s.Parts) != partsMost ||
		!strings.HasPrefix(s.PartCount, "340282366920938463463374607431768211456") {
		t.Errorf("%s, %v", s.PartCount, err)
	}
	for _, split := range []int{20, 8, 33, 129} {
		if _, err := Calculate(netip.MustParsePrefix("10.40.64.0/20"), split); err == nil {
			t.Errorf("/20 splits into /%d", split)
		}
	}
}

func TestUsers(t *testing.T) {
	now := lease.Time(1_780_000_000)
	u := NewUsers(now)
	add := func(n byte, name string, status lease.Status, heard, granted time.Duration) {
		hw := addr.Hardware([]byte{2, 0, 0, 0, 0, n})
		u.Add(&lease.Lease{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(u.Records + 1)}), 32), Status: status,
			Client:   lease.ByHardware(1, hw),
			Hardware: hw, Hostname: name, Since: now.Add(-48 * time.Hour), Heard: now.Add(-heard), Granted: granted,
			Expires: now.Add(granted - heard)})
	}
	add(1, "loom-17", lease.Active, time.Minute, time.Hour)
	add(2, "loom-18", lease.Active, 50*time.Minute, time.Hour) // it should have renewed
	add(3, "vat-1", lease.Active, 0, time.Hour)
	add(3, "vat-1", lease.Active, 0, time.Hour)
	add(4, "left", lease.Expired, 48*time.Hour, time.Hour)
	many, total := u.Many()
	if u.Active != 4 || u.Ghosts != 1 || u.Once != 1 || total != 1 || len(many[0].Addresses) != 2 {
		t.Errorf("%+v, %d with many", u, total)
	}
	if n := u.Names(); n[0].Name != "loom-#" || n[0].Clients != 2 {
		t.Errorf("names %v", n)
	}
	if a := u.Ages(); a[3].Clients != 4 {
		t.Errorf("ages %v", a)
	}
}

// What would help is worked out with its numbers: a shorter lease time where clients
// left without a word, a wider pool, what can be had back.
func TestHelps(t *testing.T) {
	d := plan.New().Draft()
	r, _ := addr.ParseRange("10.77.0.10-10.77.0.109")
	x, _ := addr.ParseRange("10.77.0.100-10.77.0.109")
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving, Pools: []addr.Range{r},
		Exclusions: []plan.Exclusion{{Range: x}}, Settings: plan.Settings{Lease: plan.Duration(8 * time.Hour)}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	v := p.ScopeNamed("looms")
	now := lease.Time(1_780_000_000)
	u := NewUsers(now)
	for n := range 80 {
		hw := addr.Hardware([]byte{2, 0, 0, 0, 0, byte(n)})
		heard := time.Hour
		if n < 40 {
			heard = 6 * time.Hour
		}
		u.Add(&lease.Lease{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 77, 0, byte(10 + n)}), 32), Status: lease.Active,
			Client:   lease.ByHardware(1, hw),
			Hardware: hw, Since: now.Add(-24 * time.Hour), Heard: now.Add(-heard), Granted: 8 * time.Hour, Expires: now.Add(8*time.Hour - heard)})
	}
	f := Predict(made(42, func(d, _ int) float64 { return 40 + float64(d) }), float64(v.Size))
	w := WinBack(p, v, func(netip.Addr) *lease.Lease { return nil }, nil, now)
	if w.Total() != 10 || len(w.Excluded) != 1 {
		t.Errorf("to be had back: %+v", w)
	}
	kinds := map[string]Help{}
	for _, h := range Helps(Scene{View: v, Count: Count{Size: v.Size, Headroom: 10}, Forecast: f, Users: u, Unused: w}) {
		kinds[h.Kind] = h
	}
	if h := kinds["shorten"]; h.Lease != 2*time.Hour || h.Addresses < 30 || h.Renewals <= 0 || h.Edit == "" {
		t.Errorf("shorten: %+v", h)
	}
	if h := kinds["widen"]; h.Addresses < 50 || h.Days < 50 {
		t.Errorf("widen: %+v", h)
	}
	if h := kinds["win-back"]; h.Addresses != 10 || h.Days < 8 || h.Days > 12 {
		t.Errorf("win back: %+v", h)
	}
}
