package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

// choose picks the address to offer: reserved, held, on offer, former,
// requested, and then whatever is free for longest.
func (d *decider) choose() (*plan.View, netip.Prefix) {
	if v, k, done := d.chooseReserved(); done {
		return v, k
	}
	why := reason.ScopeHeld
	for _, v := range d.scopes {
		switch {
		case v.Mode == plan.Draining && why == reason.ScopeHeld:
			why = reason.ScopeDraining
		case v.Mode == plan.Serving && d.pooled(v) && d.ruling(v).action != plan.ReservedOnly:
			why = reason.PoolEmpty
		case v.Mode == plan.Serving && why != reason.PoolEmpty:
			why = reason.ReservedOnly
		}
		if v.Mode == plan.Draining {
			l := d.former(v)
			if l != nil && l.HeldAt(d.now) && d.free(v, l.Prefix) && !d.elsewhere(v) && d.leaseTime(v, nil, true) >= time.Minute {
				d.about("it has {a} until the drain of scope {t} ends", l.Prefix, v.Name)
				return v, l.Prefix
			}
		}
		if v.Mode != plan.Serving {
			continue
		}
		if l := d.former(v); l != nil && d.free(v, l.Prefix) && d.stillItsOwn(v, l) {
			d.about("it had {a} before", l.Prefix, "")
			return v, l.Prefix
		} else if l != nil {
			d.about(d.whyLost(v, l))
		}
		if k, ok := d.table.OfferTo(v, d.who.client); ok && d.free(v, k) {
			d.about("{a} is on offer to it already", k, "")
			return v, k
		}
	}
	if k := d.who.wish; k.IsValid() {
		for _, v := range d.scopes {
			if v.Mode != plan.Serving || !d.free(v, k) || d.mayBeHeld(v, k) || d.crowded(v) {
				continue
			}
			switch d.probe(v, k) {
			case Unprobed:
				d.about("it asks for {a}, which is probed first", k, "")
				d.waitFor(v, k)
				return nil, netip.Prefix{}
			case InUse:
				d.about("it asks for {a}, which somebody answers for", k, "")
				continue
			}
			d.about("it asks for {a}, which is free", k, "")
			return v, k
		}
	}
	for _, v := range d.scopes {
		if v.Mode != plan.Serving {
			continue
		}
		if d.crowded(v) {
			why = reason.TooMany
			continue
		}
		if k, ok := d.pick(v); ok {
			return v, k
		}
		if d.answer.Probe.IsValid() {
			d.waitFor(v, lease.Host(d.answer.Probe))
			return nil, netip.Prefix{}
		}
	}
	d.answer.Scope = d.scopes[0]
	switch {
	case why == reason.PoolEmpty && d.partnersShare():
		why = reason.PartnersShare
	case why == reason.PoolEmpty && d.world.RecordsLost:
		why = reason.RecordsLost
	}
	d.ignore(why)
	return nil, netip.Prefix{}
}

// pooled reports whether a scope has pools of what the client asks for.
func (d *decider) pooled(v *plan.View) bool {
	if d.delegates() {
		return len(v.PrefixPools) > 0
	}
	return len(v.Pools) > 0
}

// delegates reports whether the client asks for a prefix, rather than an address.
func (d *decider) delegates() bool { return d.who.client.Kind == lease.Prefixes }

// chooseReserved takes the address that is reserved for the client, if it can be
// had, or says that it has to be probed first.
func (d *decider) chooseReserved() (v *plan.View, k netip.Prefix, done bool) {
	r, v, available := d.reservation()
	if r == nil {
		return nil, netip.Prefix{}, false
	}
	k = r.Key()
	probe := d.probe(v, k)
	if l := d.table.Get(k); probe == InUse || l != nil && l.Status == lease.Abandoned {
		d.about("another host answers for {a}, which is reserved for it as {t}", k, r.Name)
		d.answer.Trouble, d.answer.Key = reason.ReservedInUse, k
	}
	switch {
	case available && (d.mine(d.table.Get(k)) || d.unused(v, k) || r.Insist && probe == InUse):
		d.about("{a} is reserved for it as {t}", k, r.Name)
		return v, k, true
	case available && probe == Unprobed:
		d.about("{a} is reserved for it as {t}, and is probed first", k, r.Name)
		d.waitFor(v, k)
		return nil, netip.Prefix{}, true
	}
	d.about("{a} is reserved for it, but cannot be had now", k, "")
	return nil, netip.Prefix{}, false
}

