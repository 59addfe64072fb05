package engine

import (
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
	"yarnpost/service/journal"
	"yarnpost/service/observe"
	"yarnpost/service/wire"
)

// carrier is the world in which a decision's effects are carried out. The caller holds the
// engine's lock.
type carrier struct {
	effect.Bystander // a decision says nothing of the pair but Tell, which waits
	e                *Engine
	req              *request.Request
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
	a := w.d.Of(o.Prefix)
	old, again := e.table.OfferOf(o.Prefix)
	if again && old.Client == o.Client && old.Until != o.Until {
		e.seen.Unserved.Note(w.of(a), reason.NotTaken, w.now)
	}
	e.table.PutOffer(*o)
	e.probes.Used(a.Scope.ID, o.Address(), w.now)
}

// of is what watchers are told of an answer.
func (w *carrier) of(a *answer.Answer) observe.Case {
	return observe.Case{Request: w.req, Decision: w.d, Answer: a}
}

// Welcome implements effect.World.
func (w *carrier) Welcome(scope plan.ID, at lease.Port) { w.e.table.Welcome(scope, at, w.now) }

// Blame implements effect.World.
func (w *carrier) Blame(scope plan.ID, c lease.Client, at lease.Port) {
	w.e.table.Declined(scope, c, at, w.now)
}

// Remember implements effect.World.
func (w *carrier) Remember(c lease.Change) { w.e.table.Put(c.After) }

// Record puts leases into the table and hands them to the recorder, with what is to be done
// then. If that takes nothing, it is as if nothing had been decided.
func (w *carrier) Record(changes []lease.Change) bool {
	e := w.e
	w.noteRest()
	with, set := e.newSet(w.req, w.d, w.now)
	entries := make([]journal.Entry, len(changes))
	for i, c := range changes {
		entries[i] = journal.Entry{Before: c.Before, After: c.After, Quiet: c.Quiet, Note: waiting{lease: c.After, quiet: c.Quiet}}
		if c.After == with {
			entries[i].Set = set
		}
	}
	first := w.waits
	first.lease, first.quiet = changes[0].After, changes[0].Quiet
	entries[0].Note = first
	if e.commit(entries...) {
		w.waits.kept = true
		return true
	}
	if with != nil {
		delete(e.sets.known, with.Given)
	}
	e.metrics.drop("overload")
	e.seen.Talk.Settle(w.waits.talk, observe.Dropped, e.clock.Now())
	for i := range w.d.Answers {
		e.seen.Unserved.Note(w.of(&w.d.Answers[i]), reason.Overload, w.now)
	}
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
func (w *carrier) Await(on netip.Prefix, _ effect.List) {
	if !w.waits.kept {
		w.noteRest()
		w.e.journal.Add(journal.Entry{Note: w.waits, On: on})
	}
}

// Reply implements effect.World.
func (w *carrier) Reply() {
	if w.d.Delay > 0 && w.d.First().Outcome == answer.Offered {
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
