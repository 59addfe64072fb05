package node

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"yarnpost/core/audit"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/engine"
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
	Advice   []audit.Finding
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
	Alone          bool  // go ahead although the partner cannot be reached
}

// ChangePlan edits the plan: either all that edit does becomes one durable
// revision in force, or nothing changes. It goes on when the caller does not wait
// any more.
func (n *Node) ChangePlan(ctx context.Context, o Order, edit func(*plan.Draft) error) (*Change, error) {
	before := n.engine.Plan()
	c, err := n.changePlan(ctx, o, edit)
	if c != nil && c.Plan != nil && len(c.Scopes) > 0 {
		c.Advice = append(c.Advice, facts{n}.newlyTold(ctx, before, c.Plan)...)
	}
	return c, err
}

func (n *Node) changePlan(ctx context.Context, o Order, edit func(*plan.Draft) error) (*Change, error) {
	n.planMu.Lock()
	defer n.planMu.Unlock()
	if err := n.settle(ctx); err != nil {
		return nil, err
	}
	e := n.engine
	old := e.Plan()
	d := old.Draft()
	if err := edit(d); err != nil {
		return nil, err
	}
	next, items := d.Finish()
	if o.Base != 0 && o.Base != old.Revision {
		if err := n.changed.between(o.Base, old.Revision, items); err != nil {
			return nil, err
		}
	}
	c := &Change{Base: old.Revision, Revision: old.Revision,
		Advice: audit.OfChange(next, items, n.PlanInterfaces())}
	c.Plan = next
	lines := make(map[plan.ID][]plan.Line, len(items))
	for _, ch := range items {
		lines[ch.ID] = plan.Diff([]plan.Change{ch}, d.Label)
		c.Lines = append(c.Lines, lines[ch.ID]...)
		if v := next.Scope(ch.ID); v != nil && ch.Kind == plan.KindScope {
			c.Scopes = append(c.Scopes, v)
		}
	}
	c.Effects = n.effects(old, next, items, lease.At(n.clock.Now()))
	if o.Preview || len(items) == 0 {
		return c, nil
	}
	if err := confirmed(o, c.Effects); err != nil {
		return c, err
	}
	both, err := n.mayChange(o.Alone)
	if err != nil {
		return c, err
	}
	r := store.Revision{Number: next.Revision, At: n.clock.Now().Truncate(time.Microsecond), Author: o.Author, Reason: o.Reason}
	save, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	err = n.store.SavePlan(save, r, items, func(c plan.Change) []plan.Line { return lines[c.ID] })
	if errors.Is(err, store.ErrUnknown) {
		n.log.Error("it is not known whether a change of the plan was recorded; the database is asked once it is back", "revision", r.Number,
			"err", err)
		n.doubted = &doubted{r, next, items, c.Lines}
		err = n.settle(save)
	} else if err == nil {
		err = n.agree(save, r, both, next, items, c.Lines)
	}
	if err != nil {
		return nil, err
	}
	if e.Plan().Revision != next.Revision {
		return nil, errors.New("the change was not recorded, since the connection to the database was lost; try again")
	}
	c.Revision, c.Applied = next.Revision, true
	return c, nil
}

// agree puts a revision in force that is recorded here: in a pair once the partner
// has it on record, too, unless it is made here alone. The caller holds planMu.
func (n *Node) agree(ctx context.Context, r store.Revision, both bool, next *plan.Plan, items []plan.Change, lines []plan.Line) error {
	on, _ := n.paired()
	if on == nil {
		n.adopt(r, next, items, lines)
		return nil
	}
	n.parts(n.engine.Plan(), r)
	if !both {
		n.adopt(r, next, items, lines)
		n.nudgePair()
		return nil
	}
	for more := true; more; {
		var err error
		if more, err = n.bringPlan(ctx); err != nil {
			return fmt.Errorf("revision %d is recorded here, and comes into force once %s has it, too: %w", r.Number, on.Partner.Name, err)
		}
	}
	return nil
}

// confirmed reports that a change strands clients and nobody said that this is
// meant.
func confirmed(o Order, effects []Effect) error {
	if o.Confirm {
		return nil
	}
	var strands []string
	for _, f := range effects {
		if f.Strands {
			strands = append(strands, f.Text)
		}
	}
	if len(strands) > 0 {
		return fmt.Errorf("%w: %s", ErrConfirm, strings.Join(strands, "; "))
	}
	return nil
}

// adopt puts a recorded revision in force. The table takes it in a part at a
// time, so that packets are answered meanwhile. The caller holds planMu.
func (n *Node) adopt(r store.Revision, next *plan.Plan, items []plan.Change, lines []plan.Line) {
	n.engine.Take(next, items)
	n.changed.note(r, items, lines)
	n.events.Publish(engine.Event{Revision: next.Revision})
	n.log.Info("plan changed", "revision", next.Revision, "author", r.Author, "changes", len(lines))
}

func clients(n int) string {
	if n == 1 {
		return "1 client"
	}
	return fmt.Sprintf("%d clients", n)
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

// EachLease walks the leases of a scope, or of the whole table for 0, without
// holding up the service. Of several functions each gets a share, side by side. What
// is kept of a lease beyond the function is a Clone.
func (n *Node) EachLease(scope plan.ID, share ...func(*lease.Lease)) {
	n.engine.EachLease(scope, share...)
}

// HeldBy is the address that a reservation's client holds in a scope now.
func (n *Node) HeldBy(scope plan.ID, r *plan.Reservation) (found netip.Addr, ok bool) {
	now := lease.At(n.clock.Now())
	n.engine.EachLease(scope, func(l *lease.Lease) {
		if holds(r, l) && l.HeldAt(now) {
			found, ok = l.Address(), true
		}
	})
	return found, ok
}
