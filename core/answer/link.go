package answer

import (
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// findLink finds the scopes of the client's link: for relayed messages by link
// selection (RFC 3527), subnet selection (RFC 3011) or giaddr; for renewals sent
// straight to the server by ciaddr; else by the interface.
func (d *decider) findLink() {
	m := d.msg
	of := func(v *plan.View) bool {
		if v != nil {
			d.scopes = d.plan.OnLink(v.Link)
		}
		return v != nil
	}
	at := func(a netip.Addr) bool { return of(d.plan.ScopeAt(a)) }
	selected, selects := m.Options.Addr(option.SubnetSelection)
	relayed := !m.GIAddr.IsUnspecified()
	switch {
	case relayed && d.Relay.Link.IsValid():
		d.step("the relay selects the link of {a}", d.Relay.Link, "")
		at(d.Relay.Link)
	case selects:
		d.step("the client selects the subnet of {a}", selected, "")
		d.chosen = at(selected)
	case relayed:
		if id := d.plan.LinkOfRelay(m.GIAddr); id != 0 {
			d.step("came through relay {a} of this link", m.GIAddr, "")
			d.scopes = d.plan.OnLink(id)
		} else {
			d.step("came through relay {a}", m.GIAddr, "")
			of(d.behind)
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

// oddRelay says why no relay can have the address that the message came through,
// or "". It finds the scope of that address, too.
func (d *decider) oddRelay() string {
	g := d.msg.GIAddr
	if g.IsUnspecified() {
		return ""
	}
	if b := g.As4(); b[0] == 0 || b[0] >= 224 { // this network; groups, class E, everybody
		return "no host can have that address"
	}
	d.behind = d.plan.ScopeAt(g)
	if v := d.behind; v != nil && v.Subnet.Bits() < 31 && (g == v.Subnet.Addr() || g == addr.Broadcast(v.Subnet)) {
		return "that is the network or broadcast address of scope " + v.Name
	}
	return ""
}

// ofNetwork reports whether an address is of the network's own: this server's, a
// router's, or a relay's. Those that the plan names are in no scope's ranges, so
// for an address out of them the plan is not asked again.
func (d *decider) ofNetwork(a netip.Addr, allocatable bool) bool {
	return d.Ours(a) || a == d.msg.GIAddr || !allocatable && d.plan.NetworkAt(a) != "" || d.Network != nil && d.Network(a)
}
