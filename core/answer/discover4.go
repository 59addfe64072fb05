package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

func (d *v4) discover() {
	if len(d.scopes) == 0 {
		d.ignore(reason.NoScope)
		return
	}
	if d.turnedAway(false) {
		return
	}
	if d.withoutV4() {
		return
	}
	v, k := d.choose()
	if v == nil {
		d.autoConfigure()
		return
	}
	d.answer.Scope, d.answer.Key = v, k
	l := d.table.Get(k)
	if d.mine(l) {
		d.twin(l)
	}
	if !d.world.Writable && !(d.mine(l) && l.HeldAt(d.now)) {
		d.step("nothing can be recorded now, so nobody new is served", netip.Addr{}, "")
		d.ignore(reason.NoDatabase)
		return
	}
	r := d.reservedHere(k)
	if _, rapid := d.msg.Options.Get(option.RapidCommit); rapid && v.RapidCommit {
		d.step("it asks to do with two messages, and scope {t} allows it", netip.Addr{}, v.Name)
		d.acknowledge(grant{k, v, r, l, d.mine(l)})
		if r := d.sent; r != nil {
			r.Options = append(r.Options[:2:2], append([]dhcp4.Option{{Code: option.RapidCommit}}, r.Options[2:]...)...)
		}
		return
	}
	d.answer.Outcome = Offered
	stands := OfferTime
	if d.who.stranger {
		stands = strangerOfferTime
	}
	d.answer.Offer = &lease.Offer{Prefix: k, Client: d.who.client, Until: d.now.Add(stands), Brief: d.who.stranger,
		Port: d.who.port()}
	if r != nil {
		d.answer.Offer.Port = lease.Port{} // a reserved address is no part of the port's share
	}
	d.out.Delay = time.Duration(v.OfferDelay)
	d.reply(dhcp4.Offer, v, r, k.Addr(), d.promise(l, d.leaseTime(v, r, true)))
}

// withoutV4 answers clients that can do without IPv4 on links that prefer it:
// with the time to do without, and no address (RFC 8925 section 3.3).
func (d *v4) withoutV4() bool {
	wants, _ := d.msg.Options.Get(option.ParameterList)
	asks := false
	for _, c := range wants {
		asks = asks || c == option.IPv6Only
	}
	if !asks {
		return false
	}
	for _, v := range d.scopes {
		if v.Mode != plan.Serving || d.valueOf(v, option.IPv6Only) == nil {
			continue
		}
		d.step("it can do without IPv4, which scope {t} prefers", netip.Addr{}, v.Name)
		d.answer.Scope, d.answer.Outcome, d.answer.Why = v, Offered, reason.V6Only
		d.reply(dhcp4.Offer, v, nil, netip.IPv4Unspecified(), 0)
		return true
	}
	return false
}

// autoConfigure tells a client that gets no address whether it may make itself
// one, if the plan says so and it asks (RFC 2563 section 2.3).
func (d *v4) autoConfigure() {
	if _, asks := d.msg.Options.Get(option.AutoConfig); !asks || d.answer.Outcome != Ignored || d.answer.Why == reason.TooMany {
		return
	}
	for _, v := range d.scopes {
		if val := d.valueOf(v, option.AutoConfig); v.Mode == plan.Serving && val != nil {
			d.step("it is told whether to make itself an address", netip.Addr{}, "")
			r := d.header(dhcp4.Offer)
			r.YIAddr = netip.IPv4Unspecified()
			r.Options = append(r.Options, dhcp4.Option{Code: option.AutoConfig, Data: val.Data})
			d.echo(r)
			d.aim()
			return
		}
	}
}

// bootp answers a BOOTP client: an address for good, by reservation, or from
// the pools where the scope says so (RFC 951, 1534).
func (d *v4) bootp() {
	if len(d.scopes) == 0 {
		d.ignore(reason.NoScope)
		return
	}
	if d.turnedAway(false) {
		return
	}
	r, v, available := d.reservation()
	if r != nil && available && v.Bootp != plan.BootpIgnore && !d.mine(d.table.Get(r.Key())) {
		if p := d.probe(v, r.Key()); p == Unprobed {
			d.step("{a} is reserved for it as {t}, and is probed first", r.Address, r.Name)
			d.waitFor(v, r.Key())
			return
		} else if p == InUse {
			available = r.Insist
		}
	}
	if r != nil && available && v.Bootp != plan.BootpIgnore {
		d.step("{a} is reserved for it as {t}", r.Address, r.Name)
		d.acknowledge(d.grantOf(v, r.Key(), r))
		return
	}
	why := reason.NoBootp
	for _, v := range d.scopes {
		if v.Mode != plan.Serving {
			continue
		}
		if v.Bootp != plan.BootpDynamic {
			d.step("scope {t} gives BOOTP clients no address from its pools", netip.Addr{}, v.Name)
			continue
		}
		if l := d.former(v); l != nil && d.free(v, l.Prefix) && (l.HeldAt(d.now) || !d.mayBeHeld(v, l.Prefix)) {
			d.step("it had {a} before", l.Address(), "")
			d.acknowledge(d.grantOf(v, l.Prefix, nil))
			return
		}
		if d.crowded(v) {
			why = reason.TooMany
			continue
		}
		if k, ok := d.pick(v); ok {
			d.acknowledge(d.grantOf(v, k, nil))
			return
		}
		if d.answer.Probe.IsValid() {
			d.waitFor(v, lease.Host(d.answer.Probe))
			return
		}
		why = reason.PoolEmpty
	}
	d.answer.Scope = d.scopes[0]
	d.ignore(why)
}
