package plan

import "fmt"

// Stored is an item as it comes from where plans are kept.
type Stored struct {
	Kind Kind
	Item Item
}

// Items are all items of the plan, in the order in which they can be put back.
func (p *Plan) Items() (out []Stored) {
	for _, k := range kinds {
		for _, i := range k.all(p) {
			out = append(out, Stored{k.name, i})
		}
	}
	return out
}

// Restore builds a plan from stored items, in any order, which keep their ids.
func Restore(revision int64, items []Stored) (*Plan, error) {
	d := New().Draft()
	d.alone, d.trusted = true, true
	byKind := map[Kind][]Item{}
	for _, s := range items {
		byKind[s.Kind] = append(byKind[s.Kind], s.Item)
	}
	for _, k := range kinds {
		for _, i := range byKind[k.name] {
			id, err := k.put(d, i)
			if err != nil {
				return nil, fmt.Errorf("restore plan: %w", err)
			}
			d.next.lastID = max(d.next.lastID, id)
		}
	}
	d.next.Revision = revision
	return d.next, nil
}

// KeepIDsAbove makes sure that new items get ids above last, which may have
// belonged to items that are gone.
func (p *Plan) KeepIDsAbove(last ID) *Plan {
	n := *p
	n.lastID = max(n.lastID, last)
	return &n
}

// Replay is the plan after a revision that was made elsewhere, given what it changed
// here. Items keep their ids.
func (p *Plan) Replay(revision int64, changes []Change) (*Plan, error) {
	d := p.Draft()
	d.trusted = true // the plan that it comes from serves meanwhile
	if err := d.make(changes); err != nil {
		return nil, fmt.Errorf("revision %d: %w", revision, err)
	}
	d.next.Revision = revision
	return d.next, nil
}

// make makes changes that were worked out elsewhere: what refers to others goes first and comes
// last. Items keep their ids.
func (d *Draft) make(changes []Change) error {
	for i := len(kinds) - 1; i >= 0; i-- { // what refers to others goes first
		k := kinds[i]
		for _, c := range changes {
			if c.Kind != k.name || c.After != nil || k.remove == nil {
				continue
			}
			if _, name := k.named(d.next, c.ID); name != "" {
				if err := k.remove(d, name); err != nil {
					return err
				}
			}
		}
	}
	if err := d.makeRoom(changes); err != nil {
		return err
	}
	for _, k := range kinds {
		var left []Change
		for _, c := range changes {
			if c.Kind == k.name && c.After != nil {
				left = append(left, c)
				if _, name := k.named(d.next, c.ID); name != "" {
					d.rename(k.name, c.ID, name, "") // two may have changed places
				}
			}
		}
		for len(left) > 0 { // one may need what another has still: a name, a subnet
			var again []Change
			var refusal error
			for _, c := range left {
				id, err := k.put(d, c.After)
				if err != nil {
					if again = append(again, c); refusal == nil {
						refusal = err
					}
					continue
				}
				d.next.lastID = max(d.next.lastID, id)
			}
			if len(again) == len(left) {
				return refusal
			}
			left = again
		}
	}
	return nil
}

// Become makes a draft what another plan is, whatever lies between: each item as it is there,
// under the id that it has there. Both must be of one line, in which an id is of one item. What
// cannot be any more is refused, such as a reservation of what belongs to the network now.
func (d *Draft) Become(of *Plan) error { return d.make(Between(d.next, of)) }

// Before is the plan as it was before some changes, the newest first: none of its
// items is checked again.
func (p *Plan) Before(revision int64, changes []Change) (*Plan, error) {
	type key struct {
		kind Kind
		id   ID
	}
	items := map[key]Item{}
	var order []key
	for _, of := range kinds {
		for _, i := range of.all(p) {
			k := key{of.name, of.id(i)}
			items[k] = i
			order = append(order, k)
		}
	}
	for _, c := range changes {
		k := key{c.Kind, c.ID}
		if _, there := items[k]; !there && c.Before != nil {
			order = append(order, k)
		}
		if c.Before == nil {
			delete(items, k)
		} else {
			items[k] = c.Before
		}
	}
	var list []Stored
	for _, k := range order {
		if i, there := items[k]; there {
			list = append(list, Stored{k.kind, i})
			delete(items, k)
		}
	}
	return Restore(revision, list)
}

// Between lists what differs between two plans, whatever lies between them.
func Between(old, next *Plan) (out []Change) {
	for _, k := range kinds {
		was := map[ID]Item{}
		for _, i := range k.all(old) {
			was[k.id(i)] = i
		}
		for _, i := range k.all(next) {
			id := k.id(i)
			if before, there := was[id]; !there || !Same(before, i) {
				out = append(out, Change{Kind: k.name, ID: id, Name: k.called(i), Before: before, After: i})
			}
			delete(was, id)
		}
		for _, i := range k.all(old) {
			if id := k.id(i); was[id] != nil {
				out = append(out, Change{Kind: k.name, ID: id, Name: k.called(i), Before: i})
			}
		}
	}
	return out
}
