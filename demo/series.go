package demo

import (
	"math"
	"math/rand/v2"
	"time"
	_ "time/tzdata"

	"yarnpost/core/capacity"
)

// SeriesKinds are the kinds of made-up series by which forecasts are judged. A flat
// one and a line are just what one of the simple ways takes for granted.
var SeriesKinds = []string{"flat", "line", "trend", "weekly", "weekly growing", "step", "bursts", "outage", "saturating"}

// SeriesOf makes up some weeks of use of a pool, the same for each seed.
func SeriesOf(kind string, seed uint64, weeks int) capacity.Series {
	random := rand.New(rand.NewPCG(seed, uint64(len(kind))))
	s := capacity.Series{Start: time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC), Hours: make([]capacity.Hour, weeks*7*24)}
	level := 300 + 500*random.Float64()
	wander := 0.0 // of a day against the one before
	burst := map[int]float64{}
	for range weeks {
		burst[random.IntN(weeks*7)] = 1.3 + 0.5*random.Float64()
	}
	stepAt, outAt := weeks*7/3+random.IntN(weeks*2), weeks*7/2+random.IntN(weeks)
	for i := range s.Hours {
		at := s.At(i)
		day := i / 24
		if i%24 == 0 {
			wander = 0.6*wander + 0.02*random.NormFloat64()
		}
		x := level * (1 + wander)
		pattern := WorkingWeek(at)
		switch kind {
		case "flat":
			pattern = 1
		case "line":
			x *= 1 + 0.02*float64(i)/24
			pattern = 1
		case "trend":
			x *= 1 + 0.02*float64(i)/24
			pattern = 0.9 + 0.1*pattern
		case "weekly growing":
			x *= 1 + 0.012*float64(i)/24
		case "step":
			if day >= stepAt {
				x *= 1.6
			}
		case "bursts":
			if f := burst[day]; f > 0 {
				x *= f
			}
		case "saturating":
			x *= 0.3 + 1.2/(1+math.Exp(-(float64(day)-float64(weeks)*2.2)/float64(weeks)))
			pattern = 0.5 + 0.5*pattern
		case "outage":
			if day == outAt && at.Hour() >= 9 && at.Hour() < 15 {
				x = 0
			}
		}
		x = max(0, x*pattern+math.Sqrt(x*pattern)*0.7*random.NormFloat64())
		s.Hours[i] = capacity.Hour{Low: math.Floor(x * 0.97), Mean: math.Floor(x * 0.99), Peak: math.Floor(x), Known: true}
	}
	return s
}

// GrowingKinds are the kinds of made-up series by which the date on which a pool runs
// out is judged. All grow and have a strong week; nothing is in doubt with the first four.
var GrowingKinds = []string{"a line", "compound", "weekend", "growing base", "slow", "kinked", "slowing", "after a step", "events",
	"few hours", "wandering", "summer time"}

// ClearKinds is how many of them leave nothing in doubt.
const ClearKinds = 4

// KnownDays is how much of a growing series is known when it is judged.
const KnownDays = 56

// GrowingSeries makes up half a year of use of a pool, the same for each seed.
func GrowingSeries(kind string, seed uint64) capacity.Series {
	random := rand.New(rand.NewPCG(seed, 77+uint64(len(kind))))
	start := time.Date(2026, 2, 2, 0, 0, 0, 0, time.UTC)
	if kind == "summer time" {
		zone, err := time.LoadLocation("Europe/Berlin")
		if err != nil {
			panic(err) // the binary bears the zones
		}
		start = time.Date(2026, 2, 2, 0, 0, 0, 0, zone)
	}
	const days = 182
	s := capacity.Series{Start: start, Hours: make([]capacity.Hour, days*24)}
	level, rate := 200+600*random.Float64(), 0.006+0.008*random.Float64()
	wander, walk := 0.0, 0.0
	kink, stepAt, step := 20+random.IntN(20), 18+random.IntN(24), 1.25+0.35*random.Float64()
	odd := map[int]float64{}
	for range 8 {
		odd[random.IntN(KnownDays)] = []float64{0.5, 0.6, 1.35, 1.5}[random.IntN(4)]
	}
	for i := range s.Hours {
		at := s.At(i)
		day := float64(i) / 24
		if i%24 == 0 {
			wander = 0.6*wander + 0.012*random.NormFloat64()
			walk += 0.012 * random.NormFloat64()
		}
		grown, pattern := 1+rate*day, WorkingWeek(at)
		switch kind {
		case "compound", "summer time", "few hours":
			grown = math.Exp(rate * day)
		case "slow":
			grown = 1 + rate/3*day
		case "weekend":
			pattern = 0.3 + 0.7*opening(at)
		case "kinked":
			grown = 1 + 1.3*rate*max(day-float64(kink), 0)
		case "slowing":
			grown = 1 + 2*rate*45*(1-math.Exp(-day/45))
		case "after a step":
			if i/24 >= stepAt {
				grown *= step
			}
		case "growing base":
			pattern, grown = pattern+2*rate*day, 1
		case "wandering":
			grown = math.Exp(rate*day + walk)
		case "flat":
			grown = 1
		}
		x := level * grown * math.Exp(wander) * pattern
		if f := odd[i/24]; kind == "events" && f > 0 {
			x *= f
		}
		x = max(0, x+math.Sqrt(x)*0.7*random.NormFloat64())
		h := capacity.Hour{Low: math.Floor(x * 0.97), Mean: math.Floor(x * 0.99), Peak: math.Floor(x), Known: true}
		if kind == "few hours" && (at.Hour() < 9 || at.Hour() > 12) {
			h = capacity.Hour{}
		}
		s.Hours[i] = h
	}
	return s
}

// DateScore is how good the dates were for a kind of series.
type DateScore struct {
	Series          int
	Days, Own, Line float64 // mean
	Covered, Width  float64 // shares: of the series; of the days that could be seen
}

// ScoreDates judges the dates for a kind of growing series: sizes a little or much above
// what was the most so far, which it reaches within twelve weeks.
func ScoreDates(kind string, seeds uint64) (sum DateScore) {
	const known = KnownDays * 24
	for seed := range seeds {
		s := GrowingSeries(kind, seed+1)
		most := 0.0
		for _, h := range s.Hours[:known] {
			most = max(most, h.Peak)
		}
		for _, above := range []float64{1.05, 1.12, 1.25, 1.4, 1.6} {
			r, ok := capacity.ScoreDate(s, known, math.Ceil(most*above))
			if !ok || r.Days >= 1.5*KnownDays {
				continue
			}
			sum.Series++
			sum.Days, sum.Own, sum.Line = sum.Days+r.Days, sum.Own+r.Own, sum.Line+r.Line
			sum.Width += r.Width / r.Seen
			if r.Covered {
				sum.Covered++
			}
		}
	}
	n := float64(max(sum.Series, 1))
	sum.Days, sum.Own, sum.Line, sum.Covered, sum.Width = sum.Days/n, sum.Own/n, sum.Line/n, sum.Covered/n, sum.Width/n
	return sum
}

// WorkingWeek is how much of a place's people are there at an hour: early and late
// shift on working days, few at night, fewer at the weekend.
func WorkingWeek(at time.Time) float64 {
	h := float64(at.Hour()) + float64(at.Minute())/60
	day := 0.35 + 0.65/(1+math.Exp(-(h-7)*1.6))*1/(1+math.Exp((h-19)*1.1))
	switch at.Weekday() {
	case time.Saturday:
		return 0.35 + (day-0.35)*0.35
	case time.Sunday:
		return 0.35 + (day-0.35)*0.1
	}
	return day
}
