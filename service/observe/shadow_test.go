package observe

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
	"yarnpost/core/request"
	"yarnpost/service/wire"
)

var (
	ownAddress   = netip.MustParseAddr("10.77.0.2")
	otherAddress = netip.MustParseAddr("10.77.0.3")
	listened     = time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC)
)

// floor is a link that is heard and not answered, beside one that is held, with what
// is learned there.
type floor struct {
	t     *testing.T
	table *lease.Table
	*Shadow
}

func newFloor(t *testing.T) *floor {
	t.Helper()
	d := plan.New().Draft()
	for _, x := range []struct {
		name, subnet, pool string
		mode               plan.Mode
	}{{"looms", "10.77.0.0/24", "10.77.0.100-10.77.0.199", plan.Serving}, {"yard", "10.78.0.0/24", "10.78.0.100-10.78.0.199",
		plan.Serving},
		{"attic", "10.79.0.0/24", "10.79.0.100-10.79.0.199", plan.Held}} {
		r, err := addr.ParseRange(x.pool)
		if err != nil {
			t.Fatal(err)
		}
		s := plan.Scope{Name: x.name, Subnet: netip.MustParsePrefix(x.subnet), Pools: []addr.Range{r}, Mode: x.mode, NoProbe: true,
			Exclusions: []plan.Exclusion{{Range: addr.Range{From: r.From.Next(), To: r.From.Next()}, User: "printer"}},
			Settings: plan.Settings{Lease: plan.Duration(time.Hour),
				Options: map[option.Key]string{option.Std(option.Router): "10.77.0.1"}}}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			t.Fatal(err)
		}
		id, err := d.PutScope(s)
		if err != nil {
			t.Fatal(err)
		}
		if x.name == "looms" {
			_, err := d.PutReservation(plan.Reservation{Name: "press", Scope: id, Hardware: client(1),
				Address: netip.MustParseAddr("10.77.0.9")})
			if err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := d.SetDefaults(plan.Defaults{Listening: true}); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	f := &floor{t: t, table: lease.New(p, lease.At(listened))}
	f.Shadow = newShadow(&Host{Table: f.table, Log: slog.New(slog.DiscardHandler), Own: func(a netip.Addr) bool { return a == ownAddress },
		World: func(at time.Time) answer.World {
			return answer.World{Table: f.table, Now: lease.At(at), Ours: func(a netip.Addr) bool { return a == ownAddress },
				Writable: true}
		},
		Become: func(_, after *lease.Lease) bool { f.table.Put(after); return true }})
	return f
}

func client(n int) addr.Hardware { return addr.Hardware([]byte{2, 0x40, 0, 0, 0, byte(n)}) }

// request is what a client says that takes an address of a server, through a relay of the
// looms' link.
func requesting(n int, took string, server netip.Addr, change ...func(*dhcp4.Message)) *dhcp4.Message {
	zero, a := netip.IPv4Unspecified(), netip.MustParseAddr(took).As4()
	m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: uint32(1000 + n), CIAddr: zero, YIAddr: zero, SIAddr: zero,
		GIAddr: netip.MustParseAddr("10.77.0.4"), CHAddr: client(n), Type: dhcp4.Request}
	m.Options = dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(dhcp4.Request)}}, {Code: option.AddressRequest, Data: a[:]},
		{Code: option.Hostname, Data: fmt.Append(nil, "loom-", n)}, {Code: option.ParameterList, Data: []byte{1, 3}}}
	if server.IsValid() {
		s := server.As4()
		m.Options = append(m.Options, dhcp4.Option{Code: option.ServerID, Data: s[:]})
	}
	for _, c := range change {
		c(m)
	}
	return m
}

// hear lets a request be heard, as a listening server hears it.
func (f *floor) hear(m *dhcp4.Message, at time.Time) {
	f.t.Helper()
	req := m.Request(request.Path{Server: ownAddress})
	d := answer.Decide(req, f.host.World(at), nil)
	f.Request(Case{&req, d, d.First()}, at)
}

// one is what is known of a client, or nil.
func (f *floor) one(n int) *Agreement {
	for _, a := range f.Agreements() {
		if a.Hardware == client(n) {
			return &a
		}
	}
	return nil
}

