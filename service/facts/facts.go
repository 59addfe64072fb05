// Package facts gathers what audits and alerts are about: how full everything is, how the
// pair stands, what the host and the service say of themselves. What is wrong with it
// core/audit knows.
package facts

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"yarnpost/core/audit"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/rule"
	"yarnpost/service/clock"
	"yarnpost/service/compare"
	"yarnpost/service/engine"
	"yarnpost/service/failover"
	"yarnpost/service/journal"
	"yarnpost/service/observe"
	"yarnpost/service/partner"
	"yarnpost/service/preflight"
	"yarnpost/service/samples"
	"yarnpost/service/store"
	"yarnpost/service/trials"
)

// Engine serves by the plan.
type Engine interface {
	Plan() *plan.Plan
	With(func(*lease.Table))
	FitsOf(rule plan.ID) observe.Fits
	Unserved() []observe.Unserved
	NetworkAt(netip.Addr) string
	Panics() int
	Claims() []engine.Claim
	OtherServers() []observe.OtherServer
	Relays() []observe.Relay
}

// Host is the machine and what is around it.
type Host interface {
	PlanInterfaces() []plan.Interface
	Look(context.Context, *plan.Plan)
	Silent() map[netip.Addr]bool
	Routers() []audit.Router
	Neighbours() []audit.Neighbour
	LastPreflight() []preflight.Check
}

// Pair is the pair that this server may be in.
type Pair interface {
	View() (v failover.View, ok bool)
	Ask(ctx context.Context, method string, in, out any) error
}

// Store has what is on record.
type Store interface {
	AddedSince(context.Context, time.Time) (map[plan.ID]bool, error)
	Acknowledge(context.Context, []store.Acknowledged) error
	AllAcknowledged(context.Context) ([]store.Acknowledged, error)
	HistoryBehind(context.Context, time.Time) (int, error)
}

// Clock tells the time, and how far the host's clock is from it.
type Clock interface {
	Now() time.Time
	Step() clock.Step
}

// Parts are what a Gatherer needs.
type Parts struct {
	Engine  Engine
	Host    Host
	Pair    Pair
	Store   Store
	Compare interface {
		Compare(context.Context) (compare.Comparison, error)
	}
	Samples interface {
		Levels(room []samples.Level) []samples.Level
		Outlooks() (map[capacity.Key]samples.Outlook, time.Time)
		Failed() error
	}
	Trials  interface{ Failing() []trials.Result }
	Reports interface {
		TryRule(p *plan.Plan, fits func(*rule.Request, *plan.View) bool) (matching, all int, examples []*lease.Lease)
		StaleCounts() map[plan.ID]int
	}
	Journal interface{ Snapshot() (journal.Stats, int) }
	Alerts  interface {
		Take(context.Context, store.AlertSettings) error
	}
	Drops       func() uint64 // datagrams that the kernel dropped
	Health      func() error
	SetBack     func() string
	Backup      func() string       // what is wrong with the backups, or ""
	Failed      func() []audit.Said // changes in preparation that failed
	Data        string              // folder of everything that is kept
	UnusedAfter time.Duration       // after which an item of the plan that nobody used is found; 0: 30 days
	Started     time.Time
	Clock       Clock
	Log         *slog.Logger
}

// Gatherer gathers facts; it implements auditor.Sources.
type Gatherer struct {
	Parts
	mu          sync.Mutex
	owedSince   time.Time
	drops       uint64
	stats       journal.Stats
	extra       []audit.Neighbour // named by a person
	routes      []audit.Route     // the same
	certificate func() time.Time  // when the certificate ends
	watched     watched           // of ForAlerts
}

// New makes a gatherer.
func New(p Parts) *Gatherer { return &Gatherer{Parts: p} }

// CertificateEnds names who knows when the certificate of the HTTP side ends.
func (g *Gatherer) CertificateEnds(f func() time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.certificate = f
}

func (g *Gatherer) certificateEnds() func() time.Time {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.certificate
}

// Name gives neighbours beside those that the host knows, in the place of those that were
// named before.
func (g *Gatherer) Name(list []audit.Neighbour) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.extra = list
}

// Named are the neighbours that Name gave last.
func (g *Gatherer) Named() []audit.Neighbour {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Clone(g.extra)
}

