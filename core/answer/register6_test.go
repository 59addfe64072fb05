package answer

import (
	"encoding/binary"
	"fmt"
	"maps"
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

// registers is an ADDR-REG-INFORM of client n (RFC 9686 section 4.2).
func registers(n int, address string, valid uint32) *dhcp6.Message {
	a := netip.MustParseAddr(address).As16()
	data := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(a[:], valid/2), valid)
	return &dhcp6.Message{Type: dhcp6.AddrRegInform, Transaction: uint32(n), Options: dhcp6.Options{{Code: option.ClientID6,
		Data: duid(n)},
		{Code: option.IAAddress, Data: data}, {Code: option.FQDN6, Data: dhcp6.FQDN("laptop")}}}
}

func sentFrom(address string) func(*request.Path) {
	return func(p *request.Path) { p.From = netip.MustParseAddr(address) }
}

// invited is a world whose clients are told that they may register addresses.
func invited(t *testing.T) *fixture {
	f := newWorld6(t)
	f.change(func(d *plan.Draft) error {
		s := d.Plan().ScopeNamed("offices6").Scope
		s.Options = maps.Clone(s.Options)
		s.Options[option.Std6(option.AddressReg6)] = "true"
		_, err := d.PutScope(s)
		return err
	})
	return f
}

const made = "2001:db8:40:1:5ca1:ab1e:0:1"

// An address that a client made itself is on record until its valid lifetime ends, is answered for
// with what was sent, and is given to nobody meanwhile.
func TestSixRegistered(t *testing.T) {
	f := invited(t)
	asks := ask6(dhcp6.Solicit, 1, na(1))
	asks.Options[1].Data = []byte{0, option.AddressReg6}
	if _, reply := f.say6(asks); reply == nil {
		t.Fatal("no answer")
	} else if b, ok := reply.Options.Get(option.AddressReg6); !ok || len(b) != 0 {
		t.Error("who asks whether it may register is not told that it may")
	}
	m := registers(1, made, 7200)
	d, reply := f.say6(m, sentFrom(made))
	if reply == nil || reply.Type != dhcp6.AddrRegReply || reply.Transaction != 1 {
		t.Fatalf("it is told %s", told6(reply))
	}
	sent, _ := m.Options.Get(option.IAAddress)
	if got, _ := reply.Options.Get(option.IAAddress); string(got) != string(sent) {
		t.Errorf("it sent %x, and is answered %x", sent, got)
	}
	for _, code := range []uint16{option.ClientID6, option.ServerID6} {
		if _, ok := reply.Options.Get(code); !ok {
			t.Errorf("the reply has no option %d", code)
		}
	}
	l := f.table.At(netip.MustParseAddr(made))
	if d.First().Outcome != Acknowledged || l == nil || l.Client.Kind != lease.Registered || l.Client.DUID() != string(duid(1)) ||
		!l.HeldAt(f.now+7199) || l.HeldAt(f.now+7200) || l.Hostname != "laptop" {
		t.Fatalf("on record is %+v", l)
	}
	if _, reply := f.say6(ask6(dhcp6.Solicit, 2, na(1, made))); strings.Contains(told6(reply), made) {
		t.Errorf("another client is offered it: %s", told6(reply))
	}
	if d, reply := f.say6(registers(1, made, 7200), sentFrom(made)); reply == nil || len(d.Changes) != 0 {
		t.Error("what is registered already is written once more")
	}
	f.now += 4000
	if d, reply := f.say6(registers(1, made, 7200), sentFrom(made)); reply == nil || len(d.Changes) != 1 ||
		!f.table.Get(l.Prefix).HeldAt(f.now+7199) {
		t.Error("what is registered anew does not last anew")
	}
	if _, reply := f.say6(registers(7, made, 3600), sentFrom(made)); reply == nil ||
		f.table.Get(l.Prefix).Client.DUID() != string(duid(7)) {
		t.Error("a host with a new DUID is not on record by it")
	}
	if _, reply := f.say6(registers(7, made, 0), sentFrom(made)); reply == nil || f.table.Get(l.Prefix).HeldAt(f.now) {
		t.Error("what it uses no more is on record still")
	}
	if _, reply := f.say6(registers(7, made, ^uint32(0)), sentFrom(made)); reply == nil ||
		f.table.Get(l.Prefix).HeldAt(f.now.Add(registeredFor)) {
		t.Error("a registration lasts for ever")
	}
}

