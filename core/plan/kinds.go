package plan

import (
	"encoding/json"
	"fmt"
)

// kind is what the plan has to know of a kind of item. A new kind is a constant,
// a struct with describe, its edits, and a line here: restoring, reverting,
// storing and removing go by this table.
type kind struct {
	name   Kind
	decode func([]byte) (Item, error)
	place  place                               // its id and that of the item it belongs to, where it has them
	put    func(*Draft, Item) (ID, error)      // adds it, or replaces the one with its id
	remove func(d *Draft, name string) error   // nil: it is always there
	get    func(p *Plan, id ID) (Item, string) // it and its name, or nil
	all    func(*Plan) []Item
}

// kinds are in the order in which items can be put back: what others refer to
// comes first.
var kinds = []kind{
	{KindCodebook, decodeAs[Codebook], placed(func(c *Codebook) (*ID, *ID) { return &c.ID, nil }),
		putAs((*Draft).PutCodebook), (*Draft).RemoveCodebook, func(p *Plan, id ID) (Item, string) {
			return named(p.catalog.codebooks[id], func(c *Codebook) string { return c.Name })
		}, func(p *Plan) []Item { return values(p.Codebooks()) }},
	{KindDefaults, decodeAs[Defaults], place{}, putAs(func(d *Draft, v Defaults) (ID, error) { return 0, d.SetDefaults(v) }), nil,
		func(p *Plan, _ ID) (Item, string) { return p.Defaults, "" }, func(p *Plan) []Item { return []Item{p.Defaults} }},
	{KindList, decodeAs[List], placed(func(l *List) (*ID, *ID) { return &l.ID, nil }),
		putAs((*Draft).PutList), (*Draft).RemoveList, func(p *Plan, id ID) (Item, string) {
			return named(p.catalog.lists[id], func(l *List) string { return l.Name })
		}, func(p *Plan) []Item { return values(p.Lists()) }},
	{KindLink, decodeAs[Link], placed(func(l *Link) (*ID, *ID) { return &l.ID, nil }),
		putAs((*Draft).PutLink), (*Draft).RemoveLink, func(p *Plan, id ID) (Item, string) {
			return named(p.Link(id), func(l *Link) string { return l.Name })
		}, func(p *Plan) []Item { return values(p.Links()) }},
	{KindScope, decodeAs[Scope], placed(func(s *Scope) (*ID, *ID) { return &s.ID, &s.Link }),
		putAs((*Draft).PutScope), (*Draft).RemoveScope,
		func(p *Plan, id ID) (Item, string) {
			if v := p.Scope(id); v != nil {
				return v.Scope, v.Name
			}
			return nil, ""
		}, func(p *Plan) (out []Item) {
			for _, v := range p.Scopes() {
				out = append(out, v.Scope)
			}
			return out
		}},
	{KindRule, decodeAs[Rule], placed(func(r *Rule) (*ID, *ID) { return &r.ID, &r.Scope }), putAs((*Draft).PutRule), (*Draft).RemoveRule,
		func(p *Plan, id ID) (Item, string) {
			if r := p.catalog.rules[id]; r != nil {
				return r.Rule, r.Name
			}
			return nil, ""
		}, func(p *Plan) (out []Item) {
			for _, r := range p.Rules() {
				out = append(out, r.Rule)
			}
			return out
		}},
	{KindReservation, decodeAs[Reservation], placed(func(r *Reservation) (*ID, *ID) { return &r.ID, &r.Scope }),
		putAs((*Draft).PutReservation),
		(*Draft).RemoveReservation, func(p *Plan, id ID) (Item, string) {
			r, _ := p.reserved.byID.Get(id)
			return named(r, func(r *Reservation) string { return r.Name })
		}, func(p *Plan) []Item { return values(p.Reservations(0)) }},
	{KindTrial, decodeAs[Trial], placed(func(t *Trial) (*ID, *ID) { return &t.ID, &t.Scope }),
		putAs((*Draft).PutTrial), (*Draft).RemoveTrial,
		func(p *Plan, id ID) (Item, string) {
			return named(p.catalog.trials[id], func(t *Trial) string { return t.Name })
		}, func(p *Plan) []Item { return values(p.Trials()) }},
}

// place is where the ids of an item stand.
type place struct {
	parent func(Item) ID                    // of the item it belongs to; nil if it belongs to none
	moved  func(i Item, id, parent ID) Item // the item under other ids; nil if it has none
}

// placed is made of where in an item its id stands and that of the item it belongs to,
// nil for none.
func placed[T Item](ids func(*T) (id, parent *ID)) (out place) {
	if _, parent := ids(new(T)); parent != nil {
		out.parent = func(i Item) ID {
			v := i.(T)
			_, parent := ids(&v)
			return *parent
		}
	}
	out.moved = func(i Item, id, parent ID) Item {
		v := i.(T)
		own, of := ids(&v)
		if *own = id; of != nil {
			*of = parent
		}
		return v
	}
	return out
}

func decodeAs[T Item](body []byte) (Item, error) {
	var v T
	err := json.Unmarshal(body, &v)
	return v, err
}

func putAs[T Item](put func(*Draft, T) (ID, error)) func(*Draft, Item) (ID, error) {
	return func(d *Draft, i Item) (ID, error) { return put(d, i.(T)) }
}

func named[T Item](v *T, name func(*T) string) (Item, string) {
	if v == nil {
		return nil, ""
	}
	return *v, name(v)
}

func values[T Item](list []*T) (out []Item) {
	for _, v := range list {
		out = append(out, *v)
	}
	return out
}

func kindOf(name Kind) (kind, error) {
	for _, k := range kinds {
		if k.name == name {
			return k, nil
		}
	}
	return kind{}, fmt.Errorf("unknown kind of item %q; was this written by a newer version?", name)
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
	if err != nil || k.place.parent == nil || i == nil {
		return 0, false
	}
	return k.place.parent(i), true
}

// moved is an item under another id and in another parent; kinds that have none keep
// what they are.
func moved(name Kind, i Item, id, parent ID) Item {
	if k, err := kindOf(name); err == nil && k.place.moved != nil && i != nil {
		return k.place.moved(i, id, parent)
	}
	return i
}

// ParentKind is the kind of item that items of a kind belong to.
func ParentKind(name Kind) Kind {
	if name == KindScope {
		return KindLink
	}
	return KindScope
}

// Put adds an item of a kind, or replaces the one with its id.
func (d *Draft) Put(name Kind, i Item) (ID, error) {
	k, err := kindOf(name)
	if err != nil {
		return 0, refuse("%v", err)
	}
	return k.put(d, i)
}

// Remove removes the item of a kind with that name.
func (d *Draft) Remove(name Kind, called string) error {
	k, err := kindOf(name)
	if err != nil {
		return refuse("%v", err)
	}
	if k.remove == nil {
		return refuse("the %s cannot be removed; edit them", name)
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
	return k.get(d.next, id)
}
