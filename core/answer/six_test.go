package answer

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// The server's DUID, and the scope of these tests: offices6, a /64 of which all is handed out,
// with prefixes of /56 out of a /54, which are four.
const (
	duid6  = "\x00\x04sixteen-octets-.."
	pool6  = "2001:db8:40:1::/64"
	pools6 = "2001:db8:40:8000::/54"
)

func newWorld6(tb testing.TB) *fixture {
	f := &fixture{TB: tb, plan: plan.New(), now: 1_000_000, writable: true, awake: true}
	f.table = lease.New(f.plan, f.now)
	f.table.ChooseBy("key")
	f.change(func(d *plan.Draft) error {
		link, err := d.PutLink(plan.Link{Name: "offices", Interfaces: []string{"eth1"}})
		if err != nil {
			return err
		}
		s := plan.Scope{Name: "offices6", Link: link, Subnet: netip.MustParsePrefix(pool6), Mode: plan.Serving,
			Pools:       []addr.Range{addr.OfPrefix(netip.MustParsePrefix(pool6))},
			PrefixPools: []plan.PrefixPool{{Prefix: netip.MustParsePrefix(pools6), Length: 56}},
			Settings: plan.Settings{Options: map[option.Key]string{option.Std6(option.DNSServers6): "2001:db8:40::53",
				option.Std6(option.SolMaxRT): "1h", option.Std6(option.Preference6): "7"}}}
		_, err = d.PutScope(s)
		return err
	})
	return f
}

func duid(n int) []byte { return []byte(addr.DUID("\x00\x03\x00\x01" + string(hw(n)))) }

// ask6 is a message of client n, which asks for options 23 and 82.
func ask6(t dhcp6.Type, n int, ias ...dhcp6.IA) *dhcp6.Message {
	m := &dhcp6.Message{Type: t, Transaction: uint32(n), IAs: ias, Options: dhcp6.Options{{Code: option.ClientID6, Data: duid(n)},
		{Code: option.RequestList6, Data: []byte{0, 23, 0, 82}}}}
	switch t {
	case dhcp6.Request, dhcp6.Renew, dhcp6.Release, dhcp6.Decline:
		m.Options = append(m.Options, dhcp6.Option{Code: option.ServerID6, Data: []byte(duid6)})
	}
	return m
}

func na(id uint32, hints ...string) dhcp6.IA { return ia6(option.IANA, id, hints) }
func pd(id uint32, hints ...string) dhcp6.IA { return ia6(option.IAPD, id, hints) }

func ia6(code uint16, id uint32, hints []string) dhcp6.IA {
	ia := dhcp6.IA{Code: code, ID: id}
	for _, h := range hints {
		if !strings.Contains(h, "/") {
			h += "/128"
		}
		ia.Leases = append(ia.Leases, dhcp6.Lease{Prefix: netip.MustParsePrefix(h)})
	}
	return ia
}

// say6 decides a message, as octets both ways, and carries that out. The reply is nil for silence.
func (f *fixture) say6(m *dhcp6.Message, change ...func(*request.Path)) (*Decision, *dhcp6.Message) {
	f.Helper()
	var got, back dhcp6.Message
	b, _, err := m.AppendTo(nil, 0)
	if err != nil {
		f.Fatal(err)
	}
	if err := dhcp6.Decode(&got, b); err != nil {
		f.Fatal(err)
	}
	path := request.Path{Interface: "eth1", From: netip.MustParseAddr("fe80::17")}
	for _, c := range change {
		c(&path)
	}
	d := Decide(got.Request(path), f.world6(), nil)
	if d.Reply == nil {
		f.carryOut(d)
		return d, nil
	}
	out, _, err := d.Reply.AppendTo(nil, 0)
	if err != nil {
		f.Fatal(err)
	}
	if err := dhcp6.Decode(&back, out); err != nil {
		f.Fatal(err)
	}
	f.carryOut(d)
	return d, &back
}

func (f *fixture) world6() World {
	w := f.world()
	w.DUID, w.Nonce = duid6, func() string { return "0123456789abcdef" }
	return w
}

