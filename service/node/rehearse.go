package node

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
)

// plays are the rehearsals of this server, one at a time.
type plays struct {
	mu   sync.Mutex
	last int64
	kept []*Play
}

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

// Rehearse begins to play what happened in the last span against a plan as it would
// be; nil for the one in force.
func (n *Node) Rehearse(span time.Duration, next *plan.Plan, items []plan.Change, lines []plan.Line, gone bool) (*Play, error) {
	n.plays.mu.Lock()
	defer n.plays.mu.Unlock()
	for _, p := range n.plays.kept {
		if _, _, over, _ := p.Progress(); !over {
			return nil, fmt.Errorf("%w; wait until number %d is over", ErrBusy, p.ID)
		}
	}
	now := n.clock.Now()
	n.plays.last++
	ctx, cancel := context.WithCancel(n.running)
	p := &Play{ID: n.plays.last, From: now.Add(-span), To: now, Lines: lines, Gone: gone, cancel: cancel}
	n.plays.kept = append(n.plays.kept, p)
	if len(n.plays.kept) > playsKept {
		n.plays.kept = n.plays.kept[1:]
	}
	n.workers.Go(func() {
		defer cancel()
		defer n.engine.Guard("a rehearsal", nil)
		err := n.play(ctx, p, next, items)
		p.mu.Lock()
		defer p.mu.Unlock()
		p.over, p.err, p.done, p.Took = true, err, 1, n.clock.Since(now)
	})
	return p, nil
}

// PlayNumber is a rehearsal by its number, or nil.
func (n *Node) PlayNumber(id int64) *Play {
	n.plays.mu.Lock()
	defer n.plays.mu.Unlock()
	for _, p := range n.plays.kept {
		if p.ID == id {
			return p
		}
	}
	return nil
}

// Cancel ends the rehearsal early.
func (p *Play) Cancel() { p.cancel() }

func (n *Node) play(ctx context.Context, p *Play, next *plan.Plan, items []plan.Change) error {
	now := n.engine.Plan()
	p.note(0, "reading the history")
	links, subnets := n.touched(now, next, items)
	stays := rehearsal.NewStays(lease.At(p.From), lease.At(p.To))
	n.EachLease(0, func(l *lease.Lease) { // one that never ends is heard of once
		if l.Status == lease.Active && l.Expires == lease.Never && l.Since < lease.At(p.From) && concerns(subnets, l.Address()) {
			stays.Add(rehearsal.Line{At: l.Since, Lease: l.Clone()})
		}
	})
	// Who is there when the span begins was heard within a lease before.
	if err := n.store.EachPast(ctx, p.From.Add(-longestLease(now)), p.To, subnets, func(e store.Event) {
		stays.Add(rehearsal.Line{At: lease.At(e.At), Lease: &e.Lease})
	}); err != nil {
		return err
	}
	in := rehearsal.Input{Stays: stays.All(), From: lease.At(p.From), To: lease.At(p.To), Cancelled: func() bool { return ctx.Err() != nil },
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
		in.Gone = &rehearsal.Gone{Lead: time.Hour, Wait: time.Hour}
		if v, ok := n.Pair(); ok {
			in.Gone.Lead, in.Gone.Wait = v.Settings.Lead, v.Settings.Lead
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
func (n *Node) touched(now, next *plan.Plan, items []plan.Change) (scopes map[plan.ID]bool, subnets []netip.Prefix) {
	scopes = map[plan.ID]bool{}
	add := func(p *plan.Plan, id plan.ID) {
		if v := p.Scope(id); v != nil {
			for _, each := range p.OnLink(v.Link) {
				if !scopes[each.ID] {
					scopes[each.ID] = true
					subnets = append(subnets, each.Subnet)
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
		if span := v.LeaseFor(nil); span < option.Infinite {
			longest = max(longest, span)
		}
	}
	return min(longest, lookBackMost)
}

// concerns reports whether an address is in one of some subnets, or whether all are meant.
func concerns(subnets []netip.Prefix, a netip.Addr) bool {
	return len(subnets) == 0 || slices.ContainsFunc(subnets, func(p netip.Prefix) bool { return p.Contains(a) })
}
