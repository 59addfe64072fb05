package capacity

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"time"

	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// Demand is who wants addresses: seats that are always taken, and people or things
// that come, stay, and leave without a word.
type Demand struct {
	Seats    int           // clients that are always there
	Arrivals float64       // an hour, in the busiest hours
	Stay     time.Duration // how long one stays, on the average; times are exponential
	Releases float64       // share of those that leave who release their address, 0 to 1
}

// Duty is why a lease may not be shorter than something, as people say it.
type Duty struct {
	Least  time.Duration
	Reason string
}

// Sizing is what a demand comes to with a lease time and, if a pool was given, in
// it.
type Sizing struct {
	Demand
	Lease    time.Duration
	Hold     time.Duration // how long an address is held for one arrival, on the average
	Mean     float64       // addresses held
	Peak     int           // addresses that are enough but in one moment of Chance
	Chance   float64
	Pool     int     // addresses that were given, or are proposed
	Refused  float64 // share of arrivals that find the pool full, in the long run
	Renewals float64 // a second
	Duty     string  // why the lease is not shorter; "" if nothing asks for it
}

// chance is how seldom a pool may be full: one moment in a thousand.
const chance = 0.001

// ErrDemand is wrapped when a demand makes no sense.
var ErrDemand = errors.New("demand")

func (d Demand) check() error {
	switch {
	case d.Seats < 0 || d.Seats > 1<<30:
		return fmt.Errorf("%w: %d seats; give 0 to a billion", ErrDemand, d.Seats)
	case !(d.Arrivals >= 0) || d.Arrivals > 1e9:
		return fmt.Errorf("%w: %g arrivals an hour; give 0 to a billion", ErrDemand, d.Arrivals)
	case d.Arrivals > 0 && d.Stay <= 0:
		return fmt.Errorf("%w: say how long those who arrive stay, such as --stay 45m", ErrDemand)
	case !(d.Releases >= 0 && d.Releases <= 1):
		return fmt.Errorf("%w: %g of those who leave release their address; give 0 to 1", ErrDemand, d.Releases)
	case d.Seats == 0 && d.Arrivals == 0:
		return fmt.Errorf("%w: nobody wants an address; give seats, or arrivals an hour", ErrDemand)
	}
	return nil
}

// Hold is how long an address is held for one who arrives, with a lease time: the
// stay, and what is left of the lease behind it. A client renews at half of the
// lease (RFC 2131 section 4.4.5), so of a stay in which it renewed n times, n/2 + 1
// leases are held.
func (d Demand) hold(lease time.Duration) time.Duration {
	half := lease.Seconds() / 2
	stay := d.Stay.Seconds()
	silent := lease.Seconds() + half/math.Expm1(half/stay)
	return time.Duration((d.Releases*stay + (1-d.Releases)*silent) * float64(time.Second))
}

// load is how many addresses are held for those that arrive, on the average.
func (d Demand) load(lease time.Duration) float64 {
	if d.Arrivals <= 0 {
		return 0
	}
	return d.Arrivals / 3600 * d.hold(lease).Seconds()
}

// peak is how many addresses are enough but for one moment of chance.
func (d Demand) peak(load float64) int { return d.Seats + poissonQuantile(load, 1-chance) }

// Size works out what a demand needs with a lease time: addresses held are those
// of a queue with Poisson arrivals, any time of service and no end of servers
// (M/G/∞), so their number is a Poisson variable. With a pool it says how many are
// refused, by Erlang's loss formula (M/G/c/c), which asks for the mean hold alone.
func Size(d Demand, lease time.Duration, pool int, duty Duty) (Sizing, error) {
	if err := d.check(); err != nil {
		return Sizing{}, err
	}
	s := Sizing{Demand: d, Chance: chance}
	if lease < duty.Least {
		lease, s.Duty = duty.Least, duty.Reason
	}
	if lease < time.Minute || lease > 10*365*24*time.Hour {
		return s, fmt.Errorf("%w: a lease time of %s; give a minute to ten years", ErrDemand, lease)
	}
	s.Lease = lease
	load := d.load(lease)
	if d.Arrivals > 0 {
		s.Hold = d.hold(lease)
	}
	s.Mean, s.Peak = float64(d.Seats)+load, d.peak(load)
	s.Pool = pool
	if pool == 0 {
		s.Pool = s.Peak
	}
	if load > 0 {
		s.Refused = erlang(load, s.Pool-d.Seats)
	} else if s.Pool < d.Seats {
		s.Refused = 1 - float64(s.Pool)/float64(d.Seats)
	}
	half := lease.Seconds() / 2
	s.Renewals = float64(min(d.Seats, s.Pool)) / half
	if d.Arrivals > 0 { // of those that stay for a time, the more the longer they do
		s.Renewals += d.Arrivals / 3600 * (1 - s.Refused) / math.Expm1(half/d.Stay.Seconds())
	}
	return s, nil
}

// LongestLease is the longest lease time with which a pool is enough for a demand;
// ok is false if none is.
func LongestLease(d Demand, pool int) (time.Duration, bool) {
	fits := func(lease time.Duration) bool { return d.check() == nil && d.peak(d.load(lease)) <= pool }
	low, high := time.Minute, 365*24*time.Hour
	if !fits(low) {
		return 0, false
	}
	if fits(high) {
		return high, true
	}
	for high-low > time.Minute {
		if mid := (low + high) / 2; fits(mid) {
			low = mid
		} else {
			high = mid
		}
	}
	return low.Truncate(time.Minute), true
}

