package answer

import (
	"net/netip"
	"unicode/utf8"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// claimNames are the client states from which the four uses of DHCPREQUEST come (RFC 2131
// section 4.3.2).
var claimNames = map[request.Kind]string{request.Select: "selecting", request.Confirm: "init-reboot", request.Renew: "renewing",
	request.Rebind: "rebinding"}

func (d *v4) request() {
	a, kind := d.who.wish.Addr(), d.req.Kind
	if !a.IsValid() {
		d.step("the request names no address", netip.Addr{}, "")
		d.ignore(reason.BadRequest)
		return
	}
	d.answer.Key = lease.Host(a)
	d.step("{t} {a}", a, claimNames[kind])
	if !d.speaksFor(a) {
		return
	}
	if server, _ := d.msg.Options.Addr(option.ServerID); kind == request.Select && !d.named(server) {
		d.step("it chose server {a}", server, "")
		d.dropOffers()
		d.ignore(reason.OtherServer)
		return
	}
	if len(d.scopes) == 0 {
		d.ignore(reason.NoScope)
		return
	}
	if d.turnedAway(true) {
		if d.answer.Outcome == Refused {
			d.giveUp(d.grantOf(nil, lease.Host(a), nil))
		}
		return
	}
	d.grant(a)
}

// named reports whether a server identifier is one of this server's.
func (d *v4) named(server netip.Addr) bool {
	return server == d.req.Server || server == d.msg.Agent.ServerID || d.world.Ours(server)
}

// grant gives the client the address it asks for, or says why not.
func (d *v4) grant(a netip.Addr) {
	k := d.req.Kind
	g, v := d.claim(lease.Host(a), how{selecting: k == request.Select, alone: k == request.Select || k == request.Renew})
	switch {
	case v.wait:
		return
	case v.why == "":
		d.acknowledge(g)
	case v.silent:
		d.ignore(v.why)
	default:
		d.refuse(v.why)
		if v.over {
			d.giveUp(g)
		}
	}
}

// acknowledge gives an address that the client may have.
func (d *v4) acknowledge(g grant) {
	n, t := d.bind(g)
	if d.answer.Outcome != Acknowledged {
		return
	}
	d.reply(dhcp4.Ack, g.scope, g.by, g.key.Addr(), t)
	if n != nil {
		n.Given = Digest(d.msg, d.sent)
	}
	if !d.nudgeable() {
		return
	}
	if n == nil && d.nudgeFits(g.record) {
		d.addNonce(g.record.Nudge)
		return
	}
	nonce := ""
	if g.mine {
		nonce = nonceOf(g.record.Nudge)
	}
	if nonce == "" && d.world.Nonce != nil {
		nonce = d.world.Nonce()
	}
	if n == nil {
		n = d.answer.Lease
	}
	if n == nil { // not worth a write: it is recorded with the next that is
		same := *g.record
		n = &same
		d.answer.remembered = lease.Change{Before: g.record, After: n}
	}
	n.Nudge = d.nudge(nonce)
	d.addNonce(n.Nudge)
}

// Limits of what clients can make unusable by declining it, in an hour: a client,
// those behind one relay port, and a part of the pools in all.
const (
	declinesOwn  = 3
	declinesPort = 8
	declinesPart = 8 // one eighth of the pools
)

func (d *v4) decline() {
	a, ok := d.msg.Options.Addr(option.AddressRequest)
	server, hasServer := d.msg.Options.Addr(option.ServerID)
	if !ok {
		d.ignore(reason.BadRequest)
		return
	}
	if hasServer && !d.named(server) {
		d.step("it chose server {a}", server, "")
		d.ignore(reason.OtherServer)
		return
	}
	if !d.speaksFor(a) {
		return
	}
	l := d.close(a, Declined)
	if l == nil {
		return
	}
	v := d.answer.Scope
	own, behind := d.table.Declines(scopeOf(v), d.who.client, d.who.port(), d.now)
	switch {
	case l.Reserved || v == nil:
	case own >= declinesOwn, behind >= declinesPort, uint64(d.table.Count(v.ID).Abandoned) >= max(2, v.Size/declinesPart):
		d.step("so many addresses were declined lately that it is not believed", netip.Addr{}, "")
		d.answer.Why = reason.TooManyDeclines
		d.change(l, l.GivenUp(d.now))
		return
	}
	d.change(l, l.Abandon(d.now))
}

func scopeOf(v *plan.View) plan.ID {
	if v == nil {
		return 0
	}
	return v.ID
}

func (d *v4) release() {
	if server, named := d.msg.Options.Addr(option.ServerID); named && !d.named(server) {
		d.step("it has its lease of server {a}", server, "")
		d.ignore(reason.OtherServer)
		return
	}
	switch l := d.close(d.msg.CIAddr, Released); {
	case l == nil:
	case d.req.Trial: // which is over, as nobody knows better
		d.change(l, l.Ended(lease.Released, d.now))
	default:
		d.change(l, l.GivenUp(d.now))
	}
}

// close finds the client's own lease, which it gives up, or says why not.
func (d *v4) close(a netip.Addr, outcome Outcome) *lease.Lease {
	d.answer.Key, d.answer.Scope = lease.Host(a), d.plan.ScopeAt(a)
	l := d.table.At(a)
	switch {
	case !d.mine(l) || l.Status != lease.Active:
		d.step("{a} is not leased to it", a, "")
		d.ignore(reason.NoRecord)
		return nil
	case !d.ends(l):
		d.step("{a} is leased to it, and was not given through where this came from", a, "")
		d.ignore(reason.ForeignSource)
		return nil
	}
	if !d.world.Writable {
		d.ignore(reason.NoDatabase)
		return nil
	}
	d.step("it gives {a} up: {t}", a, string(outcome))
	d.answer.Outcome = outcome
	return l
}

// inform answers a client that has an address and wants options alone
// (RFC 2131 section 4.3.5).
func (d *v4) inform() {
	a := d.msg.CIAddr
	v := d.plan.ScopeAt(a)
	switch {
	case a.IsUnspecified():
		d.step("the message names no address", netip.Addr{}, "")
		d.ignore(reason.BadRequest)
		return
	case v == nil:
		d.step("no scope holds {a}", a, "")
		d.ignore(reason.NoScope)
		return
	case v.Mode == plan.Held:
		d.answer.Scope = v
		d.ignore(reason.ScopeHeld)
		return
	}
	d.scopes = []*plan.View{v}
	if d.turnedAway(false) {
		return
	}
	d.answer.Scope, d.answer.Key = v, lease.Host(a)
	d.answer.Outcome = Informed
	d.step("options of scope {t} for {a}", a, v.Name)
	d.reply(dhcp4.Ack, v, d.reservedHere(lease.Host(a)), netip.IPv4Unspecified(), 0)
}

// hostname is what the client says of itself (options 12 and 81).
func hostname(m *dhcp4.Message) string {
	name := m.Text(option.Hostname)
	if name == "" {
		name = m.FQDN()
	}
	return clip(name)
}

// clip bounds a text, without cutting a rune in two; what is no text comes out as one.
func clip(text string) string {
	if len(text) > textMost {
		text = text[:textMost]
		for len(text) > 0 && !utf8.RuneStart(text[len(text)-1]) {
			text = text[:len(text)-1]
		}
		if r, n := utf8.DecodeLastRuneInString(text); r == utf8.RuneError && n == 1 {
			text = text[:len(text)-1]
		}
	}
	return option.Clean([]byte(text))
}

// textMost bounds what is kept of a text that a client sends, in octets.
const textMost = 255

// turnedAway drops the scopes whose rules ignore or refuse the client. If none is
// left it says so and reports true; a refusal becomes a NAK where one fits.
func (d *v4) turnedAway(nak bool) bool {
	var open []*plan.View
	var last *ruling
	for i, v := range d.scopes {
		r := d.ruling(v)
		if r.action != plan.Ignore && r.action != plan.Refuse {
			if open != nil {
				open = append(open, v)
			}
			continue
		}
		if open == nil {
			open = append(make([]*plan.View, 0, len(d.scopes)), d.scopes[:i]...)
		}
		last, d.answer.Scope = r, v
	}
	if open == nil {
		return false
	}
	if len(open) > 0 {
		d.scopes, d.answer.Scope = open, nil
		return false
	}
	d.answer.Rule = last.by
	if nak && last.action == plan.Refuse {
		d.refuse(reason.ByRule)
	} else {
		d.ignore(reason.ByRule)
	}
	return true
}