// told6 says what a reply says, in short.
func told6(m *dhcp6.Message) string {
	if m == nil {
		return "silence"
	}
	out := []string{m.Type.String()}
	if b, ok := m.Options.Get(option.StatusCode6); ok {
		out = append(out, dhcp6.Status(binary.BigEndian.Uint16(b)).String())
	}
	for _, ia := range m.IAs {
		text := fmt.Sprintf("%s%d", map[uint16]string{option.IANA: "na", option.IAPD: "pd", option.IATA: "ta"}[ia.Code], ia.ID)
		for _, l := range ia.Leases {
			text += fmt.Sprintf(" %s %d/%d", strings.TrimSuffix(l.Prefix.String(), "/128"), l.Preferred, l.Valid)
		}
		if ia.Status != dhcp6.Success {
			text += " " + ia.Status.String()
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// get6 does the whole exchange of client n for an address and a prefix.
func (f *fixture) get6(n int) (address, prefix string) {
	f.Helper()
	_, offer := f.say6(ask6(dhcp6.Solicit, n, na(1), pd(2)))
	if offer == nil || len(offer.IAs) != 2 || len(offer.IAs[0].Leases) != 1 || len(offer.IAs[1].Leases) != 1 {
		f.Fatalf("client %d is offered %s", n, told6(offer))
	}
	address, prefix = offer.IAs[0].Leases[0].Prefix.Addr().String(), offer.IAs[1].Leases[0].Prefix.String()
	_, reply := f.say6(ask6(dhcp6.Request, n, na(1, address), pd(2, prefix)))
	if want := fmt.Sprintf("REPLY, na1 %s 28800/43200, pd2 %s 28800/43200", address, prefix); told6(reply) != want {
		f.Fatalf("client %d gets %s, want %s", n, told6(reply), want)
	}
	return address, prefix
}

// RFC 8415 section 18.3, message by message, each as octets.
func TestSixMessages(t *testing.T) {
	f := newWorld6(t)
	a, p := f.get6(1)
	again, _ := f.say6(ask6(dhcp6.Solicit, 1, na(1)))
	if again.First().Address().String() != a {
		t.Errorf("the same client is offered %s, and has %s", again.First().Address(), a)
	}
	offer, _ := f.say6(ask6(dhcp6.Solicit, 2, na(1)))
	other := offer.First().Address().String()
	elsewhere := "2001:db8:99::7"
	for _, c := range []struct {
		what string
		m    *dhcp6.Message
		want string
	}{
		{"renews both", ask6(dhcp6.Renew, 1, na(1, a), pd(2, p)), "REPLY, na1 " + a + " 28800/43200, pd2 " + p + " 28800/43200"},
		{"rebinds", ask6(dhcp6.Rebind, 1, na(1, a)), "REPLY, na1 " + a + " 28800/43200"},
		{"confirms", ask6(dhcp6.Confirm, 1, na(1, a)), "REPLY, Success"},
		{"confirms what is of another link", ask6(dhcp6.Confirm, 1, na(1, elsewhere)), "REPLY, NotOnLink"},
		{"confirms nothing", ask6(dhcp6.Confirm, 1, na(1)), "silence"},
		{"confirms a prefix alone", ask6(dhcp6.Confirm, 1, pd(2, p)), "silence"},
		{"requests what is of another link", ask6(dhcp6.Request, 3, na(1, elsewhere)), "REPLY, na1 NotOnLink"},
		{"renews what it never had", ask6(dhcp6.Renew, 3, na(1, a)), "REPLY, na1 " + a + " 0/0"},
		{"renews what nobody has", ask6(dhcp6.Renew, 3, na(1, "2001:db8:40:1::99")), "REPLY, na1 NoBinding"},
		{"rebinds what nobody has", ask6(dhcp6.Rebind, 3, na(1, "2001:db8:40:1::99")), "silence"},
		{"asks for a temporary address", ask6(dhcp6.Request, 3, dhcp6.IA{Code: option.IATA, ID: 9}), "REPLY, ta9 NoAddrsAvail"},
		{"asks for options", ask6(dhcp6.InformationRequest, 3), "REPLY"},
		{"asks for options, and an address", ask6(dhcp6.InformationRequest, 3, na(1)), "silence"},
		{"releases another's", ask6(dhcp6.Release, 3, na(1, a)), "REPLY, Success, na1 NoBinding"},
		{"declines a prefix", ask6(dhcp6.Decline, 1, pd(2, p)), "REPLY, Success, pd2 NoBinding"},
		{"declines", ask6(dhcp6.Decline, 1, na(1, a)), "REPLY, Success"},
		{"releases", ask6(dhcp6.Release, 1, pd(2, p)), "REPLY, Success"},
		{"sends what servers send", ask6(dhcp6.Reply, 1), "silence"},
		{"sends what nobody knows", ask6(200, 1), "silence"},
	} {
		if c.what == "renews what it never had" {
			continue // below
		}
		if _, m := f.say6(c.m); told6(m) != c.want {
			t.Errorf("%s: %s, want %s", c.what, told6(m), c.want)
		}
	}
	if l := f.table.At(netip.MustParseAddr(a)); l.Status != lease.Abandoned {
		t.Errorf("what was declined is %s", l.Status)
	}
	if l := f.table.Get(netip.MustParsePrefix(p)); !l.Kept() {
		t.Errorf("a prefix that was given up is not kept until its promised end: %+v", l)
	}
	if next, _ := f.get6(1); next == a {
		t.Error("what was declined is given again")
	}
	if _, m := f.say6(ask6(dhcp6.Renew, 3, na(1, other))); told6(m) == "silence" {
		t.Error("a renewal meets silence")
	}
}

// A renewal of what is another's tells the client to stop, and gives it something of its own
// beside that.
func TestSixOfAnother(t *testing.T) {
	f := newWorld6(t)
	a, _ := f.get6(1)
	_, m := f.say6(ask6(dhcp6.Renew, 2, na(1, a)))
	if m == nil || len(m.IAs) != 1 || len(m.IAs[0].Leases) != 2 {
		t.Fatalf("it is told %s", told6(m))
	}
	if now, gone := m.IAs[0].Leases[0], m.IAs[0].Leases[1]; now.Valid != 43200 || gone.Valid != 0 || gone.Prefix.Addr().String() != a {
		t.Errorf("it is told %s", told6(m))
	}
	if l := f.table.At(netip.MustParseAddr(a)); !l.HeldAt(f.now) || string(l.Client.ID) != string(duid(1)) {
		t.Errorf("the holder lost it: %+v", l)
	}
}

// What a message must have and must not have (RFC 8415 section 16).
func TestSixChecks(t *testing.T) {
	f := newWorld6(t)
	without := func(m *dhcp6.Message, code uint16) *dhcp6.Message {
		var kept dhcp6.Options
		for _, o := range m.Options {
			if o.Code != code {
				kept = append(kept, o)
			}
		}
		m.Options = kept
		return m
	}
	with := func(m *dhcp6.Message, code uint16, data string) *dhcp6.Message {
		without(m, code)
		m.Options = append(m.Options, dhcp6.Option{Code: code, Data: []byte(data)})
		return m
	}
	for _, c := range []struct {
		what string
		m    *dhcp6.Message
		why  reason.Reason
	}{
		{"a SOLICIT without a DUID", without(ask6(dhcp6.Solicit, 1, na(1)), option.ClientID6), reason.BadRequest},
		{"a DUID of two octets", with(ask6(dhcp6.Solicit, 1, na(1)), option.ClientID6, "ab"), reason.BadRequest},
		{"a DUID of 131 octets", with(ask6(dhcp6.Solicit, 1, na(1)), option.ClientID6, strings.Repeat("a", 131)), reason.BadRequest},
		{"a SOLICIT that names a server", with(ask6(dhcp6.Solicit, 1, na(1)), option.ServerID6, duid6), reason.BadRequest},
		{"a REBIND that names a server", with(ask6(dhcp6.Rebind, 1, na(1)), option.ServerID6, duid6), reason.BadRequest},
		{"a REQUEST that names none", without(ask6(dhcp6.Request, 1, na(1)), option.ServerID6), reason.BadRequest},
		{"a REQUEST to another server", with(ask6(dhcp6.Request, 1, na(1)), option.ServerID6, "other"), reason.OtherServer},
		{"a RELEASE to another server", with(ask6(dhcp6.Release, 1, na(1)), option.ServerID6, "other"), reason.OtherServer},
		{"options of another server", with(ask6(dhcp6.InformationRequest, 1), option.ServerID6, "other"), reason.OtherServer},
		{"nothing", ask6(dhcp6.Solicit, 1), reason.BadRequest},
		{"forty associations", ask6(dhcp6.Solicit, 1, make40()...), reason.BadRequest},
	} {
		if d, m := f.say6(c.m); m != nil || d.First().Why != c.why {
			t.Errorf("%s: %s, because of %s; want silence because of %s", c.what, told6(m), d.First().Why, c.why)
		}
	}
	if _, m := f.say6(without(ask6(dhcp6.InformationRequest, 1), option.ClientID6)); told6(m) != "REPLY" {
		t.Errorf("options without a DUID: %s", told6(m))
	}
}

func make40() (out []dhcp6.IA) {
	for i := range 40 {
		out = append(out, na(uint32(i)))
	}
	return out
}

// A client that speaks to this server alone is told not to, or not answered (section 18.4).
func TestSixUnicast(t *testing.T) {
	f := newWorld6(t)
	a, _ := f.get6(1)
	unicast := func(p *request.Path) { p.Unicast = true }
	for _, c := range []struct {
		m    *dhcp6.Message
		want string
	}{
		{ask6(dhcp6.Request, 1, na(1, a)), "REPLY, UseMulticast"}, {ask6(dhcp6.Renew, 1, na(1, a)), "REPLY, UseMulticast"},
		{ask6(dhcp6.Release, 1, na(1, a)), "REPLY, UseMulticast"}, {ask6(dhcp6.Decline, 1, na(1, a)), "REPLY, UseMulticast"},
		{ask6(dhcp6.Solicit, 1, na(1)), "silence"}, {ask6(dhcp6.Rebind, 1, na(1, a)), "silence"},
		{ask6(dhcp6.Confirm, 1, na(1, a)), "silence"}, {ask6(dhcp6.InformationRequest, 1), "silence"},
	} {
		if _, m := f.say6(c.m, unicast); told6(m) != c.want {
			t.Errorf("%s: %s, want %s", c.m.Type, told6(m), c.want)
		}
	}
	if l := f.table.At(netip.MustParseAddr(a)); !l.HeldAt(f.now) {
		t.Errorf("a message from anywhere ended a lease: %+v", l)
	}
}

// Options come as they are asked for, and no others; the DUIDs of both sides are in every reply.
func TestSixOptions(t *testing.T) {
	f := newWorld6(t)
	_, m := f.say6(ask6(dhcp6.Solicit, 1, na(1)))
	var codes []uint16
	for code := range m.Each() {
		codes = append(codes, code)
	}
	if want := []uint16{2, 1, 7, 23, 82, 3}; fmt.Sprint(codes) != fmt.Sprint(want) {
		t.Errorf("an ADVERTISE has options %v, want %v", codes, want)
	}
	if b, _ := m.Options.Get(option.ServerID6); string(b) != duid6 {
		t.Errorf("the server is %x", b)
	}
	if b, _ := m.Options.Get(option.SolMaxRT); binary.BigEndian.Uint32(b) != 3600 {
		t.Errorf("SOL_MAX_RT is %x", b)
	}
	q := ask6(dhcp6.InformationRequest, 1)
	q.Options[1].Data = []byte{0, 24}
	if _, m := f.say6(q); len(m.Options) != 2 {
		t.Errorf("who asks for what is not set gets %v", m.Options)
	}
	q = ask6(dhcp6.Solicit, 1, na(1))
	q.Options = append(q.Options, dhcp6.Option{Code: option.FQDN6, Data: append([]byte{1}, "\x04loom\x04mill\x07example\x00"...)})
	q.Options[1].Data = []byte{0, 39}
	if _, m := f.say6(q); m == nil {
		t.Error("silence")
	} else if b, _ := m.Options.Get(option.FQDN6); len(b) == 0 || b[0] != 6 {
		t.Errorf("the name comes back as %x: N and O are to be set, S clear (RFC 4704)", b)
	}
	ia := m.IAs[0]
	if ia.T1 != 14400 || ia.T2 != 23040 {
		t.Errorf("T1 %d, T2 %d, want half and four fifths of 28800", ia.T1, ia.T2)
	}
}

// Two messages are enough where the scope allows it (section 18.3.1).
func TestSixRapidCommit(t *testing.T) {
	f := newWorld6(t)
	q := func() *dhcp6.Message {
		m := ask6(dhcp6.Solicit, 1, na(1), pd(2))
		m.Options = append(m.Options, dhcp6.Option{Code: option.RapidCommit6})
		return m
	}
	if _, m := f.say6(q()); m.Type != dhcp6.Advertise {
		t.Errorf("where it is not allowed: %s", told6(m))
	}
	f.change(func(d *plan.Draft) error {
		s := d.Plan().ScopeNamed("offices6").Scope
		s.RapidCommit = true
		_, err := d.PutScope(s)
		return err
	})
	d, m := f.say6(q())
	if _, rapid := m.Options.Get(option.RapidCommit6); m.Type != dhcp6.Reply || !rapid || len(d.Changes) != 2 {
		t.Errorf("where it is: %s, %d changes", told6(m), len(d.Changes))
	}
}

// Four prefixes are delegated, and the fifth client is told that there are none; its address it
// gets all the same.
func TestSixPrefixesRunOut(t *testing.T) {
	f := newWorld6(t)
	for n := range 4 {
		f.get6(n)
	}
	_, m := f.say6(ask6(dhcp6.Solicit, 9, na(1), pd(2)))
	if m == nil || m.Type != dhcp6.Advertise || len(m.IAs[0].Leases) != 1 || m.IAs[1].Status != dhcp6.NoPrefixAvail {
		t.Errorf("the fifth is told %s", told6(m))
	}
	if d, m := f.say6(ask6(dhcp6.Solicit, 9, pd(2))); told6(m) != "ADVERTISE, pd2 NoPrefixAvail" || d.First().Why != reason.PoolEmpty {
		t.Errorf("who asks for nothing else is told %s, because of %s", told6(m), d.First().Why)
	}
}

// A prefix that begins between two of a pool would overlap both, and is given to nobody; where
// no prefixes are delegated, who asks for one as well gets its address, and lacks nothing.
func TestSixOddPrefixes(t *testing.T) {
	f := newWorld6(t)
	for _, hint := range []string{"2001:db8:40:8001::/56", "2001:db8:40:8000::/55", "2001:db8:40:8000::/0", "2001:db8:40:80ff:1::/56"} {
		_, m := f.say6(ask6(dhcp6.Request, 1, pd(1, hint)))
		if m == nil || len(m.IAs) != 1 || len(m.IAs[0].Leases) != 1 || m.IAs[0].Leases[0].Prefix.Masked() != m.IAs[0].Leases[0].Prefix ||
			m.IAs[0].Leases[0].Prefix.Bits() != 56 {
			t.Errorf("who would like %s gets %s", hint, told6(m))
		}
		if _, m := f.say6(ask6(dhcp6.Renew, 2, pd(9, hint))); m != nil && len(m.IAs) == 1 {
			for _, l := range m.IAs[0].Leases {
				if l.Valid > 0 && l.Prefix.Masked() != l.Prefix {
					t.Errorf("who renews %s, which it never had, gets %s", hint, told6(m))
				}
			}
		}
	}
	f.change(func(d *plan.Draft) error {
		s := d.Plan().ScopeNamed("offices6").Scope
		s.PrefixPools = nil
		_, err := d.PutScope(s)
		return err
	})
	d, m := f.say6(ask6(dhcp6.Solicit, 7, na(1), pd(2)))
	if m == nil || len(m.IAs[0].Leases) != 1 || m.IAs[1].Status != dhcp6.NoPrefixAvail || d.Answers[1].Why != reason.NotServed {
		t.Errorf("it is told %s, because of %s", told6(m), d.Answers[1].Why)
	}
}

// Several addresses for one client are told apart by their IAID.
func TestSixSeveral(t *testing.T) {
	f := newWorld6(t)
	d, m := f.say6(ask6(dhcp6.Request, 1, na(1), na(2), pd(1), pd(2)))
	seen := map[netip.Prefix]bool{}
	for i := range d.Answers {
		seen[d.Answers[i].Key] = true
	}
	if len(seen) != 4 || len(m.IAs) != 4 || len(d.Changes) != 4 {
		t.Errorf("four associations get %s, in %d changes", told6(m), len(d.Changes))
	}
}

// Reservations by DUID, by DUID and IAID, by hardware address, for addresses and prefixes.
func TestSixReserved(t *testing.T) {
	f := newWorld6(t)
	put := func(name, a string, length int, who func(*plan.Reservation)) {
		f.change(func(d *plan.Draft) error {
			r := plan.Reservation{Name: name, Scope: d.Plan().ScopeNamed("offices6").ID, Address: netip.MustParseAddr(a), Length: length}
			who(&r)
			_, err := d.PutReservation(r)
			return err
		})
	}
	byDUID := func(n int, iaid addr.IAID) func(*plan.Reservation) {
		return func(r *plan.Reservation) { r.Identifier, r.IAID = addr.Octets(duid(n)), iaid }
	}
	put("one", "2001:db8:40:1::101", 0, byDUID(1, ""))
	put("one-router", "2001:db8:40:8100::", 56, byDUID(1, ""))
	put("two-b", "2001:db8:40:1::102", 0, byDUID(2, addr.IAIDOf(7)))
	put("three", "2001:db8:40:1::103", 0, func(r *plan.Reservation) { r.Hardware = hw(3) })
	for _, c := range []struct {
		n    int
		ia   dhcp6.IA
		want string
	}{
		{1, na(1), "REPLY, na1 2001:db8:40:1::101 28800/43200"}, {1, pd(5), "REPLY, pd5 2001:db8:40:8100::/56 28800/43200"},
		{1, na(4), "REPLY, na4 2001:db8:40:1::101 28800/43200"}, // the system was made anew
		{2, na(7), "REPLY, na7 2001:db8:40:1::102 28800/43200"}, {3, na(1), "REPLY, na1 2001:db8:40:1::103 28800/43200"},
	} {
		if _, m := f.say6(ask6(dhcp6.Request, c.n, c.ia)); told6(m) != c.want {
			t.Errorf("client %d, association %d: %s, want %s", c.n, c.ia.ID, told6(m), c.want)
		}
	}
	_, m := f.say6(ask6(dhcp6.Request, 2, na(8)))
	if m == nil || len(m.IAs[0].Leases) != 1 || m.IAs[0].Leases[0].Prefix.Addr().String() == "2001:db8:40:1::102" {
		t.Errorf("another association of the same client: %s", told6(m))
	}
	_, m = f.say6(ask6(dhcp6.Renew, 9, na(1, "2001:db8:40:1::101")))
	if m == nil || m.IAs[0].Leases[len(m.IAs[0].Leases)-1].Valid != 0 {
		t.Errorf("whoever renews what is reserved for another is told %s", told6(m))
	}
}

// Whoever holds something is moved at its renewal: to what was reserved for it meanwhile.
func TestSixMoves(t *testing.T) {
	f := newWorld6(t)
	a, _ := f.get6(1)
	f.change(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: "one", Scope: d.Plan().ScopeNamed("offices6").ID,
			Identifier: addr.Octets(duid(1)),
			Address:    netip.MustParseAddr("2001:db8:40:1::101")})
		return err
	})
	_, m := f.say6(ask6(dhcp6.Renew, 1, na(1, a)))
	if want := "REPLY, na1 2001:db8:40:1::101 28800/43200 " + a + " 0/0"; told6(m) != want {
		t.Errorf("it is told %s, want %s", told6(m), want)
	}
	if l := f.table.At(netip.MustParseAddr(a)); l.Status == lease.Active {
		t.Errorf("what it left is %+v", l)
	}
}

