package answer

import (
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// port is where the client is plugged in; its Circuit is "" if no relay says.
func (w *asker) port() lease.Port {
	return lease.Port{Relay: w.via, Circuit: string(w.circuit)}
}

// circuitText is the circuit as reservations have it.
func (w *asker) circuitText() string {
	if w.shown == "" && len(w.circuit) > 0 {
		w.shown = option.Show(w.circuit)
	}
	return w.shown
}

// reservedIn is the client's reservation in a scope, or nil.
func (d *decider) reservedIn(v *plan.View) *plan.Reservation {
	if v.Family() == option.V6 {
		circuit := d.who.circuitText
		if len(d.who.circuit) == 0 || !d.who.sure {
			circuit = nil
		}
		return d.plan.ReservationFor6(v, d.delegates(), d.who.iaid, string(d.who.identifier), d.who.hardware, circuit)
	}
	if len(d.who.circuit) == 0 || !d.who.sure {
		return d.plan.ReservationFor(v, d.who.hardware, string(d.who.identifier), nil)
	}
	return d.plan.ReservationFor(v, d.who.hardware, string(d.who.identifier), d.who.circuitText)
}

// isFor reports whether a reservation is this client's.
func (d *decider) isFor(r *plan.Reservation) bool {
	if r == nil {
		return false
	}
	switch {
	case r.Address.Is6() && (r.Length > 0) != d.delegates():
		return false
	case r.Identifier != "":
		return string(d.who.identifier) == string(r.Identifier) && (r.IAID == "" || string(r.IAID) == d.who.iaid)
	case r.Circuit != "":
		return d.who.sure && d.who.circuitText() == r.Circuit
	}
	return r.Hardware == d.who.hardware
}

// mine reports whether the record is this client's: by its key; by hardware,
// where that alone counts; or by the reservation of the address (a boot loader
// and the system it starts send different identifiers, and whoever is plugged
// into a reserved circuit takes over from whoever was).
func (d *decider) mine(l *lease.Lease) bool {
	if l == nil || l.Status == lease.Abandoned || !l.Client.Known() {
		return false
	}
	if l.Client == d.who.client || d.brought(l) {
		return true
	}
	r := d.plan.ReservationOf(l.Prefix)
	if r == nil {
		return len(d.scopes) > 0 && d.who.client.Kind == lease.Hardware && l.Hardware != "" && l.Hardware == d.who.hardware &&
			d.anyByHardware()
	}
	switch {
	case !d.isFor(r):
		return false
	case r.Circuit != "":
		return d.believes(l.Relay) && option.Show([]byte(l.Circuit)) == r.Circuit
	case r.Hardware != "":
		return l.Hardware == d.who.hardware && !d.asksBeside(l)
	case r.Address.Is6(): // a client that was made anew tells its associations apart by other numbers
		return l.Client.Kind == d.who.client.Kind && l.Client.ID == d.who.client.ID && !d.asksBeside(l)
	}
	return false
}

// asksBeside reports whether a lease is of another association that the same message asks for.
func (d *decider) asksBeside(l *lease.Lease) bool {
	if l.Client.ID != d.who.client.ID || l.Client.Kind != d.who.client.Kind || l.Address().Is4() {
		return false
	}
	for _, to := range d.req.Wants {
		if to.ID == l.Client.Number && (to.Object == request.Delegation) == (l.Client.Kind == lease.Prefixes) {
			return true
		}
	}
	return false
}

// brought reports whether the record is of this client's hardware address and came from another
// server that did not say its identifier: then the hardware address tells whose it is, until the
// client is given it here.
func (d *decider) brought(l *lease.Lease) bool {
	return l.Revision == 0 && l.Client.Kind == lease.Hardware && l.Hardware != "" && l.Hardware == d.who.hardware
}

func (d *decider) anyByHardware() bool {
	for _, v := range d.scopes {
		if v.ByHardware {
			return true
		}
	}
	return false
}

// former is what the client last had in a scope, or nil.
func (d *decider) former(v *plan.View) *lease.Lease {
	if l := d.table.ByClient(v, d.who.client); l != nil {
		return l
	}
	if d.who.client.Kind == lease.Hardware && d.anyByHardware() { // known by its identifier, before hardware alone counted
		if id := d.who.identifier; len(id) >= 2 {
			if l := d.table.ByClient(v, lease.ByIdentifier(id)); l != nil && l.Hardware == d.who.hardware {
				return l
			}
		}
	}
	if d.who.client.Kind == lease.Identifier && d.who.hardware != "" {
		if l := d.table.ByClient(v, lease.ByHardware(lease.Ethernet, d.who.hardware)); l != nil && d.brought(l) {
			return l
		}
	}
	return nil
}

// free reports whether the scope's pools could give the address to this client
// now.
func (d *decider) free(v *plan.View, k netip.Prefix) bool {
	if !v.Gives(k) || d.plan.ReservationOf(k) != nil || d.ofNetwork(k, true) || !d.inItsPool(v, k) {
		return false
	}
	if o, ok := d.table.OfferOf(k); ok && o.Client != d.who.client {
		return false
	}
	l := d.table.Get(k)
	switch {
	case l == nil || l.Over():
		return d.gives(k, l) || d.mine(l) && (d.world.Pair == nil || d.world.Pair.Returns(l))
	case l.Status == lease.Released:
		return d.mine(l)
	}
	return l.Status == lease.Active && d.mine(l)
}

// whyLost says why a client does not get back what it last had in a scope.
func (d *decider) whyLost(v *plan.View, l *lease.Lease) (text string, k netip.Prefix, name string) {
	k = l.Prefix
	r := d.plan.ReservationOf(k)
	o, offered := d.table.OfferOf(k)
	switch {
	case r != nil:
		return "it had {a}, which is reserved as {t}", k, r.Name
	case d.ofNetwork(k, v.Gives(k)):
		return "it had {a}, which belongs to the network: to a router, a relay or a server", k, ""
	case !v.Gives(k):
		return "it had {a}, which is excluded or outside the pools of scope {t} now", k, v.Name
	case !d.inItsPool(v, k):
		return "it had {a}, which is in a pool that rules keep from it", k, ""
	case offered && o.Client != d.who.client:
		return "it had {a}, which is on offer to another client", k, ""
	}
	return "it had {a}, which is " + l.Status.String() + " and not to be had now", k, ""
}

// inItsPool reports whether rules let the client have an address of that pool:
// the one it is sent to, or else any that is not kept for others.
func (d *decider) inItsPool(v *plan.View, k netip.Prefix) bool {
	r, a := d.ruling(v), k.Addr()
	if r.action == plan.ReservedOnly {
		return false
	}
	if !k.IsSingleIP() { // rules send to pools of addresses
		return v.Gives(k)
	}
	if !r.pool.Valid() && !v.Confines && v.Allocatable(a) {
		return true
	}
	n := v.PartAt(a)
	if n < 0 {
		return false
	}
	if r.pool.Valid() {
		return v.Parts[n].Pool == r.pool
	}
	return !v.Parts[n].Confined
}

// reservation finds the client's reservation on the link and says whether its
// address can be had now.
func (d *decider) reservation() (r *plan.Reservation, v *plan.View, available bool) {
	for _, v := range d.scopes {
		if v.Mode == plan.Held {
			continue
		}
		if r := d.reservedIn(v); r != nil {
			return r, v, !d.ofNetwork(r.Key(), v.Gives(r.Key())) && !d.taken(r)
		}
	}
	return nil, nil, false
}

// reservedHere is the reservation of an address or prefix, if it is the client's.
func (d *decider) reservedHere(k netip.Prefix) *plan.Reservation {
	if r := d.plan.ReservationOf(k); d.isFor(r) {
		return r
	}
	return nil
}

// taken reports whether a reserved address cannot be had because of who uses it:
// another client holds it or may do so still, or a host answered for it.
func (d *decider) taken(r *plan.Reservation) bool {
	l := d.table.Get(r.Key())
	switch {
	case d.mine(l) && (d.world.Pair == nil || !l.Over()):
		return false
	case l != nil && l.Status == lease.Abandoned:
		return !r.Insist
	case l != nil && (l.Status == lease.Active || l.Kept()):
		return true
	}
	return d.world.Pair != nil && !d.world.Pair.Reserved(r, l) && !(d.mine(l) && d.world.Pair.Returns(l))
}

// twin notes that the holder on record has the client's identifier, and another
// hardware address.
func (d *decider) twin(l *lease.Lease) {
	if l.Client.Identifier()+l.Client.DUID() != "" && l.Client == d.who.client && l.HeldAt(d.now) && l.Hardware != d.who.hardware &&
		l.Hardware != "" {
		d.step("{a} is held by {t}, which has the same identifier", l.Address(), l.Hardware.String())
		d.answer.Twin = l
	}
}

// ofNetwork reports whether an address is of the network's own: this server's, a
// router's, or a relay's. Those that the plan names are in no scope's ranges, so
// for an address out of them the plan is not asked again.
func (d *decider) ofNetwork(k netip.Prefix, allocatable bool) bool {
	if !k.IsSingleIP() {
		return false
	}
	a := k.Addr()
	return d.world.Ours(a) || a == d.who.via || !allocatable && d.plan.NetworkAt(a) != "" || d.world.Network != nil && d.world.Network(a)
}

// Holds reports whether a lease is of the client that a reservation is for.
func Holds(r *plan.Reservation, l *lease.Lease) bool {
	switch {
	case r.Address.Is6() && r.Identifier != "":
		return l.Client.ID == string(r.Identifier) && (r.IAID == "" || r.IAID == addr.IAIDOf(l.Client.Number)) &&
			(r.Length > 0) == (l.Client.Kind == lease.Prefixes)
	case r.Identifier != "":
		return l.Client.Identifier() == string(r.Identifier)
	case r.Circuit != "":
		return option.Show([]byte(l.Circuit)) == r.Circuit
	}
	return l.Hardware == r.Hardware
}
