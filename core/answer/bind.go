package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// elsewhereOnRecord reports whether the client has a lease on its link, of
// another address.
func (d *decider) elsewhereOnRecord(k netip.Prefix) bool {
	for _, v := range d.scopes {
		if l := d.former(v); l != nil && l.Prefix != k && l.HeldAt(d.now) {
			d.about("{a} is the address of its lease", l.Prefix, "")
			return true
		}
	}
	return false
}

// giveUp ends the lease of a client that is moved away: once refused, it may
// not use the address any more (RFC 2131 section 3.1.4). Whoever came through a relay
// that the plan does not name may not be that client.
func (d *v4) giveUp(g grant) {
	if g.mine && g.record.Status == lease.Active && d.answer.Outcome == Refused && d.ends(g.record) {
		d.change(g.record, g.record.GivenUp(d.now))
	}
}

// roomInPool reports whether the pool that rules send the client to has an
// address for it.
func (d *decider) roomInPool(v *plan.View) bool {
	_, ok := d.table.Pick(v, d.sought(d.ruling(v)), func(k netip.Prefix) bool {
		return !d.ofNetwork(k, true) && d.gives(k, d.table.Get(k))
	})
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

// elsewhere reports whether another scope of the link could take the client.
func (d *decider) elsewhere(from *plan.View) bool {
	for _, v := range d.scopes {
		left := d.table.Count(v.ID)
		if d.delegates() {
			left = d.table.CountDelegated(v.ID)
		}
		if v.ID != from.ID && v.Mode == plan.Serving && left.Headroom > 0 {
			return true
		}
	}
	return false
}

// dropOffers forgets what was offered to a client that went elsewhere.
func (d *decider) dropOffers() {
	for _, v := range d.scopes {
		if k, ok := d.table.OfferTo(v, d.who.client); ok {
			d.answer.Drop = k
		}
	}
}

// onLink is the scope of the client's link that an address is in, or that delegates a prefix,
// or nil.
func (d *decider) onLink(k netip.Prefix) *plan.View {
	for _, v := range d.scopes {
		if v.Has(k) {
			return v
		}
	}
	return nil
}

// earlyPart of a lease passes before a renewal is worth a write: until then
// the record answers, with what is left of it.
const earlyPart = 10 // one tenth

// grant is an address, or a prefix, that a client is to have.
type grant struct {
	key    netip.Prefix
	scope  *plan.View
	by     *plan.Reservation // that it is reserved for the client by, or nil
	record *lease.Lease      // of the key, or nil
	mine   bool              // the record is the client's
}

// grantOf is the grant of an address or prefix with what is on record of it.
func (d *decider) grantOf(v *plan.View, k netip.Prefix, by *plan.Reservation) grant {
	l := d.table.Get(k)
	return grant{k, v, by, l, d.mine(l)}
}

// bind gives an address: from the record where that is enough, or by a new record,
// which it returns. It says for how long the
// client has the address. If it cannot be given, the outcome says so.
func (d *decider) bind(g grant) (n *lease.Lease, t time.Duration) {
	l, held := g.record, g.mine && g.record.HeldAt(d.now)
	if !d.world.Writable && !held {
		d.step("nothing can be recorded now, so nobody new is served", netip.Addr{}, "")
		d.ignore(reason.NoDatabase)
		return nil, 0
	}
	d.answer.Outcome, d.answer.Scope, d.answer.Key = Acknowledged, g.scope, g.key
	wanted := d.leaseTime(g.scope, g.by, true)
	if g.scope.RunDown.After(d.now.Std()) {
		d.step("leases run down until {t}", netip.Addr{}, g.scope.RunDown.Format(time.RFC3339))
	}
	t = d.promise(l, wanted)
	if held && (!d.world.Writable || d.early(l, t)) {
		return nil, d.again(l, t)
	}
	n = &lease.Lease{Prefix: g.key, Status: lease.Active, Reserved: g.by != nil, Client: d.who.client,
		Hardware: d.who.hardware,
		Hostname: d.who.hostname, Vendor: d.who.vendor, Circuit: string(d.who.circuit), Agent: d.agentFor(),
		Since: d.now, Changed: d.now, Heard: d.now, Granted: t, Expires: d.now.Add(t), Revision: d.plan.Revision}
	if g.by != nil && g.by.Hostname != "" {
		n.Hostname = g.by.Hostname
	}
	if t >= option.Infinite {
		n.Expires = lease.Never
	}
	n.Relay = d.who.via
	if g.mine && l.Status == lease.Active {
		n.Since, n.Changed = l.Since, l.Changed
		if d.who.time != 0 && t < d.leaseTime(g.scope, g.by, false) && n.Expires < l.Expires && l.Client == n.Client {
			d.step("it asks for less, and its address is kept until the end that it was told before", netip.Addr{}, "")
			if n.Expires = l.Expires; n.Expires != lease.Never {
				n.Granted = n.Expires.Sub(d.now)
			} else {
				n.Granted = l.Granted
			}
		}
	}
	d.about("{a} for {t}", g.key, option.FormatDuration(t))
	d.changeFor(l, n, wanted)
	d.leave(g.key)
	if d.answer.New = !g.mine && g.by == nil && d.former(g.scope) == nil; d.answer.New {
		d.answer.port = d.who.port()
	}
	return n, t
}

// again answers from the record, with what is left of it. As one of a pair this server
// records, and tells the partner, that the client has the lease still: the other may have
// heard that it gave it up, and what was made in ignorance of this must not end it.
func (d *decider) again(l *lease.Lease, t time.Duration) time.Duration {
	d.step("answered from the record, with what is left of the lease", netip.Addr{}, "")
	if l.Expires != lease.Never {
		t = min(t, l.Expires.Sub(d.now))
	}
	if d.world.Pair == nil || l.Owed || d.world.Pair.Forgetful() {
		return t
	}
	if !d.world.Writable {
		if k := d.req.Kind; k != request.Renew && k != request.Rebind {
			d.step("nothing can be recorded now, and the partner may know that it gave the lease up", netip.Addr{}, "")
			d.ignore(reason.NoDatabase)
		}
		return t
	}
	n := *l
	n.Heard = d.now
	d.world.Pair.Changed(l, &n, 0)
	d.out.Changes = append(d.out.Changes, lease.Change{Before: l, After: &n, Quiet: true})
	d.recorded(&n)
	return t
}

// promise is how long at most a client may be promised what it would be given for
// a time: a partner may have to know first.
func (d *decider) promise(before *lease.Lease, wanted time.Duration) time.Duration {
	if d.world.Pair == nil {
		return wanted
	}
	t := d.world.Pair.Promise(d.now, before, wanted)
	if t < wanted {
		d.step("{t} for now, until the partner has confirmed more", netip.Addr{}, option.FormatDuration(t))
	}
	return t
}

// leave ends what else the client has on its link: whatever it takes replaces
// what it had.
func (d *decider) leave(taken netip.Prefix) {
	for _, v := range d.scopes {
		d.table.Bindings(v, d.who.client, func(l *lease.Lease) bool {
			if l.Prefix != taken && d.mine(l) {
				d.about("it leaves {a}", l.Prefix, "")
				d.change(l, l.GivenUp(d.now))
			}
			return true
		})
		if l := d.former(v); l != nil && l.Client != d.who.client && l.Prefix != taken && (l.Status == lease.Active || l.Kept()) && d.mine(l) {
			d.about("it leaves {a}", l.Prefix, "")
			d.change(l, l.Ended(lease.Released, d.now))
		}
	}
}

// early reports whether the record is enough of an answer: it is the client's,
// fresh, made under this revision of the plan, and of about the time that the client would
// be given now. What else it says or asks for does not count, or it could have each of its
// messages written.
func (d *decider) early(l *lease.Lease, t time.Duration) bool {
	return l.Client == d.who.client && l.Revision == d.plan.Revision && t <= l.Granted+l.Granted/earlyPart &&
		(l.Expires == lease.Never && l.Granted >= option.Infinite || l.Expires.Sub(d.now) > l.Granted-l.Granted/earlyPart)
}
