package answer

import (
	"bytes"
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// fixture is a plan with one scope, looms, and a table that follows decisions.
type fixture struct {
	testing.TB
	plan     *plan.Plan
	table    *lease.Table
	now      lease.Time
	writable bool
	awake    bool // whoever gave an address up answers probes there still
}

var server = netip.MustParseAddr("10.77.0.1")

func newWorld(tb testing.TB, subnet string, pools ...string) *fixture {
	f := &fixture{TB: tb, plan: plan.New(), now: 1_000_000, writable: true}
	f.table = lease.New(f.plan, f.now)
	f.change(func(d *plan.Draft) error {
		s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix(subnet), Mode: plan.Serving, Settings: plan.Settings{
			Lease: plan.Duration(time.Hour),
			Options: map[option.Key]string{option.Std(option.Router): "10.77.0.1", option.Std(option.DomainServer): "10.77.0.53",
				option.Std(option.DomainName): "mill.example"}}}
		for _, p := range pools {
			r, err := addr.ParseRange(p)
			if err != nil {
				return err
			}
			s.Pools = append(s.Pools, r)
		}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			return err
		}
		_, err := d.PutScope(s)
		return err
	})
	return f
}

func (f *fixture) change(edit func(*plan.Draft) error) {
	f.Helper()
	d := f.plan.Draft()
	if err := edit(d); err != nil {
		f.Fatal(err)
	}
	var changes []plan.Change
	f.plan, changes = d.Finish()
	f.table.SetPlan(f.plan, changes)
}

// edit changes the scope looms.
func (f *fixture) edit(change func(*plan.Scope)) {
	f.Helper()
	f.change(func(d *plan.Draft) error {
		s := d.Plan().ScopeNamed("looms").Scope
		change(&s)
		_, err := d.PutScope(s)
		return err
	})
}

// link changes the link of the scope.
func (f *fixture) link(change func(*plan.Link)) {
	f.Helper()
	f.change(func(d *plan.Draft) error {
		l := *d.Plan().LinkNamed("looms")
		change(&l)
		_, err := d.PutLink(l)
		return err
	})
}

// names makes relays the link's own.
func (f *fixture) names(relays ...string) {
	f.Helper()
	f.link(func(l *plan.Link) {
		for _, a := range relays {
			l.Relays = append(l.Relays, netip.MustParseAddr(a))
		}
	})
}

func (f *fixture) reserve(name string, n int, a string) {
	f.Helper()
	f.change(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: name, Scope: d.Plan().ScopeNamed("looms").ID, Hardware: hw(n),
			Address: netip.MustParseAddr(a), Hostname: name})
		return err
	})
}

func hw(n int) addr.Hardware { return addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)}) }

func (f *fixture) world() World {
	return World{Table: f.table, Now: f.now, Ours: func(a netip.Addr) bool { return a == server }, Writable: f.writable}
}

// message makes a message of client number n, as heard through a relay at
// 10.77.0.2.
func (f *fixture) message(t dhcp4.Type, n int, options ...dhcp4.Option) *dhcp4.Message {
	zero := netip.IPv4Unspecified()
	m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: uint32(n), CIAddr: zero, YIAddr: zero, SIAddr: zero,
		GIAddr: netip.MustParseAddr("10.77.0.2"), CHAddr: hw(n), Type: t}
	m.Options = append(dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(t)}},
		{Code: option.ParameterList, Data: []byte{15, 6, 3, 1, 42}}}, options...)
	return m
}

func at(code uint8, a string) dhcp4.Option {
	return dhcp4.Option{Code: code, Data: netip.MustParseAddr(a).AsSlice()}
}

// do decides a message and does to the table what the decision says.
func (f *fixture) do(m *dhcp4.Message, how ...func(*request.Path)) *Decision {
	path := request.Path{Server: server}
	for _, h := range how {
		h(&path)
	}
	d := Decide(asked(m, path), f.world(), nil)
	f.carryOut(d)
	return d
}

// said is the reply of a decision.
func said(d *Decision) *dhcp4.Message { return d.Reply.(*dhcp4.Message) }

// asked is a message as the codec would have read it.
func asked(m *dhcp4.Message, p request.Path) request.Request {
	m.Agent = dhcp4.Relay{}
	if b, ok := m.Options.Get(option.RelayAgent); ok {
		m.Agent = dhcp4.ParseRelay(b)
	}
	return m.Request(p)
}

