package engine

import (
	"errors"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

// Metrics are the counters of one service.
type Metrics struct {
	Registry                  *prometheus.Registry
	messages                  *prometheus.CounterVec
	dropped                   *prometheus.CounterVec
	omitted, setsLost         prometheus.Counter
	forgotten                 prometheus.Counter
	probes, squatters, Nudges prometheus.Counter
	panics, stillUsed         prometheus.Counter
	SignIns                   *prometheus.CounterVec
	known                     map[decided]prometheus.Counter // resolved labels; used under the engine's lock
}

type decided struct {
	message string
	outcome answer.Outcome
	why     reason.Reason
}

// NewMetrics makes counters, in a Registry of their own.
func NewMetrics() *Metrics {
	m := &Metrics{
		Registry: prometheus.NewRegistry(),
		messages: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "yarnpost_messages_total",
			Help: "Messages decided, by type, outcome and reason."}, []string{"type", "outcome", "reason"}),
		dropped: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "yarnpost_dropped_total",
			Help: "Datagrams dropped before or after a decision, by reason."}, []string{"reason"}),
		omitted: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_options_omitted_total",
			Help: "Options left out of replies because they did not fit."}),
		forgotten: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_former_clients_forgotten_total",
			Help: "Records of IPv6 clients that went away long ago, taken out of the lease table."}),
		setsLost: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_given_sets_lost_total",
			Help: "Leases of which it is not kept what was given with them, because there are too many different sets."}),
		probes: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_probes_total",
			Help: "Addresses probed before they were offered."}),
		squatters: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_squatters_total",
			Help: "Probed addresses that somebody answered for."}),
		Nudges: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_nudges_total", Help: "FORCERENEW messages sent."}),
		panics: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_panics_total",
			Help: "Faults of the program that were caught; each ended what it was about, and nothing else."}),
		stillUsed: prometheus.NewCounter(prometheus.CounterOpts{Name: "yarnpost_still_used_total",
			Help: "Probed addresses that their former client answered for."}),
		SignIns: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "yarnpost_sign_ins_total",
			Help: "Attempts to sign in, by result."},
			[]string{"result"}),
		known: map[decided]prometheus.Counter{},
	}
	m.Registry.MustRegister(m.messages, m.dropped, m.omitted, m.setsLost, m.forgotten, m.probes, m.squatters, m.Nudges, m.panics,
		m.stillUsed, m.SignIns,
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// decided counts each answer to a message of a type.
func (m *Metrics) decided(name string, d *answer.Decision) {
	for i := range d.Answers {
		a := &d.Answers[i]
		k := decided{name, a.Outcome, a.Why}
		c := m.known[k]
		if c == nil {
			c = m.messages.WithLabelValues(name, string(a.Outcome), string(a.Why))
			m.known[k] = c
		}
		c.Inc()
	}
}

func (m *Metrics) drop(reason string) { m.dropped.WithLabelValues(reason).Inc() }

func (m *Metrics) malformed(err error) {
	for e, reason := range map[error]string{dhcp4.ErrShort: "short", dhcp4.ErrHardware: "hardware-length",
		dhcp4.ErrOption:   "option-length",
		dhcp4.ErrOverload: "overload", dhcp4.ErrType: "message-type", dhcp6.ErrShort: "short", dhcp6.ErrOption: "option-length",
		dhcp6.ErrRelays: "relays", dhcp6.ErrIA: "association"} {
		if errors.Is(err, e) {
			m.drop("malformed-" + reason)
			return
		}
	}
	m.drop("malformed")
}

// CountDelegated counts the delegated prefixes of a scope.
func (e *Engine) CountDelegated(scope plan.ID) (n lease.Counts) {
	e.With(func(t *lease.Table) { n = t.CountDelegated(scope) })
	return n
}

// Count counts the addresses of a scope.
func (e *Engine) Count(scope plan.ID) (n lease.Counts) {
	e.With(func(t *lease.Table) { n = t.Count(scope) })
	return n
}
