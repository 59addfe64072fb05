package answer

import (
	"net/netip"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// findLink finds the scopes of the client's link: for relayed messages by link
// selection (RFC 3527), subnet selection (RFC 3011) or giaddr; for renewals sent
// straight to the server by ciaddr; else by the interface.
//
// Through a relay that the plan does not name a message is of the scope that the relay's
// address lies in. It selects a link only where nobody knows better: where the plan names
// no relay of that link.
func (d *v4) findLink() {
	m := d.msg
	of := func(v *plan.View) bool {
		if v != nil {
			d.scopes = d.plan.Beside(v)
		}
		return v != nil
	}
	at := func(a netip.Addr) bool { return of(d.plan.ScopeAt(a)) }
	selected, selects := m.Options.Addr(option.SubnetSelection)
	relayed := !m.GIAddr.IsUnspecified()
	switch {
	case relayed && d.req.Link.IsValid() && d.maySelect(d.req.Link):
		d.step("the relay selects the link of {a}", d.req.Link, "")
		at(d.req.Link)
	case relayed:
		if id := d.plan.LinkOfRelay(m.GIAddr); id != 0 {
			d.step("came through relay {a} of this link", m.GIAddr, "")
			d.scopes = d.plan.Serving(id, option.V4)
		} else {
			d.step("came through relay {a}", m.GIAddr, "")
			of(d.behind)
		}
	case d.req.Unicast && !m.CIAddr.IsUnspecified():
		d.step("came straight from {a}", m.CIAddr, "")
		at(m.CIAddr)
	case d.req.Interface != "":
		d.step("heard on interface {t}", netip.Addr{}, d.req.Interface)
		if id := d.plan.LinkOnInterface(d.req.Interface); id != 0 {
			d.scopes = d.plan.Serving(id, option.V4)
			break
		}
		for _, p := range d.req.Prefixes {
			if at(p.Addr()) {
				break
			}
		}
	}
	if selects && !d.req.Link.IsValid() {
		d.chooseSubnet(selected)
	}
	if len(d.scopes) > 0 {
		d.lookAhead(d.scopes[0])
	} else {
		d.step("no scope is defined for that link", netip.Addr{}, "")
	}
}

// maySelect reports whether the relay may select the link of an address.
func (d *v4) maySelect(a netip.Addr) bool {
	if d.way == ByRelay {
		return true
	}
	if v := d.plan.ScopeAt(a); v == nil || len(v.On.Relays) == 0 {
		return true
	}
	d.step("the relay selects the link of {a}, which is not believed: the plan names other relays there", a, "")
	return false
}

// chooseSubnet lets a client choose its subnet by option 118 (RFC 3011): one of its own
// link, or of any link that allows it.
func (d *v4) chooseSubnet(a netip.Addr) {
	v := d.plan.ScopeAt(a)
	switch {
	case v == nil:
		d.step("the client selects the subnet of {a}, which no scope has", a, "")
		d.scopes = nil
	case v.On.SubnetSelection || len(d.scopes) > 0 && d.scopes[0].Link == v.Link:
		d.step("the client selects the subnet of {a}", a, "")
		d.scopes, d.chosen = d.plan.Beside(v), true
	default:
		d.step("the client selects the subnet of {a}, which link {t} does not allow", a, v.LinkName)
	}
}

// oddRelay says why no relay can have the address that the message came through,
// or "". It finds the scope of that address, too.
func (d *v4) oddRelay() string {
	g := d.msg.GIAddr
	if g.IsUnspecified() {
		return ""
	}
	if b := g.As4(); b[0] == 0 || b[0] >= 224 { // this network; groups, class E, everybody
		return "no host can have that address"
	}
	d.behind = d.plan.ScopeAt(g)
	d.lookAhead(d.behind)
	if v := d.behind; v != nil && v.Ends(g) {
		return "that is the network or broadcast address of scope " + v.Name
	} else if v != nil && d.way == ByStranger {
		if l := d.table.In(v, lease.Host(g)); l != nil && l.HeldAt(d.now) {
			return "that is the address of a client"
		}
	}
	return ""
}

// lookAhead reads what is on record of the client in one scope of its link, before
// any of it is needed.
func (d *v4) lookAhead(v *plan.View) {
	if v == nil || d.looked != nil {
		return
	}
	a := d.msg.CIAddr
	if a.IsUnspecified() {
		a = d.who.wish.Addr()
	}
	d.looked, d.read = v, d.table.Prefetch(v, a, d.who.client, d.msg.CHAddr)
}

// clientKey is by what the client is told from others: its client identifier if
// it sends one, unless only the hardware address counts.
func (d *v4) clientKey(byHardware bool) lease.Client {
	m := d.msg
	if id, ok := m.Options.Get(option.ClientID); ok && !byHardware && telling(id) {
		return lease.ByIdentifier(id)
	}
	return lease.ByHardware(m.HType, m.CHAddr)
}

// telling reports whether a client identifier tells its client from others. What
// is too short or too long does not, nor do well-known useless ones: nothing but
// zeros, or nothing but ones, behind the octet for the type.
func telling(id []byte) bool {
	if len(id) < 2 || len(id) > 255 {
		return false
	}
	zeros, ones := true, true
	for _, b := range id[1:] {
		zeros, ones = zeros && b == 0, ones && b == 0xff
	}
	return !zeros && !ones
}
