package plan

// Redo makes what a revision of another line of this plan changed in this one. Both
// lines know an item by one id as long as it is from before they parted; what the
// other line added itself, as made says, is found by its name. What cannot be done
// as it was done there is refused, naming it.
func (d *Draft) Redo(changes []Change, made func(Kind, ID) (name string, ok bool)) error {
	for _, c := range changes {
		if err := d.again(c, made); err != nil {
			return err
		}
	}
	return nil
}

func (d *Draft) again(c Change, made func(Kind, ID) (string, bool)) error {
	here := func(kind Kind, id ID) (ID, error) {
		name, ok := made(kind, id)
		if !ok || id == 0 {
			return id, nil
		}
		if id = d.next.id(kind, name); id == 0 {
			return 0, Refused("%s %s is not in this plan; apply the revision that added it first", kind, name)
		}
		return id, nil
	}
	k, err := kindOf(c.Kind)
	if err != nil {
		return Refused("%v", err)
	}
	if c.Before == nil {
		if c.Kind == KindLink && d.next.id(c.Kind, c.Name) != 0 {
			return nil // a link comes along with the first scope on it
		}
		after, err := k.moved(c.After, 0, here)
		if err == nil {
			_, err = k.put(d, after)
		}
		return err
	}
	id, err := here(c.Kind, c.ID)
	if err != nil && c.After == nil {
		return nil // it is gone here, too
	} else if err != nil {
		return err
	}
	now, name := k.named(d.next, id)
	before, err := k.moved(c.Before, id, here)
	switch {
	case err != nil:
		return err
	case now == nil && c.After == nil:
		return nil
	case !Same(now, before):
		return Refused("%s %s is not what it was when this was changed; change it by hand", c.Kind, c.Name)
	case c.After == nil:
		return d.Remove(c.Kind, name)
	}
	after, err := k.moved(c.After, id, here)
	if err == nil {
		_, err = k.put(d, after)
	}
	return err
}
