package lease

import (
	"hash/maphash"
	"net/netip"
)

// index finds a slot by what its lease says: by address, or by client. It keeps
// numbers of slots alone, four octets each, in open addressing with linear
// probing: nothing for the collector to follow, and the key is stored once, in
// the lease. A slot's lease must not change its key while the slot is in the index.
type index struct {
	cells []int32 // number of the slot plus one; 0 is empty
	n     int
}

var seed = maphash.MakeSeed()

func hashAddr(a netip.Addr) uint64 {
	b := a.As16()
	return maphash.Bytes(seed, b[:])
}

func hashClient(c Client) uint64 { return maphash.String(seed, string(c)) }

// find is the slot for a hash that fits, or -1.
func (x *index) find(hash uint64, fits func(slot int) bool) int {
	if x.n == 0 {
		return -1
	}
	mask := uint64(len(x.cells) - 1)
	for i := hash & mask; x.cells[i] != 0; i = (i + 1) & mask {
		if slot := int(x.cells[i]) - 1; fits(slot) {
			return slot
		}
	}
	return -1
}

// add puts in a slot that is not there; rehash tells the hash of one that is.
func (x *index) add(hash uint64, slot int, rehash func(slot int) uint64) {
	if 4*(x.n+1) > 3*len(x.cells) {
		old := x.cells
		x.cells = make([]int32, max(8, 2*len(old)))
		for _, c := range old {
			if c != 0 {
				x.place(rehash(int(c)-1), c)
			}
		}
	}
	x.place(hash, int32(slot)+1)
	x.n++
}

func (x *index) place(hash uint64, cell int32) {
	mask := uint64(len(x.cells) - 1)
	i := hash & mask
	for x.cells[i] != 0 {
		i = (i + 1) & mask
	}
	x.cells[i] = cell
}

// drop takes a slot out, and moves up what stood behind it.
func (x *index) drop(hash uint64, slot int, rehash func(slot int) uint64) {
	if x.n == 0 {
		return
	}
	mask := uint64(len(x.cells) - 1)
	i := hash & mask
	for x.cells[i] != int32(slot)+1 {
		if x.cells[i] == 0 {
			return
		}
		i = (i + 1) & mask
	}
	x.n--
	for hole := i; ; {
		i = (i + 1) & mask
		if x.cells[i] == 0 {
			x.cells[hole] = 0
			return
		}
		home := rehash(int(x.cells[i])-1) & mask
		if (i-home)&mask >= (i-hole)&mask { // the hole lies between its home and where it stands
			x.cells[hole] = x.cells[i]
			hole = i
		}
	}
}
