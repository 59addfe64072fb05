package failover

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"yarnpost/core/plan"
	"yarnpost/service/change"
	"yarnpost/service/store"
)

// Aside is a revision that was not chosen when the plans of a pair had parted.
type Aside struct {
	Key string `json:"key"` // by which it is asked for: its server and a number
	store.Kept
}

// asideHere lists what is kept on this server.
func (p *Pair) asideHere(ctx context.Context) (out []Aside, err error) {
	list, err := p.Store.Aside(ctx)
	for _, k := range list {
		out = append(out, Aside{fmt.Sprintf("%s-%d", p.Name(), k.ID), k})
	}
	return out, err
}

// Aside lists the revisions that were not chosen: this server's, and the partner's as
// far as it can be asked.
func (p *Pair) Aside(ctx context.Context) ([]Aside, error) {
	out, err := p.asideHere(ctx)
	if err != nil {
		return nil, err
	}
	if _, c := p.paired(); c != nil {
		ctx, cancel := context.WithTimeout(ctx, askTime)
		defer cancel()
		var theirs []Aside
		if c.Ask(ctx, "plan.aside", struct{}{}, &theirs) == nil {
			out = append(out, theirs...)
		}
	}
	slices.SortStableFunc(out, func(a, b Aside) int { return b.Chosen.Compare(a.Chosen) })
	return out, nil
}

// Again makes what a revision that was kept aside had changed, as a new revision.
func (p *Pair) Again(ctx context.Context, key string, o change.Order) (*change.Change, error) {
	list, err := p.Aside(ctx)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(list, func(a Aside) bool { return a.Key == key })
	if at < 0 {
		return nil, fmt.Errorf("%w: no revision %s is kept aside; \"yarnpost pair settle\" lists those that are", plan.ErrNotFound, key)
	}
	changes, err := list[at].Changes()
	if err != nil {
		return nil, fmt.Errorf("revision %s: %w", key, err)
	}
	made := madeIn(list, list[at].Chosen)
	o.Reason = cmp.Or(o.Reason, "applies again what was kept aside as "+key)
	return p.Plans.Change(ctx, o, func(d *plan.Draft) error { return d.Redo(changes, made) })
}

// madeIn knows the items that a line added which was given up at a moment.
func madeIn(list []Aside, chosen time.Time) func(plan.Kind, plan.ID) (string, bool) {
	type key struct {
		kind plan.Kind
		id   plan.ID
	}
	names := map[key]string{}
	for _, a := range list {
		if !a.Chosen.Equal(chosen) {
			continue
		}
		for _, i := range a.Items {
			k := key{i.Kind, i.ID}
			if _, made := names[k]; made || i.Before == nil {
				names[k] = i.Name
			}
		}
	}
	return func(kind plan.Kind, id plan.ID) (string, bool) {
		name, ok := names[key{kind, id}]
		return name, ok
	}
}
