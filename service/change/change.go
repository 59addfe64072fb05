// Package change makes changes of the plan: what a draft edits is previewed, with advice and
// the clients that it touches, or becomes one durable revision in force.
package change

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/audit"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/permit"
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
	Base      int64 // revision it was made against
	Revision  int64 // revision in force afterwards
	Applied   bool
	Lines     []plan.Line
	Advice    []audit.Finding
	Effects   []Effect
	Inherits  []plan.Line  // what scopes inherit differently; the first of them
	Inherited int          // how many of those there are
	Plan      *plan.Plan   // as it is, or would be, afterwards
	Scopes    []*plan.View // changed ones of it
	Needs     string       // whose changes need a second person's approval, as "scope looms"; or ""
}

// ErrApproval is wrapped when a change needs a second person's approval.
var ErrApproval = fmt.Errorf("%w: it needs a second person's approval", plan.ErrRefused)

// Order says how a change is to be made.
type Order struct {
	Author, Reason string
	Base           int64  // refuse if the plan is at another revision; 0: any
	Preview        bool   // only say what would happen
	Confirm        bool   // go ahead although clients are stranded
	Alone          bool   // go ahead although the partner cannot be reached
	Approved       string // who approved it, beside those who made it; "" for nobody
}

// Engine serves by the plan.
type Engine interface {
	Plan() *plan.Plan
	// Take puts a plan in force that differs from the one before by some items.
	Take(next *plan.Plan, items []plan.Change)
	EachLease(scope plan.ID, share ...func(*lease.Lease))
	With(f func(*lease.Table))
	Given(digest uint64) (answer.Set, bool)
}

// Store records revisions.
type Store interface {
	LoadPlan(ctx context.Context) (*plan.Plan, error)
	// SavePlan records a revision as a whole or not at all; the error wraps
	// store.ErrUnknown if it is not known which.
	SavePlan(ctx context.Context, r store.Revision, items []plan.Change, lines func(plan.Change) []plan.Line) error
	PlanRecorded(ctx context.Context, r store.Revision) (bool, error)
}

// Host is the machine that the plan is served from.
type Host interface {
	// PlanInterfaces are the interfaces on which broadcast clients are served.
	PlanInterfaces() []plan.Interface
	// NewlyTold looks at the routers and servers that clients are told of by a plan, and
	// were not by the one before.
	NewlyTold(ctx context.Context, before, after *plan.Plan) []audit.Finding
}

// Partner is the other server of a pair, as far as it has a say in the plan. Its methods
// are called by whoever has the plan to itself.
type Partner interface {
	// MayChange reports why the plan cannot be changed here now, if it cannot; both says
	// that the partner must have the change before it is in force.
	MayChange(alone bool) (both bool, err error)
	// Agree has adopt put a revision in force that is recorded here: at once, or, with
	// both, once the partner has it on record, too.
	Agree(ctx context.Context, r store.Revision, both bool, adopt func()) error
}

// Planner makes changes of the plan, one at a time.
type Planner struct {
	Parts
	mu      sync.Mutex // one change of the plan at a time
	doubted *doubted   // a change of the plan that may be on record; under mu
	changed changes    // the last changes of the plan; under mu
}

// Parts are what a planner needs.
type Parts struct {
	Engine  Engine
	Store   Store
	Host    Host
	Partner Partner
	Permits permit.Permits
	Clock   Clock
	Log     *slog.Logger
	Adopted func(revision int64) // is told of each revision that came into force
	// Outlook is what is expected of the use of a scope; ok is false if nothing is.
	Outlook func(scope plan.ID) (f capacity.Forecast, ok bool)
}

// Clock tells the time.
type Clock interface{ Now() time.Time }

// New makes a planner.
func New(p Parts) *Planner { return &Planner{Parts: p} }

// Hold keeps everybody else from changing the plan until release is called.
func (p *Planner) Hold() (release func()) {
	p.mu.Lock()
	return p.mu.Unlock
}

// MayChange reports why the plan cannot be changed here now, if it cannot.
func (p *Planner) MayChange(alone bool) error {
	defer p.Hold()()
	_, err := p.Partner.MayChange(alone)
	return err
}

// Change edits the plan: either all that edit does becomes one durable revision in force,
// or nothing changes. It goes on when the caller does not wait any more.
func (p *Planner) Change(ctx context.Context, o Order, edit func(*plan.Draft) error) (*Change, error) {
	before := p.Engine.Plan()
	c, err := p.change(ctx, o, edit)
	if c != nil && c.Plan != nil && len(c.Scopes) > 0 {
		c.Advice = append(c.Advice, p.Host.NewlyTold(ctx, before, c.Plan)...)
	}
	return c, err
}