// A relay that the plan does not name takes nothing from anybody, and its word of a port is not
// believed; through a lightweight relay alone the interface tells the link.
func TestSixRelays(t *testing.T) {
	f := newWorld6(t)
	a, _ := f.get6(1)
	relayed := func(m *dhcp6.Message, link string) *dhcp6.Message {
		m.Relays = []dhcp6.Relay{{Link: netip.MustParseAddr(link), Peer: netip.MustParseAddr("fe80::17"),
			Options: dhcp6.Options{{Code: option.InterfaceID6, Data: []byte("port7")}}}}
		return m
	}
	unicast := func(p *request.Path) { p.Unicast, p.Interface = true, "" }
	if d, m := f.say6(relayed(ask6(dhcp6.Solicit, 2, na(1)), a), unicast); m != nil || d.First().Why != reason.BadRelay {
		t.Errorf("through the address of a client: %s, %s", told6(m), d.First().Why)
	}
	if _, m := f.say6(relayed(ask6(dhcp6.Release, 1, na(1, a)), "2001:db8:40:1::ffff"), unicast); m != nil {
		t.Errorf("a made-up relay ends a lease: %s", told6(m))
	}
	if l := f.table.At(netip.MustParseAddr(a)); !l.HeldAt(f.now) {
		t.Errorf("the holder lost it: %+v", l)
	}
	d, m := f.say6(relayed(ask6(dhcp6.Request, 2, na(1)), "2001:db8:40:1::ffff"), unicast)
	if m == nil || len(m.Relays) != 1 || d.First().Outcome != Acknowledged {
		t.Errorf("through a relay that the plan does not name: %s", told6(m))
	}
	if d, _ := f.say6(relayed(ask6(dhcp6.Solicit, 2, na(1)), "2001:db8:77::1"), unicast); d.First().Why != reason.NoScope {
		t.Errorf("from a link of which no scope is: %s", d.First().Why)
	}
	byUnicast := func(p *request.Path) { p.Unicast = true }
	if _, m := f.say6(relayed(ask6(dhcp6.Release, 1, na(1, a)), "::"), byUnicast); told6(m) != "REPLY, UseMulticast" ||
		!f.table.At(netip.MustParseAddr(a)).HeldAt(f.now) {
		t.Errorf("a relay that names no link, from anywhere, ends a lease: %s", told6(m))
	}
	if d, m := f.say6(relayed(ask6(dhcp6.Solicit, 3, na(1)), "::")); m == nil || d.First().Outcome != Offered {
		t.Errorf("through a lightweight relay: %s, %s", told6(m), d.First().Why)
	}
	f.change(func(d *plan.Draft) error {
		l := *d.Plan().LinkNamed("offices")
		l.Relays = []netip.Addr{netip.MustParseAddr("2001:db8:40:1::1")}
		_, err := d.PutLink(l)
		if err == nil {
			_, err = d.PutReservation(plan.Reservation{Name: "port", Scope: d.Plan().ScopeNamed("offices6").ID, Circuit: "port7",
				Address: netip.MustParseAddr("2001:db8:40:1::107")})
		}
		return err
	})
	if _, m := f.say6(relayed(ask6(dhcp6.Request, 4, na(1)), "2001:db8:40:1::1"), unicast); m == nil ||
		!strings.Contains(told6(m), "2001:db8:40:1::107 28800/43200") {
		t.Errorf("whoever is plugged into a reserved port gets %s", told6(m))
	}
}

