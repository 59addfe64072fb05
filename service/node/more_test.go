package node

import (
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/clock"
	"yarnpost/service/wire"
)

// The ring remembers the newest exchanges, what became of their replies, and
// gives copies that stay as they are.
func TestConversations(t *testing.T) {
	var c Conversations
	now := time.Now()
	note := func(n int) uint64 {
		hw := addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)})
		m := &dhcp4.Message{CHAddr: hw, GIAddr: netip.IPv4Unspecified()}
		return c.begin(&wire.Packet{Data: []byte(fmt.Sprint("packet ", n))}, now, &answer.Request{Message: m}, &answer.Decision{Outcome: answer.Offered, Trail: []answer.Step{{Text: "step"}}}, &wire.Reply{Data: []byte("reply")}, Recorded, now)
	}
	all := func(*Exchange) bool { return true }
	if list, last := c.Since(0, 10, all); len(list) != 0 || last != 0 {
		t.Errorf("an empty ring gives %d, last %d", len(list), last)
	}
	first := note(1)
	kept, last := c.Since(0, 10, all)
	if len(kept) != 1 || last != 1 || string(kept[0].In) != "packet 1" || kept[0].Fate != Recorded {
		t.Fatalf("one exchange reads as %+v", kept)
	}
	c.settle(first, Sent, now.Add(time.Millisecond))
	if list, _ := c.Since(0, 10, all); list[0].Fate != Sent || list[0].Took != time.Millisecond {
		t.Errorf("settled it reads as %+v", list[0])
	}
	for n := 2; n <= talkMost+500; n++ {
		note(n)
	}
	list, last := c.Since(0, talkMost*2, all)
	if len(list) != talkMost || last != uint64(talkMost+500) || string(list[len(list)-1].In) != fmt.Sprint("packet ", talkMost+500) || list[0].Seq+uint64(len(list)) != last+1 {
		t.Errorf("a full ring gives %d exchanges up to %d", len(list), last)
	}
	if string(kept[0].In) != "packet 1" || kept[0].Trail[0].Text != "step" {
		t.Error("what was read earlier changed")
	}
	c.settle(first, Undone, now) // long forgotten: nothing happens
	some, _ := c.Since(last-10, 3, func(x *Exchange) bool { return x.Seq%2 == 0 })
	if len(some) != 3 || some[2].Seq != last {
		t.Errorf("three of the even ones are %+v", some)
	}
}

// shadowed is an engine over one scope that is listened to, without a database.
func shadowed(t *testing.T) *Engine {
	t.Helper()
	d := plan.New().Draft()
	pool, _ := addr.ParseRange("10.77.0.100-10.77.0.150")
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Pools: []addr.Range{pool}, Mode: plan.Serving, Settings: plan.Settings{Options: map[option.Key]string{option.Std(3): "10.77.0.1"}}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	now := lease.At(time.Now())
	return newEngine(lease.New(p, now), map[uint64][]byte{}, &Events{}, newMetrics(), func([]wire.Reply) {}, clock.New(), testLog(t))
}

// Two replies are compared option by option, but for what is of one server or
// one moment.
func TestOptionDifferences(t *testing.T) {
	p := shadowed(t).Plan()
	o := func(code uint8, data string) dhcp4.Option { return dhcp4.Option{Code: code, Data: []byte(data)} }
	ours := dhcp4.Options{o(53, "\x02"), o(54, "\x0a\x4d\x00\x01"), o(3, "\x0a\x4d\x00\x01"), o(15, "mill.example"), o(51, "aaaa")}
	theirs := dhcp4.Options{o(53, "\x05"), o(54, "\x0a\x4d\x00\x02"), o(3, "\x0a\x4d\x00\xfe"), o(42, "\x0a\x4d\x00\x2a"), o(51, "bbbb"), o(15, "mill.example")}
	got := strings.Join(optionDifferences(p, ours, theirs), "; ")
	if want := "option router is 10.77.0.1 here and 10.77.0.254 there; option ntp-servers is nothing here and 10.77.0.42 there"; got != want {
		t.Errorf("differences: %s", got)
	}
	if got := optionDifferences(p, ours, ours); len(got) > 0 {
		t.Errorf("a reply differs from itself: %v", got)
	}
}

// A relay counts as silent once it is quiet for many times its usual gap and
// longer than ever; not before it was busy for some time.
func TestSilentRelays(t *testing.T) {
	e := shadowed(t)
	now := lease.At(time.Now())
	busy, rare := netip.MustParseAddr("10.77.0.2"), netip.MustParseAddr("10.77.0.3")
	for n := range 60 {
		e.pulse(busy, nil, now-lease.Time(2000-10*n))
	}
	burst, nightly := netip.MustParseAddr("10.77.0.5"), netip.MustParseAddr("10.77.0.6")
	for n := range 60 {
		e.pulse(burst, nil, now-lease.Time(600-n))
	}
	for day := range 3 {
		for n := range 60 {
			e.pulse(nightly, nil, now-12*3600-lease.Time((2-day)*24*3600-60*n))
		}
	}
	for n := range 3 {
		e.pulse(rare, nil, now-lease.Time(600-n))
	}
	steady := netip.MustParseAddr("10.77.0.4")
	for n := range 60 {
		e.pulse(steady, nil, now-lease.Time(10*(60-n)))
	}
	e.pulse(netip.IPv4Unspecified(), nil, now)
	state := map[string]bool{}
	for _, r := range e.Relays() {
		state[r.Address.String()] = r.Silent
	}
	if got := fmt.Sprint(state); got != "map[10.77.0.2:true 10.77.0.3:false 10.77.0.4:false 10.77.0.5:false 10.77.0.6:false]" {
		t.Errorf("silent: %s", got)
	}
}

