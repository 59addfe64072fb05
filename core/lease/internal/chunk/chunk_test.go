package chunk

import "testing"

// Entries leave a queue in the order in which they came, across its blocks.
func TestQueue(t *testing.T) {
	var q Queue[int]
	in, out := 0, 0
	for round := range 5 {
		for range 700 + 300*round {
			q.Add(in)
			in++
		}
		for range 600 + 300*round {
			if n := q.First(); n == nil || *n != out {
				t.Fatalf("first is %v, want %d", n, out)
			}
			q.Drop()
			out++
		}
	}
	for ; out < in; out++ {
		q.Drop()
	}
	if q.First() != nil {
		t.Error("something is left in the end")
	}
	if q.Add(7); *q.First() != 7 {
		t.Error("an emptied queue takes nothing")
	}
}

// A list finds each value by its number, and walks from it to the end of its block.
func TestList(t *testing.T) {
	var l List[int]
	const many = 3*blockSize + 7
	for i := range many {
		l.Add(i)
	}
	if l.Size() != many || *l.At(blockSize) != blockSize || *l.At(many - 1) != many-1 {
		t.Errorf("%d values, %d, %d", l.Size(), *l.At(blockSize), *l.At(many - 1))
	}
	seen := 0
	for at := 0; at < many; {
		some := l.From(at, 100)
		if len(some) == 0 || len(some) > 100 || some[0] != at {
			t.Fatalf("from %d: %v", at, some)
		}
		at, seen = at+len(some), seen+len(some)
	}
	if seen != many {
		t.Errorf("%d of %d", seen, many)
	}
}

// BenchmarkQueue puts values in and takes them out, a thousand behind.
func BenchmarkQueue(b *testing.B) {
	var q Queue[[4]uint64]
	for range 1000 {
		q.Add([4]uint64{})
	}
	b.ReportAllocs()
	for b.Loop() {
		q.Add([4]uint64{})
		q.Drop()
	}
}
