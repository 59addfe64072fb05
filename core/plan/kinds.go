package plan

import (
	"encoding/json"
	"fmt"
)

// descriptor is what the plan has to know of a kind of item. A new kind is a constant, a
// struct with describe, its edits, and a row of kinds: restoring, storing, reverting,
// redoing, comparing, naming and removing go by these.
type descriptor[T Item] struct {
	name   Kind
	ids    func(*T) []ref                    // where ids of items stand in it; its own first
	called func(*T) string                   // nil: there is but one, without a name
	put    func(*Draft, T) (ID, error)       // adds it, or replaces the one with its id
	remove func(d *Draft, name string) error // nil: it is always there
	get    func(p *Plan, id ID) *T           // nil for none
	all    func(p *Plan) []*T                // by name, or as they are asked
	fields func(*T) *Fields                  // of one's own; nil: it has none
}

// ref is where in an item the id of an item stands, which may be 0 for none.
type ref struct {
	kind Kind
	id   *ID
	part part
}

// part is what an id is in an item.
type part uint8

const (
	own     part = iota // the item's own
	belongs             // of an item that it belongs to: it goes with that
	refers              // of another item
)

// kinds are in the order in which items can be put back: what others refer to
// comes first.
var kinds []kind

func init() { // they refer to what goes by them
	kinds = []kind{aboutOwnFields(), aboutCodebooks(), aboutDefaults(), aboutLists(), aboutSupernets(), aboutLinks(), aboutScopes(),
		aboutRules(),
		aboutReservations(), aboutTrials()}
}

func aboutCodebooks() kind {
	return descriptor[Codebook]{
		name:   KindCodebook,
		ids:    func(c *Codebook) []ref { return []ref{{KindCodebook, &c.ID, own}} },
		called: func(c *Codebook) string { return c.Name },
		fields: func(c *Codebook) *Fields { return &c.Fields },
		put:    (*Draft).PutCodebook, remove: (*Draft).RemoveCodebook,
		get: func(p *Plan, id ID) *Codebook { return p.catalog.codebooks[id] }, all: (*Plan).Codebooks,
	}.erased()
}

func aboutOwnFields() kind {
	return descriptor[OwnField]{
		name:   KindField,
		ids:    func(f *OwnField) []ref { return []ref{{KindField, &f.ID, own}} },
		called: func(f *OwnField) string { return f.Name },
		put:    (*Draft).PutOwnField, remove: (*Draft).RemoveOwnField,
		get: func(p *Plan, id ID) *OwnField { return p.catalog.fields[id] }, all: (*Plan).OwnFields,
	}.erased()
}

func aboutDefaults() kind {
	return descriptor[Defaults]{
		name: KindDefaults,
		put:  func(d *Draft, v Defaults) (ID, error) { return 0, d.SetDefaults(v) },
		get:  func(p *Plan, _ ID) *Defaults { return &p.Defaults }, all: func(p *Plan) []*Defaults { return []*Defaults{&p.Defaults} },
	}.erased()
}

func aboutLists() kind {
	return descriptor[List]{
		name:   KindList,
		ids:    func(l *List) []ref { return []ref{{KindList, &l.ID, own}} },
		called: func(l *List) string { return l.Name },
		fields: func(l *List) *Fields { return &l.Fields },
		put:    (*Draft).PutList, remove: (*Draft).RemoveList,
		get: func(p *Plan, id ID) *List { return p.catalog.lists[id] }, all: (*Plan).Lists,
	}.erased()
}

func aboutSupernets() kind {
	return descriptor[Supernet]{
		name:   KindSupernet,
		ids:    func(s *Supernet) []ref { return []ref{{KindSupernet, &s.ID, own}} },
		called: func(s *Supernet) string { return s.Name },
		fields: func(s *Supernet) *Fields { return &s.Fields },
		put:    (*Draft).PutSupernet, remove: (*Draft).RemoveSupernet,
		get: (*Plan).Supernet, all: (*Plan).Supernets,
	}.erased()
}

func aboutLinks() kind {
	return descriptor[Link]{
		name:   KindLink,
		ids:    func(l *Link) []ref { return []ref{{KindLink, &l.ID, own}} },
		called: func(l *Link) string { return l.Name },
		fields: func(l *Link) *Fields { return &l.Fields },
		put:    (*Draft).PutLink, remove: (*Draft).RemoveLink,
		get: (*Plan).Link, all: (*Plan).Links,
	}.erased()
}

