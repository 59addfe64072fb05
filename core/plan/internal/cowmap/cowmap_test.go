package cowmap

import (
	"maps"
	"math/rand/v2"
	"testing"
)

// A map does what Go's does; what is written to a copy is not in the original, however many
// copies there are.
func TestCopies(t *testing.T) {
	for seed := range uint64(10) {
		random := rand.New(rand.NewPCG(seed, 1))
		m, want := new(Map[int, int]), map[int]int{}
		type copied struct {
			m    *Map[int, int]
			want map[int]int
		}
		var before []copied
		for range 2000 {
			switch k := random.IntN(600); random.IntN(20) {
			case 0:
				before = append(before, copied{m, maps.Clone(want)})
				m = m.Fork()
			case 1, 2, 3, 4:
				m.Remove(k)
				delete(want, k)
			default:
				v := random.Int()
				m.Set(k, v)
				want[k] = v
			}
		}
		for n, c := range append(before, copied{m, want}) {
			if got := maps.Collect(c.m.All()); !maps.Equal(got, c.want) {
				t.Fatalf("seed %d: copy %d has %d entries, want %d", seed, n, len(got), len(c.want))
			}
			for k := range 600 {
				v, ok := c.m.Get(k)
				if w, is := c.want[k]; v != w || ok != is {
					t.Fatalf("seed %d: copy %d has %d for %d, want %d", seed, n, v, k, w)
				}
			}
		}
	}
}

// BenchmarkWrite copies a map of a hundred thousand and writes to it.
func BenchmarkWrite(b *testing.B) {
	m := new(Map[int, int])
	for k := range 100_000 {
		m.Set(k, k)
	}
	b.ReportAllocs()
	for k := 0; b.Loop(); k++ {
		m = m.Fork()
		m.Set(k, k)
	}
}
