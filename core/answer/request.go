package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
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

func (d *decider) request() {
	m := d.msg
	server, hasServer := m.Options.Addr(option.ServerID)
	asked, hasAsked := m.Options.Addr(option.AddressRequest)
	var s state
	a := asked
	switch {
	case hasServer:
		s = selecting
		if !hasAsked {
			a = m.CIAddr
		}
	case !m.CIAddr.IsUnspecified():
		s, a = rebinding, m.CIAddr
		if d.Unicast && m.GIAddr.IsUnspecified() || d.Relay.Unicast {
			s = renewing
		}
	case hasAsked:
		s = initReboot
	}
	if !a.IsValid() || a.IsUnspecified() {
		d.step("the request names no address", netip.Addr{}, "")
		d.ignore(BadRequest)
		return
	}
	d.Address = a
	d.step("{t} {a}", a, stateNames[s])
	if s == selecting && !d.named(server) {
		d.step("it chose server {a}", server, "")
		d.dropOffers()
		d.ignore(OtherServer)
		return
	}
	if len(d.scopes) == 0 {
		d.ignore(NoScope)
		return
	}
	if d.turnedAway(true) {
		if d.Outcome == Refused {
			l := d.Table.At(a)
			d.giveUp(l, d.mine(l))
		}
		return
	}
	d.grant(s, a)
}

// named reports whether a server identifier is one of this server's.
func (d *decider) named(server netip.Addr) bool {
	return server == d.Server || server == d.Relay.ServerID || d.Ours(server)
}

// dropOffers forgets what was offered to a client that went elsewhere.
func (d *decider) dropOffers() {
	for _, v := range d.scopes {
		if a, ok := d.Table.OfferTo(v.ID, d.Client); ok {
			d.Drop = a
		}
	}
}

// onLink is the scope of the client's link that an address is in, or nil.
func (d *decider) onLink(a netip.Addr) *plan.View {
	for _, v := range d.scopes {
		if v.Subnet.Contains(a) {
			return v
		}
	}
	return nil
}