// carryOut does what a decision says, in its order, as if all that is recorded
// were durable at once.
func (f *fixture) carryOut(d *Decision) {
	for _, e := range d.Effects {
		switch e.Do {
		case effect.Forget:
			f.table.DropOffer(e.Key)
		case effect.Offer:
			f.table.PutOffer(*e.Note)
		case effect.Record:
			for _, c := range e.Changes {
				if now := f.table.Get(c.After.Prefix); !reflect.DeepEqual(now, c.Before) {
					f.Errorf("%s is to be put in place of %+v, and there is %+v", c.After.Prefix, c.Before, now)
				}
				f.table.Put(c.After)
				if c.After.Kept() && !f.awake { // a probe meets silence
					f.table.Put(c.After.Ended(lease.Released, f.now))
				}
			}
		case effect.Remember:
			f.table.Put(e.Changes[0].After)
		}
	}
}

// get does the whole exchange for client n and gives its address.
func (f *fixture) get(n int) netip.Addr {
	f.Helper()
	o := f.do(f.message(dhcp4.Discover, n))
	if o.First().Outcome != Offered {
		f.Fatalf("client %d: %s %s", n, o.First().Outcome, o.First().Why)
	}
	a := o.First().Address()
	if k := f.do(f.message(dhcp4.Request, n, at(option.AddressRequest, a.String()),
		at(option.ServerID, server.String()))); k.First().Outcome != Acknowledged || k.First().Address() != a {
		f.Fatalf("client %d: %s %s %s after an offer of %s", n, k.First().Outcome, k.First().Why, k.First().Address(), a)
	}
	return a
}

func (f *fixture) expect(what string, d *Decision, outcome Outcome, why reason.Reason, address string) {
	f.Helper()
	got := fmt.Sprint(d.First().Outcome, " ", d.First().Why)
	if want := fmt.Sprint(outcome, " ", why); got != want {
		f.Errorf("%s: %s, want %s (trail %v)", what, got, want, d.Trail)
		return
	}
	if address != "" && d.First().Address().String() != address {
		f.Errorf("%s: address %s, want %s", what, d.First().Address(), address)
	}
	if silent := outcome == Ignored || outcome == Released || outcome == Declined; silent != (d.Reply == nil) {
		f.Errorf("%s: a reply is there %v", what, d.Reply != nil)
	}
}

func TestReplyFields(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	relay := dhcp4.Option{Code: option.RelayAgent, Data: []byte("\x01\x04eth0")}
	id := dhcp4.Option{Code: option.ClientID, Data: []byte("\x01abc")}
	m := f.message(dhcp4.Discover, 1, id, relay)
	m.Flags, m.XID = dhcp4.BroadcastFlag, 77
	d := f.do(m)
	f.expect("discover", d, Offered, "", "10.77.0.100")
	r := said(d)
	var codes []uint8
	for _, o := range r.Options {
		codes = append(codes, o.Code)
	}
	// type, server, times; mask first, then in the client's order; what is echoed last
	if want := []uint8{53, 54, 1, 51, 58, 59, 15, 6, 3, 61, 82}; !bytes.Equal(codes, want) {
		t.Errorf("options %v, want %v", codes, want)
	}
	if r.XID != 77 || r.Flags != dhcp4.BroadcastFlag || r.YIAddr.String() != "10.77.0.100" || r.GIAddr.String() != "10.77.0.2" ||
		d.To != ToRelay {
		t.Errorf("header %+v to %d", r, d.To)
	}
	for code, want := range map[uint8]uint32{option.AddressTime: 3600, option.RenewalTime: 1800, option.RebindingTime: 3150} {
		if got, _ := r.Options.Uint32(code); got != want {
			t.Errorf("option %d is %d, want %d", code, got, want)
		}
	}
	short := f.message(dhcp4.Discover, 2, dhcp4.Option{Code: option.AddressTime, Data: []byte{0, 0, 0, 120}})
	if got, _ := said(f.do(short)).Options.Uint32(option.AddressTime); got != 120 {
		t.Errorf("a client that asks for two minutes gets %d s", got)
	}
	inform := f.message(dhcp4.Inform, 3)
	inform.CIAddr, inform.GIAddr = netip.MustParseAddr("10.77.0.9"), netip.IPv4Unspecified()
	d = f.do(inform)
	f.expect("inform", d, Informed, "", "")
	if _, timed := said(d).Options.Get(option.AddressTime); timed || !said(d).YIAddr.IsUnspecified() || d.To != ToAddress {
		t.Errorf("the answer to INFORM has a time or an address: %+v", d.Reply)
	}
}

