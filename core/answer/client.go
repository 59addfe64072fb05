package answer

import (
	"net/netip"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// clientKey is by what the client is told from others: its client identifier if
// it sends one, unless only the hardware address counts.
func (d *decider) clientKey(byHardware bool) lease.Client {
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

// port is where the client is plugged in; its Circuit is "" if no relay says.
func (d *decider) port() lease.Port {
	return lease.Port{Relay: d.msg.GIAddr, Circuit: string(d.Relay.Circuit)}
}

// circuitText is the circuit as reservations have it.
func (d *decider) circuitText() string {
	if d.circuit == "" && len(d.Relay.Circuit) > 0 {
		d.circuit = dhcp4.Show(d.Relay.Circuit)
	}
	return d.circuit
}

// reservedIn is the client's reservation in a scope, or nil.
func (d *decider) reservedIn(v *plan.View) *plan.Reservation {
	id, _ := d.msg.Options.Get(option.ClientID)
	if len(d.Relay.Circuit) == 0 {
		return d.plan.ReservationFor(v, d.msg.CHAddr, string(id), nil)
	}
	return d.plan.ReservationFor(v, d.msg.CHAddr, string(id), d.circuitText)
}

// isFor reports whether a reservation is this client's.
func (d *decider) isFor(r *plan.Reservation) bool {
	if r == nil {
		return false
	}
	switch {
	case r.Identifier != "":
		id, _ := d.msg.Options.Get(option.ClientID)
		return string(id) == string(r.Identifier)
	case r.Circuit != "":
		return d.circuitText() == r.Circuit
	}
	return r.Hardware == d.msg.CHAddr
}

// mine reports whether the record is this client's: by its key; by hardware,
// where that alone counts; or by the reservation of the address (a boot loader
// and the system it starts send different identifiers, and whoever is plugged
// into a reserved circuit takes over from whoever was).
func (d *decider) mine(l *lease.Lease) bool {
	if l == nil || l.Status == lease.Abandoned || l.Status == lease.Free {
		return false
	}
	if l.Client == d.Client {
		return true
	}
	r := d.plan.ReservationAt(l.Address())
	if r == nil {
		return len(d.scopes) > 0 && d.Client.Kind == lease.Hardware && l.Hardware != "" && l.Hardware == d.msg.CHAddr && d.anyByHardware()
	}
	switch {
	case !d.isFor(r):
		return false
	case r.Circuit != "":
		return dhcp4.Show([]byte(l.Circuit)) == r.Circuit
	case r.Hardware != "":
		return l.Hardware == d.msg.CHAddr
	}
	return false
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
	if l := d.Table.ByClient(v.ID, d.Client); l != nil {
		return l
	}
	if d.Client.Kind == lease.Hardware && d.anyByHardware() { // known by its identifier, before hardware alone counted
		if id, ok := d.msg.Options.Get(option.ClientID); ok && len(id) >= 2 {
			if l := d.Table.ByClient(v.ID, lease.ByIdentifier(id)); l != nil && l.Hardware == d.msg.CHAddr {
				return l
			}
		}
	}
	return nil
}

// free reports whether the scope's pools could give the address to this client
// now.
func (d *decider) free(v *plan.View, a netip.Addr) bool {
	if !v.Allocatable(a) || d.plan.ReservationAt(a) != nil || d.ofNetwork(a, true) || !d.inItsPool(v, a) {
		return false
	}
	if o, ok := d.Table.OfferOf(a); ok && o.Client != d.Client {
		return false
	}
	l := d.Table.At(a)
	switch {
	case l == nil || l.Status == lease.Free || l.Status == lease.Expired:
		return true
	case l.Status == lease.Released:
		return !l.Kept() || d.mine(l)
	}
	return l.Status == lease.Active && d.mine(l)
}

// whyLost says why a client does not get back what it last had in a scope.
func (d *decider) whyLost(v *plan.View, l *lease.Lease) (text string, a netip.Addr, name string) {
	a = l.Address()
	r := d.plan.ReservationAt(a)
	o, offered := d.Table.OfferOf(a)
	switch {
	case r != nil:
		return "it had {a}, which is reserved as {t}", a, r.Name
	case d.ofNetwork(a, v.Allocatable(a)):
		return "it had {a}, which belongs to the network: to a router, a relay or a server", a, ""
	case !v.Allocatable(a):
		return "it had {a}, which is excluded or outside the pools of scope {t} now", a, v.Name
	case !d.inItsPool(v, a):
		return "it had {a}, which is in a pool that rules keep from it", a, ""
	case offered && o.Client != d.Client:
		return "it had {a}, which is on offer to another client", a, ""
	}
	return "it had {a}, which is " + l.Status.String() + " and not to be had now", a, ""
}

// inItsPool reports whether rules let the client have an address of that pool:
// the one it is sent to, or else any that is not kept for others.
func (d *decider) inItsPool(v *plan.View, a netip.Addr) bool {
	r := d.ruling(v)
	n := v.PartAt(a)
	if r.action == plan.ReservedOnly || n < 0 {
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
			return r, v, !d.ofNetwork(r.Address, v.Allocatable(r.Address)) && !d.taken(r)
		}
	}
	return nil, nil, false
}

// reservedHere is the reservation of an address, if it is the client's.
func (d *decider) reservedHere(a netip.Addr) *plan.Reservation {
	if r := d.plan.ReservationAt(a); d.isFor(r) {
		return r
	}
	return nil
}

// taken reports whether a reserved address cannot be had because of who uses it:
// another client holds it or may do so still, or a host answered for it.
func (d *decider) taken(r *plan.Reservation) bool {
	l := d.Table.At(r.Address)
	switch {
	case l == nil || d.mine(l):
		return false
	case l.Status == lease.Abandoned:
		return !r.Insist
	}
	return l.Status == lease.Active || l.Kept()
}

// twin notes that the holder on record has the client's identifier, and another
// hardware address.
func (d *decider) twin(l *lease.Lease) {
	if l.Client.Identifier() != "" && l.Client == d.Client && l.HeldAt(d.Now) && l.Hardware != d.msg.CHAddr && l.Hardware != "" {
		d.step("{a} is held by {t}, which has the same identifier", l.Address(), l.Hardware.String())
		d.Twin = l
	}
}
