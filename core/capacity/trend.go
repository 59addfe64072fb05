package capacity

import (
	"math"
	"slices"
	"time"
)

// way is one way to go on from the days that are known.
type way struct {
	levelDays int     // of which the level is taken
	slopeDays int     // of which the slope is taken; 0: none
	damp      float64 // what a day leaves of the slope
}

// ways are tried on the history, and the one that was least wrong is taken. The
// first wins where none is clearly better.
var ways = []way{{14, 0, 1}, {5, 0, 1}, {trendDays, 0, 1},
	{14, trendDays, 1}, {5, trendDays, 1}, {trendDays, trendDays, 1}, {10, 21, 1}, {5, 14, 1}, {5, trendDays, 0.95}, {5, 14, 0.95},
	{5, 14, 0.9}}

// start is level and slope at the end of a list of days.
func (w way) start(days []float64) (level, slope float64, ok bool) {
	if w.slopeDays > 0 {
		slope = slopeOf(days[max(len(days)-w.slopeDays, 0):])
	}
	var list []float64
	for i := max(len(days)-w.levelDays, 0); i < len(days); i++ {
		if !math.IsNaN(days[i]) {
			list = append(list, days[i]+slope*float64(len(days)-1-i))
		}
	}
	if len(list) == 0 {
		return 0, 0, false
	}
	return median(list), slope, true
}

// grown is what a slope comes to after some days.
func grown(slope, damp, days float64) float64 {
	if damp == 1 {
		return slope * days
	}
	return slope * damp * (1 - math.Pow(damp, days)) / (1 - damp)
}

// backDays is how many days back the ways are tried.
const backDays = 16

// part is what one way says, and how much that counts.
type part struct {
	way
	level, slope, weight float64
}

// mix is what several ways say together.
type mix []part

// at is the level after some days, 0 at the least.
func (x mix) at(days float64) (level float64) {
	for _, p := range x {
		level += p.weight * (p.level + grown(p.slope, p.damp, days))
	}
	return max(level, 0)
}

// from is the mix as it starts from a list of days; nil if it cannot.
func (x mix) from(days []float64) mix {
	out := slices.Clone(x)
	for i := range out {
		var ok bool
		if out[i].level, out[i].slope, ok = out[i].start(days); !ok {
			return nil
		}
	}
	return out
}

// tries calls f for each day that can be foretold from one before it: which day,
// how many days ahead, what was said and what was.
func (m *model) tries(x mix, f func(day, ahead int, said, was float64)) {
	for origin := max(m.days-backDays, 3); origin < m.days; origin++ {
		first, end := m.piece(origin)
		if origin-first < 3 {
			continue
		}
		then := x.from(m.daily[first:origin])
		if then == nil {
			continue
		}
		for d := origin; d < min(end, origin+14); d++ {
			if was := m.daily[d]; !math.IsNaN(was) {
				f(d, d-origin+1, then.at(float64(d-origin+1)), was)
			}
		}
	}
}

// piece is the days around a day without a step in them.
func (m *model) piece(day int) (first, end int) {
	if day < m.from {
		return 0, m.from
	}
	return m.from, m.days
}

// choose tries the ways and mixes them: the less wrong one was, the more it counts.
func (m *model) choose() {
	days := m.daily[m.from:]
	total := 0.0
	for _, w := range ways {
		if w.slopeDays > 0 && len(days) < 8 {
			continue
		}
		sum, n := 0.0, 0.0
		m.tries(mix{{way: w, weight: 1}}, func(_, _ int, said, was float64) {
			sum += math.Abs(said - was)
			n++
		})
		if n == 0 {
			continue
		}
		p := part{way: w, weight: math.Pow(sum/n+0.001*m.typical()+0.01, -6)}
		if w.levelDays == trendDays { // long ones are surer where nothing speaks against them
			p.weight *= 4
		}
		m.mix = append(m.mix, p)
		total += p.weight
	}
	if m.mix == nil {
		m.mix, total = mix{{way: ways[0], weight: 1}}, 1
	}
	for i := range m.mix {
		m.mix[i].weight /= total
	}
	if m.mix = m.mix.from(days); m.mix == nil {
		m.mix = mix{{way: ways[0], level: m.typical(), weight: 1}}
	}
	m.level = m.mix.at(0)
	m.slope = (m.mix.at(7) - m.level) / 7
	m.unsure = unsureSlope(days[max(len(days)-trendDays, 0):])
}