// pick takes the best address of a scope that nobody has, or says in Probe which
// one has to be probed first.
func (d *decider) pick(v *plan.View) (netip.Prefix, bool) {
	r := d.ruling(v)
	if r.action == plan.ReservedOnly {
		d.step("rule {t} lets reserved clients alone have an address", netip.Addr{}, r.by)
		return netip.Prefix{}, false
	}
	if r.pool.Valid() && !d.delegates() {
		d.step("rules send it to pool {t}", netip.Addr{}, r.pool.String())
	}
	var next netip.Prefix // that has to be probed
	usable := func(k netip.Prefix) bool {
		if d.ofNetwork(k, true) || d.mayBeHeld(v, k) || !d.gives(k, d.table.Get(k)) {
			return false
		}
		if !next.IsValid() && d.probe(v, k) == Unprobed {
			next = k
		}
		return d.unused(v, k)
	}
	if k, ok := d.table.Pick(v, d.sought(r), usable); ok {
		d.about(d.picked(), k, v.Name)
		return k, true
	}
	if next.IsValid() {
		d.about("{a} is next in scope {t}, and is probed first", next, v.Name)
		d.answer.Probe = next.Addr()
		return netip.Prefix{}, false
	}
	text := "scope {t} has no address left"
	switch {
	case d.delegates() && !d.pooled(v):
		text = "scope {t} delegates no prefixes"
	case d.delegates():
		text = "scope {t} has no prefix left"
	case !d.pooled(v):
		text = "scope {t} has no pool: only reserved clients are served"
	case d.world.Pair != nil && d.table.Count(v.ID).Partner > 0:
		text = "what scope {t} has left is the partner's to give"
	}
	d.step(text, netip.Addr{}, v.Name)
	return netip.Prefix{}, false
}

// sought is what a new client is to be given, by what rules say of it.
func (d *decider) sought(r *ruling) lease.Sought {
	of := lease.Sought{Delegated: d.delegates(), Who: d.who.seed}
	if of.Delegated {
		of.Length = d.who.length
	} else {
		of.Pool = r.pool
	}
	return of
}

// picked says why it is this one that a new client is given.
func (d *decider) picked() string {
	if d.who.seed != "" {
		return "{a} is what chance gives this client in scope {t}"
	}
	return "{a} is free for longest in scope {t}"
}

// probe is what is known of an address by probing, for this client. Prefixes are not probed. In a
// pool of IPv6 so vast that it never fills up nobody is met by chance, but whoever asks for an
// address of it by name can meet somebody.
func (d *decider) probe(v *plan.View, k netip.Prefix) Probe {
	if d.world.Probed == nil || v.NoProbe || !k.IsSingleIP() {
		return Unreachable
	}
	if k.Addr().Is6() && k != d.who.wish && d.plan.ReservationOf(k) == nil {
		if _, fills := d.table.Fills(v.ID, v.PartAt(k.Addr())); !fills {
			return Unreachable
		}
	}
	return d.world.Probed(k.Addr(), d.who.hardware)
}

// stillItsOwn reports whether what the client last had can have become another's
// meanwhile, of which the record was lost.
func (d *decider) stillItsOwn(v *plan.View, l *lease.Lease) bool {
	return !d.world.RecordsLost || l.HeldAt(d.now) || d.probe(v, l.Prefix) == Silent
}

// mayBeHeld reports whether an address that is free by the records may be held all the
// same, since records were lost, and no probe can tell.
func (d *decider) mayBeHeld(v *plan.View, k netip.Prefix) bool {
	return d.world.RecordsLost && d.probe(v, k) == Unreachable
}