// Nothing is promised that cannot be recorded, and what is answered from the record is as much
// older as it is.
func TestSixWithoutRecords(t *testing.T) {
	f := newWorld6(t)
	a, _ := f.get6(1)
	f.now += 600
	if _, m := f.say6(ask6(dhcp6.Renew, 1, na(1, a))); !strings.Contains(told6(m), a+" 28200/42600") {
		t.Errorf("a renewal after ten minutes: %s", told6(m))
	}
	f.writable = false
	f.now += 3000
	if _, m := f.say6(ask6(dhcp6.Renew, 1, na(1, a))); !strings.Contains(told6(m), a+" 25200/39600") {
		t.Errorf("a renewal from the record: %s", told6(m))
	}
	for _, m := range []*dhcp6.Message{ask6(dhcp6.Solicit, 2, na(1)), ask6(dhcp6.Request, 2, na(1)), ask6(dhcp6.Release, 1, na(1, a)),
		ask6(dhcp6.Decline, 1, na(1, a))} {
		if _, r := f.say6(m); r != nil {
			t.Errorf("%s is answered: %s", m.Type, told6(r))
		}
	}
}

// Lifetimes of the plan: the lease time is how long an address is preferred.
func TestSixLifetimes(t *testing.T) {
	f := newWorld6(t)
	f.change(func(d *plan.Draft) error {
		s := d.Plan().ScopeNamed("offices6").Scope
		s.Lease, s.Valid = plan.Duration(time.Hour), plan.Duration(5*time.Hour)
		_, err := d.PutScope(s)
		return err
	})
	if _, m := f.say6(ask6(dhcp6.Request, 1, na(1))); !strings.HasSuffix(told6(m), " 3600/18000") {
		t.Errorf("it is told %s", told6(m))
	}
	f.change(func(d *plan.Draft) error {
		s := d.Plan().ScopeNamed("offices6").Scope
		s.Lease, s.Valid = plan.Duration(option.Infinite), 0
		_, err := d.PutScope(s)
		return err
	})
	if _, m := f.say6(ask6(dhcp6.Request, 2, na(1))); !strings.HasSuffix(told6(m), " 4294967295/4294967295") || m.IAs[0].T1 != 1<<32-1 {
		t.Errorf("for ever is %s", told6(m))
	}
}

