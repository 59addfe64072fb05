package node

import (
	"context"
	"fmt"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/store"
)

// A database that was set back (see store.ErrSetBack): what is done about it, and what a
// person has to know.

// setBackTold is how long it is told that a running service wrote everything again.
const setBackTold = 24 * time.Hour

// lookBack sees at the start whether the database is as the last run left it. Where it
// is not, addresses of which nothing is known may be held by clients: they are kept for
// the longest time that any was promised, unless a probe meets silence; a server of a
// pair learns all of it from its partner.
func (n *Node) lookBack(ctx context.Context, c Config, table *lease.Table) error {
	how, err := n.store.Watermark(ctx, c.Data, c.Log)
	if err != nil {
		return err
	}
	known, err := n.store.LoadSetBack(ctx)
	if err != nil {
		return err
	}
	n.setBack.Store(known)
	if how == "" {
		return nil
	}
	now := n.clock.Now()
	b := &store.SetBack{At: now, Text: how, Until: now.Add(longestPromise(table)).Unix()}
	if n.pair.on != nil {
		n.pair.on.Record.Empty = true
		b.Until, b.Text = 0, how+"; all of it is asked from the partner"
	}
	n.log.Error("the database was set back to an older state while the service did not run", "how", how)
	n.setBack.Store(b)
	return n.store.SaveSetBack(ctx, *b)
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
	for w, more := t.Snapshot(0), true; more; {
		more = w.Next(&part, 1000)
		for l := range part.Leases {
			note(l.Granted)
		}
	}
	return longest
}

// wasSetBack is told that the database was set back under the running service, and has
// the leases again: it gets the plan, too.
func (n *Node) wasSetBack(cause error, leases int) {
	b := &store.SetBack{At: n.clock.Now(), Text: fmt.Sprintf("%v; %d leases were written into it again", cause, leases)}
	n.log.Error("the database was set back, and has the leases again", "leases", leases)
	n.setBack.Store(b)
	n.workers.Go(n.guarded("the plan of a database that was set back", func() {
		ctx, cancel := context.WithTimeout(n.running, time.Minute)
		defer cancel()
		text, err := n.planAgain(ctx)
		if err != nil {
			text = "its plan is older than the one in force, and could not be mended: " + err.Error()
			n.log.Error("the plan could not be written into a database that was set back", "err", err)
		}
		told := *b
		if text != "" {
			told.Text += "; " + text
		}
		n.setBack.Store(&told)
		if err := n.store.SaveSetBack(ctx, told); err != nil {
			n.log.Warn("that the database was set back is not noted in it", "err", err)
		}
	}))
}

// planAgain records what the plan in force has and the database's has not, as one
// revision; it says so in words.
func (n *Node) planAgain(ctx context.Context) (string, error) {
	n.planMu.Lock()
	defer n.planMu.Unlock()
	mine := n.engine.Plan()
	theirs, err := n.store.LoadPlan(ctx)
	if err != nil || theirs.Revision == mine.Revision {
		return "", err
	}
	items := plan.Between(theirs, mine)
	r := store.Revision{Number: mine.Revision, At: n.clock.Now().Truncate(time.Microsecond), Author: "yarnpost",
		Reason: fmt.Sprintf("revisions %d to %d, which the database had lost, as one", theirs.Revision+1, mine.Revision)}
	d := mine.Draft()
	if err := n.store.SavePlan(ctx, r, items, func(c plan.Change) []plan.Line { return plan.Diff([]plan.Change{c}, d.Label) }); err != nil {
		return "", err
	}
	if n.pair.on != nil {
		if err := n.plansOnRecord(); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("revisions %d to %d of the plan were recorded again, as one", theirs.Revision+1, mine.Revision), nil
}

// SetBack says in words that the database was set back, and what to expect; "" if it was
// not, or that is past.
func (n *Node) SetBack() string {
	b, now := n.setBack.Load(), n.clock.Now()
	switch {
	case b == nil:
		return ""
	case b.Until > now.Unix():
		return fmt.Sprintf("the database was set back while the service did not run (%s): addresses of which nothing is known are kept until %s, "+
			"unless a probe meets silence or their client asks for them", b.Text, time.Unix(b.Until, 0).UTC().Format("2 Jan 15:04 UTC"))
	case now.Sub(b.At) < setBackTold:
		return fmt.Sprintf("the database was set back at %s (%s); history, accounts and settings since then are lost", b.At.UTC().Format("2 Jan 15:04 UTC"), b.Text)
	}
	return ""
}

// recordsLost reports whether addresses of which nothing is known may be held by clients.
func (n *Node) recordsLost(now lease.Time) bool {
	b := n.setBack.Load()
	return b != nil && int64(now) < b.Until
}