// unused reports whether an address may be offered without another probe.
func (d *decider) unused(v *plan.View, k netip.Prefix) bool {
	p := d.probe(v, k)
	return p == Silent || p == Unreachable
}

// Default limits of a scope: newcomers a minute, of which a port may be half,
// and offers that stand.
const (
	newcomersLeast = 60
	newcomersPart  = 10 // one tenth of the pools
	newcomersVast  = 1200
	offersVast     = 8192
	offersLeast    = 64
	strangersLeast = 8 // offers that stand before relays that the plan does not name have to wait
)

// crowded reports whether the client, which has no record in the scope, is one
// too many: more than the scope's limits let in at a time. So made-up hardware
// addresses do not empty a pool in moments, and one port does not for all.
func (d *decider) crowded(v *plan.View) bool {
	at := d.who.port()
	if n := v.Limits.PerCircuit; n > 0 && at.Circuit != "" && d.table.Behind(v.ID, at) >= n {
		d.step("clients behind its circuit have all addresses that scope {t} allows a circuit", netip.Addr{}, v.Name)
		return true
	}
	most := v.Limits.NewPerMinute
	if most < 0 {
		return false
	}
	if most == 0 {
		most = max(newcomersLeast, int(min(v.Size, 1<<30))/newcomersPart)
		if v.Family() == option.V6 { // such pools do not fill up, but tables do
			most = max(newcomersLeast, min(most, newcomersVast))
		}
	}
	all, behind := d.table.Newcomers(v.ID, at, d.now)
	n, other := d.table.Count(v.ID), d.table.CountDelegated(v.ID)
	if d.delegates() {
		n, other = other, n
	}
	if v.Family() == option.V6 && n.Offered+other.Offered >= offersVast {
		d.step("so much of scope {t} is on offer that whoever it never saw has to wait", netip.Addr{}, v.Name)
		return true
	}
	switch {
	case all >= most || at.Circuit != "" && behind >= (most+1)/2:
		d.step("scope {t} takes no more clients this minute that it never saw before", netip.Addr{}, v.Name)
	case d.who.stranger && n.Offered >= strangersLeast && uint64(2*n.Offered) > n.Headroom:
		d.step("so much of scope {t} is on offer that relays which the plan does not name have to wait", netip.Addr{}, v.Name)
	case n.Offered >= offersLeast && uint64(n.Offered) > n.Headroom:
		d.step("more of scope {t} is on offer than is left", netip.Addr{}, v.Name)
	default:
		return false
	}
	return true
}

// leaseTime is what the client gets: what it asks for, if that is less than
// the plan grants, but never under a minute; without asked, what the plan grants. BOOTP
// leases never end.
func (d *decider) leaseTime(v *plan.View, r *plan.Reservation, asked bool) time.Duration {
	if d.who.forever {
		return option.Infinite
	}
	t := v.LeaseFor(r)
	if of := d.ruling(v).lease; of != 0 && (r == nil || r.Lease == 0) {
		t = of
	}
	if asked && d.who.time != 0 {
		t = min(t, d.who.time)
	}
	if v.Family() == option.V6 {
		t = v.ValidFor(r, t)
	}
	if v.Mode == plan.Draining && r == nil && !v.DrainUntil.IsZero() {
		t = min(t, max(lease.At(v.DrainUntil).Sub(d.now), 0))
	}
	if !v.RunDown.IsZero() {
		if left := lease.At(v.RunDown).Sub(d.now); left > 0 {
			t = min(t, max(left, plan.RunDownLeast))
		}
	}
	return t
}

// leaseFrom is whose setting the lease time is.
func (d *decider) leaseFrom(v *plan.View, r *plan.Reservation) plan.Origin {
	switch of := d.ruling(v); {
	case r != nil && r.Lease != 0:
		return plan.Origin{Level: plan.AtReservation, Name: r.Name}
	case of.lease != 0:
		return plan.Origin{Level: plan.AtRule, Name: of.leased}
	}
	return v.LeaseFrom
}
