package node

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/engine"
	"yarnpost/service/observe"
	"yarnpost/service/trial"
)

// TrialStep is one thing that a trial looked at.
type TrialStep struct {
	What string
	Good bool
	Took time.Duration // of an exchange; 0 otherwise
}

// TrialResult is one trial.
type TrialResult struct {
	Trial   plan.Trial
	Scope   string
	At      time.Time
	Good    bool
	Address netip.Addr
	Steps   []TrialStep
}

// trials remembers what trials found.
type trials struct {
	mu      sync.Mutex
	results map[string][]TrialResult // newest last
}

const (
	trialKeep     = 50 // results of one trial
	trialPatience = 4 * time.Second
	trialName     = "yarnpost-trial" // host name by which a trial's own lease is known
)

// TrialResults lists the last results of a trial, newest last.
func (n *Node) TrialResults(name string) []TrialResult {
	n.trials.mu.Lock()
	defer n.trials.mu.Unlock()
	return append([]TrialResult(nil), n.trials.results[name]...)
}

// RunTrial makes a real exchange as a client of a scope: messages through a
// socket, as a relay of the scope's link would forward them. It compares what
// the client gets with what the plan says, and gives the address back.
func (n *Node) RunTrial(ctx context.Context, t plan.Trial) (TrialResult, error) {
	p := n.engine.Plan()
	v := p.Scope(t.Scope)
	if v == nil {
		return TrialResult{}, errors.New("the trial's scope is not there any more")
	}
	r := TrialResult{Trial: t, Scope: v.Name, At: n.clock.Now(), Good: true}
	note := func(good bool, took time.Duration, format string, args ...any) {
		r.Steps = append(r.Steps, TrialStep{fmt.Sprintf(format, args...), good, took})
		r.Good = r.Good && good
	}
	n.tryOut(ctx, p, v, t, &r, note)
	if t.Name != "" {
		n.trials.mu.Lock()
		list := append(n.trials.results[t.Name], r)
		n.trials.results[t.Name] = list[max(0, len(list)-trialKeep):]
		n.trials.mu.Unlock()
	}
	n.engine.ForgetUnserved(t.Hardware) // it is no client that goes without
	if !r.Good {
		n.log.Warn("a trial failed", "trial", t.Name, "scope", v.Name, "step", r.Steps[len(r.Steps)-1].What)
	}
	return r, nil
}

