package answer

import (
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/core/rule"
)

// What rules ask about is made in one way: factsOf a request, recalled from a lease where the
// message cannot say how its client is connected, and inScope.

// factsOf is what a request says, and what its relay says if that is believed.
func factsOf(r *request.Request, believed bool) rule.Request {
	out := rule.Request{Of: r, Agent: request.Agent{Relay: r.Relay}}
	if believed {
		out.Agent = r.Agent
	}
	return out
}

// recalled adds how the holder of a lease was connected when it was last heard through its
// relay. Whether that relay is believed the caller knows.
func recalled(of rule.Request, l *lease.Lease, believed bool) rule.Request {
	remote, subscriber, classes := agentOf(l.Agent)
	of.Agent, of.Classes = request.Agent{Relay: l.Relay}, classes
	if believed {
		of.Agent = request.Agent{Relay: l.Relay, Circuit: []byte(l.Circuit), Remote: remote, Subscriber: subscriber}
	}
	return of
}

// inScope adds the scope that is looked at.
func inScope(of rule.Request, v *plan.View, p *plan.Plan) rule.Request {
	of.Link, of.Scope, of.Lists = v.LinkName, v.Name, p.ReadyLists()
	return of
}

// FactsOf is what rules of a plan ask about the holder of a lease in a scope, as it would
// renew it, with what it asked with last.
func FactsOf(l *lease.Lease, asked request.Options, p *plan.Plan, v *plan.View) rule.Request {
	req := Replay(l, asked)
	return inScope(recalled(factsOf(&req, false), l, l.Relay.IsValid() && p.LinkOfRelay(l.Relay) != 0), v, p)
}
