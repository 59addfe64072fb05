package capacity

import (
	"math"
	"math/rand/v2"
	"slices"
)

// The highest use of a day is followed by a state space model (Harvey's basic
// structural model): a level that may wander, a slope that may be none, be damped, or
// wander too, what each day of the week adds, and what a busy day hands on to the next.
// A Kalman filter gives how likely each of the shapes below makes what was seen. They
// all go on from the last day, each for as much as it is likely, in paths that are
// drawn from their states and their noise.

// shape is one form that the model may have. Variances are parts of that of the noise
// of a day.
type shape struct {
	log      bool    // what is followed is the logarithm: noise and week multiply
	straight bool    // with it, growth is by as many a day, and not by as large a part
	week     bool    // days of the week differ
	wander   float64 // variance by which the level moves in a day
	hands    float64 // variance of what a day hands on to the next
	slope    bool
	damp     float64 // what a day leaves of the slope
	bends    float64 // standard deviation by which the slope moves in a day, in parts of the level
	prior    float64 // how much it counts before anything was seen
}

// hand is what of a busy day the next one has, too.
const hand = 0.6

// Prior spreads, in parts of the level.
const (
	slopePrior = 0.008 // of the slope, a day
	weekPrior  = 0.35  // of what a day of the week adds
	stepPrior  = 0.5   // of a step
)

// straighter is how much more often growth is by as many a day than by as large a part.
const straighter = 3

// doubt is the weight of the prior guess of the noise, in days.
const doubt = 4

// shapes are all that are tried.
var shapes = func() (out []shape) {
	noises := []shape{{prior: 1}, {hands: 1, prior: 2}, {wander: 0.02, prior: 0.1}, {wander: 0.1, prior: 0.05}, {wander: 0.5, prior: 0.05}}
	slopes := []shape{{damp: 1, prior: 0.2}, {slope: true, damp: 1, prior: 0.5}, {slope: true, damp: 0.975, prior: 0.05},
		{slope: true, damp: 1, bends: 0.0005, prior: 0.07}}
	for _, noise := range noises {
		for _, slope := range slopes {
			for _, week := range []bool{false, true} {
				s := slope
				s.wander, s.hands, s.week, s.prior = noise.wander, noise.hands, week, slope.prior*noise.prior
				out = append(out, s)
				s.log = true
				out = append(out, s)
				if s.slope {
					s.straight = true
					s.prior *= straighter
					out = append(out, s)
				}
			}
		}
	}
	return out
}()

// The parts of a state.
const (
	atLevel = iota
	atSlope
	atHand
	atWeek // seven
	states = atWeek + 7
)

type (
	vector [states]float64
	matrix [states]vector
)

// filter is a shape after it saw the days: what its state is, and how sure that is.
// Values are in units of the noise that was guessed.
type filter struct {
	shape
	unit     float64 // how much of the level, or of its logarithm, one is
	mean     vector
	variance matrix
	squares  float64 // of the errors, each in parts of its variance
	logs     float64 // of those variances
	seen     float64 // days
}

// peaks is what a filter is to follow: the highest use of each day, NaN where it is
// not known, the day of the week of the first, and days at which the level was another
// at once.
type peaks struct {
	values []float64
	first  int
	steps  []int
	scale  float64 // a typical value
}

// of is a value as a shape follows it.
func (s shape) of(v, scale float64) float64 {
	if s.log {
		return math.Log(max(v, 0.5) / scale)
	}
	return v / scale
}

// back is the value that a shape followed.
func (s shape) back(x, scale float64) float64 {
	if s.log {
		return scale * math.Exp(min(x, 20))
	}
	return max(scale*x, 0)
}

// noise guesses how far a day is from what was to be expected, in parts of the level:
// by how weeks differ, or days where there is one week.
func (p peaks) noise(s shape) float64 {
	for _, apart := range []int{7, 1} {
		var moves []float64
		for d := apart; d < len(p.values); d++ {
			if v := s.of(p.values[d], p.scale) - s.of(p.values[d-apart], p.scale); !math.IsNaN(v) {
				moves = append(moves, v)
			}
		}
		if len(moves) >= 5 {
			return max(spread(moves)/math.Sqrt2, 0.3/p.scale, 0.002)
		}
	}
	return 0.05
}

// run follows the peaks with a shape.
func (p peaks) run(s shape) *filter {
	f := &filter{shape: s, unit: p.noise(s)}
	f.variance[atLevel][atLevel] = square(10 / f.unit)
	if s.slope {
		f.variance[atSlope][atSlope] = square(slopePrior / f.unit)
	}
	if s.week {
		for k := atWeek; k < states; k++ {
			f.variance[k][k] = square(weekPrior / f.unit)
		}
	}
	f.variance[atHand][atHand] = s.hands / (1 - hand*hand)
	for d, v := range p.values {
		f.step()
		if slices.Contains(p.steps, d) {
			f.variance[atLevel][atLevel] += square(stepPrior / f.unit)
		}
		if !math.IsNaN(v) {
			f.see(s.of(v, p.scale)/f.unit, atWeek+(p.first+d)%7)
		}
	}
	return f
}

func square(x float64) float64 { return x * x }

// step goes a day on.
func (f *filter) step() {
	m, v := &f.mean, &f.variance
	adds, change, next := f.slopes(m[atSlope])
	m[atLevel] += adds
	m[atSlope] *= next * f.damp
	m[atHand] *= hand
	if f.slope {
		for k := range states { // rows
			v[atLevel][k] += change * v[atSlope][k]
			v[atSlope][k] *= change * change * f.damp
		}
		for k := range states { // columns
			v[k][atLevel] += change * v[k][atSlope]
			v[k][atSlope] *= change * change * f.damp
		}
		v[atSlope][atSlope] += square(f.bends / f.unit)
	}
	if f.hands > 0 {
		for k := range states {
			v[atHand][k] *= hand
		}
		for k := range states {
			v[k][atHand] *= hand
		}
		v[atHand][atHand] += f.hands
	}
	v[atLevel][atLevel] += f.wander
}

