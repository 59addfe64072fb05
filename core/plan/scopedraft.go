package plan

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// This file holds the edits of scopes.

// PutScope adds a scope (ID 0) or replaces it. Its link must exist.
func (d *Draft) PutScope(s Scope) (ID, error) {
	if err := d.checkScope(&s); err != nil {
		return 0, err
	}
	var before Item
	var routers []netip.Addr
	old := d.next.Scope(s.ID)
	if old != nil {
		before, routers = old.Scope, old.Routers
		d.dropScope(old)
	} else if s.ID == 0 {
		s.ID = d.newID()
	}
	d.rename(KindScope, s.ID, "", s.Name)
	v := d.next.compile(s)
	d.addView(v, old)
	d.refresh(append(slices.Clone(routers), v.Routers...), s.ID)
	d.note(KindScope, s.ID, s.Name, before, s)
	if err := d.checkRouters("scope "+s.Name, v.Routers); err != nil {
		return 0, err
	}
	if b, ok := before.(Scope); ok && b.Link != s.Link {
		return s.ID, d.dropEmptyLink(b.Link)
	}
	return s.ID, nil
}

func (d *Draft) checkScope(s *Scope) error {
	if err := d.checkHead(KindScope, s.ID, s.Name, &s.Fields); err != nil {
		return err
	}
	if !s.Subnet.IsValid() || s.Subnet.Masked() != s.Subnet {
		return Refused("scope %s needs a subnet like 10.40.0.0/24 or 2001:db8:40::/64", s.Name)
	}
	if err := checkFamily(s); err != nil {
		return err
	}
	if s.Subnet.Addr().IsLoopback() || s.Subnet.Addr().IsMulticast() || s.Subnet.Addr().IsLinkLocalUnicast() {
		return Refused("scope %s: nobody can be given an address of %s", s.Name, s.Subnet)
	}
	switch s.Mode {
	case "":
		s.Mode = Held
	case Held, Serving, Draining:
	default:
		return Refused("scope %s: mode %q is unknown; use held, serving or draining", s.Name, s.Mode)
	}
	if s.Mode != Draining {
		s.DrainUntil = time.Time{}
	}
	if d.next.Link(s.Link) == nil {
		return Refused("scope %s has no link", s.Name)
	}
	if err := checkIdentity(s.Identity); err != nil {
		return fmt.Errorf("scope %s: %w", s.Name, err)
	}
	switch s.Bootp {
	case "", BootpIgnore, BootpReserved, BootpDynamic:
	default:
		return Refused("scope %s: BOOTP clients can be ignored, served reserved addresses, or dynamic ones; use ignore, reserved or dynamic, not %q", s.Name, s.Bootp)
	}
	if s.OfferDelay < 0 || time.Duration(s.OfferDelay) > 10*time.Second {
		return Refused("scope %s: offers can wait 10s at most; clients give up after that", s.Name)
	}
	if err := s.Thresholds.check(); err != nil {
		return Refused("scope %s: %v", s.Name, err)
	}
	if s.Limits.PerCircuit < -1 || s.Limits.NewPerMinute < -1 {
		return Refused("scope %s: a limit is a number of addresses or clients, 0 for the default, or -1 for none", s.Name)
	}
	for _, r := range d.next.Rules() {
		if p := r.Pool; p.Valid() && s.ID != 0 && d.next.poolScope(p) == s.ID && !slices.Contains(s.Pools, p) {
			return Refused("rule %s sends clients to pool %s of scope %s, which would be gone; change the rule first", r.Name, p, s.Name)
		}
	}
	for _, p := range s.Prefixes() {
		for _, other := range d.next.subnets.Subnets(p) {
			if other.ID != s.ID {
				return overlapping(s, p, other)
			}
		}
		for _, other := range d.next.subnets.Supernets(p) {
			if other.ID != s.ID {
				return overlapping(s, p, other)
			}
		}
	}
	if err := d.uncut(s); err != nil {
		return err
	}
	if err := checkRanges(s); err != nil {
		return err
	}
	if old := d.next.Scope(s.ID); old != nil && !slices.Equal(old.Prefixes(), s.Prefixes()) {
		for _, r := range d.next.Reservations(s.ID) {
			if err := checkReserved(r, s); err != nil {
				return Refused("reservation %s (%s) would fall outside of the new subnet %s and the prefix pools of scope %s; move or remove it first",
					r.Name, r.What(), s.Subnet, s.Name)
			}
		}
	}
	if err := d.checkSettings(&s.Settings); err != nil {
		return fmt.Errorf("scope %s: %w", s.Name, err)
	}
	return d.ofFamily("scope "+s.Name, s.Family(), &s.Settings)
}

// ofFamily refuses options of a family that the clients of a scope do not speak.
func (d *Draft) ofFamily(who string, of option.Family, s *Settings) error {
	for _, k := range slices.SortedFunc(maps.Keys(s.Options), option.Key.Compare) {
		switch name := d.next.KeyName(k); {
		case k.Family == of:
		case of == option.V6:
			return Refused("%s is IPv6, and option %s is IPv4's; those of IPv6 begin with v6/, such as v6/dns-servers", who, name)
		default:
			return Refused("%s is IPv4, and option %s is IPv6's", who, name)
		}
	}
	return nil
}

