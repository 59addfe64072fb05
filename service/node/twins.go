package node

import (
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// twin is an address that two hosts with one client identifier ask for. By the
// standard's rule both have it; it is seen, and said once it is sure: the first
// answers a probe while the second asks, or they take turns.
type twin struct {
	one, two addr.Hardware
	turns    int // how often it went from one to the other
	last     lease.Time
	asked    lease.Time // when the address was probed because of it
	told     unservedKey
	client   Unserved
}

// Limits of noticing twins: turns without a probe that tell enough, and seconds
// between two probes because of one address.
const (
	twinTurns = 3
	twinPause = 60
)

// twin notes that another hardware address asks for a lease that is held. The
// caller holds the lock.
func (e *Engine) twin(req *answer.Request, d *answer.Decision, now lease.Time) {
	a := d.Twin.Address()
	t := e.twins.get(a)
	if t == nil || now-t.last > 3600 {
		t = &twin{}
	}
	e.twins.put(a, t)
	if hw := req.Message.CHAddr; t.two != hw {
		t.turns++
	}
	t.one, t.two, t.last = d.Twin.Hardware, req.Message.CHAddr, now
	t.told, t.client = troubleKey(d.Client, a), describe(req, d)
	t.client.Asked = a
	v := e.table.Plan().ScopeAt(a)
	switch p := e.probes; {
	case t.turns >= twinTurns:
		e.tellTwin(t, "they take turns with "+a.String(), now)
	case v != nil && p.can() && p.reaches(v) && now-t.asked > twinPause && p.sent < probeRate:
		t.asked = now
		e.ask(v, a)
	}
}

// meet takes in that somebody answers for an address that is leased: if it is
// the first of two, there are two. The caller holds the lock.
func (e *Engine) meet(a netip.Addr, l *lease.Lease, who Probed, now lease.Time) {
	t := e.twins.get(a)
	if t == nil || now-t.asked > twinPause || who.Hardware != "" && who.Hardware != t.one {
		return
	}
	e.tellTwin(t, t.one.String()+" answers for "+a.String()+" at the same time", now)
}

func (e *Engine) tellTwin(t *twin, evidence string, now lease.Time) {
	u := t.client
	u.Trail = append(append([]string{}, u.Trail...), t.one.String()+" and "+t.two.String()+" have the same client identifier", evidence)
	e.unserved.tell(t.told, u, answer.SharedIdentifier, now)
}

// scopeNamed is the name of a scope that may be nil.
func scopeNamed(v *plan.View) (scope, link string) {
	if v == nil {
		return "", ""
	}
	return v.Name, v.LinkName
}
