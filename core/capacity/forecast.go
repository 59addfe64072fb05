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
	Low, Mid, High float64 // four times out of five between Low and High
}

// Ahead is the forecast of single hours.
type Ahead struct{ Low, Mid, High float64 }

// Predict says when a pool of a size runs out, by the history of its use.
func Predict(s Series, size float64) Forecast {
	f := Forecast{Size: size, Until: s.End()}
	m, ok := fit(s)
	f.Days, f.Gaps = m.days, m.gaps
	last, peak := recent(s)
	f.Peak = peak
	if last >= size && size > 0 {
		f.Verdict, f.Date, f.Early, f.Late = OutNow, s.End(), s.End(), s.End()
	}
	if !ok {
		if f.Verdict == "" {
			f.Verdict = HistoryThin
		}
		return f
	}
	f.Level, f.PerDay, f.Events, f.Step = m.level, m.slope, m.events, m.step
	days := min(max(m.days*3/2, 14), horizonMost)
	f.Until = s.End().Add(time.Duration(days) * dayHours * time.Hour)
	hours := m.ahead(days * dayHours)
	for d := range days {
		b := Band{Day: s.End().Add(time.Duration(d*dayHours) * time.Hour)}
		for _, h := range hours[d*dayHours : (d+1)*dayHours] {
			b.Low, b.Mid, b.High = max(b.Low, h.Low), max(b.Mid, h.Mid), max(b.High, h.High)
		}
		f.Bands = append(f.Bands, b)
	}
	if f.Verdict == OutNow {
		return f
	}
	f.Date = crossing(f.Bands, size, func(b Band) float64 { return b.Mid })
	f.Early = crossing(f.Bands, size, func(b Band) float64 { return b.High })
	f.Late = crossing(f.Bands, size, func(b Band) float64 { return b.Low })
	switch {
	case !f.Date.IsZero():
		f.Verdict = RunsOut
	case !f.Early.IsZero():
		f.Verdict = MayRunOut
	default:
		f.Verdict = NotBefore
	}
	return f
}

// Text is the forecast in words.
func (f Forecast) Text() string {
	day := func(t time.Time) string { return t.UTC().Format("2 Jan 2006") }
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
	switch late := day(f.Late); {
	case f.Late.IsZero():
		text += ", from " + day(f.Early) + " on"
	case f.Early.Equal(f.Late):
	default:
		text += fmt.Sprintf(", between %s and %s", day(f.Early), late)
	}
	return text + grows
}

