package answer

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

func (f *fixture) rule(r plan.Rule) {
	f.Helper()
	f.change(func(d *plan.Draft) error {
		_, err := d.PutRule(r)
		return err
	})
}

func (f *fixture) scope() plan.ID { return f.plan.ScopeNamed("looms").ID }

// Rules of the defaults are asked before those of the scope; the first to set a
// value keeps it; a reservation has the last word.
func TestRules(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	std := func(code uint16, text string) map[option.Key]string {
		return map[option.Key]string{option.Std(code): text}
	}
	f.rule(plan.Rule{Name: "first", When: `vendor == "loom"`, Settings: plan.Settings{Options: std(15, "first.example")}})
	f.rule(plan.Rule{Name: "second", Scope: f.scope(), When: `vendor.startsWith("lo")`, Settings: plan.Settings{Lease: plan.Duration(10 * time.Minute), Options: map[option.Key]string{option.Std(15): "second.example", option.Std(42): "10.77.0.42", option.Std(6): plan.NoValue}}})
	f.rule(plan.Rule{Name: "off", Scope: f.scope(), When: `true`, Off: true, Action: plan.Ignore})
	class := dhcp4.Option{Code: option.ClassID, Data: []byte("loom")}
	d := f.do(f.message(dhcp4.Discover, 1, class))
	f.expect("a client that fits two rules", d, Offered, "", "10.77.0.100")
	value := func(d *Decision, code uint8) string {
		b, _ := d.Reply.Options.Get(code)
		return option.Standard4.ByCode(uint16(code)).Type.Format(b)
	}
	if got := fmt.Sprint(value(d, 15), " ", value(d, 42), " ", value(d, 6), " ", value(d, 51)); got != "first.example 10.77.0.42 hex: 10m" {
		t.Errorf("it gets %s", got)
	}
	if len(d.Fitted) != 2 || d.Fitted[0].Name != "first" {
		t.Errorf("fitted %v", d.Fitted)
	}
	i := slices.IndexFunc(d.Values, func(v plan.Value) bool { return v.Code == 15 })
	if v := d.Values[i]; v.Level != plan.AtRule || v.Name != "first" {
		t.Errorf("option 15 comes from %s %s", v.Level, v.Name)
	}
	d = f.do(f.message(dhcp4.Discover, 2))
	if got := fmt.Sprint(value(d, 15), " ", value(d, 6), " ", value(d, 51)); got != "mill.example 10.77.0.53 1h" {
		t.Errorf("a client that fits none gets %s", got)
	}
	f.change(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: "r", Scope: f.scope(), Hardware: hw(3), Address: netip.MustParseAddr("10.77.0.9"), Settings: plan.Settings{Lease: plan.Duration(2 * time.Hour), Options: std(15, "own.example")}})
		return err
	})
	d = f.do(f.message(dhcp4.Discover, 3, class))
	if got := fmt.Sprint(d.Address, " ", value(d, 15), " ", value(d, 42), " ", value(d, 51)); got != "10.77.0.9 own.example 10.77.0.42 2h" {
		t.Errorf("a reserved client gets %s", got)
	}
	// An option that is not there is no fault of the client's.
	f.rule(plan.Rule{Name: "asks", Scope: f.scope(), Order: 1, When: `options[200] == "x"`, Action: plan.Ignore})
	f.expect("a rule that cannot be asked", f.do(f.message(dhcp4.Discover, 4)), Offered, "", "")
}

