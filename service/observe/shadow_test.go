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
	"yarnpost/core/dhcp6"
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
	f.Shadow = newShadow(&Host{Table: f.table, Log: slog.New(slog.DiscardHandler),
		Own: func(s request.Server) bool { return s.Address == ownAddress },
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
		if got := strings.Join(a.Difference, "; "); got != c.want || a.Agrees != (c.want == "") || addr.FormatKey(a.Took) != c.took ||
			a.Server.Address != otherAddress ||
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
		return request.Overheard{Server: request.Server{Address: server}, Transaction: m.XID, Binding: true, Message: m}
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
	if list := f.OtherServers(now); len(list) != 1 || list[0].Server.Address != otherAddress || list[0].Link != "looms" {
		t.Errorf("other servers: %+v", list)
	}
	looms := f.table.Plan().ScopeNamed("looms").Link
	if !f.OtherServer(looms, option.V4, now) || f.OtherServer(looms, option.V4, lease.At(listened.Add(rivalSpan+time.Minute))) {
		t.Error("whether the other server answers is judged wrongly")
	}
}

const (
	ownDUID   addr.DUID = "\x00\x03\x00\x01\x02\x00\x00\x00\x00\x01"
	otherDUID addr.DUID = "\x00\x03\x00\x01\x02\x00\x00\x00\x00\x02"
	ofClient  addr.DUID = "\x00\x03\x00\x01\x02\x00\x00\x00\x00\x77"
)

// newFloor6 is a link of IPv6 that is heard and not answered.
func newFloor6(t *testing.T) *floor {
	t.Helper()
	d := plan.New().Draft()
	s := plan.Scope{Name: "offices6", Subnet: netip.MustParsePrefix("2001:db8:40:1::/64"), Mode: plan.Serving, NoProbe: true,
		Pools: []addr.Range{addr.OfPrefix(netip.MustParsePrefix("2001:db8:40:1::/64"))},
		Settings: plan.Settings{Lease: plan.Duration(8 * time.Hour),
			Options: map[option.Key]string{option.Std6(option.DNSServers6): "2001:db8:40::53"}},
		PrefixPools: []plan.PrefixPool{{Prefix: netip.MustParsePrefix("2001:db8:40:8000::/49"), Length: 56}}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	if err := d.SetDefaults(plan.Defaults{Listening: true}); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	table := lease.New(p, lease.At(listened))
	world := func(at time.Time) answer.World {
		return answer.World{Table: table, Now: lease.At(at), DUID: string(ownDUID), Ours: func(netip.Addr) bool { return false },
			Writable: true}
	}
	return &floor{t: t, table: table, Shadow: newShadow(&Host{Table: table, Log: slog.New(slog.DiscardHandler),
		Own:   func(s request.Server) bool { return s.DUID == ownDUID },
		World: world, Become: func(_, after *lease.Lease) bool { table.Put(after); return true }})}
}

// hear6 lets a message of the client to a server be heard, for an address and then for a prefix.
func (f *floor) hear6(server addr.DUID, kind dhcp6.Type, keys ...string) *dhcp6.Message {
	f.t.Helper()
	m := &dhcp6.Message{Type: kind, Transaction: 77, Options: dhcp6.Options{{Code: option.ClientID6, Data: []byte(ofClient)},
		{Code: option.RequestList6, Data: []byte{0, 23}}}}
	if server != "" {
		m.Options = append(m.Options, dhcp6.Option{Code: option.ServerID6, Data: []byte(server)})
	}
	for i, text := range keys {
		k, err := addr.ParseKey(text)
		if err != nil {
			f.t.Fatal(err)
		}
		ia := dhcp6.IA{Code: option.IANA, ID: 5, Leases: []dhcp6.Lease{{Prefix: k, Preferred: 100, Valid: 100}}}
		if i > 0 {
			ia.Code = option.IAPD
		}
		m.IAs = append(m.IAs, ia)
	}
	m.Relays = []dhcp6.Relay{{Link: netip.MustParseAddr("2001:db8:40:1::1"), Peer: netip.MustParseAddr("fe80::77")}}
	req := m.Request(request.Path{})
	decided := answer.Decide(req, f.host.World(listened), nil)
	for i := range decided.Answers {
		f.Request(Case{&req, decided, &decided.Answers[i]}, listened)
	}
	return m
}

// The same with DHCPv6: what a client takes of another server, an address and a prefix of one message,
// is held against what it would have got, each by itself, and learned; the options of the message once.
func TestAgreement6(t *testing.T) {
	sh := newFloor6(t)
	hear, table, other := sh.hear6, sh.table, otherDUID
	hear(ownDUID, dhcp6.Request, "2001:db8:40:1::7", "2001:db8:40:8100::/56")
	hear(other, dhcp6.Solicit, "2001:db8:40:1::7", "2001:db8:40:8100::/56")
	hear("", dhcp6.Confirm, "2001:db8:40:1::7")
	hear(addr.DUID(strings.Repeat("x", 60000)), dhcp6.Request, "2001:db8:40:1::7") // no DUID is so long
	hear(other, dhcp6.Release, "2001:db8:40:1::7")
	if list := sh.Agreements(); len(list) != 0 {
		t.Fatalf("what is no choice of another server's is compared: %+v", list)
	}
	m := hear(other, dhcp6.Request, "2001:db8:40:1::7", "2001:db8:40:8100::/60")
	list := sh.Agreements()
	if len(list) != 2 || list[0].Agrees ||
		list[0].Difference[0] != "2001:db8:40:8100::/60 is none of the prefixes that scope offices6 delegates" ||
		list[0].Would.Bits() != 56 ||
		!list[1].Agrees || list[1].Took.Addr().String() != "2001:db8:40:1::7" || list[1].Server.DUID != other {
		t.Fatalf("%+v", list)
	}
	l := table.At(netip.MustParseAddr("2001:db8:40:1::7"))
	if l == nil || l.Revision != 0 || l.Client != (lease.Client{Kind: lease.Addresses, Number: 5, ID: string(ofClient)}) ||
		l.Granted != 12*time.Hour {
		t.Errorf("learned is %+v", l)
	}
	if table.Get(netip.MustParsePrefix("2001:db8:40:8100::/60")) != nil {
		t.Error("a prefix that no pool delegates is learned")
	}
	now := lease.At(listened)
	reply := &dhcp6.Message{Type: dhcp6.Reply, Transaction: 77, IAs: m.IAs, Options: dhcp6.Options{{Code: option.DNSServers6,
		Data: netip.MustParseAddr("2001:db8:40::54").AsSlice()}}}
	on := &wire.Interface{Name: "eth0", Prefixes6: []netip.Prefix{netip.MustParsePrefix("2001:db8:40:1::2/64")}}
	sh.Overheard(on, request.Overheard{Family: option.V6, Server: request.Server{DUID: other}, Transaction: 77, Binding: true,
		Message: reply}, now)
	differ := 0
	for _, a := range sh.Agreements() {
		if strings.Contains(strings.Join(a.Difference, ";"), "option dns-servers is 2001:db8:40::53 here and 2001:db8:40::54 there") {
			differ++
		}
	}
	link := table.Plan().ScopeNamed("offices6").Link
	if differ != 1 || !sh.OtherServer(link, option.V6, now) || sh.OtherServer(link, option.V4, now) {
		t.Errorf("%d compare options: %+v", differ, sh.Agreements())
	}
	hear(other, dhcp6.Renew, "2001:db8:40:1::7", "2001:db8:40:8100::/56")
	if l := table.Get(netip.MustParsePrefix("2001:db8:40:8100::/56")); l == nil || l.Client.Kind != lease.Prefixes {
		t.Errorf("what it renews is learned as %+v", l)
	}
}

// What clients say that they chose makes no other server, however many say it.
func TestChoosers(t *testing.T) {
	f := newFloor(t)
	looms := f.table.Plan().ScopeNamed("looms").Link
	for n := range 10 {
		f.hear(requesting(40+n, fmt.Sprint("10.77.0.", 160+n), otherAddress), listened)
	}
	if f.OtherServer(looms, option.V4, lease.At(listened)) {
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
