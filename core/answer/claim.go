package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

// how says in which way a client claims an address.
type how struct {
	selecting bool // it takes what this server offered
	alone     bool // it speaks to this server and no other
}

// verdict is what becomes of a claim.
type verdict struct {
	why    reason.Reason // that it is turned down; "" if it is granted
	silent bool          // it is not answered, since another server may know better
	over   bool          // what the client holds of it ends
	wait   bool          // for the probe of an address
}

// claim judges whether a client may have an address that it names.
func (d *decider) claim(k netip.Prefix, h how) (grant, verdict) {
	v := d.onLink(k)
	if v == nil {
		d.answer.Scope = d.scopes[0]
		if d.allHeld() {
			d.step("every scope of its link is held", netip.Addr{}, "")
			return grant{}, verdict{why: reason.ScopeHeld, silent: true}
		}
		d.about("{a} does not belong to its link", k, "")
		return grant{}, verdict{why: reason.WrongNetwork}
	}
	d.answer.Scope = v
	if v.Mode == plan.Held {
		d.step("scope {t} is held", netip.Addr{}, v.Name)
		return grant{}, verdict{why: reason.ScopeHeld, silent: true}
	}
	l := d.table.In(v, k)
	g := grant{k, v, nil, l, d.mine(l)}
	r, rv, available := d.reservation()
	if r != nil && r.Key() == k {
		g.by = r
	}
	if out, judged := d.barred(g, h); judged {
		return g, out
	}
	if r != nil && g.by == nil && available && rv.Mode != plan.Held {
		switch probe := d.probe(rv, r.Key()); {
		case probe == Unprobed && !d.mine(d.table.Get(r.Key())):
			d.about("{a} is reserved for it, and is probed first", r.Key(), "")
			d.waitFor(rv, r.Key())
			return g, verdict{wait: true}
		case probe != InUse:
			d.about("{a} is reserved for it and can be had now", r.Key(), "")
			return g, verdict{why: reason.HasReservation, over: true}
		}
	}
	if out, judged := d.unavailable(g, h); judged {
		return g, out
	}
	return g, d.unoffered(g, h)
}

// barred turns down what no client may have, or not this one.
func (d *decider) barred(g grant, h how) (verdict, bool) {
	switch k := g.key; {
	case d.ofNetwork(k, g.scope.Gives(k)):
		d.about("{a} belongs to the network: to a router, a relay or a server", k, "")
		return verdict{why: reason.OfNetwork, over: true}, true
	case g.by == nil && d.plan.ReservationIn(g.scope, k) != nil:
		d.about("{a} is reserved for another client", k, "")
		return verdict{why: reason.ForAnother, over: true}, true
	case !h.selecting && !g.mine && g.by == nil && d.elsewhereOnRecord(k):
		return verdict{why: reason.OtherAddress}, true
	}
	return verdict{}, false
}

// unavailable turns down what another client has, and what the plan does not let
// this one have.
func (d *decider) unavailable(g grant, h how) (verdict, bool) {
	k, v, l := g.key, g.scope, g.record
	switch {
	case l != nil && !g.mine && (l.Status == lease.Active || l.Kept() || l.Status == lease.Abandoned && (g.by == nil || !g.by.Insist)):
		d.about("{a} is not free: {t}", k, l.Status.String())
		// What was abandoned here, the other server of a pair may have given since.
		return verdict{why: reason.HeldByAnother, silent: d.world.Pair != nil && l.Status == lease.Abandoned && !h.selecting}, true
	case g.by != nil:
		return verdict{}, false
	case !v.Gives(k):
		if !g.mine && !d.answersUnknown(h, v) {
			return verdict{why: reason.NoRecord, silent: true}, true
		}
		d.about("{a} is not handed out (any more)", k, "")
		return verdict{why: reason.NotHandedOut, over: true}, true
	case !d.inItsPool(v, k) && d.ruling(v).action == plan.ReservedOnly:
		d.step("rule {t} lets reserved clients alone have an address", netip.Addr{}, d.ruling(v).by)
		return verdict{why: reason.ReservedOnly, over: true}, true
	case !d.inItsPool(v, k) && (!g.mine || d.roomInPool(v)):
		d.step("rules give it no address of that pool", netip.Addr{}, "")
		return verdict{why: reason.NotHandedOut, over: true}, true
	case v.Mode == plan.Draining && (!g.mine || d.elsewhere(v) || d.leaseTime(v, nil, true) < time.Minute):
		d.step("scope {t} is draining", netip.Addr{}, v.Name)
		return verdict{why: reason.ScopeDraining, over: true}, true
	}
	return verdict{}, false
}

// unoffered turns down what the client neither has nor was offered.
func (d *decider) unoffered(g grant, h how) verdict {
	k := g.key
	if !d.ourGrant(g) {
		d.about("{a} is the partner's to give, or may be held by whom it knows", k, "")
		return verdict{why: reason.PartnersShare, silent: !h.selecting}
	}
	var o lease.Offer
	offered := false
	if !g.mine || g.record.Status != lease.Active {
		o, offered = d.table.OfferOf(k)
	}
	if offered && o.Client != d.who.client && g.by == nil {
		d.about("{a} is on offer to another client", k, "")
		return verdict{why: reason.HeldByAnother}
	}
	offered = offered && o.Client == d.who.client
	switch probe := d.probe(g.scope, k); {
	case g.mine:
		d.twin(g.record)
	case g.by != nil && !offered && probe == Unprobed:
		d.about("{a} is reserved for it, and is probed first", k, "")
		d.waitFor(g.scope, k)
		return verdict{wait: true}
	case g.by != nil && !offered && probe == InUse && !g.by.Insist:
		d.about("{a} is reserved for it, and somebody else answers for it", k, "")
		return verdict{why: reason.ReservedInUse}
	case g.by != nil:
	case !h.selecting && d.world.RecordsLost && d.free(g.scope, k):
		d.about("no lease of it is on record, but records were lost, and {a} is nobody else's", k, "")
	case !h.selecting:
		return verdict{why: reason.NoRecord, silent: !d.answersUnknown(h, g.scope)}
	case !offered:
		d.about("{a} is not on offer to it", k, "")
		return verdict{why: reason.NotOffered}
	}
	return verdict{}
}

// answersUnknown reports whether a client without a record is refused rather
// than met with silence: it spoke to this server alone, or the scope is
// authoritative.
func (d *decider) answersUnknown(h how, v *plan.View) bool {
	d.step("no lease of it is on record", netip.Addr{}, "")
	if d.world.Pair != nil && d.world.Pair.Serving() != Everybody {
		d.step("the partner may have given it one that is not known here", netip.Addr{}, "")
		return false
	}
	return h.alone || v.Authoritative
}
