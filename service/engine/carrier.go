package engine

import (
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/reason"
	"yarnpost/service/journal"
	"yarnpost/service/observe"
	"yarnpost/service/wire"
)

// carrier is the world in which a decision's effects are carried out. The caller holds the
// engine's lock.
type carrier struct {
	effect.Bystander // a decision says nothing of the pair but Tell, which waits
	e                *Engine
	req              *answer.Request
	d                *answer.Decision
	reply            wire.Reply
	now              lease.Time
	waits            waiting // what is done once the record is durable
	send             bool    // the reply can leave at once
}

// Forget implements effect.World.
func (w *carrier) Forget(k netip.Prefix) { w.e.table.DropOffer(k) }

// Offer implements effect.World.
func (w *carrier) Offer(o *lease.Offer) {
	e := w.e
	old, again := e.table.OfferOf(o.Address())
	if again && old.Client == w.d.Client && old.Until != o.Until {
		e.seen.Unserved.Note(w.req, w.d, reason.NotTaken, w.now)
	}
	e.table.PutOffer(*o)
	e.probes.Used(w.d.Scope.ID, o.Address(), w.now)
}

// Welcome implements effect.World.
func (w *carrier) Welcome() { w.e.table.Welcome(w.d.Scope.ID, portOf(w.req), w.now) }

// Blame implements effect.World.
func (w *carrier) Blame() {
	at, _ := w.d.Lease().Port()
	w.e.table.Declined(w.d.Scope.ID, w.d.Client, at, w.now)
}

// Remember implements effect.World.
func (w *carrier) Remember(c lease.Change) { w.e.table.Put(c.After) }

// Record puts leases into the table and hands them to the recorder, with what is to be done
// then. If that takes nothing, it is as if nothing had been decided.
func (w *carrier) Record(changes []lease.Change) bool {
	e := w.e
	w.noteRest()
	set := e.newSet(w.req, w.d, changes[0].Before, w.now)
	entries := make([]journal.Entry, len(changes))
	for i, c := range changes {
		entries[i] = journal.Entry{Before: c.Before, After: c.After, Quiet: c.Quiet, Note: waiting{lease: c.After, quiet: c.Quiet}}
	}
	first := w.waits
	first.lease, first.quiet = changes[0].After, changes[0].Quiet
	entries[0].Set, entries[0].Note = set, first
	if e.commit(entries...) {
		w.waits.kept = true
		return true
	}
	if set != nil {
		delete(e.sets.known, w.d.Lease().Given)
	}
	e.metrics.drop("overload")
	e.seen.Talk.Settle(w.waits.talk, observe.Dropped, e.clock.Now())
	e.seen.Unserved.Note(w.req, w.d, reason.Overload, w.now)
	return false
}

// noteRest notes what stands behind Await: the reply, and what the partner is told.
func (w *carrier) noteRest() {
	behind := false
	for _, f := range w.d.Effects {
		behind = behind || f.Do == effect.Await
		switch {
		case behind && f.Do == effect.Reply:
			w.waits.reply, w.waits.at = w.reply, w.now
		case behind && f.Do == effect.Tell: // a decision's memory is used again
			w.waits.then = effect.List{{Do: effect.Tell, Changes: slices.Clone(f.Changes)}}
		}
	}
}

// Await implements effect.World: the recorder has the rest, or gets it to wait for what is
// on its way.
func (w *carrier) Await(effect.List) {
	if !w.waits.kept {
		w.noteRest()
		w.e.journal.Add(journal.Entry{Note: w.waits, On: lease.Host(w.d.Address)})
	}
}

// Reply implements effect.World.
func (w *carrier) Reply() {
	if w.d.Delay > 0 && w.d.Outcome == answer.Offered {
		w.e.later(w.reply, w.d.Delay)
		return
	}
	w.send = true
}

// later lets a reply go after a while.
func (e *Engine) later(reply wire.Reply, wait time.Duration) {
	time.AfterFunc(wait, func() {
		defer e.Guard("a delayed offer", nil)
		e.send([]wire.Reply{reply})
		e.seen.Talk.Settle(reply.Talk, observe.Sent, e.clock.Now())
	})
}

func portOf(req *answer.Request) lease.Port {
	return lease.Port{Relay: req.Message.GIAddr, Circuit: string(req.Relay.Circuit)}
}
