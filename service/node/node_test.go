package node

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/wire"
)

func asked(n int) (*answer.Request, *answer.Decision) {
	hw := addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)})
	m := &dhcp4.Message{HType: 1, CHAddr: hw, GIAddr: netip.MustParseAddr("10.77.0.2"), CIAddr: netip.IPv4Unspecified(), Type: dhcp4.Discover,
		Options: dhcp4.Options{{Code: 12, Data: []byte(fmt.Sprint("host", n, "\x00"))}}}
	return &answer.Request{Message: m}, &answer.Decision{Client: lease.ByHardware(1, hw), Trail: []answer.Step{{Text: "because of {t}", Name: "rain"}}}
}

func TestUnservedList(t *testing.T) {
	u := newUnservedList()
	e := &Engine{unserved: u}
	req, d := asked(1)
	u.note(req, d, answer.PoolEmpty, 100)
	u.note(req, d, answer.PoolEmpty, 160)
	list := e.Unserved()
	if len(list) != 1 || list[0].Count != 2 || list[0].First != 100 || list[0].Last != 160 || list[0].Hostname != "host1" || list[0].Trail[0] != "because of rain" {
		t.Errorf("listed as %+v", list)
	}
	u.forget(req, d)
	if len(e.Unserved()) != 0 {
		t.Error("a served client stays on the list")
	}
	u.note(req, d, answer.NotTaken, 200)
	if len(e.Unserved()) != 0 {
		t.Error("an offer not taken once is listed already")
	}
	u.note(req, d, answer.NotTaken, 210)
	if len(e.Unserved()) != 1 {
		t.Error("an offer not taken twice is not listed")
	}
	for n := range unservedMost + 500 { // a flood of clients does not grow it without end
		req, d := asked(n)
		u.note(req, d, answer.NoScope, lease.Time(300+n))
	}
	if n := u.clients.size(); n > unservedMost {
		t.Errorf("%d clients are kept", n)
	}
	u.age(lease.Time(300 + unservedMost + 500).Add(unservedAge + time.Minute))
	if u.clients.size() != 0 {
		t.Errorf("%d clients are remembered after a day of silence", u.clients.size())
	}
	req, d = asked(2)
	u.note(req, d, answer.NoScope, 999_999)
	e.ForgetUnserved(req.Message.CHAddr)
	if len(e.Unserved()) != 0 {
		t.Error("a client that was dealt with is still listed")
	}
}

func TestWindow(t *testing.T) {
	w := &Window{}
	now := lease.Time(1_700_000_000)
	for range 10 {
		w.Add(now)
	}
	w.Add(now + 240)
	if n := w.Sum(now+240, 5*time.Minute); n != 11 {
		t.Errorf("%d in five minutes, want 11", n)
	}
	if n := w.Sum(now+600, 5*time.Minute); n != 0 {
		t.Errorf("%d in the five minutes after, want 0", n)
	}
	if n := w.Sum(now+600, 24*time.Hour); n != 11 {
		t.Errorf("%d in a day, want 11", n)
	}
	if n := w.Sum(now+3*86400, 24*time.Hour); n != 0 {
		t.Errorf("%d three days later, want 0", n)
	}
}

// Where a reply leaves, by what the decision says of its destination.
func TestRoute(t *testing.T) {
	served := &wire.Interface{Name: "eth1", Hardware: []byte{2, 0, 0, 0, 0, 1}}
	p := &wire.Packet{From: netip.MustParseAddrPort("10.77.0.2:4001"), Interface: served}
	req, d := asked(1)
	req.Interface, req.Server = "eth1", netip.MustParseAddr("10.77.0.1")
	d.Reply = &dhcp4.Message{GIAddr: netip.MustParseAddr("10.77.0.2"), YIAddr: netip.MustParseAddr("10.77.0.100")}
	req.Message.CIAddr = netip.MustParseAddr("10.77.0.55")
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
		d.To, req.Relay.SourcePort, req.Interface = c.to, c.port, c.iface
		r, err := route(p, req, d, nil)
		got := fmt.Sprint(r.To, " frame ", r.Frame, " ", r.Hardware)
		if err != nil {
			got = "no way"
		}
		if got != c.expect {
			t.Errorf("destination %d: %s, want %s", c.to, got, c.expect)
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
		e.publish(Event{Revision: int64(i + 1)})
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

// effects tells what a change does to clients before it is made.
func TestEffects(t *testing.T) {
	d := plan.New().Draft()
	r, _ := addr.ParseRange("10.77.0.10-10.77.0.20")
	v := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Pools: []addr.Range{r}, Mode: plan.Serving}
	if err := d.PlaceScope(&v, "", nil); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutScope(v)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	table := lease.New(p, 1000)
	for i := range 3 {
		hw := addr.Hardware([]byte{2, 0, 0, 0, 0, byte(i)})
		table.Put(&lease.Lease{Prefix: lease.Host(netip.AddrFrom4([4]byte{10, 77, 0, byte(10 + i)})), Status: lease.Active, Client: lease.ByHardware(1, hw), Hardware: hw, Expires: 5000})
	}
	e := &Engine{table: table}
	for name, c := range map[string]struct {
		edit    func(*plan.Draft) error
		clients int
		strands bool
	}{
		"remove": {func(d *plan.Draft) error { return d.RemoveScope("looms") }, 3, true},
		"hold":   {change(id, func(s *plan.Scope) { s.Mode = plan.Held }), 3, true},
		"drain":  {change(id, func(s *plan.Scope) { s.Mode = plan.Draining }), 3, false},
		"shrink": {change(id, func(s *plan.Scope) { s.Pools[0].From = netip.MustParseAddr("10.77.0.12") }), 2, false},
		"lease":  {change(id, func(s *plan.Scope) { s.Lease = plan.Duration(time.Hour) }), 3, false},
		"note":   {change(id, func(s *plan.Scope) { s.Note = "x" }), 0, false},
		"reserve a held address": {func(d *plan.Draft) error {
			_, err := d.PutReservation(plan.Reservation{Name: "r", Scope: id, Hardware: "\x02\x00\x00\x00\x00\x09", Address: netip.MustParseAddr("10.77.0.11")})
			return err
		}, 1, false},
	} {
		d := p.Draft()
		if err := c.edit(d); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		next, changes := d.Finish()
		got := e.effects(p, next, changes, 2000)
		if c.clients == 0 {
			if len(got) != 0 {
				t.Errorf("%s: %+v", name, got)
			}
			continue
		}
		if len(got) != 1 || got[0].Clients != c.clients || got[0].Strands != c.strands {
			t.Errorf("%s: %+v, want %d clients, stranded %v", name, got, c.clients, c.strands)
		}
	}
}

func change(id plan.ID, f func(*plan.Scope)) func(*plan.Draft) error {
	return func(d *plan.Draft) error {
		s := d.Plan().Scope(id).Scope
		s.Pools = append([]addr.Range(nil), s.Pools...)
		f(&s)
		_, err := d.PutScope(s)
		return err
	}
}