// checkRanges refuses pools and exclusions that lie outside the subnet or overlap,
// and puts them in order.
func checkRanges(s *Scope) error {
	whole := addr.OfPrefix(s.Subnet)
	inside := func(what string, r addr.Range) error {
		if !whole.Contains(r.From) || !whole.Contains(r.To) {
			return Refused("%s %s of scope %s lies outside its subnet %s", what, r, s.Name, s.Subnet)
		}
		return nil
	}
	s.Pools = slices.Clone(s.Pools)
	slices.SortFunc(s.Pools, func(a, b addr.Range) int { return a.From.Compare(b.From) })
	for i, p := range s.Pools {
		if err := inside("pool", p); err != nil {
			return err
		}
		if i > 0 && p.Overlaps(s.Pools[i-1]) {
			return Refused("pools %s and %s of scope %s overlap; join them into one", s.Pools[i-1], p, s.Name)
		}
	}
	s.Exclusions = slices.Clone(s.Exclusions)
	slices.SortFunc(s.Exclusions, func(a, b Exclusion) int { return a.Range.From.Compare(b.Range.From) })
	for i, e := range s.Exclusions {
		if err := inside("exclusion", e.Range); err != nil {
			return err
		}
		if i > 0 && e.Range.Overlaps(s.Exclusions[i-1].Range) {
			return Refused("exclusions %s and %s of scope %s overlap; join them into one", s.Exclusions[i-1].Range, e.Range, s.Name)
		}
	}
	return nil
}

func overlapping(s *Scope, p netip.Prefix, other *View) error {
	theirs := other.Subnet
	for _, q := range other.Prefixes() {
		if q.Overlaps(p) {
			theirs = q
		}
	}
	return Refused("scope %s (%s) overlaps scope %s (%s); an address can be in one scope only", s.Name, p, other.Name, theirs)
}

// checkFamily refuses subnets that no link has, and what the other family has.
func checkFamily(s *Scope) error {
	if s.Family() == option.V4 {
		switch {
		case s.Subnet.Bits() < 8:
			return Refused("scope %s: subnet %s is larger than any link; use a mask of /8 or longer", s.Name, s.Subnet)
		case len(s.PrefixPools) > 0:
			return Refused("scope %s: prefixes are delegated with IPv6 alone; %s is IPv4", s.Name, s.Subnet)
		case s.Valid != 0:
			return Refused("scope %s: a valid lifetime is for IPv6; IPv4 has a lease time", s.Name)
		}
		return nil
	}
	if s.Bootp == BootpReserved { // what forms say that know IPv4 alone
		s.Bootp = ""
	}
	if s.Identity == ByIdentifier {
		s.Identity = ""
	}
	switch {
	case s.Subnet.Addr().Is4In6() || s.Subnet.Bits() < 32:
		return Refused("scope %s: %s is no prefix of a link; most have /64, and /32 is the least", s.Name, s.Subnet)
	case s.Bootp != "":
		return Refused("scope %s: BOOTP is IPv4's; %s is IPv6", s.Name, s.Subnet)
	case s.Identity != "":
		return Refused("scope %s: clients of IPv6 are told apart by DUID and IAID; an identity is IPv4's", s.Name)
	case s.Authoritative:
		return Refused("scope %s: with IPv6 every client is told what is wrong with what it has; authoritative is IPv4's", s.Name)
	}
	for i, p := range s.PrefixPools {
		switch {
		case !p.Prefix.IsValid() || p.Prefix.Masked() != p.Prefix || !p.Prefix.Addr().Is6() || p.Prefix.Addr().Is4In6():
			return Refused("scope %s: %s is no prefix to delegate from; write it like \"2001:db8:40:8000::/49 in /56\"", s.Name, p.Prefix)
		case p.Length < p.Prefix.Bits() || p.Length > 127:
			return Refused("scope %s: prefixes of /%d do not fit into %s; give a length from /%d to /127", s.Name, p.Length, p.Prefix, p.Prefix.Bits())
		case p.Exclude != 0 && (p.Exclude <= p.Length || p.Exclude > 128):
			return Refused("scope %s: what a router must not use of a /%d is longer than that; give a length from /%d to /128, such as /64",
				s.Name, p.Length, p.Length+1)
		case p.Prefix.Overlaps(s.Subnet):
			return Refused("scope %s: prefix pool %s overlaps its subnet %s; what is delegated is not on the link", s.Name, p.Prefix, s.Subnet)
		}
		for _, o := range s.PrefixPools[:i] {
			if o.Prefix.Overlaps(p.Prefix) {
				return Refused("scope %s: prefix pools %s and %s overlap", s.Name, o.Prefix, p.Prefix)
			}
		}
	}
	return nil
}

