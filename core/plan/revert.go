package plan

// Revert undoes the changes of an earlier revision. What was changed
// again since is not undone: that is refused, naming it.
func (d *Draft) Revert(changes []Change) error {
	var back []Change
	for _, c := range changes {
		now, _ := d.item(c.Kind, c.ID)
		if now == nil && c.Before == nil {
			continue // it went with something else
		}
		if !Same(now, c.After) {
			text := "it is there again"
			if lines := Diff([]Change{{Kind: c.Kind, ID: c.ID, Name: c.Name, Before: c.After, After: now}}, d.Label); c.After != nil &&
				len(lines) > 0 {
				text = lines[0].Text
			}
			return Refused("%s %s was changed again since (%s); change it back by hand", c.Kind, c.Name, text)
		}
		back = append(back, Change{Kind: c.Kind, ID: c.ID, Name: c.Name, Before: now, After: c.Before})
	}
	return d.make(back)
}
