package node

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/store"
)

// ErrConfirm is wrapped when a change would strand clients and nobody said
// that this is meant.
var ErrConfirm = errors.New("the change needs to be confirmed")

// Effect is what a change would do to clients.
type Effect struct {
	Subject string
	Text    string
	Clients int
	Strands bool // they would be left without service
}

// Change is a change of the plan, previewed or applied.
type Change struct {
	Base     int64 // revision it was made against
	Revision int64 // revision in force afterwards
	Applied  bool
	Lines    []plan.Line
	Advice   []plan.Advice
	Effects  []Effect
	Plan     *plan.Plan   // as it is, or would be, afterwards
	Scopes   []*plan.View // changed ones of it
}

// Order says how a change is to be made.
type Order struct {
	Author, Reason string
	Base           int64 // refuse if the plan is at another revision; 0: any
	Preview        bool  // only say what would happen
	Confirm        bool  // go ahead although clients are stranded
}

// ChangePlan edits the plan: either all that edit does becomes one durable
// revision in force, or nothing changes.
func (n *Node) ChangePlan(ctx context.Context, o Order, edit func(*plan.Draft) error) (*Change, error) {
	n.planMu.Lock()
	defer n.planMu.Unlock()
	e := n.engine
	old := e.Plan()
	if o.Base != 0 && o.Base != old.Revision {
		return nil, fmt.Errorf("%w: it is at revision %d and your change was made against %d; look at what changed and try again", store.ErrStale, old.Revision, o.Base)
	}
	d := old.Draft()
	if err := edit(d); err != nil {
		return nil, err
	}
	next, changes := d.Finish()
	c := &Change{Base: old.Revision, Revision: old.Revision, Lines: plan.Diff(changes, d.Label), Advice: plan.Advise(next, changes, n.PlanInterfaces())}
	c.Plan = next
	for _, ch := range changes {
		if v := next.Scope(ch.ID); v != nil && ch.Kind == plan.KindScope {
			c.Scopes = append(c.Scopes, v)
		}
	}
	c.Effects = e.effects(old, next, changes, lease.At(time.Now()))
	if o.Preview || len(changes) == 0 {
		return c, nil
	}
	if !o.Confirm {
		var strands []string
		for _, f := range c.Effects {
			if f.Strands {
				strands = append(strands, f.Text)
			}
		}
		if len(strands) > 0 {
			return c, fmt.Errorf("%w: %s", ErrConfirm, strings.Join(strands, "; "))
		}
	}
	r := store.Revision{Number: next.Revision, At: time.Now(), Author: o.Author, Reason: o.Reason}
	if err := n.store.SavePlan(ctx, r, changes, func(c plan.Change) []plan.Line { return plan.Diff([]plan.Change{c}, d.Label) }); err != nil {
		return nil, err
	}
	e.With(func(t *lease.Table) { t.SetPlan(next, changes) })
	e.events.publish(Event{Revision: next.Revision})
	c.Revision, c.Applied = next.Revision, true
	n.log.Info("plan changed", "revision", next.Revision, "author", o.Author, "changes", len(c.Lines))
	return c, nil
}

// effects counts the clients that a change touches.
func (e *Engine) effects(old, next *plan.Plan, changes []plan.Change, now lease.Time) []Effect {
	var out []Effect
	for _, c := range changes {
		switch c.Kind {
		case plan.KindScope:
			if before := old.Scope(c.ID); before != nil {
				out = append(out, e.scopeEffects(before, next.Scope(c.ID), next, now)...)
			}
		case plan.KindLink:
			out = append(out, e.linkEffects(c, now)...)
		case plan.KindReservation:
			if r, ok := c.After.(plan.Reservation); ok {
				out = append(out, e.reservationEffects(r, now)...)
			}
		}
	}
	return out
}

func clients(n int) string {
	if n == 1 {
		return "1 client"
	}
	return fmt.Sprintf("%d clients", n)
}

func (e *Engine) scopeEffects(before, after *plan.View, next *plan.Plan, now lease.Time) []Effect {
	subject := "scope " + before.Name
	active, moved := 0, 0
	e.eachLease(before.ID, func(l *lease.Lease) {
		if !l.HeldAt(now) {
			return
		}
		active++
		if after != nil && !after.Allocatable(l.Address) && next.ReservationAt(l.Address) == nil {
			moved++
		}
	})
	switch {
	case active == 0:
		return nil
	case after == nil:
		return []Effect{{subject, fmt.Sprintf("%s of scope %s would lose their address when they next renew", clients(active), before.Name), active, true}}
	case after.Mode == plan.Held && before.Mode != plan.Held:
		return []Effect{{subject, fmt.Sprintf("%s of scope %s would not be able to renew", clients(active), before.Name), active, true}}
	}
	var out []Effect
	if after.Mode == plan.Draining && before.Mode != plan.Draining {
		out = append(out, Effect{subject, fmt.Sprintf("%s of scope %s will move away as they renew", clients(active), before.Name), active, false})
	}
	if moved > 0 {
		out = append(out, Effect{subject, fmt.Sprintf("%s of scope %s hold addresses outside the new pools and will move when they renew", clients(moved), before.Name), moved, false})
	}
	if fmt.Sprint(before.Values) != fmt.Sprint(after.Values) || before.Lease != after.Lease {
		out = append(out, Effect{subject, fmt.Sprintf("%s of scope %s keep the old settings until they renew, the last within %s", clients(active), before.Name, plan.Duration(before.Lease/2)), active, false})
	}
	return out
}