func (n *Node) tryOut(ctx context.Context, p *plan.Plan, v *plan.View, t plan.Trial, r *TrialResult,
	note func(bool, time.Duration, string, ...any)) {
	for _, l := range n.engine.Where(t.Hardware) {
		if l.Hostname != trialName {
			note(false, 0, "%s holds %s as %q: the trial would take it away; choose another hardware address", t.Hardware, l.Address(), l.Hostname)
			return
		}
	}
	server := n.wire.Addr()
	at := server.Addr()
	if at.IsUnspecified() {
		at = netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	relay, err := trial.NewRelay(at, v.Subnet.Addr(), netip.AddrPortFrom(at, server.Port()))
	if err != nil {
		note(false, 0, "the trial could not begin: %v", err)
		return
	}
	relay.Tried = 60
	defer relay.Close()
	defer n.engine.BeginTrial(relay.Local())()
	c := &trial.Client{Relay: relay, Hardware: t.Hardware, Vendor: t.Vendor, Circuit: t.Circuit, Hostname: trialName, Patience: trialPatience,
		Wants: []byte{1, 3, 6, 12, 15, 28, 42, 43, 51, 54, 58, 59, 66, 67, 119, 121, 138, 150}}

	ask := c.Message(dhcp4.Discover)
	ask.Type, ask.GIAddr, ask.Secs = dhcp4.Discover, at, relay.Tried
	ask.Options = append(ask.Options, dhcp4.Option{Code: option.RelayAgent, Data: relay.Option82(t.Circuit)})
	expected, err := n.engine.Explain(answer.Request{Message: &ask, Server: at, Unicast: true, Trial: true})
	if err != nil {
		note(false, 0, "what the plan says could not be worked out: %v", err)
		return
	}
	begun := n.clock.Now()
	offer, err := c.Discover(ctx)
	took := n.clock.Since(begun)
	switch {
	case err != nil:
		by := "it should get one"
		if d := expected.Decision; d.Outcome != answer.Offered {
			by = "it gets none: " + d.Why.Words(d.Rule)
		}
		note(false, took, "no offer within %s; by the plan %s", trialPatience, by)
		return
	case offer.Type != dhcp4.Offer:
		note(false, took, "got %s instead of an OFFER", offer.Type)
		return
	}
	note(true, took, "offered %s", offer.YIAddr)
	begun = n.clock.Now()
	if err := c.Request(ctx, offer); err != nil {
		note(false, n.clock.Since(begun), "the offer was not acknowledged: %v", err)
		return
	}
	note(true, n.clock.Since(begun), "acknowledged %s for %s", c.Address, option.FormatDuration(c.Lease))
	r.Address = c.Address
	note(p.ScopeAt(c.Address) != nil && p.ScopeAt(c.Address).Link == v.Link, 0, "%s is of the link", c.Address)
	n.compare(p, c, expected, note)
	var l *lease.Lease
	n.engine.With(func(table *lease.Table) { l = table.At(c.Address) })
	note(l != nil && l.Hardware == t.Hardware && l.Status == lease.Active, 0, "the lease table has the lease")
	given := c.Address
	if err := c.Release(); err != nil {
		note(false, 0, "the address could not be given back: %v", err)
		return
	}
	for range 40 {
		n.engine.With(func(table *lease.Table) { l = table.At(given) })
		if l != nil && l.Over() {
			note(true, 0, "given back")
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	note(false, 0, "given back, but the lease table still has it")
}

// compare holds what a trial got against what the plan says.
func (n *Node) compare(p *plan.Plan, c *trial.Client, expected engine.Explained, note func(bool, time.Duration, string, ...any)) {
	if expected.Decision.Outcome == answer.Offered {
		var would dhcp4.Message
		if dhcp4.Decode(&would, expected.Bytes) == nil {
			different := observe.OptionDifferences(p, would.Options, c.Last.Options)
			note(len(different) == 0, 0, "%s", say(different, "its options are what the plan says"))
		}
		if v := p.ScopeAt(c.Address); v != nil { // else that is said already
			want := v.LeaseFor(p.ReservationAt(c.Address))
			note(c.Lease <= want, 0, "the lease time is at most %s", option.FormatDuration(want))
		}
	} else {
		note(false, 0, "by the plan it should get nothing: %s", expected.Decision.Why.Words(expected.Decision.Rule))
	}
}

func say(list []string, otherwise string) string {
	if len(list) == 0 {
		return otherwise
	}
	text := list[0]
	for _, s := range list[1:] {
		text += "; " + s
	}
	return text
}

// runDue runs the trials whose time has come, one after the other.
func (n *Node) runDue() {
	for _, t := range n.engine.Plan().Trials() {
		if t.Every == 0 {
			continue
		}
		results := n.TrialResults(t.Name)
		if len(results) > 0 && n.clock.Since(results[len(results)-1].At) < time.Duration(t.Every) {
			continue
		}
		ctx, cancel := context.WithTimeout(n.running, 30*time.Second)
		if _, err := n.RunTrial(ctx, *t); err != nil {
			n.log.Warn("a trial could not be run", "trial", t.Name, "err", err)
		}
		cancel()
	}
}

// FailingTrials lists the scheduled trials whose last run failed.
func (n *Node) FailingTrials() (out []TrialResult) {
	for _, t := range n.engine.Plan().Trials() {
		if results := n.TrialResults(t.Name); len(results) > 0 && !results[len(results)-1].Good {
			out = append(out, results[len(results)-1])
		}
	}
	return out
}
