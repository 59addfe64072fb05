package node

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/audit"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/core/rule"
	"yarnpost/service/auditor"
	"yarnpost/service/look"
	"yarnpost/service/preflight"
	"yarnpost/service/samples"
	"yarnpost/service/store"
)

// auditing is what the node keeps for audits.
type auditing struct {
	room        *auditor.Room
	silent      map[netip.Addr]bool // as was looked last
	owedSince   time.Time
	drops       uint64
	stats       store.Stats
	extra       []audit.Neighbour // given with a run that was asked for
	certificate func() time.Time  // when the certificate ends
}

// facts implements auditor.Sources.
type facts struct{ *Node }

const (
	auditPause  = 15 * time.Minute
	auditSettle = 5 * time.Second // after a change of the plan
	quietMost   = 256             // hosts that an audit looks at
)

// keepAudits makes an audit now and then, and after each change of the plan.
func (n *Node) keepAudits(ctx context.Context) {
	changes := n.events.Subscribe()
	defer n.events.Cancel(changes)
	n.pause(ctx, 20*time.Second)
	run := func(why string, slow bool) {
		n.guarded("an audit", func() {
			_, _ = n.audits.room.Run(ctx, why, slow) // it says itself what went wrong
		})()
	}
	run("the start", true)
	next := time.NewTimer(auditPause)
	defer next.Stop()
	var settle <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-changes.C:
			if e.Revision != 0 && settle == nil {
				settle = time.After(auditSettle)
			}
		case <-settle:
			settle = nil
			run("a change of the plan", false)
		case <-next.C:
			run("the quarter of an hour", true)
			next.Reset(auditPause)
		}
	}
}

// Audits gives the room of audits.
func (n *Node) Audits() *auditor.Room { return n.audits.room }

// AuditWith makes an audit with neighbours that somebody names beside those that the
// host knows.
func (n *Node) AuditWith(ctx context.Context, why string, list []audit.Neighbour) (auditor.Report, error) {
	n.hostMu.Lock()
	n.audits.extra = list
	n.hostMu.Unlock()
	defer func() {
		n.hostMu.Lock()
		n.audits.extra = nil
		n.hostMu.Unlock()
	}()
	return n.audits.room.Run(ctx, why, true)
}

// CertificateEnds names who knows when the certificate of the HTTP side ends.
func (n *Node) CertificateEnds(f func() time.Time) {
	n.hostMu.Lock()
	defer n.hostMu.Unlock()
	n.audits.certificate = f
}

// Facts implements auditor.Sources.
func (n facts) Facts(ctx context.Context, slow bool) audit.Facts {
	p := n.engine.Plan()
	if slow {
		n.look(ctx, p)
	}
	n.hostMu.Lock()
	silent := n.audits.silent
	n.hostMu.Unlock()
	f := audit.Facts{Now: lease.At(n.clock.Now()), Host: n.PlanInterfaces(), Fits: map[plan.ID]lease.Time{}, FitsFrom: lease.At(n.Started),
		Silent: silent, Asking: map[string]int{}, Fitless: map[plan.ID]int{}, New: n.added(ctx)}
	n.fill(&f, nil)
	clients := f.Usage[capacity.All].Active
	for _, r := range p.Rules() {
		if x := n.engine.FitsOf(r.ID); x.Count > 0 {
			f.Fits[r.ID] = x.Last
		} else if !r.Off && clients <= triedMost {
			if fits, of := n.fitsNow(p, r); fits == 0 {
				f.Fitless[r.ID] = of
			}
		}
	}
	return f
}

// fill adds how full everything is. What it counted is given to be used again as room.
func (n facts) fill(f *audit.Facts, room []samples.Level) []samples.Level {
	levels := n.samples.Levels(room)
	outlooks, _ := n.samples.Outlooks()
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
	for _, u := range n.engine.Unserved() {
		if u.Reason == answer.ScopeHeld {
			f.Asking[u.Scope]++
		}
	}
	return levels
}

// triedMost is up to how many clients rules that never fitted are tried on all of
// them.
const triedMost = 100_000

// fitsNow counts the clients on record that a rule would fit, and those it could.
func (n facts) fitsNow(p *plan.Plan, r *plan.CompiledRule) (fits, of int) {
	fits, _, _ = n.engine.TryRule(p, func(ask *rule.Request, v *plan.View) bool {
		if r.Scope != 0 && v.ID != r.Scope {
			return false
		}
		of++
		ok, _ := r.Program.Fits(ask)
		return ok
	})
	return fits, of
}

// look sees which routers and servers answer.
func (n facts) look(ctx context.Context, p *plan.Plan) {
	told := audit.Told(p)
	var targets []look.Target
	for _, a := range audit.Quiet(p, quietMost) {
		if !n.mayLook(a) {
			continue
		}
		targets = append(targets, look.Target{Address: a, DNS: told[a].What == "DNS server"})
	}
	silent := look.Hosts(ctx, targets)
	n.hostMu.Lock()
	defer n.hostMu.Unlock()
	n.audits.silent = silent
}

