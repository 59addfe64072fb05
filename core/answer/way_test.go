package answer

import (
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// A datagram proves only where it came from: nobody ends, shortens or takes what
// another was promised, whatever he says and from wherever he says it.
func TestNobodyEndsAnothersLease(t *testing.T) {
	victim := "10.77.0.100"
	from := func(a string) func(*request.Path) { return func(r *request.Path) { r.From = netip.MustParseAddr(a) } }
	straight := func(a string) func(*request.Path) {
		return func(r *request.Path) { from(a)(r); r.Unicast = true; r.Interface = "eth0" }
	}
	onLink := func(a string) func(*request.Path) {
		return func(r *request.Path) {
			from(a)(r)
			r.Interface, r.Prefixes = "eth0", []netip.Prefix{netip.MustParsePrefix("10.77.0.1/24")}
		}
	}
	shorter := dhcp4.Option{Code: option.AddressTime, Data: []byte{0, 0, 0, 60}}
	for name, c := range map[string]struct {
		t       dhcp4.Type
		giaddr  string
		ciaddr  string
		options []dhcp4.Option
		how     func(*request.Path)
	}{
		"renewal from a foreign address": {dhcp4.Request, "", victim, []dhcp4.Option{shorter}, straight("192.0.2.66")},
		"RELEASE from a foreign address": {dhcp4.Release, "", victim, nil, straight("192.0.2.66")},
		"RELEASE from the next address":  {dhcp4.Release, "", victim, nil, straight("10.77.0.101")},
		"DECLINE from a foreign address": {dhcp4.Decline, "", "", []dhcp4.Option{at(option.AddressRequest, victim)},
			straight("192.0.2.66")},
		"DECLINE from an address of his own": {dhcp4.Decline, "", "10.77.0.101", []dhcp4.Option{at(option.AddressRequest, victim)},
			straight("10.77.0.101")},
		"REQUEST from an address of his own": {dhcp4.Request, "", "10.77.0.101", []dhcp4.Option{at(option.AddressRequest, victim),
			at(option.ServerID, server.String()), shorter}, straight("10.77.0.101")},
		"broadcast from another network":            {dhcp4.Release, "", victim, nil, onLink("192.0.2.66")},
		"giaddr = ciaddr":                           {dhcp4.Request, victim, victim, nil, straight("192.0.2.66")},
		"DISCOVER with giaddr = a leased address":   {dhcp4.Discover, victim, "", nil, straight("192.0.2.66")},
		"RELEASE through a relay that nobody knows": {dhcp4.Release, "10.77.0.9", victim, nil, straight("192.0.2.66")},
		"DECLINE through a relay that nobody knows": {dhcp4.Decline, "10.77.0.9", "", []dhcp4.Option{at(option.AddressRequest, victim)},
			straight("192.0.2.66")},
		"RELEASE through another link's relay": {dhcp4.Release, "10.78.0.1", victim, nil, straight("10.78.0.1")},
	} {
		f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
		f.names("10.77.0.2")
		f.change(func(d *plan.Draft) error {
			s := plan.Scope{Name: "yard", Subnet: netip.MustParsePrefix("10.78.0.0/24"), Mode: plan.Serving}
			if err := d.PlaceScope(&s, "", nil); err != nil {
				return err
			}
			if _, err := d.PutScope(s); err != nil {
				return err
			}
			l := *d.Plan().LinkNamed("yard")
			l.Relays = []netip.Addr{netip.MustParseAddr("10.78.0.1")}
			_, err := d.PutLink(l)
			return err
		})
		if got := f.get(1); got.String() != victim {
			t.Fatalf("client 1 got %s", got)
		}
		f.now += 1000
		before := *f.table.At(netip.MustParseAddr(victim))
		m := f.message(c.t, 1, c.options...)
		m.GIAddr, m.CIAddr = netip.IPv4Unspecified(), netip.IPv4Unspecified()
		if c.giaddr != "" {
			m.GIAddr = netip.MustParseAddr(c.giaddr)
		}
		if c.ciaddr != "" {
			m.CIAddr = netip.MustParseAddr(c.ciaddr)
		}
		d := f.do(m, c.how)
		if after := f.table.At(before.Address()); after.Status != lease.Active || after.Expires < before.Expires {
			t.Errorf("%s: %s %s, and the lease is %+v", name, d.First().Outcome, d.First().Why, after)
		}
	}
}

// What does count may end a lease or shorten it; the address is nobody else's all the
// same, until the end that its client was told.
func TestPromiseOutlivesItsLease(t *testing.T) {
	a := netip.MustParseAddr("10.77.0.100")
	for name, end := range map[string]func(*fixture) *dhcp4.Message{
		"a RELEASE": func(f *fixture) *dhcp4.Message {
			m := f.message(dhcp4.Release, 1)
			m.CIAddr = a
			return m
		},
		"a renewal for a minute": func(f *fixture) *dhcp4.Message {
			m := f.message(dhcp4.Request, 1, dhcp4.Option{Code: option.AddressTime, Data: []byte{0, 0, 0, 60}})
			m.CIAddr = a
			return m
		},
		"a refusal": func(f *fixture) *dhcp4.Message {
			f.edit(func(s *plan.Scope) { s.Pools = []addr.Range{{From: a.Next(), To: a.Next()}} })
			m := f.message(dhcp4.Request, 1)
			m.CIAddr = a
			return m
		},
		"another address": func(f *fixture) *dhcp4.Message {
			f.reserve("loom-1", 1, "10.77.0.9")
			f.do(f.message(dhcp4.Discover, 1))
			return f.selecting(1, "10.77.0.9")
		},
	} {
		f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.100")
		f.awake = true
		f.names("10.77.0.2")
		if f.get(1) != a {
			t.Fatal("client 1 got another address")
		}
		told := f.table.At(a).Expires
		f.now += 1000
		f.do(end(f))
		f.edit(func(s *plan.Scope) { s.Pools = []addr.Range{{From: a, To: a}} })
		for f.now < told+lease.Grace {
			endDue(f.table, f.now)
			if d := f.do(f.message(dhcp4.Discover, 2)); d.First().Outcome == Offered {
				t.Errorf("after %s another client is offered %s %s before the end that the first was told", name, d.First().Address(),
					told.Sub(f.now))
				break
			}
			f.now += 100
		}
		f.now = told + lease.Grace
		endDue(f.table, f.now)
		f.expect("after "+name, f.do(f.message(dhcp4.Discover, 2)), Offered, "", a.String())
	}
}

// A circuit counts if the plan names the relay that tells it, and for a renewal that
// cannot tell it as it was last told.
func TestCircuits(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	f.change(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: "port", Scope: f.scope(), Circuit: "sw1/0/7",
			Address: netip.MustParseAddr("10.77.0.9")})
		return err
	})
	f.rule(plan.Rule{Name: "remote", When: `remote == "access-3" && relay == "10.77.0.2" && "staff" in userClass`,
		Settings: plan.Settings{Lease: plan.Duration(7 * time.Minute)}})
	via := []dhcp4.Option{{Code: option.RelayAgent, Data: []byte("\x01\x07sw1/0/7\x02\x08access-3")}, {Code: option.UserClass,
		Data: []byte("\x05staff")}}
	f.expect("through a relay that nobody names", f.do(f.message(dhcp4.Discover, 1, via...)), Offered, "", "10.77.0.100")
	direct := f.message(dhcp4.Discover, 1, via...)
	direct.GIAddr = netip.IPv4Unspecified()
	f.expect("a client that says it itself", f.do(direct, func(r *request.Path) {
		r.Interface, r.Prefixes = "eth0", []netip.Prefix{netip.MustParsePrefix("10.77.0.1/24")}
	}), Offered, "", "10.77.0.100")
	f.names("10.77.0.2")
	f.expect("through the link's own", f.do(f.message(dhcp4.Discover, 1, via...)), Offered, "", "10.77.0.9")
	f.expect("taken", f.do(f.selecting(1, "10.77.0.9", via...)), Acknowledged, "", "10.77.0.9")
	f.now += 210
	renewal := f.message(dhcp4.Request, 1)
	renewal.GIAddr, renewal.CIAddr = netip.IPv4Unspecified(), netip.MustParseAddr("10.77.0.9")
	d := f.do(renewal, func(r *request.Path) { r.Unicast, r.From = true, renewal.CIAddr })
	f.expect("renewed without option 82", d, Acknowledged, "", "10.77.0.9")
	if l := d.First().Lease; l == nil || l.Granted != 7*time.Minute || l.Circuit != "sw1/0/7" || l.Relay.String() != "10.77.0.2" ||
		!l.Reserved {
		t.Errorf("the renewal is recorded as %+v; trail %v", l, d.Trail)
	}
	// The relay is named no more: what it said does not count any longer.
	f.link(func(l *plan.Link) { l.Relays = nil })
	f.now += 210
	f.expect("when nobody names the relay", f.do(renewal, func(r *request.Path) { r.Unicast, r.From = true, renewal.CIAddr }), Refused,
		reason.ForAnother, "10.77.0.9")
}