// Where a reply goes, by RFC 2131 section 4.1.
func TestDestinations(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	direct := func(r *request.Path) {
		r.Interface, r.Prefixes = "eth0", []netip.Prefix{netip.MustParsePrefix("10.77.0.1/24")}
	}
	m := f.message(dhcp4.Discover, 1)
	m.GIAddr = netip.IPv4Unspecified()
	if d := f.do(m, direct); d.To != ToHardware {
		t.Errorf("direct: %d", d.To)
	}
	m.Flags = dhcp4.BroadcastFlag
	if d := f.do(m, direct); d.To != ToAll {
		t.Errorf("broadcast flag: %d", d.To)
	}
	a := f.get(2)
	renew := f.message(dhcp4.Request, 2)
	renew.GIAddr, renew.CIAddr = netip.IPv4Unspecified(), a
	if d := f.do(renew, func(r *request.Path) { r.Unicast = true }); d.To != ToAddress || d.First().Outcome != Acknowledged {
		t.Errorf("renewing: %d %s %s", d.To, d.First().Outcome, d.First().Why)
	}
	wrong := f.message(dhcp4.Request, 2, at(option.AddressRequest, "192.168.1.9"))
	if d := f.do(wrong); d.To != ToRelay || !said(d).Broadcast() {
		t.Errorf("NAK through a relay: %d, broadcast %v", d.To, said(d).Broadcast())
	}
	wrong.GIAddr = netip.IPv4Unspecified()
	if d := f.do(wrong, direct); d.To != ToAll {
		t.Errorf("NAK on the wire: %d", d.To)
	}
}

func TestFourRequests(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.102")
	a := f.get(1).String()
	reboot := func(n int, address string) *Decision {
		return f.do(f.message(dhcp4.Request, n, at(option.AddressRequest, address)))
	}
	renew := func(n int, address string, how ...func(*request.Path)) *Decision {
		m := f.message(dhcp4.Request, n)
		m.CIAddr = netip.MustParseAddr(address)
		if len(how) > 0 {
			m.GIAddr = netip.IPv4Unspecified()
		}
		return f.do(m, how...)
	}
	straight := func(r *request.Path) { r.Unicast = true }
	f.expect("init-reboot with a record", reboot(1, a), Acknowledged, "", a)
	f.expect("init-reboot without a record is met with silence", reboot(2, "10.77.0.102"), Ignored, reason.NoRecord, "")
	f.expect("init-reboot on the wrong network", reboot(2, "192.168.7.7"), Refused, reason.WrongNetwork, "")
	f.expect("init-reboot for another's address", reboot(2, a), Refused, reason.HeldByAnother, "")
	f.expect("renewing", renew(1, a, straight), Acknowledged, "", a)
	f.expect("rebinding", renew(1, a), Acknowledged, "", a)
	f.expect("renewing without a record", renew(3, "10.77.0.102", straight), Refused, reason.NoRecord, "")
	f.expect("rebinding without a record is met with silence", renew(3, "10.77.0.102"), Ignored, reason.NoRecord, "")
	f.edit(func(s *plan.Scope) { s.Authoritative = true })
	f.expect("rebinding without a record, authoritative", renew(3, "10.77.0.102"), Refused, reason.NoRecord, "")

	other := f.message(dhcp4.Discover, 4)
	f.do(other)
	f.expect("it chose another server",
		f.do(f.message(dhcp4.Request, 4, at(option.AddressRequest, "10.77.0.101"), at(option.ServerID, "10.77.0.99"))), Ignored,
		reason.OtherServer, "")
	if _, still := f.table.OfferTo(f.plan.ScopeNamed("looms"), lease.ByHardware(1, hw(4))); still {
		t.Error("the offer stands although the client went elsewhere")
	}
	f.expect("a request without an address", f.do(f.message(dhcp4.Request, 5)), Ignored, reason.BadRequest, "")
	f.expect("a request through a relay nobody knows", f.do(func() *dhcp4.Message {
		m := f.message(dhcp4.Request, 5, at(option.AddressRequest, "10.9.0.5"))
		m.GIAddr = netip.MustParseAddr("10.9.0.1")
		return m
	}()), Ignored, reason.NoScope, "")
}

// A client gets its old address back; a new one gets what was never used, and
// then what is free for longest.
func TestStickyAndLongestFree(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.102")
	release := func(n int, a netip.Addr) {
		m := f.message(dhcp4.Release, n)
		m.CIAddr = a
		f.expect("release", f.do(m), Released, "", a.String())
	}
	a, b := f.get(1), f.get(2)
	f.now += 10
	release(2, b)
	f.now += 10
	release(1, a)
	if c := f.get(3); c.String() != "10.77.0.102" {
		t.Errorf("a new client got %s before the address nobody ever had", c)
	}
	if again := f.get(1); again != a {
		t.Errorf("client 1 had %s and now gets %s", a, again)
	}
	release(1, a)
	if c := f.get(4); c != b {
		t.Errorf("a new client got %s, but %s is free for longer", c, b)
	}
	if d := f.do(f.message(dhcp4.Discover, 5, at(option.AddressRequest, a.String()))); d.First().Address() != a {
		t.Errorf("asked for the free %s and is offered %s", a, d.First().Address())
	}
	f.expect("all are taken", f.do(f.message(dhcp4.Discover, 6)), Ignored, reason.PoolEmpty, "")
}

