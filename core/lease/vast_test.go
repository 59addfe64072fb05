package lease

import (
	"encoding/binary"
	"hash/maphash"
	"net/netip"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// hashed is a source of addresses for a pool that is too large to be walked: it takes them
// from the first range in an order that a key gives. It stands for what IPv6 brings.
type hashed struct {
	over []addr.Range
	seed maphash.Seed
	at   uint64
}

func (h *hashed) nth(n uint64) netip.Addr {
	b := h.over[0].From.As16()
	binary.BigEndian.PutUint64(b[8:], maphash.Comparable(h.seed, n))
	return netip.AddrFrom16(b)
}

func (h *hashed) each(j judge, most int, yield func(netip.Addr) bool) bool {
	for n := h.at; n <= h.at+uint64(most); n++ {
		if a := h.nth(n); j(a) && !yield(a) {
			return false
		}
	}
	return true
}

func (h *hashed) passed(netip.Addr) bool { return true } // what comes back is queued

func (h *hashed) advance(j judge, n int) int {
	for ; n > 0 && !j(h.nth(h.at)); n-- {
		h.at++
	}
	return n
}

func (h *hashed) reshaped(ranges []addr.Range) fresh { return &hashed{ranges, h.seed, 0} }
func (h *hashed) ranges() []addr.Range               { return h.over }
func (h *hashed) left() []addr.Range                 { return nil }

// A pool of 2^64 addresses fits behind the same interface as one of a dozen: it gives, takes
// back and counts without a walk, and what it has left is never a wrong number.
func TestVastPool(t *testing.T) {
	table := New(plan.New(), 1000)
	seed := maphash.MakeSeed()
	table.fresh = func(ranges []addr.Range) fresh { return &hashed{over: ranges, seed: seed} }
	whole := addr.OfPrefix(netip.MustParsePrefix("2001:db8:40::/64"))
	v := &plan.View{Scope: plan.Scope{ID: 7, Name: "vast", Subnet: netip.MustParsePrefix("2001:db8:40::/64"), Mode: plan.Serving,
		Pools: []addr.Range{whole}}, Ranges: []addr.Range{{}, whole}, Parts: []plan.Part{{Pool: whole, Ranges: []addr.Range{whole}}},
		Size: whole.Size()}
	s := table.newShard(table.plan, v)
	table.setShard(v.ID, v.Slot, s)
	if n := table.Count(v.ID); n.Headroom != ^uint64(0) {
		t.Fatalf("a vast pool counts %d", n.Headroom)
	}
	var held []*Lease
	seen := map[netip.Addr]bool{}
	for n := range 1000 {
		a, ok := table.Pick(v, addr.Range{}, func(netip.Addr) bool { return true })
		if !ok || !whole.Contains(a) || seen[a] {
			t.Fatalf("pick %d gives %s, %v", n, a, ok)
		}
		seen[a] = true
		l := &Lease{Prefix: Host(a), Status: Active, Client: ByIdentifier([]byte{0, byte(n >> 8), byte(n)}), Since: 1000, Changed: 1000,
			Expires: 2000}
		s.set(l)
		held = append(held, l)
	}
	if n := table.Count(v.ID); n.Active != 1000 || n.Headroom < 1<<63 || n.Headroom > ^uint64(0)-1000 {
		t.Errorf("with 1,000 leases it counts %+v", n)
	}
	s.set(held[0].Ended(Released, 1500)) // it may be given again, once nothing else is left
	if n := table.Count(v.ID); n.Active != 999 || n.Headroom < 1<<63 {
		t.Errorf("after one is given back it counts %+v", n)
	}
	if a, ok := table.Pick(v, addr.Range{}, func(a netip.Addr) bool { return a == held[0].Address() }); !ok || a != held[0].Address() {
		t.Errorf("what was given back is not to be had: %s, %v", a, ok)
	}
	if up := table.Upcoming(v.ID, 3); len(up) != 3 {
		t.Errorf("next are %v", up)
	}
}
