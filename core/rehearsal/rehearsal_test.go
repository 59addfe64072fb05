package rehearsal

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

const start lease.Time = 1_780_000_000

func mill(t testing.TB, pool string, span time.Duration) *plan.Plan {
	t.Helper()
	r, err := addr.ParseRange(pool)
	if err != nil {
		t.Fatal(err)
	}
	d := plan.New().Draft()
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/16"), Mode: plan.Serving, Pools: []addr.Range{r},
		Settings: plan.Settings{Lease: plan.Duration(span)}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	return p
}

func stay(n int, begin, span time.Duration) Stay {
	hw := addr.Hardware([]byte{2, 0, 0, byte(n >> 16), byte(n >> 8), byte(n)})
	return Stay{Client: lease.ByHardware(1, hw), Hardware: hw, Key: netip.MustParsePrefix("10.77.1.1/32"),
		Relay: netip.MustParseAddr("10.77.0.1"),
		Begin: start.Add(begin), End: start.Add(begin + span)}
}

// Twenty clients come, one a minute, and stay for an hour. A pool of ten holds the
// first ten; with leases of an hour an address comes back an hour after its client
// left, with leases of ten minutes much sooner.
func TestShorterLeasesServeMore(t *testing.T) {
	var stays []Stay
	for i := range 20 {
		stays = append(stays, stay(i, time.Duration(i)*5*time.Minute, 30*time.Minute))
	}
	in := Input{Stays: stays, From: start, To: start.Add(6 * time.Hour)}
	in.Plan = mill(t, "10.77.0.10-10.77.0.19", time.Hour)
	long := Play(in)
	in.Plan = mill(t, "10.77.0.10-10.77.0.19", 10*time.Minute)
	short := Play(in)
	if long.Clients != 20 || short.Clients != 20 {
		t.Errorf("%d and %d clients came, not 20", long.Clients, short.Clients)
	}
	if long.RefusedCount == 0 || long.FirstRefused == 0 || long.Uses[0].Peak != 10 || long.Uses[0].FullAt == 0 {
		t.Errorf("with an hour: %+v", long)
	}
	if short.RefusedCount != 0 || short.Uses[0].Peak >= 10 || short.Uses[0].FullAt != 0 {
		t.Errorf("with ten minutes: %+v", short)
	}
	if short.Messages <= long.Messages {
		t.Errorf("shorter leases take %d messages, longer ones %d", short.Messages, long.Messages)
	}
	if wider := Play(Input{Plan: mill(t, "10.77.0.10-10.77.0.39", time.Hour), Stays: stays, From: start,
		To: in.To}); wider.RefusedCount != 0 {
		t.Errorf("a pool of thirty refuses: %+v", wider)
	}
}

// Whoever releases leaves its address to the next at once.
func TestReleasesMakeRoom(t *testing.T) {
	var stays []Stay
	for i := range 30 {
		s := stay(i, time.Duration(i)*10*time.Minute, 5*time.Minute)
		s.Released = true
		stays = append(stays, s)
	}
	out := Play(Input{Plan: mill(t, "10.77.0.10", 24*time.Hour), Stays: stays, From: start, To: start.Add(6 * time.Hour)})
	if out.RefusedCount != 0 || out.Uses[0].Peak != 1 {
		t.Errorf("%+v", out)
	}
}

// With a server gone half of the addresses are out of reach for a while, and
// promises are short.
func TestServerGone(t *testing.T) {
	var stays []Stay
	for i := range 8 {
		stays = append(stays, stay(i, time.Duration(i)*time.Second, 3*time.Hour))
	}
	in := Input{Plan: mill(t, "10.77.0.8-10.77.0.15", time.Hour), Stays: stays, From: start, To: start.Add(3 * time.Hour)}
	if both := Play(in); both.RefusedCount != 0 {
		t.Errorf("with both: %+v", both)
	}
	in.Gone = &Gone{MCLT: 10 * time.Minute, Wait: 30 * time.Minute}
	one := Play(in)
	if one.RefusedCount != 4 || one.Never != 0 {
		t.Errorf("with one: %d had to wait, %d were never served", one.RefusedCount, one.Never)
	}
	for _, r := range one.Refused {
		if r.Waited < 25*time.Minute || r.Waited > 40*time.Minute {
			t.Errorf("%s waited %s", r.Hardware, r.Waited)
		}
	}
}

