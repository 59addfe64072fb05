package node

import (
	"errors"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// metrics are the counters of one service.
type metrics struct {
	registry                  *prometheus.Registry
	messages                  *prometheus.CounterVec
	dropped                   *prometheus.CounterVec
	omitted, setsLost         prometheus.Counter
	probes, squatters, nudges prometheus.Counter
	panics, stillUsed         prometheus.Counter
	SignIns                   *prometheus.CounterVec
	known                     map[decided]prometheus.Counter // resolved labels; used under the engine's lock
}

type decided struct {
	message dhcp4.Type
	outcome answer.Outcome
	why     answer.Reason
}

func newMetrics() *metrics {
	m := &metrics{
		registry:  prometheus.NewRegistry(),
		messages:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "yarnpost_messages_total", Help: "Messages decided, by type, outcome and reason."}, []string{"type", "outcome", "reason"}),
		dropped:   prometheus.NewCounterVec(prometheus.CounterOpts{Name: "yarnpost_dropped_total", Help: "Datagrams dropped before or after a decision, by reason."}, []string{"reason"}),
		omitted:   prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_options_omitted_total", Help: "Options left out of replies because they did not fit."}),
		setsLost:  prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_given_sets_lost_total", Help: "Leases of which it is not kept what was given with them, because there are too many different sets."}),
		probes:    prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_probes_total", Help: "Addresses probed before they were offered."}),
		squatters: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_squatters_total", Help: "Probed addresses that somebody answered for."}),
		nudges:    prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_nudges_total", Help: "FORCERENEW messages sent."}),
		panics:    prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_panics_total", Help: "Faults of the program that were caught; each ended what it was about, and nothing else."}),
		stillUsed: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_still_used_total", Help: "Probed addresses that their former client answered for."}),
		SignIns:   prometheus.NewCounterVec(prometheus.CounterOpts{Name: "yarnpost_sign_ins_total", Help: "Attempts to sign in, by result."}, []string{"result"}),
		known:     map[decided]prometheus.Counter{},
	}
	m.registry.MustRegister(m.messages, m.dropped, m.omitted, m.setsLost, m.probes, m.squatters, m.nudges, m.panics, m.stillUsed, m.SignIns, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) decided(t dhcp4.Type, d *answer.Decision) {
	k := decided{t, d.Outcome, d.Why}
	c := m.known[k]
	if c == nil {
		c = m.messages.WithLabelValues(t.String(), string(d.Outcome), string(d.Why))
		m.known[k] = c
	}
	c.Inc()
}

func (m *metrics) drop(reason string) { m.dropped.WithLabelValues(reason).Inc() }

func (m *metrics) malformed(err error) {
	for e, reason := range map[error]string{dhcp4.ErrShort: "short", dhcp4.ErrHardware: "hardware-length", dhcp4.ErrOption: "option-length", dhcp4.ErrOverload: "overload", dhcp4.ErrType: "message-type"} {
		if errors.Is(err, e) {
			m.drop("malformed-" + reason)
			return
		}
	}
	m.drop("malformed")
}

// watch registers what is read from the engine when somebody asks.
func (m *metrics) watch(n *Node) {
	e := n.engine
	gauge := func(name, help string, read func() float64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, read))
	}
	gauge("yarnpost_unserved_clients", "Clients that ask and get nothing.", func() float64 { return float64(e.UnservedCount()) })
	gauge("yarnpost_plan_revision", "Revision of the plan in force.", func() float64 { return float64(e.Plan().Revision) })
	gauge("yarnpost_database_up", "1 while leases can be recorded.", func() float64 {
		if e.journal.Down() != nil {
			return 0
		}
		return 1
	})
	gauge("yarnpost_clock_step_seconds", "How far the host's clock is ahead of the service's time; 0 while they agree.", func() float64 { return n.clock.Step().By.Seconds() })
	gauge("yarnpost_journal_waiting", "Entries that wait for a commit.", func() float64 { _, n := e.journal.Snapshot(); return float64(n) })
	gauge("yarnpost_journal_commits", "Commits since the start.", func() float64 { s, _ := e.journal.Snapshot(); return float64(s.Batches) })
	gauge("yarnpost_journal_entries", "Entries recorded since the start.", func() float64 { s, _ := e.journal.Snapshot(); return float64(s.Entries) })
	gauge("yarnpost_journal_undone", "Entries undone since the start because they could not be recorded.", func() float64 { s, _ := e.journal.Snapshot(); return float64(s.Failed) })
	gauge("yarnpost_send_errors", "Replies that could not leave since the start.", func() float64 { return float64(n.wire.SendErrors.Load()) })
	gauge("yarnpost_socket_drops", "Datagrams that the kernel dropped since the start because the service was too slow.", func() float64 { return float64(n.wire.Drops()) })
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
	m.registry.MustRegister(scopeMetrics{e})
}

// scopeMetrics counts leases by scope and status at each scrape.
type scopeMetrics struct{ e *Engine }

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
		for status, count := range map[lease.Status]int{lease.Active: n.Active, lease.Offered: n.Offered, lease.Released: n.Released, lease.Expired: n.Expired, lease.Abandoned: n.Abandoned} {
			c <- prometheus.MustNewConstMetric(leasesDesc, prometheus.GaugeValue, float64(count), v.Name, status.String())
		}
		c <- prometheus.MustNewConstMetric(headroomDesc, prometheus.GaugeValue, float64(n.Headroom), v.Name)
	}
}

// Count counts the addresses of a scope.
func (e *Engine) Count(scope plan.ID) (n lease.Counts) {
	e.With(func(t *lease.Table) { n = t.Count(scope) })
	return n
}