func TestReservations(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.101")
	f.reserve("loom-7", 7, "10.77.0.17")
	f.reserve("loom-8", 8, "10.77.0.101")
	if a := f.get(7); a.String() != "10.77.0.17" {
		t.Errorf("the reserved client got %s", a)
	}
	// The same hardware with another identifier: boot loader, then system.
	d := f.do(f.message(dhcp4.Discover, 7, dhcp4.Option{Code: option.ClientID, Data: []byte("\xffloader")}))
	f.expect("another identifier of reserved hardware", d, Offered, "", "10.77.0.17")
	f.get(1)
	f.expect("the reserved address is nobody else's", f.do(f.message(dhcp4.Discover, 2)), Ignored, reason.PoolEmpty, "")
	f.expect("asking for it does not help", f.do(f.message(dhcp4.Request, 2, at(option.AddressRequest, "10.77.0.101"))), Refused,
		reason.ForAnother, "")
	f.reserve("loom-1", 1, "10.77.0.55") // a holder of another address is moved at renewal
	m := f.message(dhcp4.Request, 1)
	m.CIAddr = netip.MustParseAddr("10.77.0.100")
	f.expect("renewal away from the reserved address", f.do(m), Refused, reason.HasReservation, "")
	if a := f.get(1); a.String() != "10.77.0.55" {
		t.Errorf("after the refusal it got %s", a)
	}
	if l := f.table.At(netip.MustParseAddr("10.77.0.55")); !l.Reserved || l.Hostname != "loom-1" {
		t.Errorf("recorded as %+v", l)
	}
	// A reservation on an address that another client holds waits for it.
	holder := f.get(3)
	f.reserve("loom-4", 4, holder.String())
	if d := f.do(f.message(dhcp4.Discover, 4)); d.First().Outcome == Offered && d.First().Address() == holder {
		t.Error("a held address was offered to the client it is reserved for")
	}
}

func TestModes(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	a := f.get(1)
	renew := func() *Decision {
		m := f.message(dhcp4.Request, 1)
		m.CIAddr = a
		return f.do(m)
	}
	f.edit(func(s *plan.Scope) { s.Mode = plan.Held })
	f.expect("held, new", f.do(f.message(dhcp4.Discover, 2)), Ignored, reason.ScopeHeld, "")
	f.expect("held, renewal", renew(), Ignored, reason.ScopeHeld, "")
	f.edit(func(s *plan.Scope) {
		s.Mode, s.DrainUntil = plan.Draining, time.Unix(int64(f.now)+1800, 0)
	})
	f.expect("draining, new", f.do(f.message(dhcp4.Discover, 2)), Ignored, reason.ScopeDraining, "")
	f.now += 600
	d := renew()
	f.expect("draining, renewal", d, Acknowledged, "", a.String())
	if s, _ := said(d).Options.Uint32(option.AddressTime); s != 1200 {
		t.Errorf("the drain ends in 1200 s and the lease lasts %d s", s)
	}
	f.change(func(d *plan.Draft) error { // now there is somewhere to go
		s := plan.Scope{Name: "spare", Subnet: netip.MustParsePrefix("10.78.0.0/24"), Mode: plan.Serving,
			Link:  d.Plan().ScopeNamed("looms").Link,
			Pools: []addr.Range{addr.OfPrefix(netip.MustParsePrefix("10.78.0.0/24"))}}
		_, err := d.PutScope(s)
		return err
	})
	f.expect("draining with another scope on the link", renew(), Refused, reason.ScopeDraining, "")
	if b := f.get(1); !netip.MustParsePrefix("10.78.0.0/24").Contains(b) {
		t.Errorf("it moved to %s", b)
	}
}

// An address that has since been excluded is left at the next renewal.
func TestExcludedSince(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	a := f.get(1)
	f.edit(func(s *plan.Scope) { s.Exclusions = []plan.Exclusion{{Range: addr.Range{From: a, To: a}}} })
	m := f.message(dhcp4.Request, 1)
	m.CIAddr = a
	f.expect("renewal of an excluded address", f.do(m), Refused, reason.NotHandedOut, "")
	if b := f.get(1); b == a {
		t.Error("the excluded address was given again")
	}
}

