package capacity

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// Limits of a forecast.
const (
	leastDays   = 5   // of history, below which nothing is said
	horizonMost = 180 // days ahead
	trendDays   = 42  // of history that the trend is taken from
)

const (
	dayHours  = 24
	weekHours = 7 * dayHours
)

// Verdict is what a forecast comes to.
type Verdict string

// The verdicts.
const (
	RunsOut     Verdict = "runs-out"    // Date is when, between Early and Late
	MayRunOut   Verdict = "may-run-out" // not in the middle of what is expected, but from Early on it may
	NotBefore   Verdict = "not-before"  // not before Until, which is as far as this history lets one see
	OutNow      Verdict = "out-now"     // there is nothing left
	HistoryThin Verdict = "not-enough-history"
)

// Forecast is when a pool runs out, with its interval: four times out of five it
// is between Early and Late.
type Forecast struct {
	Verdict           Verdict
	Date, Early, Late time.Time // zero: not within what can be seen
	Until             time.Time // as far as can be seen
	Level             float64   // addresses used in the mean of a day, lately
	PerDay            float64   // by how many addresses that grows in a day
	Peak              float64   // the highest hour of the last seven days
	Size              float64
	Days              int         // of history that were used
	Step              time.Time   // since when the use is as it is, if it changed at once; or zero
	Events            []time.Time // days that were not like others, and were left out
	Gaps              int         // hours without samples, or of an outage
	Bands             []Band      // by day, from the first on
}

// Band is what is expected of a day's highest hour.
type Band struct {
	Day            time.Time
	Low, Mid, High float64    // four times out of five between Low and High
	reached        [3]float64 // the same of the highest of all days up to this one
}

// Which of three quantiles, at 10, 50 and 90 %.
const (
	lowest = iota
	middle
	highest
)

// pathsDrawn is how many ways a series may go on are drawn.
const pathsDrawn = 400

// Predict says when a pool of a size runs out, by the history of its use.
func Predict(s Series, size float64) Forecast {
	f := Forecast{Size: size, Until: s.End(), Level: s.lately()}
	m, ok := historyOf(s)
	f.Days, f.Gaps, f.Events = m.days, m.gaps, m.events
	last, peak := recent(s)
	f.Peak = peak
	if last >= size && size > 0 {
		f.Verdict, f.Date, f.Early, f.Late = OutNow, s.End(), s.End(), s.End()
	}
	p, ok2 := m.peaks()
	if !ok || !ok2 {
		if f.Verdict == "" {
			f.Verdict = HistoryThin
		}
		return f
	}
	if n := len(m.steps); n > 0 {
		f.Step = s.At(m.day(m.steps[n-1]))
	}
	paths := p.follow().paths(pathsDrawn, min(max(m.days*3/2, 14), horizonMost))
	f.look(m.next(len(p.values)), paths)
	if f.Verdict != OutNow {
		f.cross()
	}
	return f
}

// Now corrects the forecast by what is so at this moment: the samples are those of the
// hour before.
func (f *Forecast) Now(now time.Time, full bool) {
	switch {
	case full:
		f.Verdict, f.Date, f.Early, f.Late = OutNow, now, now, now
	case f.Verdict == OutNow: // somebody left since
		f.Verdict = RunsOut
	}
}

// peaks are the highest uses of the days; ok is false if there are too few. A last day
// whose busy hours are still to come is not among them.
func (m *history) peaks() (p peaks, ok bool) {
	if len(m.daily) == 0 {
		return p, false
	}
	p = peaks{first: weekday(m.series.At(0)), steps: m.steps}
	var known []float64
	for d := range m.daily {
		v := m.peak(d)
		if p.values = append(p.values, v); !math.IsNaN(v) {
			known = append(known, v)
		}
	}
	if math.IsNaN(p.values[len(p.values)-1]) {
		p.values = p.values[:len(p.values)-1]
	}
	p.scale = max(median(slices.Clone(known)), 1)
	return p, len(known) >= leastDays
}

// next is the beginning of a day, counted from the first of the history.
func (m *history) next(d int) time.Time {
	at := m.series.At(0)
	return time.Date(at.Year(), at.Month(), at.Day()+d, 0, 0, 0, 0, at.Location())
}

// look fills in what is expected of each day.
func (f *Forecast) look(first time.Time, paths [][]float64) {
	of, most := make([]float64, len(paths)), make([]float64, len(paths))
	for d := range paths[0] {
		for i, p := range paths {
			of[i], most[i] = p[d], max(most[i], p[d])
		}
		b := Band{Day: time.Date(first.Year(), first.Month(), first.Day()+d, 0, 0, 0, 0, first.Location())}
		b.Low, b.Mid, b.High = quantile(of, 0.1), quantile(of, 0.5), quantile(of, 0.9)
		so := slices.Clone(most)
		b.reached = [3]float64{quantile(so, 0.1), quantile(so, 0.5), quantile(so, 0.9)}
		f.Bands = append(f.Bands, b)
	}
	last := f.Bands[len(f.Bands)-1].Day
	f.Until = time.Date(last.Year(), last.Month(), last.Day()+1, 0, 0, 0, 0, last.Location())
	week := func(list []Band) (sum float64) {
		for _, b := range list {
			sum += b.Mid / 7
		}
		return sum
	}
	f.PerDay = (week(f.Bands[7:14]) - week(f.Bands[:7])) / 7
}

