package httpd

import (
	"container/list"
	"context"
	"net/netip"
	"sync"
	"time"
)

// Limits of attempts to sign in. What goes beyond is paced: it waits for its
// turn, so that guessing is slow and the right password comes through.
const (
	triesSpan    = time.Minute            // over which failures are counted
	sourceFree   = 5                      // failures of one source that nobody waits for
	sourcePace   = 500 * time.Millisecond // between two attempts of a source beyond that
	sourceQueue  = 20                     // attempts of a source that may wait
	sourcesMost  = 10_000                 // sources that are remembered
	accountFree  = 50                     // failures of one account, from all sources
	accountPace  = 250 * time.Millisecond // between two attempts at an account beyond that, from where it was never signed in to
	accountQueue = 40
)

// tries counts attempts to sign in, by source and by account. Made-up names of
// accounts are counted with their source alone, so nobody can fill the count up.
type tries struct {
	now func() time.Time

	mu       sync.Mutex
	sources  map[string]*list.Element // of *tally
	order    *list.List               // oldest first
	accounts map[string]*tally
}

// tally is what is known of attempts from one place.
type tally struct {
	key     string
	failed  []time.Time
	next    time.Time // when the next attempt may be made
	waiting int
	good    map[string]bool // accounts that were signed in to from this source
}

// try is one attempt.
type try struct {
	of      *tries
	source  *tally
	account *tally // nil for a made-up name
	at      time.Time
	name    string
}

func newTries(now func() time.Time) *tries {
	return &tries{now: now, sources: map[string]*list.Element{}, order: list.New(), accounts: map[string]*tally{}}
}

// place is a source as it is counted: an IPv6 host can have any address of its
// network.
func place(source string) string {
	if a, err := netip.ParseAddr(source); err == nil && a.Is6() && !a.Is4In6() {
		p, _ := a.WithZone("").Prefix(64)
		return p.String()
	}
	return source
}

// begin counts an attempt and waits for its turn.
func (t *tries) begin(ctx context.Context, source, account string, known bool) (*try, error) {
	t.mu.Lock()
	now := t.now()
	x := &try{of: t, source: t.sourceOf(place(source)), at: now, name: account}
	wait, ok := x.source.turn(now, sourceFree, sourcePace, sourceQueue)
	if known && !x.source.good[account] {
		if x.account = t.accounts[account]; x.account == nil {
			x.account = &tally{key: account}
			t.accounts[account] = x.account
		}
		more, free := x.account.turn(now, accountFree, accountPace, accountQueue)
		wait, ok = max(wait, more), ok && free
	}
	if !ok {
		t.mu.Unlock()
		return nil, ErrTooMany
	}
	for _, of := range x.tallies() {
		of.failed = append(of.failed, now) // until it turns out well
		of.waiting++
	}
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		for _, of := range x.tallies() {
			of.waiting--
		}
	}()
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
		return x, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (x *try) tallies() []*tally {
	if x.account == nil {
		return []*tally{x.source}
	}
	return []*tally{x.source, x.account}
}

func (t *tries) sourceOf(key string) *tally {
	if e := t.sources[key]; e != nil {
		t.order.MoveToBack(e)
		return e.Value.(*tally)
	}
	if len(t.sources) >= sourcesMost {
		oldest := t.order.Front()
		delete(t.sources, oldest.Value.(*tally).key)
		t.order.Remove(oldest)
	}
	of := &tally{key: key, good: map[string]bool{}}
	t.sources[key] = t.order.PushBack(of)
	return of
}

// turn is how long the next attempt has to wait; ok is false if too many do.
func (of *tally) turn(now time.Time, free int, pace time.Duration, queue int) (wait time.Duration, ok bool) {
	recent := of.failed[:0]
	for _, at := range of.failed {
		if now.Sub(at) < triesSpan {
			recent = append(recent, at)
		}
	}
	if of.failed = recent; len(recent) < free {
		return 0, true
	}
	if of.waiting >= queue {
		return 0, false
	}
	if of.next.Before(now) {
		of.next = now
	}
	wait = of.next.Sub(now)
	of.next = of.next.Add(pace)
	return wait, true
}

// good takes an attempt out of the count, since it was right.
func (x *try) good() {
	x.of.mu.Lock()
	defer x.of.mu.Unlock()
	for _, of := range x.tallies() {
		for i, at := range of.failed {
			if at.Equal(x.at) {
				of.failed = append(of.failed[:i], of.failed[i+1:]...)
				break
			}
		}
	}
	if len(x.source.good) < 100 {
		x.source.good[x.name] = true
	}
}
