package plan

import "slices"

// Reshaped lists the scopes whose subnets or pools differ between two revisions,
// given what changed between them, and says whether any subnet came, went or
// changed.
func Reshaped(old, p *Plan, changes []Change) (ids []ID, subnets bool) {
	if !slices.ContainsFunc(changes, func(c Change) bool { return c.Kind != KindReservation && c.Kind != KindTrial && c.Kind != KindList }) {
		return nil, false
	}
	for id, v := range p.scopes.All() {
		was := old.Scope(id)
		if was == v {
			continue
		}
		if was == nil || was.Subnet != v.Subnet || !slices.Equal(was.PrefixPools, v.PrefixPools) {
			subnets = true
		} else if slices.EqualFunc(was.Parts, v.Parts, Part.equal) {
			continue
		}
		ids = append(ids, id)
	}
	for id := range old.scopes.All() {
		if p.Scope(id) == nil {
			ids, subnets = append(ids, id), true
		}
	}
	slices.Sort(ids) // the same plans are the same work, so that a simulation can be repeated
	return ids, subnets
}

func (p Part) equal(o Part) bool {
	return p.Pool == o.Pool && p.Confined == o.Confined && p.Length == o.Length && slices.Equal(p.Ranges, o.Ranges)
}
