package lease

import (
	"bytes"

	"yarnpost/core/lease/internal/chunk"
	"yarnpost/core/lease/internal/hashindex"
	"yarnpost/core/lease/internal/intern"
	"yarnpost/core/lease/internal/slab"
)

// bindings are records, found by their key and by their client. A record keeps
// its slot until it is dropped. Leases go in and come out as values: what is asked for is put
// together from the record, and never changes afterwards.
type bindings struct {
	slots   chunk.List[record]
	octets  slab.Slab       // their texts
	shared  *intern.Texts   // texts of many
	keys    hashindex.Index // slots by key
	clients hashindex.Index // slots by client: all that are live, or else the last
	last    *Lease          // what was put together last, or nil: most that happens asks for one lease several times
	lastAt  int             // its slot
	room    Lease           // of peek
	vacant  uint32          // the slot that was left last, plus one; its text is the one before
}

// at is the record in a slot.
func (b *bindings) at(slot int) *record { return b.slots.At(slot) }

// slot is where the record of a key is, or -1.
func (b *bindings) slot(k key) int {
	return b.keys.Find(hashKey(k), func(i int) bool { return b.at(i).key == k })
}

// text is that of a record.
func (b *bindings) text(r *record) []byte {
	return b.octets.At(r.text)[:int(r.cells)*slab.CellSize]
}

// get is the lease in a slot, nil for -1.
func (b *bindings) get(slot int) *Lease {
	switch {
	case slot < 0:
		return nil
	case b.last == nil || b.lastAt != slot:
		r := b.at(slot)
		b.last, b.lastAt = new(Lease), slot
		r.full(b.last, string(b.text(r)), b.shared.List())
	}
	return b.last
}

// peek is the lease in a slot, nil for -1: good until the next peek.
func (b *bindings) peek(slot int) *Lease {
	switch {
	case slot < 0:
		return nil
	case b.last != nil && b.lastAt == slot:
		return b.last
	}
	r := b.at(slot)
	r.full(&b.room, string(b.text(r)), b.shared.List())
	return &b.room
}

// isOf reports whether the record in a slot is of a client.
func (b *bindings) isOf(slot int, c Client) bool {
	r := b.at(slot)
	if r.kind != c.Kind || r.number != c.Number {
		return false
	}
	text := b.text(r)
	return string(cut(&text)) == c.ID
}

// of yields the slots of a client: of all its live bindings, or else the one it
// had last. What is yielded may be dropped.
func (b *bindings) of(c Client, yield func(slot int) bool) {
	b.clients.Each(hashClient(c), func(i int) bool { return !b.isOf(i, c) || yield(i) })
}

// former is the slot of what a client has, or had last, or -1.
func (b *bindings) former(c Client) int {
	best, found := Lease{}, -1
	b.of(c, func(i int) bool {
		if l := b.at(i).brief(); found < 0 || l.before(&best) {
			best, found = l, i
		}
		return true
	})
	return found
}

// put stores a record in the slot of its key, -1 for none yet, in place of an old
// lease. It gives the slot.
func (b *bindings) put(slot int, l, old *Lease) int {
	var room [512]byte
	r, text := recordOf(l, b.shared, room[:])
	if slot < 0 {
		r.text = b.octets.Add(text)
		if slot = int(b.vacant) - 1; slot >= 0 {
			b.vacant = b.at(slot).text
			*b.at(slot) = r
		} else {
			slot = b.slots.Size()
			b.slots.Add(r)
		}
		b.keys.Add(hashKey(r.key), slot)
	} else {
		if old.Client.Known() {
			b.clients.Drop(hashClient(old.Client), slot)
		}
		was := b.at(slot)
		if r.text = was.text; was.cells != r.cells {
			b.octets.Drop(was.text, int(was.cells))
			r.text = b.octets.Add(text)
		} else if had := b.text(was); !bytes.Equal(had[:len(text)], text) {
			clear(had[copy(had, text):])
		}
		r.due, r.link = was.due, was.link
		*was = r
		if slot == b.lastAt {
			b.last = nil
		}
	}
	if l.Client.Known() && l.Status != Abandoned && b.counts(l) {
		b.clients.Add(hashClient(l.Client), slot)
	}
	return slot
}

// drop leaves a slot, given what is in it: others may have it then.
func (b *bindings) drop(slot int, old *Lease) {
	r := b.at(slot)
	if old.Client.Known() {
		b.clients.Drop(hashClient(old.Client), slot)
	}
	b.keys.Drop(hashKey(r.key), slot)
	b.octets.Drop(r.text, int(r.cells))
	*r = record{text: b.vacant}
	b.vacant = uint32(slot + 1)
	if slot == b.lastAt {
		b.last = nil
	}
}

// counts reports whether a record is to be found by its client, and drops those
// that are not any more because of it: of what ended, only the last is, and only
// while nothing is live.
func (b *bindings) counts(l *Lease) bool {
	var room [4]int
	gone, counts := room[:0], true
	b.of(l.Client, func(i int) bool {
		switch o := b.at(i).brief(); {
		case o.live():
			counts = counts && l.live()
		case l.before(&o):
			gone = append(gone, i)
		default:
			counts = false
		}
		return true
	})
	if counts {
		for _, i := range gone {
			b.clients.Drop(hashClient(l.Client), i)
		}
	}
	return counts
}