func (p *Planner) change(ctx context.Context, o Order, edit func(*plan.Draft) error) (*Change, error) {
	defer p.Hold()()
	if err := p.settle(ctx); err != nil {
		return nil, err
	}
	old := p.Engine.Plan()
	d := old.Draft()
	if err := edit(d); err != nil {
		return nil, err
	}
	next, items := d.Finish()
	for _, c := range items {
		if err := p.Permits.MayChange(o.Author, c, old, next); err != nil {
			return nil, err
		}
	}
	if o.Base != 0 && o.Base != old.Revision {
		if err := p.changed.between(o.Base, old.Revision, items); err != nil {
			return nil, err
		}
	}
	c := &Change{Base: old.Revision, Revision: old.Revision,
		Advice: audit.OfChange(next, items, p.Host.PlanInterfaces())}
	c.Plan = next
	lines := make(map[plan.ID][]plan.Line, len(items))
	for _, ch := range items {
		lines[ch.ID] = plan.Diff([]plan.Change{ch}, d.Label)
		c.Lines = append(c.Lines, lines[ch.ID]...)
		if v := next.Scope(ch.ID); v != nil && ch.Kind == plan.KindScope {
			c.Scopes = append(c.Scopes, v)
		}
	}
	c.Inherits, c.Inherited = plan.Inherited(old, next, inheritsMost)
	c.Effects = p.effects(old, next, items, lease.At(p.Clock.Now()))
	c.Needs = needsApproval(old, items)
	if o.Preview || len(items) == 0 {
		return c, nil
	}
	if c.Needs != "" && o.Approved == "" {
		return c, fmt.Errorf("%w: changes of %s do; gather it in a change in preparation (yarnpost change begin), which another person approves",
			ErrApproval, c.Needs)
	}
	if err := confirmed(o, c.Effects); err != nil {
		return c, err
	}
	both, err := p.Partner.MayChange(o.Alone)
	if err != nil {
		return c, err
	}
	r := store.Revision{Number: next.Revision, At: p.now(), Author: o.Author, Reason: o.Reason}
	save, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	err = p.Store.SavePlan(save, r, items, func(c plan.Change) []plan.Line { return lines[c.ID] })
	if errors.Is(err, store.ErrUnknown) {
		p.Log.Error("it is not known whether a change of the plan was recorded; the database is asked once it is back", "revision",
			r.Number,
			"err", err)
		p.doubted = &doubted{r, next, items, c.Lines}
		err = p.settle(save)
	} else if err == nil {
		err = p.Partner.Agree(save, r, both, func() { p.Adopt(r, next, items, c.Lines) })
	}
	if err != nil {
		return nil, err
	}
	if p.Engine.Plan().Revision != next.Revision {
		return nil, errors.New("the change was not recorded, since the connection to the database was lost; try again")
	}
	c.Revision, c.Applied = next.Revision, true
	return c, nil
}

// needsApproval is what among a change asks for a second person's approval, or "": as the plan
// was, so that to ask for it needs none, and to ask for it no more does.
func needsApproval(old *plan.Plan, items []plan.Change) string {
	for _, c := range items {
		after := c.After
		if s, ok := after.(plan.Scope); ok {
			s.Approval = false
			after = s
		}
		for _, item := range []plan.Item{c.Before, after} {
			if item == nil {
				continue
			}
			if of := old.NeedsApproval(item); of != "" {
				return of
			}
		}
	}
	return ""
}

// inheritsMost is how much of what scopes inherit differently is listed.
const inheritsMost = 50

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

// Adopt puts a recorded revision in force. The table takes it in a part at a time, so that
// packets are answered meanwhile. The caller holds the plan (Hold).
func (p *Planner) Adopt(r store.Revision, next *plan.Plan, items []plan.Change, lines []plan.Line) {
	p.Engine.Take(next, items)
	p.changed.note(r, items, lines)
	p.Adopted(next.Revision)
	p.Log.Info("plan changed", "revision", next.Revision, "author", r.Author, "changes", len(lines))
}

// Replace puts a plan in force of which revisions are not those that were in force here,
// which are forgotten. The caller holds the plan (Hold).
func (p *Planner) Replace(next *plan.Plan) {
	p.Engine.Take(next, plan.Between(p.Engine.Plan(), next))
	p.Forget()
}

// Forget forgets the last changes, which are of another line of revisions. The
// caller holds the plan (Hold).
func (p *Planner) Forget() { p.changed = nil }

// ByItself makes a change that the service makes of its own, here alone, and without a look
// at whom it touches. The caller holds the plan (Hold).
func (p *Planner) ByItself(ctx context.Context, reason string, edit func(*plan.Draft) error) error {
	d := p.Engine.Plan().Draft()
	if err := edit(d); err != nil {
		return err
	}
	next, items := d.Finish()
	if len(items) == 0 {
		return nil
	}
	r := store.Revision{Number: next.Revision, At: p.now(), Author: itself, Reason: reason}
	lines := plan.Diff(items, d.Label)
	if err := p.Store.SavePlan(context.WithoutCancel(ctx), r, items, func(plan.Change) []plan.Line { return lines }); err != nil {
		return err
	}
	p.Adopt(r, next, items, lines)
	return nil
}

// RecordAgain records what the plan in force has and the database's has not, as one
// revision; it says so in words, or gives "" if there is nothing. Then is called once that
// is on record.
func (p *Planner) RecordAgain(ctx context.Context, then func() error) (said string, err error) {
	defer p.Hold()()
	mine := p.Engine.Plan()
	theirs, err := p.Store.LoadPlan(ctx)
	if err != nil || theirs.Revision == mine.Revision {
		return "", err
	}
	lost := fmt.Sprintf("revisions %d to %d", theirs.Revision+1, mine.Revision)
	r := store.Revision{Number: mine.Revision, At: p.now(), Author: itself, Reason: lost + ", which the database had lost, as one"}
	d := mine.Draft()
	if err := p.Store.SavePlan(ctx, r, plan.Between(theirs, mine),
		func(c plan.Change) []plan.Line { return plan.Diff([]plan.Change{c}, d.Label) }); err != nil {
		return "", err
	}
	return lost + " of the plan were recorded again, as one", then()
}

// itself is the author of what the service changes by itself.
const itself = "yarnpost"

// now is the time as precisely as the database keeps it.
func (p *Planner) now() time.Time { return p.Clock.Now().Truncate(time.Microsecond) }

// Clients counts clients in words.
func Clients(n int) string {
	if n == 1 {
		return "1 client"
	}
	return fmt.Sprintf("%d clients", n)
}
