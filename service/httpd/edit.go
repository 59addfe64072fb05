package httpd

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// This file turns the API's edits into edits of a draft.

func refused(format string, args ...any) error {
	return fmt.Errorf("%w: %s", plan.ErrRefused, fmt.Sprintf(format, args...))
}

func unknown(kind, name string) error {
	return fmt.Errorf("%w: no %s is called %q; yarnpost %s list shows all", plan.ErrNotFound, kind, name, kind)
}

// apply makes one edit.
func (s *Server) apply(d *plan.Draft, e api.Edit) error {
	switch {
	case e.Kind == "defaults" && e.Op == "edit" && e.Defaults != nil:
		v := d.Plan().Defaults
		if err := settle(&v.Settings, e.Defaults.Lease, e.Defaults.Options); err != nil {
			return err
		}
		set(&v.Note, e.Defaults.Note)
		return d.SetDefaults(v)
	case e.Kind == "link" && e.Op == "remove":
		return d.RemoveLink(e.Name)
	case e.Kind == "link" && e.Link != nil:
		return editLink(d, e)
	case e.Kind == "scope" && e.Op == "remove":
		return d.RemoveScope(e.Name)
	case e.Kind == "scope" && e.Scope != nil:
		return s.editScope(d, e)
	case e.Kind == "reservation" && e.Op == "remove":
		return d.RemoveReservation(e.Name)
	case e.Kind == "reservation" && e.Reservation != nil:
		return s.editReservation(d, e)
	}
	return refused("the edit %s %s %q is not complete; put what it sets under %q", e.Op, e.Kind, e.Name, e.Kind)
}

func set[T any](field *T, value *T) {
	if value != nil {
		*field = *value
	}
}

// settle sets lease time and options; an empty value inherits.
func settle(s *plan.Settings, leaseTime *string, options map[string]string) error {
	if leaseTime != nil {
		s.Lease = 0
		if *leaseTime != "" {
			if err := s.Lease.UnmarshalText([]byte(*leaseTime)); err != nil {
				return refused("lease time: %v", err)
			}
		}
	}
	s.Options = maps.Clone(s.Options)
	for name, text := range options {
		def, err := option.Standard4.Lookup(name)
		if err != nil {
			return refused("%v", err)
		}
		if text == "" {
			delete(s.Options, def.Code)
			continue
		}
		if s.Options == nil {
			s.Options = map[uint8]string{}
		}
		s.Options[def.Code] = text
	}
	return nil
}

func editLink(d *plan.Draft, e api.Edit) error {
	l := plan.Link{Name: e.Name}
	old := d.Plan().LinkNamed(e.Name)
	if e.Op == "edit" {
		if old == nil {
			return unknown("link", e.Name)
		}
		l = *old
	}
	set(&l.Name, e.Link.Name)
	set(&l.Note, e.Link.Note)
	set(&l.Interfaces, e.Link.Interfaces)
	if e.Link.Relays != nil {
		l.Relays = nil
		for _, text := range *e.Link.Relays {
			a, err := addr.ParseAddr(text)
			if err != nil {
				return refused("relay: %v", err)
			}
			l.Relays = append(l.Relays, a)
		}
	}
	if e.Op == "add" && old != nil {
		l.ID = old.ID
		return again("link", e.Name, *old, l, func() error { _, err := d.PutLink(l); return err })
	}
	_, err := d.PutLink(l)
	return err
}

// again lets an item be added a second time if that changes nothing.
func again(kind, name string, old, next plan.Item, put func() error) error {
	a, _ := json.Marshal(old)
	b, _ := json.Marshal(next)
	if string(a) == string(b) {
		return put()
	}
	lines := plan.Diff([]plan.Change{{Kind: plan.Kind(kind), Name: name, Before: old, After: next}}, func(plan.ID) string { return "" })
	var differ []string
	for _, l := range lines {
		differ = append(differ, l.Text)
	}
	return refused("%s %s is there already and differs (%s); change it with yarnpost %s edit, or choose another name", kind, name, strings.Join(differ, "; "), kind)
}

