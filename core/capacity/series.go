// Package capacity knows addresses over time: how many are used, when a
// pool runs out, what would help, how large a pool has to be. Samples and counts
// come in as values; answers go out as values, with what they rest on.
package capacity

import (
	"math"
	"slices"
	"time"
)

// Hour is what an hour's samples came to. An hour without samples is not known.
type Hour struct {
	Low, Mean, Peak float64 // addresses used
	Known           bool
}

// Series is the use of one pool, hour by hour.
type Series struct {
	Start time.Time // of the first hour, a whole hour; days and weeks are those of its location
	Hours []Hour
}

// At is the beginning of an hour.
func (s Series) At(i int) time.Time { return s.Start.Add(time.Duration(i) * time.Hour) }

// End is the end of the last hour.
func (s Series) End() time.Time { return s.At(len(s.Hours)) }

// Sample is how many addresses were used at a moment.
type Sample struct {
	At   time.Time
	Used float64
}

// FromSamples gathers samples into hours, whose days and weeks are those of a zone. They
// may come in any order and at any distance; what is sampled less than once an hour has
// hours that are not known.
func FromSamples(list []Sample, zone *time.Location) Series {
	if len(list) == 0 {
		return Series{}
	}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b Sample) int { return a.At.Compare(b.At) })
	s := Series{Start: list[0].At.UTC().Truncate(time.Hour).In(zone)}
	n := int(list[len(list)-1].At.Sub(s.Start)/time.Hour) + 1
	s.Hours = make([]Hour, n)
	counts := make([]int, n)
	for _, x := range list {
		i := int(x.At.Sub(s.Start) / time.Hour)
		h := &s.Hours[i]
		if !h.Known {
			*h = Hour{x.Used, 0, x.Used, true}
		}
		h.Low, h.Peak = min(h.Low, x.Used), max(h.Peak, x.Used)
		h.Mean += x.Used
		counts[i]++
	}
	for i, n := range counts {
		if n > 0 {
			s.Hours[i].Mean /= float64(n)
		}
	}
	return s
}

// median is the middle of a list, which it sorts; NaN of none.
func median(list []float64) float64 { return quantile(list, 0.5) }

// quantile is the value below which a share of a list lies, which it sorts; NaN
// of none. Between two values it is in proportion.
func quantile(list []float64, p float64) float64 {
	if len(list) == 0 {
		return math.NaN()
	}
	slices.Sort(list)
	at := p * float64(len(list)-1)
	i := int(at)
	if i+1 >= len(list) {
		return list[len(list)-1]
	}
	return list[i] + (at-float64(i))*(list[i+1]-list[i])
}

// spread is how far the values of a list are from their median, in the middle:
// 1.48 times the median distance, which is the standard deviation of what is
// normal.
func spread(list []float64) float64 {
	m := median(slices.Clone(list))
	far := make([]float64, len(list))
	for i, v := range list {
		far[i] = math.Abs(v - m)
	}
	return 1.4826 * median(far)
}

// Day is the use of a day.
type Day struct {
	Day             time.Time
	Low, Mean, Peak float64
	Known           bool
}

// Days are the last days of a series by the day, the oldest first; a day is 24 hours
// that end with the series.
func (s Series) Days(most int) (out []Day) {
	for d := min(most, len(s.Hours)/dayHours) - 1; d >= 0; d-- {
		from := len(s.Hours) - (d+1)*dayHours
		x := Day{Day: s.At(from), Low: math.Inf(1)}
		n := 0.0
		for _, h := range s.Hours[from : from+dayHours] {
			if h.Known {
				x.Low, x.Peak, x.Mean, x.Known = min(x.Low, h.Low), max(x.Peak, h.Peak), x.Mean+h.Mean, true
				n++
			}
		}
		if n > 0 {
			x.Mean /= n
		}
		out = append(out, x)
	}
	return out
}
