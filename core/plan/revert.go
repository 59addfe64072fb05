package plan

import "slices"

// Put adds an item, or replaces the one with its id.
func (d *Draft) Put(i Item) (err error) {
	switch v := i.(type) {
	case Defaults:
		err = d.SetDefaults(v)
	case Codebook:
		_, err = d.PutCodebook(v)
	case List:
		_, err = d.PutList(v)
	case Link:
		_, err = d.PutLink(v)
	case Scope:
		_, err = d.PutScope(v)
	case Rule:
		_, err = d.PutRule(v)
	case Reservation:
		_, err = d.PutReservation(v)
	case Trial:
		_, err = d.PutTrial(v)
	}
	return err
}

// item is what the draft has of a kind under an id, and its name; nil for
// nothing.
func (d *Draft) item(kind Kind, id ID) (Item, string) {
	p := d.next
	switch kind {
	case KindDefaults:
		return p.Defaults, ""
	case KindCodebook:
		if v := p.few.codebooks[id]; v != nil {
			return *v, v.Name
		}
	case KindList:
		if v := p.few.lists[id]; v != nil {
			return *v, v.Name
		}
	case KindLink:
		if v := p.Link(id); v != nil {
			return *v, v.Name
		}
	case KindScope:
		if v := p.Scope(id); v != nil {
			return v.Scope, v.Name
		}
	case KindRule:
		if v := p.few.rules[id]; v != nil {
			return v.Rule, v.Name
		}
	case KindReservation:
		if v, ok := p.reserved.byID.get(id); ok {
			return *v, v.Name
		}
	case KindTrial:
		if v := p.few.trials[id]; v != nil {
			return *v, v.Name
		}
	}
	return nil, ""
}

func (d *Draft) remove(kind Kind, name string) error {
	switch kind {
	case KindCodebook:
		return d.RemoveCodebook(name)
	case KindList:
		return d.RemoveList(name)
	case KindLink:
		return d.RemoveLink(name)
	case KindScope:
		return d.RemoveScope(name)
	case KindRule:
		return d.RemoveRule(name)
	case KindReservation:
		return d.RemoveReservation(name)
	}
	return d.RemoveTrial(name)
}

// Revert undoes the changes of an earlier revision, last first. What was changed
// again since is not undone: that is refused, naming it.
func (d *Draft) Revert(changes []Change) error {
	for _, c := range slices.Backward(changes) {
		now, name := d.item(c.Kind, c.ID)
		if now == nil && c.Before == nil {
			continue // it went with something else
		}
		if lines := Diff([]Change{{Kind: c.Kind, ID: c.ID, Name: c.Name, Before: c.After, After: now}}, d.Label); len(lines) > 0 && c.After != nil || now != nil && c.After == nil {
			text := "it is there again"
			if len(lines) > 0 {
				text = lines[0].Text
			}
			return refuse("%s %s was changed again since (%s); change it back by hand", c.Kind, c.Name, text)
		}
		var err error
		if c.Before == nil {
			err = d.remove(c.Kind, name)
		} else {
			err = d.Put(c.Before)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
