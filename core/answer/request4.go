package answer

import (
	"net/netip"
	"unicode/utf8"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

// state is which of the four requests it is (RFC 2131 section 4.3.2).
type state uint8

const (
	selecting state = iota
	initReboot
	renewing
	rebinding
)

var stateNames = [...]string{"selecting", "init-reboot", "renewing", "rebinding"}

// requestState is which of the four it is, of which address, and the server that
// it chose, if it names one.
func (d *v4) requestState() (s state, a, server netip.Addr) {
	m := d.msg
	server, hasServer := m.Options.Addr(option.ServerID)
	a, hasAsked := m.Options.Addr(option.AddressRequest)
	switch {
	case hasServer:
		s = selecting
		if !hasAsked {
			a = m.CIAddr
		}
	case !m.CIAddr.IsUnspecified():
		s, a = rebinding, m.CIAddr
		if d.req.Unicast && m.GIAddr.IsUnspecified() || d.req.Relay.Unicast {
			s = renewing
		}
	case hasAsked:
		s = initReboot
	}
	return s, a, server
}

func (d *v4) request() {
	s, a, server := d.requestState()
	if !a.IsValid() || a.IsUnspecified() {
		d.step("the request names no address", netip.Addr{}, "")
		d.ignore(reason.BadRequest)
		return
	}
	d.out.Address = a
	d.step("{t} {a}", a, stateNames[s])
	if !d.speaksFor(a) {
		return
	}
	if s == selecting && !d.named(server) {
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
		if d.out.Outcome == Refused {
			d.giveUp(d.grantOf(nil, a, nil))
		}
		return
	}
	d.grant(s, a)
}

// named reports whether a server identifier is one of this server's.
func (d *v4) named(server netip.Addr) bool {
	return server == d.req.Server || server == d.req.Relay.ServerID || d.world.Ours(server)
}

// grant gives the client the address it asks for, or says why not.
func (d *v4) grant(s state, a netip.Addr) {
	g, v := d.claim(a, how{selecting: s == selecting, alone: s == selecting || s == renewing})
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
	if d.out.Outcome != Acknowledged {
		return
	}
	d.reply(dhcp4.Ack, g.scope, g.by, g.address, t)
	if n != nil {
		n.Given = Digest(d.msg, d.out.Reply)
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
	if n == nil && len(d.out.Changes) > 0 {
		n = d.out.Changes[0].After
	}
	if n == nil { // not worth a write: it is recorded with the next that is
		same := *g.record
		n = &same
		d.out.remembered = lease.Change{Before: g.record, After: n}
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
	v := d.out.Scope
	own, behind := d.table.Declines(scopeOf(v), d.who.client, d.who.port(), d.now)
	switch {
	case l.Reserved || v == nil:
	case own >= declinesOwn, behind >= declinesPort, uint64(d.table.Count(v.ID).Abandoned) >= max(2, v.Size/declinesPart):
		d.step("so many addresses were declined lately that it is not believed", netip.Addr{}, "")
		d.out.Why = reason.TooManyDeclines
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
	d.out.Address, d.out.Scope = a, d.plan.ScopeAt(a)
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
	d.out.Outcome = outcome
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
		d.out.Scope = v
		d.ignore(reason.ScopeHeld)
		return
	}
	d.scopes = []*plan.View{v}
	if d.turnedAway(false) {
		return
	}
	d.out.Scope, d.out.Address = v, a
	d.out.Outcome = Informed
	d.step("options of scope {t} for {a}", a, v.Name)
	d.reply(dhcp4.Ack, v, d.reservedHere(a), netip.IPv4Unspecified(), 0)
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
	return dhcp4.Clean([]byte(text))
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
		last, d.out.Scope = r, v
	}
	if open == nil {
		return false
	}
	if len(open) > 0 {
		d.scopes, d.out.Scope = open, nil
		return false
	}
	d.out.Rule = last.by
	if nak && last.action == plan.Refuse {
		d.refuse(reason.ByRule)
	} else {
		d.ignore(reason.ByRule)
	}
	return true
}
