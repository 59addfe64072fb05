package plan

import (
	"fmt"

	"yarnpost/core/option"
)

// This file holds the edits of reservations.

// PutReservation adds a reservation (ID 0) or replaces it.
func (d *Draft) PutReservation(r Reservation) (ID, error) {
	if err := d.checkHead(KindReservation, r.ID, r.Name, &r.Fields); err != nil {
		return 0, err
	}
	s := d.next.Scope(r.Scope)
	if s == nil {
		return 0, Refused("reservation %s needs a scope", r.Name)
	}
	known := 0
	for _, w := range []string{string(r.Hardware), string(r.Identifier), r.Circuit} {
		if w != "" {
			known++
		}
	}
	if known != 1 {
		return 0, Refused("reservation %s needs one of: a hardware address like 02:00:00:00:00:17, a client identifier, or a circuit",
			r.Name)
	}
	if err := checkReserved(&r, &s.Scope); err != nil {
		return 0, err
	}
	for _, end := range reservedEnds(s.Subnet) {
		if end.Contains(r.Address) {
			return 0, Refused("reservation %s: %s is the network or broadcast address of scope %s", r.Name, r.Address, s.Name)
		}
	}
	if what := d.next.NetworkAt(r.Address); r.Length == 0 && what != "" && !d.trusted {
		return 0, Refused("reservation %s: %s is %s; an address of the network's own is no client's", r.Name, r.Address, what)
	}
	if r.Hostname != "" && !HostName(r.Hostname) && !d.trusted {
		return 0, Refused("reservation %s: %q is no host name; use letters, digits and dashes, with dots between labels", r.Name,
			r.Hostname)
	}
	if other := d.next.ReservationOf(r.Key()); other != nil && other.ID != r.ID {
		return 0, Refused("reservation %s: %s is reserved for %s (%s) already", r.Name, r.What(), other.Name, other.Client())
	}
	if other, _ := d.next.reserved.byClient.Get(r.key()); other != nil && other.ID != r.ID {
		return 0, Refused("reservation %s: %s has reservation %s (%s) in scope %s already; edit that one", r.Name, r.Client(), other.Name,
			other.What(), s.Name)
	}
	if err := d.checkSettings(&r.Settings); err != nil {
		return 0, fmt.Errorf("reservation %s: %w", r.Name, err)
	}
	if err := d.ofFamily("reservation "+r.Name, s.Family(), &r.Settings); err != nil {
		return 0, err
	}
	var before Item
	if old, ok := d.next.reserved.byID.Get(r.ID); ok {
		before = *old
		d.dropReservation(old)
	} else if r.ID == 0 {
		r.ID = d.newID()
	}
	d.rename(KindReservation, r.ID, "", r.Name)
	x := &d.next.reserved
	x.byID.Set(r.ID, &r)
	insert(d, &x.byAddress, r.Key(), &r)
	x.byClient.Set(r.key(), &r)
	x.count(&r, 1)
	d.addToBloom(&r)
	d.note(KindReservation, r.ID, r.Name, before, r)
	return r.ID, nil
}

// checkReserved refuses what a scope cannot reserve: addresses outside of its subnet, prefixes
// that none of its pools delegates, clients as the other family knows them.
func checkReserved(r *Reservation, s *Scope) error {
	if r.IAID != "" && (s.Family() == option.V4 || r.Identifier == "") {
		return Refused("reservation %s: an IAID tells associations of a DUID apart; give the DUID with it, in an IPv6 scope", r.Name)
	}
	if r.Length == 0 {
		if !r.Address.IsValid() || !s.Subnet.Contains(r.Address) {
			return Refused("reservation %s: address %s is not in the subnet %s of scope %s", r.Name, r.Address, s.Subnet, s.Name)
		}
		return nil
	}
	k := r.Key()
	if !k.IsValid() || k.Masked() != k {
		return Refused("reservation %s: %s is no prefix; write it like 2001:db8:40:8100::/56", r.Name, k)
	}
	for _, p := range s.PrefixPools {
		if p.Prefix.Contains(r.Address) {
			if p.Length != r.Length {
				return Refused("reservation %s: prefix pool %s of scope %s delegates prefixes of /%d, not of /%d; add a pool for those", r.Name,
					p.Prefix, s.Name, p.Length, r.Length)
			}
			return nil
		}
	}
	return Refused("reservation %s: prefix %s is in no prefix pool of scope %s; add one, with prefixes of /%d", r.Name, k, s.Name,
		r.Length)
}

// count keeps the numbers of a scope's reservations.
func (x reservations) count(r *Reservation, n int) {
	t, _ := x.perScope.Get(r.Scope)
	t.all += n
	if r.Circuit != "" {
		t.circuits += n
	}
	x.perScope.Set(r.Scope, t)
}

func (d *Draft) dropReservation(r *Reservation) {
	x := &d.next.reserved
	x.byID.Remove(r.ID)
	x.byAddress = x.byAddress.DeletePersist(r.Key())
	x.byClient.Remove(r.key())
	x.count(r, -1)
	d.rename(KindReservation, r.ID, r.Name, "")
}

// RemoveReservation removes a reservation.
func (d *Draft) RemoveReservation(name string) error {
	r := d.next.ReservationNamed(name)
	if r == nil {
		return Missing(KindReservation, name)
	}
	d.dropReservation(r)
	d.note(KindReservation, r.ID, r.Name, *r, nil)
	return nil
}
