package accounts

import (
	"container/list"
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"
)

// Limits of attempts to sign in. What goes beyond is paced: it waits for its
// turn, so that guessing is slow and the right password comes through.
const (
	triesSpan   = time.Minute            // over which failures are counted
	sourceFree  = 5                      // failures of one source that nobody waits for
	sourcePace  = 500 * time.Millisecond // between two attempts of a source beyond that
	sourceQueue = 20                     // attempts of a source that may wait
	sourcesMost = 10_000                 // sources that are remembered
	accountFree = 50                     // failures of one account, from all sources
	accountPace = 250 * time.Millisecond // between two attempts at an account beyond that, from where it was never signed in to
	waitingMost = 200                    // attempts that may wait in all
	patienceOf  = 15 * time.Second       // how long one waits
)

// limiter is a rate limiter: it counts attempts to sign in, by source and by account, and lets a few at a time
// be worked on. Made-up names of accounts are counted with their source alone, so nobody
// can fill the count up.
//
// Who waits goes in this order: from where the account was signed in to before; then
// whoever failed least often lately; then whoever came last. So a person who signs in for
// the first time is next, however many others guess; and where too many wait, the last in
// this order are turned away.
type limiter struct {
	now  func() time.Time
	most int // attempts that are worked on at a time

	mu       sync.Mutex
	sources  map[string]*list.Element // of *tally
	order    *list.List               // oldest first
	accounts map[string]*tally
	working  int
	waiting  []*try // in the order in which they came
	timer    *time.Timer
}

// tally is what is known of attempts from one place.
type tally struct {
	key     string
	failed  []time.Time
	next    time.Time // when the next attempt may be made, beyond the free ones
	waiting int
	good    map[string]bool // accounts that were signed in to from this source
}

// try is one attempt.
type try struct {
	of      *limiter
	source  *tally
	account *tally // nil for a made-up name, or one that this source signed in to
	at      time.Time
	name    string
	rank    int        // the lower, the sooner
	turn    chan error // gets nil when it is its turn
}

func newLimiter(now func() time.Time, most int) *limiter {
	return &limiter{now: now, most: most, sources: map[string]*list.Element{}, order: list.New(), accounts: map[string]*tally{}}
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

// begin counts an attempt and waits until it can be worked on; call done afterwards.
func (t *limiter) begin(ctx context.Context, source, account string, known bool) (x *try, err error) {
	if x, err = t.join(place(source), account, known); err != nil {
		return nil, err
	}
	patience := time.NewTimer(patienceOf)
	defer patience.Stop()
	select {
	case err = <-x.turn:
	case <-patience.C:
		err = ErrTooMany
	case <-ctx.Done():
		err = ctx.Err()
	}
	if err != nil && !t.leave(x) { // its turn came at the same moment
		x.done()
	}
	return x, err
}

// join adds an attempt to those that wait.
func (t *limiter) join(source, account string, known bool) (*try, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.now()
	x := &try{of: t, source: t.sourceOf(source), at: now, name: account, turn: make(chan error, 1)}
	if x.source.waiting >= sourceQueue {
		return nil, ErrTooMany
	}
	x.source.age(now)
	if !x.source.good[account] {
		x.rank = 1 + len(x.source.failed)
		if known {
			if x.account = t.accounts[account]; x.account == nil {
				x.account = &tally{key: account}
				t.accounts[account] = x.account
			}
		}
	}
	for _, of := range x.tallies() {
		of.failed = append(of.failed, now) // until it turns out well
		of.waiting++
	}
	t.waiting = append(t.waiting, x)
	if len(t.waiting) > waitingMost {
		t.drop(t.last(), ErrTooMany)
	}
	t.next()
	return x, nil
}

// last is the attempt that waits last in the order. The caller holds the lock.
func (t *limiter) last() (at int) {
	for i, x := range t.waiting {
		if x.rank > t.waiting[at].rank {
			at = i
		}
	}
	return at
}

// drop takes an attempt out of those that wait, and tells it why.
func (t *limiter) drop(at int, err error) {
	x := t.waiting[at]
	t.waiting = slices.Delete(t.waiting, at, at+1)
	for _, of := range x.tallies() {
		of.waiting--
	}
	x.turn <- err
}

// leave takes back an attempt that waits no longer; it reports false if its turn came.
func (t *limiter) leave(x *try) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if i := slices.Index(t.waiting, x); i >= 0 {
		t.drop(i, nil)
		return true
	}
	select {
	case err := <-x.turn:
		return err != nil
	default:
		return true // it was told already
	}
}

// next lets attempts be worked on whose turn it is. The caller holds the lock.
func (t *limiter) next() {
	now := t.now()
	soonest := time.Duration(-1)
	for t.working < t.most {
		best := -1
		soonest = -1
		for i, x := range t.waiting {
			if wait := x.wait(now); wait > 0 {
				if soonest < 0 || wait < soonest {
					soonest = wait
				}
			} else if best < 0 || x.rank <= t.waiting[best].rank { // of equals the one that came last
				best = i
			}
		}
		if best < 0 {
			break
		}
		x := t.waiting[best]
		x.source.take(now, sourceFree, sourcePace)
		if x.account != nil {
			x.account.take(now, accountFree, accountPace)
		}
		t.working++
		t.drop(best, nil)
	}
	if soonest > 0 && t.working < t.most {
		if t.timer != nil {
			t.timer.Stop()
		}
		t.timer = time.AfterFunc(soonest, func() {
			t.mu.Lock()
			defer t.mu.Unlock()
			t.next()
		})
	}
}

// wait is how long an attempt is paced yet.
func (x *try) wait(now time.Time) time.Duration {
	wait := x.source.paced(now, sourceFree)
	if x.account != nil {
		wait = max(wait, x.account.paced(now, accountFree))
	}
	return wait
}

// done says that an attempt is worked on no longer.
func (x *try) done() {
	t := x.of
	t.mu.Lock()
	defer t.mu.Unlock()
	t.working--
	t.next()
}

func (x *try) tallies() []*tally {
	if x.account == nil {
		return []*tally{x.source}
	}
	return []*tally{x.source, x.account}
}

func (t *limiter) sourceOf(key string) *tally {
	if e := t.sources[key]; e != nil {
		t.order.MoveToBack(e)
		return e.Value.(*tally)
	}
	if len(t.sources) >= sourcesMost {
		t.forget()
	}
	of := &tally{key: key, good: map[string]bool{}}
	t.sources[key] = t.order.PushBack(of)
	return of
}

// forget forgets the source that tried longest ago; one that somebody signed in from only
// if there are no others.
func (t *limiter) forget() {
	oldest := t.order.Front()
	for e := oldest; e != nil; e = e.Next() {
		if len(e.Value.(*tally).good) == 0 {
			oldest = e
			break
		}
	}
	delete(t.sources, oldest.Value.(*tally).key)
	t.order.Remove(oldest)
}

// age forgets failures of long ago.
func (of *tally) age(now time.Time) {
	of.failed = slices.DeleteFunc(of.failed, func(at time.Time) bool { return now.Sub(at) >= triesSpan })
}

// paced is how long the next attempt has to wait.
func (of *tally) paced(now time.Time, free int) time.Duration {
	of.age(now)
	if len(of.failed) <= free {
		return 0
	}
	return of.next.Sub(now)
}

// take notes that an attempt is made.
func (of *tally) take(now time.Time, free int, pace time.Duration) {
	if len(of.failed) > free {
		of.next = now.Add(pace)
	}
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
