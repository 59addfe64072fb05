package lease

import (
	"fmt"
	"net/netip"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// workshop is a table with one IPv6 scope: a pool of the whole /64, and prefixes of /56 out of a
// /54, which are four.
func workshop(t testing.TB, side Side) (*Table, *plan.View) {
	t.Helper()
	d := plan.New().Draft()
	link, err := d.PutLink(plan.Link{Name: "workshop"})
	if err != nil {
		t.Fatal(err)
	}
	subnet := netip.MustParsePrefix("2001:db8:40:1::/64")
	s := plan.Scope{Name: "workshop", Link: link, Subnet: subnet, Mode: plan.Serving,
		Pools:       []addr.Range{addr.OfPrefix(subnet)},
		PrefixPools: []plan.PrefixPool{{Prefix: netip.MustParsePrefix("2001:db8:40:8000::/54"), Length: 56}}}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	table := New(p, 1000)
	table.ChooseBy("secret")
	table.Pair(side)
	return table, p.ScopeNamed("workshop")
}

func (t *Table) give(k netip.Prefix, who string) *Lease {
	l := &Lease{Prefix: k, Status: Active, Client: Client{Kind: Addresses, Number: 1, ID: who}, Since: 1000, Changed: 1000, Expires: 2000}
	if !k.IsSingleIP() {
		l.Client.Kind = Prefixes
	}
	t.Put(l)
	return l
}

func any6(netip.Prefix) bool { return true }

// A pool of 2^64 addresses gives, takes back and counts without a walk, and what it has left is
// never a wrong number. A client is chosen the same address each time, and nobody can tell
// which without the key.
func TestVastPool(t *testing.T) {
	table, v := workshop(t, Alone)
	if n := table.Count(v.ID); n.Headroom < 1<<63 {
		t.Fatalf("a vast pool counts %d", n.Headroom)
	}
	seen := map[netip.Prefix]bool{}
	var first *Lease
	for n := range 1000 {
		who := fmt.Sprint("client ", n)
		k, ok := table.Pick(v, Sought{Who: who}, any6)
		again, _ := table.Pick(v, Sought{Who: who}, any6)
		if !ok || !v.Subnet.Contains(k.Addr()) || !k.IsSingleIP() || seen[k] || again != k {
			t.Fatalf("pick %d gives %s, then %s, %v", n, k, again, ok)
		}
		seen[k] = true
		l := table.give(k, who)
		if first == nil {
			first = l
		}
	}
	if n := table.Count(v.ID); n.Active != 1000 || n.Headroom < 1<<63 || n.Headroom > ^uint64(0)-1000 {
		t.Errorf("with 1,000 leases it counts %+v", n)
	}
	if k, _ := table.Pick(v, Sought{Who: "client 0"}, any6); k == first.Prefix {
		t.Errorf("%s is given twice", k)
	}
	table.Put(first.Ended(Released, 1500))
	if n := table.Count(v.ID); n.Active != 999 || n.Headroom < 1<<63 {
		t.Errorf("after one is given back it counts %+v", n)
	}
	if up := table.Upcoming(v.ID, 3); len(up) != 0 {
		t.Errorf("next are %v, whoever asks", up)
	}
	other := New(table.plan, 1000)
	other.ChooseBy("another secret")
	if k, _ := other.Pick(v, Sought{Who: "client 0"}, any6); k == first.Prefix {
		t.Error("the choice does not depend on the key")
	}
	if k, ok := table.Pick(v, Sought{}, any6); ok && k != first.Prefix {
		t.Errorf("nobody is given %s", k)
	}
}

// Prefixes of a pool are counted by themselves, and found until the last is given.
func TestPrefixPool(t *testing.T) {
	table, v := workshop(t, Alone)
	if n := table.CountDelegated(v.ID); n.Headroom != 4 {
		t.Fatalf("a pool of four prefixes has %d", n.Headroom)
	}
	seen := map[netip.Prefix]bool{}
	var last *Lease
	for n := range 4 {
		who := fmt.Sprint("router ", n)
		k, ok := table.Pick(v, Sought{Who: who, Delegated: true, Length: 60}, any6)
		if !ok || k.Bits() != 56 || !v.PrefixPools[0].Prefix.Contains(k.Addr()) || seen[k] {
			t.Fatalf("prefix %d is %s, %v", n, k, ok)
		}
		seen[k] = true
		last = table.give(k, who)
	}
	if k, ok := table.Pick(v, Sought{Who: "router 5", Delegated: true}, any6); ok {
		t.Errorf("a fifth prefix is %s", k)
	}
	if n := table.CountDelegated(v.ID); n.Headroom != 0 || n.Active != 4 || table.Count(v.ID).Active != 0 {
		t.Errorf("counted are %+v prefixes and %+v addresses", n, table.Count(v.ID))
	}
	table.Put(last.Ended(Expired, 1500))
	if k, ok := table.Pick(v, Sought{Who: "router 5", Delegated: true}, any6); !ok || k != last.Prefix {
		t.Errorf("what was given back is not to be had: %s, %v", k, ok)
	}
	if l := table.Get(last.Prefix); l == nil || l.Block() {
		t.Errorf("a delegated prefix is on record as %+v", l)
	}
}

// Each server of a pair gives its half, which the lowest bit of a key tells.
func TestHalves(t *testing.T) {
	one, v := workshop(t, Primary)
	two, _ := workshop(t, Secondary)
	for n := range 50 {
		for _, delegated := range []bool{false, true} {
			of := Sought{Who: fmt.Sprint("client ", n), Delegated: delegated}
			a, okA := one.Pick(v, of, any6)
			b, okB := two.Pick(v, of, any6)
			if !okA || !okB || odds(a) || !odds(b) {
				t.Fatalf("the primary gives %s, %v, the secondary %s, %v", a, okA, b, okB)
			}
			if !one.Gives(a, nil) || one.Gives(b, nil) || !two.Gives(b, nil) {
				t.Fatalf("whose %s and %s are they do not agree about", a, b)
			}
		}
	}
	if n := one.CountDelegated(v.ID); n.Headroom != 2 || n.Partner != 2 {
		t.Errorf("of four prefixes it has %d, and the partner %d", n.Headroom, n.Partner)
	}
}
