package prepare

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"yarnpost/core/audit"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/service/change"
	"yarnpost/service/store"
)

// This file makes changes that were prepared: at once, or when they are due.

// Checked is a change in preparation against the plan as it is.
type Checked struct {
	Preparation
	Change    *change.Change // what it does, if all of it fits
	Faults    []edit.Fault   // steps that do not fit the plan any more
	Meanwhile [][]string     // by step: what was changed of the same item since
	RunDown   []*plan.View   // scopes whose clients see a difference
}

// Check looks at one against the plan as it is.
func (k *Keeper) Check(ctx context.Context, name, who string) (Checked, error) {
	p, err := k.Get(name)
	if err != nil {
		return Checked{}, err
	}
	out := Checked{Preparation: p, Faults: edit.Together(k.at(), k.Engine.Plan().Draft(), p.Edits(), false)}
	if out.Meanwhile, err = k.meanwhile(ctx, p); err != nil {
		return out, err
	}
	if len(out.Faults) > 0 || p.Watch != nil {
		return out, nil
	}
	out.Change, err = k.Plans.Change(ctx, change.Order{Author: who, Preview: true}, k.making(p.Edits()))
	if err == nil {
		out.RunDown = touched(k.Engine.Plan(), out.Change.Plan)
	}
	return out, err
}

// lookedBack is how many revisions are looked at for what was changed meanwhile.
const lookedBack = 200

// meanwhile says, by step, what was changed of its item since the step was made.
func (k *Keeper) meanwhile(ctx context.Context, p Preparation) ([][]string, error) {
	out := make([][]string, len(p.Steps))
	now := k.Engine.Plan().Revision
	oldest := now
	for _, s := range p.Steps {
		oldest = min(oldest, s.Revision)
	}
	if oldest == now {
		return out, nil
	}
	list, err := k.Store.Revisions(ctx, 0, int(min(now-oldest, lookedBack)), 0)
	if err != nil {
		return nil, err
	}
	of := make(map[item][]int, len(p.Steps)) // which steps change an item
	for i, s := range p.Steps {
		of[itemOf(s.Edit)] = append(of[itemOf(s.Edit)], i)
	}
	for _, r := range list {
		if own, _ := p.marks(r); own {
			continue
		}
		for _, l := range r.Lines {
			name := l.Name
			if l.Kind == plan.KindDefaults { // there is but one
				name = ""
			}
			for _, i := range of[item{string(l.Kind), strings.ToLower(name)}] {
				if r.Number > p.Steps[i].Revision {
					out[i] = append(out[i], fmt.Sprintf("%s, by %s in revision %d", l.Text, r.Author, r.Number))
				}
			}
		}
	}
	return out, nil
}

// touched are the scopes whose clients see a difference between two plans.
func touched(old, next *plan.Plan) (out []*plan.View) {
	names := map[string]bool{}
	lines, _ := plan.Inherited(old, next, 1<<20)
	for _, l := range lines {
		names[l.Name] = true
	}
	parts := map[plan.ID]bool{}
	everywhere := false
	for _, c := range plan.Between(old, next) {
		for _, item := range []plan.Item{c.Before, c.After} {
			switch v := item.(type) {
			case plan.Scope:
				parts[v.ID] = true
			case plan.Reservation:
				parts[v.Scope] = true
			case plan.Rule:
				parts[v.Scope] = true
				everywhere = everywhere || v.Scope == 0
			}
		}
	}
	for _, v := range old.Scopes() {
		if v.Mode != plan.Held && (everywhere || parts[v.ID] || names[v.Name]) {
			out = append(out, v)
		}
	}
	return out
}

// Apply makes one at once. It is kept if it is watched, and gone otherwise.
func (k *Keeper) Apply(ctx context.Context, name string, o change.Order, undo *Undo) (*change.Change, error) {
	defer k.Hold()()
	p, err := k.Get(name)
	switch {
	case err != nil:
		return nil, err
	case p.Watch != nil:
		return nil, plan.Refused("%s was made already, as revision %d; it is watched until %s", p.Name, p.Watch.Revision, p.Watch.Until.Format(time.RFC3339))
	case len(p.Steps) == 0:
		return nil, plan.Refused("nothing was gathered in %s yet; a command with --into %s does", p.Name, p.Name)
	case p.Making != 0:
		return nil, plan.Refused("%s is being made just now; look again in a moment", p.Name)
	}
	if undo != nil {
		p.Undo = undo
	}
	return k.apply(ctx, p, o)
}

