package answer

import (
	"bytes"
	"fmt"
	"net/netip"
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

func (f *fixture) selecting(n int, a string, more ...dhcp4.Option) *dhcp4.Message {
	return f.message(dhcp4.Request, n, append(more, at(option.AddressRequest, a), at(option.ServerID, server.String()))...)
}

// One client that takes one address after the other has one in the end: it may
// only select what was offered to it, and what it takes replaces what it had.
func TestOneAddressALink(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.199")
	active := func() int { return f.table.Count(f.scope()).Active }
	for n := range 50 {
		f.expect("selecting what was not offered", f.do(f.selecting(1, fmt.Sprintf("10.77.0.%d", 100+n))), Refused, reason.NotOffered, "")
	}
	if active() != 0 {
		t.Fatalf("%d addresses were given without an offer", active())
	}
	a := f.get(1)
	f.expect("an address beside its own", f.do(f.selecting(1, "10.77.0.150")), Refused, reason.NotOffered, "")
	if l := f.table.At(a); !l.HeldAt(f.now) {
		t.Errorf("the refusal of another address ended its lease: %s", l.Status)
	}
	for range 20 { // wishing for another does not help while it has one
		if d := f.do(f.message(dhcp4.Discover, 1, at(option.AddressRequest, "10.77.0.160"))); d.First().Address() != a {
			t.Errorf("it is offered %s beside %s", d.First().Address(), a)
		}
	}
	f.reserve("r", 1, "10.77.0.9")
	d := f.do(f.message(dhcp4.Discover, 1))
	d = f.do(f.selecting(1, d.First().Address().String()))
	if d.First().Address().String() != "10.77.0.9" || len(d.Changes) != 2 || d.Changes[1].After.Address() != a {
		t.Fatalf("it took %s and leaves %v", d.First().Address(), d.Changes)
	}
	if active() != 1 {
		t.Errorf("it has %d addresses", active())
	}
}

// What an administrator takes from a client is not given to another while the
// client may be using it; the client itself may have it back.
func TestKeptAddress(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.100")
	a := f.get(1)
	l := f.table.At(a)
	f.table.Put(l.KeptUntil(f.now, l.Expires))
	f.expect("a newcomer", f.do(f.message(dhcp4.Discover, 2)), Ignored, reason.PoolEmpty, "")
	f.expect("one that wishes for it", f.do(f.message(dhcp4.Discover, 2, at(option.AddressRequest, a.String()))), Ignored,
		reason.PoolEmpty, "")
	f.expect("one that asks for it", f.do(f.message(dhcp4.Request, 2, at(option.AddressRequest, a.String()))), Refused,
		reason.HeldByAnother, "")
	f.reserve("r", 3, a.String())
	if d := f.do(f.message(dhcp4.Discover, 3)); d.First().Outcome == Offered {
		t.Error("a reservation goes before the promise")
	}
	f.change(func(d *plan.Draft) error { return d.RemoveReservation("r") })
	renew := f.message(dhcp4.Request, 1)
	renew.CIAddr = a
	f.expect("its client renews", f.do(renew), Acknowledged, "", a.String())
}

// What belongs to the network is nobody's.
func TestNetworkAddresses(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.2-10.77.0.5")
	f.change(func(d *plan.Draft) error { // another scope names a router in here
		s := plan.Scope{Name: "other", Subnet: netip.MustParsePrefix("10.78.0.0/24"), Mode: plan.Serving,
			Settings: plan.Settings{Options: map[option.Key]string{option.Std(option.Router): "10.77.0.4"}}}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			return err
		}
		_, err := d.PutScope(s)
		return err
	})
	heard := netip.MustParseAddr("10.77.0.3")
	ask := func(m *dhcp4.Message) *Decision {
		w := f.world()
		w.Network = func(a netip.Addr) bool { return a == heard }
		return Decide(asked(m, request.Path{Server: server}), w, nil)
	}
	f.expect("the one address that is no relay's and no router's", ask(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.5")
	for _, a := range []string{"10.77.0.2", "10.77.0.3", "10.77.0.4", "10.77.0.1"} {
		if d := ask(f.message(dhcp4.Discover, 1, at(option.AddressRequest, a))); d.First().Address().String() != "10.77.0.5" {
			t.Errorf("a client that wishes for %s is offered %s", a, d.First().Address())
		}
		f.expect("selecting "+a, ask(f.selecting(1, a)), Refused, reason.OfNetwork, a)
	}
	if n := f.table.Count(f.scope()).Headroom; n != 3 { // the router named elsewhere is left out
		t.Errorf("headroom %d, want 3", n)
	}
	for _, a := range []string{"10.77.0.1", "10.77.0.4"} {
		if _, err := f.plan.Draft().PutReservation(plan.Reservation{Name: "r", Scope: f.scope(), Hardware: hw(1),
			Address: netip.MustParseAddr(a)}); err == nil {
			t.Errorf("router %s can be reserved", a)
		}
	}
	f.reserve("r", 7, "10.77.0.2") // that is the relay's, as the next message shows
	f.expect("a reservation of the relay's address", ask(f.message(dhcp4.Discover, 7)), Offered, "", "10.77.0.5")
	d := f.plan.Draft()
	s := d.Plan().ScopeNamed("looms").Scope
	s.Options = map[option.Key]string{option.Std(option.Router): "10.77.0.2"}
	if _, err := d.PutScope(s); err == nil {
		t.Error("a reserved address becomes a router")
	}
}

// A relay address that no host can have is not answered.
func TestOddRelays(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	for _, g := range []string{"255.255.255.255", "224.0.0.1", "240.0.0.1", "0.0.0.9", "10.77.0.255", "10.77.0.0"} {
		m := f.message(dhcp4.Discover, 1)
		m.GIAddr = netip.MustParseAddr(g)
		f.expect("through "+g, f.do(m), Ignored, reason.BadRelay, "")
	}
}

// A holder whose address is reserved for another leaves it behind when it is
// refused, so that both get on, in a full pool too.
func TestMovedForAnother(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.101")
	a, b := f.get(1), f.get(2)
	f.reserve("r", 2, a.String())
	renew := f.message(dhcp4.Request, 1)
	renew.CIAddr = a
	f.expect("the holder", f.do(renew), Refused, reason.ForAnother, "")
	if got := f.get(2); got != a {
		t.Errorf("the reserved client got %s", got)
	}
	if got := f.get(1); got != b {
		t.Errorf("the former holder got %s, and %s is free", got, b)
	}
}

// However many addresses clients decline, the pool is not emptied.
func TestDeclinesAreBounded(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.199")
	decline := func(n int, port dhcp4.Option) *Decision {
		f.Helper()
		o := f.do(f.message(dhcp4.Discover, n, port))
		if o.First().Outcome != Offered {
			f.Fatalf("client %d: %s %s", n, o.First().Outcome, o.First().Why)
		}
		a := o.First().Address().String()
		f.do(f.selecting(n, a, port))
		d := f.do(f.message(dhcp4.Decline, n, port, at(option.AddressRequest, a), at(option.ServerID, server.String())))
		if d.Effects.Has(effect.Blame) {
			f.table.Declined(f.scope(), d.First().Client, lease.Port{Relay: d.First().Lease.Relay, Circuit: d.First().Lease.Circuit}, f.now)
		}
		return d
	}
	circuit := func(name string) dhcp4.Option {
		return dhcp4.Option{Code: option.RelayAgent, Data: append([]byte{1, byte(len(name))}, name...)}
	}
	abandoned := func() int { return f.table.Count(f.scope()).Abandoned }
	for range 20 {
		decline(1, circuit("a"))
	}
	if abandoned() != declinesOwn {
		t.Errorf("one client made %d addresses unusable", abandoned())
	}
	if d := decline(1, circuit("a")); d.First().Why != reason.TooManyDeclines || d.First().Lease.Status != lease.Released {
		t.Errorf("one more is %s %s", d.First().Why, d.First().Lease.Status)
	}
	for n := range 20 {
		decline(10+n, circuit("a"))
	}
	if abandoned() != declinesPort {
		t.Errorf("one port made %d addresses unusable", abandoned())
	}
	for n := range 25 {
		decline(100+n, circuit(fmt.Sprint("port", n)))
		f.now += 3
	}
	if n := abandoned(); n > 100/declinesPart {
		t.Errorf("%d of 100 addresses are unusable", n)
	}
}

// Two hosts with one identifier have one address by the standard's rule, and it
// is noticed. Useless identifiers do not tell anybody from others.
func TestSharedIdentifier(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	clone := id("\x00cloned")
	o := f.do(f.message(dhcp4.Discover, 1, clone))
	f.do(f.selecting(1, o.First().Address().String(), clone))
	d := f.do(f.message(dhcp4.Discover, 2, clone))
	f.expect("the other host", d, Offered, "", o.First().Address().String())
	if d.First().Twin == nil || d.First().Twin.Hardware != hw(1) {
		t.Errorf("twin %+v", d.First().Twin)
	}
	if d = f.do(f.message(dhcp4.Discover, 1, clone)); d.First().Twin != nil {
		t.Error("a host is its own twin")
	}
	f.now += 7200 // the lease is over
	if d = f.do(f.message(dhcp4.Discover, 2, clone)); d.First().Twin != nil {
		t.Error("a lease that ended has a twin")
	}
	for _, useless := range []string{"\x00\x00\x00\x00", "\x01\x00\x00\x00\x00\x00\x00", "\xff\xff\xff\xff",
		"\x01\xff\xff\xff\xff\xff\xff"} {
		one := *f.do(f.message(dhcp4.Discover, 11, id(useless)))
		two := f.do(f.message(dhcp4.Discover, 12, id(useless)))
		if one.First().Client == two.First().Client || one.First().Address() == two.First().Address() && one.First().Address().IsValid() {
			t.Errorf("with the identifier %x both are %v", useless, one.First().Client)
		}
		if echoed, ok := said(two).Options.Get(option.ClientID); !ok || string(echoed) != useless {
			t.Errorf("identifier %x is not echoed (RFC 6842)", useless)
		}
	}
}

// Who is inside a draining scope keeps its address until the end, after a reboot
// too, unless another scope can take it.
func TestDrainingReboot(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	a := f.get(1)
	f.edit(func(s *plan.Scope) {
		s.Mode, s.DrainUntil = plan.Draining, time.Unix(int64(f.now)+1800, 0)
	})
	d := f.do(f.message(dhcp4.Discover, 1))
	f.expect("after a reboot", d, Offered, "", a.String())
	if s, _ := said(d).Options.Uint32(option.AddressTime); s != 1800 {
		t.Errorf("it is offered %d s of 1800", s)
	}
	f.expect("and takes it", f.do(f.selecting(1, a.String())), Acknowledged, "", a.String())
	f.expect("a newcomer", f.do(f.message(dhcp4.Discover, 2)), Ignored, reason.ScopeDraining, "")
	f.now += 1790
	f.expect("at the very end", f.do(f.message(dhcp4.Discover, 1)), Ignored, reason.ScopeDraining, "")
}

// Clauses that were met by halves.
func TestSmallerClauses(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	f.change(func(d *plan.Draft) error {
		s := plan.Scope{Name: "far", Subnet: netip.MustParsePrefix("10.9.0.0/24"),
			Pools: []addr.Range{addr.OfPrefix(netip.MustParsePrefix("10.9.0.0/24"))}, Mode: plan.Serving}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			return err
		}
		_, err := d.PutScope(s)
		return err
	})
	straight := func(r *request.Path) {
		r.Unicast, r.Interface, r.Prefixes = true, "eth0", []netip.Prefix{netip.MustParsePrefix("10.77.0.1/24")}
	}
	renew := func(n int, a string) *dhcp4.Message {
		m := f.message(dhcp4.Request, n)
		m.CIAddr, m.GIAddr = netip.MustParseAddr(a), netip.IPv4Unspecified()
		return m
	}
	if d := f.do(renew(1, "10.9.0.7"), straight); d.First().Outcome != Refused || d.To != ToAddress {
		t.Errorf("a renewal from behind a relay is %s to %d", d.First().Outcome, d.To)
	}
	if d := f.do(renew(1, "10.77.0.107"), straight); d.First().Outcome != Refused || d.To != ToAll {
		t.Errorf("a renewal on the wire is %s to %d", d.First().Outcome, d.To)
	}
	a := f.get(1)
	f.expect("init-reboot with another address on record", f.do(f.message(dhcp4.Request, 1, at(option.AddressRequest, "10.77.0.108"))),
		Refused, reason.OtherAddress, "")
	if !f.table.At(a).HeldAt(f.now) {
		t.Error("its lease ended with the refusal")
	}
	release := f.message(dhcp4.Release, 1, at(option.ServerID, "10.77.0.99"))
	release.CIAddr = a
	f.expect("a release to another server", f.do(release), Ignored, reason.OtherServer, "")
	f.writable = false
	f.expect("without the records nobody is refused", f.do(f.message(dhcp4.Request, 3, at(option.AddressRequest, a.String()))), Ignored,
		reason.NoDatabase, "")
	w := f.world()
	w.Fenced = true
	again := renew(1, a.String())
	f.expect("once fenced nothing is said", Decide(asked(again, request.Path{Server: server, Unicast: true}), w, nil), Ignored,
		reason.Fenced, "")
	f.writable = true

	wants := dhcp4.Option{Code: option.ParameterList, Data: []byte{15, 59, 3, 51, 1, 58}}
	m := f.message(dhcp4.Discover, 1)
	m.Options[1] = wants
	var codes []uint8
	for _, o := range said(f.do(m)).Options {
		codes = append(codes, o.Code)
	}
	if want := []uint8{53, 54, 1, 15, 59, 3, 51, 58}; !bytes.Equal(codes, want) {
		t.Errorf("asked for %v and given %v", wants.Data, codes)
	}
	for data, echoed := range map[string]bool{"\x04\x00\x00\x04loom\x04mill\x00": true, "\x04\x00\x00\x04lo m\x00": false,
		"\x04\x00\x00\x3fshort": false, "\x00\x00\x00loom.mill": true, "\x00\x00\x00a b": false, "\x04\x00\x00": true} {
		d := f.do(f.message(dhcp4.Discover, 1, dhcp4.Option{Code: option.ClientFQDN, Data: []byte(data)}))
		if _, ok := said(d).Options.Get(option.ClientFQDN); ok != echoed {
			t.Errorf("option 81 %q is echoed: %v", data, ok)
		}
	}
	long := dhcp4.Option{Code: option.RelayAgent, Data: append([]byte{1, 253}, bytes.Repeat([]byte("x"), 253)...)}
	d := f.do(f.message(dhcp4.Discover, 5, long))
	if b, omitted, err := dhcp4.Append(nil, said(d), d.Limit); err != nil || len(omitted) > 0 || len(b) > dhcp4.MinMax {
		t.Errorf("with 255 octets of option 82: %d octets, %v left out, %v", len(b), omitted, err)
	}
}

// A reserved address that somebody else answers for is not given, unless the
// plan insists.
func TestReservedInUse(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	f.reserve("r", 1, "10.77.0.9")
	known := Unprobed
	ask := func(m *dhcp4.Message) *Decision {
		w := f.world()
		w.Probed = func(a netip.Addr, _ addr.Hardware) Probe {
			if a.String() == "10.77.0.9" {
				return known
			}
			return Silent
		}
		return Decide(asked(m, request.Path{Server: server}), w, nil)
	}
	if d := ask(f.message(dhcp4.Discover, 1)); d.First().Outcome != Waiting || d.First().Probe.String() != "10.77.0.9" {
		t.Errorf("%s for %s", d.First().Outcome, d.First().Probe)
	}
	reboot := f.message(dhcp4.Request, 1, at(option.AddressRequest, "10.77.0.9"))
	if d := ask(reboot); d.First().Outcome != Waiting {
		t.Errorf("after a reboot: %s", d.First().Outcome)
	}
	known = Silent
	f.expect("nobody answers", ask(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.9")
	known = InUse
	f.expect("somebody answers", ask(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.100")
	f.expect("somebody answers, after a reboot", ask(reboot), Refused, reason.ReservedInUse, "")
	f.table.Put((&lease.Lease{Prefix: lease.Host(netip.MustParseAddr("10.77.0.9")), Hardware: hw(66)}).Abandon(f.now))
	f.expect("it is on record who", ask(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.100")
	f.change(func(d *plan.Draft) error {
		r := *d.Plan().ReservationNamed("r")
		r.Insist = true
		_, err := d.PutReservation(r)
		return err
	})
	f.expect("where the plan insists", ask(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.9")
}

// A FORCERENEW bears the server identifier that the client knows, which a relay
// may have chosen.
func TestNudgeBehindOverride(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	over := []dhcp4.Option{{Code: option.ForceRenewNonce, Data: []byte{1}}, {Code: option.RelayAgent, Data: []byte{11, 4, 10, 77, 0, 2}}}
	o := f.do(f.message(dhcp4.Discover, 1, over...))
	w := f.world()
	w.Nonce = func() string { return "0123456789abcdef" }
	m := f.message(dhcp4.Request, 1, append(over, at(option.AddressRequest, o.First().Address().String()), at(option.ServerID,
		"10.77.0.2"))...)
	d := Decide(asked(m, request.Path{Server: server}), w, nil)
	if d.First().Outcome != Acknowledged {
		t.Fatal(d.First().Outcome, d.First().Why)
	}
	b, err := Nudge(d.First().Lease, server, 1)
	if err != nil {
		t.Fatal(err)
	}
	var back dhcp4.Message
	if err := dhcp4.Decode(&back, b); err != nil {
		t.Fatal(err)
	}
	if told, _ := back.Options.Addr(option.ServerID); told.String() != "10.77.0.2" {
		t.Errorf("it names server %s", told)
	}
}

// An explanation says why a client does not get back what it had.
func TestWhyLost(t *testing.T) {
	for want, take := range map[string]func(f *fixture, a netip.Addr){
		"reserved as r": func(f *fixture, a netip.Addr) { f.reserve("r", 9, a.String()) },
		"excluded or outside the pools of scope looms": func(f *fixture, a netip.Addr) {
			f.change(func(d *plan.Draft) error {
				s := d.Plan().Scope(f.scope()).Scope
				s.Exclusions = []plan.Exclusion{{Range: addr.Range{From: a, To: a}}}
				_, err := d.PutScope(s)
				return err
			})
		},
		"on offer to another client": func(f *fixture, a netip.Addr) {
			f.table.Put(f.table.At(a).Ended(lease.Released, f.now))
			f.table.PutOffer(lease.Offer{Prefix: lease.Host(a), Client: lease.ByIdentifier([]byte("\x01other")), Until: f.now + 30})
		},
	} {
		f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.110")
		a := f.get(1)
		take(f, a)
		d := f.do(f.message(dhcp4.Discover, 1))
		if d.First().Outcome != Offered || d.First().Address() == a || !strings.Contains(fmt.Sprint(d.Trail), want) {
			t.Errorf("%s: %s %s, %v", want, d.First().Outcome, d.First().Address(), d.Trail)
		}
	}
}
