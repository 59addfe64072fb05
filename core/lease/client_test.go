package lease

import (
	"net/netip"
	"testing"

	"yarnpost/core/addr"
)

// Keys of clients are on record as these octets, and come back.
func TestClientOnRecord(t *testing.T) {
	for _, c := range []struct {
		client Client
		octets string
	}{
		{Client{}, ""},
		{ByIdentifier([]byte("\x01loom")), "i\x01loom"},
		{ByHardware(1, "\x02\x00\x00\x00\x00\x01"), "h\x01\x02\x00\x00\x00\x00\x01"},
		{Client{Addresses, 0x01020304, "\x00\x03\x00\x01duid"}, "n\x01\x02\x03\x04\x00\x03\x00\x01duid"},
		{Client{Prefixes, 7, "\x00\x03\x00\x01duid"}, "p\x00\x00\x00\x07\x00\x03\x00\x01duid"},
	} {
		if got := string(c.client.Append(nil)); got != c.octets {
			t.Errorf("%+v is on record as %x, want %x", c.client, got, c.octets)
		}
		if back, err := ParseClient([]byte(c.octets)); err != nil || back != c.client {
			t.Errorf("%x comes back as %+v, %v", c.octets, back, err)
		}
	}
	for _, bad := range []string{"x", "h", "n123", "p"} {
		if c, err := ParseClient([]byte(bad)); err == nil {
			t.Errorf("%q is taken for %+v", bad, c)
		}
	}
	if ByHardware(1, "\x02") == ByHardware(6, "\x02") || (Client{Addresses, 1, "d"}) == (Client{Prefixes, 1, "d"}) {
		t.Error("clients of different kinds are the same")
	}
}

// A client is found by all that it holds, and once it holds nothing by what it
// had last; what it lost long ago does not pile up.
func TestSeveralBindings(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
	who := named("one")
	at := func(n byte) netip.Prefix { return Host(netip.AddrFrom4([4]byte{10, 77, 0, n})) }
	put := func(n byte, s Status, heard, until Time) *Lease {
		l := &Lease{Prefix: at(n), Status: s, Client: who, Heard: heard, Changed: heard, Expires: until}
		table.Put(l)
		return l
	}
	expect := func(what string, former byte, live ...byte) {
		t.Helper()
		if l := table.ByClient(table.plan.Scope(id), who); l == nil || l.Prefix != at(former) {
			t.Errorf("%s: it had %+v last, want .%d", what, l, former)
		}
		got := map[netip.Prefix]bool{}
		table.Bindings(table.plan.Scope(id), who, func(l *Lease) bool {
			got[l.Prefix] = true
			return true
		})
		for _, n := range live {
			if !got[at(n)] {
				t.Errorf("%s: it does not hold .%d", what, n)
			}
		}
		if len(got) != len(live) {
			t.Errorf("%s: it holds %v, want %v", what, got, live)
		}
	}
	one := put(10, Active, 1000, 5000)
	expect("one lease", 10, 10)
	two := put(11, Active, 1100, 5000)
	expect("two leases", 11, 10, 11)
	put(12, Released, 1200, 1200)
	expect("and one that ended", 11, 10, 11)
	table.Put(one.KeptUntil(1300, 4000))
	expect("the first is kept for it", 11, 10, 11)
	table.Put(two.Ended(Released, 1400))
	expect("the second ended", 10, 10)
	table.Put(one.Ended(Released, 1500))
	if l := table.ByClient(table.plan.Scope(id), who); l == nil || l.live() {
		t.Errorf("once all ended it had %+v last", l)
	}
	for n := byte(20); n < 60; n++ {
		table.Put(put(n, Active, 2000+Time(n), 9000).Ended(Released, 2000+Time(n)))
	}
	expect("many that ended", 59)
	found := 0
	table.shards[id].of(who, func(int) bool { found++; return true })
	if found != 1 {
		t.Errorf("%d records are found by a client that holds none", found)
	}
	other := &Lease{Prefix: at(59), Status: Active, Client: named("two"), Expires: 9000}
	table.Put(other)
	if l := table.ByClient(table.plan.Scope(id), who); l != nil && l.Prefix == at(59) {
		t.Error("it is found by what another client has")
	}
}

// A prefix is a key of its own, however its first address is bound.
func TestPrefixKeys(t *testing.T) {
	table, _ := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
	wide, host := netip.MustParsePrefix("2001:db8:40:100::/56"), Host(netip.MustParseAddr("2001:db8:40:100::"))
	for n, k := range []netip.Prefix{wide, host} {
		table.Put(&Lease{Prefix: k, Status: Active, Client: Client{Prefixes, uint32(n), "d"}, Expires: 2000 + Time(n),
			Hardware: addr.Hardware("")})
	}
	if *table.Get(wide) == *table.Get(host) || table.Get(wide).Client.Number != 0 || table.At(host.Addr()).Client.Number != 1 {
		t.Error("a prefix and its first address are one")
	}
	if list, _ := dueOf(table, 2000+Grace, 10); len(list) != 1 || list[0].Prefix != wide {
		t.Errorf("due is %+v", list)
	}
}

// A walk sees what was there once, whatever a change of the plan does meanwhile.
func TestSnapshotBesideChange(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
	for n := range 80 {
		table.Put(held(netip.AddrFrom4([4]byte{10, 77, 0, byte(10 + n)}).String(), n, 9000))
	}
	seen := map[netip.Prefix]int{}
	walk := table.Iterator(0)
	var part Part
	for n := 0; walk.Next(&part, 7); n++ {
		for l := range part.Leases {
			seen[l.Prefix]++
		}
		if n == 3 {
			poolTo(t, table, id, "10.77.0.50-10.77.0.120")
		}
	}
	for k, n := range seen {
		if n != 1 {
			t.Errorf("%s is seen %d times", k, n)
		}
	}
	if len(seen) != 80 {
		t.Errorf("%d leases are seen", len(seen))
	}
}

// The hash of a client is one of all its key: also of the upper octets of an IAID.
func TestClientsHashWholeKeys(t *testing.T) {
	seen := map[uint32]bool{}
	const many = 1 << 12
	for n := range uint32(many) {
		seen[hashClient(Client{Kind: Addresses, Number: n << 20, ID: "duid"})] = true
		seen[hashClient(Client{Kind: Prefixes, Number: n << 20, ID: "duid"})] = true
	}
	if len(seen) < 2*many-2 { // that two collide by chance among 2^32 is rare
		t.Errorf("%d hashes of %d clients", len(seen), 2*many)
	}
}
