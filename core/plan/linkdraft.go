package plan

import (
	"fmt"
	"net/netip"
	"slices"
)

// This file holds the edits of links.

// PutLink adds a link (ID 0) or replaces it.
func (d *Draft) PutLink(l Link) (ID, error) {
	if err := d.checkHead(KindLink, l.ID, l.Name, &l.Fields); err != nil {
		return 0, err
	}
	for _, name := range l.Interfaces {
		if other := d.next.LinkOnInterface(name); other != 0 && other != l.ID {
			return 0, Refused("interface %s belongs to link %s; take it away there first", name, d.Label(other))
		}
	}
	for _, a := range l.Relays {
		if other := d.next.LinkOfRelay(a); other != 0 && other != l.ID {
			return 0, Refused("relay %s belongs to link %s; take it away there first", a, d.Label(other))
		}
		if r := d.next.ReservationAt(a); r != nil && !d.trusted {
			return 0, Refused("relay %s is reserved for a client by reservation %s; move the reservation first", a, r.Name)
		}
		if s := d.next.ScopeAt(a); s != nil && s.Link != l.ID {
			return 0, Refused("relay %s lies in scope %s, which is on link %s; put the scope on link %s first", a, s.Name, s.LinkName, l.Name)
		}
	}
	var before Item
	old := d.next.Link(l.ID)
	if old != nil {
		before = *old
		d.unindexLink(old)
		d.rename(KindLink, l.ID, old.Name, "")
	} else if l.ID == 0 {
		l.ID = d.newID()
	}
	d.next.links.Set(l.ID, &l)
	d.rename(KindLink, l.ID, "", l.Name)
	for _, name := range l.Interfaces {
		d.next.interfaces.Set(name, l.ID)
	}
	for _, a := range l.Relays {
		insert(d, &d.next.relays, only(a), l.ID)
	}
	d.note(KindLink, l.ID, l.Name, before, l)
	for _, s := range d.next.OnLink(l.ID) {
		d.recompile(s.Scope)
	}
	if old != nil {
		d.refresh(old.Relays, 0)
	}
	d.refresh(l.Relays, 0)
	return l.ID, nil
}

// refresh recompiles the scopes that addresses of the network lie in, but for
// one that is fresh.
func (d *Draft) refresh(network []netip.Addr, but ID) {
	for _, a := range network {
		if v := d.next.ScopeAt(a); v != nil && v.ID != but {
			d.recompile(v.Scope)
		}
	}
}

func (d *Draft) unindexLink(l *Link) {
	for _, name := range l.Interfaces {
		d.next.interfaces.Remove(name)
	}
	for _, a := range l.Relays {
		d.next.relays = d.next.relays.DeletePersist(only(a))
	}
}

// Interface is one interface of the host, as far as a plan cares.
type Interface struct {
	Name     string
	Prefixes []netip.Prefix // addresses with their masks
}

// PlaceScope finds the link for a new scope: the one named, or the one whose
// interface or relay address lies in its subnet, or a new one of its own.
func (d *Draft) PlaceScope(s *Scope, link string, host []Interface) error {
	if link != "" {
		l := d.next.LinkNamed(link)
		if l == nil {
			return Missing(KindLink, link)
		}
		s.Link = l.ID
		return nil
	}
	own := Link{Name: s.Name}
	for _, i := range host {
		if !slices.ContainsFunc(i.Prefixes, func(p netip.Prefix) bool { return s.Subnet.Contains(p.Addr()) }) {
			continue
		}
		if id := d.next.LinkOnInterface(i.Name); id != 0 {
			s.Link = id
			return nil
		}
		own.Interfaces = append(own.Interfaces, i.Name)
	}
	for _, id := range d.next.relays.Subnets(s.Subnet) {
		s.Link = id
		return nil
	}
	for n := 2; d.next.LinkNamed(own.Name) != nil; n++ {
		own.Name = fmt.Sprintf("%s-%d", s.Name, n)
	}
	id, err := d.PutLink(own)
	s.Link = id
	return err
}

func (d *Draft) dropEmptyLink(id ID) error {
	if len(d.next.OnLink(id)) > 0 {
		return nil
	}
	return d.RemoveLink(d.next.Link(id).Name)
}

// RemoveLink removes a link that carries no scope.
func (d *Draft) RemoveLink(name string) error {
	l := d.next.LinkNamed(name)
	if l == nil {
		return Missing(KindLink, name)
	}
	if on := d.next.OnLink(l.ID); len(on) > 0 {
		return Refused("link %s carries scope %s; remove the scope or put it on another link first", name, on[0].Name)
	}
	d.unindexLink(l)
	d.next.links.Remove(l.ID)
	d.next.onLink.Remove(l.ID)
	d.rename(KindLink, l.ID, l.Name, "")
	d.note(KindLink, l.ID, l.Name, *l, nil)
	return nil
}
