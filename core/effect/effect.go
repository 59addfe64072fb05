// Package effect says what a decision does to the world: a list, whose
// order is what makes it safe. The core says it, and whoever runs the core (the
// engine, a simulator) carries it out from the first to the last:
//
//   - what stands before Await is done at once, under the lock under which it was
//     decided;
//   - Await waits until all that was recorded so far is durable, by this list or
//     by another before it;
//   - what stands behind it is done then, or never: if the record fails, it is
//     undone, and the rest of the list is dropped.
//
// So "record, then reply" is not a habit of the service but what it was told; and
// so are, of a pair, "record, then tell the partner", "record, then acknowledge"
// and "record the state, then act on it".
package effect

import (
	"net/netip"
	"slices"

	"yarnpost/core/lease"
)

// Do says what is to be done.
type Do uint8

// What can be done. Changes are recorded all together or not at all.
const (
	Forget   Do = iota + 1 // the offer of Key
	Offer                  // note Note, in memory alone
	Welcome                // count a client that its scope never saw before
	Blame                  // count an address that the client declined
	Remember               // put Changes into the table, in memory alone
	Record                 // put Changes into the table, and on the way to the disk
	Await                  // until what was recorded is durable
	Reply                  // let the reply go
	Tell                   // the partner of a pair, of Changes
	Save                   // put Body on record as what a pair stands at
	Enter                  // the state of a pair that was saved
	Send                   // Body to the partner
)

func (d Do) String() string {
	return [...]string{"", "forget", "offer", "welcome", "blame", "remember", "record", "await", "reply", "tell", "save",
		"enter", "send"}[d]
}

// Effect is one thing to be done.
type Effect struct {
	Do      Do
	Key     netip.Prefix
	Note    *lease.Offer
	Changes []lease.Change
	Body    []byte
}

// List is what is to be done, in this order.
type List []Effect

// Has reports whether something is on the list.
func (l List) Has(d Do) bool {
	return slices.ContainsFunc(l, func(e Effect) bool { return e.Do == d })
}
