package observe

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// A relay counts as silent once it is quiet for many times its usual gap and
// longer than ever; not before it was busy for some time.
func TestSilentRelays(t *testing.T) {
	r := newRelays()
	now := lease.At(time.Now())
	busy, rare := netip.MustParseAddr("10.77.0.2"), netip.MustParseAddr("10.77.0.3")
	for n := range 60 {
		r.Pulse(busy, nil, now-lease.Time(2000-10*n))
	}
	burst, nightly := netip.MustParseAddr("10.77.0.5"), netip.MustParseAddr("10.77.0.6")
	for n := range 60 {
		r.Pulse(burst, nil, now-lease.Time(600-n))
	}
	for day := range 3 {
		for n := range 60 {
			r.Pulse(nightly, nil, now-12*3600-lease.Time((2-day)*24*3600-60*n))
		}
	}
	for n := range 3 {
		r.Pulse(rare, nil, now-lease.Time(600-n))
	}
	steady := netip.MustParseAddr("10.77.0.4")
	for n := range 60 {
		r.Pulse(steady, nil, now-lease.Time(10*(60-n)))
	}
	state := map[string]bool{}
	for _, of := range r.All(plan.New(), now) {
		state[of.Address.String()] = of.Silent
	}
	if got := fmt.Sprint(state); got != "map[10.77.0.2:true 10.77.0.3:false 10.77.0.4:false 10.77.0.5:false 10.77.0.6:false]" {
		t.Errorf("silent: %s", got)
	}
}
