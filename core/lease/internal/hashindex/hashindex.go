// Package hashindex finds values, which lie elsewhere by slot, by a hash of whatever key they
// have: a hash table with open addressing and linear probing. It keeps numbers alone, half a
// hash and a slot, eight octets each. So there is nothing for the collector of garbage to
// follow, and a key is stored once, with its value. A large table is many small ones, chosen
// by the upper bits of the hash: each grows by itself, so none holds anybody up.
package hashindex

// Index finds slots by hash. The zero value is empty. It is not safe for use by several
// goroutines at a time.
type Index struct {
	small bucket
	large []bucket // indexParts of them, once there are many slots
}

// bucket is an index of some hashes.
type bucket struct {
	cells []cell
	n     int
}

// Sizes of an index.
const (
	indexParts = 256
	smallMost  = 8192 // slots in one bucket
)

func (x *Index) of(hash uint32) *bucket {
	if x.large != nil {
		return &x.large[hash>>24]
	}
	return &x.small
}

// Find is the slot with a hash that fits, or -1.
func (x *Index) Find(hash uint32, fits func(slot int) bool) int { return x.of(hash).find(hash, fits) }

// Each yields the slots with a hash until yield wants no more.
func (x *Index) Each(hash uint32, yield func(slot int) bool) {
	x.of(hash).find(hash, func(slot int) bool { return !yield(slot) })
}

// Add puts in a slot that is not there.
func (x *Index) Add(hash uint32, slot int) {
	if x.large == nil && x.small.n >= smallMost {
		x.large = make([]bucket, indexParts)
		for _, c := range x.small.cells {
			if c != 0 {
				x.large[c.hash()>>24].add(c.hash(), c.slot())
			}
		}
		x.small = bucket{}
	}
	x.of(hash).add(hash, slot)
}

// Drop takes a slot out, if it is there.
func (x *Index) Drop(hash uint32, slot int) { x.of(hash).drop(hash, slot) }

// cell is a hash in the upper half and the number of a slot plus one in the
// lower; 0 is empty.
type cell uint64

func cellOf(hash uint32, slot int) cell { return cell(hash)<<32 | cell(slot+1) }

func (c cell) hash() uint32 { return uint32(c >> 32) }
func (c cell) slot() int    { return int(uint32(c)) - 1 }

func (x *bucket) find(hash uint32, fits func(slot int) bool) int {
	if x.n == 0 {
		return -1
	}
	mask := uint32(len(x.cells) - 1)
	for i := hash & mask; x.cells[i] != 0; i = (i + 1) & mask {
		if c := x.cells[i]; c.hash() == hash && fits(c.slot()) {
			return c.slot()
		}
	}
	return -1
}

// likely is a slot with a hash, or the first of all: find, without a look at what
// a slot holds.
func (x *bucket) likely(hash uint32) int {
	return max(x.find(hash, func(int) bool { return true }), 0)
}

func (x *bucket) add(hash uint32, slot int) {
	if 4*(x.n+1) > 3*len(x.cells) {
		old := x.cells
		x.cells = make([]cell, max(8, 2*len(old)))
		for _, c := range old {
			if c != 0 {
				x.place(c)
			}
		}
	}
	x.place(cellOf(hash, slot))
	x.n++
}

func (x *bucket) place(c cell) {
	mask := uint32(len(x.cells) - 1)
	i := c.hash() & mask
	for x.cells[i] != 0 {
		i = (i + 1) & mask
	}
	x.cells[i] = c
}

// drop moves up what stood behind the slot that goes.
func (x *bucket) drop(hash uint32, slot int) {
	if x.n == 0 {
		return
	}
	mask := uint32(len(x.cells) - 1)
	i := hash & mask
	for x.cells[i] != cellOf(hash, slot) {
		if x.cells[i] == 0 {
			return
		}
		i = (i + 1) & mask
	}
	x.n--
	for hole := i; ; {
		i = (i + 1) & mask
		c := x.cells[i]
		if c == 0 {
			x.cells[hole] = 0
			return
		}
		if home := c.hash() & mask; (i-home)&mask >= (i-hole)&mask { // the hole lies between its home and where it stands
			x.cells[hole] = c
			hole = i
		}
	}
}

// Likely is a slot with a hash, or the first of all: Find, without a look at what a slot
// holds. It is for reading ahead.
func (x *Index) Likely(hash uint32) int { return x.of(hash).likely(hash) }

// Size counts the entries.
func (x *Index) Size() (n int) {
	n = x.small.n
	for i := range x.large {
		n += x.large[i].n
	}
	return n
}