// What a client takes of another server is held against what it would have got here.
func TestAgreement(t *testing.T) {
	for _, c := range []struct {
		name   string
		plant  func(*floor)
		client int
		took   string
		relay  string // "": of the looms' link
		want   string // the difference
	}{
		{"an address that its pools could have given", nil, 5, "10.77.0.150", "", ""},
		{"its reserved address", nil, 1, "10.77.0.9", "", ""},
		{"another than the reserved one", nil, 1, "10.77.0.150", "", "10.77.0.9 is reserved for it as press, and it took 10.77.0.150"},
		{"what is reserved for another", nil, 5, "10.77.0.9", "", "10.77.0.9 is reserved for another client, press"},
		{"an excluded address", nil, 5, "10.77.0.101", "", "10.77.0.101 is excluded, or outside the pools of scope looms"},
		{"an address outside the pools", nil, 5, "10.77.0.20", "", "10.77.0.20 is excluded, or outside the pools of scope looms"},
		{"another scope's address", nil, 5, "10.78.0.150", "",
			"10.78.0.150 is of scope yard; it would have got 10.77.0.100 of scope looms"},
		{"an address of no scope", nil, 5, "10.99.0.5", "", "10.99.0.5 is in no scope; it would have got 10.77.0.100 of scope looms"},
		{"one that another is known to have", func(f *floor) {
			f.hear(requesting(6, "10.77.0.150", otherAddress), listened)
		}, 5, "10.77.0.150", "", "10.77.0.150 is known as the address of 02:40:00:00:00:06"},
		{"one of a scope that is held", nil, 5, "10.79.0.150", "10.79.0.4", "it would have got nothing here: held"},
	} {
		f := newFloor(t)
		if c.plant != nil {
			c.plant(f)
		}
		f.hear(requesting(c.client, c.took, otherAddress, func(m *dhcp4.Message) {
			if c.relay != "" {
				m.GIAddr = netip.MustParseAddr(c.relay)
			}
		}), listened.Add(time.Minute))
		a := f.one(c.client)
		if a == nil {
			t.Errorf("%s: nothing is known of the client", c.name)
			continue
		}
		if got := strings.Join(a.Difference, "; "); got != c.want || a.Agrees != (c.want == "") || a.Took.String() != c.took ||
			a.Server != otherAddress ||
			a.Hostname != fmt.Sprint("loom-", c.client) {
			t.Errorf("%s: %q of %+v, want %q", c.name, got, a, c.want)
		}
	}
}

// What is taken elsewhere goes into the lease table, so that its client keeps it once this
// server answers; a client that moves leaves nothing behind.
func TestLearned(t *testing.T) {
	f := newFloor(t)
	at := func(a string) *lease.Lease { return f.table.At(netip.MustParseAddr(a)) }
	f.hear(requesting(5, "10.77.0.150", otherAddress), listened)
	l := at("10.77.0.150")
	if l == nil || l.Status != lease.Active || l.Hardware != client(5) || l.Revision != 0 || l.Granted != time.Hour ||
		l.Relay.String() != "10.77.0.4" ||
		l.Hostname != "loom-5" {
		t.Fatalf("learned: %+v", l)
	}
	f.hear(requesting(5, "10.77.0.150", otherAddress), listened.Add(time.Minute))
	if again := at("10.77.0.150"); *again != *l {
		t.Error("what is known already is learned once more")
	}
	f.hear(requesting(5, "10.77.0.150", otherAddress), listened.Add(45*time.Minute))
	if again := at("10.77.0.150"); *again == *l || again.Expires != lease.At(listened.Add(105*time.Minute)) {
		t.Errorf("an hour later: %+v", again)
	}
	f.hear(requesting(5, "10.77.0.151", otherAddress), listened.Add(50*time.Minute))
	if old, now := at("10.77.0.150"), at("10.77.0.151"); old.Status == lease.Active || now == nil || now.Status != lease.Active {
		t.Errorf("it moved: %+v, %+v", old, now)
	}
	f.hear(requesting(1, "10.77.0.9", otherAddress), listened)
	if l := at("10.77.0.9"); l == nil || !l.Reserved {
		t.Errorf("a reserved one: %+v", l)
	}
	f.hear(requesting(7, "10.99.0.7", otherAddress), listened)
	if l := at("10.99.0.7"); l != nil {
		t.Errorf("of no scope: %+v", l)
	}
	for name, m := range map[string]*dhcp4.Message{
		"this server's own":     requesting(20, "10.77.0.160", ownAddress),
		"a DISCOVER":            requesting(20, "10.77.0.160", otherAddress, func(m *dhcp4.Message) { m.Type = dhcp4.Discover }),
		"one of no address":     requesting(20, "0.0.0.0", otherAddress),
		"a release of somebody": requesting(20, "10.77.0.160", otherAddress, func(m *dhcp4.Message) { m.Type = dhcp4.Release }),
	} {
		f.hear(m, listened)
		if f.one(20) != nil || at("10.77.0.160") != nil {
			t.Errorf("%s is taken for a choice", name)
		}
	}
}

