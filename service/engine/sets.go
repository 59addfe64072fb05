package engine

import (
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/request"
)

// givenSets are what clients asked with and were given: each distinct set once,
// by its digest, to which leases refer. Clients decide how many there are, so
// sets that no lease refers to any more go, and beyond a limit none are added.
type givenSets struct {
	known map[uint64]*givenSet
	most  int        // how many may be kept
	swept lease.Time // when those that nobody refers to went last
}

type givenSet struct {
	body []byte
	used lease.Time // when a decision referred to it last
}

const (
	setsSpare = 100_000 // sets beyond those that leases refer to
	setsRest  = 5 * 60  // seconds after which a set that nobody refers to goes: no commit takes that long
	setsPause = 3600    // seconds between two sweeps while there is room
)

func newGivenSets(recorded map[uint64][]byte, now lease.Time) givenSets {
	g := givenSets{known: make(map[uint64]*givenSet, len(recorded)), most: len(recorded) + setsSpare}
	for digest, body := range recorded {
		g.known[digest] = &givenSet{body, now}
	}
	return g
}

// newSet encodes what the client asked with and is given, if that was never recorded
// before, and says with which lease it is to be recorded. Where there is no room for it, the
// leases refer to none.
func (e *Engine) newSet(req *request.Request, d *answer.Decision, now lease.Time) (with *lease.Lease, body []byte) {
	for _, c := range d.Changes {
		if c.Before != nil {
			e.sets.use(c.Before.Given, now) // undoing may bring it back
		}
	}
	for i := range d.Answers { // all are given with the one reply
		l := d.Answers[i].Lease
		switch {
		case d.Answers[i].Outcome != answer.Acknowledged || l == nil || l.Given == 0 || e.sets.use(l.Given, now):
		case len(e.sets.known) >= e.sets.most:
			e.metrics.setsLost.Inc()
			l.Given = 0
		default:
			with, body = l, answer.AppendSet([]byte{}, req.Message, d.Reply)
			e.sets.known[l.Given] = &givenSet{body, now}
		}
	}
	return with, body
}

// Emptied says that the database has no set any more: each is recorded again with the
// next lease that has it.
func (e *Engine) Emptied() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.sets = newGivenSets(nil, lease.At(e.clock.Now()))
}

func (g *givenSets) use(digest uint64, now lease.Time) bool {
	s := g.known[digest]
	if s != nil {
		s.used = now
	}
	return s != nil
}

// SweepSets drops the sets that no lease refers to, once an hour or when there
// is no room left.
func (e *Engine) SweepSets() {
	now := lease.At(e.clock.Now())
	due := false
	e.With(func(*lease.Table) { due = now-e.sets.swept >= setsPause || len(e.sets.known) >= e.sets.most })
	if !due || e.journal.Down() != nil { // what is not recorded may be undone
		return
	}
	held := map[uint64]bool{}
	e.EachLease(0, func(l *lease.Lease) { held[l.Given] = true })
	e.mu.Lock()
	defer e.mu.Unlock()
	e.journal.Forget(e.sets.sweep(held, now))
}

// sweep drops sets that are not held, and were not used for a while.
func (g *givenSets) sweep(held map[uint64]bool, now lease.Time) (gone []uint64) {
	for digest, s := range g.known {
		if !held[digest] && now-s.used > setsRest {
			delete(g.known, digest)
			gone = append(gone, digest)
		}
	}
	g.most, g.swept = len(held)+setsSpare, now
	return gone
}

// Given is the set of what the holder of a lease asked with and was last given;
// ok is false if that is not known.
func (e *Engine) Given(digest uint64) (s answer.Set, ok bool) {
	var known *givenSet
	e.With(func(*lease.Table) { known = e.sets.known[digest] })
	if known == nil {
		return s, false
	}
	s, err := answer.ParseSet(known.body)
	return s, err == nil
}

// Consider runs f with what decisions are made of, while nothing else is decided. What f
// decides is carried out by nobody.
func (e *Engine) Consider(f func(answer.World)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	f(e.world(e.clock.Now()))
}