// A survivor knows who had an address when its partner died, and half of what was free is
// its own, wherever that lies.
func TestSurvivorKnowsItsClients(t *testing.T) {
	history := NewStays(start, start.Add(2*time.Hour))
	for i := range 12 { // twelve of sixteen are held, and heard of before the span alone
		hw := addr.Hardware([]byte{2, 0, 0, 0, 0, byte(i)})
		history.Add(Line{start.Add(-time.Hour), &lease.Lease{Prefix: lease.Host(netip.AddrFrom4([4]byte{10, 77, 0, byte(8 + i)})),
			Status: lease.Active, Client: lease.ByHardware(1, hw), Hardware: hw, Relay: netip.MustParseAddr("10.77.0.1"),
			Since: start.Add(-time.Hour), Expires: start.Add(7 * time.Hour)}})
	}
	history.Add(Line{start.Add(-9 * time.Hour), &lease.Lease{Prefix: lease.Host(netip.MustParseAddr("10.77.0.23")), Status: lease.Active,
		Client: lease.ByHardware(1, "\x02\x00\x00\x00\x00\x63"), Hardware: "\x02\x00\x00\x00\x00\x63",
		Since: start.Add(-9 * time.Hour), Expires: start.Add(-time.Hour)}}) // left before
	stays := history.All()
	if len(stays) != 12 {
		t.Fatalf("%d are there at the beginning", len(stays))
	}
	for i := range 4 {
		stays = append(stays, stay(100+i, time.Minute, time.Hour))
	}
	out := Play(Input{Plan: mill(t, "10.77.0.8-10.77.0.23", 8*time.Hour), Stays: stays, From: start, To: start.Add(50 * time.Minute),
		Gone: &Gone{MCLT: time.Hour, Wait: time.Hour}})
	if out.Clients != 16 || out.RefusedCount != 2 || out.Uses[0].Peak < 14 {
		t.Errorf("%d clients, %d refused, peak %d", out.Clients, out.RefusedCount, out.Uses[0].Peak)
	}
}

func TestStaysOfHistory(t *testing.T) {
	s := NewStays(start, start.Add(24*time.Hour))
	l := func(n byte, status lease.Status, at, expires time.Duration) {
		hw := addr.Hardware([]byte{2, 0, 0, 0, 0, n})
		s.Add(Line{start.Add(at), &lease.Lease{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 77, 0, n}), 32), Status: status,
			Client: lease.ByHardware(1, hw), Hardware: hw, Since: start, Expires: start.Add(expires)}})
	}
	l(1, lease.Active, time.Hour, 2*time.Hour)      // comes
	l(2, lease.Active, time.Hour, 2*time.Hour)      // comes, and is never heard again
	l(1, lease.Active, 90*time.Minute, 3*time.Hour) // renews
	l(1, lease.Released, 2*time.Hour, 2*time.Hour)  // leaves
	l(1, lease.Active, 10*time.Hour, 11*time.Hour)  // comes again
	l(3, lease.Active, 23*time.Hour, 25*time.Hour)  // is there at the end
	all := s.All()
	if len(all) != 4 {
		t.Fatalf("%d stays: %+v", len(all), all)
	}
	for _, x := range all {
		span := x.End.Sub(x.Begin)
		switch {
		case x.Released && span != 2*time.Hour: // it held the address since the start
			t.Errorf("%+v lasts %s", x, span)
		case x.Hardware[5] == 3 && x.End <= start.Add(24*time.Hour):
			t.Errorf("%+v ends before the end", x)
		case x.Hardware[5] == 2 && (span < time.Hour || span > 2*time.Hour):
			t.Errorf("%+v lasts %s", x, span)
		}
	}
}

// A week of 10,000 clients.
func BenchmarkWeek(b *testing.B) {
	p := mill(b, "10.77.8.0-10.77.60.0", 8*time.Hour)
	var stays []Stay
	for day := range 7 {
		for i := range 10_000 {
			stays = append(stays, stay(i, time.Duration(day)*24*time.Hour+8*time.Hour+time.Duration(i%3600)*time.Second, 9*time.Hour))
		}
	}
	for b.Loop() {
		out := Play(Input{Plan: p, Stays: stays, From: start, To: start.Add(7 * 24 * time.Hour)})
		if out.Never != 0 {
			b.Fatal(fmt.Sprint(out.Never, " clients were never served"))
		}
		b.ReportMetric(float64(out.Decisions), "decisions")
	}
}