// recompile refreshes the view of a scope that did not change itself.
func (d *Draft) recompile(s Scope) {
	old := d.next.Scope(s.ID)
	d.dropScope(old)
	d.rename(KindScope, s.ID, "", s.Name)
	d.addView(d.next.compile(s), old)
}

func (d *Draft) recompileAll() { d.recompileThem(d.next.Scopes()) }

// recompileThem refreshes scopes that may inherit something else, and those in which routers
// lie that came or went with that: a router is no client's, whichever scope it lies in.
func (d *Draft) recompileThem(scopes []*View) {
	var network []netip.Addr
	for _, old := range scopes {
		d.recompile(old.Scope)
		if now := d.next.Scope(old.ID).Routers; !slices.Equal(old.Routers, now) {
			network = append(append(network, old.Routers...), now...)
		}
	}
	slices.SortFunc(network, netip.Addr.Compare)
	d.refresh(slices.Compact(network), 0)
}

// addView puts a view in, in place of an older one or nil.
func (d *Draft) addView(v, old *View) {
	if old != nil {
		v.bloom, v.Slot = old.bloom, old.Slot
	} else {
		v.Slot = d.next.slots
		d.next.slots++
	}
	v.self[0] = v
	d.next.scopes.Set(v.ID, v)
	for _, p := range v.Prefixes() {
		insert(d, &d.next.subnets, p, v)
	}
	peers := append(slices.Clone(d.next.OnLink(v.Link)), v)
	v.single = !slices.ContainsFunc(peers, func(o *View) bool { return o.ID != v.ID && o.Family() == v.Family() })
	slices.SortFunc(peers, func(a, b *View) int { return int(a.ID - b.ID) })
	d.next.onLink.Set(v.Link, peers)
	for _, o := range peers {
		if o.single && !v.single && o.Family() == v.Family() && o.ID != v.ID {
			n := *o
			n.single = false
			d.replaceView(&n)
		}
	}
	d.countRouters(v, 1)
}

func (d *Draft) countRouters(v *View, by int) {
	for _, a := range v.Routers {
		n, _ := d.next.routers.Get(only(a))
		if n += by; n > 0 {
			insert(d, &d.next.routers, only(a), n)
		} else {
			d.next.routers = d.next.routers.DeletePersist(only(a))
		}
	}
}

// giveUp makes the subnet and the prefix pools of a scope free for others, unless it did that before.
func (d *Draft) giveUp(v *View) {
	if d.vacated[v.ID] {
		return
	}
	for _, p := range v.Prefixes() {
		d.next.subnets = d.next.subnets.DeletePersist(p)
	}
}

// makeRoom has scopes that changes move, and reservations in them, give up where they are: two may have
// changed places.
func (d *Draft) makeRoom(changes []Change) error {
	for _, c := range changes {
		switch to := c.After.(type) {
		case Scope:
			if v := d.next.Scope(c.ID); v != nil && !slices.Equal(v.Prefixes(), to.Prefixes()) {
				d.Vacate(c.ID)
			}
		case Reservation:
			if r, _ := d.next.reserved.byID.Get(c.ID); r != nil && r.Key() != to.Key() {
				if err := d.RemoveReservation(r.Name); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Vacate makes the subnet and the prefix pools of a scope free for others. The caller puts the scope
// again, with other ones, before the draft is finished: two scopes that change places need it.
func (d *Draft) Vacate(id ID) {
	v := d.next.Scope(id)
	if v == nil || d.vacated[id] {
		return
	}
	d.giveUp(v)
	if d.vacated == nil {
		d.vacated = map[ID]bool{}
	}
	d.vacated[id] = true
}

func (d *Draft) dropScope(v *View) {
	d.countRouters(v, -1)
	d.next.scopes.Remove(v.ID)
	d.giveUp(v)
	delete(d.vacated, v.ID)
	d.next.onLink.Set(v.Link, slices.DeleteFunc(slices.Clone(d.next.OnLink(v.Link)), func(o *View) bool { return o.ID == v.ID }))
	d.rename(KindScope, v.ID, v.Name, "")
}

// RemoveScope removes a scope with its reservations, and its link when that
// carries no other scope.
func (d *Draft) RemoveScope(name string) error {
	v := d.next.ScopeNamed(name)
	if v == nil {
		return Missing(KindScope, name)
	}
	for _, r := range d.next.Reservations(v.ID) {
		d.dropReservation(r)
		d.note(KindReservation, r.ID, r.Name, *r, nil)
	}
	for _, r := range d.next.Rules() {
		if r.Scope == v.ID {
			d.dropRule(r)
		} else if r.Pool.Valid() && d.next.poolScope(r.Pool) == v.ID {
			return Refused("rule %s of the defaults sends clients to pool %s of scope %s; change the rule first", r.Name, r.Pool, v.Name)
		}
	}
	for _, t := range d.next.Trials() {
		if t.Scope == v.ID {
			d.dropTrial(t)
		}
	}
	d.dropScope(v)
	d.refresh(v.Routers, v.ID)
	d.note(KindScope, v.ID, v.Name, v.Scope, nil)
	return d.dropEmptyLink(v.Link)
}
