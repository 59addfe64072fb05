package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

func (d *decider) discover() {
	if len(d.scopes) == 0 {
		d.ignore(NoScope)
		return
	}
	if d.turnedAway(false) {
		return
	}
	if d.withoutV4() {
		return
	}
	v, a := d.choose()
	if v == nil {
		d.autoConfigure()
		return
	}
	d.Scope, d.Address = v, a
	l := d.Table.At(a)
	if d.mine(l) {
		d.twin(l)
	}
	if !d.Writable && !(d.mine(l) && l.HeldAt(d.Now)) {
		d.step("nothing can be recorded now, so nobody new is served", netip.Addr{}, "")
		d.ignore(NoDatabase)
		return
	}
	r := d.reservedHere(a)
	if _, rapid := d.msg.Options.Get(option.RapidCommit); rapid && v.RapidCommit {
		d.step("it asks to do with two messages, and scope {t} allows it", netip.Addr{}, v.Name)
		d.acknowledge(v, r, r != nil, l, d.mine(l), a)
		if d.Reply != nil {
			d.Reply.Options = append(d.Reply.Options[:2:2], append([]dhcp4.Option{{Code: option.RapidCommit}}, d.Reply.Options[2:]...)...)
		}
		return
	}
	d.Outcome = Offered
	d.Offer = &lease.Offer{Prefix: lease.Host(a), Client: d.Client, Until: d.Now.Add(OfferTime), Port: d.port()}
	if r != nil {
		d.Offer.Port = lease.Port{} // a reserved address is no part of the port's share
	}
	d.Delay = time.Duration(v.OfferDelay)
	d.reply(dhcp4.Offer, v, r, a, d.leaseTime(v, r))
}

// choose picks the address to offer: reserved, held, on offer, former,
// requested, and then whatever is free for longest.
func (d *decider) choose() (*plan.View, netip.Addr) {
	if r, v, available := d.reservation(); r != nil {
		probe := d.probe(v, r.Address)
		if l := d.Table.At(r.Address); probe == InUse || l != nil && l.Status == lease.Abandoned {
			d.step("another host answers for {a}, which is reserved for it as {t}", r.Address, r.Name)
			d.Trouble, d.Address = ReservedInUse, r.Address
		}
		switch {
		case available && (d.mine(d.Table.At(r.Address)) || d.unused(v, r.Address) || r.Insist && probe == InUse):
			d.step("{a} is reserved for it as {t}", r.Address, r.Name)
			return v, r.Address
		case available && probe == Unprobed:
			d.step("{a} is reserved for it as {t}, and is probed first", r.Address, r.Name)
			d.Scope, d.Address, d.Probe, d.Outcome = v, r.Address, r.Address, Waiting
			return nil, netip.Addr{}
		}
		d.step("{a} is reserved for it, but cannot be had now", r.Address, "")
	}
	why := ScopeHeld
	for _, v := range d.scopes {
		switch {
		case v.Mode == plan.Draining && why == ScopeHeld:
			why = ScopeDraining
		case v.Mode == plan.Serving && len(v.Pools) > 0 && d.ruling(v).action != plan.ReservedOnly:
			why = PoolEmpty
		case v.Mode == plan.Serving && why != PoolEmpty:
			why = ReservedOnly
		}
		if v.Mode == plan.Draining {
			if l := d.former(v); l != nil && l.HeldAt(d.Now) && d.free(v, l.Address()) && !d.elsewhere(v) && d.leaseTime(v, nil) >= time.Minute {
				d.step("it has {a} until the drain of scope {t} ends", l.Address(), v.Name)
				return v, l.Address()
			}
		}
		if v.Mode != plan.Serving {
			continue
		}
		if l := d.former(v); l != nil && d.free(v, l.Address()) {
			d.step("it had {a} before", l.Address(), "")
			return v, l.Address()
		} else if l != nil {
			d.step(d.whyLost(v, l))
		}
		if a, ok := d.Table.OfferTo(v.ID, d.Client); ok && d.free(v, a) {
			d.step("{a} is on offer to it already", a, "")
			return v, a
		}
	}
	if a, ok := d.msg.Options.Addr(option.AddressRequest); ok {
		for _, v := range d.scopes {
			if v.Mode != plan.Serving || !v.Subnet.Contains(a) || !d.free(v, a) || d.crowded(v) {
				continue
			}
			switch d.probe(v, a) {
			case Unprobed:
				d.step("it asks for {a}, which is probed first", a, "")
				d.Scope, d.Address, d.Probe, d.Outcome = v, a, a, Waiting
				return nil, netip.Addr{}
			case InUse:
				d.step("it asks for {a}, which somebody answers for", a, "")
				continue
			}
			d.step("it asks for {a}, which is free", a, "")
			return v, a
		}
	}
	for _, v := range d.scopes {
		if v.Mode != plan.Serving {
			continue
		}
		if d.crowded(v) {
			why = TooMany
			continue
		}
		if a, ok := d.pick(v); ok {
			return v, a
		}
		if d.Probe.IsValid() {
			d.Scope, d.Address, d.Outcome = v, d.Probe, Waiting
			return nil, netip.Addr{}
		}
	}
	d.Scope = d.scopes[0]
	d.ignore(why)
	return nil, netip.Addr{}
}