// Busy is the highest use of each hour of the week, Monday 0:00 UTC first, on the
// average of the last weeks; -1 where it is not known.
func (s Series) Busy() [][]int {
	var sums, counts [weekHours]float64
	for i := max(0, len(s.Hours)-8*weekHours); i < len(s.Hours); i++ {
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

// Hourly forecasts a number of hours behind a series; ok is false if it is too
// short.
func Hourly(s Series, hours int) (out []Ahead, ok bool) {
	m, ok := fit(s)
	if !ok {
		return nil, false
	}
	return m.ahead(hours), true
}

// crossing is the first day on which something reaches a size, or zero.
func crossing(bands []Band, size float64, of func(Band) float64) time.Time {
	if i := slices.IndexFunc(bands, func(b Band) bool { return of(b) >= size }); i >= 0 {
		return bands[i].Day
	}
	return time.Time{}
}

// recent is the last known value, and the peak of the last week.
func recent(s Series) (last, peak float64) {
	for i := len(s.Hours) - 1; i >= max(0, len(s.Hours)-weekHours); i-- {
		if h := s.Hours[i]; h.Known {
			if peak == 0 && last == 0 {
				last = h.Peak
			}
			peak = max(peak, h.Peak)
		}
	}
	return last, peak
}

// model is what is known of a series: a level that grows, a pattern of the week
// around it, and by how much it was wrong where it could be tried.
type model struct {
	series    Series
	values    []float64 // the peak of each hour; NaN where it is not known or not like others
	season    [weekHours]float64
	patterned bool      // the season is not 1 throughout
	daily     []float64 // the level of each day, without the pattern; NaN where not known
	from      int       // the first day of daily that counts: behind the last step
	days      int
	gaps      int
	mix       mix     // how it goes on
	level     float64 // at the end
	slope     float64 // a day, over the next week
	low       [4]float64
	high      [4]float64 // relative errors at 1, 3, 7 and 14 days
	unsure    float64    // of the slope, a day
	events    []time.Time
	step      time.Time
}

// hourOfWeek is 0 for Monday, 0:00 UTC.
func hourOfWeek(at time.Time) int { return (int(at.Weekday())+6)%7*dayHours + at.Hour() }

func fit(s Series) (*model, bool) {
	m := &model{series: s, values: make([]float64, len(s.Hours))}
	for i, h := range s.Hours {
		if m.values[i] = math.NaN(); h.Known {
			m.values[i] = h.Peak
		} else {
			m.gaps++
		}
	}
	m.days = len(s.Hours) / dayHours
	if m.days < leastDays || len(s.Hours)-m.gaps < leastDays*dayHours/2 {
		return m, false
	}
	m.learn()
	m.dropOutages()
	m.learn()
	m.dropEvents()
	m.learn()
	m.findStep()
	m.learn()
	m.choose()
	m.judge()
	return m, true
}

// learn works out the pattern of the week, and the level of each day without it.
func (m *model) learn() {
	trend := m.smooth()
	ratios := make([][]float64, weekHours)
	for i, v := range m.values {
		if !math.IsNaN(v) && trend[i] > 0 {
			h := hourOfWeek(m.series.At(i))
			ratios[h] = append(ratios[h], v/trend[i])
		}
	}
	sum, off := 0.0, 0.0
	alike := likeDays(ratios)
	for h := range m.season {
		// The same hour of the week says more the more weeks there are; days that
		// are like it say the rest.
		var peers []float64
		for _, d := range alike[h/dayHours] {
			peers = append(peers, ratios[d*dayHours+h%dayHours]...)
		}
		m.season[h] = 1
		if len(peers) > 0 {
			m.season[h] = median(peers)
		}
		if n := float64(len(ratios[h])); n > 0 {
			w := n / (n + 2)
			m.season[h] = w*median(slices.Clone(ratios[h])) + (1-w)*m.season[h]
		}
		sum += m.season[h]
	}
	for h := range m.season {
		m.season[h] = max(m.season[h]*weekHours/sum, 0.01)
		off += math.Abs(m.season[h]-1) / weekHours
	}
	if m.patterned = off >= 0.02; !m.patterned { // noise alone
		for h := range m.season {
			m.season[h] = 1
		}
	}
	m.daily = make([]float64, m.days)
	for d := range m.daily {
		m.daily[d] = m.dayLevel(d)
	}
}

// likeDays gives for each day of the week those that are like it, itself among
// them: as many are there on the average, or there is too little to tell.
func likeDays(ratios [][]float64) (alike [7][]int) {
	var mean [7]float64
	for d := range mean {
		sum, n := 0.0, 0
		for _, hour := range ratios[d*dayHours : (d+1)*dayHours] {
			if len(hour) > 0 {
				sum += median(slices.Clone(hour))
				n++
			}
		}
		mean[d] = math.NaN()
		if n >= dayHours/2 {
			mean[d] = sum / float64(n)
		}
	}
	for d := range mean {
		for o := range mean {
			if d == o || math.IsNaN(mean[d]) || math.Abs(mean[d]-mean[o]) < 0.07 {
				alike[d] = append(alike[d], o)
			}
		}
	}
	return alike
}

// day is where a day's hours begin; the last day ends with the series.
func (m *model) day(d int) int { return len(m.values) - (m.days-d)*dayHours }

// dayLevel is the level of a day: its hours, each without the pattern.
func (m *model) dayLevel(d int) float64 {
	var list []float64
	for i := m.day(d); i < m.day(d)+dayHours; i++ {
		if v := m.values[i]; !math.IsNaN(v) {
			list = append(list, v/m.season[hourOfWeek(m.series.At(i))])
		}
	}
	if len(list) < dayHours/4 {
		return math.NaN()
	}
	return median(list)
}

// smooth is the level around each hour: the mean of the week around it, or of the
// part of it that is there, each hour of the day having the same weight. A step
// is not smoothed over once it is known.
func (m *model) smooth() []float64 {
	out := make([]float64, len(m.values))
	cut := m.day(m.from)
	if m.from == 0 {
		cut = 0
	}
	sums, counts := make([]float64, len(m.values)+1), make([]int, len(m.values)+1)
	for i, v := range m.values {
		sums[i+1], counts[i+1] = sums[i], counts[i]
		if !math.IsNaN(v) {
			sums[i+1] += v
			counts[i+1]++
		}
	}
	for i := range out {
		lo, hi := i-weekHours/2, i+weekHours/2
		first, end := 0, len(m.values)
		if cut > 0 && i >= cut {
			first = cut
		} else if cut > 0 {
			end = cut
		}
		if lo < first {
			lo, hi = first, min(first+weekHours, end)
		}
		if hi > end {
			lo, hi = max(end-weekHours, first), end
		}
		if n := counts[hi] - counts[lo]; n > 0 {
			out[i] = (sums[hi] - sums[lo]) / float64(n)
			// At an end the week is not around the hour: what the level does from the
			// week beside it to this one, it goes on doing.
			from := lo - weekHours/2
			if off := i - (lo+hi)/2; off < 0 {
				from = lo + weekHours/2
			} else if off == 0 {
				continue
			}
			if from < first || from+weekHours > end {
				continue
			}
			if k := counts[from+weekHours] - counts[from]; k > 0 {
				beside := (sums[from+weekHours] - sums[from]) / float64(k)
				out[i] += (out[i] - beside) / float64(lo-from) * float64(i-(lo+hi)/2)
			}
		}
	}
	return out
}

// dropOutages takes hours out in which next to nobody was there although
// somebody always is: the samples of an outage, and of the hours after it.
func (m *model) dropOutages() {
	trend := m.smooth()
	for i, v := range m.values {
		if expect := trend[i] * m.season[hourOfWeek(m.series.At(i))]; !math.IsNaN(v) && expect > 5 && v < expect*0.15 {
			m.values[i] = math.NaN()
			m.gaps++
		}
	}
}

// dropEvents takes days out that were not like the days before and behind them: an
// open day, a holiday.
func (m *model) dropEvents() {
	for range 4 {
		var moves []float64
		for d := 1; d < m.days; d++ {
			if v := m.daily[d] - m.daily[d-1]; !math.IsNaN(v) {
				moves = append(moves, v)
			}
		}
		usual := max(spread(moves), 0.01*m.typical(), 0.7)
		worst, far := -1, 0.0
		for d := range m.daily {
			if off := m.daily[d] - m.beside(d); math.Abs(off) > 5*usual && math.Abs(off) > far {
				worst, far = d, math.Abs(off)
			}
		}
		if worst < 0 {
			return
		}
		m.events = append(m.events, m.series.At(m.day(worst)))
		for i := m.day(worst); i < m.day(worst)+dayHours; i++ {
			m.values[i] = math.NaN()
		}
		m.learn()
	}
}

func (m *model) typical() float64 {
	return median(slices.DeleteFunc(slices.Clone(m.daily), math.IsNaN))
}

// beside is the level of the days around a day, where those before and those
// behind agree that it is the odd one; or the day's own.
func (m *model) beside(d int) float64 {
	before := near(m.daily, d-3, d)
	behind := near(m.daily, d+1, d+4)
	if math.IsNaN(before) || math.IsNaN(behind) {
		return m.daily[d]
	}
	if (m.daily[d] > before) != (m.daily[d] > behind) {
		return m.daily[d]
	}
	if a, b := math.Abs(m.daily[d]-before), math.Abs(m.daily[d]-behind); math.Abs(before-behind) > min(a, b)/2 {
		return m.daily[d]
	}
	return (before + behind) / 2
}

func near(list []float64, from, to int) float64 {
	return median(slices.DeleteFunc(slices.Clone(list[max(from, 0):max(min(to, len(list)), max(from, 0))]), math.IsNaN))
}

// findStep looks for a day since which the use is at another level at once, where
// no straight line tells it as well.
func (m *model) findStep() {
	for from := 0; m.days-from >= 8; {
		best, at := math.Inf(1), -1
		for d := from + 3; d <= m.days-3; d++ {
			if err := lines(m.daily[from:d]) + lines(m.daily[d:]); err < best {
				best, at = err, d
			}
		}
		if at < 0 {
			return
		}
		jump := math.Abs(near(m.daily, at, at+4) - near(m.daily, at-4, at))
		noise := best / float64(m.days-from)
		straight := lines(m.daily[from:])
		if per := straight / float64(m.days-from); per < 0.5 || per < 0.01*m.typical() { // a line tells it all
			return
		}
		if best > 0.55*straight || jump < 5*noise || jump < 0.06*m.typical() {
			return
		}
		m.from, m.step = at, m.series.At(m.day(at))
		from = at
	}
}

// lines is how far a list is from a straight line through it, in all.
func lines(list []float64) (sum float64) {
	slope := slopeOf(list)
	var rest []float64
	for i, v := range list {
		if !math.IsNaN(v) {
			rest = append(rest, v-slope*float64(i))
		}
	}
	mid := median(slices.Clone(rest))
	for _, v := range rest {
		sum += math.Abs(v - mid)
	}
	return sum
}

// slopeOf is the median of the slopes between any two values of a list (Theil and
// Sen's), which a few odd ones do not move.
func slopeOf(list []float64) float64 {
	var slopes []float64
	for i := range list {
		for j := i + 1; j < len(list); j++ {
			if v := (list[j] - list[i]) / float64(j-i); !math.IsNaN(v) {
				slopes = append(slopes, v)
			}
		}
	}
	if len(slopes) == 0 {
		return 0
	}
	return median(slopes)
}