// NameRoutes gives routes of delegated prefixes, in the place of those that were named before.
func (g *Gatherer) NameRoutes(list []audit.Route) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.routes = list
}

// Routes are those that NameRoutes gave last.
func (g *Gatherer) Routes() []audit.Route {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Clone(g.routes)
}

// Answers answer the questions of a partner that audits, too.
func (g *Gatherer) Answers() map[string]partner.Answer {
	return map[string]partner.Answer{"acknowledge": partner.Takes(g.Store.Acknowledge),
		"acknowledged": partner.Gives(g.Store.AllAcknowledged)}
}

// Facts implements auditor.Sources.
func (g *Gatherer) Facts(ctx context.Context, slow bool) audit.Facts {
	p := g.Engine.Plan()
	if slow {
		g.Host.Look(ctx, p)
	}
	f := audit.Facts{Now: lease.At(g.Clock.Now()), Host: g.Host.PlanInterfaces(), Fits: map[plan.ID]lease.Time{},
		FitsFrom: lease.At(g.Started),
		Silent:   g.Host.Silent(), Routers: g.Host.Routers(), Asking: map[string]int{}, Fitless: map[plan.ID]int{}, New: g.added(ctx)}
	g.fill(&f, nil)
	clients := f.Usage[capacity.All].Active
	for _, r := range p.Rules() {
		if x := g.Engine.FitsOf(r.ID); x.Count > 0 {
			f.Fits[r.ID] = x.Last
		} else if !r.Off && clients <= triedMost {
			if fits, of := g.fitsNow(p, r); fits == 0 {
				f.Fitless[r.ID] = of
			}
		}
	}
	return f
}

// fill adds how full everything is. What it counted is given to be used again as room.
func (g *Gatherer) fill(f *audit.Facts, room []samples.Level) []samples.Level {
	levels := g.Samples.Levels(room)
	outlooks, _ := g.Samples.Outlooks()
	if f.Usage == nil {
		f.Usage, f.Outlook = make(map[capacity.Key]capacity.Count, len(levels)), make(map[capacity.Key]capacity.Forecast, len(outlooks))
	}
	clear(f.Usage)
	clear(f.Outlook)
	for i := range levels {
		f.Usage[levels[i].Key] = levels[i].Count
	}
	for k, o := range outlooks {
		f.Outlook[k] = o.Forecast
	}
	for _, u := range g.Engine.Unserved() {
		if u.Reason == reason.ScopeHeld {
			f.Asking[u.Scope]++
		}
	}
	return levels
}

// triedMost is up to how many clients rules that never fitted are tried on all of
// them.
const triedMost = 100_000

// fitsNow counts the clients on record that a rule would fit, and those it could.
func (g *Gatherer) fitsNow(p *plan.Plan, r *plan.CompiledRule) (fits, of int) {
	fits, _, _ = g.Reports.TryRule(p, func(ask *rule.Request, v *plan.View) bool {
		if !v.Under(r.Of()) {
			return false
		}
		of++
		ok, _ := r.Program.Fits(ask)
		return ok
	})
	return fits, of
}

// added are the items that came into the plan so lately that nobody need have used them
// yet. While the database is away none is.
func (g *Gatherer) added(ctx context.Context) map[plan.ID]bool {
	list, err := g.Store.AddedSince(ctx, g.Clock.Now().Add(-cmp.Or(g.UnusedAfter, usualUnusedAfter)))
	if err != nil && ctx.Err() == nil {
		g.Log.Warn("an audit does not know what is new in the plan", "err", err)
	}
	return list
}

// usualUnusedAfter is after how long what nobody used is found.
const usualUnusedAfter = 30 * 24 * time.Hour

// More implements auditor.Sources.
func (g *Gatherer) More(ctx context.Context) audit.More {
	m := audit.More{Own: func(a netip.Addr) bool { return g.Engine.NetworkAt(a) != "" }, New: g.added(ctx)}
	m.Stale = g.Reports.StaleCounts()
	for _, u := range g.Engine.Unserved() {
		if u.Reason == reason.SharedIdentifier {
			t := audit.Twin{Address: u.Asked, One: u.Hardware, Scope: u.Scope}
			g.Engine.With(func(t2 *lease.Table) {
				if l := t2.At(u.Asked); l != nil {
					t.Second = l.Hardware
				}
			})
			m.Twins = append(m.Twins, t)
		}
	}
	m.Neighbours, m.Routes = append(g.Named(), g.Host.Neighbours()...), g.Routes()
	return m
}