// pick takes the best address of a scope that nobody has, or says in Probe which
// one has to be probed first.
func (d *decider) pick(v *plan.View) (netip.Addr, bool) {
	r := d.ruling(v)
	if r.action == plan.ReservedOnly {
		d.step("rule {t} lets reserved clients alone have an address", netip.Addr{}, r.by)
		return netip.Addr{}, false
	}
	if r.pool.Valid() {
		d.step("rules send it to pool {t}", netip.Addr{}, r.pool.String())
	}
	if a, ok := d.Table.Pick(v.ID, r.pool, func(a netip.Addr) bool { return !d.ofNetwork(a, true) && d.unused(v, a) }); ok {
		d.step("{a} is free for longest in scope {t}", a, v.Name)
		return a, true
	}
	if a, ok := d.Table.Pick(v.ID, r.pool, func(a netip.Addr) bool { return !d.ofNetwork(a, true) && d.probe(v, a) == Unprobed }); ok {
		d.step("{a} is next in scope {t}, and is probed first", a, v.Name)
		d.Probe = a
		return netip.Addr{}, false
	}
	text := "scope {t} has no address left"
	if len(v.Pools) == 0 {
		text = "scope {t} has no pool: only reserved clients are served"
	}
	d.step(text, netip.Addr{}, v.Name)
	return netip.Addr{}, false
}

// probe is what is known of an address by probing, for this client.
func (d *decider) probe(v *plan.View, a netip.Addr) Probe {
	if v.NoProbe || d.Probed == nil {
		return Unreachable
	}
	return d.Probed(a, d.msg.CHAddr)
}

// unused reports whether an address may be offered without another probe.
func (d *decider) unused(v *plan.View, a netip.Addr) bool {
	p := d.probe(v, a)
	return p == Silent || p == Unreachable
}

// Default limits of a scope: newcomers a minute, of which a port may be half,
// and offers that stand.
const (
	newcomersLeast = 60
	newcomersPart  = 10 // one tenth of the pools
	offersLeast    = 64
)

// crowded reports whether the client, which has no record in the scope, is one
// too many: more than the scope's limits let in at a time. So made-up hardware
// addresses do not empty a pool in moments, and one port does not for all.
func (d *decider) crowded(v *plan.View) bool {
	at := d.port()
	if n := v.Limits.PerCircuit; n > 0 && at.Circuit != "" && d.Table.Behind(v.ID, at) >= n {
		d.step("clients behind its circuit have all addresses that scope {t} allows a circuit", netip.Addr{}, v.Name)
		return true
	}
	most := v.Limits.NewPerMinute
	if most < 0 {
		return false
	}
	if most == 0 {
		most = max(newcomersLeast, int(min(v.Size, 1<<30))/newcomersPart)
	}
	all, behind := d.Table.Newcomers(v.ID, at, d.Now)
	n := d.Table.Count(v.ID)
	switch {
	case all >= most || at.Circuit != "" && behind >= (most+1)/2:
		d.step("scope {t} takes no more clients this minute that it never saw before", netip.Addr{}, v.Name)
	case n.Offered >= offersLeast && uint64(n.Offered) > n.Headroom:
		d.step("more of scope {t} is on offer than is left", netip.Addr{}, v.Name)
	default:
		return false
	}
	return true
}

