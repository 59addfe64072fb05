package hashindex

import (
	"math/rand/v2"
	"testing"
)

// The index does what a map does, with hashes that collide much.
func TestIndex(t *testing.T) {
	for seed := range uint64(20) {
		random := rand.New(rand.NewPCG(seed, 1))
		keys := make([]int, 300) // key of each slot; many slots, distinct keys
		for i := range keys {
			keys[i] = i
		}
		hash := func(slot int) uint32 { return uint32(keys[slot] % 17) }
		var x Index
		in := map[int]bool{}
		for step := range 4000 {
			slot := random.IntN(len(keys))
			switch {
			case in[slot]:
				x.Drop(hash(slot), slot)
				delete(in, slot)
			default:
				x.Add(hash(slot), slot)
				in[slot] = true
			}
			other := random.IntN(len(keys))
			want := -1
			if in[other] {
				want = other
			}
			if got := x.Find(hash(other), func(i int) bool { return keys[i] == keys[other] }); got != want || x.Size() != len(in) {
				t.Fatalf("seed %d, step %d: slot %d is found as %d; %d entries, want %d", seed, step, other, got, x.Size(), len(in))
			}
		}
		x.Drop(3, 1000) // what is not there
		for slot := range in {
			x.Drop(hash(slot), slot)
		}
		for _, c := range x.small.cells {
			if c != 0 {
				t.Fatalf("seed %d: cells are left", seed)
			}
		}
	}
}

// A large index is many small ones, and finds the same.
func TestIndexGrows(t *testing.T) {
	var x Index
	const many = 3 * smallMost
	hash := func(slot int) uint32 { return uint32(slot) * 0x9e3779b1 }
	for slot := range many {
		x.Add(hash(slot), slot)
	}
	if len(x.large) != indexParts || x.Size() != many {
		t.Fatalf("%d parts, %d slots", len(x.large), x.Size())
	}
	for slot := range many {
		if got := x.Find(hash(slot), func(i int) bool { return i == slot }); got != slot {
			t.Fatalf("slot %d is found as %d", slot, got)
		}
		if slot%2 == 0 {
			x.Drop(hash(slot), slot)
		}
	}
	if x.Size() != many/2 {
		t.Errorf("%d slots are left", x.Size())
	}
}

// BenchmarkFind finds one of a million.
func BenchmarkFind(b *testing.B) {
	var x Index
	hash := func(slot int) uint32 { return uint32(slot) * 0x9e3779b1 }
	for slot := range 1_000_000 {
		x.Add(hash(slot), slot)
	}
	for i := 0; b.Loop(); i++ {
		slot := i * 7919 % 1_000_000
		if x.Find(hash(slot), func(i int) bool { return i == slot }) != slot {
			b.Fatal("not found")
		}
	}
}