func TestDecline(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.101")
	a := f.get(1)
	decline := func(n int) *Decision {
		return f.do(f.message(dhcp4.Decline, n, at(option.AddressRequest, a.String()), at(option.ServerID, server.String())))
	}
	f.expect("another client's decline changes nothing", decline(2), Ignored, reason.NoRecord, "")
	f.expect("decline", decline(1), Declined, "", a.String())
	if b := f.get(1); b == a {
		t.Error("the declined address was given again")
	}
	if n := f.table.Count(f.plan.ScopeNamed("looms").ID); n.Abandoned != 1 || n.Headroom != 0 {
		t.Errorf("counts %+v", n)
	}
}

// While nothing can be recorded nobody new is served, and nobody is promised
// more than the record says.
func TestWithoutDatabase(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	a := f.get(1)
	f.writable = false
	f.now += 2400
	f.expect("a new client", f.do(f.message(dhcp4.Discover, 2)), Ignored, reason.NoDatabase, "")
	m := f.message(dhcp4.Request, 1)
	m.CIAddr = a
	d := f.do(m)
	f.expect("renewal", d, Acknowledged, "", a.String())
	if s, _ := said(d).Options.Uint32(option.AddressTime); s != 1200 || d.First().Lease != nil {
		t.Errorf("1200 s are left; promised %d s, write %v", s, d.First().Lease != nil)
	}
	f.now += 1300
	f.expect("renewal after the end", f.do(m), Ignored, reason.NoDatabase, "")
}

// A renewal long before its time is answered from the record, without a write.
func TestEarlyRenewal(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	a := f.get(1)
	m := f.message(dhcp4.Request, 1)
	m.CIAddr = a
	f.now += 300
	d := f.do(m)
	if s, _ := said(d).Options.Uint32(option.AddressTime); d.First().Lease != nil || s != 3300 {
		t.Errorf("early: write %v, %d s", d.First().Lease != nil, s)
	}
	f.now += 100
	d = f.do(m)
	if s, _ := said(d).Options.Uint32(option.AddressTime); d.First().Lease == nil || s != 3600 {
		t.Errorf("due: write %v, %d s", d.First().Lease != nil, s)
	}
	f.edit(func(s *plan.Scope) { s.Lease = plan.Duration(30 * time.Minute) })
	if d = f.do(m); d.First().Lease == nil || d.First().Lease.Granted != 30*time.Minute {
		t.Error("a changed lease time waits for the next renewal instead of holding at once")
	}
}

func TestLinks(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	m := f.message(dhcp4.Discover, 1)
	m.GIAddr = netip.MustParseAddr("127.0.0.9")
	f.expect("a relay nobody knows", f.do(m), Ignored, reason.NoScope, "")
	selected := f.message(dhcp4.Discover, 1, dhcp4.Option{Code: option.RelayAgent, Data: []byte{5, 4, 10, 77, 0, 0}})
	selected.GIAddr = m.GIAddr
	f.expect("link selection", f.do(selected), Offered, "", "10.77.0.100")
	subnet := f.message(dhcp4.Discover, 1, at(option.SubnetSelection, "10.77.0.0"))
	subnet.GIAddr = m.GIAddr
	f.expect("subnet selection", f.do(subnet), Ignored, reason.NoScope, "")
	f.link(func(l *plan.Link) { l.SubnetSelection = true })
	f.expect("subnet selection, where it is allowed", f.do(subnet), Offered, "", "10.77.0.100")
	f.names(m.GIAddr.String())
	f.expect("a relay the link names", f.do(m), Offered, "", "10.77.0.100")
	override := f.message(dhcp4.Discover, 2, dhcp4.Option{Code: option.RelayAgent, Data: []byte{11, 4, 10, 77, 0, 2}})
	if id, _ := said(f.do(override)).Options.Addr(option.ServerID); id.String() != "10.77.0.2" {
		t.Errorf("server identifier override: %s", id)
	}
}

// What a client says of itself is shown to people and stored: nothing
// unprintable gets there.
func TestClean(t *testing.T) {
	for in, want := range map[string]string{"loom-17\x00\x00": "loom-17", "a\nb\x1bc": "a?b?c", "m\xfchle": "m?hle", "mühle": "mühle",
		"x\x00y": "x?y"} {
		if got := option.Clean([]byte(in)); got != want {
			t.Errorf("option.Clean(%q) = %q, want %q", in, got, want)
		}
	}
	m := &dhcp4.Message{Options: dhcp4.Options{{Code: option.ClientFQDN, Data: []byte("\x04\x00\x00\x04loom\x04mill\x00")}}}
	if got := hostname(m); got != "loom.mill" {
		t.Errorf("FQDN read as %q", got)
	}
}

