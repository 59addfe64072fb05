package answer

import (
	"net/netip"

	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// claims answers REQUEST, RENEW and REBIND (RFC 8415 sections 18.3.2, 18.3.4, 18.3.5): each
// association by itself, all in one reply.
func (d *v6) claims() {
	for _, to := range d.req.Wants {
		d.ask(to)
		d.begin(to)
		switch why := d.neverGiven(to); {
		case why != "":
			d.none(to, why)
		case d.req.Kind == request.Select:
			d.take(to)
		default:
			d.extend(to)
		}
	}
	silent := true
	for i := range d.out.Answers {
		a := &d.out.Answers[i]
		silent = silent && a.Outcome == Ignored && (d.req.Kind == request.Rebind || !d.worthSaying())
	}
	if silent {
		d.ias = nil
		return
	}
	d.reply(dhcp6.Reply)
}

// take gives a client what it was offered, or else what is free.
func (d *v6) take(to request.Association) {
	if to.Object == request.Address && d.who.wish.IsValid() && d.onLink(d.who.wish) == nil {
		d.about("{a} does not belong to its link", d.who.wish, "")
		d.answer.Key = d.who.wish
		d.refuse(to, reason.WrongNetwork, dhcp6.NotOnLink)
		return
	}
	v, k := d.choose()
	if v == nil {
		d.none(to, "")
		return
	}
	g := d.grantOf(v, k, d.reservedHere(k))
	if g.mine {
		d.twin(g.record)
	}
	d.give(to, g)
}

// give binds an association to an address or a prefix.
func (d *v6) give(to request.Association, g grant) {
	n, t := d.bind(g)
	if d.answer.Outcome != Acknowledged {
		d.none(to, "")
		return
	}
	d.told(to, g, t, n == nil)
}

// extend renews what a client has. What it may not have any more it is told to stop using, and
// what it is to have instead it gets beside it, so it moves without a pause.
func (d *v6) extend(to request.Association) {
	if len(to.Hints) == 0 {
		d.take(to)
		return
	}
	var ended []dhcp6.Lease
	var over []*lease.Lease
	for _, k := range to.Hints {
		d.answer.Key = k
		g, v := d.claim(k, how{alone: d.req.Kind == request.Renew})
		switch {
		case v.wait: // and is decided again
			return
		case v.why == "":
			d.give(to, g)
			d.goodbye(ended)
			return
		case v.silent:
			d.ignore(v.why)
			continue
		case v.why == reason.OtherAddress && d.world.Pair != nil && d.world.Pair.Serving() != Everybody:
			d.step("the partner may have given it this one since", netip.Addr{}, "")
			d.ignore(v.why)
			continue
		}
		d.answer.Why = v.why
		if v.over && g.mine { // which it may not have heard, if it asks again
			if g.record.Status == lease.Active {
				over = append(over, g.record)
			}
			ended = append(ended, dhcp6.Lease{Prefix: k})
		} else if v.why == reason.WrongNetwork || v.why == reason.HeldByAnother || v.why == reason.ForAnother {
			ended = append(ended, dhcp6.Lease{Prefix: k})
		}
	}
	if len(ended) == 0 {
		if d.answer.Outcome != Ignored {
			d.refuse(to, d.answer.Why, dhcp6.NoBinding)
		}
		return
	}
	d.step("it is told not to use that any more, and gets what it is to have", netip.Addr{}, "")
	d.who.wish = netip.Prefix{}
	why := d.answer.Why
	if v, k := d.choose(); v != nil {
		d.answer.Why = ""
		d.give(to, d.grantOf(v, k, d.reservedHere(k))) // which leaves what it had
	} else if d.answer.Outcome == Waiting {
		return
	} else {
		for _, l := range over {
			d.change(l, l.GivenUp(d.now))
		}
		d.answer.Outcome, d.answer.Why = Refused, why
		d.ias = append(d.ias, dhcp6.IA{Code: dhcp6.CodeOf(to.Object), ID: to.ID})
	}
	d.goodbye(ended)
}

// goodbye adds to the last association what the client is to use no more: with lifetimes of 0.
func (d *v6) goodbye(ended []dhcp6.Lease) {
	if len(d.ias) > 0 {
		of := &d.ias[len(d.ias)-1]
		of.Leases = append(of.Leases, ended...)
	}
}

// refuse turns down an association with a status.
func (d *v6) refuse(to request.Association, why reason.Reason, code dhcp6.Status) {
	d.answer.Outcome, d.answer.Why = Refused, why
	if d.answer.Scope == nil {
		d.answer.Scope = d.scopes[0]
	}
	d.ias = append(d.ias, dhcp6.IA{Code: dhcp6.CodeOf(to.Object), ID: to.ID, Status: code, Message: why.Words("")})
}

// closes answers RELEASE and DECLINE (sections 18.3.7, 18.3.8): what is not the client's gets a
// status, the rest is given up, and the message as a whole succeeds.
func (d *v6) closes() {
	for _, to := range d.req.Wants {
		d.ask(to)
		d.begin(to)
		d.close(to)
		if d.answer.Why == reason.NoDatabase || d.answer.Why == reason.ForeignSource {
			return // as if it had not been heard: the client tries again
		}
	}
	if len(d.out.Answers) == 0 {
		return
	}
	d.header(dhcp6.Reply)
	d.sent.IAs = d.ias
	d.status(dhcp6.Success, "")
}

func (d *v6) close(to request.Association) {
	outcome := Released
	if d.req.Kind == request.Decline {
		outcome = Declined
	}
	gone := 0
	for _, k := range to.Hints {
		l := d.table.Get(k)
		d.answer.Key, d.answer.Scope = k, d.plan.ScopeAt(k.Addr())
		switch {
		case !d.mine(l) || l.Status != lease.Active || outcome == Declined && !k.IsSingleIP():
			d.about("{a} is not leased to it", k, "")
			continue
		case !d.ends(l):
			d.about("{a} is leased to it, and was not given through where this came from", k, "")
			d.ignore(reason.ForeignSource)
			return
		case !d.world.Writable:
			d.ignore(reason.NoDatabase)
			return
		}
		gone++
		d.about("it gives {a} up: {t}", k, string(outcome))
		d.answer.Outcome = outcome
		switch {
		case d.req.Trial:
			d.change(l, l.Ended(lease.Released, d.now))
		case outcome == Released:
			d.change(l, l.GivenUp(d.now))
		default:
			d.abandon(l)
		}
	}
	if gone == 0 {
		d.refuse(to, reason.NoRecord, dhcp6.NoBinding)
	}
}

// abandon believes that somebody else uses an address, unless its client says so too often.
func (d *v6) abandon(l *lease.Lease) {
	v := d.answer.Scope
	own, behind := d.table.Declines(scopeOf(v), d.who.client, d.who.port(), d.now)
	if !l.Reserved && (own >= declinesOwn || behind >= declinesPort) {
		d.step("so many addresses were declined lately that it is not believed", netip.Addr{}, "")
		d.answer.Why = reason.TooManyDeclines
		d.change(l, l.GivenUp(d.now))
		return
	}
	d.change(l, l.Abandon(d.now))
}

// ends reports whether a message may end a lease: one of the link that it came from, and through
// a relay that the plan does not name only if the client was given it through that very relay.
func (d *v6) ends(l *lease.Lease) bool {
	return d.onLink(l.Prefix) != nil && (d.way != ByStranger || l.Relay == d.req.Relay)
}

// scopeFor is the scope whose options a reply has: of the first answer that has one.
func (d *v6) scopeFor() (*plan.View, *plan.Reservation) {
	for i := range d.out.Answers {
		if a := &d.out.Answers[i]; a.Scope != nil && (a.Outcome == Offered || a.Outcome == Acknowledged || a.Outcome == Informed) {
			r := d.plan.ReservationOf(a.Key)
			if r != nil && string(r.Identifier) != string(d.req.Identifier) && r.Hardware != d.req.Hardware {
				r = nil
			}
			return a.Scope, r
		}
	}
	return d.scopes[0], nil
}
