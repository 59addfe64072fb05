package capacity

import (
	"math"
	"slices"
)

// Score is how good forecasts of a week were, on the average of an hour.
type Score struct {
	Hours           int
	Own, Line, Week float64 // pinball loss at 10, 50 and 90 %, in addresses: of the forecast, of a straight line, of last week's value
	Covered         float64 // share of hours between Low and High
}

// pinball is the loss of a quantile (Koenker and Bassett).
func pinball(said, was, p float64) float64 {
	if was >= said {
		return p * (was - said)
	}
	return (1 - p) * (said - was)
}

func (a Ahead) loss(was float64) float64 {
	return (pinball(a.Low, was, 0.1) + pinball(a.Mid, was, 0.5) + pinball(a.High, was, 0.9)) / 3
}

// BackTest forecasts a week from each day of a series that leaves two weeks before
// it, and compares with what came, and with what two simple ways would have said.
func BackTest(s Series) (r Score) {
	for end := 14 * dayHours; end+weekHours <= len(s.Hours); end += dayHours {
		past := Series{s.Start, s.Hours[:end]}
		own, ok := Hourly(past, weekHours)
		if !ok {
			continue
		}
		line, week := straight(past), lastWeek(past)
		for i := range weekHours {
			h := s.Hours[end+i]
			if !h.Known {
				continue
			}
			r.Hours++
			r.Own += own[i].loss(h.Peak)
			r.Line += line[i].loss(h.Peak)
			r.Week += week[i].loss(h.Peak)
			if own[i].Low <= h.Peak && h.Peak <= own[i].High {
				r.Covered++
			}
		}
	}
	if n := float64(r.Hours); n > 0 {
		r.Own, r.Line, r.Week, r.Covered = r.Own/n, r.Line/n, r.Week/n, r.Covered/n
	}
	return r
}

// straight is a week by a straight line of least squares through the past, with
// the spread that it had.
func straight(s Series) []Ahead {
	var n, sx, sy, sxx, sxy float64
	for i, h := range s.Hours {
		if x := float64(i); h.Known {
			n, sx, sy, sxx, sxy = n+1, sx+x, sy+h.Peak, sxx+x*x, sxy+x*h.Peak
		}
	}
	slope := (n*sxy - sx*sy) / max(n*sxx-sx*sx, 1)
	base := (sy - slope*sx) / max(n, 1)
	var rest []float64
	for i, h := range s.Hours {
		if h.Known {
			rest = append(rest, h.Peak-base-slope*float64(i))
		}
	}
	low, high := quantile(slices.Clone(rest), 0.1), quantile(rest, 0.9)
	out := make([]Ahead, weekHours)
	for i := range out {
		mid := base + slope*float64(len(s.Hours)+i)
		out[i] = Ahead{mid + low, mid, mid + high}
	}
	return out
}

// lastWeek is a week as the one before it, with the spread that this had.
func lastWeek(s Series) []Ahead {
	var rest []float64
	for i := weekHours; i < len(s.Hours); i++ {
		if a, b := s.Hours[i-weekHours], s.Hours[i]; a.Known && b.Known {
			rest = append(rest, b.Peak-a.Peak)
		}
	}
	low, high := quantile(slices.Clone(rest), 0.1), quantile(rest, 0.9)
	out := make([]Ahead, weekHours)
	for i := range out {
		mid := math.NaN()
		for back := len(s.Hours) + i - weekHours; back >= 0; back -= weekHours {
			if h := s.Hours[back]; h.Known {
				mid = h.Peak
				break
			}
		}
		if math.IsNaN(mid) {
			mid = s.Hours[len(s.Hours)-1].Peak
		}
		out[i] = Ahead{mid + min(low, 0), mid, mid + max(high, 0)}
	}
	return out
}