// compareTime is how long comparing with the partner may take in an audit.
const compareTime = 10 * time.Second

// PairFacts implements auditor.Sources.
func (g *Gatherer) PairFacts(ctx context.Context, waiting int) (p audit.Pair, ok bool) {
	v, ok := g.Pair.View()
	if !ok {
		return p, false
	}
	p = audit.Pair{Own: v.Own.Name, Partner: v.Partner.Name, Connected: v.Connected, Reasons: v.Reasons, Owed: v.Own.Owed,
		Waiting: waiting}
	p.OwedSince = g.owed(&v)
	if v.SkewKnown {
		p.Skew = time.Duration(v.Skew) * time.Second
	}
	if v.Compared && v.Standing == pair.Parted {
		p.Parted, p.Plan = true, "both servers changed the plan apart from each other, and a person has to choose"
	} else if v.Connected && v.Partner.Revision != 0 && v.Partner.Revision != v.Own.Revision {
		p.Plan = v.Own.Name + " and " + v.Partner.Name + " serve by different revisions of the plan"
	}
	for _, s := range v.Scopes {
		share := audit.Share{Scope: s.Scope, Own: s.Own, Partner: s.Partner}
		const many = 10
		switch {
		case s.OwnLow && s.Partner >= many:
			share.Low = v.Own.Name
		case s.TheirLow && s.Own >= many:
			share.Low = v.Partner.Name
		}
		p.Shares = append(p.Shares, share)
	}
	for _, r := range v.Relays {
		if r.Warning != "" {
			p.Relays = append(p.Relays, audit.Said{Subject: "relay " + r.Address, Text: r.Warning})
		}
	}
	for _, c := range v.Conflicts {
		p.Conflicts = append(p.Conflicts, audit.Difference{Address: c.Address, Text: c.Kept + " and " + c.Other + " both held it"})
	}
	if v.Connected {
		g.compared(ctx, &p)
	}
	return p, true
}

// owed is for how long something has been owed to the partner.
func (g *Gatherer) owed(v *failover.View) time.Duration {
	now := g.Clock.Now()
	g.mu.Lock()
	defer g.mu.Unlock()
	switch {
	case v.Own.Owed == 0:
		g.owedSince = time.Time{}
	case g.owedSince.IsZero():
		g.owedSince = now
		if !v.Connected && !v.Contact.IsZero() {
			g.owedSince = v.Contact
		}
	}
	if g.owedSince.IsZero() {
		return 0
	}
	return now.Sub(g.owedSince)
}

// compared adds what the tables of both differ in, and takes over what the partner
// acknowledged.
func (g *Gatherer) compared(ctx context.Context, p *audit.Pair) {
	ctx, cancel := context.WithTimeout(ctx, compareTime)
	defer cancel()
	c, err := g.Compare.Compare(ctx)
	if err != nil {
		g.Log.Warn("the tables could not be compared for an audit", "err", err)
		return
	}
	for _, d := range c.Differences {
		if d.Class == compare.Wrong {
			p.Wrong = append(p.Wrong, audit.Difference{Address: d.Prefix.Addr(), Text: d.Text})
		}
	}
	var alerts store.AlertSettings
	if err := g.Pair.Ask(ctx, "alerts", struct{}{}, &alerts); err == nil {
		if err := g.Alerts.Take(ctx, alerts); err != nil {
			g.Log.Warn("where the partner sends alerts is not on record", "err", err)
		}
	}
	var theirs []store.Acknowledged
	if err := g.Pair.Ask(ctx, "acknowledged", struct{}{}, &theirs); err == nil {
		if err := g.Store.Acknowledge(ctx, theirs); err != nil {
			g.Log.Warn("what the partner acknowledged is not on record", "err", err)
		}
	}
}

// Share implements auditor.Sources: the partner is told now, or asks at its next
// audit.
func (g *Gatherer) Share(ctx context.Context, list []store.Acknowledged) {
	_ = g.Pair.Ask(ctx, "acknowledge", list, nil)
}