// MostArrivals is how many can arrive an hour with a pool and a lease time.
func MostArrivals(d Demand, lease time.Duration, pool int) float64 {
	fits := func(n float64) bool {
		e := d
		e.Arrivals = n
		return e.check() == nil && e.peak(e.load(lease)) <= pool
	}
	low, high := 0.0, 1.0
	for fits(high) && high < 1e9 {
		high *= 2
	}
	for high-low > 0.001*high {
		if mid := (low + high) / 2; fits(mid) {
			low = mid
		} else {
			high = mid
		}
	}
	return low
}

// poissonQuantile is the least number that a Poisson variable is not above with a
// probability.
func poissonQuantile(mean, p float64) int {
	if mean <= 0 {
		return 0
	}
	if mean > 1e5 { // normal, to within one in a thousand
		return int(math.Ceil(mean + 3.0902*math.Sqrt(mean)))
	}
	// From the lowest number that counts on, in logarithms: the first terms of a
	// large mean are too small for numbers.
	k := max(int(mean-12*math.Sqrt(mean)), 0)
	lg, _ := math.Lgamma(float64(k) + 1)
	term := math.Exp(float64(k)*math.Log(mean) - mean - lg)
	for sum := term; sum < p && term > 0; sum += term {
		k++
		term *= mean / float64(k)
	}
	return k
}

// erlangMost is up to how many servers the formula is worked out.
const erlangMost = 1 << 20

// erlang is Erlang's loss formula: the share of arrivals that find c servers taken.
func erlang(load float64, c int) float64 {
	if c <= 0 {
		return 1
	}
	if c > erlangMost { // so many even out what is chance
		return max(1-float64(c)/load, 0)
	}
	inverse := 1.0
	for k := 1; k <= c; k++ {
		inverse = 1 + inverse*float64(k)/load
		if math.IsInf(inverse, 1) {
			return 0
		}
	}
	return 1 / inverse
}

// SizingModel names the model.
const SizingModel = "M/G/∞ with Poisson arrivals and exponential stays for the peak, the lease's tail behind each; Erlang loss for refusals"

// Case is a question about a pool: a demand with some of what it meets.
type Case struct {
	Seats    int
	Arrivals float64
	Stay     time.Duration
	Releases float64
	Lease    time.Duration // 0: to be found
	Pool     int           // 0: to be found
	Least    time.Duration
	Because  string
	Each     int // length of the prefix that each is delegated; 0: each has an address
}

// Solution answers it.
type Solution struct {
	Sizing
	Fits   bool
	Most   float64 // arrivals an hour that fit
	Within int     // with Each: the length of a prefix that has as many
	Text   string
}

// Solve finds what is not given: the pool for a lease time, the longest lease time
// for a pool, or both, from a lease time of eight hours.
func (c Case) Solve() (out Solution, err error) {
	d := Demand{c.Seats, c.Arrivals, c.Stay, c.Releases}
	if err := d.check(); err != nil {
		return out, err
	}
	if c.Pool < 0 || c.Pool > 1<<30 {
		return out, fmt.Errorf("%w: a pool of %d addresses; give 0 to a billion", ErrDemand, c.Pool)
	}
	if c.Each < 0 || c.Each > 128 {
		return out, fmt.Errorf("%w: prefixes of /%d; a length goes from 1 to 128", ErrDemand, c.Each)
	}
	if c.Lease == 0 {
		c.Lease = plan.DefaultLease
		if c.Pool > 0 {
			longest, ok := LongestLease(d, c.Pool)
			if !ok {
				longest = 10 * time.Minute
			}
			c.Lease = min(longest, 7*24*time.Hour)
		}
	}
	duty := Duty{Least: c.Least, Reason: cmp.Or(c.Because, "no lease may be shorter")}
	if out.Sizing, err = Size(d, c.Lease, c.Pool, duty); err != nil {
		return out, err
	}
	out.Fits = out.Peak <= out.Pool
	if d.Arrivals > 0 {
		out.Most = MostArrivals(d, out.Lease, out.Pool)
	}
	what := "addresses"
	if c.Each > 0 {
		what = fmt.Sprintf("prefixes of /%d", c.Each)
		if out.Within = c.Each - bits.Len(uint(max(out.Pool-1, 0))); out.Within < 1 {
			return out, fmt.Errorf("%w: %d prefixes of /%d are more than there are", ErrDemand, out.Pool, c.Each)
		}
	}
	lease := option.FormatDuration(out.Lease)
	out.Text = fmt.Sprintf("%d %s with a lease time of %s: a peak of %d, %.2f renewals a second", out.Pool, what, lease, out.Peak, out.Renewals)
	if !out.Fits {
		out.Text = fmt.Sprintf("%d %s are too few with a lease time of %s: the peak is %d, and %.1f %% of those who come are refused", out.Pool, what, lease,
			out.Peak, 100*out.Refused)
	}
	if c.Each > 0 {
		out.Text += fmt.Sprintf("; a /%d has %d of them", out.Within, 1<<(c.Each-out.Within))
	}
	if out.Duty != "" {
		out.Text += "; the lease time is " + lease + " because " + out.Duty
	}
	return out, nil
}