func aboutScopes() kind {
	return descriptor[Scope]{
		name:   KindScope,
		ids:    func(s *Scope) []ref { return []ref{{KindScope, &s.ID, own}, {KindLink, &s.Link, belongs}} },
		called: func(s *Scope) string { return s.Name },
		fields: func(s *Scope) *Fields { return &s.Fields },
		put:    (*Draft).PutScope, remove: (*Draft).RemoveScope,
		get: func(p *Plan, id ID) *Scope {
			if v := p.Scope(id); v != nil {
				return &v.Scope
			}
			return nil
		},
		all: func(p *Plan) (out []*Scope) {
			for _, v := range p.Scopes() {
				out = append(out, &v.Scope)
			}
			return out
		},
	}.erased()
}

func aboutRules() kind {
	return descriptor[Rule]{
		name: KindRule,
		ids: func(r *Rule) []ref {
			return []ref{{KindRule, &r.ID, own}, {KindScope, &r.Scope, belongs}, {KindSupernet, &r.Supernet, belongs}}
		},
		called: func(r *Rule) string { return r.Name },
		fields: func(r *Rule) *Fields { return &r.Fields },
		put:    (*Draft).PutRule, remove: (*Draft).RemoveRule,
		get: func(p *Plan, id ID) *Rule {
			if r := p.catalog.rules[id]; r != nil {
				return &r.Rule
			}
			return nil
		},
		all: func(p *Plan) (out []*Rule) {
			for _, r := range p.Rules() {
				out = append(out, &r.Rule)
			}
			return out
		},
	}.erased()
}

func aboutReservations() kind {
	return descriptor[Reservation]{
		name: KindReservation,
		ids: func(r *Reservation) []ref {
			return []ref{{KindReservation, &r.ID, own}, {KindScope, &r.Scope, belongs}}
		},
		called: func(r *Reservation) string { return r.Name },
		fields: func(r *Reservation) *Fields { return &r.Fields },
		put:    (*Draft).PutReservation, remove: (*Draft).RemoveReservation,
		get: func(p *Plan, id ID) *Reservation { r, _ := p.reserved.byID.Get(id); return r },
		all: func(p *Plan) []*Reservation { return p.Reservations(0) },
	}.erased()
}

func aboutTrials() kind {
	return descriptor[Trial]{
		name:   KindTrial,
		ids:    func(t *Trial) []ref { return []ref{{KindTrial, &t.ID, own}, {KindScope, &t.Scope, belongs}} },
		called: func(t *Trial) string { return t.Name },
		fields: func(t *Trial) *Fields { return &t.Fields },
		put:    (*Draft).PutTrial, remove: (*Draft).RemoveTrial,
		get: func(p *Plan, id ID) *Trial { return p.catalog.trials[id] }, all: (*Plan).Trials,
	}.erased()
}

// kind is a descriptor without its type.
type kind struct {
	name   Kind
	decode func([]byte) (Item, error)
	open   func(Item) (refs []ref, now func() Item) // where ids stand in a copy of an item; the copy as it is then
	called func(Item) string
	put    func(*Draft, Item) (ID, error)
	remove func(d *Draft, name string) error
	get    func(p *Plan, id ID) Item // nil for none
	all    func(*Plan) []Item
	fields func(Item) Fields // of one's own; nil: such items have none
	// withFields is an item with other values of fields.
	withFields func(Item, Fields) Item
}

func (d descriptor[T]) erased() kind {
	k := kind{name: d.name, remove: d.remove}
	k.decode = func(body []byte) (Item, error) {
		var v T
		err := json.Unmarshal(body, &v)
		return v, err
	}
	k.open = func(i Item) ([]ref, func() Item) {
		v := i.(T)
		var refs []ref
		if d.ids != nil {
			refs = d.ids(&v)
		}
		return refs, func() Item { return v }
	}
	k.called = func(i Item) string {
		if d.called == nil {
			return ""
		}
		v := i.(T)
		return d.called(&v)
	}
	if d.fields != nil {
		k.fields = func(i Item) Fields { v := i.(T); return *d.fields(&v) }
		k.withFields = func(i Item, f Fields) Item {
			v := i.(T)
			*d.fields(&v) = f
			return v
		}
	}
	k.put = func(draft *Draft, i Item) (ID, error) { return d.put(draft, i.(T)) }
	k.get = func(p *Plan, id ID) Item {
		if v := d.get(p, id); v != nil {
			return *v
		}
		return nil
	}
	k.all = func(p *Plan) (out []Item) {
		for _, v := range d.all(p) {
			out = append(out, *v)
		}
		return out
	}
	return k
}

