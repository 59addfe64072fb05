package capacity

import (
	"math"
	"slices"
	"time"
)

// Score is how good forecasts of a week were, on the average of a day.
type Score struct {
	Days            int
	Own, Line, Week float64 // pinball loss at 10, 50 and 90 %, in addresses: of the forecast, of a straight line, of last week's day
	Covered         float64 // share of days between low and high
}

// quantiles is a forecast of a day's highest hour.
type quantiles struct{ low, mid, high float64 }

// pinball is the loss of a quantile (Koenker and Bassett).
func pinball(said, was, p float64) float64 {
	if was >= said {
		return p * (was - said)
	}
	return (1 - p) * (said - was)
}

func (q quantiles) loss(was float64) float64 {
	return (pinball(q.low, was, 0.1) + pinball(q.mid, was, 0.5) + pinball(q.high, was, 0.9)) / 3
}

// until is a series up to an hour.
func (s Series) until(hours int) Series { return Series{s.Start, s.Hours[:hours]} }

// highs are the highest uses of whole days, NaN where nothing is known.
func (s Series) highs() []float64 {
	out := make([]float64, len(s.Hours)/dayHours)
	for d := range out {
		out[d] = math.NaN()
		for _, h := range s.Hours[d*dayHours : (d+1)*dayHours] {
			if h.Known && !(h.Peak <= out[d]) {
				out[d] = h.Peak
			}
		}
	}
	return out
}

// BackTest forecasts the highest hour of each day of a week from each day of a series
// that leaves two weeks before it, and compares with what came, and with what two
// simple ways would have said. Its days begin with the series.
func BackTest(s Series) (r Score) {
	highs := s.highs()
	for end := 14; end+7 <= len(highs); end++ {
		own := Predict(s.until(end*dayHours), math.Inf(1)).Bands
		if len(own) < 7 {
			continue
		}
		line, week := straight(highs[:end]), lastWeek(highs[:end])
		for d := range 7 {
			was := highs[end+d]
			if math.IsNaN(was) {
				continue
			}
			r.Days++
			r.Own += quantiles{own[d].Low, own[d].Mid, own[d].High}.loss(was)
			r.Line += line[d].loss(was)
			r.Week += week[d].loss(was)
			if own[d].Low <= was && was <= own[d].High {
				r.Covered++
			}
		}
	}
	if n := float64(r.Days); n > 0 {
		r.Own, r.Line, r.Week, r.Covered = r.Own/n, r.Line/n, r.Week/n, r.Covered/n
	}
	return r
}

// leastSquares is the straight line through points whose y is known.
func leastSquares(xs, ys []float64) (base, slope float64) {
	var n, sx, sy, sxx, sxy float64
	for i, y := range ys {
		if x := xs[i]; !math.IsNaN(y) {
			n, sx, sy, sxx, sxy = n+1, sx+x, sy+y, sxx+x*x, sxy+x*y
		}
	}
	slope = (n*sxy - sx*sy) / max(n*sxx-sx*sx, 1)
	return (sy - slope*sx) / max(n, 1), slope
}

// straight is a week by a straight line of least squares through the past, with
// the spread that it had.
func straight(highs []float64) []quantiles {
	days := make([]float64, len(highs))
	for i := range days {
		days[i] = float64(i)
	}
	base, slope := leastSquares(days, highs)
	var rest []float64
	for i, h := range highs {
		if !math.IsNaN(h) {
			rest = append(rest, h-base-slope*float64(i))
		}
	}
	low, high := quantile(slices.Clone(rest), 0.1), quantile(rest, 0.9)
	out := make([]quantiles, 7)
	for i := range out {
		mid := base + slope*float64(len(highs)+i)
		out[i] = quantiles{mid + low, mid, mid + high}
	}
	return out
}

// lastWeek is a week as the one before it, with the spread that this had.
func lastWeek(highs []float64) []quantiles {
	var rest []float64
	for i := 7; i < len(highs); i++ {
		if off := highs[i] - highs[i-7]; !math.IsNaN(off) {
			rest = append(rest, off)
		}
	}
	low, high := quantile(slices.Clone(rest), 0.1), quantile(rest, 0.9)
	out := make([]quantiles, 7)
	for i := range out {
		mid := math.NaN()
		for back := len(highs) + i - 7; back >= 0 && math.IsNaN(mid); back -= 7 {
			mid = highs[back]
		}
		if math.IsNaN(mid) {
			mid = median(slices.DeleteFunc(slices.Clone(highs), math.IsNaN))
		}
		out[i] = quantiles{mid + min(low, 0), mid, mid + max(high, 0)}
	}
	return out
}

// DateScore is how good the forecast of a date was.
type DateScore struct {
	Days      float64 // until it came, from where the forecast was made
	Own, Line float64 // days off: the forecast, and a line through the weekly peaks
	Covered   bool    // it came between early and late
	Width     float64 // days between those; as far as can be seen where there is no end
	Seen      float64 // days that can be seen
}

// ScoreDate forecasts from an hour of a series on when it reaches a size, and compares
// with when it did; ok is false if it did not, or had before. Who says that it is not to
// be seen is taken to say the end of what can be.
func ScoreDate(s Series, known int, size float64) (r DateScore, ok bool) {
	came := slices.IndexFunc(s.Hours, func(h Hour) bool { return h.Known && h.Peak >= size })
	if came < known {
		return r, false
	}
	days := func(t time.Time) float64 { return t.Sub(s.At(known)).Hours() / dayHours }
	r.Days = math.Floor(days(s.At(came)))
	past := s.until(known)
	f := Predict(past, size)
	r.Seen = math.Floor(days(f.Until))
	off := func(said float64) float64 {
		return math.Abs(math.Floor(min(max(said, 0), r.Seen)) - min(r.Days, r.Seen))
	}
	at := func(t time.Time) float64 {
		if t.IsZero() {
			return r.Seen
		}
		return days(t)
	}
	r.Own, r.Line = off(at(f.Date)), off(throughPeaks(past, size))
	early, late := math.Floor(at(f.Early)), math.Floor(at(f.Late))
	r.Covered, r.Width = early <= r.Days && r.Days <= late, late-early
	return r, true
}

// throughPeaks is in how many days a line through the weekly peaks reaches a size; it
// is what people draw by hand.
func throughPeaks(s Series, size float64) float64 {
	var at, peaks []float64
	for end := len(s.Hours); end >= weekHours; end -= weekHours {
		peak, hour := math.NaN(), 0
		for i := end - weekHours; i < end; i++ {
			if h := s.Hours[i]; h.Known && !(h.Peak <= peak) {
				peak, hour = h.Peak, i
			}
		}
		at, peaks = append(at, float64(hour-len(s.Hours))/dayHours), append(peaks, peak)
	}
	base, slope := leastSquares(at, peaks)
	if slope <= 0 {
		return math.Inf(1)
	}
	return (size - base) / slope
}
