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
		r.Pulse(busy, true, nil, now-lease.Time(2000-10*n))
	}
	burst, nightly := netip.MustParseAddr("10.77.0.5"), netip.MustParseAddr("10.77.0.6")
	for n := range 60 {
		r.Pulse(burst, true, nil, now-lease.Time(600-n))
	}
	for day := range 3 {
		for n := range 60 {
			r.Pulse(nightly, true, nil, now-12*3600-lease.Time((2-day)*24*3600-60*n))
		}
	}
	for n := range 3 {
		r.Pulse(rare, true, nil, now-lease.Time(600-n))
	}
	steady := netip.MustParseAddr("10.77.0.4")
	for n := range 60 {
		r.Pulse(steady, true, nil, now-lease.Time(10*(60-n)))
	}
	r.Pulse(netip.MustParseAddr("10.77.0.7"), false, nil, now-2000) // as busy, but made up
	for n := range 60 {
		r.Pulse(netip.MustParseAddr("10.77.0.7"), false, nil, now-lease.Time(2000-10*n))
	}
	draft := plan.New().Draft()
	if _, err := draft.PutLink(plan.Link{Name: "looms", Relays: []netip.Addr{busy, rare, steady, burst, nightly}}); err != nil {
		t.Fatal(err)
	}
	p, _ := draft.Finish()
	state := map[string]bool{}
	for _, of := range r.All(p, now) {
		state[of.Address.String()] = of.Silent
	}
	if got := fmt.Sprint(state); got != "map[10.77.0.2:true 10.77.0.3:false 10.77.0.4:false 10.77.0.5:false 10.77.0.6:false 10.77.0.7:false]" {
		t.Errorf("silent: %s", got)
	}
}

// A relay that messages name takes no address before it answered a probe, and a few of
// a scope do at most; forgotten, it gives the address back.
func TestFoundRelays(t *testing.T) {
	r := newRelays()
	v := &plan.View{}
	v.Subnet = netip.MustParsePrefix("10.77.0.0/24")
	a := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{10, 77, 0, byte(n)}) }
	now := lease.Time(1_000_000)
	asked := 0
	for n := range 200 {
		r.Pulse(a(n), false, v, now)
		if r.Ask(a(n), now) {
			asked++
		}
	}
	if asked != asksMost || r.Found(a(1)) {
		t.Errorf("%d of 200 made-up relays are probed in a second; found by being named: %v", asked, r.Found(a(1)))
	}
	if r.Answered(a(150), v, now) {
		t.Error("one that was not asked is found")
	}
	found := 0
	for n := range 200 {
		at := now + askedAgain + lease.Time(n)
		if r.Ask(a(n), at) && r.Answered(a(n), v, at) {
			found++
		}
	}
	if found != foundMost || !r.Found(a(0)) {
		t.Errorf("%d relays of a scope are found, want %d", found, foundMost)
	}
	if n := r.Forget(a(0)); n != 1 || r.Found(a(0)) {
		t.Errorf("%d are forgotten, and it is found still: %v", n, r.Found(a(0)))
	}
	if n := r.Forget(netip.Addr{}); n != 199 {
		t.Errorf("%d of the rest are forgotten", n)
	}
}