// What the holder of a lease would be given if it renewed is found as for IPv4, for addresses
// and prefixes.
func TestSixRenewal(t *testing.T) {
	f := newWorld6(t)
	a, p := f.get6(1)
	for _, k := range []string{a + "/128", p} {
		l := f.table.Get(netip.MustParsePrefix(k))
		asked := request.Options{{Code: option.RequestList6, Data: []byte{0, 23, 0, 82}}}
		d, digest, ok := Renewal(l, asked, f.world6(), nil)
		if !ok || d.First().Key != l.Prefix || digest != l.Given {
			t.Errorf("%s: %v, %s, digest %x, and it was given %x", k, ok, d.First().Why, digest, l.Given)
		}
	}
}

// A client that accepts RECONFIGURE is told a key once, its leases keep it, and a RECONFIGURE made
// of it is authentic; nobody else is told one.
func TestSixReconfigure(t *testing.T) {
	f := newWorld6(t)
	accepts := func(m *dhcp6.Message) *dhcp6.Message {
		m.Options = append(m.Options, dhcp6.Option{Code: option.ReconfAccept6})
		return m
	}
	keyIn := func(m *dhcp6.Message) string {
		b, _ := m.Options.Get(option.Authentication6)
		if len(b) == 0 {
			return ""
		}
		if len(b) != 28 || b[0] != 3 || b[1] != 1 || b[2] != 0 || b[11] != 1 {
			t.Fatalf("option 11 is % x", b)
		}
		return string(b[12:])
	}
	_, back := f.say6(accepts(ask6(dhcp6.Solicit, 1, na(1), pd(1))))
	if _, there := back.Options.Get(option.ReconfAccept6); !there || keyIn(back) != "" {
		t.Errorf("the ADVERTISE has option 20: %v, and a key: %x", there, keyIn(back))
	}
	d, back := f.say6(accepts(ask6(dhcp6.Request, 1, back.IAs...)))
	key := keyIn(back)
	if len(key) != 16 {
		t.Fatalf("the REPLY has key %x", key)
	}
	holds := back.IAs
	for _, a := range d.Answers {
		if l := f.table.Get(a.Key); l.Nudge != key {
			t.Errorf("the lease of %s keeps %x", a.Key, l.Nudge)
		}
	}
	if _, back = f.say6(accepts(ask6(dhcp6.Renew, 1, holds...))); keyIn(back) != "" {
		t.Error("the key is said again to whoever renews")
	}
	if _, back = f.say6(accepts(ask6(dhcp6.Request, 1, holds...))); keyIn(back) != key {
		t.Errorf("whoever begins anew is told %x, and not the key", keyIn(back))
	}
	l := f.table.Get(holds[0].Leases[0].Prefix)
	b, err := Reconfigure(l, duid6, 7<<32)
	if err != nil {
		t.Fatal(err)
	}
	if what, err := CheckReconfigure(b, key); err != nil || what != dhcp6.Renew {
		t.Errorf("the client reads %v, %v", what, err)
	}
	if _, err := CheckReconfigure(b, strings.Repeat("x", 16)); err == nil {
		t.Error("another key proves it, too")
	}
	for i := range b { // a changed octet shows, wherever it is
		b[i] ^= 1
		if _, err := CheckReconfigure(b, key); err == nil {
			t.Errorf("octet %d can be changed", i)
		}
		b[i] ^= 1
	}
	if _, back = f.say6(ask6(dhcp6.Solicit, 2, na(1))); keyIn(back) != "" {
		t.Error("a client that did not ask for it is told a key")
	}
	_, back = f.say6(ask6(dhcp6.Request, 2, back.IAs...))
	if _, err := Reconfigure(f.table.Get(back.IAs[0].Leases[0].Prefix), duid6, 1); err == nil {
		t.Error("a client that does not accept it can be reconfigured")
	}
}