// withoutV4 answers clients that can do without IPv4 on links that prefer it:
// with the time to do without, and no address (RFC 8925 section 3.3).
func (d *decider) withoutV4() bool {
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
		d.Scope, d.Outcome, d.Why = v, Offered, V6Only
		d.reply(dhcp4.Offer, v, nil, netip.IPv4Unspecified(), 0)
		return true
	}
	return false
}

// autoConfigure tells a client that gets no address whether it may make itself
// one, if the plan says so and it asks (RFC 2563 section 2.3).
func (d *decider) autoConfigure() {
	if _, asks := d.msg.Options.Get(option.AutoConfig); !asks || d.Outcome != Ignored || d.Why == TooMany {
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
func (d *decider) bootp() {
	if len(d.scopes) == 0 {
		d.ignore(NoScope)
		return
	}
	if d.turnedAway(false) {
		return
	}
	r, v, available := d.reservation()
	if r != nil && available && v.Bootp != plan.BootpIgnore && !d.mine(d.Table.At(r.Address)) {
		if p := d.probe(v, r.Address); p == Unprobed {
			d.step("{a} is reserved for it as {t}, and is probed first", r.Address, r.Name)
			d.Scope, d.Address, d.Probe, d.Outcome = v, r.Address, r.Address, Waiting
			return
		} else if p == InUse {
			available = r.Insist
		}
	}
	if r != nil && available && v.Bootp != plan.BootpIgnore {
		d.step("{a} is reserved for it as {t}", r.Address, r.Name)
		d.acknowledge(v, r, true, d.Table.At(r.Address), d.mine(d.Table.At(r.Address)), r.Address)
		return
	}
	why := NoBootp
	for _, v := range d.scopes {
		if v.Mode != plan.Serving {
			continue
		}
		if v.Bootp != plan.BootpDynamic {
			d.step("scope {t} gives BOOTP clients no address from its pools", netip.Addr{}, v.Name)
			continue
		}
		if l := d.former(v); l != nil && d.free(v, l.Address()) {
			d.step("it had {a} before", l.Address(), "")
			d.acknowledge(v, nil, false, l, d.mine(l), l.Address())
			return
		}
		if d.crowded(v) {
			why = TooMany
			continue
		}
		if a, ok := d.pick(v); ok {
			l := d.Table.At(a)
			d.acknowledge(v, nil, false, l, d.mine(l), a)
			return
		}
		if d.Probe.IsValid() {
			d.Scope, d.Address, d.Outcome = v, d.Probe, Waiting
			return
		}
		why = PoolEmpty
	}
	d.Scope = d.scopes[0]
	d.ignore(why)
}

// leaseTime is what the client gets: what it asks for, if that is less than
// the plan grants, but never under a minute. BOOTP leases never end.
func (d *decider) leaseTime(v *plan.View, r *plan.Reservation) time.Duration {
	if d.msg.Type == dhcp4.None {
		return option.Infinite
	}
	t := v.LeaseFor(r)
	if of := d.ruling(v).lease; of != 0 && (r == nil || r.Lease == 0) {
		t = of
	}
	if s, ok := d.msg.Options.Uint32(option.AddressTime); ok {
		t = min(t, max(option.FromSeconds(s), time.Minute))
	}
	if v.Mode == plan.Draining && r == nil && !v.DrainUntil.IsZero() {
		t = min(t, max(lease.At(v.DrainUntil).Sub(d.Now), 0))
	}
	return t
}
