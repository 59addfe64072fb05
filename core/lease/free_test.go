package lease

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"runtime/metrics"
	"testing"

	"yarnpost/core/lease/internal/ilist"
)

// owned is a lease of the n-th of many clients.
func owned(a netip.Addr, n int, until Time) *Lease {
	return &Lease{Prefix: Host(a), Status: Active, Client: named(fmt.Sprint(n)), Expires: until, Changed: 1000}
}

// listsHold checks that every address with a record that can be given stands in a list of
// its pool, in one and once.
func listsHold(t *testing.T, table *Table) {
	t.Helper()
	for id, s := range table.shards {
		stands := map[int]bool{}
		for n := range s.pools {
			for _, l := range []ilist.List{s.pools[n].lapsed, s.pools[n].returned} {
				for at := l.First(); at >= 0; at = ilist.Behind(s, at) {
					if r := s.at(at); stands[at] || s.poolAt(r.key.address()) != &s.pools[n] {
						t.Fatalf("scope %d: %s stands twice, or in the wrong pool", id, r.key.prefix())
					}
					stands[at] = true
				}
			}
		}
		for i := range s.slots.Size() {
			if a := s.at(i).key.prefix(); s.gives(a) && s.standing(a) == ours && !stands[i] {
				t.Fatalf("scope %d: %s could be given and stands in no list", id, a)
			}
		}
	}
}

// What was offered in vain goes first, then what is free for longest; what was
// given meanwhile is not there, and what is on offer comes back.
func TestFreeLists(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.15")
	for n := range 6 {
		table.Put(held(fmt.Sprint("10.77.0.", 10+n), n, 9000))
	}
	end := func(a string, at Time) { table.Put(table.At(netip.MustParseAddr(a)).Ended(Expired, at)) }
	expect := func(when, want string) {
		t.Helper()
		listsHold(t, table)
		if got := lasts(table.Upcoming(id, 9)); got != want {
			t.Errorf("%s: %s, want %s", when, got, want)
		}
	}
	for at, a := range []string{"10.77.0.12", "10.77.0.10", "10.77.0.15", "10.77.0.11"} {
		end(a, Time(2000+at))
	}
	expect("four ended", "12 10 15 11")
	table.Put(held("10.77.0.10", 9, 9000))
	expect("one of the middle is given", "12 15 11")
	on := func(a string, n int) Offer {
		return Offer{Prefix: Host(netip.MustParseAddr(a)), Client: named(fmt.Sprint(n)), Until: 2030}
	}
	table.PutOffer(on("10.77.0.15", 20))
	table.PutOffer(on("10.77.0.11", 21))
	expect("two are on offer", "12")
	table.Lapse(2040)
	expect("in vain", "15 11 12")
	end("10.77.0.13", 2050)
	expect("one more ended", "15 11 12 13")
	table.Put(held("10.77.0.15", 5, 9000))
	end("10.77.0.15", 2060)
	expect("the first came, and went", "11 12 13 15")
}

// An address that was offered in vain is next, and nobody had it.
func TestNobodyHadIt(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.15")
	for n := range 3 {
		table.PutOffer(Offer{Prefix: Host(netip.MustParseAddr(fmt.Sprint("10.77.0.", 10+n))), Client: named(fmt.Sprint(n)), Until: 2030})
	}
	table.Put(held("10.77.0.13", 4, 9000))
	if got := lasts(table.Upcoming(id, 9)); got != "14 15" {
		t.Errorf("while three are on offer: %s", got)
	}
	table.Lapse(2040)
	if got := lasts(table.Upcoming(id, 9)); got != "14 15 10 11 12" {
		t.Errorf("after that: %s", got)
	}
	listsHold(t, table)
	for n := range 3 {
		if l := table.At(netip.MustParseAddr(fmt.Sprint("10.77.0.", 10+n))); l != nil {
			t.Errorf("a record of what nobody had: %+v", l)
		}
	}
	var part Part
	if table.Iterator(0).Next(&part, 100); part.Size() != 1 {
		t.Errorf("a walk sees %d records", part.Size())
	}
}

// Whatever happens to a lease, in a table of many, is done in steps that are small:
// none copies what there is of all the others. What a few steps allocate shows it.
func TestNoStepGrowsWithTheTable(t *testing.T) {
	const many, few = 1 << 18, 64
	const most = 4 << 20 // octets: maps and indexes grow by parts, some of which do at a time; all of one is more
	table, id := scoped(t, "10.0.0.0/8", "10.0.0.0-10.200.0.0")
	at := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)}) }
	sample := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}}
	allocated := func() uint64 {
		metrics.Read(sample)
		return sample[0].Value.Uint64()
	}
	each := func(what string, step func(n int)) {
		largest := uint64(0)
		for n := 0; n < many; n += few {
			before := allocated()
			for i := range few {
				step(n + i)
			}
			largest = max(largest, allocated()-before)
		}
		if t.Logf("%s: %d octets at most", what, largest); largest > most {
			t.Errorf("%s: %d steps take %d octets, more than %d", what, few, largest, most)
		}
	}
	leases := make([]*Lease, many)
	for n := range leases {
		leases[n] = owned(at(n), n, 3000)
	}
	each("they come", func(n int) { table.Put(leases[n]) })
	each("leases end", func(int) {
		list, _ := dueOf(table, 3000+Grace, 1)
		table.Put(list[0].Ended(Expired, list[0].Expires))
	})
	each("they come back", func(n int) { table.Put(leases[n]) })
	offer := func(n int) Offer {
		return Offer{Prefix: Host(at(many + n)), Client: leases[n].Client, Until: 3100 + Time(n)}
	}
	each("addresses are offered", func(n int) { table.PutOffer(offer(n)) })
	each("offers lapse", func(n int) { table.Lapse(3100 + Time(n)) })
	if n := table.Count(id); n.Active != many || n.Offered != 0 {
		t.Errorf("in the end %+v", n)
	}
	listsHold(t, table)
}

// However many addresses were given again since they became free, whoever comes
// next finds one that is free without looking at those.
func TestFreeIsFoundAtOnce(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/16", "10.77.0.0/16")
	r := rand.New(rand.NewPCG(3, 3))
	at := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{10, 77, byte(n >> 8), byte(n)}) }
	for n := range 1 << 16 {
		table.Put(owned(at(n), n, 9000))
	}
	for range 4 {
		for n := range 1 << 16 {
			table.Put(table.At(at(n)).Ended(Released, 2000))
		}
		for _, n := range r.Perm(1 << 16)[1:] {
			table.Put(owned(at(n), n, 9000))
		}
		asked := 0
		table.shards[id].free([]int{0}, "", skipMost, func(netip.Prefix) bool {
			asked++
			return false
		})
		if n := table.Count(id).Headroom; asked != 1 || n != 1 {
			t.Fatalf("asked of %d addresses, of %d that are free", asked, n)
		}
		s, n := table.shards[id], 0
		for at := s.pools[0].returned.First(); at >= 0; at = ilist.Behind(s, at) {
			n++
		}
		if n != 1 {
			t.Fatalf("%d addresses wait in a pool with one that is free", n)
		}
		for n := range 1 << 16 {
			table.Put(owned(at(n), n, 9000))
		}
	}
}