// apply makes it. Whoever calls it holds the keeper.
func (k *Keeper) apply(ctx context.Context, p Preparation, o change.Order) (*change.Change, error) {
	if faults := edit.Together(k.at(), k.Engine.Plan().Draft(), p.Edits(), false); len(faults) > 0 {
		return nil, p.unfit(faults)
	}
	o.Reason, o.Approved = p.reason(o.Reason), p.approved()
	do := func(d *plan.Draft) error {
		if err := k.making(p.Edits())(d); err != nil {
			return err
		}
		return p.endsRunDown(d)
	}
	if o.Preview {
		return k.Plans.Change(ctx, o, do)
	}
	if err := k.Plans.MayChange(o.Alone); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx) // what was begun is ended, whoever waits for it
	p.Making = k.Engine.Plan().Revision + 1
	if err := k.save(ctx, p); err != nil {
		return nil, err
	}
	before := k.Engine.UnservedCount()
	c, err := k.Plans.Change(ctx, o, do)
	if errors.Is(err, store.ErrUnknown) {
		return c, err // what came of it is found out later
	}
	if p.Making = 0; err != nil {
		return c, errors.Join(p.approve(c, err), k.save(ctx, p))
	}
	if !c.Applied { // the plan said so already: there is nothing to look at, or to undo
		p.Undo = nil
	}
	return c, k.made(ctx, p, c.Revision, before)
}

// approve says, where an approval is missing, how it is given.
func (p Preparation) approve(c *change.Change, err error) error {
	if errors.Is(err, change.ErrApproval) && c != nil {
		return fmt.Errorf("%w, since it changes %s; somebody who made no part of it does that: yarnpost change approve %s",
			change.ErrApproval, c.Needs, p.Name)
	}
	return err
}

// made goes on after a change was made: it is watched, or gone.
func (k *Keeper) made(ctx context.Context, p Preparation, revision int64, before int) error {
	if p.Due = nil; p.Undo == nil {
		return k.gone(ctx, p.Name)
	}
	p.Making, p.Watch = 0, &Watch{Revision: revision, Before: before, Until: k.Clock.Now().UTC().Add(p.Undo.Within).Truncate(time.Second)}
	return k.save(ctx, p)
}

// Schedule sets the moment at which one is made by itself. With due.RunDown the leases of whoever
// sees a difference run down until then, by a revision of the plan made now.
func (k *Keeper) Schedule(ctx context.Context, name string, due Due, undo *Undo, alone bool) (*change.Change, error) {
	defer k.Hold()()
	p, err := k.Get(name)
	if err != nil {
		return nil, err
	}
	d := k.Engine.Plan().Draft()
	switch faults := edit.Together(k.at(), d, p.Edits(), false); {
	case p.Watch != nil:
		return nil, plan.Refused("%s was made already, as revision %d", p.Name, p.Watch.Revision)
	case p.Making != 0:
		return nil, plan.Refused("%s is being made just now; look again in a moment", p.Name)
	case len(p.Steps) == 0:
		return nil, plan.Refused("nothing was gathered in %s yet", p.Name)
	case !due.At.After(k.Clock.Now()):
		return nil, plan.Refused("%s is past; it is %s now", due.At.UTC().Format(time.RFC3339), k.Clock.Now().UTC().Format(time.RFC3339))
	case len(faults) > 0:
		return nil, p.unfit(faults)
	}
	due.At, due.Set = due.At.UTC().Truncate(time.Second), k.Clock.Now().UTC().Truncate(time.Second)
	next, _ := d.Finish()
	c, err := k.runDown(ctx, p, &due, next, change.Order{Author: due.By, Alone: alone})
	if err != nil {
		return nil, p.approve(c, err)
	}
	p.Due, p.Undo, p.Failed = &due, undo, ""
	return c, k.save(ctx, p)
}