// unsureSlope is by how much the slope of a list may be wrong: what its halves say
// differently, and the noise of its days.
func unsureSlope(days []float64) float64 {
	n := float64(len(days))
	slope := slopeOf(days)
	var rest []float64
	for i, v := range days {
		if !math.IsNaN(v) {
			rest = append(rest, v-slope*float64(i))
		}
	}
	if len(rest) < 4 {
		return 0
	}
	return spread(rest) * math.Sqrt(12) / math.Pow(n, 1.5)
}

// aheadDays are the distances at which errors are kept.
var aheadDays = [4]float64{1, 3, 7, 14}

// judge works out how wrong the forecast was, hour by hour, at some distances, in
// parts of the level.
func (m *model) judge() {
	errors := [4][]float64{}
	m.tries(m.mix, func(d, ahead int, said, _ float64) {
		bucket := slices.IndexFunc(aheadDays[:], func(a float64) bool { return float64(ahead) <= a })
		for i := m.day(d); i < m.day(d)+dayHours; i++ {
			if v := m.values[i]; !math.IsNaN(v) {
				errors[bucket] = append(errors[bucket], v/m.season[hourOfWeek(m.series.At(i))]/max(said, 1)-1)
			}
		}
	})
	// The pattern was learned from the same days: on others it fits less well.
	wider := 1.05
	if m.patterned {
		wider = math.Sqrt(1 + 5/(float64(m.days)/7))
	}
	for b := range errors {
		low, high := -0.01, 0.01
		if len(errors[b]) >= dayHours {
			low, high = wider*quantile(errors[b], 0.1), wider*quantile(errors[b], 0.9)
		}
		if b > 0 { // what is further off is not surer
			low, high = min(low, m.low[b-1]), max(high, m.high[b-1])
		}
		m.low[b], m.high[b] = min(low, 0), max(high, 0)
	}
}

// ahead forecasts hours.
func (m *model) ahead(hours int) []Ahead {
	out := make([]Ahead, hours)
	for i := range out {
		out[i] = m.hour(m.series.End().Add(time.Duration(i)*time.Hour), (float64(i)+0.5)/dayHours+0.5)
	}
	return out
}

func (m *model) hour(at time.Time, days float64) Ahead {
	// The level is that of the middle of the last day.
	level := m.mix.at(days)
	low, high := between(m.low, days), between(m.high, days)
	far := 1.28 * m.unsure * max(days-7, 0)
	s := m.season[hourOfWeek(at)]
	a := Ahead{Low: (level*(1+low) - far) * s, Mid: level * s, High: (level*(1+high) + far) * s}
	a.Low = max(a.Low, 0)
	// Nobody comes in parts.
	if wide := math.Sqrt(a.Mid) * 0.3; a.High-a.Low < wide {
		a.Low, a.High = max(a.Mid-wide/2, 0), a.Mid+wide/2
	}
	return a
}

// between is an error at a distance in days: in proportion between those that are
// kept, and growing with the root of the distance beyond.
func between(of [4]float64, days float64) float64 {
	for i, a := range aheadDays {
		if days <= a {
			if i == 0 {
				return of[0]
			}
			b := aheadDays[i-1]
			return of[i-1] + (of[i]-of[i-1])*(days-b)/(a-b)
		}
	}
	return of[3] * math.Sqrt(days/aheadDays[3])
}