// toldMost is how many hosts are looked at because a change tells clients of them.
const toldMost = 16

// newlyTold looks at the routers and servers that clients are told of by a change,
// and were not before.
func (n facts) newlyTold(ctx context.Context, before, after *plan.Plan) []audit.Finding {
	old, all := audit.Told(before), audit.Told(after)
	var targets []look.Target
	for a, t := range all {
		if _, known := old[a]; !known && len(targets) < toldMost && n.mayLook(a) {
			targets = append(targets, look.Target{Address: a, DNS: t.What == "DNS server"})
		}
	}
	if len(targets) == 0 {
		return nil
	}
	return audit.Silent(after, look.Hosts(ctx, targets))
}

// mayLook reports whether a host can be looked at from here. A server on loopback
// looks at loopback alone: its networks are not here.
func (n facts) mayLook(a netip.Addr) bool {
	return !n.wire.Addr().Addr().IsLoopback() || a.IsLoopback()
}

// added are the items that came into the plan so lately that nobody need have used them
// yet. While the database is away none is.
func (n facts) added(ctx context.Context) map[plan.ID]bool {
	list, err := n.store.AddedSince(ctx, n.clock.Now().Add(-cmp.Or(n.config.UnusedAfter, usualUnusedAfter)))
	if err != nil && ctx.Err() == nil {
		n.log.Warn("an audit does not know what is new in the plan", "err", err)
	}
	return list
}

// usualUnusedAfter is after how long what nobody used is found.
const usualUnusedAfter = 30 * 24 * time.Hour

// More implements auditor.Sources.
func (n facts) More(ctx context.Context) audit.More {
	m := audit.More{Own: func(a netip.Addr) bool { return n.engine.NetworkAt(a) != "" }, New: n.added(ctx)}
	m.Stale = n.engine.StaleCounts()
	for _, u := range n.engine.Unserved() {
		if u.Reason == answer.SharedIdentifier {
			t := audit.Twin{Address: u.Asked, One: u.Hardware, Scope: u.Scope}
			n.engine.With(func(t2 *lease.Table) {
				if l := t2.At(u.Asked); l != nil {
					t.Second = l.Hardware
				}
			})
			m.Twins = append(m.Twins, t)
		}
	}
	n.hostMu.Lock()
	m.Neighbours = append(m.Neighbours, n.audits.extra...)
	n.hostMu.Unlock()
	for _, i := range n.wire.Interfaces() {
		if !i.Served {
			continue
		}
		list, err := netlink.NeighList(i.Index, netlink.FAMILY_V4)
		if err != nil {
			continue
		}
		for _, x := range list {
			a, ok := netip.AddrFromSlice(x.IP)
			if ok && len(x.HardwareAddr) == 6 && x.State&(netlink.NUD_FAILED|netlink.NUD_INCOMPLETE|netlink.NUD_NOARP) == 0 {
				m.Neighbours = append(m.Neighbours, audit.Neighbour{Address: a.Unmap(), Hardware: addr.Hardware(x.HardwareAddr),
					Source: "interface " + i.Name})
			}
		}
	}
	return m
}

// compareTime is how long comparing with the partner may take in an audit.
const compareTime = 10 * time.Second

// PairFacts implements auditor.Sources.
func (n facts) PairFacts(ctx context.Context, waiting int) (p audit.Pair, ok bool) {
	v, ok := n.Pair()
	if !ok {
		return p, false
	}
	p = audit.Pair{Own: v.Own.Name, Partner: v.Partner.Name, Connected: v.Connected, Reasons: v.Reasons, Owed: v.Own.Owed,
		Waiting: waiting}
	now := n.clock.Now()
	n.hostMu.Lock()
	switch {
	case v.Own.Owed == 0:
		n.audits.owedSince = time.Time{}
	case n.audits.owedSince.IsZero():
		n.audits.owedSince = now
		if !v.Connected && !v.Contact.IsZero() {
			n.audits.owedSince = v.Contact
		}
	}
	if !n.audits.owedSince.IsZero() {
		p.OwedSince = now.Sub(n.audits.owedSince)
	}
	n.hostMu.Unlock()
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
		n.compared(ctx, &p)
	}
	return p, true
}

// compared adds what the tables of both differ in, and takes over what the partner
// acknowledged.
func (n facts) compared(ctx context.Context, p *audit.Pair) {
	ctx, cancel := context.WithTimeout(ctx, compareTime)
	defer cancel()
	c, err := n.Compare(ctx)
	if err != nil {
		n.log.Warn("the tables could not be compared for an audit", "err", err)
		return
	}
	for _, d := range c.Differences {
		if d.Class == Wrong {
			p.Wrong = append(p.Wrong, audit.Difference{Address: d.Prefix.Addr(), Text: d.Text})
		}
	}
	_, channel := n.paired()
	if channel == nil {
		return
	}
	var alerts store.AlertSettings
	if err := channel.Ask(ctx, "alerts", struct{}{}, &alerts); err == nil {
		if err := n.takeAlerts(ctx, alerts); err != nil {
			n.log.Warn("where the partner sends alerts is not on record", "err", err)
		}
	}
	var theirs []store.Acknowledged
	if err := channel.Ask(ctx, "acknowledged", struct{}{}, &theirs); err == nil {
		if err := n.store.Acknowledge(ctx, theirs); err != nil {
			n.log.Warn("what the partner acknowledged is not on record", "err", err)
		}
	}
}