// ServiceFacts implements auditor.Sources.
func (g *Gatherer) ServiceFacts(ctx context.Context) audit.Service {
	s := g.service()
	if days, err := g.Store.HistoryBehind(ctx, g.Clock.Now()); err == nil {
		s.HistoryDays = days
	}
	stats, _ := g.Journal.Snapshot()
	drops := g.Drops()
	g.mu.Lock()
	defer g.mu.Unlock()
	if batches := stats.Batches - g.stats.Batches; batches > 0 {
		s.Commit = (stats.Spent - g.stats.Spent) / time.Duration(batches)
	}
	s.Dropped = drops - min(drops, g.drops)
	g.stats, g.drops = stats, drops
	return s
}

// Standing are findings of the service itself that can be told at any moment, without an
// audit; what status says of itself is not among them.
func (g *Gatherer) Standing() []audit.Finding {
	return slices.DeleteFunc(audit.OfService(g.service()), func(f audit.Finding) bool {
		return f.ID == "database-down" || f.ID == "clients-unserved"
	})
}

// service is what is known of the service at any moment.
func (g *Gatherer) service() audit.Service {
	s := audit.Service{Now: g.Clock.Now(), DiskFree: -1, ClockStep: g.Clock.Step().By, Unserved: map[string]int{},
		Panics: g.Engine.Panics()}
	if err := g.Health(); err != nil {
		s.Down = err.Error()
	}
	if err := g.Samples.Failed(); err != nil && s.Down == "" {
		s.Samples = err.Error()
	}
	if ends := g.certificateEnds(); ends != nil {
		s.Certificate = ends()
	}
	var disk syscall.Statfs_t
	if syscall.Statfs(filepath.Clean(g.Data), &disk) == nil && disk.Blocks > 0 {
		s.DiskFree, s.DiskLeft = float64(disk.Bavail)/float64(disk.Blocks), disk.Bavail*uint64(disk.Bsize)
	}
	p := g.Engine.Plan()
	meant := func(link string) bool {
		l := p.LinkNamed(link)
		return p.Defaults.Listening || l != nil && l.Listening
	}
	s.SetBack, s.Backup, s.Changes = g.SetBack(), g.Backup(), g.Failed()
	for _, c := range g.Engine.Claims() {
		s.Claims = append(s.Claims, audit.Said{Subject: "hardware " + c.Hardware.String(),
			Text: fmt.Sprintf("host %s answers probes of addresses of scope %s that it was not given; %d of its answers were not believed, the last at %s",
				c.Hardware, c.Scope, c.Refused, c.Last.Format("2 Jan 15:04 UTC"))})
	}
	for _, r := range g.Engine.OtherServers() {
		s.OtherServers = append(s.OtherServers, audit.Said{Subject: "link " + r.Link,
			Text:  "another DHCP server, " + r.Server.String() + ", answers on link " + r.Link,
			Meant: meant(r.Link)})
	}
	for _, r := range g.Engine.Relays() {
		if r.Silent {
			s.SilentRelays = append(s.SilentRelays, audit.Said{Subject: "relay " + r.Address.String(),
				Text: fmt.Sprintf("relay %s of link %s is usually heard every %.0f s, and was not since %s", r.Address, r.Link, max(r.Gap,
					1),
					r.Last.Std().Format("2 Jan 15:04 UTC"))})
		}
	}
	for _, t := range g.Trials.Failing() {
		text := ""
		for _, st := range t.Steps {
			if !st.Good {
				text = st.What
			}
		}
		s.Trials = append(s.Trials, audit.Failed{Name: t.Trial.Name, Scope: t.Scope, Text: text})
	}
	now := lease.At(g.Clock.Now())
	for _, u := range g.Engine.Unserved() {
		if !u.Past(now) {
			s.Unserved[u.Reason.Words(u.Rule)]++
		}
	}
	for _, c := range g.Host.LastPreflight() {
		if c.Status == preflight.Trouble || c.Status == preflight.Warning {
			s.Host = append(s.Host, audit.Failed{Name: c.Name, Text: c.Text + "; " + c.Mend})
		}
	}
	return s
}