func (s *Server) editScope(d *plan.Draft, e api.Edit) error {
	in := e.Scope
	v := plan.Scope{Name: e.Name, Mode: plan.Held}
	old := d.Plan().ScopeNamed(e.Name)
	if e.Op == "edit" {
		if old == nil {
			return unknown("scope", e.Name)
		}
		v = old.Scope
	}
	set(&v.Name, in.Name)
	set(&v.Note, in.Note)
	set(&v.Authoritative, in.Authoritative)
	if in.Subnet != nil {
		p, err := addr.ParseSubnet(*in.Subnet)
		if err != nil {
			return refused("scope %s: %v", v.Name, err)
		}
		v.Subnet = p
	}
	if in.Pools != nil {
		v.Pools = nil
		for _, text := range *in.Pools {
			r := addr.Range{}
			if text == "all" && v.Subnet.IsValid() {
				r = addr.OfPrefix(v.Subnet)
			} else if err := r.UnmarshalText([]byte(text)); err != nil {
				return refused("pool of scope %s: %v", v.Name, err)
			}
			v.Pools = append(v.Pools, r)
		}
	}
	if err := editExclusions(&v, in); err != nil {
		return err
	}
	if in.Mode != nil {
		v.Mode = plan.Mode(*in.Mode)
	}
	set(&v.DrainUntil, in.DrainUntil)
	if err := settle(&v.Settings, in.Lease, in.Options); err != nil {
		return fmt.Errorf("scope %s: %w", v.Name, err)
	}
	switch {
	case e.Op == "add" && old != nil:
		v.ID, v.Link = old.ID, old.Link
		if in.Link != nil && *in.Link != old.LinkName {
			return refused("scope %s is there already, on link %s; change it with yarnpost scope edit", e.Name, old.LinkName)
		}
		return again("scope", e.Name, old.Scope, v, func() error { _, err := d.PutScope(v); return err })
	case e.Op == "add" || in.Link != nil:
		var link string
		var host []plan.Interface
		if set(&link, in.Link); link == "" {
			host = s.node.PlanInterfaces()
		}
		if err := d.PlaceScope(&v, link, host); err != nil {
			return err
		}
	}
	_, err := d.PutScope(v)
	return err
}

func editExclusions(v *plan.Scope, in *api.ScopeEdit) error {
	v.Exclusions = slices.Clone(v.Exclusions)
	for _, text := range in.RemoveExclusions {
		r, err := addr.ParseRange(text)
		if err != nil {
			return refused("exclusion of scope %s: %v", v.Name, err)
		}
		i := slices.IndexFunc(v.Exclusions, func(x plan.Exclusion) bool { return x.Range == r })
		if i < 0 {
			return refused("scope %s has no exclusion %s", v.Name, r)
		}
		v.Exclusions = slices.Delete(v.Exclusions, i, i+1)
	}
	for _, x := range in.AddExclusions {
		r, err := addr.ParseRange(x.Range)
		if err != nil {
			return refused("exclusion of scope %s: %v", v.Name, err)
		}
		same := func(o plan.Exclusion) bool { return o.Range == r && o.User == x.User }
		if !slices.ContainsFunc(v.Exclusions, same) {
			v.Exclusions = append(v.Exclusions, plan.Exclusion{Range: r, User: x.User})
		}
	}
	slices.SortFunc(v.Exclusions, func(a, b plan.Exclusion) int { return a.Range.From.Compare(b.Range.From) })
	if len(v.Exclusions) == 0 {
		v.Exclusions = nil
	}
	return nil
}

func (s *Server) editReservation(d *plan.Draft, e api.Edit) error {
	in := e.Reservation
	r := plan.Reservation{Name: e.Name}
	old := d.Plan().ReservationNamed(e.Name)
	if e.Op == "edit" {
		if old == nil {
			return unknown("reservation", e.Name)
		}
		r = *old
	}
	set(&r.Name, in.Name)
	set(&r.Note, in.Note)
	set(&r.Hostname, in.Hostname)
	if in.Hardware != nil {
		if err := r.Hardware.UnmarshalText([]byte(*in.Hardware)); err != nil {
			return refused("reservation %s: %v", r.Name, err)
		}
	}
	given := in.Address != nil && *in.Address != ""
	if given {
		a, err := addr.ParseAddr(*in.Address)
		if err != nil {
			return refused("reservation %s: %v", r.Name, err)
		}
		r.Address = a
	}
	scope, err := scopeOf(d.Plan(), in, r.Address)
	if err != nil {
		return err
	}
	if scope != nil {
		r.Scope = scope.ID
	}
	if err := settle(&r.Settings, in.Lease, in.Options); err != nil {
		return fmt.Errorf("reservation %s: %w", r.Name, err)
	}
	if e.Op == "add" && old != nil {
		r.ID = old.ID
		if !given {
			r.Address = old.Address
		}
		return again("reservation", e.Name, *old, r, func() error { _, err := d.PutReservation(r); return err })
	}
	if e.Op == "add" && !given {
		if scope == nil {
			return refused("reservation %s needs a scope or an address", r.Name)
		}
		a, ok := s.node.HeldBy(scope.ID, r.Hardware)
		if !ok || d.Plan().ReservationAt(a) != nil {
			if a, ok = s.node.Propose(d.Plan(), scope); !ok {
				return refused("scope %s has no free address; end a lease or widen the subnet", scope.Name)
			}
		}
		r.Address = a
	}
	_, err = d.PutReservation(r)
	return err
}

// scopeOf is the scope named, or the one that holds the address.
func scopeOf(p *plan.Plan, in *api.ReservationEdit, a netip.Addr) (*plan.View, error) {
	if in.Scope != nil && *in.Scope != "" {
		v := p.ScopeNamed(*in.Scope)
		if v == nil {
			return nil, unknown("scope", *in.Scope)
		}
		return v, nil
	}
	if in.Address == nil || !a.IsValid() {
		return nil, nil
	}
	v := p.ScopeAt(a)
	if v == nil {
		return nil, refused("no scope holds %s; define one first", a)
	}
	return v, nil
}