// yard is a plan with a /64, and 16 prefixes for routers.
func yard(t *testing.T, prefixes string) *plan.Plan {
	t.Helper()
	d := plan.New().Draft()
	subnet := netip.MustParsePrefix("2001:db8:77:1::/64")
	s := plan.Scope{Name: "yard6", Subnet: subnet, Mode: plan.Serving, Pools: []addr.Range{addr.OfPrefix(subnet)},
		PrefixPools: []plan.PrefixPool{{Prefix: netip.MustParsePrefix(prefixes), Length: 56}},
		Settings:    plan.Settings{Lease: plan.Duration(time.Hour)}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	return p
}

// Hosts and routers of IPv6 are played, too: addresses never run out, prefixes do, and a wider pool of
// them serves everybody. Of a server that died, half of what is free is out of reach.
func TestPrefixesRunOut(t *testing.T) {
	var stays []Stay
	for n := range 20 {
		of := lease.Client{Kind: lease.Addresses, Number: 1, ID: fmt.Sprintf("\x00\x03\x00\x01router%02d", n)}
		at := start.Add(time.Duration(n) * time.Minute)
		stays = append(stays, Stay{Client: of, Key: netip.MustParsePrefix("2001:db8:77:1::5/128"), Begin: at,
			End: start.Add(20 * time.Hour)})
		of.Kind = lease.Prefixes
		stays = append(stays, Stay{Client: of, Key: netip.MustParsePrefix("2001:db8:77:8000::/56"),
			Relay: netip.MustParseAddr("2001:db8:77:1::1"),
			Begin: at, End: start.Add(20 * time.Hour)})
	}
	play := func(prefixes string, gone *Gone) Output {
		return Play(Input{Plan: yard(t, prefixes), Stays: stays, From: start, To: start.Add(5 * time.Hour), Gone: gone})
	}
	use := func(o Output) (addresses, prefixes Use) {
		for _, u := range o.Uses {
			if u.Delegated {
				prefixes = u
			} else {
				addresses = u
			}
		}
		return addresses, prefixes
	}
	narrow := play("2001:db8:77:8000::/52", nil)
	a, p := use(narrow)
	if a.Peak != 20 || a.FullAt != 0 || p.Size != 16 || p.Peak != 16 || p.FullAt == 0 || narrow.Never != 4 || narrow.Renewals == 0 {
		t.Errorf("of 20 routers with 16 prefixes: %+v, %+v, %d never", a, p, narrow.Never)
	}
	if wide := play("2001:db8:77:8000::/51", nil); wide.RefusedCount != 0 {
		t.Errorf("with 32 prefixes %d are refused", wide.RefusedCount)
	}
	if alone := play("2001:db8:77:8000::/52", &Gone{MCLT: time.Hour, Wait: 10 * time.Hour}); alone.Never != 12 {
		t.Errorf("with one server %d of 20 routers go without", alone.Never)
	}
	if early := allThere(t, stays); early.Clients != 40 {
		t.Errorf("%d of 40 were there before", early.Clients)
	}
}

// allThere plays a span at whose beginning all are there.
func allThere(t *testing.T, stays []Stay) Output {
	t.Helper()
	for i := range stays {
		if stays[i].Client.Kind == lease.Prefixes {
			stays[i].Key = netip.MustParsePrefix(fmt.Sprintf("2001:db8:77:80%02x::/56", i/2))
		} else {
			stays[i].Key = netip.MustParsePrefix(fmt.Sprintf("2001:db8:77:1::%x/128", 16+i))
		}
	}
	o := Play(Input{Plan: yard(t, "2001:db8:77:8000::/51"), Stays: stays, From: start.Add(time.Hour), To: start.Add(3 * time.Hour)})
	if o.RefusedCount != 0 {
		t.Errorf("of those that were there %d are refused", o.RefusedCount)
	}
	return o
}
