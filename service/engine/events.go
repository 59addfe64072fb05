package engine

import (
	"sync"
	"sync/atomic"

	"yarnpost/core/lease"
)

// Event tells subscribers that something is different now.
type Event struct {
	Lease    *lease.Lease // a lease changed, or
	Revision int64        // the plan has a new revision, or
	Pair     bool         // the pair stands elsewhere
}

// Events hands events to whoever listens. A subscriber that does not keep up
// loses events and is told so.
type Events struct {
	listeners atomic.Int32 // spares the path of a packet the lock
	mu        sync.Mutex
	subs      map[*Subscription]bool
}

// Subscription is one listener.
type Subscription struct {
	C      chan Event
	Missed atomic.Uint64
}

// Subscribe starts listening.
func (e *Events) Subscribe() *Subscription {
	s := &Subscription{C: make(chan Event, 256)}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.subs == nil {
		e.subs = map[*Subscription]bool{}
	}
	e.subs[s] = true
	e.listeners.Add(1)
	return s
}

// Cancel ends a subscription.
func (e *Events) Cancel(s *Subscription) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.subs[s] {
		delete(e.subs, s)
		e.listeners.Add(-1)
	}
}

func (e *Events) lease(l *lease.Lease) {
	if e.listeners.Load() > 0 {
		e.Publish(Event{Lease: l})
	}
}

// Publish tells those who listen.
func (e *Events) Publish(v Event) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for s := range e.subs {
		select {
		case s.C <- v:
		default:
			s.Missed.Add(1)
		}
	}
}
