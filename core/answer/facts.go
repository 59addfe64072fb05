package answer

import (
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/rule"
)

// What rules ask about is made in one way: factsOf a message, recalled from a lease where the
// message cannot say how its client is connected, and inScope.

// factsOf is what a message says, and the relay that is believed, or nothing.
func factsOf(m *dhcp4.Message, said *dhcp4.Relay) rule.Request {
	return rule.Request{Message: m, Relay: said, Via: m.GIAddr}
}

// recalled adds how the holder of a lease was connected when it was last heard through its
// relay. Whether that relay is believed the caller knows; room is for what it said then.
func recalled(of rule.Request, l *lease.Lease, believed bool, room *dhcp4.Relay) rule.Request {
	remote, subscriber, classes := agentOf(l.Agent)
	of.Via, of.Classes = l.Relay, classes
	if believed {
		*room = dhcp4.Relay{Circuit: []byte(l.Circuit), Remote: remote, Subscriber: subscriber}
		of.Relay = room
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
func FactsOf(l *lease.Lease, asked dhcp4.Options, p *plan.Plan, v *plan.View) rule.Request {
	believed := l.Relay.IsValid() && p.LinkOfRelay(l.Relay) != 0
	return inScope(recalled(factsOf(Replay(l, asked).Message, &nothingSaid), l, believed, new(dhcp4.Relay)), v, p)
}
