package answer

import (
	"net/netip"
	"slices"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// v6 is a request by DHCPv6 on its way. It asks for several things, one association each.
type v6 struct {
	decider
	msg  *dhcp6.Message
	sent *dhcp6.Message // nil: nothing
	way  Way
	ias  []dhcp6.IA // of the reply
}

// all decides the whole message.
func (d *v6) all() {
	d.ask(request.Association{})
	d.way = d.arrival()
	d.begin(d.req.First())
	d.decide()
	d.withhold()
	for i := range d.out.Answers {
		a := &d.out.Answers[i]
		for j := range d.rulings { // if they were asked at all
			if a.Scope != nil && d.rulings[j].scope == a.Scope.ID {
				a.Fitted = d.rulings[j].fitted
			}
		}
	}
}

// ask says who asks for a thing.
func (d *v6) ask(to request.Association) {
	c := lease.Client{Kind: lease.Addresses, Number: to.ID, ID: string(d.req.Identifier)}
	switch to.Object {
	case request.Delegation:
		c.Kind = lease.Prefixes
	case request.Registration:
		c.Kind = lease.Registered
	}
	var room [192]byte
	sure := d.req.Relay.IsValid() && (d.req.Trial || d.plan.LinkOfRelay(d.req.Relay) != 0)
	d.who = asker{client: c, hardware: d.req.Hardware, identifier: d.req.Identifier, via: d.req.Relay, circuit: d.req.Circuit,
		sure: sure, stranger: d.req.Relay.IsValid() && !sure, wish: to.Hint(), hostname: clip(d.msg.FQDN()), vendor: clip(d.msg.Vendor()),
		seed: string(c.Append(room[:0])), iaid: string(addr.IAIDOf(to.ID)), facts: factsOf(&d.req, sure)}
	if to.Object == request.Delegation && d.who.wish.IsValid() {
		d.who.length = d.who.wish.Bits()
		if d.who.wish.Addr().IsUnspecified() { // it says how much, and not which
			d.who.wish = netip.Prefix{}
		}
	}
}

// arrival tells the way of a message. Clients of DHCPv6 speak to all servers of a link, or
// through a relay. A relay that names no link is on the link itself, and speaks to all as well:
// by unicast such a message could come from anywhere.
func (d *v6) arrival() Way {
	switch {
	case d.who.sure:
		return ByRelay
	case d.req.Relay.IsValid():
		return ByStranger
	case d.req.Unicast && d.req.From.IsValid():
		return Elsewhere
	}
	return FromLink
}

func (d *v6) decide() {
	if d.world.Fenced {
		d.step("another server has taken over the database", netip.Addr{}, "")
		d.ignore(reason.Fenced)
		return
	}
	if !d.wellFormed() || d.byUnicast() {
		return
	}
	if what := d.oddRelay(); what != "" {
		d.step("it came through {a}: {t}", d.req.Relay, what)
		d.ignore(reason.BadRelay)
		return
	}
	if r := &d.req.Agent; d.way == ByStranger && len(r.Circuit)+len(r.Remote)+len(r.Subscriber) > 0 {
		d.step("what relay {a} says of where the client is plugged in does not count: the plan does not name it", r.Relay, "")
	}
	d.findLink()
	if d.leftToPartner() {
		return
	}
	if len(d.scopes) == 0 {
		d.ignore(reason.NoScope)
		return
	}
	if d.turnedAway() {
		return
	}
	d.out.Answers = d.out.Answers[:0] // one for each thing that it asks for
	switch d.req.Kind {
	case request.Solicit:
		d.solicit()
	case request.Select, request.Renew, request.Rebind:
		d.claims()
	case request.Confirm:
		d.confirm()
	case request.Release, request.Decline:
		d.closes()
	case request.Inform:
		d.inform()
	case request.Register:
		d.register()
	}
	if len(d.out.Answers) == 0 {
		d.begin(request.Association{})
		d.step("it asks for nothing", netip.Addr{}, "")
		d.ignore(reason.BadRequest)
	}
}

// wellFormed reports whether the message has what its type must have, and names this server
// where it names one (RFC 8415 section 16); else it says what is wrong.
func (d *v6) wellFormed() bool {
	k := d.req.Kind
	bad := func(why string) bool {
		d.step(why, netip.Addr{}, "")
		d.ignore(reason.BadRequest)
		return false
	}
	switch {
	case k == request.Other:
		d.step("{t} messages are not answered", netip.Addr{}, d.msg.Type.String())
		d.ignore(reason.NotServed)
		return false
	case k != request.Inform && !addr.DUID(d.req.Identifier).Proper(),
		d.req.Identifier != nil && !addr.DUID(d.req.Identifier).Proper():
		return bad("no DUID says who the client is")
	case k.ToBoth() && k != request.Inform && d.req.Chosen != nil:
		return bad("it names a server, which such a message must not")
	case !k.ToBoth() && d.req.Chosen == nil:
		return bad("it names no server")
	case k == request.Inform && len(d.req.Wants) > 0:
		return bad("it asks for options alone, and for addresses as well")
	case k == request.Register && d.oddRegistration() != "":
		return bad(d.oddRegistration())
	case len(d.req.Wants) > associationsMost:
		return bad("it asks for more things than any client needs")
	case d.req.Chosen != nil && string(d.req.Chosen) != d.world.DUID:
		d.step("it chose server {t}", netip.Addr{}, addr.DUID(d.req.Chosen).String())
		d.findLink()
		d.forgetOffers()
		d.ignore(reason.OtherServer)
		return false
	}
	return true
}

// associationsMost bounds what one message can ask for.
const associationsMost = 32

// forgetOffers forgets what was offered to a client that chose another server.
func (d *v6) forgetOffers() {
	d.out.Answers = d.out.Answers[:0]
	for _, to := range d.req.Wants {
		d.ask(to)
		d.begin(to)
		d.dropOffers()
		d.ignore(reason.OtherServer)
	}
	if len(d.req.Wants) == 0 {
		d.begin(request.Association{})
	}
}

// byUnicast answers a client that spoke to this server alone, which it was never told that it
// may (sections 18.3.2 and 18.4).
func (d *v6) byUnicast() bool {
	if d.way != Elsewhere {
		return false
	}
	d.step("it came from {a} to this server alone, and has to speak to all", d.req.From, "")
	d.ignore(reason.ForeignSource)
	switch d.req.Kind {
	case request.Select, request.Renew, request.Release, request.Decline:
		d.header(dhcp6.Reply)
		d.status(dhcp6.UseMulticast, "speak to all servers of the link")
	}
	return true
}

// oddRelay says why no relay can have the address by which the link of the message is known, or
// "".
func (d *v6) oddRelay() string {
	r := d.req.Relay
	switch v := d.plan.SubnetAt(r); {
	case !r.IsValid():
		return ""
	case r.IsMulticast() || r.IsLoopback() || r.IsLinkLocalUnicast() || r.Is4In6():
		return "no link is known by that address"
	case v != nil && d.way == ByStranger:
		if l := d.table.In(v, lease.Host(r)); l != nil && l.HeldAt(d.now) {
			return "that is the address of a client"
		}
	}
	return ""
}

// findLink finds the scopes of the client's link: by the address that its relay gives the link,
// or by the interface.
func (d *v6) findLink() {
	relay := d.req.Relay
	switch id := d.plan.LinkOfRelay(relay); {
	case relay.IsValid() && id != 0:
		d.step("came through relay {a} of this link", relay, "")
		d.scopes = d.plan.Serving(id, option.V6)
	case relay.IsValid():
		d.step("came through relay {a}", relay, "")
		if v := d.plan.SubnetAt(relay); v != nil {
			d.scopes = d.plan.Beside(v)
		}
	case d.req.Interface != "":
		d.step("heard on interface {t}", netip.Addr{}, d.req.Interface)
		if id := d.plan.LinkOnInterface(d.req.Interface); id != 0 {
			d.scopes = d.plan.Serving(id, option.V6)
			break
		}
		for _, p := range d.req.Prefixes {
			if v := d.plan.SubnetAt(p.Addr()); v != nil && v.Family() == option.V6 {
				d.scopes = d.plan.Beside(v)
				break
			}
		}
	}
	if first := d.req.First(); !relay.IsValid() && !d.req.From.IsValid() && len(d.scopes) == 0 { // nobody sent it
		if v := d.plan.ScopeAt(first.Hint().Addr()); v != nil {
			d.scopes = d.plan.Beside(v)
		}
	}
	if len(d.scopes) == 0 {
		d.step("no scope is defined for that link", netip.Addr{}, "")
	}
}

// turnedAway drops the scopes whose rules ignore or refuse the client. If none is left it says
// so and reports true.
func (d *v6) turnedAway() bool {
	var last *ruling
	open := slices.Clone(d.scopes)
	open = slices.DeleteFunc(open, func(v *plan.View) bool {
		r := d.ruling(v)
		if r.action != plan.Ignore && r.action != plan.Refuse {
			return false
		}
		last, d.answer.Scope = r, v
		return true
	})
	if len(open) > 0 {
		d.scopes, d.answer.Scope = open, nil
		return false
	}
	d.answer.Rule = last.by
	d.ignore(reason.ByRule)
	return true
}

// solicit offers something for each association, or gives it at once where two messages are
// enough (RFC 8415 section 18.3.1).
func (d *v6) solicit() {
	_, rapid := d.msg.Options.Get(option.RapidCommit6)
	rapid = rapid && slices.ContainsFunc(d.scopes, func(v *plan.View) bool { return v.RapidCommit })
	for _, to := range d.req.Wants {
		d.ask(to)
		d.begin(to)
		if why := d.neverGiven(to); why != "" {
			d.none(to, why)
			continue
		}
		v, k := d.choose()
		if v == nil {
			d.none(to, "")
			continue
		}
		g := d.grantOf(v, k, d.reservedHere(k))
		if rapid {
			d.give(to, g)
			continue
		}
		if !d.world.Writable && !(g.mine && g.record.HeldAt(d.now)) {
			d.step("nothing can be recorded now, so nobody new is served", netip.Addr{}, "")
			d.ignore(reason.NoDatabase)
			continue
		}
		d.offer(to, g)
	}
	if !d.worthSaying() {
		return
	}
	if rapid && slices.ContainsFunc(d.out.Answers, func(a Answer) bool { return a.Outcome == Acknowledged }) {
		d.step("it asks to do with two messages, and its scope allows it", netip.Addr{}, "")
		d.reply(dhcp6.Reply)
		d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.RapidCommit6})
		return
	}
	d.reply(dhcp6.Advertise)
}