// The other server's acknowledgement is compared option by option, whether it is overheard
// before the request was looked at or behind it.
func TestOverheard(t *testing.T) {
	on := &wire.Interface{Name: "eth0", Prefixes: []netip.Prefix{netip.MustParsePrefix("10.77.0.2/24")}}
	ack := func(n int, router string) *dhcp4.Message {
		a := netip.MustParseAddr(router).As4()
		return &dhcp4.Message{XID: uint32(1000 + n), Type: dhcp4.Ack, Options: dhcp4.Options{{Code: option.SubnetMask,
			Data: []byte{255, 255, 255, 0}},
			{Code: option.Router, Data: a[:]}}}
	}
	from := func(server netip.Addr, m *dhcp4.Message) request.Overheard {
		return request.Overheard{Server: server, Transaction: m.XID, Binding: true, Message: m}
	}
	now := lease.At(listened)
	f := newFloor(t)
	f.hear(requesting(5, "10.77.0.150", otherAddress), listened)
	if a := f.one(5); a.Options || !a.Agrees {
		t.Errorf("before it is overheard: %+v", a)
	}
	f.Overheard(on, from(otherAddress, ack(5, "10.77.0.254")), now)
	if a := f.one(5); !a.Options || a.Agrees || strings.Join(a.Difference,
		";") != "option router is 10.77.0.1 here and 10.77.0.254 there" {
		t.Errorf("behind the request: %+v", a)
	}
	f.Overheard(on, from(otherAddress, ack(6, "10.77.0.1")), now)
	f.hear(requesting(6, "10.77.0.151", otherAddress), listened)
	if a := f.one(6); !a.Options || !a.Agrees {
		t.Errorf("before the request: %+v", a)
	}
	f.Overheard(on, from(ownAddress, ack(7, "10.77.0.1")), now)
	f.Overheard(&wire.Interface{Name: "eth9"}, from(netip.MustParseAddr("10.99.0.1"), ack(8, "10.77.0.1")), now)
	if list := f.OtherServers(now); len(list) != 1 || list[0].Server != otherAddress || list[0].Link != "looms" {
		t.Errorf("other servers: %+v", list)
	}
	looms := f.table.Plan().ScopeNamed("looms").Link
	if !f.OtherServer(looms, now) || f.OtherServer(looms, lease.At(listened.Add(rivalSpan+time.Minute))) {
		t.Error("whether the other server answers is judged wrongly")
	}
}

// What clients say that they chose makes no other server, however many say it.
func TestChoosers(t *testing.T) {
	f := newFloor(t)
	looms := f.table.Plan().ScopeNamed("looms").Link
	for n := range 10 {
		f.hear(requesting(40+n, fmt.Sprint("10.77.0.", 160+n), otherAddress), listened)
	}
	if f.OtherServer(looms, lease.At(listened)) {
		t.Error("what clients say silences this server")
	}
	if len(f.OtherServers(lease.At(listened))) != 1 {
		t.Error("what clients say is not shown")
	}
}

// While it listens, what a client says that it took moves no lease that this server
// acknowledged.
func TestListeningTakesNothing(t *testing.T) {
	f := newFloor(t)
	a := netip.MustParseAddr("10.77.0.160")
	now := lease.At(listened)
	holder := &lease.Lease{Prefix: lease.Host(a), Status: lease.Active, Client: lease.ByHardware(1, "\x02\x00\x00\x00\x00\x07"),
		Hardware: "\x02\x00\x00\x00\x00\x07", Since: now, Changed: now, Heard: now, Granted: time.Hour, Expires: now + 3600, Revision: 1}
	f.table.Put(holder)
	f.hear(requesting(40, a.String(), otherAddress), listened)
	if l := f.table.At(a); l.Client != holder.Client || l.Expires != holder.Expires {
		t.Errorf("the lease is %+v", l)
	}
	f.table.Put(&lease.Lease{Prefix: holder.Prefix, Status: lease.Expired, Client: holder.Client, Changed: now, Expires: now})
	f.hear(requesting(40, a.String(), otherAddress), listened)
	if l := f.table.At(a); l.Client == holder.Client {
		t.Errorf("an address that is free is not learned: %+v", l)
	}
}
