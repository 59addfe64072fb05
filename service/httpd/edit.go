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
	if of := editors[plan.Kind(e.Kind)]; of != nil {
		if complete, err := of(ed, d, e); complete {
			return err
		}
	}
	return refused("the edit %s %s %q is not complete; put what it sets under %q", e.Op, e.Kind, e.Name, e.Kind)
}

// editors turn the edit of each kind into an item of the draft. They report false for an edit
// that does not say what it sets.
var editors = map[plan.Kind]func(*editor, *plan.Draft, api.Edit) (complete bool, err error){
	plan.KindDefaults: (*editor).editDefaults,
	plan.KindCodebook: editing[plan.Codebook, api.CodebookEdit]{
		in: func(e api.Edit) *api.CodebookEdit { return e.Codebook }, old: (*plan.Plan).CodebookNamed,
		fresh: func(name string) plan.Codebook { return plan.Codebook{Name: name, Place: plan.InMessage} }, fill: fillCodebook,
	}.edit,
	plan.KindList: editing[plan.List, api.ListEdit]{
		in: func(e api.Edit) *api.ListEdit { return e.List }, old: (*plan.Plan).ListNamed,
		fresh: func(name string) plan.List { return plan.List{Name: name} }, fill: fillList,
	}.edit,
	plan.KindSupernet: editing[plan.Supernet, api.SupernetEdit]{
		in: func(e api.Edit) *api.SupernetEdit { return e.Supernet }, old: (*plan.Plan).SupernetNamed,
		fresh: func(name string) plan.Supernet { return plan.Supernet{Name: name} }, fill: fillSupernet,
	}.edit,
	plan.KindLink: editing[plan.Link, api.LinkEdit]{
		in: func(e api.Edit) *api.LinkEdit { return e.Link }, old: (*plan.Plan).LinkNamed,
		fresh: func(name string) plan.Link { return plan.Link{Name: name} }, fill: fillLink,
	}.edit,
	plan.KindScope: editing[plan.Scope, api.ScopeEdit]{
		in: func(e api.Edit) *api.ScopeEdit { return e.Scope }, old: func(p *plan.Plan, name string) *plan.Scope {
			if v := p.ScopeNamed(name); v != nil {
				return &v.Scope
			}
			return nil
		},
		fresh: func(name string) plan.Scope { return plan.Scope{Name: name, Mode: plan.Held} }, fill: fillScope,
	}.edit,
	plan.KindRule: editing[plan.Rule, api.RuleEdit]{
		in: func(e api.Edit) *api.RuleEdit { return e.Rule }, old: func(p *plan.Plan, name string) *plan.Rule {
			if r := p.RuleNamed(name); r != nil {
				return &r.Rule
			}
			return nil
		},
		fresh: func(name string) plan.Rule { return plan.Rule{Name: name} }, fill: fillRule,
	}.edit,
	plan.KindReservation: editing[plan.Reservation, api.ReservationEdit]{
		in: func(e api.Edit) *api.ReservationEdit { return e.Reservation }, old: (*plan.Plan).ReservationNamed,
		fresh: func(name string) plan.Reservation { return plan.Reservation{Name: name} }, fill: fillReservation,
	}.edit,
	plan.KindTrial: editing[plan.Trial, api.TrialEdit]{
		in: func(e api.Edit) *api.TrialEdit { return e.Trial }, old: (*plan.Plan).TrialNamed,
		fresh: func(name string) plan.Trial { return plan.Trial{Name: name} }, fill: fillTrial,
	}.edit,
}

// editing is how edits of a kind with names become items.
type editing[T plan.Item, E any] struct {
	in    func(api.Edit) *E // what the edit sets, or nil
	old   func(p *plan.Plan, name string) *T
	fresh func(name string) T
	fill  func(ed *editor, d *plan.Draft, v *T, in *E, twin *T) error
}

// edit makes the edit. An item that is added a second time is a twin of the one that is there:
// that is done if it changes nothing.
func (of editing[T, E]) edit(ed *editor, d *plan.Draft, e api.Edit) (complete bool, err error) {
	in := of.in(e)
	if in == nil {
		return false, nil
	}
	kind := plan.Kind(e.Kind)
	old, v := of.old(d.Plan(), e.Name), of.fresh(e.Name)
	var twin *T
	switch {
	case e.Op == "add":
		twin = old
	case old == nil:
		return true, unknown(e.Kind, e.Name)
	default:
		v = *old
	}
	if err := of.fill(ed, d, &v, in, twin); err != nil {
		return true, err
	}
	item := plan.Item(v)
	if twin != nil {
		if item = plan.Instead(kind, v, *twin); !plan.Same(*twin, item) {
			return true, differs(kind, e.Name, *twin, item)
		}
	}
	_, err = d.Put(kind, item)
	return true, err
}

// differs refuses to add an item a second time in another form.
func differs(kind plan.Kind, name string, old, next plan.Item) error {
	lines := plan.Diff([]plan.Change{{Kind: kind, Name: name, Before: old, After: next}}, func(plan.ID) string { return "" })
	var differ []string
	for _, l := range lines {
		differ = append(differ, l.Text)
	}
	return refused("%s %s is there already and differs (%s); change it with yarnpost %s edit, or choose another name", kind, name,
		strings.Join(differ, "; "), kind)
}