// runDown has leases run down for a moment that is set, in the scopes whose clients see a difference
// to the plan that is to be, and in no others any more.
func (k *Keeper) runDown(ctx context.Context, p Preparation, due *Due, next *plan.Plan, o change.Order) (*change.Change, error) {
	old := k.Engine.Plan()
	o.Reason, o.Approved = p.reason(runsDown), cmp.Or(p.approved(), o.Approved)
	return k.Plans.Change(ctx, o, func(d *plan.Draft) error {
		if err := p.endsRunDown(d); err != nil || !due.RunDown {
			return err
		}
		for _, v := range touched(old, next) {
			at := d.Plan().Scope(v.ID)
			if at == nil {
				continue
			}
			s := at.Scope
			s.RunDown = due.At
			if _, err := d.PutScope(s); err != nil {
				return err
			}
		}
		return nil
	})
}

// runDownAgain has leases run down as what was gathered since a moment was set asks for.
func (k *Keeper) runDownAgain(ctx context.Context, p Preparation, o change.Order) error {
	if p.Due == nil || !p.Due.RunDown {
		return nil
	}
	d := k.Engine.Plan().Draft()
	if faults := edit.Together(k.at(), d, p.Edits(), false); len(faults) > 0 {
		return nil // whoever looks at it is told
	}
	next, _ := d.Finish()
	_, err := k.runDown(ctx, p, p.Due, next, change.Order{Author: o.Author, Alone: o.Alone,
		Approved: "whoever approved the moment"})
	return err
}

// CallOff takes the set moment away again.
func (k *Keeper) CallOff(ctx context.Context, name string, o change.Order) error {
	defer k.Hold()()
	p, err := k.Get(name)
	if err != nil {
		return err
	}
	if p.Due == nil {
		return plan.Refused("%s is not set for any moment", p.Name)
	}
	if err := k.endRunDown(ctx, p, o.Author); err != nil {
		return err
	}
	p.Due = nil
	return k.save(ctx, p)
}

// endsRunDown ends the run-down of leases for a change that is due, in a draft.
func (p Preparation) endsRunDown(d *plan.Draft) error {
	if p.Due == nil || !p.Due.RunDown {
		return nil
	}
	for _, v := range d.Plan().Scopes() {
		if !v.RunDown.Equal(p.Due.At) {
			continue
		}
		s := v.Scope
		s.RunDown = time.Time{}
		if _, err := d.PutScope(s); err != nil {
			return err
		}
	}
	return nil
}

// endRunDown has leases run their usual time again.
func (k *Keeper) endRunDown(ctx context.Context, p Preparation, by string) error {
	if p.Due == nil || !p.Due.RunDown {
		return nil
	}
	_, err := k.Plans.Change(ctx, change.Order{Author: by, Reason: p.reason(calledOff), Approved: "nobody: it is as it was"},
		func(d *plan.Draft) error { return p.endsRunDown(d) })
	return err
}

// Failed are those that were not made when they were due, or were undone by themselves.
func (k *Keeper) Failed() (out []audit.Said) {
	for _, p := range k.List() {
		if p.Failed != "" {
			out = append(out, audit.Said{Subject: "change " + p.Name, Text: p.Failed})
		}
	}
	return out
}

// Tick makes what is due, looks at what was made, and finds out what came of what nobody knows.
func (k *Keeper) Tick(ctx context.Context) {
	if !k.Partner.WritesPlan() {
		return
	}
	for _, p := range k.List() {
		var err error
		switch now := k.Clock.Now(); {
		case k.pausing(p.Name, now):
		case p.Making != 0:
			err = k.settle(ctx, p.Name)
		case p.Watch != nil:
			err = k.look(ctx, p.Name)
		case p.Due != nil && !now.Before(p.Due.At):
			err = k.due(ctx, p.Name)
		}
		if err != nil {
			k.Log.Error("a change in preparation could not go on; it is tried again", "name", p.Name, "err", err)
			k.pause(p.Name)
		}
	}
}

// retryPause is how long what failed is left alone.
const retryPause = 5 * time.Second

func (k *Keeper) pause(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.paused[strings.ToLower(name)] = k.Clock.Now().Add(retryPause)
}

// pausing reports whether one is left alone; a clock that was set back does not prolong that.
func (k *Keeper) pausing(name string, now time.Time) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	until := k.paused[strings.ToLower(name)]
	return now.Before(until) && until.Sub(now) <= retryPause
}

