package httpd

import (
	"context"
	"fmt"
	"hash/fnv"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

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

// editor turns edits of one change into edits of a draft.
type editor struct {
	*Server
	ctx      context.Context
	resolved []string // host names that were resolved, in words
}

// now is the service's time.
func (ed *editor) now() time.Time {
	if ed.Engine == nil {
		return time.Time{}
	}
	return ed.Clock.Now()
}

// networkAt says what of the network an address is, as far as the service knows
// and the plan does not.
func (ed *editor) networkAt(a netip.Addr) string {
	if ed.Engine == nil {
		return ""
	}
	return ed.Engine.NetworkAt(a)
}

// apply makes one edit.
func (ed *editor) apply(d *plan.Draft, e api.Edit) error {
	if e.Op != "add" && e.Op != "edit" && e.Op != "remove" {
		return refused("an edit can add, edit or remove, and not %q", e.Op)
	}
	if e.Op == "remove" {
		return d.Remove(plan.Kind(e.Kind), e.Name)
	}
	for _, k := range editors {
		if string(k.kind) == e.Kind && k.sets(e) {
			return k.edit(ed, d, e)
		}
	}
	return refused("the edit %s %s %q is not complete; put what it sets under %q", e.Op, e.Kind, e.Name, e.Kind)
}

// editors turn the edit of each kind into an item of the draft.
var editors = []struct {
	kind plan.Kind
	sets func(api.Edit) bool
	edit func(*editor, *plan.Draft, api.Edit) error
}{
	{plan.KindDefaults, func(e api.Edit) bool { return e.Defaults != nil && e.Op == "edit" }, (*editor).editDefaults},
	{plan.KindCodebook, func(e api.Edit) bool { return e.Codebook != nil }, (*editor).editCodebook},
	{plan.KindList, func(e api.Edit) bool { return e.List != nil }, (*editor).editList},
	{plan.KindRule, func(e api.Edit) bool { return e.Rule != nil }, (*editor).editRule},
	{plan.KindTrial, func(e api.Edit) bool { return e.Trial != nil }, (*editor).editTrial},
	{plan.KindLink, func(e api.Edit) bool { return e.Link != nil }, (*editor).editLink},
	{plan.KindScope, func(e api.Edit) bool { return e.Scope != nil }, (*editor).editScope},
	{plan.KindReservation, func(e api.Edit) bool { return e.Reservation != nil }, (*editor).editReservation},
}

func (ed *editor) editDefaults(d *plan.Draft, e api.Edit) error {
	v := d.Plan().Defaults
	if err := ed.settle(d, &v.Settings, e.Defaults.Lease, e.Defaults.Options); err != nil {
		return err
	}
	set(&v.Note, e.Defaults.Note)
	setText(&v.Identity, e.Defaults.Identity)
	set(&v.Listening, e.Defaults.Listening)
	setThresholds(&v.Thresholds, e.Defaults.WarnUsed, e.Defaults.WarnHeadroom, e.Defaults.WarnDays)
	return d.SetDefaults(v)
}

func set[T any](field *T, value *T) {
	if value != nil {
		*field = *value
	}
}

// setText sets a field of a named text type.
func setText[T ~string](field *T, value *string) {
	if value != nil {
		*field = T(*value)
	}
}

func setThresholds(t *plan.Thresholds, used, headroom, days *int) {
	set(&t.Used, used)
	set(&t.Headroom, headroom)
	set(&t.Days, days)
}

func setDuration(what string, field *plan.Duration, value *string) error {
	if value == nil {
		return nil
	}
	*field = 0
	if *value == "" {
		return nil
	}
	if err := field.UnmarshalText([]byte(*value)); err != nil {
		return refused("%s: %v", what, err)
	}
	return nil
}

// settle sets lease time and options; an empty value inherits. A host name that
// stands where an address belongs is resolved now.
func (ed *editor) settle(d *plan.Draft, s *plan.Settings, leaseTime *string, options map[string]string) error {
	if err := setDuration("lease time", &s.Lease, leaseTime); err != nil {
		return err
	}
	if s.Lease == 0 && leaseTime != nil && *leaseTime != "" {
		return refused("a lease time of %s is none; give a minute or more, or nothing to inherit it", *leaseTime)
	}
	s.Options = maps.Clone(s.Options)
	for name, text := range options {
		key, def, err := d.Plan().Key(name)
		if err != nil {
			return refused("%v", err)
		}
		if text == "" {
			delete(s.Options, key)
			continue
		}
		if s.Options == nil {
			s.Options = map[option.Key]string{}
		}
		if text != plan.NoValue {
			if text, err = def.Type.Resolve(text, ed.resolve); err != nil {
				return refused("option %s: %v", d.Plan().KeyName(key), err)
			}
		}
		s.Options[key] = text
	}
	return nil
}

// resolve asks the host's resolver for an IPv4 address.
func (ed *editor) resolve(host string) (netip.Addr, error) {
	ctx, cancel := context.WithTimeout(ed.ctx, 5*time.Second)
	defer cancel()
	list, err := net.DefaultResolver.LookupNetIP(ctx, "ip4", host)
	if err != nil || len(list) == 0 {
		return netip.Addr{}, fmt.Errorf("the resolver of this host knows no address of it; give the address itself")
	}
	a := list[0].Unmap()
	if text := host + " → " + a.String(); !slices.Contains(ed.resolved, text) {
		ed.resolved = append(ed.resolved, text)
	}
	return a, nil
}

func (ed *editor) editLink(d *plan.Draft, e api.Edit) error {
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
	set(&l.Listening, e.Link.Listening)
	set(&l.StandAside, e.Link.StandAside)
	set(&l.SubnetSelection, e.Link.SubnetSelection)
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
	if plan.Same(old, next) {
		return put()
	}
	lines := plan.Diff([]plan.Change{{Kind: plan.Kind(kind), Name: name, Before: old, After: next}}, func(plan.ID) string { return "" })
	var differ []string
	for _, l := range lines {
		differ = append(differ, l.Text)
	}
	return refused("%s %s is there already and differs (%s); change it with yarnpost %s edit, or choose another name", kind, name,
		strings.Join(differ, "; "), kind)
}

func (ed *editor) editScope(d *plan.Draft, e api.Edit) error {
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
	setText(&v.Identity, in.Identity)
	setText(&v.Bootp, in.Bootp)
	set(&v.RapidCommit, in.RapidCommit)
	set(&v.Limits.PerCircuit, in.PerCircuit)
	set(&v.Limits.NewPerMinute, in.NewPerMinute)
	setThresholds(&v.Thresholds, in.WarnUsed, in.WarnHeadroom, in.WarnDays)
	if in.Probe != nil {
		v.NoProbe = !*in.Probe
	}
	if err := setDuration("offer delay", &v.OfferDelay, in.OfferDelay); err != nil {
		return err
	}
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
	if in.DrainUntil != nil {
		if now := ed.now(); in.DrainUntil.Before(now) {
			return refused("scope %s: the drain cannot end at %s, which is past; it is %s now", v.Name, in.DrainUntil.UTC().Format(time.RFC3339),
				now.UTC().Format(time.RFC3339))
		}
		v.DrainUntil = *in.DrainUntil
	}
	if err := ed.settle(d, &v.Settings, in.Lease, in.Options); err != nil {
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
			host = ed.Host.PlanInterfaces()
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

func (ed *editor) editReservation(d *plan.Draft, e api.Edit) error {
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
	set(&r.Insist, in.Insist)
	if in.Hardware != nil {
		if err := r.Hardware.UnmarshalText([]byte(*in.Hardware)); err != nil {
			return refused("reservation %s: %v", r.Name, err)
		}
	}
	if in.Identifier != nil {
		if err := r.Identifier.UnmarshalText([]byte(*in.Identifier)); err != nil {
			return refused("reservation %s: %v", r.Name, err)
		}
	}
	set(&r.Circuit, in.Circuit)
	given := in.Address != nil && *in.Address != ""
	if given {
		a, err := addr.ParseAddr(*in.Address)
		if err != nil {
			return refused("reservation %s: %v", r.Name, err)
		}
		r.Address = a
		if what := ed.networkAt(a); what != "" {
			return refused("reservation %s: %s is %s; an address of the network's own is no client's", r.Name, a, what)
		}
	}
	scope, err := scopeOf(d.Plan(), in, r.Address)
	if err != nil {
		return err
	}
	if scope != nil {
		r.Scope = scope.ID
	}
	if err := ed.settle(d, &r.Settings, in.Lease, in.Options); err != nil {
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
		a, ok := ed.Leases.HeldBy(scope.ID, &r)
		if !ok || d.Plan().ReservationAt(a) != nil {
			if a, ok = ed.Engine.Propose(d.Plan(), scope); !ok {
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

func (ed *editor) editCodebook(d *plan.Draft, e api.Edit) error {
	in := e.Codebook
	c := plan.Codebook{Name: e.Name, Place: plan.InMessage}
	old := d.Plan().CodebookNamed(e.Name)
	if e.Op == "edit" {
		if old == nil {
			return unknown("codebook", e.Name)
		}
		c = *old
	}
	setText(&c.Place, in.Place)
	set(&c.Classes, in.Classes)
	set(&c.Enterprise, in.Enterprise)
	set(&c.Note, in.Note)
	c.Options = slices.Clone(c.Options)
	for _, o := range in.Put {
		t, err := option.ParseType(o.Type)
		if err != nil {
			return refused("codebook %s, code %d: %v", c.Name, o.Code, err)
		}
		c.Options = slices.DeleteFunc(c.Options, func(x plan.Own) bool { return x.Code == o.Code })
		c.Options = append(c.Options, plan.Own{Code: o.Code, Name: o.Name, Type: t, Meaning: o.Meaning})
	}
	for _, code := range in.Drop {
		if !slices.ContainsFunc(c.Options, func(x plan.Own) bool { return int(x.Code) == code }) {
			return refused("codebook %s has no code %d", c.Name, code)
		}
		c.Options = slices.DeleteFunc(c.Options, func(x plan.Own) bool { return int(x.Code) == code })
	}
	slices.SortFunc(c.Options, func(a, b plan.Own) int { return int(a.Code) - int(b.Code) })
	put := func() error { _, err := d.PutCodebook(c); return err }
	if e.Op == "add" && old != nil {
		c.ID = old.ID
		return again("codebook", e.Name, *old, c, put)
	}
	return put()
}

func (ed *editor) editList(d *plan.Draft, e api.Edit) error {
	in := e.List
	l := plan.List{Name: e.Name}
	old := d.Plan().ListNamed(e.Name)
	if e.Op == "edit" {
		if old == nil {
			return unknown("list", e.Name)
		}
		l = *old
	}
	set(&l.Name, in.Name)
	set(&l.Note, in.Note)
	parse := func(text string) (o addr.Octets, err error) {
		if err = o.UnmarshalText([]byte(text)); err != nil {
			err = refused("list %s: %v", l.Name, err)
		}
		return o, err
	}
	l.Entries = slices.Clone(l.Entries)
	put := in.Put
	if in.Entries != nil {
		l.Entries, put = nil, append(slices.Clone(*in.Entries), put...)
	}
	for _, text := range put {
		o, err := parse(text)
		if err != nil {
			return err
		}
		l.Entries = append(l.Entries, o)
	}
	for _, text := range in.Drop {
		o, err := parse(text)
		if err != nil {
			return err
		}
		if !slices.Contains(l.Entries, o) {
			return refused("list %s has no entry %s", l.Name, o)
		}
		l.Entries = slices.DeleteFunc(l.Entries, func(x addr.Octets) bool { return x == o })
	}
	slices.Sort(l.Entries)
	l.Entries = slices.Compact(l.Entries)
	save := func() error { _, err := d.PutList(l); return err }
	if e.Op == "add" && old != nil {
		l.ID = old.ID
		return again("list", e.Name, *old, l, save)
	}
	return save()
}

func (ed *editor) editRule(d *plan.Draft, e api.Edit) error {
	in := e.Rule
	r := plan.Rule{Name: e.Name}
	old := d.Plan().RuleNamed(e.Name)
	if e.Op == "edit" {
		if old == nil {
			return unknown("rule", e.Name)
		}
		r = old.Rule
	}
	set(&r.Name, in.Name)
	set(&r.Note, in.Note)
	set(&r.When, in.When)
	set(&r.Off, in.Off)
	set(&r.Order, in.Order)
	setText(&r.Action, in.Action)
	if in.Scope != nil {
		r.Scope = 0
		if *in.Scope != "" {
			v := d.Plan().ScopeNamed(*in.Scope)
			if v == nil {
				return unknown("scope", *in.Scope)
			}
			r.Scope = v.ID
		}
	}
	if in.Pool != nil {
		r.Pool = addr.Range{}
		if *in.Pool != "" {
			if err := r.Pool.UnmarshalText([]byte(*in.Pool)); err != nil {
				return refused("pool of rule %s: %v", r.Name, err)
			}
		}
	}
	if err := ed.settle(d, &r.Settings, in.Lease, in.Options); err != nil {
		return fmt.Errorf("rule %s: %w", r.Name, err)
	}
	save := func() error { _, err := d.PutRule(r); return err }
	if e.Op == "add" && old != nil {
		r.ID = old.ID
		if in.Order == nil {
			r.Order = old.Order
		}
		return again("rule", e.Name, old.Rule, r, save)
	}
	return save()
}

func (ed *editor) editTrial(d *plan.Draft, e api.Edit) error {
	in := e.Trial
	t := plan.Trial{Name: e.Name}
	old := d.Plan().TrialNamed(e.Name)
	if e.Op == "edit" {
		if old == nil {
			return unknown("trial", e.Name)
		}
		t = *old
	}
	set(&t.Name, in.Name)
	set(&t.Note, in.Note)
	set(&t.Vendor, in.Vendor)
	set(&t.Circuit, in.Circuit)
	if in.Scope != nil {
		v := d.Plan().ScopeNamed(*in.Scope)
		if v == nil {
			return unknown("scope", *in.Scope)
		}
		t.Scope = v.ID
	}
	if in.Hardware != nil {
		if err := t.Hardware.UnmarshalText([]byte(*in.Hardware)); err != nil {
			return refused("trial %s: %v", t.Name, err)
		}
	} else if t.Hardware == "" {
		t.Hardware = trialHardware(t.Name)
	}
	if err := setDuration("every", &t.Every, in.Every); err != nil {
		return err
	}
	save := func() error { _, err := d.PutTrial(t); return err }
	if e.Op == "add" && old != nil {
		t.ID = old.ID
		return again("trial", e.Name, *old, t, save)
	}
	return save()
}

// trialHardware makes up a locally administered hardware address for a trial.
func trialHardware(name string) addr.Hardware {
	h := fnv.New32a()
	h.Write([]byte(name))
	return addr.Hardware(h.Sum([]byte{0x02, 0x79}))
}