func (e *Engine) reservationEffects(r plan.Reservation, now lease.Time) (out []Effect) {
	e.With(func(t *lease.Table) {
		if l := t.Get(r.Address); l != nil && l.HeldAt(now) && !holds(&r, l) {
			until := "for ever"
			if l.Expires != lease.Never {
				until = "until " + l.Expires.Std().Format("2006-01-02 15:04:05") + " UTC at the latest"
			}
			out = append(out, Effect{"reservation " + r.Name, fmt.Sprintf("%s is held by %s (%s) %s; it is moved when it renews", r.Address, l.Hardware, l.Hostname, until), 1, false})
		}
		if l := t.Get(r.Address); l != nil && l.Status == lease.Abandoned {
			out = append(out, Effect{"reservation " + r.Name, fmt.Sprintf("%s is abandoned; clear it before the client can have it: yarnpost lease clear %s --yes", r.Address, r.Address), 0, false})
		}
	})
	return out
}

// linkEffects says what going live, or ceasing to answer, means for clients.
func (e *Engine) linkEffects(c plan.Change, now lease.Time) []Effect {
	before, was := c.Before.(plan.Link)
	after, is := c.After.(plan.Link)
	if !was || !is || before.Listening == after.Listening {
		return nil
	}
	known, ours := 0, 0
	for _, v := range e.Plan().OnLink(c.ID) {
		e.eachLease(v.ID, func(l *lease.Lease) {
			if l.HeldAt(now) && l.Revision == 0 {
				known++
			} else if l.HeldAt(now) {
				ours++
			}
		})
	}
	if after.Listening {
		if ours == 0 {
			return nil
		}
		return []Effect{{"link " + after.Name, fmt.Sprintf("%s of link %s would not be able to renew here while it is only listened to", clients(ours), after.Name), ours, true}}
	}
	return []Effect{{"link " + after.Name, fmt.Sprintf("link %s is answered from now on; the addresses of %s were learned by listening and are kept for them", after.Name, clients(known)), known, false}}
}

// holds reports whether a lease is of the client a reservation is for.
func holds(r *plan.Reservation, l *lease.Lease) bool {
	switch {
	case r.Identifier != "":
		return l.Client.Identifier() == string(r.Identifier)
	case r.Circuit != "":
		return dhcp4.Show([]byte(l.Circuit)) == r.Circuit
	}
	return l.Hardware == r.Hardware
}

// eachLease walks a scope (0: the whole table), a part at a time.
func (e *Engine) eachLease(scope plan.ID, share ...func(*lease.Lease)) {
	var at *lease.Position
	e.With(func(t *lease.Table) { at = t.Walk(scope) })
	var walking sync.WaitGroup
	for _, f := range share {
		walking.Go(func() {
			part := make([]*lease.Lease, 0, 512)
			for {
				e.With(func(t *lease.Table) { part = t.Next(at, part[:0], 512) })
				if len(part) == 0 {
					return
				}
				for _, l := range part {
					f(l)
				}
			}
		})
	}
	walking.Wait()
}

// EachLease walks the leases of a scope, or of the whole table for 0, without
// holding up the service. Of several functions each gets a share, side by side.
func (n *Node) EachLease(scope plan.ID, share ...func(*lease.Lease)) {
	n.engine.eachLease(scope, share...)
}

// ErrNoLease is wrapped when an address has nothing to end or to clear.
var ErrNoLease = errors.New("nothing to do")

// SetStatus ends an active lease (to Released) or clears an abandoned address
// (to Expired), and returns when that is durable. With preview it only gives
// the record.
func (n *Node) SetStatus(ctx context.Context, a netip.Addr, from, to lease.Status, preview bool) (*lease.Lease, error) {
	e := n.engine
	e.mu.Lock()
	l := e.table.Get(a)
	if l == nil || l.Status != from {
		e.mu.Unlock()
		return nil, fmt.Errorf("%w: %s is not %s", ErrNoLease, a, from)
	}
	if preview {
		e.mu.Unlock()
		return l, nil
	}
	next := l.Ended(to, lease.At(time.Now()))
	if l.Found() && to == lease.Expired { // nobody was ever given it
		next = &lease.Lease{Address: a, Status: lease.Free, Changed: next.Changed, Expires: next.Changed}
	}
	done := make(chan struct{})
	if !e.journal.Add(store.Entry{Before: l, After: next, Note: waiting{lease: next, done: done}}) {
		e.mu.Unlock()
		return nil, fmt.Errorf("the database is away, so nothing can be recorded: %w", e.journal.Down())
	}
	e.table.Put(next)
	e.mu.Unlock()
	select {
	case <-done:
		return next, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(30 * time.Second):
		return nil, errors.New("the change could not be recorded in time; look at the lease again")
	}
}

// Propose gives a free address of a scope for a reservation.
func (n *Node) Propose(p *plan.Plan, v *plan.View) (a netip.Addr, ok bool) {
	now := lease.At(time.Now())
	n.engine.With(func(t *lease.Table) {
		a, ok = plan.FreeForReservation(p, v, func(a netip.Addr) bool {
			l := t.Get(a)
			_, offered := t.OfferOf(a)
			return offered || n.engine.isOwn(a) || l != nil && (l.HeldAt(now) || l.Status == lease.Abandoned)
		})
	})
	return a, ok
}

// HeldBy is the address that a reservation's client holds in a scope now.
func (n *Node) HeldBy(scope plan.ID, r *plan.Reservation) (found netip.Addr, ok bool) {
	now := lease.At(time.Now())
	n.engine.eachLease(scope, func(l *lease.Lease) {
		if holds(r, l) && l.HeldAt(now) {
			found, ok = l.Address, true
		}
	})
	return found, ok
}
