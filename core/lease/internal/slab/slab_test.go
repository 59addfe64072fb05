package slab

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// Room that is given back is used again, so texts that change all the time take no
// more of it.
func TestSlab(t *testing.T) {
	var a Slab
	r := rand.New(rand.NewPCG(6, 6))
	type piece struct {
		place uint32
		text  string
	}
	var in []piece
	add := func(n int) {
		text := strings.Repeat(string(rune('a'+r.IntN(26))), n)
		in = append(in, piece{a.Add([]byte(text)), text})
	}
	room := func() (n int) {
		for _, b := range a.blocks {
			n += len(b)
		}
		return n
	}
	for range 5000 {
		add(1 + r.IntN(100))
	}
	add(3 * blockCells * CellSize)
	add(9)
	before := room()
	for range 50_000 {
		i := r.IntN(len(in))
		a.Drop(in[i].place, Cells([]byte(in[i].text)))
		n := len(in[i].text)
		in[i] = in[len(in)-1]
		in = in[:len(in)-1]
		add(n)
	}
	for _, p := range in {
		if got := string(a.At(p.place)[:len(p.text)]); got != p.text {
			t.Fatalf("%q is there as %q", p.text, got)
		}
	}
	if room() != before {
		t.Errorf("%d octets, and %d after much coming and going", before, room())
	}
}

// BenchmarkTurn gives room back and takes some again, among a hundred thousand texts.
func BenchmarkTurn(b *testing.B) {
	var s Slab
	text := []byte("loom-0000000.mill")
	var places []uint32
	for range 100_000 {
		places = append(places, s.Add(text))
	}
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		p := &places[i%len(places)]
		s.Drop(*p, Cells(text))
		*p = s.Add(text)
	}
}
