package main

import (
	"net/netip"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// carrier is the world in which effects are carried out on a server.
type carrier struct {
	effect.Bystander // who declines too much is not what is looked at
	s                *server
	e                entry
	reply            func()
}

// Forget implements effect.World.
func (w *carrier) Forget(k netip.Prefix) { w.s.table.DropOffer(k) }

// Offer implements effect.World.
func (w *carrier) Offer(o *lease.Offer) { w.s.table.PutOffer(*o) }

// Remember implements effect.World.
func (w *carrier) Remember(c lease.Change) { w.s.table.Put(c.After) }

// Record implements effect.World.
func (w *carrier) Record(changes []lease.Change) bool {
	s := w.s
	if s.broken {
		s.pair.Lost(changes)
		return false
	}
	for _, c := range changes {
		s.w.checkChange(s, c)
		s.w.checkBefore(s, c)
		s.w.watched(c.After.Address(), "%s: %s becomes %s", s.name, show(c.Before), show(c.After))
		s.table.Put(c.After)
		s.pending[c.After.Prefix]++
		if c.After.Kept() {
			s.probeSoon(c.After.Address())
		}
	}
	w.e.changes = append(w.e.changes, changes...)
	return true
}

// Save implements effect.World.
func (w *carrier) Save(body []byte) bool {
	if w.s.broken {
		w.s.pair.Failed()
		return false
	}
	w.e.body, w.e.undone = body, w.s.pair.Failed
	return true
}

// Welcome implements effect.World.
func (w *carrier) Welcome(scope plan.ID, _ lease.Port) {
	w.s.table.Welcome(scope, lease.Port{}, w.s.clock())
}

// Await implements effect.World.
func (w *carrier) Await(_ netip.Prefix, rest effect.List) {
	s := w.s
	switch {
	case s.broken:
	case s.w.Off == 3: // what is said does not wait for what is recorded
		s.add(w.e)
		w.e = entry{}
		rest.CarryOut(w)
	default:
		w.e.then = func() { s.run(rest, w.reply) }
		s.add(w.e)
	}
}

// Commit implements effect.World.
func (w *carrier) Commit() { w.s.add(w.e) }

// Reply implements effect.World.
func (w *carrier) Reply() { w.reply() }

// Tell implements effect.World.
func (w *carrier) Tell(changes []lease.Change) {
	for _, c := range changes {
		w.s.pair.Tell(c.After.Prefix)
	}
	w.s.runAll(w.s.pair.Pump(w.s.clock()))
}

// Enter implements effect.World.
func (w *carrier) Enter() {
	was := w.s.pair.State()
	more := w.s.pair.Entered(w.s.clock())
	w.s.entered(was)
	w.s.runAll(more)
}

// Send implements effect.World.
func (w *carrier) Send(body []byte) { w.s.w.wires.send(w.s, body) }
