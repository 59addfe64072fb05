// Package answer is the room where requests are decided: one request, the
// plan, the lease table and the time come in; one Decision with its reasons
// comes out. It changes nothing: whoever asked carries out what it says, or
// only reads it. So the same code serves and explains.
package answer

import (
	"net/netip"
	"strings"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// OfferTime is how long an offer stands.
const OfferTime = 30 * time.Second

// Request is a message with what is known of its way here.
type Request struct {
	Message   *dhcp4.Message
	Relay     dhcp4.Relay
	Interface string         // that heard it; "" if it is not a served one
	Prefixes  []netip.Prefix // of that interface
	Server    netip.Addr     // how the server names itself on this path
	Unicast   bool           // it was sent to one of the server's own addresses
}

// World is what a decision is based on.
type World struct {
	Table *lease.Table
	Now   lease.Time
	// Ours tells the host's own addresses, which nobody is given and by which
	// a client may name this server.
	Ours func(netip.Addr) bool
	// Writable is false while nothing can be recorded: then nobody gets more
	// than the record says.
	Writable bool
}

// Outcome is what became of a request.
type Outcome string

// The outcomes.
const (
	Offered      Outcome = "offered"
	Acknowledged Outcome = "acknowledged"
	Refused      Outcome = "refused" // NAK
	Released     Outcome = "released"
	Declined     Outcome = "declined"
	Informed     Outcome = "informed"
	Ignored      Outcome = "ignored" // silence
)

// Reason says why a request was refused or ignored.
type Reason string

// The reasons.
const (
	NoScope        Reason = "no-scope"         // no scope for this link
	ScopeHeld      Reason = "held"             // every scope of the link is held
	ScopeDraining  Reason = "draining"         // the scope takes nobody new
	PoolEmpty      Reason = "pool-empty"       // no address left
	ReservedOnly   Reason = "reserved-only"    // the scope has no pool
	WrongNetwork   Reason = "wrong-network"    // asked for an address of another link
	ForAnother     Reason = "reserved-another" // address reserved for another client
	HeldByAnother  Reason = "held-by-another"  // address leased to another client
	NotHandedOut   Reason = "not-handed-out"   // address excluded or outside the pools
	HasReservation Reason = "has-reservation"  // the client's reserved address waits for it
	NoRecord       Reason = "no-record"        // nothing is known of the client's lease
	NoDatabase     Reason = "no-database"      // nothing can be recorded now
	OtherServer    Reason = "other-server"     // the client chose another server
	NotTaken       Reason = "not-taken"        // offered again and again, never requested
	BadRequest     Reason = "bad-request"      // a field that must be there is not
	NotServed      Reason = "not-served"       // a kind of message this server does not answer
)

// Step is one line of a decision's trail. "{a}" and "{t}" in Text stand for
// Addr and Name; formatting waits until somebody reads it.
type Step struct {
	Text string
	Addr netip.Addr
	Name string
}

func (s Step) String() string {
	return strings.NewReplacer("{a}", s.Addr.String(), "{t}", s.Name).Replace(s.Text)
}

// Destination says where a reply goes (RFC 2131 section 4.1).
type Destination uint8

// The destinations.
const (
	Nowhere    Destination = iota
	ToRelay                // giaddr, server port or the relay's own (RFC 8357)
	ToAddress              // ciaddr, client port
	ToHardware             // yiaddr at chaddr, without ARP
	ToAll                  // broadcast on the link
)

// Decision is what is to be done about a request.
type Decision struct {
	Outcome Outcome
	Why     Reason     // with Refused and Ignored
	Scope   *plan.View // the scope concerned, if any
	Address netip.Addr // the address concerned, if any
	Client  lease.Client
	Reply   *dhcp4.Message // nil: silence
	To      Destination
	Limit   int          // octets the client takes in one message
	Lease   *lease.Lease // to be stored, and recorded before the reply leaves
	Offer   *lease.Offer // to be noted
	Drop    netip.Addr   // an offer to be forgotten
	Trail   []Step
}

// Decider decides requests, one at a time. Its memory is used again for each,
// so that a busy server leaves little behind to be collected.
type Decider struct {
	decider
	steps   [12]Step
	options [32]dhcp4.Option
	values  [64]plan.Value
}

// decider is one request on its way to a decision.
type decider struct {
	Request
	World
	Decision
	msg     *dhcp4.Message
	plan    *plan.Plan
	scopes  []*plan.View // of the link
	message dhcp4.Message
	values  []plan.Value
	octets  [16]byte // of the server identifier and the times
}

// Decide says what to do about a request. The decision, its reply and its trail
// hold until the next call; what it gives to be stored is for keeps.
func (d *Decider) Decide(req Request, w World) *Decision {
	d.decider = decider{Request: req, World: w, msg: req.Message, plan: w.Table.Plan(), values: d.values[:0]}
	d.message.Options = d.options[:0]
	d.Trail = d.steps[:0]
	d.Client = clientKey(req.Message)
	d.Limit = maxSize(req.Message)
	d.decide()
	return &d.Decision
}

func clientKey(m *dhcp4.Message) lease.Client {
	if id, ok := m.Options.Get(option.ClientID); ok && len(id) >= 2 {
		return lease.ByIdentifier(id)
	}
	return lease.ByHardware(m.HType, m.CHAddr)
}

// maxSize turns option 57, which counts IP and UDP headers, into payload octets.
func maxSize(m *dhcp4.Message) int {
	if b, ok := m.Options.Get(option.MaxMessageSize); ok && len(b) == 2 {
		return int(b[0])<<8 + int(b[1]) - 28
	}
	return dhcp4.MinMax
}

func (d *decider) step(text string, a netip.Addr, name string) {
	d.Trail = append(d.Trail, Step{text, a, name})
}

func (d *decider) ignore(why Reason) { d.Outcome, d.Why = Ignored, why }

func (d *decider) decide() {
	m := d.msg
	if m.Op != dhcp4.BootRequest {
		d.step("this is a reply, not a request", netip.Addr{}, "")
		d.ignore(NotServed)
		return
	}
	if len(m.CHAddr) == 0 && d.Client[0] == 'h' {
		d.step("neither a hardware address nor an identifier says who the client is", netip.Addr{}, "")
		d.ignore(BadRequest)
		return
	}
	d.findLink()
	switch m.Type {
	case dhcp4.Discover:
		d.discover()
	case dhcp4.Request:
		d.request()
	case dhcp4.Decline:
		d.decline()
	case dhcp4.Release:
		d.release()
	case dhcp4.Inform:
		d.inform()
	default:
		d.step("{t} messages are not answered", netip.Addr{}, m.Type.String())
		d.ignore(NotServed)
	}
}

// findLink finds the scopes of the client's link: for relayed messages by link
// selection (RFC 3527), subnet selection (RFC 3011) or giaddr; for renewals sent
// straight to the server by ciaddr; else by the interface.
func (d *decider) findLink() {
	m := d.msg
	at := func(a netip.Addr) bool {
		if v := d.plan.ScopeAt(a); v != nil {
			d.scopes = d.plan.OnLink(v.Link)
			return true
		}
		return false
	}
	relayed := !m.GIAddr.IsUnspecified()
	switch {
	case relayed && d.Relay.Link.IsValid():
		d.step("the relay selects the link of {a}", d.Relay.Link, "")
		at(d.Relay.Link)
	case relayed:
		if sel, ok := m.Options.Addr(option.SubnetSelection); ok {
			d.step("the client selects the subnet of {a}", sel, "")
			at(sel)
		} else if id := d.plan.LinkOfRelay(m.GIAddr); id != 0 {
			d.step("came through relay {a} of this link", m.GIAddr, "")
			d.scopes = d.plan.OnLink(id)
		} else {
			d.step("came through relay {a}", m.GIAddr, "")
			at(m.GIAddr)
		}
	case d.Unicast && !m.CIAddr.IsUnspecified():
		d.step("came straight from {a}", m.CIAddr, "")
		at(m.CIAddr)
	case d.Interface != "":
		d.step("heard on interface {t}", netip.Addr{}, d.Interface)
		if id := d.plan.LinkOnInterface(d.Interface); id != 0 {
			d.scopes = d.plan.OnLink(id)
			break
		}
		for _, p := range d.Prefixes {
			if at(p.Addr()) {
				break
			}
		}
	}
	if len(d.scopes) == 0 {
		d.step("no scope is defined for that link", netip.Addr{}, "")
	}
}

// free reports whether the scope's pools could give the address to this client
// now.
func (d *decider) free(v *plan.View, a netip.Addr) bool {
	if !v.Allocatable(a) || d.plan.ReservationAt(a) != nil || d.Ours(a) {
		return false
	}
	if o, ok := d.Table.OfferOf(a); ok && o.Client != d.Client {
		return false
	}
	l := d.Table.Get(a)
	return l == nil || l.Status == lease.Free || l.Status == lease.Released || l.Status == lease.Expired ||
		l.Client == d.Client && l.Status == lease.Active
}

// mine reports whether the record is this client's: by its key, or, where a
// reservation names the hardware, by that (a boot loader and the system it
// starts send different identifiers).
func (d *decider) mine(l *lease.Lease) bool {
	if l == nil || l.Status == lease.Abandoned || l.Status == lease.Free {
		return false
	}
	if l.Client == d.Client {
		return true
	}
	r := d.plan.ReservationAt(l.Address)
	return r != nil && r.Hardware == d.msg.CHAddr && l.Hardware == d.msg.CHAddr
}

// reservation finds the client's reservation on the link and says whether its
// address can be had now.
func (d *decider) reservation() (r *plan.Reservation, v *plan.View, available bool) {
	for _, v := range d.scopes {
		if v.Mode == plan.Held {
			continue
		}
		if r := d.plan.ReservationFor(v.ID, d.msg.CHAddr); r != nil {
			l := d.Table.Get(r.Address)
			busy := l != nil && !d.mine(l) && (l.Status == lease.Active || l.Status == lease.Abandoned)
			return r, v, !busy && !d.Ours(r.Address)
		}
	}
	return nil, nil, false
}

func (d *decider) discover() {
	if len(d.scopes) == 0 {
		d.ignore(NoScope)
		return
	}
	v, a := d.choose()
	if v == nil {
		return
	}
	d.Scope, d.Address = v, a
	if l := d.Table.Get(a); !d.Writable && !(d.mine(l) && l.HeldAt(d.Now)) {
		d.step("nothing can be recorded now, so nobody new is served", netip.Addr{}, "")
		d.ignore(NoDatabase)
		return
	}
	d.Outcome = Offered
	d.Offer = &lease.Offer{Address: a, Client: d.Client, Until: d.Now.Add(OfferTime)}
	r := d.reservedHere(a)
	d.reply(dhcp4.Offer, v, r, a, d.leaseTime(v, r))
}

func (d *decider) reservedHere(a netip.Addr) *plan.Reservation {
	if r := d.plan.ReservationAt(a); r != nil && r.Hardware == d.msg.CHAddr {
		return r
	}
	return nil
}

// choose picks the address to offer: reserved, held, on offer, former,
// requested, and then whatever is free for longest.
func (d *decider) choose() (*plan.View, netip.Addr) {
	if r, v, available := d.reservation(); r != nil {
		if available {
			d.step("{a} is reserved for it as {t}", r.Address, r.Name)
			return v, r.Address
		}
		d.step("{a} is reserved for it, but cannot be had now", r.Address, "")
	}
	why := ScopeHeld
	for _, v := range d.scopes {
		switch {
		case v.Mode == plan.Draining && why == ScopeHeld:
			why = ScopeDraining
		case v.Mode == plan.Serving && len(v.Pools) > 0:
			why = PoolEmpty
		case v.Mode == plan.Serving && why != PoolEmpty:
			why = ReservedOnly
		}
		if v.Mode != plan.Serving {
			continue
		}
		if l := d.Table.ByClient(v.ID, d.Client); l != nil && d.free(v, l.Address) {
			d.step("it had {a} before", l.Address, "")
			return v, l.Address
		}
		if a, ok := d.Table.OfferTo(v.ID, d.Client); ok && d.free(v, a) {
			d.step("{a} is on offer to it already", a, "")
			return v, a
		}
	}
	if a, ok := d.msg.Options.Addr(option.AddressRequest); ok {
		for _, v := range d.scopes {
			if v.Mode == plan.Serving && v.Subnet.Contains(a) && d.free(v, a) {
				d.step("it asks for {a}, which is free", a, "")
				return v, a
			}
		}
	}
	usable := func(a netip.Addr) bool { return !d.Ours(a) }
	for _, v := range d.scopes {
		if v.Mode != plan.Serving {
			continue
		}
		if a, ok := d.Table.Pick(v.ID, usable); ok {
			d.step("{a} is free for longest in scope {t}", a, v.Name)
			return v, a
		}
		text := "scope {t} has no address left"
		if len(v.Pools) == 0 {
			text = "scope {t} has no pool: only reserved clients are served"
		}
		d.step(text, netip.Addr{}, v.Name)
	}
	d.Scope = d.scopes[0]
	d.ignore(why)
	return nil, netip.Addr{}
}

// leaseTime is what the client gets: what it asks for, if that is less than
// the plan grants, but never under a minute.
func (d *decider) leaseTime(v *plan.View, r *plan.Reservation) time.Duration {
	t := v.LeaseFor(r)
	if s, ok := d.msg.Options.Uint32(option.AddressTime); ok {
		t = min(t, max(option.FromSeconds(s), time.Minute))
	}
	if v.Mode == plan.Draining && r == nil && !v.DrainUntil.IsZero() {
		t = min(t, max(lease.At(v.DrainUntil).Sub(d.Now), 0))
	}
	return t
}
