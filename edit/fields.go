package edit

import (
	"errors"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// This file has the fields of each kind of item: each once, carried into the item or out of it.

func defaultsFields(x *pass, v *plan.Defaults, in *api.DefaultsEdit) {
	settings(x, &v.Settings, &in.Lease, &in.Valid, &in.Options)
	text(x, &v.Identity, &in.Identity)
	value(x, &v.Listening, &in.Listening)
	thresholds(x, &v.Thresholds, &in.WarnUsed, &in.WarnHeadroom, &in.WarnDays)
	value(x, &v.Note, &in.Note)
}

func supernetFields(x *pass, v *plan.Supernet, in *api.SupernetEdit) {
	name(x, &v.Name, in.Name)
	parsed(x, "prefix", &v.Prefix, &in.Prefix, func(text string) (netip.Prefix, error) {
		p, err := addr.ParseSubnet(text)
		return p, within("supernet "+v.Name, err)
	})
	settings(x, &v.Settings, &in.Lease, &in.Valid, &in.Options)
	text(x, &v.Identity, &in.Identity)
	thresholds(x, &v.Thresholds, &in.WarnUsed, &in.WarnHeadroom, &in.WarnDays)
	value(x, &v.Approval, &in.Approval)
	ownFields(x, &v.Fields, &in.Fields)
	value(x, &v.Note, &in.Note)
}

// within says in which item a value is wrong; a nil error stays nil.
func within(what string, err error) error {
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

func linkFields(x *pass, l *plan.Link, in *api.LinkEdit) {
	name(x, &l.Name, in.Name)
	texts(x, &l.Interfaces, &in.Interfaces)
	var relays []string
	for _, a := range l.Relays {
		relays = append(relays, a.String())
	}
	texts(x, &relays, &in.Relays)
	if !x.out && in.Relays != nil {
		l.Relays = nil
		for _, text := range relays {
			a, err := addr.ParseAddr(text)
			if err != nil {
				x.fail("relays", plan.Refused("relay: %v", err))
				continue
			}
			l.Relays = append(l.Relays, a)
		}
	}
	value(x, &l.Listening, &in.Listening)
	value(x, &l.StandAside, &in.StandAside)
	value(x, &l.SubnetSelection, &in.SubnetSelection)
	value(x, &l.Wake, &in.Wake)
	ownFields(x, &l.Fields, &in.Fields)
	value(x, &l.Note, &in.Note)
}

func scopeFields(x *pass, v *plan.Scope, in *api.ScopeEdit) {
	name(x, &v.Name, in.Name)
	parsed(x, "subnet", &v.Subnet, &in.Subnet, func(text string) (netip.Prefix, error) {
		p, err := addr.ParseSubnet(text)
		return p, within("scope "+v.Name, err)
	})
	pools(x, v, in)
	prefixPools(x, v, in)
	exclusions(x, v, in)
	text(x, &v.Mode, &in.Mode)
	drainUntil(x, v, in)
	runDown(x, v, in)
	value(x, &v.Approval, &in.Approval)
	settings(x, &v.Settings, &in.Lease, &in.Valid, &in.Options)
	value(x, &v.Authoritative, &in.Authoritative)
	text(x, &v.Identity, &in.Identity)
	text(x, &v.Bootp, &in.Bootp)
	value(x, &v.RapidCommit, &in.RapidCommit)
	duration(x, "offerDelay", &v.OfferDelay, &in.OfferDelay)
	not(x, &v.NoProbe, &in.Probe)
	value(x, &v.Limits.PerCircuit, &in.PerCircuit)
	value(x, &v.Limits.NewPerMinute, &in.NewPerMinute)
	thresholds(x, &v.Thresholds, &in.WarnUsed, &in.WarnHeadroom, &in.WarnDays)
	ownFields(x, &v.Fields, &in.Fields)
	value(x, &v.Note, &in.Note)
	if x.out {
		if on := x.plan.Label(v.Link); on != v.Name || x.all { // a link of its own has its name
			in.Link = &on
		}
	} else if len(x.errs) == 0 { // its subnet says where it belongs
		x.fail("link", x.place(v, in))
	}
}

// place puts a scope on its link.
func (x *pass) place(v *plan.Scope, in *api.ScopeEdit) error {
	var link string
	if in.Link != nil {
		link = *in.Link
	}
	switch twin, _ := x.twin.(plan.Scope); {
	case x.op == Edit && in.Link == nil:
		return nil
	case x.op == Add && x.twin != nil:
		if on := x.plan.Link(twin.Link).Name; in.Link != nil && *in.Link != on {
			return plan.Refused("scope %s is there already, on link %s; change it with yarnpost scope edit", v.Name, on)
		}
		v.Link = twin.Link
		return nil
	case x.op != Add && link == "" && x.plan.LinkNamed(v.Name) != nil:
		link = v.Name
	}
	var host []plan.Interface
	if link == "" {
		host = x.around.Interfaces()
	}
	return x.draft.PlaceScope(v, link, host)
}

func drainUntil(x *pass, v *plan.Scope, in *api.ScopeEdit) {
	switch {
	case x.out && !v.DrainUntil.IsZero():
		until := v.DrainUntil
		in.DrainUntil = &until
	case !x.out && in.DrainUntil != nil:
		now, twin := x.around.Now(), plan.Scope{}
		if x.twin != nil {
			twin = x.twin.(plan.Scope)
		}
		if in.DrainUntil.Before(now) && !in.DrainUntil.Equal(twin.DrainUntil) {
			x.fail("drainUntil", plan.Refused("scope %s: the drain cannot end at %s, which is past; it is %s now", v.Name,
				in.DrainUntil.UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339)))
			return
		}
		v.DrainUntil = *in.DrainUntil
	}
}

// runDown carries until when leases run down: an RFC 3339 time, or an empty text for never.
func runDown(x *pass, v *plan.Scope, in *api.ScopeEdit) {
	switch {
	case x.out:
		if text := moment(v.RunDown); text != "" || x.all {
			in.RunDown = &text
		}
	case in.RunDown != nil && *in.RunDown == "":
		v.RunDown = time.Time{}
	case in.RunDown != nil:
		at, err := time.Parse(time.RFC3339, *in.RunDown)
		if err != nil {
			x.fail("runDown", plan.Refused("scope %s: leases cannot run down until %q; write a time like 2026-12-05T02:00:00Z", v.Name, *in.RunDown))
			return
		}
		v.RunDown = at.UTC()
	}
}

// moment is a time as edits have it; "" for none.
func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

func pools(x *pass, v *plan.Scope, in *api.ScopeEdit) {
	var all []string
	for _, r := range v.Pools {
		all = append(all, r.String())
	}
	texts(x, &all, &in.Pools)
	if x.out || in.Pools == nil {
		return
	}
	v.Pools = nil
	for _, text := range all {
		r := addr.Range{}
		if text == "all" && v.Subnet.IsValid() {
			r = addr.OfPrefix(v.Subnet)
		} else if err := r.UnmarshalText([]byte(text)); err != nil {
			x.fail("pools", plan.Refused("pool of scope %s: %v", v.Name, err))
			continue
		}
		v.Pools = append(v.Pools, r)
	}
}

func prefixPools(x *pass, v *plan.Scope, in *api.ScopeEdit) {
	var all []string
	for _, p := range v.PrefixPools {
		all = append(all, p.String())
	}
	texts(x, &all, &in.PrefixPools)
	if x.out || in.PrefixPools == nil {
		return
	}
	v.PrefixPools = nil
	for _, text := range all {
		p, err := plan.ParsePrefixPool(text)
		if err != nil {
			x.fail("prefixPools", plan.Refused("prefix pool of scope %s: %v", v.Name, err))
			continue
		}
		v.PrefixPools = append(v.PrefixPools, p)
	}
}

func exclusions(x *pass, v *plan.Scope, in *api.ScopeEdit) {
	if x.out {
		all := []api.Exclusion{}
		for _, e := range v.Exclusions {
			all = append(all, api.Exclusion{Range: e.Range.String(), User: e.User})
		}
		if len(all) > 0 || x.all {
			in.Exclusions = &all
		}
		return
	}
	v.Exclusions = slices.Clone(v.Exclusions)
	parse := func(field, text string) (addr.Range, bool) {
		r, err := addr.ParseRange(text)
		if err != nil {
			x.fail(field, plan.Refused("exclusion of scope %s: %v", v.Name, err))
		}
		return r, err == nil
	}
	for _, text := range in.RemoveExclusions {
		r, good := parse("removeExclusions", text)
		if !good {
			continue
		}
		i := slices.IndexFunc(v.Exclusions, func(e plan.Exclusion) bool { return e.Range == r })
		if i < 0 {
			x.fail("removeExclusions", plan.Refused("scope %s has no exclusion %s", v.Name, r))
			continue
		}
		v.Exclusions = slices.Delete(v.Exclusions, i, i+1)
	}
	field, more := "addExclusions", in.AddExclusions
	if in.Exclusions != nil {
		field, v.Exclusions, more = "exclusions", nil, slices.Concat(*in.Exclusions, more)
	}
	for _, e := range more {
		r, good := parse(field, e.Range)
		switch i := slices.IndexFunc(v.Exclusions, func(o plan.Exclusion) bool { return o.Range == r }); {
		case !good:
		case i >= 0:
			v.Exclusions[i].User = e.User
		default:
			v.Exclusions = append(v.Exclusions, plan.Exclusion{Range: r, User: e.User})
		}
	}
	slices.SortFunc(v.Exclusions, func(a, b plan.Exclusion) int { return a.Range.From.Compare(b.Range.From) })
	if len(v.Exclusions) == 0 {
		v.Exclusions = nil
	}
}

func reservationFields(x *pass, r *plan.Reservation, in *api.ReservationEdit) {
	name(x, &r.Name, in.Name)
	who := "reservation " + r.Name
	parsed(x, "hardware", &r.Hardware, &in.Hardware, func(text string) (h addr.Hardware, err error) {
		err = within(who, h.UnmarshalText([]byte(text)))
		return h, err
	})
	identified(x, r, in)
	parsed(x, "iaid", &r.IAID, &in.IAID, func(text string) (addr.IAID, error) {
		i, err := addr.ParseIAID(text)
		return i, within(who, err)
	})
	value(x, &r.Circuit, &in.Circuit)
	value(x, &r.Hostname, &in.Hostname)
	value(x, &r.Insist, &in.Insist)
	settings(x, &r.Settings, &in.Lease, &in.Valid, &in.Options)
	ownFields(x, &r.Fields, &in.Fields)
	value(x, &r.Note, &in.Note)
	if x.out {
		address := r.What() // which says the scope, too
		in.Address = &address
	} else if len(x.errs) == 0 {
		x.fail("address", x.reserve(r, in))
	}
}

// identified carries by what identifier a reservation knows its client: with IPv6 by its DUID.
func identified(x *pass, r *plan.Reservation, in *api.ReservationEdit) {
	who := "reservation " + r.Name
	octets := func(text string) (o addr.Octets, err error) {
		err = within(who, o.UnmarshalText([]byte(text)))
		return o, err
	}
	duid := func(text string) (addr.Octets, error) {
		d, err := addr.ParseDUID(text)
		return addr.Octets(d), within(who, err)
	}
	switch six := r.Address.Is6(); {
	case x.out && six:
		parsed(x, "duid", &r.Identifier, &in.DUID, duid)
	case x.out:
		parsed(x, "identifier", &r.Identifier, &in.Identifier, octets)
	case in.DUID != nil && *in.DUID != "" && in.Identifier != nil && *in.Identifier != "":
		x.fail("duid", plan.Refused("%s: a client has a DUID with IPv6 and a client identifier with IPv4; give one of them", who))
	case in.DUID != nil && (*in.DUID != "" || in.Identifier == nil):
		parsed(x, "duid", &r.Identifier, &in.DUID, duid)
	default:
		parsed(x, "identifier", &r.Identifier, &in.Identifier, octets)
	}
}

// reservable reads an address, or a prefix with its length.
func reservable(text string) (a netip.Addr, length int, err error) {
	if !strings.Contains(text, "/") {
		a, err = addr.ParseAddr(text)
		return a, 0, err
	}
	p, err := addr.ParseSubnet(text)
	if err != nil {
		return a, 0, err
	}
	if p.IsSingleIP() {
		return p.Addr(), 0, nil
	}
	return p.Addr(), p.Bits(), nil
}

// reserve finds the scope and the address of a reservation.
func (x *pass) reserve(r *plan.Reservation, in *api.ReservationEdit) error {
	given := in.Address != nil && *in.Address != ""
	if given {
		a, length, err := reservable(*in.Address)
		if err != nil {
			return plan.Refused("reservation %s: %v", r.Name, err)
		}
		r.Address, r.Length = a, length
		if what := x.around.NetworkAt(a); what != "" {
			return plan.Refused("reservation %s: %s is %s; an address of the network's own is no client's", r.Name, a, what)
		}
	}
	scope, err := scopeOf(x.plan, in, r.Address)
	if err != nil {
		return err
	}
	moved := scope != nil && r.ID != 0 && !given && scope.ID != r.Scope // and is to have an address there
	if scope != nil && !moved {
		r.Scope = scope.ID
	}
	twin, there := x.twin.(plan.Reservation)
	switch {
	case given, r.ID != 0 && !moved:
	case there:
		if r.Address, r.Length = twin.Address, twin.Length; scope == nil {
			r.Scope = twin.Scope
		}
	case scope == nil:
		return plan.Refused("reservation %s needs a scope or an address", r.Name)
	default:
		a, ok := x.around.Propose(x.plan, scope, r)
		if !ok && x.around == Nowhere {
			return plan.Refused("reservation %s needs an address; a free one is found by the server", r.Name)
		} else if !ok {
			return plan.Refused("scope %s has no free address; end a lease or widen the subnet", scope.Name)
		}
		r.Address, r.Length, r.Scope = a, 0, scope.ID
	}
	return nil
}

// scopeOf is the scope named, or the one that holds the address.
func scopeOf(p *plan.Plan, in *api.ReservationEdit, a netip.Addr) (*plan.View, error) {
	if in.Scope != nil && *in.Scope != "" {
		v := p.ScopeNamed(*in.Scope)
		if v == nil {
			return nil, plan.Missing("scope", *in.Scope)
		}
		return v, nil
	}
	if in.Address == nil || !a.IsValid() {
		return nil, nil
	}
	v := p.ScopeAt(a)
	if v == nil {
		return nil, fmt.Errorf("%w: no scope holds %s; define one first", errNoScope, a)
	}
	return v, nil
}

// errNoScope is wrapped when an address is in no scope of the plan.
var errNoScope = fmt.Errorf("%w", plan.ErrRefused)

// missesItem reports that an edit names what a plan has not, which another plan may have.
func missesItem(err error) bool {
	return errors.Is(err, plan.ErrNotFound) || errors.Is(err, errNoScope)
}

func codebookFields(x *pass, c *plan.Codebook, in *api.CodebookEdit) {
	text(x, &c.Place, &in.Place)
	texts(x, &c.Classes, &in.Classes)
	value(x, &c.Enterprise, &in.Enterprise)
	ownFields(x, &c.Fields, &in.Fields)
	value(x, &c.Note, &in.Note)
	if x.out {
		var all []api.OwnOption
		for _, o := range c.Options {
			all = append(all, api.OwnOption{Code: o.Code, Name: o.Name, Type: o.Type.String(), Meaning: o.Meaning})
		}
		in.Options = &all
		return
	}
	c.Options = slices.Clone(c.Options)
	field, put := "put", in.Put
	if in.Options != nil {
		field, c.Options, put = "options", nil, slices.Concat(*in.Options, put)
	}
	for _, o := range put {
		t, err := option.ParseType(o.Type)
		if err != nil {
			x.fail(field, plan.Refused("codebook %s, code %d: %v", c.Name, o.Code, err))
			continue
		}
		c.Options = slices.DeleteFunc(c.Options, func(own plan.Own) bool { return own.Code == o.Code })
		c.Options = append(c.Options, plan.Own{Code: o.Code, Name: o.Name, Type: t, Meaning: o.Meaning})
	}
	for _, code := range in.Drop {
		of := func(own plan.Own) bool { return int(own.Code) == code }
		if !slices.ContainsFunc(c.Options, of) {
			x.fail("drop", plan.Refused("codebook %s has no code %d", c.Name, code))
		}
		c.Options = slices.DeleteFunc(c.Options, of)
	}
	slices.SortFunc(c.Options, func(a, b plan.Own) int { return int(a.Code) - int(b.Code) })
}

func listFields(x *pass, l *plan.List, in *api.ListEdit) {
	name(x, &l.Name, in.Name)
	ownFields(x, &l.Fields, &in.Fields)
	value(x, &l.Note, &in.Note)
	if x.out {
		all := []string{}
		for _, o := range l.Entries {
			all = append(all, o.String())
		}
		in.Entries = &all
		return
	}
	parse := func(field, text string) (o addr.Octets, good bool) {
		err := o.UnmarshalText([]byte(text))
		if err != nil {
			x.fail(field, plan.Refused("list %s: %v", l.Name, err))
		}
		return o, err == nil
	}
	l.Entries = slices.Clone(l.Entries)
	field, put := "put", in.Put
	if in.Entries != nil {
		field, l.Entries, put = "entries", nil, slices.Concat(*in.Entries, put)
	}
	for _, text := range put {
		if o, good := parse(field, text); good {
			l.Entries = append(l.Entries, o)
		}
	}
	for _, text := range in.Drop {
		o, good := parse("drop", text)
		if good && !slices.Contains(l.Entries, o) {
			x.fail("drop", plan.Refused("list %s has no entry %s", l.Name, o))
		}
		l.Entries = slices.DeleteFunc(l.Entries, func(e addr.Octets) bool { return e == o })
	}
	slices.Sort(l.Entries)
	l.Entries = slices.Compact(l.Entries)
}

func ruleFields(x *pass, r *plan.Rule, in *api.RuleEdit) {
	name(x, &r.Name, in.Name)
	refer(x, plan.KindScope, &r.Scope, &in.Scope)
	refer(x, plan.KindSupernet, &r.Supernet, &in.Supernet)
	value(x, &r.Order, &in.Order)
	if twin, there := x.twin.(plan.Rule); there && in.Order == nil {
		r.Order = twin.Order
	}
	value(x, &r.When, &in.When)
	text(x, &r.Action, &in.Action)
	parsed(x, "pool", &r.Pool, &in.Pool, func(text string) (p addr.Range, err error) {
		err = within("pool of rule "+r.Name, p.UnmarshalText([]byte(text)))
		return p, err
	})
	value(x, &r.Off, &in.Off)
	settings(x, &r.Settings, &in.Lease, &in.Valid, &in.Options)
	ownFields(x, &r.Fields, &in.Fields)
	value(x, &r.Note, &in.Note)
}

func fieldFields(x *pass, f *plan.OwnField, in *api.FieldEdit) {
	text(x, &f.Type, &in.Type)
	texts(x, &f.Choices, &in.Choices)
	var on []string
	for _, k := range f.On {
		on = append(on, string(k))
	}
	texts(x, &on, &in.On)
	if !x.out && in.On != nil {
		f.On = nil
		for _, k := range on {
			f.On = append(f.On, plan.Kind(k))
		}
	}
	value(x, &f.Note, &in.Note)
}

func trialFields(x *pass, t *plan.Trial, in *api.TrialEdit) {
	name(x, &t.Name, in.Name)
	refer(x, plan.KindScope, &t.Scope, &in.Scope)
	if !x.out || t.Hardware != TrialHardware(t.Name) {
		parsed(x, "hardware", &t.Hardware, &in.Hardware, func(text string) (h addr.Hardware, err error) {
			err = within("trial "+t.Name, h.UnmarshalText([]byte(text)))
			return h, err
		})
	}
	if t.Hardware == "" {
		t.Hardware = TrialHardware(t.Name)
	}
	value(x, &t.Vendor, &in.Vendor)
	value(x, &t.Circuit, &in.Circuit)
	duration(x, "every", &t.Every, &in.Every)
	ownFields(x, &t.Fields, &in.Fields)
	value(x, &t.Note, &in.Note)
}

// TrialHardware makes up a locally administered hardware address for a trial.
func TrialHardware(name string) addr.Hardware {
	h := fnv.New32a()
	h.Write([]byte(name))
	return addr.Hardware(h.Sum([]byte{0x02, 0x79}))
}
