package change

import (
	"context"
	"fmt"
	"strings"
	"time"

	"yarnpost/core/plan"
	"yarnpost/service/store"
)

// This file is about changes of the plan that meet others: one of which it is
// not known whether it was recorded, and a colleague's in between.

// doubted is a change of the plan of which it is not known whether it was
// recorded, because the connection was lost at its commit.
type doubted struct {
	revision store.Revision
	plan     *plan.Plan
	items    []plan.Change
	lines    []plan.Line
}

// settle finds out what became of a change in doubt, if there is one. Until then
// the plan cannot be changed. The caller holds the plan.
func (p *Planner) settle(ctx context.Context) error {
	if p.doubted == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	u := p.doubted
	there, err := p.Store.PlanRecorded(ctx, u.revision)
	if err != nil {
		return fmt.Errorf("%w: revision %d waits for the database to tell; try again once that is back: %w", store.ErrUnknown,
			u.revision.Number, err)
	}
	p.doubted = nil
	if there {
		if err := p.Partner.Agree(ctx, u.revision, true, func() { p.Adopt(u.revision, u.plan, u.items, u.lines) }); err != nil {
			return err
		}
	}
	p.Log.Info("the database tells what became of a change of the plan", "revision", u.revision.Number, "recorded", there)
	return nil
}

// Settle asks the database what became of a change of which that is not known, if there is
// one.
func (p *Planner) Settle(ctx context.Context) {
	defer p.Hold()()
	if err := p.settle(ctx); err != nil {
		p.Log.Debug("a change of the plan is still in doubt", "err", err)
	}
}

// changesMost is how many changes of the plan are remembered, to tell whether
// two of them touch the same.
const changesMost = 500

// changes are the last changes of the plan, oldest first.
type changes []changedItems

type changedItems struct {
	revision store.Revision
	items    []plan.Change
	lines    []plan.Line
}

func (c *changes) note(r store.Revision, items []plan.Change, lines []plan.Line) {
	if *c = append(*c, changedItems{r, items, lines}); len(*c) > changesMost {
		*c = append(changes(nil), (*c)[len(*c)-changesMost:]...)
	}
}

// between reports a colleague's change since a revision to what would be changed
// now: that is shown, and never undone in silence.
func (c changes) between(base, now int64, wanted []plan.Change) error {
	if base > now {
		return fmt.Errorf("%w: your change was made against revision %d, and the plan is at revision %d; look at it again", store.ErrStale,
			base, now)
	}
	known := now
	for i := len(c) - 1; i >= 0 && c[i].revision.Number > base; i-- {
		known = c[i].revision.Number - 1
		if theirs, ok := c[i].touches(wanted); ok {
			return fmt.Errorf("%w: %s changed %s in revision %d (%s), after you looked at it; look again, and repeat what is still right",
				store.ErrStale, c[i].revision.Author, strings.TrimSpace(string(theirs.Kind)+" "+theirs.Name), c[i].revision.Number,
				c[i].describe(theirs))
		}
	}
	if known > base {
		return fmt.Errorf("%w: it is at revision %d and your change was made against %d; look at what changed and try again",
			store.ErrStale, now,
			base)
	}
	return nil
}

// touches finds an item that others change, too.
func (c changedItems) touches(wanted []plan.Change) (plan.Change, bool) {
	for _, theirs := range c.items {
		for _, mine := range wanted {
			if theirs.Kind == mine.Kind && (theirs.ID == mine.ID || theirs.Name != "" && theirs.Name == mine.Name) {
				return theirs, true
			}
		}
	}
	return plan.Change{}, false
}

// describe says in words what became of an item.
func (c changedItems) describe(item plan.Change) string {
	var what []string
	for _, l := range c.lines {
		if l.Kind == item.Kind && (l.Name == item.Name || item.Kind == plan.KindDefaults) {
			what = append(what, l.Text)
		}
	}
	return strings.Join(what, "; ")
}
