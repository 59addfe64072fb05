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
	"yarnpost/core/plan"
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
	Key     netip.Prefix // with Await: the record that is waited for; the zero prefix: all so far
	Scope   plan.ID
	Port    lease.Port // where the client is plugged in
	Client  lease.Client
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

// World is what a list is carried out in: the service, or a simulation of it. Its methods are
// called in the order of the list.
type World interface {
	Forget(key netip.Prefix)
	Offer(*lease.Offer)
	Welcome(scope plan.ID, at lease.Port)
	Blame(scope plan.ID, c lease.Client, at lease.Port)
	Remember(lease.Change)
	// Record takes changes that are recorded all together or not at all. If it reports
	// false, they cannot be recorded, and the rest of the list is dropped.
	Record([]lease.Change) bool
	// Save is Record for what a pair stands at.
	Save(body []byte) bool
	// Await has the rest of the list carried out once the record of a key is durable, or with
	// the zero prefix all that was recorded so far.
	// The memory of the rest may be used again as soon as it returns.
	Await(on netip.Prefix, rest List)
	// Commit is called where a list that recorded something ends without Await.
	Commit()
	Reply()
	Tell([]lease.Change)
	Enter()
	Send(body []byte)
}

// CarryOut does what is on the list, from the first to the last, up to Await.
func (l List) CarryOut(w World) {
	recorded := false
	for i := range l {
		switch f := &l[i]; f.Do {
		case Forget:
			w.Forget(f.Key)
		case Offer:
			w.Offer(f.Note)
		case Welcome:
			w.Welcome(f.Scope, f.Port)
		case Blame:
			w.Blame(f.Scope, f.Client, f.Port)
		case Remember:
			w.Remember(f.Changes[0])
		case Record:
			if !w.Record(f.Changes) {
				return
			}
			recorded = true
		case Save:
			if !w.Save(f.Body) {
				return
			}
			recorded = true
		case Await:
			w.Await(f.Key, l[i+1:])
			return
		case Reply:
			w.Reply()
		case Tell:
			w.Tell(f.Changes)
		case Enter:
			w.Enter()
		case Send:
			w.Send(f.Body)
		}
	}
	if recorded {
		w.Commit()
	}
}

// Bystander is a World in which nothing happens, for those that are interested in some of it.
type Bystander struct{}

func (Bystander) Forget(netip.Prefix)                     {}
func (Bystander) Offer(*lease.Offer)                      {}
func (Bystander) Welcome(plan.ID, lease.Port)             {}
func (Bystander) Blame(plan.ID, lease.Client, lease.Port) {}
func (Bystander) Remember(lease.Change)                   {}
func (Bystander) Record([]lease.Change) bool              { return true }
func (Bystander) Save([]byte) bool                        { return true }
func (Bystander) Await(netip.Prefix, List)                {}
func (Bystander) Commit()                                 {}
func (Bystander) Reply()                                  {}
func (Bystander) Tell([]lease.Change)                     {}
func (Bystander) Enter()                                  {}
func (Bystander) Send([]byte)                             {}
