// Package slab is room for many short texts, with size classes: cells of eight octets, and
// whatever is given back is used again for what needs as many cells. Nothing is ever moved,
// and there is nothing in it for the collector of garbage to follow.
package slab

import "encoding/binary"

// Slab is room for texts. The zero value is empty.
type Slab struct {
	blocks [][]byte
	free   []uint32 // by cells: the last that was given back, plus one; it begins with the one before
}

const (
	CellSize   = 8
	blockCells = 1 << 13 // in a block; a text that needs more has a block for itself
)

// Cells is how many cells a text needs.
func Cells(text []byte) int { return (len(text) + CellSize - 1) / CellSize }

// At is what lies at a place, and behind it.
func (a *Slab) At(place uint32) []byte {
	return a.blocks[place/blockCells][place%blockCells*CellSize:]
}

// Add copies a text, which is not empty, and gives its place.
func (a *Slab) Add(text []byte) (place uint32) {
	n := Cells(text)
	if n < len(a.free) && a.free[n] != 0 {
		place = a.free[n] - 1
		b := a.At(place)[:n*CellSize]
		a.free[n] = binary.NativeEndian.Uint32(b)
		clear(b[copy(b, text):])
		return place
	}
	last := len(a.blocks) - 1
	if last < 0 || len(a.blocks[last])+n*CellSize > blockCells*CellSize {
		a.blocks = append(a.blocks, nil)
		last++
	}
	b := a.blocks[last]
	place = uint32(last*blockCells + len(b)/CellSize)
	var none [CellSize]byte
	a.blocks[last] = append(append(b, text...), none[:n*CellSize-len(text)]...)
	return place
}

// Drop gives the cells at a place back.
func (a *Slab) Drop(place uint32, n int) {
	for n >= len(a.free) {
		a.free = append(a.free, 0)
	}
	binary.NativeEndian.PutUint32(a.At(place), a.free[n])
	a.free[n] = place + 1
}