func TestRivals(t *testing.T) {
	e := shadowed(t)
	now := lease.At(time.Now())
	link := e.Plan().LinkNamed("looms").ID
	other := netip.MustParseAddr("10.77.0.2")
	e.SetOwn(map[netip.Addr]bool{netip.MustParseAddr("10.77.0.1"): true})
	e.noteRival(link, netip.MustParseAddr("10.77.0.1"), "itself", "", now)
	e.noteRival(link, netip.IPv4Unspecified(), "nobody", "", now)
	e.noteRival(link, other, "heard", "", now-100)
	e.noteRival(link, other, "heard again", "", now)
	list := e.Rivals()
	if len(list) != 1 || list[0].Server != other || list[0].Count != 2 || list[0].How != "heard again" || list[0].Link != "looms" {
		t.Errorf("rivals %+v", list)
	}
	if !e.shadow.rivalOn(link, now) || e.shadow.rivalOn(link, now+lease.Time(rivalSpan/time.Second)+1) || e.shadow.rivalOn(link+1, now) {
		t.Error("whether another server answers on a link is judged wrongly")
	}
}

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
	e := shadowed(t)
	p := e.probes
	a := netip.MustParseAddr("10.77.0.100")
	packet := func(n int) *wire.Packet {
		b := make([]byte, 244)
		b[28], b[33] = 2, byte(n)
		return &wire.Packet{Data: b}
	}
	for n := range 5 {
		if !p.hold(packet(n%3), a, time.Now()) {
			t.Fatal("a request is turned away")
		}
	}
	if p.held != 3 || len(p.flying[a].waiting) != 3 {
		t.Errorf("%d requests wait, want 3", p.held)
	}
	p.held = probeHolds
	if p.hold(packet(9), a, time.Now()) {
		t.Error("the limit of waiting requests is not kept")
	}
	now := lease.At(time.Now())
	v := e.Plan().ScopeNamed("looms")
	if e.probed(a, "", now) != answer.Unreachable {
		t.Error("an address that cannot be probed is never offered")
	}
	asked := 0
	p.local = func(*plan.View) bool { return true }
	p.arp = func(*plan.View, netip.Addr) error { asked++; return nil }
	if e.probed(a, "", now) != answer.Unprobed {
		t.Error("an address is ready before it is probed")
	}
	p.ready[a] = silence{since: now}
	if e.probed(a, "", now) != answer.Silent || e.probed(a, "", now+lease.Time(probeAge/time.Second)+1) != answer.Unprobed || e.probed(a, "", now-3600) != answer.Unprobed {
		t.Error("how long a probe holds is judged wrongly")
	}
	p.ready[a] = silence{now, "\x02\x00\x00\x00\x00\x09"}
	if e.probed(a, "", now) != answer.InUse || e.probed(a, "\x02\x00\x00\x00\x00\x09", now) != answer.Silent {
		t.Error("an address that one host answers for is not free for that host alone")
	}
	b := netip.MustParseAddr("10.77.0.101")
	e.ask(v, b)
	e.ask(v, b) // under way already
	if asked != 1 || p.flying[b] == nil {
		t.Errorf("asked %d times", asked)
	}
	p.flying[b].timer.Stop()
}

func testLog(t testing.TB) *slog.Logger {
	t.Helper()
	return slog.New(slog.DiscardHandler)
}

// Clients cannot make the service remember more sets than it has room for, and
// sets that no lease refers to go once nothing can bring them back.
func TestGivenSets(t *testing.T) {
	e := shadowed(t)
	e.sets.most = 3
	now := lease.At(time.Now())
	give := func(digest uint64, before *lease.Lease, now lease.Time) (*lease.Lease, []byte) {
		d := &answer.Decision{Reply: &dhcp4.Message{SIAddr: netip.IPv4Unspecified()}, Changes: []lease.Change{{After: &lease.Lease{Given: digest}}}}
		set := e.newSet(&answer.Request{Message: &dhcp4.Message{}}, d, before, now)
		return d.Lease(), set
	}
	for digest := uint64(1); digest <= 3; digest++ {
		if l, set := give(digest, nil, now); l.Given != digest || set == nil {
			t.Fatalf("set %d is not kept: %d, %q", digest, l.Given, set)
		}
	}
	if l, set := give(4, nil, now); l.Given != 0 || set != nil {
		t.Errorf("a fourth set where there is room for three: %d, %q", l.Given, set)
	}
	if l, set := give(2, nil, now); l.Given != 2 || set != nil {
		t.Errorf("a set that is known: %d, %q", l.Given, set)
	}
	if gone := e.sets.sweep(map[uint64]bool{1: true}, now+setsRest); len(gone) != 0 {
		t.Errorf("too early, %v go", gone)
	}
	give(1, &lease.Lease{Given: 3}, now+setsRest) // what it replaces may come back
	gone := e.sets.sweep(map[uint64]bool{1: true}, now+setsRest+1)
	if len(gone) != 1 || gone[0] != 2 || len(e.sets.known) != 2 || e.sets.most != 1+setsSpare {
		t.Errorf("%v go, %d of %d are left", gone, len(e.sets.known), e.sets.most)
	}
	if _, ok := e.Given(2); ok {
		t.Error("a set that went is known")
	}
}
