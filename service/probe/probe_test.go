package probe

import (
	"log/slog"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/wire"
)

// Demand sizes what is kept ready: a little at rest, more with arrivals, never
// beyond the limit, and less again when they cease.
func TestDemand(t *testing.T) {
	d := &demand{span: 1000}
	if n := d.want(1001); n != readyLeast {
		t.Errorf("at rest %d", n)
	}
	d.now = 10
	if n := d.want(1005); n != 20 {
		t.Errorf("with ten arrivals %d", n)
	}
	if n := d.want(1011); n != 20 || d.earlier != 10 {
		t.Errorf("in the next span %d, earlier %d", n, d.earlier)
	}
	d.now = 1000
	if n := d.want(1012); n != readyMost {
		t.Errorf("in a rush %d", n)
	}
	if n := d.want(1100); n != readyLeast {
		t.Errorf("long after %d", n)
	}
}

// While an address is probed its requests wait, each client once, up to a limit;
// what answers is not offered.
func TestProbesHold(t *testing.T) {
	p := New(slog.New(slog.DiscardHandler))
	v := scope(t)
	a := netip.MustParseAddr("10.77.0.100")
	packet := func(n int) *wire.Packet {
		b := make([]byte, 244)
		b[28], b[33] = 2, byte(n)
		return &wire.Packet{Data: b}
	}
	for n := range 5 {
		if !p.Hold(packet(n%3), a, time.Now()) {
			t.Fatal("a request is turned away")
		}
	}
	if p.held != 3 || len(p.flying[a].Waiting) != 3 {
		t.Errorf("%d requests wait, want 3", p.held)
	}
	p.held = holdsMost
	if p.Hold(packet(9), a, time.Now()) {
		t.Error("the limit of waiting requests is not kept")
	}
	now := lease.At(time.Now())
	if p.Known(v, a, "", now) != answer.Unreachable {
		t.Error("an address that cannot be probed is never offered")
	}
	var asked atomic.Int32
	p.Local = func(*plan.View) bool { return true }
	p.ARP = func(*plan.View, netip.Addr) error { asked.Add(1); return nil }
	if p.Known(v, a, "", now) != answer.Unprobed {
		t.Error("an address is ready before it is probed")
	}
	p.Unused(a, "", now)
	if p.Known(v, a, "", now) != answer.Silent || p.Known(v, a, "", now+lease.Time(Age/time.Second)+1) != answer.Unprobed ||
		p.Known(v, a, "", now-3600) != answer.Unprobed {
		t.Error("how long a probe holds is judged wrongly")
	}
	p.Unused(a, "\x02\x00\x00\x00\x00\x09", now)
	if p.Known(v, a, "", now) != answer.InUse || p.Known(v, a, "\x02\x00\x00\x00\x00\x09", now) != answer.Silent {
		t.Error("an address that one host answers for is not free for that host alone")
	}
	b := netip.MustParseAddr("10.77.0.101")
	p.Ask(v, b)
	p.Ask(v, b) // under way already
	if asked.Load() != 1 || p.flying[b] == nil {
		t.Errorf("asked %d times", asked.Load())
	}
	p.flying[b].timer.Stop()
}

// scope is one that is served.
func scope(t *testing.T) *plan.View {
	t.Helper()
	d := plan.New().Draft()
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	return p.ScopeNamed("looms")
}
