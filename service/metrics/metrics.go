// Package metrics tells what is read from the service when somebody scrapes it.
package metrics

import (
	"github.com/prometheus/client_golang/prometheus"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/alert"
	"yarnpost/service/clock"
	"yarnpost/service/failover"
	"yarnpost/service/journal"
	"yarnpost/service/observe"
)

// Sources are where metrics are read from.
type Sources struct {
	Engine  Engine
	Journal interface {
		Down() error
		Snapshot() (journal.Stats, int)
	}
	SendErrors func() uint64 // replies that could not leave
	Drops      func() uint64 // datagrams that the kernel dropped
	Clock      interface{ Step() clock.Step }
	Pair       interface{ View() (failover.View, bool) }
	Alerts     interface{ Standing() []alert.Alert }
}

// Engine serves by the plan.
type Engine interface {
	Plan() *plan.Plan
	Count(plan.ID) lease.Counts
	UnservedCount() int
	OtherServers() []observe.OtherServer
	Relays() []observe.Relay
}

// Register registers all of them.
func Register(r *prometheus.Registry, s Sources) {
	gauge := func(name, help string, read func() float64) {
		r.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, read))
	}
	gauge("yarnpost_unserved_clients", "Clients that ask and get nothing.", func() float64 { return float64(s.Engine.UnservedCount()) })
	gauge("yarnpost_plan_revision", "Revision of the plan in force.", func() float64 { return float64(s.Engine.Plan().Revision) })
	gauge("yarnpost_database_up", "1 while leases can be recorded.", func() float64 {
		if s.Journal.Down() != nil {
			return 0
		}
		return 1
	})
	gauge("yarnpost_clock_step_seconds", "How far the host's clock is ahead of the service's time; 0 while they agree.",
		func() float64 { return s.Clock.Step().By.Seconds() })
	counter := func(name, help string, read func(journal.Stats) uint64) {
		gauge(name, help, func() float64 { stats, _ := s.Journal.Snapshot(); return float64(read(stats)) })
	}
	gauge("yarnpost_journal_waiting", "Entries that wait for a commit.", func() float64 { _, n := s.Journal.Snapshot(); return float64(n) })
	counter("yarnpost_journal_commits", "Commits since the start.", func(s journal.Stats) uint64 { return s.Batches })
	counter("yarnpost_journal_entries", "Entries recorded since the start.", func(s journal.Stats) uint64 { return s.Entries })
	counter("yarnpost_journal_undone", "Entries undone since the start because they could not be recorded.",
		func(s journal.Stats) uint64 { return s.Failed })
	gauge("yarnpost_send_errors", "Replies that could not leave since the start.", func() float64 { return float64(s.SendErrors()) })
	gauge("yarnpost_socket_drops", "Datagrams that the kernel dropped since the start because the service was too slow.",
		func() float64 { return float64(s.Drops()) })
	gauge("yarnpost_other_servers", "Other DHCP servers heard in the last day.",
		func() float64 { return float64(len(s.Engine.OtherServers())) })
	gauge("yarnpost_silent_relays", "Relays that are usually busy and have gone quiet.", func() float64 {
		n := 0
		for _, relay := range s.Engine.Relays() {
			if relay.Silent {
				n++
			}
		}
		return float64(n)
	})
	r.MustRegister(scopes{s}, pairs{s}, alerts{s})
}

// scopes counts leases by scope and status at each scrape.
type scopes struct{ s Sources }

var (
	leasesDesc   = prometheus.NewDesc("yarnpost_leases", "Addresses with a record, by scope and status.", []string{"scope", "status"}, nil)
	headroomDesc = prometheus.NewDesc("yarnpost_headroom", "Addresses that could be handed out now, by scope.", []string{"scope"}, nil)
)

// Describe implements prometheus.Collector.
func (c scopes) Describe(to chan<- *prometheus.Desc) { to <- leasesDesc; to <- headroomDesc }

