package lease

import "encoding/binary"

// arena is room for the texts of leases, in cells of eight octets. Whatever is
// given back is used again for what needs as many cells; nothing is ever moved,
// and there is nothing in it for the collector of garbage to follow.
type arena struct {
	blocks [][]byte
	free   []uint32 // by cells: the last that was given back, plus one; it begins with the one before
}

const (
	cellSize   = 8
	arenaCells = 1 << 13 // in a block; a text that needs more has a block for itself
)

// cells is how many cells a text needs.
func cells(text []byte) int { return (len(text) + cellSize - 1) / cellSize }

// at is what lies at a place, and behind it.
func (a *arena) at(place uint32) []byte {
	return a.blocks[place/arenaCells][place%arenaCells*cellSize:]
}

// add copies a text, which is not empty, and gives its place.
func (a *arena) add(text []byte) (place uint32) {
	n := cells(text)
	if n < len(a.free) && a.free[n] != 0 {
		place = a.free[n] - 1
		b := a.at(place)[:n*cellSize]
		a.free[n] = binary.NativeEndian.Uint32(b)
		clear(b[copy(b, text):])
		return place
	}
	last := len(a.blocks) - 1
	if last < 0 || len(a.blocks[last])+n*cellSize > arenaCells*cellSize {
		a.blocks = append(a.blocks, nil)
		last++
	}
	b := a.blocks[last]
	place = uint32(last*arenaCells + len(b)/cellSize)
	var none [cellSize]byte
	a.blocks[last] = append(append(b, text...), none[:n*cellSize-len(text)]...)
	return place
}

// drop gives the cells at a place back.
func (a *arena) drop(place uint32, n int) {
	for n >= len(a.free) {
		a.free = append(a.free, 0)
	}
	binary.NativeEndian.PutUint32(a.at(place), a.free[n])
	a.free[n] = place + 1
}
