package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/reason"
)

// leftToPartner reports whether the other server of a pair answers this request,
// and says so.
func (d *v4) leftToPartner() bool {
	p := d.world.Pair
	if p == nil {
		return false
	}
	m := d.msg
	d.who.tried = time.Duration(m.Secs) * time.Second
	switch serving := p.Serving(); {
	case serving == Nobody:
		d.step("this server answers nobody until it knows what the other one did", netip.Addr{}, "")
		d.ignore(reason.Recovering)
		return true
	case serving == Resting || serving == Holders && !d.renewsHere():
		d.step("the partner answers everybody now", netip.Addr{}, "")
		d.ignore(reason.PartnerServes)
		return true
	case serving == Renewals && (m.Type != dhcp4.Request || m.CIAddr.IsUnspecified()):
		d.step("this server answers nobody new until it knows what the other one did", netip.Addr{}, "")
		d.ignore(reason.Recovering)
		return true
	case !d.speaksToBoth() || p.Responsible(d.who.client, d.who.tried):
		return false
	}
	d.step("the partner answers it", netip.Addr{}, "")
	d.ignore(reason.PartnerServes)
	return true
}

// renewsHere reports whether a client asks this server alone to prolong its lease.
func (d *v4) renewsHere() bool {
	if d.msg.Type != dhcp4.Request {
		return false
	}
	s, _, _ := d.requestState()
	return s == renewing
}

// speaksToBoth reports whether the message is for whichever server answers.
func (d *v4) speaksToBoth() bool {
	switch d.msg.Type {
	case dhcp4.Discover, dhcp4.None, dhcp4.Inform:
		return true
	case dhcp4.Request:
		s, _, _ := d.requestState()
		return s == initReboot || s == rebinding
	}
	return false
}

// gives reports whether a free address is this server's to give to anybody.
func (d *decider) gives(a netip.Addr, l *lease.Lease) bool {
	return d.world.Pair == nil || d.world.Pair.Gives(a, l)
}

// partnersShare reports whether the partner has addresses for the client's link.
func (d *decider) partnersShare() bool {
	if d.world.Pair == nil {
		return false
	}
	for _, v := range d.scopes {
		if d.table.Count(v.ID).Partner > 0 {
			return true
		}
	}
	return false
}

// ourGrant reports whether a grant is this server's to make: the address is held
// by the client, or it is free here for the client, or for anybody.
func (d *decider) ourGrant(g grant) bool {
	p := d.world.Pair
	return p == nil || g.mine && (!g.record.Over() || p.Returns(g.record)) || p.Gives(g.address, g.record) ||
		g.by != nil && p.Reserved(g.by, g.record)
}
