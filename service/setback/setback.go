// Package setback keeps what is known of a database that was set back to an older state
// (see journal.ErrSetBack): what is done about it, and what a person has to know.
package setback

import (
	"context"
	"fmt"
	"log/slog"
	"sync/atomic"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/store"
	"yarnpost/service/work"
)

// Store has the marks by which it is known that a database was set back.
type Store interface {
	// Watermark says how the database is behind what the last run left, or "".
	Watermark(ctx context.Context, data string, log *slog.Logger) (how string, err error)
	LoadSetBack(context.Context) (*store.SetBack, error)
	SaveSetBack(context.Context, store.SetBack) error
}

// Plans records the plan in force again.
type Plans interface {
	RecordAgain(ctx context.Context, then func() error) (said string, err error)
}

// Parts are what a Keeper needs.
type Parts struct {
	Store Store
	Plans Plans
	Again func() error // is called once the plan is on record again
	Work  *work.Group
	Clock interface{ Now() time.Time }
	Log   *slog.Logger
}

// Keeper knows whether the database was set back.
type Keeper struct {
	Parts
	known atomic.Pointer[store.SetBack] // nil: it was not
}

// New makes a keeper that knows nothing yet.
func New(p Parts) *Keeper { return &Keeper{Parts: p} }

// told is how long it is told that a running service wrote everything again.
const told = 24 * time.Hour

// Look sees at the start whether the database is as the last run left it. Where it
// is not, addresses of which nothing is known may be held by clients: they are kept for
// the longest time that any was promised, unless a probe meets silence; a server of a
// pair learns all of it from its partner, so its record of the pair is to be taken as empty.
func (k *Keeper) Look(ctx context.Context, data string, table *lease.Table, paired bool) (empty bool, err error) {
	how, err := k.Store.Watermark(ctx, data, k.Log)
	if err != nil {
		return false, err
	}
	known, err := k.Store.LoadSetBack(ctx)
	if err != nil {
		return false, err
	}
	k.known.Store(known)
	if how == "" {
		return false, nil
	}
	now := k.Clock.Now()
	b := &store.SetBack{At: now, Text: how, Until: now.Add(longestPromise(table)).Unix()}
	if paired {
		b.Until, b.Text = 0, how+"; all of it is asked from the partner"
	}
	k.Log.Error("the database was set back to an older state while the service did not run", "how", how)
	k.known.Store(b)
	return paired, k.Store.SaveSetBack(ctx, *b)
}

// longestPromise is the longest time that a client can have been promised an address,
// as far as that is known; leases that never end are left out.
func longestPromise(t *lease.Table) time.Duration {
	longest := plan.DefaultLease
	note := func(d time.Duration) {
		if d < option.Infinite {
			longest = max(longest, d)
		}
	}
	for _, v := range t.Plan().Scopes() {
		note(v.LeaseFor(nil))
	}
	for _, r := range t.Plan().Rules() {
		note(time.Duration(r.Lease))
	}
	var part lease.Part
	for w, more := t.Iterator(0), true; more; {
		more = w.Next(&part, 1000)
		for l := range part.Leases {
			note(l.Granted)
		}
	}
	return longest
}

// Happened is told that the database was set back under the running service, and has
// the leases again: it gets the plan, too.
func (k *Keeper) Happened(cause error, leases int) {
	b := &store.SetBack{At: k.Clock.Now(), Text: fmt.Sprintf("%v; %d leases were written into it again", cause, leases)}
	k.Log.Error("the database was set back, and has the leases again", "leases", leases)
	k.known.Store(b)
	k.Work.Go("the plan of a database that was set back", func(ctx context.Context) {
		ctx, cancel := context.WithTimeout(ctx, time.Minute)
		defer cancel()
		text, err := k.Plans.RecordAgain(ctx, k.Again)
		if err != nil {
			text = "its plan is older than the one in force, and could not be mended: " + err.Error()
			k.Log.Error("the plan could not be written into a database that was set back", "err", err)
		}
		said := *b
		if text != "" {
			said.Text += "; " + text
		}
		k.known.Store(&said)
		if err := k.Store.SaveSetBack(ctx, said); err != nil {
			k.Log.Warn("that the database was set back is not noted in it", "err", err)
		}
	})
}

// Text says in words that the database was set back, and what to expect; "" if it was
// not, or that is past.
func (k *Keeper) Text() string {
	b, now := k.known.Load(), k.Clock.Now()
	switch {
	case b == nil:
		return ""
	case b.Until > now.Unix():
		return fmt.Sprintf("the database was set back while the service did not run (%s): addresses of which nothing is known are kept until %s, "+
			"unless a probe meets silence or their client asks for them", b.Text, time.Unix(b.Until, 0).UTC().Format("2 Jan 15:04 UTC"))
	case now.Sub(b.At) < told:
		return fmt.Sprintf("the database was set back at %s (%s); history, accounts and settings since then are lost",
			b.At.UTC().Format("2 Jan 15:04 UTC"), b.Text)
	}
	return ""
}

// Lost reports whether addresses of which nothing is known may be held by clients.
func (k *Keeper) Lost(now lease.Time) bool {
	b := k.known.Load()
	return b != nil && int64(now) < b.Until
}