// again gives one as it is now, if it is still as it was found.
func (k *Keeper) again(name string, still func(Preparation) bool) (p Preparation, ok bool) {
	p, err := k.Get(name)
	return p, err == nil && still(p)
}

// due makes one whose moment has come. What is refused is not tried again: a person has to look.
func (k *Keeper) due(ctx context.Context, name string) error {
	defer k.Hold()()
	p, ok := k.again(name, func(p Preparation) bool {
		return p.Making == 0 && p.Watch == nil && p.Due != nil && !k.Clock.Now().Before(p.Due.At)
	})
	if !ok {
		return nil
	}
	// The partner may have made it, and this server have gone on with it before it heard of that.
	r, err := k.madeAs(ctx, p, func(r store.Revision) bool { return r.At.After(p.Due.Set) })
	if err != nil {
		return err
	}
	if r != 0 {
		return k.gone(ctx, p.Name)
	}
	by := p.Due.By
	_, err = k.apply(ctx, p, change.Order{Author: by, Confirm: true, Reason: p.Note})
	if err == nil {
		k.Log.Info("a change in preparation was made when it was due", "name", p.Name, "by", by)
		return nil
	}
	if !errors.Is(err, plan.ErrRefused) && !errors.Is(err, plan.ErrNotFound) {
		return err // the database or the partner is away: again in a moment
	}
	p.Making, p.Due, p.Failed = 0, nil, fmt.Sprintf("it was due at %s and was not made: %v", p.Due.At.Format(time.RFC3339), err)
	return errors.Join(err, k.save(ctx, p))
}

// settle finds out what came of an attempt.
func (k *Keeper) settle(ctx context.Context, name string) error {
	defer k.Hold()()
	p, ok := k.again(name, func(p Preparation) bool { return p.Making != 0 })
	if !ok {
		return nil
	}
	r, err := k.madeAs(ctx, p, func(r store.Revision) bool { return r.Number >= p.Making })
	if err != nil {
		return err
	}
	if r != 0 {
		return k.made(ctx, p, r, k.Engine.UnservedCount())
	}
	p.Making = 0
	return k.save(ctx, p)
}

// madeAs is the revision by which one was made, among those that may be; 0 if there is none.
func (k *Keeper) madeAs(ctx context.Context, p Preparation, may func(store.Revision) bool) (int64, error) {
	list, err := k.Store.Revisions(ctx, 0, lookedBack, 1)
	for _, r := range list {
		if _, made := p.marks(r); made && may(r) {
			return r.Number, nil
		}
	}
	return 0, err
}

// look looks whether clients go unserved since a change, and undoes it if they do.
func (k *Keeper) look(ctx context.Context, name string) error {
	defer k.Hold()()
	p, ok := k.again(name, func(p Preparation) bool { return p.Watch != nil })
	if !ok {
		return nil
	}
	w, unserved := p.Watch, k.Engine.UnservedCount()
	if unserved-w.Before <= p.Undo.Above {
		if k.Clock.Now().Before(w.Until) {
			return nil
		}
		return k.gone(ctx, p.Name)
	}
	changes, err := k.Store.Changes(ctx, w.Revision)
	if err != nil {
		return err
	}
	why := fmt.Sprintf("%d clients go unserved, and %d did before", unserved, w.Before)
	_, err = k.Plans.Change(ctx, change.Order{Author: p.By, Confirm: true, Approved: "its own rule",
		Reason: fmt.Sprintf("change %s was undone by itself: %s", p.Name, why)},
		func(d *plan.Draft) error { return d.Revert(changes) })
	switch {
	case err == nil:
		p.Failed = fmt.Sprintf("revision %d was undone by itself: %s", w.Revision, why)
		k.Log.Warn("a change of the plan was undone by itself", "name", p.Name, "revision", w.Revision, "why", why)
	case errors.Is(err, plan.ErrRefused):
		p.Failed = fmt.Sprintf("revision %d was to be undone by itself (%s), and could not be: %v", w.Revision, why, err)
	default:
		return err
	}
	p.Watch, p.Due, p.Undo = nil, nil, nil
	return k.save(ctx, p)
}