// Collect implements prometheus.Collector.
func (c scopes) Collect(to chan<- prometheus.Metric) {
	for _, v := range c.s.Engine.Plan().Scopes() {
		n := c.s.Engine.Count(v.ID)
		for status, count := range map[lease.Status]int{lease.Active: n.Active, lease.Offered: n.Offered, lease.Released: n.Released,
			lease.Expired: n.Expired, lease.Abandoned: n.Abandoned} {
			to <- prometheus.MustNewConstMetric(leasesDesc, prometheus.GaugeValue, float64(count), v.Name, status.String())
		}
		to <- prometheus.MustNewConstMetric(headroomDesc, prometheus.GaugeValue, float64(n.Headroom), v.Name)
	}
}

// pairs tells how the pair stands at each scrape; a server that is alone has
// none of them.
type pairs struct{ s Sources }

var (
	pairStateDesc = prometheus.NewDesc("yarnpost_pair_state", "1 for the state of this server in its pair.", []string{"state"}, nil)
	pairOwedDesc  = prometheus.NewDesc("yarnpost_pair_owed", "Updates that the partner has not acknowledged.", nil, nil)
	pairUpDesc    = prometheus.NewDesc("yarnpost_pair_takeover", "1 while the partner would carry on if this server died.", nil, nil)
	pairSkewDesc  = prometheus.NewDesc("yarnpost_pair_clock_seconds", "By how much the partner's clock is ahead.", nil, nil)
	pairSentDesc  = prometheus.NewDesc("yarnpost_pair_updates", "Updates since the start, by what became of them.", []string{"what"}, nil)
	pairWaitDesc  = prometheus.NewDesc("yarnpost_pair_update_seconds", "Mean time until an update was acknowledged, lately.", nil, nil)
	pairShareDesc = prometheus.NewDesc("yarnpost_pair_share", "Free addresses by scope and whose they are to give.", []string{"scope",
		"whose"}, nil)
)

// Describe implements prometheus.Collector.
func (p pairs) Describe(c chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{pairStateDesc, pairOwedDesc, pairUpDesc, pairSkewDesc, pairSentDesc, pairWaitDesc, pairShareDesc} {
		c <- d
	}
}

// Collect implements prometheus.Collector.
func (p pairs) Collect(c chan<- prometheus.Metric) {
	v, ok := p.s.Pair.View()
	if !ok {
		return
	}
	put := func(d *prometheus.Desc, value float64, labels ...string) {
		c <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
	}
	put(pairStateDesc, 1, v.Own.State)
	put(pairOwedDesc, float64(v.Own.Owed))
	up := 0.0
	if len(v.Reasons) == 0 {
		up = 1
	}
	put(pairUpDesc, up)
	put(pairSkewDesc, float64(v.Skew))
	put(pairWaitDesc, v.Stats.Wait.Seconds())
	for what, n := range map[string]uint64{"sent": v.Stats.Sent, "acknowledged": v.Stats.Acknowledged, "rejected": v.Stats.Rejected,
		"learned": v.Stats.Learned, "merged": v.Stats.Merged} {
		put(pairSentDesc, float64(n), what)
	}
	for _, s := range v.Scopes {
		put(pairShareDesc, float64(s.Own), s.Scope, "own")
		put(pairShareDesc, float64(s.Partner), s.Scope, "partner")
	}
}

// alerts counts the alerts that stand.
type alerts struct{ s Sources }

var alertsDesc = prometheus.NewDesc("yarnpost_alerts", "Alerts that stand, by code, severity and subject.", []string{"code", "severity",
	"subject"}, nil)

// Describe implements prometheus.Collector.
func (a alerts) Describe(to chan<- *prometheus.Desc) { to <- alertsDesc }

// Collect implements prometheus.Collector.
func (a alerts) Collect(to chan<- prometheus.Metric) {
	for _, x := range a.s.Alerts.Standing() {
		to <- prometheus.MustNewConstMetric(alertsDesc, prometheus.GaugeValue, 1, x.ID, x.Severity.String(), x.Subject)
	}
}
