// Package ilist has intrusive doubly linked lists of values that lie elsewhere, by slot: each
// value has room for its links, so it can leave from anywhere at once, and nothing is copied,
// searched or tidied. A value stands in one list at most.
package ilist

// Link is what stands before and behind a slot in its list, as slots + 1. Values have room for
// one.
type Link struct{ before, behind int32 }

// Links gives where the link of a slot lies.
type Links interface{ Link(slot int) *Link }

// List is a list of slots. The zero value is empty.
type List struct{ first, last int32 } // slots + 1; 0 for none

// First is the first slot, or -1.
func (l *List) First() int { return int(l.first) - 1 }

// Behind is the slot behind another in its list, or -1.
func Behind[L Links](of L, slot int) int { return int(of.Link(slot).behind) - 1 }

// Holds reports whether a slot stands in this list, or in another one of which it is not the
// only slot.
func (l *List) Holds(slot int, link *Link) bool { return *link != Link{} || int(l.first) == slot+1 }

// Push puts a slot that stands in no list behind all others.
func Push[L Links](of L, l *List, slot int) {
	n := int32(slot + 1)
	if of.Link(slot).before = l.last; l.last > 0 {
		of.Link(int(l.last - 1)).behind = n
	} else {
		l.first = n
	}
	l.last = n
}

// PushFront puts a slot that stands in no list before all others.
func PushFront[L Links](of L, l *List, slot int) {
	n := int32(slot + 1)
	if of.Link(slot).behind = l.first; l.first > 0 {
		of.Link(int(l.first - 1)).before = n
	} else {
		l.last = n
	}
	l.first = n
}

// Remove takes a slot out of the list that it stands in, which is one of some, or of none.
func Remove[L Links](of L, slot int, some ...*List) {
	link := of.Link(slot)
	n := int32(slot + 1)
	for _, l := range some {
		if l.first == n {
			l.first = link.behind
		}
		if l.last == n {
			l.last = link.before
		}
	}
	if link.before > 0 {
		of.Link(int(link.before - 1)).behind = link.behind
	}
	if link.behind > 0 {
		of.Link(int(link.behind - 1)).before = link.before
	}
	*link = Link{}
}
