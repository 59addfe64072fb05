package ilist

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// slots are values that have room for a link.
type slots []Link

func (s slots) Link(i int) *Link { return &s[i] }

// Two lists of the same values do what two slices do, whatever is put in and taken out.
func TestLists(t *testing.T) {
	for seed := range uint64(20) {
		random := rand.New(rand.NewPCG(seed, 1))
		of := make(slots, 40)
		var lists [2]List
		var want [2][]int
		for step := range 3000 {
			i := random.IntN(len(of))
			stands := slices.IndexFunc(want[:], func(l []int) bool { return slices.Contains(l, i) })
			n := random.IntN(2)
			switch {
			case stands >= 0:
				if !lists[stands].Holds(i, of.Link(i)) {
					t.Fatalf("seed %d, step %d: %d is not held", seed, step, i)
				}
				Remove(of, i, &lists[0], &lists[1])
				want[stands] = slices.DeleteFunc(want[stands], func(x int) bool { return x == i })
			case random.IntN(2) == 0:
				Push(of, &lists[n], i)
				want[n] = append(want[n], i)
			default:
				PushFront(of, &lists[n], i)
				want[n] = slices.Insert(want[n], 0, i)
			}
			for n := range lists {
				var got []int
				for at := lists[n].First(); at >= 0; at = Behind(of, at) {
					got = append(got, at)
				}
				if !slices.Equal(got, want[n]) {
					t.Fatalf("seed %d, step %d: list %d has %v, want %v", seed, step, n, got, want[n])
				}
			}
		}
		Remove(of, 0, &lists[0], &lists[1])
		Remove(of, 0, &lists[0], &lists[1]) // what stands in none
	}
}

// BenchmarkMove takes a slot out of the middle of a list of a million and puts it behind.
func BenchmarkMove(b *testing.B) {
	of := make(slots, 1_000_000)
	var l List
	for i := range of {
		Push(of, &l, i)
	}
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		slot := i * 7919 % len(of)
		Remove(of, slot, &l)
		Push(of, &l, slot)
	}
}