// neverGiven says why a client of this link is never given such a thing, or "".
func (d *v6) neverGiven(to request.Association) string {
	switch {
	case to.Object == request.Temporary:
		return "temporary addresses are not given"
	case to.Object == request.Delegation && !slices.ContainsFunc(d.scopes, func(v *plan.View) bool { return len(v.PrefixPools) > 0 }):
		return "no scope of its link delegates prefixes"
	}
	return ""
}

// offer promises an address or a prefix for a while.
func (d *v6) offer(to request.Association, g grant) {
	d.answer.Outcome, d.answer.Scope, d.answer.Key = Offered, g.scope, g.key
	stands := OfferTime
	if d.who.stranger {
		stands = strangerOfferTime
	}
	d.answer.Offer = &lease.Offer{Prefix: g.key, Client: d.who.client, Until: d.now.Add(stands), Brief: d.who.stranger, Port: d.who.port()}
	if g.by != nil {
		d.answer.Offer.Port = lease.Port{} // what is reserved is no part of the port's share
	}
	d.told(to, g, d.promise(g.record, d.leaseTime(g.scope, g.by, false)), false)
}

// worthSaying reports whether a client is told that there is nothing for it: not where another
// server may have something, or nobody is to be answered.
func (d *v6) worthSaying() bool {
	for i := range d.out.Answers {
		switch a := &d.out.Answers[i]; a.Why {
		case reason.ScopeHeld, reason.TooMany, reason.NoDatabase, reason.PartnersShare, reason.RecordsLost, reason.PartnerServes:
			if a.Outcome == Ignored {
				continue
			}
		}
		return true
	}
	return false
}