// However clients ask, no address is held by two of them, and each
// acknowledged address is in the table.
func FuzzNobodyShares(f *testing.F) {
	f.Add([]byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 250, 251, 252})
	f.Add(bytes.Repeat([]byte{0x10, 0x21, 0x32, 0x43, 0x54}, 12))
	f.Fuzz(func(t *testing.T, script []byte) {
		w := newWorld(t, "10.77.0.0/28", "10.77.0.2-10.77.0.6")
		w.reserve("r", 1, "10.77.0.4")
		holds := map[netip.Addr]int{}
		ends := map[netip.Addr]lease.Time{}
		for _, c := range script {
			n, a := int(c&7), netip.AddrFrom4([4]byte{10, 77, 0, 2 + c>>5})
			var m *dhcp4.Message
			switch c >> 3 & 3 {
			case 0:
				m = w.message(dhcp4.Discover, n)
			case 1:
				m = w.message(dhcp4.Request, n, at(option.AddressRequest, a.String()), at(option.ServerID, server.String()))
			case 2:
				m = w.message(dhcp4.Request, n)
				m.CIAddr = a
			default:
				m = w.message([]dhcp4.Type{dhcp4.Release, dhcp4.Decline}[n&1], n, at(option.AddressRequest, a.String()))
				m.CIAddr = a
			}
			w.now += lease.Time(c) * 20
			w.table.Lapse(w.now)
			endDue(w.table, w.now)
			d := w.do(m)
			switch d.First().Outcome {
			case Acknowledged:
				if other, held := holds[d.First().Address()]; held && other != n && ends[d.First().Address()] > w.now {
					t.Fatalf("%s is held by client %d and was given to %d: %v", d.First().Address(), other, n, d.Trail)
				}
				seconds, _ := said(d).Options.Uint32(option.AddressTime)
				holds[d.First().Address()], ends[d.First().Address()] = n, w.now+lease.Time(seconds)
				if l := w.table.At(d.First().Address()); l == nil || !l.HeldAt(w.now) || l.Expires < ends[d.First().Address()] {
					t.Fatalf("%s was acknowledged and the table says %+v", d.First().Address(), l)
				}
			case Released, Declined:
				delete(holds, d.First().Address())
			}
		}
		if n := w.table.Count(w.plan.ScopeNamed("looms").ID); n.Headroom > 4 {
			t.Fatalf("headroom %d of 4", n.Headroom)
		}
	})
}

