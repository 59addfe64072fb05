package lease

import "net/netip"

// bindings are records, found by their key and by their client. A record keeps
// its slot for good; what a slot holds is replaced, never changed.
type bindings struct {
	slots   []*Lease
	keys    index  // slots by key
	clients index  // slots by client: all that are live, or else the last
	dues    []Time // when each slot's entry among what is due stands; 0 for none
	links   []link // where each slot stands among what can be given again
}

// slot is where the record of a key is, or -1.
func (b *bindings) slot(k netip.Prefix) int {
	return b.keys.find(hashKey(k), func(i int) bool { return b.slots[i].Prefix == k })
}

// get is the record of a key, or nil.
func (b *bindings) get(k netip.Prefix) *Lease {
	if i := b.slot(k); i >= 0 {
		return b.slots[i]
	}
	return nil
}

// of yields the slots of a client: of all its live bindings, or else the one it
// had last. What is yielded may be dropped.
func (b *bindings) of(c Client, yield func(slot int) bool) {
	b.clients.each(hashClient(c), func(i int) bool { return b.slots[i].Client != c || yield(i) })
}

// former is what a client has, or had last, or nil.
func (b *bindings) former(c Client) (best *Lease) {
	b.of(c, func(i int) bool {
		if l := b.slots[i]; best == nil || l.before(best) {
			best = l
		}
		return true
	})
	return best
}

// put stores a record in the slot of its key, -1 for none yet. It gives the slot, and
// what was there, or nil.
func (b *bindings) put(at int, l *Lease) (slot int, old *Lease) {
	if slot = at; slot < 0 {
		slot = len(b.slots)
		b.slots, b.dues, b.links = append(b.slots, l), append(b.dues, 0), append(b.links, link{})
		b.keys.add(hashKey(l.Prefix), slot)
	} else {
		old = b.slots[slot]
		if old.Client.Known() {
			b.clients.drop(hashClient(old.Client), slot)
		}
		b.slots[slot] = l
	}
	if l.Client.Known() && l.Status != Abandoned && b.counts(l) {
		b.clients.add(hashClient(l.Client), slot)
	}
	return slot, old
}

// counts reports whether a record is to be found by its client, and drops those
// that are not any more because of it: of what ended, only the last is, and only
// while nothing is live.
func (b *bindings) counts(l *Lease) bool {
	var room [4]int
	gone, counts := room[:0], true
	b.of(l.Client, func(i int) bool {
		switch o := b.slots[i]; {
		case o.live():
			counts = counts && l.live()
		case l.before(o):
			gone = append(gone, i)
		default:
			counts = false
		}
		return true
	})
	if counts {
		for _, i := range gone {
			b.clients.drop(hashClient(l.Client), i)
		}
	}
	return counts
}