// grant decides whether the client may have the address it asks for.
func (d *decider) grant(s state, a netip.Addr) {
	v := d.onLink(a)
	if v == nil {
		d.Scope = d.scopes[0]
		if d.allHeld() {
			d.step("every scope of its link is held", netip.Addr{}, "")
			d.ignore(ScopeHeld)
			return
		}
		d.step("{a} does not belong to its link", a, "")
		d.refuse(WrongNetwork, "wrong network")
		return
	}
	d.Scope = v
	if v.Mode == plan.Held {
		d.step("scope {t} is held", netip.Addr{}, v.Name)
		d.ignore(ScopeHeld)
		return
	}
	l := d.Table.In(v.ID, a)
	mine := d.mine(l)
	r, rv, available := d.reservation()
	here := r != nil && r.Address == a
	switch {
	case d.ofNetwork(a, v.Allocatable(a)):
		d.step("{a} belongs to the network: to a router, a relay or a server", a, "")
		d.refuse(OfNetwork, "address of the network")
		d.giveUp(l, mine)
		return
	case d.plan.ReservationAt(a) != nil && !here:
		d.step("{a} is reserved for another client", a, "")
		d.refuse(ForAnother, "address reserved for another client")
		d.giveUp(l, mine)
		return
	case s != selecting && !mine && !here && d.elsewhereOnRecord(a):
		d.refuse(OtherAddress, "your lease is of another address")
		return
	case r != nil && !here && available && rv.Mode != plan.Held && d.probe(rv, r.Address) == Unprobed && !d.mine(d.Table.At(r.Address)):
		d.step("{a} is reserved for it, and is probed first", r.Address, "")
		d.Scope, d.Probe, d.Outcome = rv, r.Address, Waiting
		return
	case r != nil && !here && available && rv.Mode != plan.Held && d.probe(rv, r.Address) != InUse:
		d.step("{a} is reserved for it and can be had now", r.Address, "")
		d.refuse(HasReservation, "a reserved address is waiting")
		d.giveUp(l, mine)
		return
	case l != nil && !mine && (l.Status == lease.Active || l.Kept() || l.Status == lease.Abandoned && !(here && r.Insist)):
		d.step("{a} is not free: {t}", a, l.Status.String())
		d.refuse(HeldByAnother, "address held by another client")
		return
	case !here && !v.Allocatable(a):
		if !mine && !d.speaksWithoutRecord(s, v) {
			d.ignore(NoRecord)
			return
		}
		d.step("{a} is not handed out (any more)", a, "")
		d.refuse(NotHandedOut, "address not handed out")
		d.giveUp(l, mine)
		return
	case !here && !d.inItsPool(v, a) && d.ruling(v).action == plan.ReservedOnly:
		d.step("rule {t} lets reserved clients alone have an address", netip.Addr{}, d.ruling(v).by)
		d.refuse(ReservedOnly, "reserved clients only")
		d.giveUp(l, mine)
		return
	case !here && !d.inItsPool(v, a) && (!mine || d.roomInPool(v)):
		d.step("rules give it no address of that pool", netip.Addr{}, "")
		d.refuse(NotHandedOut, "address of another pool")
		d.giveUp(l, mine)
		return
	case !here && v.Mode == plan.Draining && (!mine || d.elsewhere(v) || d.leaseTime(v, nil) < time.Minute):
		d.step("scope {t} is draining", netip.Addr{}, v.Name)
		d.refuse(ScopeDraining, "scope is draining")
		d.giveUp(l, mine)
		return
	}
	held := mine && l.Status == lease.Active
	var o lease.Offer
	offered := false
	if !held {
		o, offered = d.Table.OfferOf(a)
	}
	if offered && o.Client != d.Client && !here {
		d.step("{a} is on offer to another client", a, "")
		d.refuse(HeldByAnother, "address offered to another client")
		return
	}
	offered = offered && o.Client == d.Client
	switch probe := d.probe(v, a); {
	case mine:
		d.twin(l)
	case here && !offered && probe == Unprobed:
		d.step("{a} is reserved for it, and is probed first", a, "")
		d.Probe, d.Outcome = a, Waiting
		return
	case here && !offered && probe == InUse && !r.Insist:
		d.step("{a} is reserved for it, and somebody else answers for it", a, "")
		d.refuse(ReservedInUse, "address in use")
		return
	case here:
	case s != selecting && !d.speaksWithoutRecord(s, v):
		d.ignore(NoRecord)
		return
	case s != selecting:
		d.refuse(NoRecord, "no lease on record")
		return
	case !offered:
		d.step("{a} is not on offer to it", a, "")
		d.refuse(NotOffered, "address not offered")
		return
	}
	d.acknowledge(v, r, here, l, mine, a)
}

// elsewhereOnRecord reports whether the client has a lease on its link, of
// another address.
func (d *decider) elsewhereOnRecord(a netip.Addr) bool {
	for _, v := range d.scopes {
		if l := d.former(v); l != nil && l.Address() != a && l.HeldAt(d.Now) {
			d.step("{a} is the address of its lease", l.Address(), "")
			return true
		}
	}
	return false
}

// giveUp ends the lease of a client that is moved away: once refused, it may
// not use the address any more (RFC 2131 section 3.1.4).
func (d *decider) giveUp(l *lease.Lease, mine bool) {
	if !mine || l.Status != lease.Active || d.Outcome != Refused {
		return
	}
	d.Lease = l.Ended(lease.Released, d.Now)
}

// roomInPool reports whether the pool that rules send the client to has an
// address for it.
func (d *decider) roomInPool(v *plan.View) bool {
	_, ok := d.Table.Pick(v.ID, d.ruling(v).pool, func(a netip.Addr) bool { return !d.ofNetwork(a, true) })
	return ok
}

func (d *decider) allHeld() bool {
	for _, v := range d.scopes {
		if v.Mode != plan.Held {
			return false
		}
	}
	return true
}