// id is an item's own id; 0 for kinds of which there is but one.
func (k kind) id(i Item) ID {
	refs, _ := k.open(i)
	if len(refs) == 0 {
		return 0
	}
	return *refs[0].id
}

// named is what a plan has under an id, with its name; nil for nothing.
func (k kind) named(p *Plan, id ID) (Item, string) {
	i := k.get(p, id)
	if i == nil {
		return nil, ""
	}
	return i, k.called(i)
}

// moved is an item under another id, with the ids of other items as they are elsewhere.
func (k kind) moved(i Item, id ID, there func(Kind, ID) (ID, error)) (Item, error) {
	refs, now := k.open(i)
	for _, r := range refs {
		switch {
		case r.part == own:
			*r.id = id
		case *r.id != 0:
			to, err := there(r.kind, *r.id)
			if err != nil {
				return nil, err
			}
			*r.id = to
		}
	}
	return now(), nil
}

// Instead is an item under the id of another one of its kind.
func Instead(name Kind, i, of Item) Item {
	k, err := kindOf(name)
	if err != nil {
		return i
	}
	i, _ = k.moved(i, k.id(of), func(_ Kind, id ID) (ID, error) { return id, nil })
	return i
}

func kindOf(name Kind) (kind, error) {
	for _, k := range kinds {
		if k.name == name {
			return k, nil
		}
	}
	return kind{}, fmt.Errorf("unknown kind of item %q; was this written by a newer version?", name)
}

// Kinds are the kinds of items, in the order in which they can be put back.
func Kinds() (out []Kind) {
	for _, k := range kinds {
		out = append(out, k.name)
	}
	return out
}

// Names are the names of the items of a kind; none for kinds without names.
func (p *Plan) Names(of Kind) (out []string, err error) {
	k, err := kindOf(of)
	if err != nil {
		return nil, err
	}
	for _, i := range k.all(p) {
		if name := k.called(i); name != "" {
			out = append(out, name)
		}
	}
	return out, nil
}

// Decode reads an item as it was stored, in JSON. Nothing is nil.
func Decode(name Kind, body []byte) (Item, error) {
	k, err := kindOf(name)
	if err != nil || body == nil {
		return nil, err
	}
	return k.decode(body)
}

// Parent is the item that an item belongs to; ok is false for kinds that belong
// to none.
func Parent(name Kind, i Item) (id ID, ok bool) {
	k, err := kindOf(name)
	if err != nil || i == nil {
		return 0, false
	}
	refs, _ := k.open(i)
	for _, r := range refs {
		if r.part == belongs {
			id, ok = max(id, *r.id), true
		}
	}
	return id, ok
}

// Put adds an item of a kind, or replaces the one with its id.
func (d *Draft) Put(name Kind, i Item) (ID, error) {
	k, err := kindOf(name)
	if err != nil {
		return 0, Refused("%v", err)
	}
	return k.put(d, i)
}

// Remove removes the item of a kind with that name.
func (d *Draft) Remove(name Kind, called string) error {
	k, err := kindOf(name)
	if err != nil {
		return Refused("%v", err)
	}
	if k.remove == nil {
		return Refused("the %s cannot be removed; edit them", name)
	}
	return k.remove(d, called)
}

// item is what the draft has of a kind under an id, and its name; nil for
// nothing.
func (d *Draft) item(name Kind, id ID) (Item, string) {
	k, err := kindOf(name)
	if err != nil {
		return nil, ""
	}
	return k.named(d.next, id)
}

// Label is the name of the item with an id, or "".
func (p *Plan) Label(id ID) string {
	for _, k := range kinds {
		if i, name := k.named(p, id); i != nil && name != "" {
			return name
		}
	}
	return ""
}
