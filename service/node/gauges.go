package node

import (
	"github.com/prometheus/client_golang/prometheus"

	"yarnpost/core/lease"
	"yarnpost/service/engine"
)

// watch registers what is read from the engine when somebody asks.
func (n *Node) watch() {
	e := n.engine
	gauge := func(name, help string, read func() float64) {
		n.metrics.Registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, read))
	}
	gauge("yarnpost_unserved_clients", "Clients that ask and get nothing.", func() float64 { return float64(e.UnservedCount()) })
	gauge("yarnpost_plan_revision", "Revision of the plan in force.", func() float64 { return float64(e.Plan().Revision) })
	gauge("yarnpost_database_up", "1 while leases can be recorded.", func() float64 {
		if n.journal.Down() != nil {
			return 0
		}
		return 1
	})
	gauge("yarnpost_clock_step_seconds", "How far the host's clock is ahead of the service's time; 0 while they agree.",
		func() float64 { return n.clock.Step().By.Seconds() })
	gauge("yarnpost_journal_waiting", "Entries that wait for a commit.", func() float64 { _, n := n.journal.Snapshot(); return float64(n) })
	gauge("yarnpost_journal_commits", "Commits since the start.", func() float64 { s, _ := n.journal.Snapshot(); return float64(s.Batches) })
	gauge("yarnpost_journal_entries", "Entries recorded since the start.",
		func() float64 { s, _ := n.journal.Snapshot(); return float64(s.Entries) })
	gauge("yarnpost_journal_undone", "Entries undone since the start because they could not be recorded.",
		func() float64 { s, _ := n.journal.Snapshot(); return float64(s.Failed) })
	gauge("yarnpost_send_errors", "Replies that could not leave since the start.", func() float64 { return float64(n.wire.SendErrors.Load()) })
	gauge("yarnpost_socket_drops", "Datagrams that the kernel dropped since the start because the service was too slow.",
		func() float64 { return float64(n.wire.Drops()) })
	gauge("yarnpost_other_servers", "Other DHCP servers heard in the last day.", func() float64 { return float64(len(e.Rivals())) })
	gauge("yarnpost_silent_relays", "Relays that are usually busy and have gone quiet.", func() float64 {
		n := 0
		for _, r := range e.Relays() {
			if r.Silent {
				n++
			}
		}
		return float64(n)
	})
	n.metrics.Registry.MustRegister(scopeMetrics{e})
}

// scopeMetrics counts leases by scope and status at each scrape.
type scopeMetrics struct{ e *engine.Engine }

var (
	leasesDesc   = prometheus.NewDesc("yarnpost_leases", "Addresses with a record, by scope and status.", []string{"scope", "status"}, nil)
	headroomDesc = prometheus.NewDesc("yarnpost_headroom", "Addresses that could be handed out now, by scope.", []string{"scope"}, nil)
)

// Describe implements prometheus.Collector.
func (s scopeMetrics) Describe(c chan<- *prometheus.Desc) { c <- leasesDesc; c <- headroomDesc }

// Collect implements prometheus.Collector.
func (s scopeMetrics) Collect(c chan<- prometheus.Metric) {
	for _, v := range s.e.Plan().Scopes() {
		n := s.e.Count(v.ID)
		for status, count := range map[lease.Status]int{lease.Active: n.Active, lease.Offered: n.Offered, lease.Released: n.Released,
			lease.Expired: n.Expired, lease.Abandoned: n.Abandoned} {
			c <- prometheus.MustNewConstMetric(leasesDesc, prometheus.GaugeValue, float64(count), v.Name, status.String())
		}
		c <- prometheus.MustNewConstMetric(headroomDesc, prometheus.GaugeValue, float64(n.Headroom), v.Name)
	}
}