func TestRulesTurnAway(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	a := f.get(1)
	f.rule(plan.Rule{Name: "out", Scope: f.scope(), When: `hw == "` + hw(1).String() + `"`, Action: plan.Refuse})
	d := f.do(f.message(dhcp4.Discover, 1))
	f.expect("its DISCOVER", d, Ignored, ByRule, "")
	if d.Rule != "out" {
		t.Errorf("the rule is %q", d.Rule)
	}
	m := f.message(dhcp4.Request, 1)
	m.CIAddr = a
	f.expect("its renewal", f.do(m), Refused, ByRule, a.String())
	if l := f.table.At(a); l.Status != lease.Released {
		t.Errorf("its lease is %s", l.Status)
	}
	f.rule(plan.Rule{Name: "reserved", Scope: f.scope(), When: `hw == "` + hw(2).String() + `"`, Action: plan.ReservedOnly})
	f.expect("one that needs a reservation", f.do(f.message(dhcp4.Discover, 2)), Ignored, ReservedOnly, "")
	f.reserve("r", 2, "10.77.0.9")
	f.expect("with a reservation", f.do(f.message(dhcp4.Discover, 2)), Offered, "", "10.77.0.9")
	f.expect("everybody else", f.do(f.message(dhcp4.Discover, 3)), Offered, "", "")
}

// A pool that a rule names is for its clients alone, and they get no other.
func TestConfinedPools(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.101", "10.77.0.200-10.77.0.201")
	staff := dhcp4.Option{Code: option.UserClass, Data: []byte("\x05staff")}
	r, _ := addr.ParseRange("10.77.0.200-10.77.0.201")
	f.rule(plan.Rule{Name: "staff", Scope: f.scope(), When: `"staff" in userClass`, Pool: r})
	ask := func(n int, more ...dhcp4.Option) string {
		d := f.do(f.message(dhcp4.Discover, n, more...))
		if d.Outcome != Offered {
			return string(d.Why)
		}
		f.do(f.message(dhcp4.Request, n, append(more, at(option.AddressRequest, d.Address.String()), at(option.ServerID, server.String()))...))
		return d.Address.String()
	}
	got := []string{ask(1), ask(2), ask(3), ask(4, staff), ask(5, staff), ask(6, staff), ask(3, at(option.AddressRequest, "10.77.0.200"))}
	if want := "10.77.0.100 10.77.0.101 pool-empty 10.77.0.200 10.77.0.201 pool-empty pool-empty"; strings.Join(got, " ") != want {
		t.Errorf("clients got %v, want %s", got, want)
	}
	// One of the staff who is no longer moves at its next renewal, once there is room.
	m := f.message(dhcp4.Request, 4)
	m.CIAddr = netip.MustParseAddr("10.77.0.200")
	f.expect("while there is no room elsewhere", f.do(m), Acknowledged, "", "10.77.0.200")
	release := f.message(dhcp4.Release, 1)
	release.CIAddr = netip.MustParseAddr("10.77.0.100")
	f.do(release)
	m = f.message(dhcp4.Request, 4)
	m.CIAddr = netip.MustParseAddr("10.77.0.200")
	f.expect("once there is", f.do(m), Refused, NotHandedOut, "10.77.0.200")
}

