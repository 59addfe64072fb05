package facts

import (
	"strings"
	"time"

	"yarnpost/core/audit"
	"yarnpost/core/lease"
	"yarnpost/service/samples"
)

// ForAlerts is what can fire: the same that an audit finds, but for what takes long to look
// at. Of some codes it is not known yet whether they are found. It is called by one caller
// at a time.
func (g *Gatherer) ForAlerts() (list []audit.Finding, unknown func(code string) bool) {
	list = audit.OfUse(g.Engine.Plan(), g.watched.usage(g))
	if v, ok := g.Pair.View(); ok && g.Clock.Now().Sub(g.Started) > alertGrace {
		p := audit.Pair{Own: v.Own.Name, Partner: v.Partner.Name, Connected: v.Connected, Reasons: v.Reasons}
		for _, c := range v.Conflicts {
			p.Conflicts = append(p.Conflicts, audit.Difference{Address: c.Address, Text: c.Kept + " and " + c.Other + " both held it"})
		}
		list = append(list, audit.OfPair(p)...)
	}
	list = append(list, audit.OfService(g.service())...)
	_, looked := g.Samples.Outlooks()
	young := g.Clock.Now().Sub(g.Started) <= alertGrace
	return list, func(code string) bool {
		return code == "pool-runs-out" && looked.IsZero() || young && strings.HasPrefix(code, "pair-")
	}
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

func (w *watched) usage(g *Gatherer) audit.Facts {
	w.facts.Now, w.facts.Asking = lease.At(g.Clock.Now()), map[string]int{}
	w.levels = g.fill(&w.facts, w.levels)
	return w.facts
}