// speaksWithoutRecord reports whether a client without a record is refused
// rather than met with silence: it spoke to this server alone, or the scope is
// authoritative. (A client that selects this server always gets an answer.)
func (d *decider) speaksWithoutRecord(s state, v *plan.View) bool {
	d.step("no lease of it is on record", netip.Addr{}, "")
	return s == selecting || s == renewing || v.Authoritative
}

// elsewhere reports whether another scope of the link could take the client.
func (d *decider) elsewhere(from *plan.View) bool {
	for _, v := range d.scopes {
		if v.ID != from.ID && v.Mode == plan.Serving && d.Table.Count(v.ID).Headroom > 0 {
			return true
		}
	}
	return false
}

// earlyPart of a lease passes before a renewal is worth a write: until then
// the record answers, with what is left of it.
const earlyPart = 10 // one tenth

// acknowledge gives the address: from the record where that is enough, or by a
// new record.
func (d *decider) acknowledge(v *plan.View, r *plan.Reservation, here bool, l *lease.Lease, mine bool, a netip.Addr) {
	if !here {
		r = nil
	}
	t := d.leaseTime(v, r)
	held := mine && l.HeldAt(d.Now)
	if !d.Writable && !held {
		d.step("nothing can be recorded now, so nobody new is served", netip.Addr{}, "")
		d.ignore(NoDatabase)
		return
	}
	if held && (!d.Writable || d.early(l, t)) {
		left := option.Infinite
		if l.Expires != lease.Never {
			left = l.Expires.Sub(d.Now)
		}
		d.step("answered from the record, with what is left of the lease", netip.Addr{}, "")
		d.Outcome, d.Scope, d.Address = Acknowledged, v, a
		d.reply(dhcp4.Ack, v, r, a, min(left, t))
		d.addNonce(l.Nudge)
		return
	}
	n := &lease.Lease{Prefix: lease.Host(a), Status: lease.Active, Reserved: here, Client: d.Client, Hardware: d.msg.CHAddr,
		Hostname: hostname(d.msg, r), Vendor: clip(d.msg.Text(option.ClassID)), Circuit: string(d.Relay.Circuit),
		Since: d.Now, Changed: d.Now, Heard: d.Now, Granted: t, Expires: d.Now.Add(t), Revision: d.plan.Revision}
	if t >= option.Infinite {
		n.Expires = lease.Never
	}
	if !d.msg.GIAddr.IsUnspecified() {
		n.Relay = d.msg.GIAddr
	}
	if mine && l.Status == lease.Active {
		n.Since, n.Changed = l.Since, l.Changed
		if !n.Relay.IsValid() { // a renewal sent straight here does not say how it came
			n.Relay, n.Circuit = l.Relay, l.Circuit
		}
	}
	d.Table.Pack(n)
	d.step("{a} for {t}", a, option.FormatDuration(t))
	d.Outcome, d.Lease, d.Scope, d.Address = Acknowledged, n, v, a
	d.leave(a)
	d.New = !mine && !here && d.former(v) == nil
	d.reply(dhcp4.Ack, v, r, a, t)
	n.Given = Digest(d.msg, d.Reply)
	if d.nudgeable() {
		nonce := ""
		if mine {
			nonce = nonceOf(l.Nudge)
		}
		if nonce == "" && d.Nonce != nil {
			nonce = d.Nonce()
		}
		n.Nudge = d.nudge(nonce)
		d.addNonce(n.Nudge)
	}
}

// leave ends what else the client has on its link: whatever it takes replaces
// what it had.
func (d *decider) leave(taken netip.Addr) {
	for _, v := range d.scopes {
		if l := d.former(v); l != nil && l.Address() != taken && (l.Status == lease.Active || l.Kept()) && d.mine(l) {
			d.step("it leaves {a}", l.Address(), "")
			d.Ends = append(d.Ends, l.Ended(lease.Released, d.Now))
		}
	}
}

// early reports whether the record is enough of an answer: it is the client's,
// fresh, made under this revision of the plan, and still what it takes to nudge
// the client.
func (d *decider) early(l *lease.Lease, t time.Duration) bool {
	if d.nudgeable() && (l.Nudge == "" || l.Nudge != d.nudge(nonceOf(l.Nudge))) {
		return false
	}
	return l.Client == d.Client && l.Granted == t && l.Revision == d.plan.Revision && (l.Expires == lease.Never || l.Expires.Sub(d.Now) > t-t/earlyPart)
}