// Made-up hardware addresses cannot empty a pool: newcomers are let in a few a
// minute, one port gets half of that, and what stands on offer is bounded. Those
// who were there before come through all the while.
func TestStarvation(t *testing.T) {
	f := newWorld(t, "10.77.0.0/16", "10.77.1.0-10.77.10.255")
	f.edit(func(s *plan.Scope) { s.Limits.NewPerMinute = 40 })
	flood := func(first, n int, circuit string) (served int) {
		for i := range n {
			port := dhcp4.Option{Code: option.RelayAgent, Data: append([]byte{1, byte(len(circuit))}, circuit...)}
			d := f.do(f.message(dhcp4.Discover, first+i, port))
			if d.Outcome != Offered {
				f.expect("too many", d, Ignored, TooMany, "")
				continue
			}
			a := d.Address
			k := f.do(f.message(dhcp4.Request, first+i, port, at(option.AddressRequest, a.String()), at(option.ServerID, server.String())))
			if k.Outcome == Acknowledged {
				if served++; k.New {
					f.table.Welcome(f.scope(), lease.Port{Relay: netip.MustParseAddr("10.77.0.2"), Circuit: circuit}, f.now)
				}
			}
		}
		return served
	}
	f.now = 1_000_020 // the start of a minute
	old := f.get(30000)
	if n := flood(1, 100, "sw1/0/1"); n != 20 {
		t.Errorf("one port got %d addresses in a minute, want 20", n)
	}
	if n := flood(1000, 100, "sw1/0/2") + flood(2000, 100, "sw1/0/3"); n != 20 {
		t.Errorf("two more ports got %d, want 20", n)
	}
	renew := f.message(dhcp4.Request, 30000)
	renew.CIAddr = old
	f.expect("who was there before", f.do(renew), Acknowledged, "", old.String())
	direct := f.message(dhcp4.Request, 5000, at(option.AddressRequest, "10.77.5.5"), at(option.ServerID, server.String()))
	f.expect("a REQUEST without an offer", f.do(direct), Refused, NotOffered, "")
	f.now += 60
	if n := flood(3000, 100, "sw1/0/1"); n != 20 {
		t.Errorf("in the next minute the port got %d addresses, want 20", n)
	}
	f.edit(func(s *plan.Scope) { s.Limits = plan.Limits{NewPerMinute: -1, PerCircuit: 45} })
	if n := f.table.Behind(f.scope(), lease.Port{Relay: netip.MustParseAddr("10.77.0.2"), Circuit: "sw1/0/1"}); n != 40 {
		t.Errorf("behind the port are %d addresses, want 40", n)
	}
	if n := flood(4000, 100, "sw1/0/1"); n != 5 {
		t.Errorf("with 45 addresses a circuit it got %d more, want 5", n)
	}
	f.edit(func(s *plan.Scope) {
		s.Limits = plan.Limits{NewPerMinute: 5000}
		s.Pools = []addr.Range{{From: netip.MustParseAddr("10.77.1.0"), To: netip.MustParseAddr("10.77.1.255")}}
	})
	offered := 0
	for n := range 400 { // DISCOVER alone, from nobody's port
		if f.do(f.message(dhcp4.Discover, 10000+n)).Outcome == Offered {
			offered++
		}
	}
	if left := f.table.Count(f.scope()).Headroom; left == 0 || offered < 64 {
		t.Errorf("%d offers left %d addresses", offered, left)
	}
}