// none answers an association for which there is nothing.
func (d *v6) none(to request.Association, why string) {
	if d.answer.Outcome == "" {
		d.step(why, netip.Addr{}, "")
		d.ignore(reason.NotServed)
	}
	code := dhcp6.NoAddrsAvail
	if to.Object == request.Delegation {
		code = dhcp6.NoPrefixAvail
	}
	d.ias = append(d.ias, dhcp6.IA{Code: dhcp6.CodeOf(to.Object), ID: to.ID, Status: code, Message: d.answer.Why.Words(d.answer.Rule)})
}

// confirm says whether the addresses that a client has still fit its link (section 18.3.3).
func (d *v6) confirm() {
	d.begin(d.req.First())
	n := 0
	for _, to := range d.req.Wants {
		if to.Object == request.Delegation {
			continue
		}
		for _, k := range to.Hints {
			n++
			d.answer.Key = k
			if v := d.onLink(k); v == nil {
				if d.allHeld() {
					d.ignore(reason.ScopeHeld)
					return
				}
				d.about("{a} does not belong to its link", k, "")
				d.answer.Outcome, d.answer.Why, d.answer.Scope = Refused, reason.WrongNetwork, d.scopes[0]
				d.header(dhcp6.Reply)
				d.status(dhcp6.NotOnLink, "not an address of this link")
				return
			} else if d.answer.Scope = v; v.Mode == plan.Held {
				d.ignore(reason.ScopeHeld)
				return
			}
		}
	}
	if n == 0 {
		d.step("it names no address", netip.Addr{}, "")
		d.ignore(reason.BadRequest)
		return
	}
	d.step("all that it has is of this link", netip.Addr{}, "")
	d.answer.Outcome = Informed
	d.header(dhcp6.Reply)
	d.status(dhcp6.Success, "all addresses are of this link")
}

// inform answers a client that wants options alone (section 18.3.6).
func (d *v6) inform() {
	d.begin(request.Association{})
	i := slices.IndexFunc(d.scopes, func(v *plan.View) bool { return v.Mode != plan.Held })
	if i < 0 {
		d.answer.Scope = d.scopes[0]
		d.ignore(reason.ScopeHeld)
		return
	}
	d.answer.Scope, d.answer.Outcome = d.scopes[i], Informed
	d.step("options of scope {t}", netip.Addr{}, d.scopes[i].Name)
	d.reply(dhcp6.Reply)
}
