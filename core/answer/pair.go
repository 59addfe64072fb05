package answer

import (
	"net/netip"

	"yarnpost/core/lease"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// leftToPartner reports whether the other server of a pair answers this request,
// and says so.
func (d *decider) leftToPartner() bool {
	p := d.world.Pair
	if p == nil {
		return false
	}
	kind := d.req.Kind
	switch serving := p.Serving(); {
	case serving == Nobody:
		d.step("this server answers nobody until it knows what the other one did", netip.Addr{}, "")
		d.ignore(reason.Recovering)
		return true
	case serving == Resting || serving == Holders && kind != request.Renew:
		d.step("the partner answers everybody now", netip.Addr{}, "")
		d.ignore(reason.PartnerServes)
		return true
	case serving == Renewals && kind != request.Renew && kind != request.Rebind:
		d.step("this server answers nobody new until it knows what the other one did", netip.Addr{}, "")
		d.ignore(reason.Recovering)
		return true
	case !kind.ToBoth() || p.Responsible(d.who.client, d.req.Tried):
		return false
	}
	d.step("the partner answers it", netip.Addr{}, "")
	d.ignore(reason.PartnerServes)
	return true
}

// gives reports whether a free address is this server's to give to anybody, and is not what
// another answer of this decision gives already.
func (d *decider) gives(k netip.Prefix, l *lease.Lease) bool {
	for i := range len(d.out.Answers) - 1 {
		if o := &d.out.Answers[i]; o.Key == k && (o.Lease != nil || o.Offer != nil) {
			return false
		}
	}
	return d.world.Pair == nil || d.world.Pair.Gives(k, l)
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
	return p == nil || g.mine && (!g.record.Over() || p.Returns(g.record)) || p.Gives(g.key, g.record) ||
		g.by != nil && p.Reserved(g.by, g.record)
}