// An address that nobody knows to be unused is not offered: the decision waits
// for its probe. Those who had it, and ones that were free for moments, do not.
func TestProbedFirst(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.103")
	ready := map[string]bool{}
	decide := func(m *dhcp4.Message) *Decision {
		w := f.world()
		w.Probed = func(a netip.Addr, _ addr.Hardware) Probe {
			if ready[a.String()] {
				return Silent
			}
			return Unprobed
		}
		d := Decide(Request{Message: m, Server: server}, w, nil)
		if d.Offer != nil {
			f.table.PutOffer(*d.Offer)
		}
		if d.Lease() != nil {
			f.table.Put(d.Lease())
			f.table.DropOffer(d.Lease().Prefix)
		}
		return d
	}
	d := decide(f.message(dhcp4.Discover, 1))
	if d.Outcome != Waiting || d.Probe.String() != "10.77.0.100" || d.Reply != nil {
		t.Fatalf("%s for %s", d.Outcome, d.Probe)
	}
	ready["10.77.0.101"] = true
	f.expect("one that is ready comes first", decide(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.101")
	ready = map[string]bool{}
	f.expect("one on offer to it stays", decide(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.101")
	f.expect("and is granted", decide(f.message(dhcp4.Request, 1, at(option.AddressRequest, "10.77.0.101"), at(option.ServerID, server.String()))), Acknowledged, "", "10.77.0.101")
	f.expect("its own address needs no probe", decide(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.101")
	f.expect("a REQUEST for what was not offered", decide(f.message(dhcp4.Request, 2, at(option.AddressRequest, "10.77.0.103"), at(option.ServerID, server.String()))), Refused, NotOffered, "")
	wish := f.message(dhcp4.Discover, 3, at(option.AddressRequest, "10.77.0.103"))
	ready["10.77.0.102"] = true
	if d = decide(wish); d.Outcome != Waiting || d.Probe.String() != "10.77.0.103" {
		t.Errorf("a wish for what nobody probed: %s for %s", d.Outcome, d.Probe)
	}
	ready["10.77.0.103"] = true
	f.expect("the wish, once it is probed", decide(wish), Offered, "", "10.77.0.103")
	ready = map[string]bool{}
	f.edit(func(s *plan.Scope) { s.NoProbe = true })
	f.expect("where probing is off", decide(f.message(dhcp4.Discover, 2)), Offered, "", "10.77.0.100")
}

// A sheet of what was given tells whether it would be given still.
func TestGivenAndRenewal(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	class := dhcp4.Option{Code: option.ClassID, Data: []byte("loom 2")}
	o := f.do(f.message(dhcp4.Discover, 1, class))
	m := f.message(dhcp4.Request, 1, class, at(option.AddressRequest, o.Address.String()), at(option.ServerID, server.String()))
	d := f.do(m)
	l := d.Lease()
	set, err := ParseSet(AppendSet(nil, m, d.Reply))
	if err != nil || l.Given == 0 {
		t.Fatal(err, l.Given)
	}
	if got := fmt.Sprint(set.Unmet()); got != "[42]" {
		t.Errorf("unmet %s", got)
	}
	if dns, _ := set.Given.Get(6); netip.AddrFrom4([4]byte(dns)).String() != "10.77.0.53" {
		t.Errorf("given %v", set.Given)
	}
	again := func() (uint64, bool) {
		_, digest, ok := Renewal(f.table.At(l.Address()), set.Asked, f.world(), nil)
		return digest, ok
	}
	if digest, ok := again(); !ok || digest != l.Given {
		t.Errorf("an unchanged plan gives another set: %v", ok)
	}
	f.edit(func(s *plan.Scope) { s.Lease = plan.Duration(3 * time.Hour) })
	if digest, _ := again(); digest != l.Given {
		t.Error("the lease time is part of the set")
	}
	f.edit(func(s *plan.Scope) {
		s.Options = map[option.Key]string{option.Std(3): "10.77.0.1", option.Std(6): "10.77.0.54", option.Std(15): "mill.example"}
	})
	if digest, ok := again(); !ok || digest == l.Given {
		t.Error("a changed option does not show")
	}
	f.rule(plan.Rule{Name: "out", When: `vendor.startsWith("loom")`, Action: plan.Ignore})
	if _, ok := again(); ok {
		t.Error("a client that is ignored now would be served still")
	}
	if _, err := ParseSet([]byte{'g', 6, 0, 9, 1}); err == nil {
		t.Error("a cut set is taken")
	}
}

func TestNudge(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	can := dhcp4.Option{Code: option.ForceRenewNonce, Data: []byte{1}}
	secret := strings.Repeat("n", 16)
	take := func(n int, more ...dhcp4.Option) *Decision {
		w := f.world()
		w.Nonce = func() string { return secret }
		o := f.do(f.message(dhcp4.Discover, n, more...))
		m := f.message(dhcp4.Request, n, append(more, at(option.AddressRequest, o.Address.String()), at(option.ServerID, server.String()), dhcp4.Option{Code: option.RelayAgent, Data: []byte("\x01\x01x")})...)
		d := Decide(Request{Message: m, Server: server}, w, nil)
		f.table.Put(d.Lease())
		return d
	}
	d := take(1, can)
	mine := d.Address
	if last := d.Reply.Options[len(d.Reply.Options)-1]; last.Code != option.RelayAgent {
		t.Errorf("option %d comes behind option 82", last.Code)
	}
	b, err := Nudge(d.Lease(), server, 9)
	if err != nil {
		t.Fatal(err)
	}
	var m dhcp4.Message
	if err := dhcp4.Decode(&m, b); err != nil || m.Type != dhcp4.ForceRenew || m.CHAddr != hw(1) || m.XID != d.Reply.XID {
		t.Errorf("the nudge is %+v, %v", m, err)
	}
	if err := CheckNudge(b, secret); err != nil {
		t.Error(err)
	}
	for at := range b { // any changed octet shows
		b[at] ^= 1
		if CheckNudge(b, secret) == nil {
			t.Errorf("octet %d can be changed unseen", at)
		}
		b[at] ^= 1
	}
	if d := take(2); d.Lease().Nudge != "" {
		t.Error("a client that cannot be nudged has a nonce")
	} else if _, err := Nudge(d.Lease(), server, 9); err == nil {
		t.Error("a client without a nonce is nudged")
	}
	// A message sent twice is answered from the record; an exchange of another
	// transaction is not, since a FORCERENEW has to repeat the last one.
	early := f.message(dhcp4.Request, 1, can)
	early.CIAddr, early.XID = mine, m.XID
	if d := f.do(early); d.Outcome != Acknowledged || d.Lease() != nil {
		t.Errorf("a repeated message is %s and recorded: %v", d.Outcome, d.Lease() != nil)
	}
	early.XID++
	if d := f.do(early); d.Lease() == nil || d.Lease().Nudge != string(binary.BigEndian.AppendUint32([]byte(secret), early.XID)) {
		t.Errorf("after another transaction the record is %+v", d.Lease())
	}
	// A renewal keeps the nonce, with the nonce told again.
	f.now += 2000
	r := f.message(dhcp4.Request, 1, can)
	r.CIAddr = mine
	w := f.world()
	w.Nonce = func() string { return strings.Repeat("x", 16) }
	again := Decide(Request{Message: r, Server: server}, w, nil)
	if auth, _ := again.Reply.Options.Get(option.Authentication); nonceOf(again.Lease().Nudge) != secret || !strings.HasSuffix(string(auth), secret) {
		t.Errorf("the nonce became %q, told as %x", again.Lease().Nudge, auth)
	}
}

// What is decided on a link that is listened to is not to be carried out.
func TestWithheld(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	link := func(edit func(*plan.Link)) {
		f.change(func(d *plan.Draft) error {
			l := *d.Plan().LinkNamed("looms")
			edit(&l)
			_, err := d.PutLink(l)
			return err
		})
	}
	link(func(l *plan.Link) { l.Listening = true })
	if d := f.do(f.message(dhcp4.Discover, 1)); d.Withheld != Listening || d.Outcome != Offered {
		t.Errorf("listening: %q %s", d.Withheld, d.Outcome)
	}
	link(func(l *plan.Link) { l.Listening, l.StandAside = false, true })
	if d := f.do(f.message(dhcp4.Discover, 1)); d.Withheld != "" {
		t.Errorf("with nobody else there: %q", d.Withheld)
	}
	w := f.world()
	w.Rival = func(plan.ID) bool { return true }
	if d := Decide(Request{Message: f.message(dhcp4.Discover, 1), Server: server}, w, nil); d.Withheld != StandsAside {
		t.Errorf("beside another server: %q", d.Withheld)
	}
	f.change(func(d *plan.Draft) error { return d.SetDefaults(plan.Defaults{Listening: true}) })
	if d := f.do(f.message(dhcp4.Discover, 1)); d.Withheld != Listening {
		t.Errorf("a server that listens: %q", d.Withheld)
	}
}

func TestOfferDelay(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	f.edit(func(s *plan.Scope) { s.OfferDelay = plan.Duration(2 * time.Second) })
	if d := f.do(f.message(dhcp4.Discover, 1)); d.Delay != 2*time.Second {
		t.Errorf("the offer waits %s", d.Delay)
	}
}

// When the first scope of a link is full the next serves.
func TestSpillOver(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.101")
	f.change(func(d *plan.Draft) error {
		r, _ := addr.ParseRange("10.78.0.100-10.78.0.101")
		s := plan.Scope{Name: "more", Subnet: netip.MustParsePrefix("10.78.0.0/24"), Pools: []addr.Range{r}, Mode: plan.Serving}
		if err := d.PlaceScope(&s, "looms", nil); err != nil {
			return err
		}
		_, err := d.PutScope(s)
		return err
	})
	var got []string
	for n := range 4 {
		got = append(got, f.get(n+1).String())
	}
	if want := "10.77.0.100 10.77.0.101 10.78.0.100 10.78.0.101"; strings.Join(got, " ") != want {
		t.Errorf("clients got %v, want %s", got, want)
	}
	f.expect("when both are full", f.do(f.message(dhcp4.Discover, 9)), Ignored, PoolEmpty, "")
}
