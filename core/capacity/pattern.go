package capacity

import (
	"math"
	"slices"
	"time"
)

// history is what is known of a series: a level that changes, a pattern of the week
// around it, and what is not like the rest.
type history struct {
	series Series
	values []float64 // the peak of each hour; NaN where it is not known or not like others
	season [weekHours]float64
	known  [weekHours]bool // hours of the week of which something is known
	starts []int           // where each day of the site begins, and the end of the last
	usual  int             // hours that are known of a day, as a rule
	daily  []float64       // the level of each day, without the pattern; NaN where not known
	from   int             // the first day behind the last step
	steps  []int           // days since which the level is another at once
	days   int             // days of which something is known
	gaps   int             // hours that are not known
	events []time.Time
}

// hourOfWeek is 0 for Monday, 0:00 in the local time of the site.
func hourOfWeek(at time.Time) int { return weekday(at)*dayHours + at.Hour() }

// historyOf looks a series through; ok is false if there is too little of it.
func historyOf(s Series) (*history, bool) {
	m := &history{series: s, values: make([]float64, len(s.Hours))}
	counts := []float64{}
	for i, h := range s.Hours {
		if at := s.At(i); i == 0 || at.Day() != s.At(i-1).Day() {
			m.starts, counts = append(m.starts, i), append(counts, 0)
		}
		if m.values[i] = math.NaN(); h.Known {
			m.values[i] = h.Peak
			counts[len(counts)-1]++
		} else {
			m.gaps++
		}
	}
	m.starts = append(m.starts, len(s.Hours))
	counts = slices.DeleteFunc(counts, func(n float64) bool { return n == 0 })
	m.days = len(counts)
	if m.days < leastDays || len(s.Hours) < (leastDays-1)*dayHours {
		return m, false
	}
	m.usual = int(median(counts))
	m.learn()
	m.dropOutages()
	m.learn()
	m.dropEvents()
	m.learn()
	m.findSteps()
	m.learn()
	return m, true
}

// learn works out the pattern of the week, and the level of each day without it.
func (m *history) learn() {
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
		m.season[h], m.known[h] = 1, len(ratios[h]) > 0
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
	if off < 0.02 { // noise alone
		for h := range m.season {
			m.season[h] = 1
		}
	}
	m.daily = make([]float64, len(m.starts)-1)
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

// day is where a day's hours begin.
func (m *history) day(d int) int { return m.starts[d] }

// dayLevel is the level of a day: its hours, each without the pattern.
func (m *history) dayLevel(d int) float64 {
	var list []float64
	for i := m.day(d); i < m.day(d+1); i++ {
		if v := m.values[i]; !math.IsNaN(v) {
			list = append(list, v/m.season[hourOfWeek(m.series.At(i))])
		}
	}
	if len(list) == 0 || len(list) < m.usual/4 {
		return math.NaN()
	}
	return median(list)
}

// peak is the highest use of a day; NaN where the hours that are usually the busiest
// of such a day are not known, as in the morning of the last one.
func (m *history) peak(d int) float64 {
	most, seen, usual := math.NaN(), 0.0, 0.0
	for i := m.day(d); i < m.day(d+1); i++ {
		if v := m.values[i]; !math.IsNaN(v) {
			seen = max(seen, m.season[hourOfWeek(m.series.At(i))])
			if math.IsNaN(most) || v > most {
				most = v
			}
		}
	}
	week := weekday(m.series.At(m.day(d)))
	for h := week * dayHours; h < (week+1)*dayHours; h++ {
		if m.known[h] {
			usual = max(usual, m.season[h])
		}
	}
	if seen < 0.9*usual {
		return math.NaN()
	}
	return most
}

// weekday is 0 for Monday.
func weekday(at time.Time) int { return (int(at.Weekday()) + 6) % 7 }

// smooth is the level around each hour: the mean of the week around it, or of the
// part of it that is there, each hour of the day having the same weight. A step
// is not smoothed over once it is known.
func (m *history) smooth() []float64 {
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
func (m *history) dropOutages() {
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
func (m *history) dropEvents() {
	for range max(4, len(m.daily)/7) {
		var moves []float64
		for d := 1; d < len(m.daily); d++ {
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
		for i := m.day(worst); i < m.day(worst+1); i++ {
			m.values[i] = math.NaN()
		}
		m.learn()
	}
}

func (m *history) typical() float64 {
	return median(slices.DeleteFunc(slices.Clone(m.daily), math.IsNaN))
}

// beside is the level of the days around a day, where those before and those
// behind agree that it is the odd one; or the day's own.
func (m *history) beside(d int) float64 {
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

// findSteps looks for days since which the use is at another level at once, where no
// straight line tells it as well.
func (m *history) findSteps() {
	for from := 0; len(m.daily)-from >= 8; {
		best, at := math.Inf(1), -1
		for d := from + 3; d <= len(m.daily)-3; d++ {
			if err := lines(m.daily[from:d]) + lines(m.daily[d:]); err < best {
				best, at = err, d
			}
		}
		if at < 0 {
			return
		}
		jump := math.Abs(near(m.daily, at, at+4) - near(m.daily, at-4, at))
		noise := best / float64(len(m.daily)-from)
		straight := lines(m.daily[from:])
		if per := straight / float64(len(m.daily)-from); per < 0.5 || per < 0.01*m.typical() { // a line tells it all
			return
		}
		if best > 0.55*straight || jump < 5*noise || jump < 0.06*m.typical() {
			return
		}
		m.from, m.steps = at, append(m.steps, at)
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

// slopeOf is the median of the slopes between each value of a list and the one that is
// half of the list behind it, which a few odd ones do not move.
func slopeOf(list []float64) float64 {
	half := len(list) / 2
	var slopes []float64
	for i := range len(list) - half {
		if v := (list[i+half] - list[i]) / float64(half); !math.IsNaN(v) {
			slopes = append(slopes, v)
		}
	}
	if half == 0 || len(slopes) == 0 {
		return 0
	}
	return median(slopes)
}
