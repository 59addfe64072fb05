package answer

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

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
			if d.First().Outcome != Offered {
				f.expect("too many", d, Ignored, reason.TooMany, "")
				continue
			}
			a := d.First().Address()
			k := f.do(f.message(dhcp4.Request, first+i, port, at(option.AddressRequest, a.String()), at(option.ServerID, server.String())))
			if k.First().Outcome == Acknowledged {
				if served++; k.First().New {
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
	f.expect("a REQUEST without an offer", f.do(direct), Refused, reason.NotOffered, "")
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
		if f.do(f.message(dhcp4.Discover, 10000+n)).First().Outcome == Offered {
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
		d := Decide(asked(m, request.Path{Server: server}), w, nil)
		if d.First().Offer != nil {
			f.table.PutOffer(*d.First().Offer)
		}
		if d.First().Lease != nil {
			f.table.Put(d.First().Lease)
			f.table.DropOffer(d.First().Lease.Prefix)
		}
		return d
	}
	d := decide(f.message(dhcp4.Discover, 1))
	if d.First().Outcome != Waiting || d.First().Probe.String() != "10.77.0.100" || d.Reply != nil {
		t.Fatalf("%s for %s", d.First().Outcome, d.First().Probe)
	}
	ready["10.77.0.101"] = true
	f.expect("one that is ready comes first", decide(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.101")
	ready = map[string]bool{}
	f.expect("one on offer to it stays", decide(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.101")
	f.expect("and is granted",
		decide(f.message(dhcp4.Request, 1, at(option.AddressRequest, "10.77.0.101"), at(option.ServerID, server.String()))), Acknowledged,
		"",
		"10.77.0.101")
	f.expect("its own address needs no probe", decide(f.message(dhcp4.Discover, 1)), Offered, "", "10.77.0.101")
	f.expect("a REQUEST for what was not offered",
		decide(f.message(dhcp4.Request, 2, at(option.AddressRequest, "10.77.0.103"), at(option.ServerID, server.String()))), Refused,
		reason.NotOffered, "")
	wish := f.message(dhcp4.Discover, 3, at(option.AddressRequest, "10.77.0.103"))
	ready["10.77.0.102"] = true
	if d = decide(wish); d.First().Outcome != Waiting || d.First().Probe.String() != "10.77.0.103" {
		t.Errorf("a wish for what nobody probed: %s for %s", d.First().Outcome, d.First().Probe)
	}
	ready["10.77.0.103"] = true
	f.expect("the wish, once it is probed", decide(wish), Offered, "", "10.77.0.103")
	ready = map[string]bool{}
	f.edit(func(s *plan.Scope) { s.NoProbe = true })
	f.expect("where probing is off", decide(f.message(dhcp4.Discover, 2)), Offered, "", "10.77.0.100")
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
	if d := f.do(f.message(dhcp4.Discover, 1)); d.Withheld != reason.Listening || d.First().Outcome != Offered {
		t.Errorf("listening: %q %s", d.Withheld, d.First().Outcome)
	}
	link(func(l *plan.Link) { l.Listening, l.StandAside = false, true })
	if d := f.do(f.message(dhcp4.Discover, 1)); d.Withheld != "" {
		t.Errorf("with nobody else there: %q", d.Withheld)
	}
	w := f.world()
	w.OtherServer = func(plan.ID, option.Family) bool { return true }
	if d := Decide(asked(f.message(dhcp4.Discover, 1), request.Path{Server: server}), w, nil); d.Withheld != reason.StandsAside {
		t.Errorf("beside another server: %q", d.Withheld)
	}
	f.change(func(d *plan.Draft) error { return d.SetDefaults(plan.Defaults{Listening: true}) })
	if d := f.do(f.message(dhcp4.Discover, 1)); d.Withheld != reason.Listening {
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
	f.expect("when both are full", f.do(f.message(dhcp4.Discover, 9)), Ignored, reason.PoolEmpty, "")
}

// Whoever asks for prefix after prefix and takes none leaves some of a pool for others: it is counted by
// what is left of prefixes, however many addresses there are.
func TestPrefixStarvation(t *testing.T) {
	f := newWorld6(t)
	f.change(func(d *plan.Draft) error {
		s := d.Plan().ScopeNamed("offices6").Scope
		s.PrefixPools = []plan.PrefixPool{{Prefix: netip.MustParsePrefix("2001:db8:40:8000::/49"), Length: 56}}
		_, err := d.PutScope(s)
		return err
	})
	_, known := f.get6(0)
	offered := 0
	for n := range 200 {
		d, reply := f.say6(ask6(dhcp6.Solicit, 1+n, pd(1)))
		if reply != nil && len(reply.IAs[0].Leases) == 1 {
			offered++
		} else if d.Answers[0].Why != reason.TooMany {
			t.Fatalf("client %d gets nothing because of %s", n, d.Answers[0].Why)
		}
	}
	if offered < 60 || offered > 70 {
		t.Errorf("%d of 128 prefixes are on offer", offered)
	}
	if _, reply := f.say6(ask6(dhcp6.Renew, 0, pd(2, known))); !strings.Contains(told6(reply), known) {
		t.Errorf("who has a prefix is told %s", told6(reply))
	}
}
