// Package edit turns edits of the plan, as the API, a plan file or a sheet has them, into items
// of a draft, and items into the edits that define them. Each field of an item stands once, for
// both ways (fields.go).
package edit

import (
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/core/plan"
)

// Around is what an edit needs to know of the place where it is made.
type Around interface {
	Now() time.Time
	// Interfaces are the interfaces on which broadcast clients are served.
	Interfaces() []plan.Interface
	// NetworkAt says what of the network an address is, beyond what the plan says; or "".
	NetworkAt(netip.Addr) string
	// Resolve gives an address of a host name that stands where an address belongs.
	Resolve(host string) (netip.Addr, error)
	// Propose is an address for a reservation that names none: what its client holds, or a
	// free one.
	Propose(p *plan.Plan, scope *plan.View, r *plan.Reservation) (netip.Addr, bool)
}

// The operations of an edit.
const (
	Add    = "add"    // there must be none of this name, or the same
	Edit   = "edit"   // what is not said stays
	Put    = "put"    // what is not said is not set
	Set    = "set"    // adds it, or edits it if it is there
	Remove = "remove" // with what belongs to it
)

// FieldError is what is wrong with one field of an edit.
type FieldError struct {
	Field string // as in JSON
	Part  string // the option, where the field has several
	Err   error
}

func (f *FieldError) Error() string { return f.Err.Error() }

func (f *FieldError) Unwrap() error { return f.Err }

// Apply makes one edit. Errors wrap plan.ErrRefused or plan.ErrNotFound.
func Apply(around Around, d *plan.Draft, e api.Edit) error {
	if errs := apply(around, d, e, nil); len(errs) > 0 {
		return errs[0]
	}
	return nil
}

// apply makes one edit, or says all that is wrong with it. An heir is the item that a put goes on with
// under another name.
func apply(around Around, d *plan.Draft, e api.Edit, heir plan.Item) []error {
	switch e.Op {
	case Add, Edit, Put, Set:
	case Remove:
		if err := d.Remove(plan.Kind(e.Kind), e.Name); err != nil {
			return []error{err}
		}
		return nil
	default:
		return []error{plan.Refused("an edit can add, edit, put, set or remove, and not %q", e.Op)}
	}
	if of := editors[plan.Kind(e.Kind)]; of.make != nil {
		x := &pass{around: around, draft: d, plan: d.Plan()}
		if of.make(x, e, heir) {
			return x.errs
		}
	}
	return []error{plan.Refused("the edit %s %s %q is not complete; put what it sets under %q", e.Op, e.Kind, e.Name, e.Kind)}
}

// Of is the edit that puts an item of a plan: with what it sets, and nothing else.
func Of(p *plan.Plan, kind plan.Kind, i plan.Item) api.Edit {
	return editors[kind].say(&pass{plan: p, out: true}, i)
}

// editor is how edits of a kind become items, and items edits.
type editor struct {
	make func(x *pass, e api.Edit, heir plan.Item) (complete bool)
	say  func(x *pass, i plan.Item) api.Edit
	// alike is the item that a put under a new name goes on with, if the plan has one: whatever it is
	// called, it is the same thing.
	// read as in a draft that is thrown away.
	alike func(p *plan.Plan, scratch *plan.Draft, e api.Edit) plan.Item
}

