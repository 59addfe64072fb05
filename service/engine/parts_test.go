package engine

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/request"
	"yarnpost/service/wire"
)

// Where a reply leaves, by what the decision says of its destination.
func TestRoute(t *testing.T) {
	served := &wire.Interface{Name: "eth1", Hardware: []byte{2, 0, 0, 0, 0, 1}}
	p := &wire.Packet{From: netip.MustParseAddrPort("10.77.0.2:4001"), Interface: served}
	req, d := asked(1)
	req.Interface, req.Server = "eth1", netip.MustParseAddr("10.77.0.1")
	relay, said := netip.MustParseAddr("10.77.0.2"), req.Message.(*dhcp4.Message)
	d.Reply = &dhcp4.Message{GIAddr: relay, YIAddr: netip.MustParseAddr("10.77.0.100")}
	said.CIAddr = netip.MustParseAddr("10.77.0.55")
	for _, c := range []struct {
		to     answer.Destination
		port   bool
		iface  string
		expect string
	}{
		{answer.ToRelay, false, "eth1", "10.77.0.2:67 frame false "},
		{answer.ToRelay, true, "eth1", "10.77.0.2:4001 frame false "},
		{answer.ToAddress, false, "eth1", "10.77.0.55:68 frame false "},
		{answer.ToHardware, false, "eth1", "10.77.0.100:68 frame true 02:00:00:00:00:01"},
		{answer.ToAll, false, "eth1", "255.255.255.255:68 frame true ff:ff:ff:ff:ff:ff"},
		{answer.ToAll, false, "", "no way"},
	} {
		d.To, said.Agent.SourcePort, req.Interface = c.to, c.port, c.iface
		r, err := route(p, req, d, nil, func(netip.Addr) bool { return false })
		got := fmt.Sprint(r.To, " frame ", r.Frame, " ", r.Hardware)
		if err != nil {
			got = "no way"
		}
		if got != c.expect {
			t.Errorf("destination %d: %s, want %s", c.to, got, c.expect)
		}
	}
	d.To = answer.ToRelay // an address of the host itself is answered only if it asks
	for from, want := range map[string]bool{"10.77.0.2:4001": true, "10.77.0.3:4001": false} {
		p.From = netip.MustParseAddrPort(from)
		if _, err := route(p, req, d, nil, func(a netip.Addr) bool { return a == relay }); (err == nil) != want {
			t.Errorf("the host's own address, asked from %s: %v", from, err)
		}
	}
}

// A subscriber that does not keep up loses events and is told how many; it
// holds nobody up.
func TestEvents(t *testing.T) {
	e := &Events{}
	e.lease(&lease.Lease{}) // nobody listens
	s := e.Subscribe()
	for i := range 300 {
		e.Publish(Event{Revision: int64(i + 1)})
	}
	if got := (<-s.C).Revision; got != 1 || s.Missed.Load() != 300-256 {
		t.Errorf("first event %d, %d missed", got, s.Missed.Load())
	}
	e.Cancel(s)
	e.Cancel(s)
	if e.listeners.Load() != 0 {
		t.Error("a cancelled subscriber still counts")
	}
}

// Clients cannot make the service remember more sets than it has room for, and
// sets that no lease refers to go once nothing can bring them back.
func TestGivenSets(t *testing.T) {
	e := newBench(t, "10.77.0.100-10.77.0.150").Engine
	e.sets.most = 3
	now := lease.At(time.Now())
	give := func(digest uint64, before *lease.Lease, now lease.Time) (*lease.Lease, []byte) {
		l := &lease.Lease{Given: digest}
		d := &answer.Decision{Answers: []answer.Answer{{Outcome: answer.Acknowledged, Lease: l}},
			Reply: &dhcp4.Message{SIAddr: netip.IPv4Unspecified()}, Changes: []lease.Change{{Before: before, After: l}}}
		_, set := e.newSet(&request.Request{Message: &dhcp4.Message{}}, d, now)
		return l, set
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
	// A server that joins a pair begins with an empty database: what was known is recorded again.
	e.Emptied()
	if l, set := give(1, nil, now); l.Given != 1 || set == nil {
		t.Errorf("in an emptied database set %d is taken to be recorded: %q", l.Given, set)
	}
}

func asked(n int) (*request.Request, *answer.Decision) {
	hw := addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)})
	m := &dhcp4.Message{HType: 1, CHAddr: hw, GIAddr: netip.MustParseAddr("10.77.0.2"), CIAddr: netip.IPv4Unspecified(), Type: dhcp4.Discover,
		Options: dhcp4.Options{{Code: 12, Data: []byte(fmt.Sprint("host", n, "\x00"))}}}
	req := m.Request(request.Path{})
	return &req, &answer.Decision{Answers: []answer.Answer{{Client: lease.ByHardware(1, hw)}},
		Trail: []answer.Step{{Text: "because of {t}", Name: "rain"}}}
}