// ownedPlaces is a world in which addresses belong to others: one is leased, one reserved, one a relay's.
func ownedPlaces(t *testing.T) (f *fixture, leased string) {
	f = invited(t)
	leased, _ = f.get6(3)
	f.change(func(d *plan.Draft) error {
		l := *d.Plan().LinkNamed("offices")
		l.Relays = []netip.Addr{netip.MustParseAddr("2001:db8:40:1::98")}
		if _, err := d.PutLink(l); err != nil {
			return err
		}
		_, err := d.PutReservation(plan.Reservation{Name: "press", Scope: d.Plan().ScopeNamed("offices6").ID,
			Address: netip.MustParseAddr("2001:db8:40:1::9"), Identifier: addr.Octets(duid(9))})
		return err
	})
	return f, leased
}

// What RFC 9686 section 4.2.1 has servers discard, and what nobody is to believe.
func TestSixNotRegistered(t *testing.T) {
	f, _ := ownedPlaces(t)
	edit := func(change func(*dhcp6.Message)) *dhcp6.Message {
		m := registers(1, made, 7200)
		change(m)
		return m
	}
	relayed := func(peer string) *dhcp6.Message {
		return edit(func(m *dhcp6.Message) {
			m.Relays = []dhcp6.Relay{{Link: netip.MustParseAddr("2001:db8:40:1::99"), Peer: netip.MustParseAddr(peer)}}
		})
	}
	through := func(p *request.Path) { p.Interface, p.From = "", netip.MustParseAddr("2001:db8:40:1::99") }
	for name, c := range map[string]struct {
		message *dhcp6.Message
		path    func(*request.Path)
		why     reason.Reason
	}{
		"no DUID": {edit(func(m *dhcp6.Message) { m.Options = m.Options[1:] }), sentFrom(made), reason.BadRequest},
		"it names a server": {edit(func(m *dhcp6.Message) {
			m.Options = append(m.Options, dhcp6.Option{Code: option.ServerID6, Data: []byte(duid6)})
		}), sentFrom(made), reason.BadRequest},
		"it asks for options": {edit(func(m *dhcp6.Message) {
			m.Options = append(m.Options, dhcp6.Option{Code: option.RequestList6, Data: []byte{0, 23}})
		}), sentFrom(made), reason.BadRequest},
		"no address": {edit(func(m *dhcp6.Message) { m.Options = m.Options[:1] }), sentFrom(made), reason.BadRequest},
		"two addresses": {edit(func(m *dhcp6.Message) { m.Options = append(m.Options, m.Options[1]) }), sentFrom(made),
			reason.BadRequest},
		"half an address": {edit(func(m *dhcp6.Message) { m.Options[1].Data = m.Options[1].Data[:23] }), sentFrom(made),
			reason.BadRequest},
		"an address of another": {registers(1, made, 7200), sentFrom("2001:db8:40:1::17"), reason.BadRequest},
		"the peer is another":   {relayed("2001:db8:40:1::17"), through, reason.BadRequest},
		"a stranger relays it":  {relayed(made), through, reason.ForeignSource},
		"to the server alone": {registers(1, made, 7200), func(p *request.Path) { sentFrom(made)(p); p.Unicast = true },
			reason.ForeignSource},
		"of another link":       {registers(1, "2001:db8:99::1", 7200), sentFrom("2001:db8:99::1"), reason.WrongNetwork},
		"of a delegated prefix": {registers(1, "2001:db8:40:8000::1", 7200), sentFrom("2001:db8:40:8000::1"), reason.WrongNetwork},
	} {
		if d, reply := f.say6(c.message, c.path); reply != nil || d.First().Why != c.why || len(d.Changes) > 0 {
			t.Errorf("%s: it is told %s, because of %q, with %d changes", name, told6(reply), d.First().Why, len(d.Changes))
		}
	}
	uninvited := newWorld6(t)
	if d, reply := uninvited.say6(registers(1, made, 7200), sentFrom(made)); reply != nil || d.First().Why != reason.NotServed {
		t.Errorf("where nobody is told to, a registration is answered %s", told6(reply))
	}
	f.writable = false
	if d, reply := f.say6(registers(1, made, 7200), sentFrom(made)); reply != nil || d.First().Why != reason.NoDatabase {
		t.Errorf("with no database it is told %s", told6(reply))
	}
}

// What is another's, or the network's, stays so; whoever says otherwise is answered, so that it asks
// no more.
func TestSixRegisteredIsNobodysLoss(t *testing.T) {
	f, address := ownedPlaces(t)
	for name, c := range map[string]struct {
		client  int
		address string
		trouble reason.Reason
	}{
		"leased to another":      {1, address, reason.HeldByAnother},
		"leased to itself":       {3, address, ""},
		"reserved for another":   {1, "2001:db8:40:1::9", reason.ForAnother},
		"reserved for itself":    {9, "2001:db8:40:1::9", ""},
		"given up, unregistered": {1, "2001:db8:40:1::77", ""},
		"a relay's":              {1, "2001:db8:40:1::98", ""},
		"of all routers":         {1, "2001:db8:40:1::", ""},
	} {
		m := registers(c.client, c.address, 7200)
		if name == "given up, unregistered" {
			m = registers(c.client, c.address, 0)
		}
		if d, reply := f.say6(m, sentFrom(c.address)); reply == nil || len(d.Changes) > 0 || d.First().Trouble != c.trouble {
			t.Errorf("%s: it is told %s, with trouble %q and %d changes", name, told6(reply), d.First().Trouble, len(d.Changes))
		}
	}
}