// editors are by kind.
var editors = map[plan.Kind]editor{
	plan.KindDefaults: {make: makeDefaults, say: func(x *pass, i plan.Item) api.Edit {
		v, in := i.(plan.Defaults), &api.DefaultsEdit{}
		defaultsFields(x, &v, in)
		return api.Edit{Op: Put, Kind: string(plan.KindDefaults), Defaults: in}
	}},
	plan.KindField: editing[plan.OwnField, api.FieldEdit]{
		kind: plan.KindField, in: func(e *api.Edit) **api.FieldEdit { return &e.Field }, old: (*plan.Plan).OwnFieldNamed,
		name: func(f *plan.OwnField) *string { return &f.Name },
		new:  plan.OwnField{Type: plan.FieldText}, fields: fieldFields,
	}.erased(),
	plan.KindCodebook: editing[plan.Codebook, api.CodebookEdit]{
		kind: plan.KindCodebook, in: func(e *api.Edit) **api.CodebookEdit { return &e.Codebook }, old: (*plan.Plan).CodebookNamed,
		name: func(c *plan.Codebook) *string { return &c.Name },
		new:  plan.Codebook{Place: plan.InMessage}, fields: codebookFields,
	}.erased(),
	plan.KindList: editing[plan.List, api.ListEdit]{
		kind: plan.KindList, in: func(e *api.Edit) **api.ListEdit { return &e.List }, old: (*plan.Plan).ListNamed,
		name: func(l *plan.List) *string { return &l.Name }, fields: listFields,
	}.erased(),
	plan.KindSupernet: editing[plan.Supernet, api.SupernetEdit]{
		kind: plan.KindSupernet, in: func(e *api.Edit) **api.SupernetEdit { return &e.Supernet }, old: (*plan.Plan).SupernetNamed,
		name: func(s *plan.Supernet) *string { return &s.Name }, fields: supernetFields,
		alike: func(p *plan.Plan, v *plan.Supernet) *plan.Supernet {
			all := p.Supernets()
			if i := slices.IndexFunc(all, func(o *plan.Supernet) bool { return o.Prefix == v.Prefix }); i >= 0 {
				return all[i]
			}
			return nil
		},
	}.erased(),
	plan.KindLink: editing[plan.Link, api.LinkEdit]{
		kind: plan.KindLink, in: func(e *api.Edit) **api.LinkEdit { return &e.Link }, old: (*plan.Plan).LinkNamed,
		name: func(l *plan.Link) *string { return &l.Name }, fields: linkFields,
	}.erased(),
	plan.KindScope: editing[plan.Scope, api.ScopeEdit]{
		kind: plan.KindScope, in: func(e *api.Edit) **api.ScopeEdit { return &e.Scope }, old: scopeNamed,
		name: func(s *plan.Scope) *string { return &s.Name },
		new:  plan.Scope{Mode: plan.Held}, fields: scopeFields,
		alike: func(p *plan.Plan, v *plan.Scope) *plan.Scope {
			if o := p.ScopeAt(v.Subnet.Addr()); o != nil && o.Subnet == v.Subnet {
				return &o.Scope
			}
			return nil
		},
	}.erased(),
	plan.KindRule: editing[plan.Rule, api.RuleEdit]{
		kind: plan.KindRule, in: func(e *api.Edit) **api.RuleEdit { return &e.Rule }, old: ruleNamed,
		name: func(r *plan.Rule) *string { return &r.Name }, fields: ruleFields,
	}.erased(),
	plan.KindReservation: editing[plan.Reservation, api.ReservationEdit]{
		kind: plan.KindReservation, in: func(e *api.Edit) **api.ReservationEdit { return &e.Reservation },
		old:  (*plan.Plan).ReservationNamed,
		name: func(r *plan.Reservation) *string { return &r.Name }, fields: reservationFields,
		alike: func(p *plan.Plan, v *plan.Reservation) *plan.Reservation {
			if o := p.ReservationAt(v.Address); o != nil && o.Client() == v.Client() {
				return o
			}
			return nil
		},
	}.erased(),
	plan.KindTrial: editing[plan.Trial, api.TrialEdit]{
		kind: plan.KindTrial, in: func(e *api.Edit) **api.TrialEdit { return &e.Trial }, old: (*plan.Plan).TrialNamed,
		name: func(t *plan.Trial) *string { return &t.Name }, fields: trialFields,
	}.erased(),
}

func scopeNamed(p *plan.Plan, name string) *plan.Scope {
	if v := p.ScopeNamed(name); v != nil {
		return &v.Scope
	}
	return nil
}

func ruleNamed(p *plan.Plan, name string) *plan.Rule {
	if r := p.RuleNamed(name); r != nil {
		return &r.Rule
	}
	return nil
}

// editing is how edits of a kind with names become items, and items edits.
type editing[T plan.Item, E any] struct {
	kind   plan.Kind
	in     func(*api.Edit) **E // what the edit sets
	old    func(p *plan.Plan, name string) *T
	name   func(*T) *string
	new    T // as it is before anything is set
	fields func(x *pass, v *T, in *E)
	alike  func(p *plan.Plan, v *T) *T // nil: such items are told apart by name alone
}

