// Package trials makes real exchanges as a client would, on demand and on a schedule, holds
// what the client gets against the plan, and remembers what came of it.
package trials

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/service/observe"
	"yarnpost/service/report"
	"yarnpost/service/trial"
)

// Engine serves by the plan.
type Engine interface {
	Plan() *plan.Plan
	With(func(*lease.Table))
	// BeginTrial tells that what comes from an address is a trial's, until end is called.
	BeginTrial(from netip.AddrPort) (end func())
	ForgetUnserved(addr.Hardware)
}

// Parts are what a Runner needs.
type Parts struct {
	Engine  Engine
	Reports interface {
		Where(addr.Hardware) []*lease.Lease
		Explain(request.Request) (report.Explained, error)
	}
	Wire interface { // where DHCPv4 and DHCPv6 are served; not valid: that one is not
		Addr() netip.AddrPort
		Addr6() netip.AddrPort
	}
	Clock interface{ Now() time.Time }
	Log   *slog.Logger
}

// Runner runs trials.
type Runner struct {
	Parts
	mu      sync.Mutex
	results map[string][]Result // newest last
}

// New makes a runner.
func New(p Parts) *Runner { return &Runner{Parts: p, results: map[string][]Result{}} }

const kept = 50 // results of one trial

func (r *Runner) since(t time.Time) time.Duration { return r.Clock.Now().Sub(t) }

// Step is one thing that a trial looked at.
type Step struct {
	What string
	Good bool
	Took time.Duration // of an exchange; 0 otherwise
}

// Result is one trial.
type Result struct {
	Trial   plan.Trial
	Scope   string
	At      time.Time
	Good    bool
	Address netip.Addr
	Steps   []Step
}

// Results lists the last results of a trial, newest last.
func (r *Runner) Results(name string) []Result {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]Result(nil), r.results[name]...)
}

// Run makes a real exchange as a client of a scope: messages through a
// socket, as a relay of the scope's link would forward them. It compares what
// the client gets with what the plan says, and gives the address back.
func (r *Runner) Run(ctx context.Context, t plan.Trial) (Result, error) {
	p := r.Engine.Plan()
	v := p.Scope(t.Scope)
	if v == nil {
		return Result{}, errors.New("the trial's scope is not there any more")
	}
	out := Result{Trial: t, Scope: v.Name, At: r.Clock.Now(), Good: true}
	note := func(good bool, took time.Duration, format string, args ...any) {
		out.Steps = append(out.Steps, Step{fmt.Sprintf(format, args...), good, took})
		out.Good = out.Good && good
	}
	switch l := r.holder(t); {
	case l != nil:
		note(false, 0, "%s holds %s as %q: the trial would take it away; choose another hardware address", t.Hardware,
			addr.FormatKey(l.Prefix), l.Hostname)
	case v.Family() == option.V6:
		r.tryOut6(ctx, p, v, t, &out, note)
	default:
		r.tryOut(ctx, p, v, t, &out, note)
	}
	if t.Name != "" {
		r.keep(t.Name, out)
	}
	r.Engine.ForgetUnserved(t.Hardware) // it is no client that goes without
	if !out.Good {
		r.Log.Warn("a trial failed", "trial", t.Name, "scope", v.Name, "step", out.Steps[len(out.Steps)-1].What)
	}
	return out, nil
}

func (r *Runner) keep(name string, result Result) {
	r.mu.Lock()
	defer r.mu.Unlock()
	list := append(r.results[name], result)
	r.results[name] = list[max(0, len(list)-kept):]
}

// holder is a lease that somebody has by the hardware address of a trial, or nil.
func (r *Runner) holder(t plan.Trial) *lease.Lease {
	for _, l := range r.Reports.Where(t.Hardware) {
		if l.Hostname != trial.Name {
			return l
		}
	}
	return nil
}