// cross says when the size is reached: the first days by which one, five and nine of
// ten paths did.
func (f *Forecast) cross() {
	at := func(of int) time.Time { return crossing(f.Bands, f.Size, of) }
	f.Early, f.Date, f.Late = at(highest), at(middle), at(lowest)
	switch {
	case !f.Date.IsZero():
		f.Verdict = RunsOut
	case !f.Early.IsZero():
		f.Verdict = MayRunOut
	default:
		f.Verdict = NotBefore
	}
}

// Of is what is expected if the pool has another size. Whether that is too small for what is used
// now, Now says.
func (f Forecast) Of(size uint64) Forecast {
	if f.Size = float64(size); len(f.Bands) > 0 {
		f.cross()
	}
	return f
}

// Text is the forecast in words.
func (f Forecast) Text() string {
	day := func(t time.Time) string { return t.Format("2 Jan 2006") }
	near := func(t time.Time) string { // beside the date itself
		if t.Year() == f.Date.Year() {
			return t.Format("2 Jan")
		}
		return day(t)
	}
	grows := ""
	if math.Abs(f.PerDay) >= 0.05 {
		grows = fmt.Sprintf(", at %+.1f a day", f.PerDay)
	}
	switch f.Verdict {
	case OutNow:
		return "there is nothing left"
	case HistoryThin:
		return fmt.Sprintf("not enough history: %d of the %d days that it takes", f.Days, leastDays)
	case NotBefore:
		return "not before " + day(f.Until) + grows
	case MayRunOut:
		return fmt.Sprintf("at worst from %s; probably not before %s%s", day(f.Early), day(f.Until), grows)
	}
	text := "about " + day(f.Date)
	switch {
	case f.Late.IsZero():
		text += ", from " + near(f.Early) + " on"
	case f.Early.Equal(f.Late):
	default:
		text += fmt.Sprintf(", between %s and %s", near(f.Early), near(f.Late))
	}
	return text + grows
}

// Busy is the highest use of each hour of the week, Monday 0:00 first in the local time
// of the site, on the average of the last four weeks; -1 where it is not known.
func (s Series) Busy() [][]int {
	var sums, counts [weekHours]float64
	for i := max(0, len(s.Hours)-4*weekHours); i < len(s.Hours); i++ {
		if h := s.Hours[i]; h.Known {
			at := hourOfWeek(s.At(i))
			sums[at] += h.Peak
			counts[at]++
		}
	}
	out := make([][]int, 7)
	for d := range out {
		out[d] = make([]int, dayHours)
		for h := range out[d] {
			out[d][h] = -1
			if n := counts[d*dayHours+h]; n > 0 {
				out[d][h] = int(math.Round(sums[d*dayHours+h] / n))
			}
		}
	}
	return out
}

// Trend is the highest use of each of the last days, the oldest first; -1 where it
// is not known.
func (s Series) Trend(days int) []int {
	out := []int{}
	for d := days - 1; d >= 0; d-- {
		most := -1
		for i := max(len(s.Hours)-(d+1)*dayHours, 0); i < len(s.Hours)-d*dayHours; i++ {
			if h := s.Hours[i]; h.Known {
				most = max(most, int(h.Peak))
			}
		}
		out = append(out, most)
	}
	return out
}

// crossing is the first day by which a size was reached, by a quantile of the paths;
// or zero. Nobody comes in parts.
func crossing(bands []Band, size float64, of int) time.Time {
	if i := slices.IndexFunc(bands, func(b Band) bool { return math.Round(b.reached[of]) >= size }); i >= 0 {
		return bands[i].Day
	}
	return time.Time{}
}

// recent is the last known value, and the peak of the last week.
func recent(s Series) (last, peak float64) {
	for i := len(s.Hours) - 1; i >= max(0, len(s.Hours)-weekHours); i-- {
		if h := s.Hours[i]; h.Known {
			if peak == 0 && last == 0 {
				last = h.Low
			}
			peak = max(peak, h.Peak)
		}
	}
	return last, peak
}

// lately is the mean use of the last seven days.
func (s Series) lately() float64 {
	sum, n := 0.0, 0.0
	for _, h := range s.Hours[max(0, len(s.Hours)-weekHours):] {
		if h.Known {
			sum += h.Mean
			n++
		}
	}
	return sum / max(n, 1)
}
