package engine

import (
	"errors"
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

// carryList carries out a list, from the first to the last: what stands behind Await
// once all before it is durable. The caller holds the lock.
func (e *Engine) carryList(list effect.List) {
	var entries []journal.Entry
	for i, f := range list {
		switch f.Do {
		case effect.Record:
			for _, c := range f.Changes {
				if c.After.Status == lease.Active && !c.Quiet {
					e.seen.Given(c.After, e.clock.Now())
				}
				entries = append(entries, journal.Entry{Before: c.Before, After: c.After, Quiet: c.Quiet, Note: waiting{lease: c.After,
					quiet: c.Quiet}})
			}
		case effect.Save:
			entries = append(entries, journal.Entry{Body: f.Body, Note: waiting{}})
		case effect.Await:
			if len(entries) == 0 {
				entries = append(entries, journal.Entry{Note: waiting{}})
			}
			last := &entries[len(entries)-1]
			w := last.Note.(waiting)
			w.then = list[i+1:]
			last.Note = w
			e.commit(entries...)
			return
		case effect.Tell:
			for _, c := range f.Changes {
				e.pairing.Server.Tell(c.After.Prefix)
			}
		case effect.Enter:
			was := e.pairing.Server.State()
			more := e.pairing.Server.Entered(e.now())
			if is := e.pairing.Server.State(); is != was && e.pairing.State != nil {
				e.pairing.State(was, is)
			}
			e.carry(more)
		case effect.Send:
			e.pairing.Send(f.Body)
		}
	}
	if len(entries) > 0 {
		e.commit(entries...)
	}
}

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