// slopes says what a slope adds to the level in a day, how much of a change of the slope
// that is, and which part of the slope the next day has. Growth by as many a day is less
// and less of a level that grows.
func (f *filter) slopes(slope float64) (adds, change, next float64) {
	if !f.straight {
		return slope, 1, 1
	}
	grown := 1 + max(slope*f.unit, -0.5)
	return math.Log(grown) / f.unit, 1 / grown, 1 / grown
}

// see takes a value in, of a day whose part of the week is at an index.
func (f *filter) see(value float64, week int) {
	var gain vector
	for k := range states {
		gain[k] = f.variance[k][atLevel] + f.variance[k][atHand] + f.variance[k][week]
	}
	wide := gain[atLevel] + gain[atHand] + gain[week] + 1
	off := value - f.mean[atLevel] - f.mean[atHand] - f.mean[week]
	f.squares += off * off / wide
	f.logs += math.Log(wide)
	f.seen++
	for k := range states {
		f.mean[k] += gain[k] / wide * off
		for j := range states {
			f.variance[k][j] -= gain[k] * gain[j] / wide
		}
	}
}

// likely is the logarithm of how likely the shape makes what was seen, with the noise
// integrated out, in terms that all shapes have in common.
func (f *filter) likely(p peaks) float64 {
	l := math.Log(f.prior) - 0.5*f.logs - (doubt+f.seen)/2*math.Log((doubt+f.squares)/doubt) - f.seen*math.Log(f.unit)
	if f.log { // the density of a logarithm is one of the value times the value
		for _, v := range p.values {
			if !math.IsNaN(v) {
				l -= math.Log(max(v, 0.5) / p.scale)
			}
		}
	}
	return l
}

// trend is what is known of how the highest use of a day goes on.
type trend struct {
	peaks
	filters []*filter
	weights []float64 // of each, 1 in all
}

// follow tries every shape on the peaks.
func (p peaks) follow() trend {
	t := trend{peaks: p}
	best := math.Inf(-1)
	for _, s := range shapes {
		f := p.run(s)
		t.filters = append(t.filters, f)
		t.weights = append(t.weights, f.likely(p))
		best = max(best, t.weights[len(t.weights)-1])
	}
	sum := 0.0
	for i, w := range t.weights {
		t.weights[i] = math.Exp(w - best)
		sum += t.weights[i]
	}
	for i := range t.weights {
		t.weights[i] /= sum
	}
	return t
}

// paths draws how the days to come may go, so many of each. The same history gives the
// same paths.
func (t trend) paths(count, days int) [][]float64 {
	random := rand.New(rand.NewPCG(uint64(len(t.values)), 1))
	out := make([][]float64, 0, count)
	sum := 0.0
	roots := map[int]*matrix{}
	for i := range count {
		// Evenly over the weights, so that none is drawn by chance alone.
		at, k := (float64(i)+0.5)/float64(count), 0
		for sum = t.weights[0]; sum < at && k < len(t.weights)-1; sum += t.weights[k] {
			k++
		}
		f := t.filters[k]
		if roots[k] == nil {
			roots[k] = f.variance.root()
		}
		out = append(out, t.path(f, roots[k], days, random))
	}
	return out
}

func (t trend) path(f *filter, root *matrix, days int, random *rand.Rand) []float64 {
	scale := math.Sqrt((doubt + f.squares) / chiSquare(random, doubt+f.seen))
	state := f.mean
	for k := range states {
		z := scale * random.NormFloat64()
		for j := k; j < states; j++ {
			state[j] += root[j][k] * z
		}
	}
	wander, hands, bends := scale*math.Sqrt(f.wander), scale*math.Sqrt(f.hands), scale*f.bends/f.unit
	out := make([]float64, days)
	for d := range out {
		adds, _, next := f.slopes(state[atSlope])
		state[atLevel] += adds
		state[atSlope] *= next * f.damp
		state[atHand] *= hand
		if wander > 0 {
			state[atLevel] += wander * random.NormFloat64()
		}
		if bends > 0 {
			state[atSlope] += bends * random.NormFloat64()
		}
		if hands > 0 {
			state[atHand] += hands * random.NormFloat64()
		}
		x := state[atLevel] + state[atHand] + state[atWeek+(t.first+len(t.values)+d)%7] + scale*random.NormFloat64()
		out[d] = f.back(x*f.unit, t.scale)
	}
	return out
}

// root is a lower triangular matrix whose product with itself turned is this one
// (Cholesky's).
func (v *matrix) root() *matrix {
	l := &matrix{}
	for i := range states {
		for j := range i + 1 {
			sum := v[i][j]
			for k := range j {
				sum -= l[i][k] * l[j][k]
			}
			switch {
			case i == j:
				l[i][i] = math.Sqrt(max(sum, 0))
			case l[j][j] > 1e-9:
				l[i][j] = sum / l[j][j]
			}
		}
	}
	return l
}

// chiSquare draws from the distribution of that name, with so many degrees of freedom
// (Wilson and Hilferty's approximation).
func chiSquare(random *rand.Rand, of float64) float64 {
	c := 2 / (9 * of)
	x := 1 - c + random.NormFloat64()*math.Sqrt(c)
	return of * max(x*x*x, 0.05)
}
