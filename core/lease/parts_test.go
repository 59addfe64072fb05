package lease

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// twoPools is a table over one scope with an open pool and one that a rule keeps.
func twoPools(t *testing.T) (*Table, plan.ID, addr.Range, addr.Range) {
	t.Helper()
	open, _ := addr.ParseRange("10.77.0.10-10.77.0.12")
	kept, _ := addr.ParseRange("10.77.0.20-10.77.0.22")
	d := plan.New().Draft()
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Pools: []addr.Range{open, kept}, Mode: plan.Serving}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutScope(s)
	if err == nil {
		_, err = d.PutRule(plan.Rule{Name: "staff", Scope: id, When: "true", Pool: kept})
	}
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	return New(p, 1000), id, open, kept
}

func lasts(list []netip.Addr) string {
	var out []string
	for _, a := range list {
		out = append(out, strings.TrimPrefix(a.String(), "10.77.0."))
	}
	return strings.Join(out, " ")
}

// Each pool has its own order; what comes next is listed without giving it.
func TestUpcoming(t *testing.T) {
	table, id, open, kept := twoPools(t)
	always := func(netip.Addr) bool { return true }
	if got := lasts(table.Upcoming(id, 2)); got != "10 11 20 21" {
		t.Errorf("upcoming %s", got)
	}
	take := func(a string, client Client) {
		table.Put(&Lease{Prefix: Host(netip.MustParseAddr(a)), Status: Active, Client: client, Expires: 5000, Changed: 1000})
	}
	pick := func(pool addr.Range) string {
		a, ok := table.pickAddr(table.plan.Scope(id), pool, always)
		if !ok {
			return "none"
		}
		return lasts([]netip.Addr{a})
	}
	if got := pick(addr.Range{}) + " " + pick(kept) + " " + pick(open); got != "10 20 10" {
		t.Errorf("picked %s", got)
	}
	for i, a := range []string{"10.77.0.10", "10.77.0.11", "10.77.0.12"} {
		take(a, named(fmt.Sprint(i)))
	}
	if got := pick(addr.Range{}) + " " + pick(kept); got != "none 20" {
		t.Errorf("with the open pool full: %s", got)
	}
	table.Put(table.At(netip.MustParseAddr("10.77.0.11")).Ended(Released, 2000))
	table.Put(table.At(netip.MustParseAddr("10.77.0.10")).Ended(Released, 3000))
	if got := pick(addr.Range{}); got != "11" {
		t.Errorf("the one free for longest is %s", got)
	}
	if got := lasts(table.Upcoming(id, 5)); got != "11 10 20 21 22" {
		t.Errorf("upcoming of both pools %s", got)
	}
	if n := table.Count(id).Headroom; n != 5 {
		t.Errorf("headroom %d", n)
	}
	if got := lasts(table.Upcoming(id+99, 5)); got != "" {
		t.Errorf("a scope that is not there has upcoming %s", got)
	}
}

// Addresses behind a port are counted through offers, leases, renewals, endings
// and a rebuilt scope.
func TestPorts(t *testing.T) {
	table, id, _, _ := twoPools(t)
	port := Port{netip.MustParseAddr("10.77.0.2"), "eth7"}
	expect := func(what string, want int) {
		t.Helper()
		if n := table.Behind(id, port); n != want {
			t.Errorf("%s: %d behind the port, want %d", what, n, want)
		}
	}
	a := netip.MustParseAddr("10.77.0.10")
	table.PutOffer(Offer{Prefix: Host(a), Client: named("x"), Until: 1030, Port: port})
	expect("an offer", 1)
	table.PutOffer(Offer{Prefix: Host(a), Client: named("x"), Until: 1040, Port: port})
	expect("offered again", 1)
	l := &Lease{Prefix: Host(a), Status: Active, Client: named("x"), Expires: 5000, Changed: 1000, Relay: port.Relay, Circuit: port.Circuit}
	table.Put(l)
	table.DropOffer(Host(a))
	expect("taken", 1)
	renewed := *l
	renewed.Expires = 9000
	table.Put(&renewed)
	expect("renewed", 1)
	reserved := renewed
	reserved.Prefix, reserved.Reserved, reserved.Client = Host(netip.MustParseAddr("10.77.0.11")), true, named("r")
	table.Put(&reserved)
	expect("a reserved address is not the port's", 1)
	table.PutOffer(Offer{Prefix: Host(netip.MustParseAddr("10.77.0.12")), Client: named("y"), Until: 1050, Port: port})
	d := table.Plan().Draft()
	s := table.Plan().Scope(id).Scope
	s.Note = "rebuilt"
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	table.SetPlan(d.Finish())
	expect("a rebuilt scope, with one offer that stands", 2)
	if _, stands := table.OfferOf(Host(a)); stands {
		t.Error("an offer that was taken stands again")
	}
	table.Lapse(2000)
	expect("the offer lapsed", 1)
	table.Put(renewed.Ended(Released, 2000))
	expect("released", 0)
	if len(table.shards[id].ports) != 0 {
		t.Errorf("ports that nobody is behind are kept: %v", table.shards[id].ports)
	}
}

func TestNewcomers(t *testing.T) {
	table, id, _, _ := twoPools(t)
	port := Port{netip.MustParseAddr("10.77.0.2"), "eth7"}
	for range 3 {
		table.Welcome(id, port, 1000)
	}
	table.Welcome(id, Port{}, 1010)
	if all, behind := table.Newcomers(id, port, 1019); all != 4 || behind != 3 {
		t.Errorf("%d newcomers, %d behind the port", all, behind)
	}
	if all, _ := table.Newcomers(id, port, 1020); all != 0 { // the next minute begins at 1020
		t.Errorf("%d newcomers in the next minute", all)
	}
	table.Welcome(id, port, 1025)
	if all, behind := table.Newcomers(id, port, 1026); all != 1 || behind != 1 {
		t.Errorf("then %d newcomers, %d behind the port", all, behind)
	}
	table.Welcome(id+99, port, 1025) // no such scope: nothing happens
}

// What a probe found is told from what a client declined, and a cleared address
// is as if nobody ever had it.
func TestFoundAddresses(t *testing.T) {
	table, id, _, _ := twoPools(t)
	a := netip.MustParseAddr("10.77.0.10")
	found := &Lease{Prefix: Host(a), Status: Abandoned, Hardware: "\x02\x00\x00\x00\x05\x05", Changed: 1000}
	table.Put(found)
	if !found.Found() || (&Lease{Status: Abandoned, Client: named("x")}).Found() || (&Lease{Status: Active}).Found() {
		t.Error("what was found is told wrongly")
	}
	if got := lasts(table.Upcoming(id, 9)); got != "11 12 20 21 22" {
		t.Errorf("upcoming with a squatter: %s", got)
	}
	table.Put(&Lease{Prefix: Host(a), Status: Free, Changed: 2000, Expires: 2000})
	if n := table.Count(id); n.Abandoned != 0 || n.Headroom != 6 {
		t.Errorf("after clearing: %+v", n)
	}
	if got := lasts(table.Upcoming(id, 9)); !strings.Contains(got, "10") {
		t.Errorf("the cleared address is not given again: %s", got)
	}
}
