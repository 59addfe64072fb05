package calendar

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// Whatever is put in comes out once, in the order of time and of being put in, however the
// clock goes on: by seconds, or by a long sleep.
func TestCalendar(t *testing.T) {
	type put struct{ at, number int64 }
	for seed := range uint64(30) {
		random := rand.New(rand.NewPCG(seed, 1))
		now := int64(1000)
		q := New[int64](now)
		var in []put
		number := int64(0)
		for range 300 {
			for range random.IntN(20) {
				number++
				at := now + 1 + random.Int64N(200)
				q.Add(at, number)
				in = append(in, put{at, number})
			}
			now += []int64{0, 1, 3, 500}[random.IntN(4)]
			slices.SortStableFunc(in, func(a, b put) int { return int(a.at - b.at) })
			for q.Late() || q.Sweep(now) {
				k, at := q.Next()
				if len(in) == 0 || in[0] != (put{at, k}) || at > now {
					t.Fatalf("seed %d at %d: number %d of %d comes, want %v", seed, now, k, at, in[:min(1, len(in))])
				}
				in = in[1:]
			}
			if len(in) > 0 && in[0].at <= now || q.Swept() != now {
				t.Fatalf("seed %d at %d: %v did not come; swept %d", seed, now, in[0], q.Swept())
			}
		}
	}
}

// BenchmarkRenewals puts a key an hour ahead and takes one out, as each renewal does, among
// a million.
func BenchmarkRenewals(b *testing.B) {
	q := New[[17]byte](0)
	for i := range int64(1_000_000) {
		q.Add(1+i%3600, [17]byte{})
	}
	b.ReportAllocs()
	now := int64(0)
	for b.Loop() {
		for !q.Late() && !q.Sweep(now) {
			now++
		}
		k, at := q.Next()
		q.Add(at+3600, k)
	}
}
