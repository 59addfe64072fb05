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
	d.alone = true
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