func (ed *editor) editDefaults(d *plan.Draft, e api.Edit) (complete bool, err error) {
	in := e.Defaults
	if in == nil || e.Op != "edit" {
		return false, nil
	}
	v := d.Plan().Defaults
	if err := ed.settle(d, &v.Settings, in.Lease, in.Options); err != nil {
		return true, err
	}
	set(&v.Note, in.Note)
	setText(&v.Identity, in.Identity)
	set(&v.Listening, in.Listening)
	setThresholds(&v.Thresholds, in.WarnUsed, in.WarnHeadroom, in.WarnDays)
	return true, d.SetDefaults(v)
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

func fillSupernet(ed *editor, d *plan.Draft, v *plan.Supernet, in *api.SupernetEdit, _ *plan.Supernet) error {
	set(&v.Name, in.Name)
	set(&v.Note, in.Note)
	setText(&v.Identity, in.Identity)
	setThresholds(&v.Thresholds, in.WarnUsed, in.WarnHeadroom, in.WarnDays)
	if in.Prefix != nil {
		p, err := addr.ParseSubnet(*in.Prefix)
		if err != nil {
			return refused("supernet %s: %v", v.Name, err)
		}
		v.Prefix = p
	}
	if err := ed.settle(d, &v.Settings, in.Lease, in.Options); err != nil {
		return fmt.Errorf("supernet %s: %w", v.Name, err)
	}
	return nil
}

func fillLink(_ *editor, _ *plan.Draft, l *plan.Link, in *api.LinkEdit, _ *plan.Link) error {
	set(&l.Name, in.Name)
	set(&l.Note, in.Note)
	set(&l.Interfaces, in.Interfaces)
	set(&l.Listening, in.Listening)
	set(&l.StandAside, in.StandAside)
	set(&l.SubnetSelection, in.SubnetSelection)
	if in.Relays != nil {
		l.Relays = nil
		for _, text := range *in.Relays {
			a, err := addr.ParseAddr(text)
			if err != nil {
				return refused("relay: %v", err)
			}
			l.Relays = append(l.Relays, a)
		}
	}
	return nil
}

func fillScope(ed *editor, d *plan.Draft, v *plan.Scope, in *api.ScopeEdit, twin *plan.Scope) error {
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
	if err := fillAddresses(v, in); err != nil {
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
	return ed.place(d, v, in, twin)
}

// place puts a scope on its link.
func (ed *editor) place(d *plan.Draft, v *plan.Scope, in *api.ScopeEdit, twin *plan.Scope) error {
	if twin != nil {
		if on := d.Plan().Link(twin.Link).Name; in.Link != nil && *in.Link != on {
			return refused("scope %s is there already, on link %s; change it with yarnpost scope edit", v.Name, on)
		}
		v.Link = twin.Link
		return nil
	}
	if v.ID != 0 && in.Link == nil {
		return nil
	}
	var link string
	var host []plan.Interface
	if set(&link, in.Link); link == "" {
		host = ed.Host.PlanInterfaces()
	}
	return d.PlaceScope(v, link, host)
}

// fillAddresses sets the subnet, the pools and the exclusions of a scope.
func fillAddresses(v *plan.Scope, in *api.ScopeEdit) error {
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
	return editExclusions(v, in)
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

func fillReservation(ed *editor, d *plan.Draft, r *plan.Reservation, in *api.ReservationEdit, twin *plan.Reservation) error {
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
	switch {
	case given, r.ID != 0:
	case twin != nil:
		r.Address = twin.Address
	case scope == nil:
		return refused("reservation %s needs a scope or an address", r.Name)
	default:
		a, ok := ed.Leases.HeldBy(scope.ID, r)
		if !ok || d.Plan().ReservationAt(a) != nil {
			if a, ok = ed.Engine.Propose(d.Plan(), scope); !ok {
				return refused("scope %s has no free address; end a lease or widen the subnet", scope.Name)
			}
		}
		r.Address = a
	}
	return nil
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

func fillCodebook(_ *editor, _ *plan.Draft, c *plan.Codebook, in *api.CodebookEdit, _ *plan.Codebook) error {
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
	return nil
}

func fillList(_ *editor, _ *plan.Draft, l *plan.List, in *api.ListEdit, _ *plan.List) error {
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
	return nil
}

func fillRule(ed *editor, d *plan.Draft, r *plan.Rule, in *api.RuleEdit, twin *plan.Rule) error {
	set(&r.Name, in.Name)
	set(&r.Note, in.Note)
	set(&r.When, in.When)
	set(&r.Off, in.Off)
	set(&r.Order, in.Order)
	setText(&r.Action, in.Action)
	if err := ofLevel(d.Plan(), r, in); err != nil {
		return err
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
	if twin != nil && in.Order == nil {
		r.Order = twin.Order
	}
	return nil
}

// ofLevel sets what a rule is of: a scope, a supernet, or with neither the defaults.
func ofLevel(p *plan.Plan, r *plan.Rule, in *api.RuleEdit) error {
	if in.Scope != nil {
		r.Scope = 0
		if *in.Scope != "" {
			v := p.ScopeNamed(*in.Scope)
			if v == nil {
				return unknown("scope", *in.Scope)
			}
			r.Scope = v.ID
		}
	}
	if in.Supernet != nil {
		r.Supernet = 0
		if *in.Supernet != "" {
			n := p.SupernetNamed(*in.Supernet)
			if n == nil {
				return unknown("supernet", *in.Supernet)
			}
			r.Supernet = n.ID
		}
	}
	return nil
}

func fillTrial(_ *editor, d *plan.Draft, t *plan.Trial, in *api.TrialEdit, _ *plan.Trial) error {
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
	return setDuration("every", &t.Every, in.Every)
}

// trialHardware makes up a locally administered hardware address for a trial.
func trialHardware(name string) addr.Hardware {
	h := fnv.New32a()
	h.Write([]byte(name))
	return addr.Hardware(h.Sum([]byte{0x02, 0x79}))
}