// A scope without a pool serves reserved clients alone, and says so.
func TestReservedOnly(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24")
	f.reserve("loom-1", 1, "10.77.0.9")
	d := f.do(f.message(dhcp4.Discover, 2))
	f.expect("a client without a reservation", d, Ignored, reason.ReservedOnly, "")
	if trail := fmt.Sprint(d.Trail); !strings.Contains(trail, "looms has no pool") {
		t.Errorf("trail: %s", trail)
	}
	f.expect("the reserved client", f.do(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.9")
}

func TestTrailReads(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	d := f.do(f.message(dhcp4.Discover, 1))
	var lines []string
	for _, s := range d.Trail {
		lines = append(lines, s.String())
	}
	if got := strings.Join(lines, "; "); got != "came through relay 10.77.0.2; 10.77.0.100 is free for longest in scope looms" {
		t.Errorf("trail: %s", got)
	}
}

// The list of effects is in the order that makes it safe: whatever tells a client
// of a lease stands behind the record of it, and behind the wait for that.
func TestEffectsAreInOrder(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	list := func(d *Decision) (out string) {
		for _, e := range d.Effects {
			out += e.Do.String() + " "
		}
		return strings.TrimSpace(out)
	}
	expect := func(what string, d *Decision, want string) *Decision {
		t.Helper()
		if got := list(d); got != want {
			t.Errorf("%s (%s): %s; want %s", what, d.First().Outcome, got, want)
		}
		return d
	}
	o := expect("DISCOVER", f.do(f.message(dhcp4.Discover, 1)), "offer reply")
	expect("REQUEST", f.do(f.selecting(1, o.First().Address().String())), "welcome record forget await reply")
	renew := f.message(dhcp4.Request, 1)
	renew.CIAddr = o.First().Address()
	expect("an early renewal", f.do(renew), "reply")
	w := f.world()
	w.Pending = func(k netip.Prefix) bool { return k == lease.Host(o.First().Address()) }
	expect("one whose record is on its way", Decide(asked(renew, request.Path{Server: server, Unicast: true}), w, nil), "await reply")
	f.now += 1800
	d := expect("a renewal", f.do(renew), "record forget await reply")
	if c := d.Changes[0]; c.Before == nil || c.After.Expires <= c.Before.Expires {
		t.Errorf("it changes %+v", c)
	}
	f.reserve("r", 9, o.First().Address().String())
	expect("a NAK that ends a lease", f.do(renew), "record forget await reply")
	expect("a NAK that ends none", f.do(renew), "reply")
	f.get(3)
	had := f.table.ByClient(f.plan.ScopeNamed("looms"), lease.ByHardware(1, hw(3))).Address()
	f.do(f.message(dhcp4.Discover, 4))
	expect("one that goes elsewhere",
		f.do(f.message(dhcp4.Request, 4, at(option.AddressRequest, "10.77.0.101"), at(option.ServerID, "10.77.0.7"))), "forget")
	expect("DECLINE", f.do(f.message(dhcp4.Decline, 3, at(option.AddressRequest, had.String()))), "blame record forget await")
	f.get(5)
	release := f.message(dhcp4.Release, 5)
	release.CIAddr = f.table.ByClient(f.plan.ScopeNamed("looms"), lease.ByHardware(1, hw(5))).Address()
	expect("RELEASE", f.do(release), "record forget await")
	inform := f.message(dhcp4.Inform, 6)
	inform.CIAddr = netip.MustParseAddr("10.77.0.9")
	expect("INFORM", f.do(inform), "reply")
	w.Fenced = true
	expect("anything, once fenced", Decide(asked(renew, request.Path{Server: server, Unicast: true}), w, nil), "")
}

// What a partner allows reaches the decision as two answers: how long a promise
// may be, and whose a free address is.
// halfPair is a pair as a decision sees it: odd addresses are this server's, or
// none, and the first lease of a client is short.
type halfPair struct {
	odd, none, elsewhere, unsure bool
	only                         *Serving
}

func (h *halfPair) Serving() Serving {
	if h.only != nil {
		return *h.only
	}
	if h.unsure {
		return Renewals
	}
	return Everybody
}
func (h *halfPair) Responsible(lease.Client, time.Duration) bool   { return !h.elsewhere }
func (h *halfPair) Forgetful() bool                                { return false }
func (h *halfPair) Returns(*lease.Lease) bool                      { return true }
func (h *halfPair) Reserved(*plan.Reservation, *lease.Lease) bool  { return true }
func (h *halfPair) Changed(_, after *lease.Lease, _ time.Duration) { after.Owed = true }
func (h *halfPair) Gives(k netip.Prefix, _ *lease.Lease) bool {
	return !h.none && k.Addr().As4()[3]%2 == 1
}
func (h *halfPair) Promise(_ lease.Time, before *lease.Lease, wanted time.Duration) time.Duration {
	if before == nil || before.Granted == 0 {
		return min(wanted, 10*time.Minute)
	}
	return wanted
}

func TestBounds(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	w := f.world()
	two := &halfPair{odd: true}
	w.Pair = two
	decide := func(m *dhcp4.Message) *Decision {
		d := Decide(asked(m, request.Path{Server: server}), w, nil)
		f.carryOut(d)
		return d
	}
	o := decide(f.message(dhcp4.Discover, 1))
	if o.First().Address().String() != "10.77.0.101" {
		t.Fatalf("it is offered %s, which is not of this server's share", o.First().Address())
	}
	if s, _ := said(o).Options.Uint32(option.AddressTime); s != 600 {
		t.Errorf("it is offered for %d s", s)
	}
	k := decide(f.selecting(1, "10.77.0.101"))
	if !k.First().Lease.Owed || fmt.Sprint(k.Effects[len(k.Effects)-1].Do) != "tell" {
		t.Errorf("the partner is not told: %v", k.Effects)
	}
	if k.First().Lease == nil || k.First().Lease.Granted != 10*time.Minute || !strings.Contains(fmt.Sprint(k.Trail),
		"until the partner has confirmed") {
		t.Fatalf("the first lease is %+v, %v", k.First().Lease, k.Trail)
	}
	if s, _ := said(k).Options.Uint32(option.AddressTime); s != 600 {
		t.Errorf("it is promised %d s", s)
	}
	renew := f.message(dhcp4.Request, 1)
	renew.CIAddr = o.First().Address()
	f.now += 300
	w.Now = f.now
	if k = decide(renew); k.First().Lease == nil || k.First().Lease.Granted != time.Hour {
		t.Errorf("once more is allowed, a renewal gives %+v", k.First().Lease)
	}
	asks := f.message(dhcp4.Discover, 2, at(option.AddressRequest, "10.77.0.104"))
	if d := decide(asks); d.First().Address().String() != "10.77.0.103" {
		t.Errorf("asking for the partner's address, it is offered %s", d.First().Address())
	}
	two.odd, two.none = false, true
	if d := decide(f.message(dhcp4.Discover, 3)); d.First().Why != reason.PoolEmpty {
		t.Errorf("with nothing of its own it says %s %s", d.First().Outcome, d.First().Why)
	}
	f.now += 7200
	endDue(f.table, f.now)
	w.Now = f.now
	if d := decide(f.message(dhcp4.Discover, 1)); d.First().Address() != o.First().Address() {
		t.Errorf("the client of an address that is nobody's now gets %s", d.First().Address())
	}
}

// A server that does not know yet what the other one gave refuses nobody because of
// that.
func TestUnsure(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	f.edit(func(s *plan.Scope) { s.Authoritative = true })
	w := f.world()
	two := &halfPair{odd: true}
	w.Pair = two
	renew := f.message(dhcp4.Request, 1)
	renew.CIAddr = netip.MustParseAddr("10.77.0.101")
	for _, c := range []struct {
		unsure bool
		want   Outcome
	}{{false, Refused}, {true, Ignored}} {
		two.unsure = c.unsure
		if d := Decide(asked(renew, request.Path{Server: server, Unicast: true}), w, nil); d.First().Outcome != c.want ||
			d.First().Why != reason.NoRecord {
			t.Errorf("unsure %v: a renewal of what is not known here is %s, %s", c.unsure, d.First().Outcome, d.First().Why)
		}
	}
}

// While nothing can be recorded here and the other server answers everybody, those that
// renew with this one alone are answered from the record with what is left; a server
// that was told to rest answers nobody.
func TestHoldersAlone(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	o := f.do(f.message(dhcp4.Discover, 1))
	f.do(f.selecting(1, o.First().Address().String()))
	f.now += 1000
	renew, other, release := f.message(dhcp4.Request, 1), f.message(dhcp4.Request, 2), f.message(dhcp4.Release, 1)
	renew.CIAddr, renew.GIAddr = o.First().Address(), netip.IPv4Unspecified()
	other.CIAddr, other.GIAddr = o.First().Address(), netip.IPv4Unspecified()
	release.CIAddr, release.GIAddr = o.First().Address(), netip.IPv4Unspecified()
	rebind := f.message(dhcp4.Request, 1)
	rebind.CIAddr = o.First().Address()
	reboot := f.message(dhcp4.Request, 1, at(option.AddressRequest, o.First().Address().String()))
	f.writable = false
	w := f.world()
	for _, c := range []struct {
		what    string
		serving Serving
		m       *dhcp4.Message
		want    Outcome
		why     reason.Reason
	}{
		{"a renewal", Holders, renew, Acknowledged, ""},
		{"a renewal of another's lease", Holders, other, Ignored, reason.NoDatabase},
		{"a rebinding", Holders, rebind, Ignored, reason.PartnerServes},
		{"a reboot", Holders, reboot, Ignored, reason.PartnerServes},
		{"a newcomer", Holders, f.message(dhcp4.Discover, 3), Ignored, reason.PartnerServes},
		{"a release", Holders, release, Ignored, reason.PartnerServes},
		{"a renewal while it rests", Resting, renew, Ignored, reason.PartnerServes},
		{"a newcomer while it rests", Resting, f.message(dhcp4.Discover, 3), Ignored, reason.PartnerServes},
		{"a renewal while it recovers", Nobody, renew, Ignored, reason.Recovering},
	} {
		w.Pair = &halfPair{odd: true, only: &c.serving}
		d := Decide(asked(c.m, request.Path{Server: server, Unicast: c.m.GIAddr.IsUnspecified()}), w, nil)
		if d.First().Outcome != c.want || d.First().Why != c.why {
			t.Errorf("%s is %s %s, want %s %s: %v", c.what, d.First().Outcome, d.First().Why, c.want, c.why, d.Trail)
		}
		if d.First().Outcome != Acknowledged {
			continue
		}
		if s, _ := said(d).Options.Uint32(option.AddressTime); s != 2600 || len(d.Changes) > 0 {
			t.Errorf("%s gives %d s of the 2600 that are left, with %d changes", c.what, s, len(d.Changes))
		}
	}
}

// endDue ends the leases whose time is over.
func endDue(table *lease.Table, now lease.Time) {
	var due lease.Part
	table.Due(&due, now, 1<<20)
	for l := range due.Leases {
		table.Put(l.Ended(lease.Expired, l.Expires))
	}
}