// Limits of what clients can make unusable by declining it, in an hour: a client,
// those behind one relay port, and a part of the pools in all.
const (
	declinesOwn  = 3
	declinesPort = 8
	declinesPart = 8 // one eighth of the pools
)

func (d *decider) decline() {
	a, ok := d.msg.Options.Addr(option.AddressRequest)
	server, hasServer := d.msg.Options.Addr(option.ServerID)
	if !ok {
		d.ignore(BadRequest)
		return
	}
	if hasServer && !d.named(server) {
		d.step("it chose server {a}", server, "")
		d.ignore(OtherServer)
		return
	}
	l := d.close(a, Declined)
	if l == nil {
		return
	}
	v := d.Scope
	own, behind := d.Table.Declines(scopeOf(v), d.Client, d.port(), d.Now)
	switch {
	case l.Reserved || v == nil:
	case own >= declinesOwn, behind >= declinesPort, uint64(d.Table.Count(v.ID).Abandoned) >= max(2, v.Size/declinesPart):
		d.step("so many addresses were declined lately that it is not believed", netip.Addr{}, "")
		d.Why, d.Lease = TooManyDeclines, l.Ended(lease.Released, d.Now)
		return
	}
	d.Lease = l.Abandon(d.Now)
}

func scopeOf(v *plan.View) plan.ID {
	if v == nil {
		return 0
	}
	return v.ID
}

func (d *decider) release() {
	if server, named := d.msg.Options.Addr(option.ServerID); named && !d.named(server) {
		d.step("it has its lease of server {a}", server, "")
		d.ignore(OtherServer)
		return
	}
	if l := d.close(d.msg.CIAddr, Released); l != nil {
		d.Lease = l.Ended(lease.Released, d.Now)
	}
}

// close finds the client's own lease, which it gives up, or says why not.
func (d *decider) close(a netip.Addr, outcome Outcome) *lease.Lease {
	d.Address, d.Scope = a, d.plan.ScopeAt(a)
	l := d.Table.At(a)
	if !d.mine(l) || l.Status != lease.Active {
		d.step("{a} is not leased to it", a, "")
		d.ignore(NoRecord)
		return nil
	}
	if !d.Writable {
		d.ignore(NoDatabase)
		return nil
	}
	d.step("it gives {a} up: {t}", a, string(outcome))
	d.Outcome = outcome
	return l
}

// inform answers a client that has an address and wants options alone
// (RFC 2131 section 4.3.5).
func (d *decider) inform() {
	a := d.msg.CIAddr
	v := d.plan.ScopeAt(a)
	switch {
	case a.IsUnspecified():
		d.step("the message names no address", netip.Addr{}, "")
		d.ignore(BadRequest)
		return
	case v == nil:
		d.step("no scope holds {a}", a, "")
		d.ignore(NoScope)
		return
	case v.Mode == plan.Held:
		d.Scope = v
		d.ignore(ScopeHeld)
		return
	}
	d.scopes = []*plan.View{v}
	if d.turnedAway(false) {
		return
	}
	d.Scope, d.Address = v, a
	d.Outcome = Informed
	d.step("options of scope {t} for {a}", a, v.Name)
	d.reply(dhcp4.Ack, v, d.reservedHere(a), netip.IPv4Unspecified(), 0)
}

// hostname is the reservation's name for the client, or what the client says
// of itself (options 12 and 81).
func hostname(m *dhcp4.Message, r *plan.Reservation) string {
	if r != nil && r.Hostname != "" {
		return r.Hostname
	}
	name := m.Text(option.Hostname)
	if name == "" {
		name = m.FQDN()
	}
	return clip(name)
}

func clip(text string) string { return text[:min(len(text), textMost)] }

// textMost bounds what is kept of a text that a client sends, in octets.
const textMost = 255
