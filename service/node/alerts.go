package node

import (
	"context"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"yarnpost/core/audit"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/service/alert"
	"yarnpost/service/samples"
	"yarnpost/service/store"
)

// alertPause is how often it is looked whether something fires or clears.
const alertPause = 5 * time.Second

func (n *Node) newAlerts() *alert.Room {
	return alert.New(alert.Config{Server: n.Name, Sends: n.sendsAlerts, Allowed: n.config.AlertsTo}, n.store, n.clock, n.log)
}

// Alerts gives the room of alerts.
func (n *Node) Alerts() *alert.Room { return n.alerts }

// sendsAlerts reports whether this server of a pair sends alerts of an area: what
// both see is the primary's to tell, while it can be heard.
func (n *Node) sendsAlerts(area audit.Area) bool {
	v, paired := n.Pair()
	return !paired || area == audit.InService || v.Settings.Side == lease.Primary || !v.Connected || v.Own.State != pair.Normal.String()
}

// lookForAlerts looks at what can fire: it is the same that an audit finds, but for
// what takes long to look at.
func (n *Node) lookForAlerts(ctx context.Context) {
	f := facts{n}
	list := audit.OfUse(n.engine.Plan(), n.watched.usage(f))
	if v, ok := n.Pair(); ok && n.clock.Since(n.Started) > alertGrace {
		p := audit.Pair{Own: v.Own.Name, Partner: v.Partner.Name, Connected: v.Connected, Reasons: v.Reasons}
		for _, c := range v.Conflicts {
			p.Conflicts = append(p.Conflicts, audit.Difference{Address: c.Address, Text: c.Kept + " and " + c.Other + " both held it"})
		}
		list = append(list, audit.OfPair(p)...)
	}
	list = append(list, audit.OfService(f.service(ctx))...)
	_, looked := n.samples.Outlooks()
	young := n.clock.Since(n.Started) <= alertGrace
	n.alerts.Look(ctx, list, func(code string) bool {
		return code == "pool-runs-out" && looked.IsZero() || young && strings.HasPrefix(code, "pair-")
	})
}

// alertGrace is how long the partner has to come up before that it is not there
// fires.
const alertGrace = 30 * time.Second

// watched is how full everything was when alerts were looked for last: each few
// seconds all of it is counted anew, in the same memory.
type watched struct {
	facts  audit.Facts
	levels []samples.Level
}

func (w *watched) usage(n facts) audit.Facts {
	w.facts.Now, w.facts.Asking = lease.At(n.clock.Now()), map[string]int{}
	w.levels = n.fill(&w.facts, w.levels)
	return w.facts
}

// alertMetrics counts the alerts that stand.
type alertMetrics struct{ n *Node }

var alertsDesc = prometheus.NewDesc("yarnpost_alerts", "Alerts that stand, by code, severity and subject.", []string{"code", "severity", "subject"}, nil)

// Describe implements prometheus.Collector.
func (m alertMetrics) Describe(c chan<- *prometheus.Desc) { c <- alertsDesc }

// Collect implements prometheus.Collector.
func (m alertMetrics) Collect(c chan<- prometheus.Metric) {
	for _, a := range m.n.alerts.Standing() {
		c <- prometheus.MustNewConstMetric(alertsDesc, prometheus.GaugeValue, 1, a.Code, a.Severity, a.Subject)
	}
}

// ShareAlerts tells the partner where alerts go and what is silenced, now; what it
// misses it asks for at its next audit.
func (n *Node) ShareAlerts(ctx context.Context) {
	_, channel := n.paired()
	if channel == nil {
		return
	}
	all, err := n.store.AlertSettings(ctx)
	if err == nil {
		err = channel.Ask(ctx, "alerts.take", all, nil)
	}
	if err != nil {
		n.log.Warn("the partner does not know yet where alerts go", "err", err)
	}
}

// takeAlerts takes in what the partner knows of where alerts go.
func (n *Node) takeAlerts(ctx context.Context, in store.AlertSettings) error {
	taken, err := n.store.TakeAlertSettings(ctx, in)
	if err == nil && taken {
		err = n.alerts.Reload(ctx)
	}
	return err
}