// edit makes the edit. An item that is added a second time has a twin in the one that is there:
// that is done if it changes nothing.
func (of editing[T, E]) edit(x *pass, e api.Edit, heir plan.Item) (complete bool) {
	in := *of.in(&e)
	if in == nil {
		return false
	}
	old, v := of.old(x.plan, e.Name), of.new
	*of.name(&v) = e.Name
	if e.Op == Set {
		if e.Op = Edit; old == nil {
			e.Op = Add
		}
	}
	var twin *T
	switch {
	case e.Op == Add || e.Op == Put:
		if twin = old; twin == nil && heir != nil {
			h := heir.(T)
			twin = &h
		}
	case old == nil:
		x.errs = append(x.errs, plan.Missing(of.kind, e.Name))
		return true
	default:
		v = *old
	}
	if x.op, x.twin = e.Op, nil; twin != nil {
		x.twin = *twin
	}
	if of.fields(x, &v, in); len(x.errs) > 0 {
		return true
	}
	item := plan.Item(v)
	if twin != nil {
		item = plan.Instead(of.kind, v, *twin)
		switch same := plan.Same(*twin, item); {
		case same:
			return true
		case e.Op == Add:
			x.errs = append(x.errs, differs(of.kind, e.Name, *twin, item))
			return true
		}
	}
	if _, err := x.draft.Put(of.kind, item); err != nil {
		x.errs = append(x.errs, err)
	}
	return true
}

func (of editing[T, E]) erased() editor {
	return editor{
		make: of.edit,
		say: func(x *pass, i plan.Item) api.Edit {
			v, in := i.(T), new(E)
			of.fields(x, &v, in)
			e := api.Edit{Op: Put, Kind: string(of.kind), Name: *of.name(&v)}
			*of.in(&e) = in
			return e
		},
		alike: func(p *plan.Plan, scratch *plan.Draft, e api.Edit) plan.Item {
			in := *of.in(&e)
			if of.alike == nil || in == nil || of.old(p, e.Name) != nil {
				return nil
			}
			v := of.new
			of.fields(&pass{around: nowhere{}, plan: p, draft: scratch, op: Put}, &v, in)
			if o := of.alike(p, &v); o != nil {
				return *o
			}
			return nil
		},
	}
}

// differs refuses to add an item a second time in another form.
func differs(kind plan.Kind, name string, old, next plan.Item) error {
	lines := plan.Diff([]plan.Change{{Kind: kind, Name: name, Before: old, After: next}}, func(plan.ID) string { return "" })
	var differ []string
	for _, l := range lines {
		differ = append(differ, l.Text)
	}
	return plan.Refused("%s %s is there already and differs (%s); change it with yarnpost %s edit, or choose another name", kind, name,
		strings.Join(differ, "; "), kind)
}

func makeDefaults(x *pass, e api.Edit, _ plan.Item) (complete bool) {
	if e.Defaults == nil || e.Op == Add {
		return false
	}
	v := x.plan.Defaults
	if e.Op == Put { // all the other operations edit what is always there
		v = plan.Defaults{}
	}
	if defaultsFields(x, &v, e.Defaults); len(x.errs) == 0 && !plan.Same(x.plan.Defaults, v) {
		if err := x.draft.SetDefaults(v); err != nil {
			x.errs = append(x.errs, err)
		}
	}
	return true
}

// nowhere is around edits that are made without a server.
type nowhere struct{}

// Nowhere is what is around an edit that is made without a server: nothing is known of the host
// and the network.
var Nowhere Around = nowhere{}

func (nowhere) Now() time.Time               { return time.Time{} }
func (nowhere) Interfaces() []plan.Interface { return nil }
func (nowhere) NetworkAt(netip.Addr) string  { return "" }

func (nowhere) Resolve(host string) (netip.Addr, error) {
	return netip.Addr{}, errors.New("write the address; what a name means may be another one tomorrow")
}

func (nowhere) Propose(*plan.Plan, *plan.View, *plan.Reservation) (netip.Addr, bool) {
	return netip.Addr{}, false
}
