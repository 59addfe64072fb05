package capacity

import (
	"container/heap"
	"errors"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

// ends is a heap of moments, in seconds.
type ends []float64

func (e ends) Len() int           { return len(e) }
func (e ends) Less(i, j int) bool { return e[i] < e[j] }
func (e ends) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *ends) Push(x any)        { *e = append(*e, x.(float64)) }
func (e *ends) Pop() any {
	x := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return x
}

// played plays a demand event by event: who comes, renews at half of the lease,
// and leaves. It counts what is held and who is refused by a pool; 0 is no bound.
func played(d Demand, lease time.Duration, pool int, arrivals int) (mean, peak, refused, renewals float64) {
	random := rand.New(rand.NewPCG(7, 11))
	var held ends
	now, area, lost := 0.0, 0.0, 0
	var seen []float64
	start := 20 * d.hold(lease).Seconds()
	for range arrivals {
		next := now + random.ExpFloat64()*3600/d.Arrivals
		for len(held) > 0 && held[0] <= next {
			at := heap.Pop(&held).(float64)
			if now > start {
				area += (at - max(now, start)) * float64(len(held)+1)
			}
			now = at
		}
		if next > start {
			area += (next - max(now, start)) * float64(len(held))
			seen = append(seen, float64(len(held)))
		}
		now = next
		if pool > 0 && len(held) >= pool {
			if now > start {
				lost++
			}
			continue
		}
		stay := random.ExpFloat64() * d.Stay.Seconds()
		end := now + stay
		renewed := math.Floor(stay / (lease.Seconds() / 2))
		if now > start {
			renewals += renewed
		}
		if random.Float64() >= d.Releases {
			end = now + renewed*lease.Seconds()/2 + lease.Seconds()
		}
		heap.Push(&held, end)
	}
	return area / (now - start), quantile(seen, 1-chance), float64(lost) / float64(len(seen)), renewals / (now - start)
}

// The model agrees with a simulation within 5 %.
func TestSizingAgreesWithSimulation(t *testing.T) {
	for _, c := range []struct {
		d     Demand
		lease time.Duration
	}{
		{Demand{Arrivals: 1200, Stay: 45 * time.Minute}, 10 * time.Minute},
		{Demand{Arrivals: 1200, Stay: 45 * time.Minute}, 8 * time.Hour},
		{Demand{Arrivals: 300, Stay: 8 * time.Hour, Releases: 0.4}, time.Hour},
		{Demand{Arrivals: 5000, Stay: 5 * time.Minute, Releases: 1}, time.Hour},
	} {
		s, err := Size(c.d, c.lease, 0, Duty{})
		if err != nil {
			t.Fatal(err)
		}
		mean, peak, _, renewals := played(c.d, c.lease, 0, 400_000)
		if off := s.Mean/mean - 1; math.Abs(off) > 0.05 {
			t.Errorf("%+v, lease %s: mean %.1f, simulated %.1f", c.d, c.lease, s.Mean, mean)
		}
		if off := float64(s.Peak)/peak - 1; math.Abs(off) > 0.05 {
			t.Errorf("%+v, lease %s: peak %d, simulated %.0f", c.d, c.lease, s.Peak, peak)
		}
		if off := s.Renewals - renewals; math.Abs(off) > 0.05*renewals+0.002 {
			t.Errorf("%+v, lease %s: %.4f renewals a second, simulated %.4f", c.d, c.lease, s.Renewals, renewals)
		}
		tight := int(s.Mean)
		s, _ = Size(c.d, c.lease, tight, Duty{})
		_, _, refused, _ := played(c.d, c.lease, tight, 400_000)
		if math.Abs(s.Refused-refused) > 0.05*refused+0.002 {
			t.Errorf("%+v, lease %s, pool %d: %.4f refused, simulated %.4f", c.d, c.lease, tight, s.Refused, refused)
		}
	}
}

func TestSizingTheOtherWayRound(t *testing.T) {
	d := Demand{Seats: 40, Arrivals: 600, Stay: 30 * time.Minute}
	lease, ok := LongestLease(d, 700)
	if !ok {
		t.Fatal("700 addresses are too few")
	}
	with := func(l time.Duration) int { s, _ := Size(d, l, 0, Duty{}); return s.Peak }
	if with(lease) > 700 || with(lease+2*time.Minute) <= 700 {
		t.Errorf("lease %s needs %d addresses, two minutes more %d", lease, with(lease), with(lease+2*time.Minute))
	}
	n := MostArrivals(d, lease, 700)
	if math.Abs(n/600-1) > 0.05 {
		t.Errorf("%.0f arrivals an hour fit, 600 were meant", n)
	}
	if _, ok := LongestLease(d, 100); ok {
		t.Error("100 addresses are said to be enough")
	}
}

// The largest demand that is taken is answered like any other.
func TestLargestDemand(t *testing.T) {
	s, err := Case{Seats: 1 << 20, Arrivals: 1e9, Stay: 24 * time.Hour, Pool: 1 << 30}.Solve()
	if err != nil || s.Fits || s.Refused <= 0.9 {
		t.Errorf("%+v, %v", s, err)
	}
}

func TestSizingWithADuty(t *testing.T) {
	d := Demand{Seats: 100}
	s, err := Size(d, time.Hour, 0, Duty{24 * time.Hour, "the works council wants a day"})
	if err != nil || s.Lease != 24*time.Hour || s.Duty == "" {
		t.Errorf("%+v, %v", s, err)
	}
	if s, _ = Size(d, 48*time.Hour, 0, Duty{24 * time.Hour, "x"}); s.Duty != "" {
		t.Error("a lease that is long enough needs no reason")
	}
	if s, _ = Size(Demand{Seats: 100}, time.Hour, 50, Duty{}); s.Refused != 0.5 {
		t.Errorf("half of the seats fit, %.2f are refused", s.Refused)
	}
}

func TestSizingRefusesNonsense(t *testing.T) {
	for _, d := range []Demand{{}, {Seats: -1}, {Arrivals: 5}, {Arrivals: math.NaN(), Stay: time.Hour}, {Arrivals: math.Inf(1),
		Stay: time.Hour},
		{Seats: 1, Releases: 2}} {
		if _, err := Size(d, time.Hour, 0, Duty{}); !errors.Is(err, ErrDemand) {
			t.Errorf("%+v is taken: %v", d, err)
		}
	}
	if _, err := Size(Demand{Seats: 1}, time.Second, 0, Duty{}); !errors.Is(err, ErrDemand) {
		t.Errorf("a lease of a second is taken: %v", err)
	}
}

// Delegation is sized in prefixes, and in the length of a prefix that has as many.
func TestSizeOfDelegation(t *testing.T) {
	for seats, want := range map[int]int{1: 56, 2: 55, 256: 48, 257: 47} {
		got, err := Case{Seats: seats, Each: 56}.Solve()
		if err != nil || got.Pool != seats || got.Within != want || !strings.Contains(got.Text, "prefixes of /56") {
			t.Errorf("%d routers need a /%d: %s, %v; want /%d", seats, got.Within, got.Text, err, want)
		}
	}
	if got, err := (Case{Seats: 300, Pool: 256, Each: 56}).Solve(); err != nil || got.Fits || got.Within != 48 {
		t.Errorf("300 routers fit into 256 prefixes: %+v, %v", got, err)
	}
	for _, c := range []Case{{Seats: 5, Each: 2}, {Seats: 5, Each: 129}, {Seats: 5, Each: -1}} {
		if got, err := c.Solve(); !errors.Is(err, ErrDemand) {
			t.Errorf("%+v is solved: %+v", c, got)
		}
	}
}