// Share implements auditor.Sources: the partner is told now, or asks at its next
// audit.
func (n facts) Share(ctx context.Context, list []store.Acknowledged) {
	if _, channel := n.paired(); channel != nil {
		_ = channel.Ask(ctx, "acknowledge", list, nil)
	}
}

// ServiceFacts implements auditor.Sources.
func (n facts) ServiceFacts(ctx context.Context) audit.Service {
	s := n.service(ctx)
	stats, _ := n.journal.Snapshot()
	drops := n.wire.Drops()
	n.hostMu.Lock()
	if batches := stats.Batches - n.audits.stats.Batches; batches > 0 {
		s.Commit = (stats.Spent - n.audits.stats.Spent) / time.Duration(batches)
	}
	s.Dropped = drops - min(drops, n.audits.drops)
	n.audits.stats, n.audits.drops = stats, drops
	n.hostMu.Unlock()
	if days, err := n.store.HistoryBehind(ctx, n.clock.Now()); err == nil {
		s.HistoryDays = days
	}
	return s
}

// StandingFindings are findings of the service itself that can be told at any moment,
// without an audit; what status says of itself is not among them.
func (n *Node) StandingFindings() []audit.Finding {
	return slices.DeleteFunc(audit.OfService(facts{n}.service(n.running)), func(f audit.Finding) bool {
		return f.ID == "database-down" || f.ID == "clients-unserved"
	})
}

// service is what is known of the service at any moment.
func (n facts) service(context.Context) audit.Service {
	s := audit.Service{Now: n.clock.Now(), DiskFree: -1, ClockStep: n.clock.Step().By, Unserved: map[string]int{}, Panics: n.engine.Panics()}
	if err := n.Health(); err != nil {
		s.Down = err.Error()
	}
	if err := n.samples.Failed(); err != nil && s.Down == "" {
		s.Samples = err.Error()
	}
	n.hostMu.Lock()
	if n.audits.certificate != nil {
		s.Certificate = n.audits.certificate()
	}
	n.hostMu.Unlock()
	var disk syscall.Statfs_t
	if syscall.Statfs(filepath.Clean(n.config.Data), &disk) == nil && disk.Blocks > 0 {
		s.DiskFree, s.DiskLeft = float64(disk.Bavail)/float64(disk.Blocks), disk.Bavail*uint64(disk.Bsize)
	}
	p := n.engine.Plan()
	meant := func(link string) bool {
		l := p.LinkNamed(link)
		return p.Defaults.Listening || l != nil && l.Listening
	}
	s.SetBack = n.SetBack()
	for _, c := range n.engine.Claims() {
		s.Claims = append(s.Claims, audit.Said{Subject: "hardware " + c.Hardware.String(),
			Text: fmt.Sprintf("host %s answers probes of addresses of scope %s that it was not given; %d of its answers were not believed, the last at %s",
				c.Hardware, c.Scope, c.Refused, c.Last.Format("2 Jan 15:04 UTC"))})
	}
	for _, r := range n.engine.Rivals() {
		s.Rivals = append(s.Rivals, audit.Said{Subject: "link " + r.Link,
			Text:  "another DHCP server, " + r.Server.String() + ", answers on link " + r.Link,
			Meant: meant(r.Link)})
	}
	for _, r := range n.engine.Relays() {
		if r.Silent {
			s.SilentRelays = append(s.SilentRelays, audit.Said{Subject: "relay " + r.Address.String(),
				Text: fmt.Sprintf("relay %s of link %s is usually heard every %.0f s, and was not since %s", r.Address, r.Link, max(r.Gap, 1),
					r.Last.Std().Format("2 Jan 15:04 UTC"))})
		}
	}
	for _, t := range n.FailingTrials() {
		text := ""
		for _, st := range t.Steps {
			if !st.Good {
				text = st.What
			}
		}
		s.Trials = append(s.Trials, audit.Failed{Name: t.Trial.Name, Scope: t.Scope, Text: text})
	}
	now := lease.At(n.clock.Now())
	for _, u := range n.engine.Unserved() {
		if !u.Past(now) {
			s.Unserved[u.Reason.Words(u.Rule)]++
		}
	}
	for _, c := range n.LastPreflight() {
		if c.Status == preflight.Trouble || c.Status == preflight.Warning {
			s.Host = append(s.Host, audit.Failed{Name: c.Name, Text: c.Text + "; " + c.Mend})
		}
	}
	return s
}
