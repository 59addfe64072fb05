// Package rehearse plays what happened on this server's networks against a plan as it would
// be. How that is done core/rehearsal knows; here its clients come from history, and results
// are kept for whoever asks.
package rehearse

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/rehearsal"
	"yarnpost/service/store"
	"yarnpost/service/work"
)

// Engine serves by the plan.
type Engine interface {
	Plan() *plan.Plan
	EachLease(scope plan.ID, share ...func(*lease.Lease))
}

// Parts are what rehearsals need.
type Parts struct {
	Engine Engine
	Store  interface {
		EachPast(ctx context.Context, from, to time.Time, subnets []netip.Prefix, f func(store.Event)) error
	}
	MCLT  func() (lead time.Duration, paired bool) // the lead time (MCLT) of the pair
	Work  *work.Group
	Clock interface{ Now() time.Time }
}

// Rehearsals are those of this server, one at a time.
type Rehearsals struct {
	Parts
	mu   sync.Mutex
	last int64
	kept []*Play
}

// New makes the rehearsals of a server.
func New(p Parts) *Rehearsals { return &Rehearsals{Parts: p} }

// playsKept is how many rehearsals are remembered.
const playsKept = 8

// Play is a rehearsal, at work or over.
type Play struct {
	ID     int64
	From   time.Time
	To     time.Time
	Lines  []plan.Line // what the rehearsed plan changes
	Gone   bool        // one server of the pair dies at the beginning
	Scopes []string    // that it is about; none: all

	mu       sync.Mutex
	done     float64
	step     string
	err      error
	over     bool
	cancel   context.CancelFunc
	Stays    int
	As, With rehearsal.Output // by the plan as it is, and as it would be
	Took     time.Duration
}

// Progress is how far the rehearsal is, what it does, whether it is over, and what
// went wrong.
func (p *Play) Progress() (done float64, step string, over bool, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.done, p.step, p.over, p.err
}

func (p *Play) note(done float64, step string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done, p.step = done, step
}

// ErrBusy is wrapped when a rehearsal is at work already.
var ErrBusy = errors.New("a rehearsal is at work")

// Start begins to play what happened in the last span against a plan as it would
// be; nil for the one in force.
func (r *Rehearsals) Start(span time.Duration, next *plan.Plan, items []plan.Change, lines []plan.Line, gone bool) (*Play, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, p := range r.kept {
		if _, _, over, _ := p.Progress(); !over {
			return nil, fmt.Errorf("%w; wait until number %d is over", ErrBusy, p.ID)
		}
	}
	now := r.Clock.Now()
	r.last++
	ctx, cancel := context.WithCancel(r.Work.Context())
	p := &Play{ID: r.last, From: now.Add(-span), To: now, Lines: lines, Gone: gone, cancel: cancel}
	if r.kept = append(r.kept, p); len(r.kept) > playsKept {
		r.kept = r.kept[1:]
	}
	r.Work.Go("a rehearsal", func(context.Context) {
		defer cancel()
		err := errors.New("the rehearsal met a fault of the program; the log has it")
		defer func() { p.end(err, r.Clock.Now().Sub(now)) }()
		err = r.play(ctx, p, next, items)
	})
	return p, nil
}

func (p *Play) end(err error, took time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.over, p.err, p.done, p.Took = true, err, 1, took
}

// Number is a rehearsal by its number, or nil.
func (r *Rehearsals) Number(id int64) *Play {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, p := range r.kept {
		if p.ID == id {
			return p
		}
	}
	return nil
}

// Cancel ends the rehearsal early.
func (p *Play) Cancel() { p.cancel() }

func (r *Rehearsals) play(ctx context.Context, p *Play, next *plan.Plan, items []plan.Change) error {
	now := r.Engine.Plan()
	p.note(0, "reading the history")
	links, subnets := touched(now, next, items)
	stays := rehearsal.NewStays(lease.At(p.From), lease.At(p.To))
	r.Engine.EachLease(0, func(l *lease.Lease) { // one that never ends is heard of once
		if l.Status == lease.Active && l.Expires == lease.Never && l.Since < lease.At(p.From) && concerns(subnets, l.Address()) {
			stays.Add(rehearsal.Line{At: l.Since, Lease: l.Clone()})
		}
	})
	// Who is there when the span begins was heard within a lease before.
	if err := r.Store.EachPast(ctx, p.From.Add(-longestLease(now)), p.To, subnets, func(e store.Event) {
		stays.Add(rehearsal.Line{At: lease.At(e.At), Lease: &e.Lease})
	}); err != nil {
		return err
	}
	in := rehearsal.Input{Stays: stays.All(), From: lease.At(p.From), To: lease.At(p.To),
		Cancelled:  func() bool { return ctx.Err() != nil },
		ScopesOnly: links}
	if len(in.Stays) == 0 {
		return errors.New("the history of that span has no client; choose a longer one")
	}
	p.Stays = len(in.Stays)
	in.Plan = now
	in.Progress = func(done float64) { p.note(0.1+0.45*done, "playing it by the plan as it is") }
	as := rehearsal.Play(in)
	in.Plan = next
	if p.Gone {
		in.Gone = &rehearsal.Gone{MCLT: time.Hour, Wait: time.Hour}
		if lead, ok := r.MCLT(); ok {
			in.Gone.MCLT, in.Gone.Wait = lead, lead
		}
	}
	in.Progress = func(done float64) { p.note(0.55+0.45*done, "playing it by the plan as it would be") }
	with := rehearsal.Play(in)
	if ctx.Err() != nil {
		return errors.New("the rehearsal was ended")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.As, p.With = as, with
	return nil
}

// touched are the scopes on whose links anything changes, with their subnets; nil
// where that is all of them.
func touched(now, next *plan.Plan, items []plan.Change) (scopes map[plan.ID]bool, subnets []netip.Prefix) {
	scopes = map[plan.ID]bool{}
	add := func(p *plan.Plan, id plan.ID) {
		if v := p.Scope(id); v != nil {
			for _, each := range p.OnLink(v.Link) {
				if !scopes[each.ID] {
					scopes[each.ID] = true
					subnets = append(subnets, each.Prefixes()...)
				}
			}
		}
	}
	for _, c := range items {
		id := plan.ID(0)
		for _, item := range []plan.Item{c.Before, c.After} {
			switch x := item.(type) {
			case plan.Scope:
				id = x.ID
			case plan.Reservation:
				id = x.Scope
			case plan.Rule:
				id = x.Scope
			case nil:
				continue
			}
			if id == 0 { // it concerns all
				return nil, nil
			}
			add(now, id)
			add(next, id)
		}
	}
	if len(scopes) == 0 {
		return nil, nil
	}
	return scopes, subnets
}

// lookBackMost bounds how much history before its span a rehearsal reads.
const lookBackMost = 30 * 24 * time.Hour

// longestLease is the longest lease time of a plan that ends, within bounds.
func longestLease(p *plan.Plan) (longest time.Duration) {
	for _, v := range p.Scopes() {
		span := v.LeaseFor(nil)
		if v.Family() == option.V6 {
			span = v.ValidFor(nil, span)
		}
		if span < option.Infinite {
			longest = max(longest, span)
		}
	}
	return min(longest, lookBackMost)
}

// concerns reports whether an address is in one of some subnets, or whether all are meant.
func concerns(subnets []netip.Prefix, a netip.Addr) bool {
	return len(subnets) == 0 || slices.ContainsFunc(subnets, func(p netip.Prefix) bool { return p.Contains(a) })
}
