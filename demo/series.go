package demo

import (
	"math"
	"math/rand/v2"
	"time"

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
