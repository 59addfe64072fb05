package engine

import (
	"errors"
	"net/netip"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/pair/message"
	"yarnpost/service/journal"
)

// The engine of a server that is one of two. What the pair wants done comes as lists
// of effects, which are carried out as those of decisions are.

// Pairing is what the engine needs of the other server.
type Pairing struct {
	Server *pair.Server
	Send   func(message []byte) // to the partner, if it can be heard; it does not wait
	Hangup func()
	Heard  func() time.Time // when anything last came; nil: nobody knows
	State  func(was, is pair.State)
}

// Pair makes this one server of a pair; nil makes it alone again. The table must be
// of that side already. The caller holds the lock (With).
func (e *Engine) Pair(p *Pairing) {
	e.pairing = p
	if p == nil {
		e.theirs.Store(&partnersAddresses{})
	} else if e.theirs.Load().own == nil {
		e.theirs.Store(&partnersAddresses{awaited: true})
	}
	if p != nil {
		p.Server.Pending = e.journal.Pending
	}
}

// WithPair runs f under the lock with the pair, or with nil for a server that is
// alone, and carries out what it gives.
func (e *Engine) WithPair(f func(*pair.Server, *lease.Table) []effect.List) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.pairing == nil {
		f(nil, e.table)
		return
	}
	e.carry(f(e.pairing.Server, e.table))
}

// Opened says that the partner can be heard.
func (e *Engine) Opened() {
	e.WithPair(func(s *pair.Server, _ *lease.Table) []effect.List {
		if s == nil {
			return nil
		}
		return s.Opened(e.now())
	})
}

// Closed says that it cannot be heard any more.
func (e *Engine) Closed() {
	e.WithPair(func(s *pair.Server, _ *lease.Table) []effect.List {
		if s == nil {
			return nil
		}
		return s.Closed(e.now())
	})
}

// FromPartner takes a message in. An error says that the connection is of no use.
func (e *Engine) FromPartner(m message.Message) (err error) {
	defer func() { // a fault of the program costs the connection
		if fault := recover(); fault != nil {
			e.panicked("what the partner sent: "+m.Type.String(), nil, fault)
			err = errors.New("a fault of the program was caught while it was taken in")
		}
	}()
	e.WithPair(func(s *pair.Server, _ *lease.Table) (lists []effect.List) {
		if s == nil {
			return nil
		}
		lists, err = s.Received(m, e.now())
		return lists
	})
	return err
}

func (e *Engine) now() lease.Time { return lease.At(e.clock.Now()) }

// TickPair does what time asks for of a pair, about once a second.
func (e *Engine) TickPair() {
	var hangup func()
	e.WithPair(func(s *pair.Server, _ *lease.Table) []effect.List {
		if s == nil {
			return nil
		}
		if h := e.pairing.Heard; h != nil {
			s.Alive(lease.At(h()))
		}
		lists := s.Unable(e.journal.Down() != nil, e.now())
		more, dead := s.Tick(e.now())
		if dead {
			hangup = e.pairing.Hangup
		}
		return append(lists, more...)
	})
	if hangup != nil {
		hangup()
	}
}

// carry carries out lists that do not depend on each other. The caller holds the
// lock.
func (e *Engine) carry(lists []effect.List) {
	for _, l := range lists { // one that panics costs nothing of the others
		e.guarded("what the pair wants done", func() { e.carryList(l) })
	}
}

// carryList carries out a list of the pair's. The caller holds the lock.
func (e *Engine) carryList(list effect.List) { list.CarryOut(&pairCarrier{e: e}) }

// pairCarrier is the world in which effects of the pair are carried out.
type pairCarrier struct {
	effect.Bystander
	e       *Engine
	entries []journal.Entry
}

// Record implements effect.World.
func (w *pairCarrier) Record(changes []lease.Change) bool {
	for _, c := range changes {
		if c.After.Status == lease.Active && !c.Quiet {
			w.e.seen.Given(c.After, w.e.clock.Now())
		}
		w.entries = append(w.entries, journal.Entry{Before: c.Before, After: c.After, Quiet: c.Quiet,
			Note: waiting{lease: c.After, quiet: c.Quiet}})
	}
	return true
}

// Save implements effect.World.
func (w *pairCarrier) Save(body []byte) bool {
	w.entries = append(w.entries, journal.Entry{Body: body, Note: waiting{}})
	return true
}

// Await implements effect.World: the last entry has the rest.
func (w *pairCarrier) Await(_ netip.Prefix, rest effect.List) {
	if len(w.entries) == 0 {
		w.entries = append(w.entries, journal.Entry{})
	}
	last := &w.entries[len(w.entries)-1]
	note, _ := last.Note.(waiting)
	note.then = rest
	last.Note = note
	w.Commit()
}

// Commit implements effect.World.
func (w *pairCarrier) Commit() { w.e.commit(w.entries...) }

// Tell implements effect.World.
func (w *pairCarrier) Tell(changes []lease.Change) {
	for _, c := range changes {
		w.e.pairing.Server.Tell(c.After.Prefix)
	}
}

// Enter implements effect.World.
func (w *pairCarrier) Enter() {
	e := w.e
	was := e.pairing.Server.State()
	more := e.pairing.Server.Entered(e.now())
	if is := e.pairing.Server.State(); is != was && e.pairing.State != nil {
		e.pairing.State(was, is)
	}
	e.carry(more)
}

// Send implements effect.World.
func (w *pairCarrier) Send(body []byte) { w.e.pairing.Send(body) }

// then carries out what stood behind Await in lists whose records are durable now,
// and sends what the partner has to know.
func (e *Engine) then(entries []journal.Entry) {
	some := false
	for _, n := range entries {
		some = some || n.Note.(waiting).then != nil
	}
	if !some {
		return
	}
	e.part("what follows a record", func() {
		if e.pairing == nil {
			return
		}
		for _, n := range entries {
			if list := n.Note.(waiting).then; list != nil {
				e.carry([]effect.List{list})
			}
		}
		e.carry(e.pairing.Server.Pump(e.now()))
	})
}

// notRecorded tells the pair what could not be recorded. The caller holds the lock.
func (e *Engine) notRecorded(entries []journal.Entry) {
	if e.pairing == nil {
		return
	}
	for _, n := range entries {
		if n.Body != nil {
			e.pairing.Server.Failed()
		}
		if n.After != nil {
			e.pairing.Server.Lost([]lease.Change{{Before: n.Before, After: n.After}})
		}
	}
}

// owned makes a change of a record this server's own, of which a partner is told
// once it is durable. The caller holds the lock.
func (e *Engine) owned(before, after *lease.Lease, w waiting) journal.Entry {
	if e.pairing != nil {
		e.pairing.Server.Changed(before, after, 0)
		w.then = effect.List{{Do: effect.Tell, Changes: []lease.Change{{Before: before, After: after}}}}
	}
	return journal.Entry{Before: before, After: after, Note: w}
}