// Nobody fills a table with addresses that it made up.
func TestSixRegistrationsAreBounded(t *testing.T) {
	f := invited(t)
	for n := range 100 {
		a := fmt.Sprintf("2001:db8:40:1::%x:1", 0x1000+n)
		f.say6(registers(1, a, 7200), sentFrom(a))
	}
	if n := f.table.Count(f.plan.ScopeNamed("offices6").ID).Active; n != registeredMost {
		t.Errorf("one client registered %d addresses", n)
	}
	for n := range 3000 {
		a := fmt.Sprintf("2001:db8:40:1::%x:2", 0x1000+n)
		if d, _ := f.say6(registers(2+n, a, 7200), sentFrom(a)); d.First().New {
			f.table.Welcome(f.plan.ScopeNamed("offices6").ID, lease.Port{}, f.now)
		}
	}
	if n := f.table.Count(f.plan.ScopeNamed("offices6").ID).Active; n > newcomersVast+registeredMost {
		t.Errorf("%d addresses were registered in a moment", n)
	}
	f.now = f.now.Add(time.Minute)
	if _, reply := f.say6(registers(9000, made, 7200), sentFrom(made)); reply == nil {
		t.Error("a minute later nobody can register")
	}
}

// What the link's own relay supplies for a client reaches it, if it asks for it and the plan says
// nothing (RFC 6422 section 6): of two relays the nearer one, and nothing that relays may not supply.
func TestSixRelaySupplied(t *testing.T) {
	f := newWorld6(t)
	f.change(func(d *plan.Draft) error {
		l := *d.Plan().LinkNamed("offices")
		l.Relays = []netip.Addr{netip.MustParseAddr("2001:db8:40:1::98")}
		_, err := d.PutLink(l)
		return err
	})
	supplies := func(link, domain string) dhcp6.Relay {
		data := []byte{0, 65, 0, byte(len(domain))}
		data = append(append(data, domain...), 0, 23, 0, 1, 9) // and a DNS server, which it may not
		return dhcp6.Relay{Link: netip.MustParseAddr(link), Peer: netip.MustParseAddr("fe80::17"),
			Options: dhcp6.Options{{Code: option.RelaySupplied6, Data: data}}}
	}
	told := func(asks []byte, relays ...dhcp6.Relay) string {
		m := ask6(dhcp6.Solicit, 1, na(1))
		m.Options[1].Data, m.Relays = asks, relays
		_, reply := f.say6(m, func(p *request.Path) { p.Interface = "" })
		if reply == nil {
			return "silence"
		}
		domain, _ := reply.Options.Get(option.ERPDomain6)
		dns, _ := reply.Options.Get(option.DNSServers6)
		return fmt.Sprintf("%s %d", domain, len(dns))
	}
	const own, other = "2001:db8:40:1::98", "2001:db8:40:1::77"
	both := []byte{0, 65, 0, 23}
	if got := told(both, supplies(own, "mill")); got != "mill 16" {
		t.Errorf("it is told %q", got)
	}
	if got := told([]byte{0, 23}, supplies(own, "mill")); got != " 16" {
		t.Errorf("who does not ask is told %q", got)
	}
	if got := told(both, supplies("2001:db8:99::1", "far"), supplies(own, "near")); got != "near 16" {
		t.Errorf("through two relays it is told %q", got)
	}
	if got := told(both, supplies(other, "mill")); got != " 16" {
		t.Errorf("through a relay that the plan does not name it is told %q", got)
	}
	cut := supplies(own, "mill")
	cut.Options[0].Data = cut.Options[0].Data[:6]
	if got := told(both, cut); got != " 16" {
		t.Errorf("of half an option it is told %q", got)
	}
	f.change(func(d *plan.Draft) error {
		s := d.Plan().ScopeNamed("offices6").Scope
		s.Options = maps.Clone(s.Options)
		s.Options[option.Std6(option.ERPDomain6)] = "plan.example"
		_, err := d.PutScope(s)
		return err
	})
	if got := told(both, supplies(own, "mill")); strings.Contains(got, "mill") || !strings.Contains(got, "plan") {
		t.Errorf("beside the plan's own it is told %q", got)
	}
}