func (r *Runner) tryOut(ctx context.Context, p *plan.Plan, v *plan.View, t plan.Trial, out *Result,
	note func(bool, time.Duration, string, ...any)) {
	server := r.Wire.Addr()
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
	defer r.Engine.BeginTrial(relay.Local())()
	c := &trial.Client{Relay: relay, Hardware: t.Hardware, Vendor: t.Vendor, Circuit: t.Circuit, Hostname: trial.Name,
		Patience: trial.ReplyTime,
		Wants:    []byte{1, 3, 6, 12, 15, 28, 42, 43, 51, 54, 58, 59, 66, 67, 119, 121, 138, 150}}

	ask := c.Message(dhcp4.Discover)
	ask.Type, ask.GIAddr, ask.Secs = dhcp4.Discover, at, relay.Tried
	ask.PutAgent(relay.Option82(t.Circuit))
	expected, err := r.Reports.Explain(ask.Request(request.Path{Server: at, Unicast: true, Trial: true}))
	if err != nil {
		note(false, 0, "what the plan says could not be worked out: %v", err)
		return
	}
	begun := r.Clock.Now()
	offer, err := c.Discover(ctx)
	took := r.since(begun)
	switch {
	case err != nil:
		note(false, took, "no offer within %s; by the plan %s", trial.ReplyTime, byPlan(expected))
		return
	case offer.Type != dhcp4.Offer:
		note(false, took, "got %s instead of an OFFER", offer.Type)
		return
	}
	note(true, took, "offered %s", offer.YIAddr)
	begun = r.Clock.Now()
	if err := c.Request(ctx, offer); err != nil {
		note(false, r.since(begun), "the offer was not acknowledged: %v", err)
		return
	}
	note(true, r.since(begun), "acknowledged %s for %s", c.Address, option.FormatDuration(c.Lease))
	out.Address = c.Address
	note(p.ScopeAt(c.Address) != nil && p.ScopeAt(c.Address).Link == v.Link, 0, "%s is of the link", c.Address)
	r.compare(p, c, expected, note)
	var l *lease.Lease
	r.Engine.With(func(table *lease.Table) { l = table.At(c.Address) })
	note(l != nil && l.Hardware == t.Hardware && l.Status == lease.Active, 0, "the lease table has the lease")
	given := c.Address
	if err := c.Release(); err != nil {
		note(false, 0, "the address could not be given back: %v", err)
		return
	}
	for range 40 {
		r.Engine.With(func(table *lease.Table) { l = table.At(given) })
		if l != nil && l.Over() {
			note(true, 0, "given back")
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	note(false, 0, "given back, but the lease table still has it")
}

// compare holds what a trial got against what the plan says.
func (r *Runner) compare(p *plan.Plan, c *trial.Client, expected report.Explained, note func(bool, time.Duration, string, ...any)) {
	if expected.Decision.First().Outcome == answer.Offered {
		var would dhcp4.Message
		if dhcp4.Decode(&would, expected.Bytes) == nil {
			different := observe.OptionDifferences(p, request.OptionsOf(&would), request.OptionsOf(c.Last))
			note(len(different) == 0, 0, "%s", say(different, "its options are what the plan says"))
		}
		if v := p.ScopeAt(c.Address); v != nil { // else that is said already
			want := v.LeaseFor(p.ReservationAt(c.Address))
			note(c.Lease <= want, 0, "the lease time is at most %s", option.FormatDuration(want))
		}
	} else {
		note(false, 0, "by the plan it should get nothing: %s", expected.Decision.First().Why.Words(expected.Decision.First().Rule))
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

// RunDue runs the trials whose time has come, one after the other.
func (r *Runner) RunDue(ctx context.Context) {
	for _, t := range r.Engine.Plan().Trials() {
		if t.Every == 0 {
			continue
		}
		results := r.Results(t.Name)
		if len(results) > 0 && r.since(results[len(results)-1].At) < time.Duration(t.Every) {
			continue
		}
		r.runOne(ctx, t)
	}
}

func (r *Runner) runOne(ctx context.Context, t *plan.Trial) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if _, err := r.Run(ctx, *t); err != nil {
		r.Log.Warn("a trial could not be run", "trial", t.Name, "err", err)
	}
}

// All are the results of all trials by name, as Restore takes them.
func (r *Runner) All() map[string][]Result {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string][]Result{}
	for name, list := range r.results {
		out[name] = slices.Clone(list)
	}
	return out
}

// Restore takes up results of an earlier run of the service.
func (r *Runner) Restore(all map[string][]Result) {
	if all == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.results = all
}

// Failing lists the scheduled trials whose last run failed.
func (r *Runner) Failing() (out []Result) {
	for _, t := range r.Engine.Plan().Trials() {
		if results := r.Results(t.Name); len(results) > 0 && !results[len(results)-1].Good {
			out = append(out, results[len(results)-1])
		}
	}
	return out
}