// Whatever a client asks for, an early renewal is not worth a write.
func TestEarlyWhateverItSays(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	a := f.get(1)
	for n := range 50 {
		m := f.message(dhcp4.Request, 1, dhcp4.Option{Code: option.ForceRenewNonce, Data: []byte{1, byte(n)}},
			dhcp4.Option{Code: option.AddressTime, Data: []byte{0, 0, 2, byte(n)}}, dhcp4.Option{Code: option.Hostname,
				Data: []byte{'a' + byte(n%20)}})
		m.CIAddr, m.XID = a, uint32(n)
		if d := f.do(m); d.First().Outcome != Acknowledged || d.First().Lease != nil {
			t.Fatalf("renewal %d is %s, recorded as %+v", n, d.First().Outcome, d.First().Lease)
		}
	}
}

// While records may be missing, what is free by the records is given to nobody new,
// unless a probe can tell; whoever asks for an address that nobody has keeps it.
func TestRecordsLost(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	known := f.get(1)
	decide := func(m *dhcp4.Message, probed func(netip.Addr, addr.Hardware) Probe) *Decision {
		w := f.world()
		w.RecordsLost, w.Probed = true, probed
		return Decide(asked(m, request.Path{Server: server}), w, nil)
	}
	f.expect("somebody new", decide(f.message(dhcp4.Discover, 2), nil), Ignored, reason.RecordsLost, "")
	f.expect("somebody new who wishes", decide(f.message(dhcp4.Discover, 2, at(option.AddressRequest, "10.77.0.105")), nil), Ignored,
		reason.RecordsLost, "")
	f.expect("whoever is on record", decide(f.message(dhcp4.Discover, 1), nil), Offered, "", known.String())
	renew := f.message(dhcp4.Request, 3)
	renew.CIAddr = netip.MustParseAddr("10.77.0.107")
	f.expect("one whose record was lost", decide(renew, nil), Acknowledged, "", "10.77.0.107")
	renew.CIAddr = known
	f.expect("one who asks for what another has", decide(renew, nil), Refused, reason.HeldByAnother, known.String())
	silent := func(netip.Addr, addr.Hardware) Probe { return Silent }
	f.expect("somebody new, where a probe met silence", decide(f.message(dhcp4.Discover, 2), silent), Offered, "", "10.77.0.101")
	f.now += 2 * 3600
	endDue(f.table, f.now)
	f.expect("a former client, whose address may be another's by now", decide(f.message(dhcp4.Discover, 1), nil), Ignored,
		reason.RecordsLost, "")
}
