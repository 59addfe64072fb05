package plan

import (
	"fmt"
	"iter"
	"maps"
	"net/netip"
	"slices"

	"go4.org/netipx"
)

// Supernet is a prefix around scopes and other supernets. What lies in it inherits from it:
// where something is belongs to its addresses, so nobody has to say it twice.
type Supernet struct {
	ID         ID           `json:"id"`
	Name       string       `json:"name"`
	Prefix     netip.Prefix `json:"prefix"`
	Identity   Identity     `json:"identity,omitempty"`
	Thresholds Thresholds   `json:"thresholds,omitzero"`
	Approval   bool         `json:"approval,omitempty"` // changes of it, and of what lies in it, need a second person's approval
	Settings
	Fields Fields `json:"fields,omitempty"`
	Note   string `json:"note,omitempty"`
}

func (s Supernet) describe(func(ID) string) []field {
	out := []field{{"name", s.Name}, {"prefix", s.Prefix.String()}, {"identity", string(s.Identity)}}
	out = append(out, when(s.Approval, "changes need approval", "yes")...)
	out = append(out, s.Thresholds.describe()...)
	return append(append(append(out, s.Settings.describe()...), s.Fields.describe()...), field{"note", s.Note})
}

// Supernet is the supernet with an id, or nil.
func (p *Plan) Supernet(id ID) *Supernet {
	s, _ := p.supernets.Get(id)
	return s
}

// SupernetNamed is the supernet with that name, or nil; case does not matter.
func (p *Plan) SupernetNamed(name string) *Supernet { return p.Supernet(p.id(KindSupernet, name)) }

// Supernets lists the supernets by prefix, each before those that lie in it.
func (p *Plan) Supernets() []*Supernet {
	out := make([]*Supernet, 0, p.nets.Size())
	for _, s := range p.supernets.All() {
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b *Supernet) int { return a.Prefix.Compare(b.Prefix) })
	return out
}

// Around lists the supernets that a prefix lies in, the outermost first.
func (p *Plan) Around(prefix netip.Prefix) (out []*Supernet) {
	if p.nets.Size() == 0 {
		return nil
	}
	for _, s := range p.nets.Supernets(prefix) {
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b *Supernet) int { return a.Prefix.Bits() - b.Prefix.Bits() })
	return out
}

// Inside lists the scopes in a prefix, by address.
func (p *Plan) Inside(prefix netip.Prefix) (out []*View) {
	for q, v := range p.subnets.Subnets(prefix) {
		if q == v.Subnet { // not one of its prefix pools
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b *View) int { return a.Subnet.Compare(b.Subnet) })
	return out
}

// Under reports whether what is set at a level holds in a scope: in a supernet around it, for 0
// in the defaults, or in the scope itself.
func (v *View) Under(level ID) bool { return slices.Contains(v.Levels, level) }

// Within reports whether all that is of one level, a scope or a supernet, is of another one, too.
func (p *Plan) Within(of, level ID) bool {
	if of == level || level == 0 {
		return true
	}
	outer, inner := p.prefixOf(level), p.prefixOf(of)
	return p.Supernet(level) != nil && inner.IsValid() && outer.Bits() <= inner.Bits() && outer.Contains(inner.Addr())
}

// prefixOf is the prefix of a supernet or a scope; the zero prefix for nothing.
func (p *Plan) prefixOf(id ID) netip.Prefix {
	if s := p.Supernet(id); s != nil {
		return s.Prefix
	}
	if v := p.Scope(id); v != nil {
		return v.Subnet
	}
	return netip.Prefix{}
}

// Overlapping yields the scopes whose subnet has an address of a prefix, without a walk over the
// others.
func (p *Plan) Overlapping(k netip.Prefix) iter.Seq[*View] {
	return func(yield func(*View) bool) {
		for q, v := range p.subnets.Supernets(k) {
			if q != k && !yield(v) {
				return
			}
		}
		for _, v := range p.subnets.Subnets(k) {
			if !yield(v) {
				return
			}
		}
	}
}

// PutSupernet adds a supernet (ID 0) or replaces it.
func (d *Draft) PutSupernet(s Supernet) (ID, error) {
	if err := d.checkSupernet(&s); err != nil {
		return 0, err
	}
	var before Item
	old := d.next.Supernet(s.ID)
	if old != nil {
		before = *old
		d.next.nets = d.next.nets.DeletePersist(old.Prefix)
		d.rename(KindSupernet, s.ID, old.Name, "")
	} else if s.ID == 0 {
		s.ID = d.newID()
	}
	d.next.supernets.Set(s.ID, &s)
	insert(d, &d.next.nets, s.Prefix, &s)
	d.rename(KindSupernet, s.ID, "", s.Name)
	d.note(KindSupernet, s.ID, s.Name, before, s)
	if old != nil && inheritsSame(old, &s) {
		return s.ID, nil
	}
	if old != nil && old.Prefix != s.Prefix {
		if err := d.poolsStay(s.ID); err != nil {
			return 0, err
		}
		d.recompileIn(old.Prefix)
	}
	d.recompileIn(s.Prefix)
	return s.ID, d.checkRouters("supernet "+s.Name, appendRouters(nil, d.next.values(s.Settings, Origin{Level: AtSupernet})))
}

// inheritsSame reports whether all that lies in a supernet inherits the same from both.
func inheritsSame(a, b *Supernet) bool {
	return a.Name == b.Name && a.Prefix == b.Prefix && a.Identity == b.Identity && a.Lease == b.Lease && a.Valid == b.Valid &&
		a.Thresholds == b.Thresholds &&
		maps.Equal(a.Options, b.Options)
}