// Times of an association, prefixes that routers must not use inside, and options of a vendor are
// what the plan says.
func TestSixSettings(t *testing.T) {
	f := newWorld6(t)
	set := func(do func(*plan.Draft, *plan.Scope) error) {
		t.Helper()
		f.change(func(d *plan.Draft) error {
			s := d.Plan().ScopeNamed("offices6").Scope
			if err := do(d, &s); err != nil {
				return err
			}
			_, err := d.PutScope(s)
			return err
		})
	}
	key := func(d *plan.Draft, text string) option.Key {
		k, _, err := d.Plan().Key(text)
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	set(func(d *plan.Draft, s *plan.Scope) error {
		if _, err := d.PutCodebook(plan.Codebook{Name: "ap6", Place: plan.In17, Enterprise: 32473,
			Options: []plan.Own{{Code: 300, Name: "controller", Type: option.Type{Fields: []option.Kind{option.Address6},
				Array: true}}}}); err != nil {
			return err
		}
		s.PrefixPools[0].Exclude = 64
		s.Lease = plan.Duration(time.Hour)
		s.Options[key(d, "v6/header/renewal-time")] = "10m"
		s.Options[key(d, "v6/header/rebinding-time")] = "2h" // later than it is preferred
		s.Options[key(d, "ap6/controller")] = "2001:db8:40::31"
		return nil
	})
	m := ask6(dhcp6.Solicit, 1, na(1), pd(1))
	m.Options[1].Data = append(m.Options[1].Data, 0, 67, 0, 17)
	_, back := f.say6(m)
	for _, ia := range back.IAs {
		if ia.T1 != 600 || ia.T2 != 3600 {
			t.Errorf("T1 and T2 of association %d are %d and %d", ia.Code, ia.T1, ia.T2)
		}
	}
	b, _, err := back.AppendTo(nil, 0)
	if err != nil || !strings.Contains(string(b), "\x00\x43\x00\x02\x40\x00") {
		t.Errorf("the /64 that its router must not use inside is missing: % x, %v", b, err)
	}
	vendor := "\x00\x00\x7e\xd9\x01\x2c\x00\x10\x20\x01\x0d\xb8\x00\x40\x00\x00\x00\x00\x00\x00\x00\x00\x00\x31"
	if got, _ := back.Options.Get(option.VendorOptions6); string(got) != vendor {
		t.Errorf("option 17 is % x", got)
	}
	m = ask6(dhcp6.Solicit, 2, pd(1))
	m.Options = append(m.Options, dhcp6.Option{Code: option.VendorClass6, Data: []byte("\x00\x00\x7e\xd9\x00\x02ap")})
	if _, back = f.say6(m); len(back.IAs[0].Leases) != 1 || back.IAs[0].Leases[0].Exclude != nil {
		t.Errorf("a router that does not ask is told %+v", back.IAs)
	}
	if got, _ := back.Options.Get(option.VendorOptions6); string(got) != vendor {
		t.Errorf("a client that names its vendor is told % x", got)
	}
	if _, back = f.say6(ask6(dhcp6.Solicit, 3, na(1))); len(back.Options) == 0 {
		t.Fatal("nobody answers")
	} else if _, there := back.Options.Get(option.VendorOptions6); there {
		t.Error("a client of another vendor is told, too")
	}
}

// What is reserved, and what a client asks for by name, is probed before it is given, however it is
// asked for; what chance gives out of a vast pool is not, and a prefix never is.
func TestSixProbedFirst(t *testing.T) {
	f := newWorld6(t)
	f.change(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: "press", Scope: d.Plan().ScopeNamed("offices6").ID, Identifier: addr.Octets(duid(7)),
			Address: netip.MustParseAddr("2001:db8:40:1::7")})
		return err
	})
	known := Unprobed
	decide := func(m *dhcp6.Message) *Decision {
		t.Helper()
		w := f.world6()
		w.Probed = func(netip.Addr, addr.Hardware) Probe { return known }
		return Decide(m.Request(request.Path{Interface: "eth1", From: netip.MustParseAddr("fe80::17")}), w, nil)
	}
	for what, m := range map[string]*dhcp6.Message{
		"SOLICIT of the reserved client": ask6(dhcp6.Solicit, 7, na(1)),
		"its REQUEST":                    ask6(dhcp6.Request, 7, na(1, "2001:db8:40:1::7")),
		"its REBIND":                     ask6(dhcp6.Rebind, 7, na(1, "2001:db8:40:1::7")),
		"its REBIND from another link":   ask6(dhcp6.Rebind, 7, na(1, "2001:db8:77::1")),
		"a wish":                         ask6(dhcp6.Solicit, 8, na(1, "2001:db8:40:1::53")),
	} {
		known = Unprobed
		d := decide(m)
		if on := d.Waits(); on == nil || on.Probe.String() != "2001:db8:40:1::7" && on.Probe.String() != "2001:db8:40:1::53" {
			t.Errorf("%s: %s, %s", what, d.First().Outcome, d.First().Why)
		}
		known = Silent
		if d = decide(m); d.Waits() != nil || d.First().Outcome != Offered && d.First().Outcome != Acknowledged {
			t.Errorf("%s, once nobody answered: %s, %s", what, d.First().Outcome, d.First().Why)
		}
		known = InUse
		if d = decide(m); d.First().Address().String() == "2001:db8:40:1::53" && d.First().Outcome == Offered {
			t.Errorf("%s: what somebody uses is offered", what)
		}
	}
	known = Unprobed
	if d := decide(ask6(dhcp6.Solicit, 9, na(1), pd(1))); d.Waits() != nil || d.First().Outcome != Offered || d.Answers[1].Outcome != Offered {
		t.Errorf("what chance gives waits: %s", d.First().Outcome)
	}
}