func (d *Draft) recompileIn(p netip.Prefix) { d.recompileThem(d.next.Inside(p)) }

func (d *Draft) checkSupernet(s *Supernet) error {
	if err := d.checkHead(KindSupernet, s.ID, s.Name, &s.Fields); err != nil {
		return err
	}
	switch {
	case !s.Prefix.IsValid() || s.Prefix.Masked() != s.Prefix:
		return Refused("supernet %s needs a prefix like 10.40.0.0/16 or 2001:db8:40::/48", s.Name)
	}
	if other, there := d.next.nets.Get(s.Prefix); there && other.ID != s.ID {
		return Refused("supernet %s has the prefix %s of supernet %s; a prefix is of one supernet", s.Name, s.Prefix, other.Name)
	}
	for p, v := range d.next.subnets.Supernets(s.Prefix) {
		if p != s.Prefix {
			return Refused("supernet %s (%s) would cut scope %s (%s) in two; a supernet lies around whole scopes", s.Name, s.Prefix,
				v.Name, v.Subnet)
		}
	}
	if err := checkIdentity(s.Identity); err != nil {
		return fmt.Errorf("supernet %s: %w", s.Name, err)
	}
	if err := s.Thresholds.check(); err != nil {
		return Refused("supernet %s: %v", s.Name, err)
	}
	if err := d.checkSettings(&s.Settings); err != nil {
		return fmt.Errorf("supernet %s: %w", s.Name, err)
	}
	return nil
}

// uncut refuses a scope in which a supernet lies.
func (d *Draft) uncut(s *Scope) error {
	for p, n := range d.next.nets.Subnets(s.Subnet) {
		if p != s.Subnet {
			return Refused("supernet %s (%s) would cut scope %s (%s) in two; a supernet lies around whole scopes", n.Name, n.Prefix,
				s.Name, s.Subnet)
		}
	}
	return nil
}

// poolsStay refuses that a rule of a supernet sends clients to a pool outside of it.
func (d *Draft) poolsStay(id ID) error {
	n := d.next.Supernet(id)
	for _, r := range d.next.catalog.ruleOf[id] {
		if r.Pool.Valid() && !n.Prefix.Contains(r.Pool.From) {
			return Refused("rule %s of supernet %s sends clients to pool %s, which lies outside of %s; change the rule first", r.Name,
				n.Name,
				r.Pool, n.Prefix)
		}
	}
	return nil
}

// RemoveSupernet removes a supernet with its rules. What lies in it stays, and inherits from
// what is around it.
func (d *Draft) RemoveSupernet(name string) error {
	s := d.next.SupernetNamed(name)
	if s == nil {
		return Missing(KindSupernet, name)
	}
	for _, r := range d.next.Rules() {
		if r.Supernet == s.ID {
			d.dropRule(r)
		}
	}
	d.next.supernets.Remove(s.ID)
	d.next.nets = d.next.nets.DeletePersist(s.Prefix)
	d.rename(KindSupernet, s.ID, s.Name, "")
	d.note(KindSupernet, s.ID, s.Name, *s, nil)
	d.recompileIn(s.Prefix)
	return nil
}

// Stretch is a part of a prefix: a scope or a supernet that lies there, or neither.
type Stretch struct {
	Prefix   netip.Prefix
	Scope    *View
	Supernet *Supernet
}

// Free reports whether nothing lies there.
func (s Stretch) Free() bool { return s.Scope == nil && s.Supernet == nil }

// Stretches are the parts of a prefix by address, without gaps: the outermost of what lies in
// it, and the largest prefixes that are free.
func (p *Plan) Stretches(in netip.Prefix) (out []Stretch) {
	var free netipx.IPSetBuilder
	free.AddPrefix(in)
	for q, n := range p.nets.Subnets(in) {
		if q == in {
			continue
		}
		if around := p.Around(q); len(around) < 2 || around[len(around)-2].Prefix.Bits() <= in.Bits() {
			out = append(out, Stretch{Prefix: q, Supernet: n})
			free.RemovePrefix(q)
		}
	}
	for q, v := range p.subnets.Subnets(in) {
		if around := v.Around; len(around) == 0 || around[len(around)-1].Prefix.Bits() <= in.Bits() {
			out = append(out, Stretch{Prefix: q, Scope: v})
			free.RemovePrefix(q)
		}
	}
	if set, err := free.IPSet(); err == nil { // no prefix here is invalid
		for _, q := range set.Prefixes() {
			out = append(out, Stretch{Prefix: q})
		}
	}
	slices.SortFunc(out, func(a, b Stretch) int { return a.Prefix.Compare(b.Prefix) })
	return out
}

// NextFree lists the lowest prefixes of a length in a prefix in which nothing lies, at most so
// many. Smaller gaps are used first, so that large ones stay whole.
func (p *Plan) NextFree(in netip.Prefix, bits, most int) (out []netip.Prefix) {
	var gaps []netip.Prefix
	for _, s := range p.Stretches(in) {
		if s.Free() && s.Prefix.Bits() <= bits && bits <= in.Addr().BitLen() {
			gaps = append(gaps, s.Prefix)
		}
	}
	slices.SortStableFunc(gaps, func(a, b netip.Prefix) int { return b.Bits() - a.Bits() })
	for _, g := range gaps {
		for q := netip.PrefixFrom(g.Addr(), bits); len(out) < most && g.Contains(q.Addr()); {
			out = append(out, q)
			next := netipx.PrefixLastIP(q).Next()
			if !next.IsValid() {
				break
			}
			q = netip.PrefixFrom(next, bits)
		}
	}
	return out
}
