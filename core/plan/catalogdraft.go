package plan

import (
	"fmt"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/rule"
)

// This file holds the edits of codebooks, lists, rules and trials.

// PutCodebook adds a codebook (ID 0) or replaces it. A codebook keeps its name
// for good, since options are set by it.
func (d *Draft) PutCodebook(c Codebook) (ID, error) {
	if err := d.checkHead(KindCodebook, c.ID, c.Name, &c.Fields); err != nil {
		return 0, err
	}
	if c.Name != option.Slug(c.Name) || option.Reserved(c.Name) {
		return 0, Refused("%q cannot be the name of a codebook; use lower-case letters, digits and single dashes, and not header, v4 or v6",
			c.Name)
	}
	old := d.next.catalog.codebooks[c.ID]
	if old != nil && old.Name != c.Name {
		return 0, Refused("codebook %s keeps its name, since options are set by it", old.Name)
	}
	if err := checkBook(&c); err != nil {
		return 0, err
	}
	for _, other := range d.next.catalog.codebooks {
		if other.ID == c.ID || other.Place != c.Place {
			continue
		}
		if (c.Place == In125 || c.Place == In17) && other.Enterprise == c.Enterprise {
			return 0, Refused("codebook %s has enterprise number %d already", other.Name, c.Enterprise)
		}
		for _, o := range other.Options {
			if c.Place == InMessage && slices.ContainsFunc(c.Options, func(n Own) bool { return n.Code == o.Code }) {
				return 0, Refused("codebook %s defines code %d of the message already", other.Name, o.Code)
			}
		}
	}
	var before Item
	if old != nil {
		before = *old
	} else if c.ID == 0 {
		c.ID = d.newID()
	}
	d.next.catalog.codebooks[c.ID] = &c
	d.rename(KindCodebook, c.ID, "", c.Name)
	d.note(KindCodebook, c.ID, c.Name, before, c)
	return c.ID, d.rework()
}

func checkBook(c *Codebook) error {
	switch c.Place {
	case InMessage:
		if len(c.Classes) > 0 || c.Enterprise != 0 {
			return Refused("codebook %s: options of the message are for every client; vendor classes and an enterprise number belong to options in 43 and 125", c.Name)
		}
	case InVendor:
		if len(c.Classes) == 0 {
			return Refused("codebook %s: options in 43 need the vendor class they are for, such as accesspoint or accesspoint*", c.Name)
		}
		if c.Enterprise != 0 {
			return Refused("codebook %s: an enterprise number belongs to options in 125", c.Name)
		}
	case In125, In17:
		if c.Enterprise == 0 {
			return Refused("codebook %s: options in %s need an enterprise number", c.Name, c.Place)
		}
	default:
		return Refused("codebook %s: its options travel in the message, in 43, in 125, or in 17 of DHCPv6; %q is none of these", c.Name, c.Place)
	}
	c.Options = slices.Clone(c.Options)
	slices.SortFunc(c.Options, func(a, b Own) int { return int(a.Code) - int(b.Code) })
	for i, o := range c.Options {
		switch {
		case c.Place == In17 && o.Code != 0 && o.Code >= option.End: // two octets have room for it
		case o.Code == 0 || o.Code >= option.End:
			return Refused("codebook %s: code %d is padding or the end; codes go from 1 to 254", c.Name, o.Code)
		case o.Name == "" || o.Name != option.Slug(o.Name):
			return Refused("codebook %s: %q cannot be the name of code %d; use lower-case letters, digits and single dashes", c.Name, o.Name, o.Code)
		case len(o.Type.Fields) == 0:
			return Refused("codebook %s: code %d needs a type, such as address or text", c.Name, o.Code)
		case i > 0 && c.Options[i-1].Code == o.Code:
			return Refused("codebook %s defines code %d twice", c.Name, o.Code)
		case slices.ContainsFunc(c.Options[:i], func(p Own) bool { return p.Name == o.Name }):
			return Refused("codebook %s has the name %s twice", c.Name, o.Name)
		case c.Place == InMessage && option.Standard4.Named(o.Name) && option.Slug(option.Standard4.ByCode(o.Code).Title) != o.Name:
			return Refused("codebook %s: %s is the name of a registered option; choose another for code %d", c.Name, o.Name, o.Code)
		case c.Place == InMessage && (option.Standard4.ByCode(o.Code).Managed || o.Code == option.SubnetMask || o.Code == option.Router):
			return Refused("codebook %s: option %d is set or read by the service itself and keeps its type; a value can be given as %s and octets",
				c.Name, o.Code, option.RawPrefix)
		}
	}
	return nil
}

// rework makes everything again that depends on codebooks, and refuses values
// that no longer fit.
func (d *Draft) rework() error {
	d.next.catalog = d.next.catalog.compiled()
	check := func(what string, s Settings) error {
		for k, text := range s.Options {
			def, err := d.next.Def(k)
			if err == nil && text != NoValue {
				_, err = def.Type.Encode(text)
			}
			if err != nil {
				return Refused("%s sets option %s: %v; unset it there first", what, k, err)
			}
		}
		return nil
	}
	if err := check("the defaults", d.next.Defaults.Settings); err != nil {
		return err
	}
	for _, s := range d.next.Supernets() {
		if err := check("supernet "+s.Name, s.Settings); err != nil {
			return err
		}
	}
	for _, s := range d.next.Scopes() {
		if err := check("scope "+s.Name, s.Settings); err != nil {
			return err
		}
	}
	for _, r := range d.next.reserved.byID.All() {
		if len(r.Options) > 0 {
			if err := check("reservation "+r.Name, r.Settings); err != nil {
				return err
			}
		}
	}
	for _, r := range d.next.catalog.rules {
		if err := check("rule "+r.Name, r.Settings); err != nil {
			return err
		}
		n := *r
		n.Values, n.Takes = d.next.values(r.Settings, Origin{AtRule, r.Name}), takes(r.Settings)
		d.next.catalog.rules[r.ID] = &n
	}
	d.next.catalog = d.next.catalog.compiled()
	d.recompileAll()
	return nil
}

// RemoveCodebook removes a codebook that nothing uses.
func (d *Draft) RemoveCodebook(name string) error {
	c := d.next.CodebookNamed(name)
	if c == nil {
		return Missing(KindCodebook, name)
	}
	delete(d.next.catalog.codebooks, c.ID)
	d.rename(KindCodebook, c.ID, c.Name, "")
	d.note(KindCodebook, c.ID, c.Name, *c, nil)
	return d.rework()
}

// PutList adds a list (ID 0) or replaces it.
func (d *Draft) PutList(l List) (ID, error) {
	if err := d.checkHead(KindList, l.ID, l.Name, &l.Fields); err != nil {
		return 0, err
	}
	l.Entries = slices.Clone(l.Entries)
	slices.Sort(l.Entries)
	l.Entries = slices.Compact(l.Entries)
	if len(l.Entries) > 0 && l.Entries[0] == "" {
		return 0, Refused("list %s has an empty entry", l.Name)
	}
	var before Item
	if old := d.next.catalog.lists[l.ID]; old != nil {
		if user := d.listUser(old.Name); old.Name != l.Name && user != "" {
			return 0, Refused("rule %s looks into list %s; change the rule first", user, old.Name)
		}
		before = *old
		d.rename(KindList, l.ID, old.Name, "")
	} else if l.ID == 0 {
		l.ID = d.newID()
	}
	d.next.catalog.lists[l.ID] = &l
	d.rename(KindList, l.ID, "", l.Name)
	d.next.catalog = d.next.catalog.compiled()
	d.note(KindList, l.ID, l.Name, before, l)
	return l.ID, nil
}

// listUser is a rule that looks into a list, or "".
func (d *Draft) listUser(name string) string {
	for _, r := range d.next.catalog.rules {
		if slices.Contains(r.Program.Lists, name) {
			return r.Name
		}
	}
	return ""
}

// RemoveList removes a list that no rule uses.
func (d *Draft) RemoveList(name string) error {
	l := d.next.ListNamed(name)
	if l == nil {
		return Missing(KindList, name)
	}
	if user := d.listUser(l.Name); user != "" {
		return Refused("rule %s looks into list %s; change the rule first", user, l.Name)
	}
	delete(d.next.catalog.lists, l.ID)
	d.next.catalog = d.next.catalog.compiled()
	d.rename(KindList, l.ID, l.Name, "")
	d.note(KindList, l.ID, l.Name, *l, nil)
	return nil
}

// poolScope is the scope that has exactly this pool, or 0.
func (p *Plan) poolScope(pool addr.Range) ID {
	if v := p.ScopeAt(pool.From); v != nil && slices.Contains(v.Pools, pool) {
		return v.ID
	}
	return 0
}

// PutRule adds a rule (ID 0) or replaces it. A rule without an order comes
// last.
func (d *Draft) PutRule(r Rule) (ID, error) {
	if err := d.checkHead(KindRule, r.ID, r.Name, &r.Fields); err != nil {
		return 0, err
	}
	program, err := rule.Compile(r.When)
	if err != nil {
		return 0, Refused("rule %s: %v", r.Name, err)
	}
	for _, name := range program.Lists {
		if l := d.next.ListNamed(name); l == nil || l.Name != name {
			return 0, Refused("rule %s looks into list %q, which is not there; yarnpost list add %s makes it", r.Name, name, name)
		}
	}
	if err := d.checkOf(&r); err != nil {
		return 0, err
	}
	switch r.Action {
	case Give, Ignore, Refuse, ReservedOnly:
	default:
		return 0, Refused("rule %s: %q is nothing a rule does; use ignore, refuse or reserved, or leave it out to give values", r.Name, r.Action)
	}
	if r.Action == Ignore || r.Action == Refuse {
		if r.Pool.Valid() || r.Lease != 0 || len(r.Options) > 0 {
			return 0, Refused("rule %s: who is ignored or refused gets no values; take pool, lease time and options away", r.Name)
		}
	} else if r.Action == Give && !r.Pool.Valid() && r.Lease == 0 && len(r.Options) == 0 {
		return 0, Refused("rule %s does nothing; set a lease time, an option, a pool, ignore, refuse or reserved", r.Name)
	}
	if r.Pool.Valid() {
		of := d.next.poolScope(r.Pool)
		if of == 0 {
			return 0, Refused("rule %s: %s is no pool of any scope; add it to a scope as a pool of its own first", r.Name, r.Pool)
		}
		if r.Scope != 0 && of != r.Scope {
			return 0, Refused("rule %s is of scope %s, but pool %s is of scope %s", r.Name, d.Label(r.Scope), r.Pool, d.Label(of))
		}
		if n := d.next.Supernet(r.Supernet); n != nil && !n.Prefix.Contains(r.Pool.From) {
			return 0, Refused("rule %s is of supernet %s, but pool %s lies outside of %s", r.Name, n.Name, r.Pool, n.Prefix)
		}
	}
	if err := d.checkSettings(&r.Settings); err != nil {
		return 0, fmt.Errorf("rule %s: %w", r.Name, err)
	}
	old := d.next.catalog.rules[r.ID]
	if r.Order == 0 {
		for _, o := range d.next.catalog.rules {
			if o.Of() == r.Of() && o.ID != r.ID {
				r.Order = max(r.Order, o.Order)
			}
		}
		r.Order = r.Order/10*10 + 10
	}
	var before Item
	if old != nil {
		before = old.Rule
		d.rename(KindRule, r.ID, old.Name, "")
	} else if r.ID == 0 {
		r.ID = d.newID()
	}
	d.next.catalog.rules[r.ID] = &CompiledRule{Rule: r, Program: program, Values: d.next.values(r.Settings, Origin{AtRule, r.Name}),
		Takes: takes(r.Settings)}
	d.rename(KindRule, r.ID, "", r.Name)
	d.next.catalog = d.next.catalog.compiled()
	d.repool(old, &r)
	d.note(KindRule, r.ID, r.Name, before, r)
	return r.ID, nil
}

// checkOf refuses a rule of something that is not there.
func (d *Draft) checkOf(r *Rule) error {
	switch {
	case r.Scope != 0 && r.Supernet != 0:
		return Refused("rule %s is of a scope and of a supernet; a rule is of one of them", r.Name)
	case r.Scope != 0 && d.next.Scope(r.Scope) == nil:
		return Refused("rule %s is of a scope that is not there", r.Name)
	case r.Supernet != 0 && d.next.Supernet(r.Supernet) == nil:
		return Refused("rule %s is of a supernet that is not there", r.Name)
	}
	return nil
}

// repool makes the scopes again whose pools a rule did or does confine.
func (d *Draft) repool(old *CompiledRule, r *Rule) {
	var pools []addr.Range
	if old != nil {
		pools = append(pools, old.Pool)
	}
	if r != nil {
		pools = append(pools, r.Pool)
	}
	if old.routes() || r != nil && r.Options[option.Std(option.Router)] != "" {
		if of := d.ruleScope(old, r); of != 0 {
			d.recompileThem([]*View{d.next.Scope(of)})
		} else {
			d.recompileAll()
		}
	}
	for _, p := range pools {
		if id := d.next.poolScope(p); p.Valid() && id != 0 {
			d.recompile(d.next.Scope(id).Scope)
		}
	}
}

// routes reports whether a rule, which may be nil, sets a router.
func (r *CompiledRule) routes() bool {
	return r != nil && r.Options[option.Std(option.Router)] != ""
}

// ruleScope is the one scope that a rule is or was of, or 0 for more.
func (d *Draft) ruleScope(old *CompiledRule, r *Rule) ID {
	switch {
	case old == nil:
		return r.Scope
	case r == nil || r.Of() == old.Of():
		return old.Scope
	}
	return 0
}

func (d *Draft) dropRule(r *CompiledRule) {
	delete(d.next.catalog.rules, r.ID)
	d.next.catalog = d.next.catalog.compiled()
	d.rename(KindRule, r.ID, r.Name, "")
	d.repool(r, nil)
	d.note(KindRule, r.ID, r.Name, r.Rule, nil)
}

// RemoveRule removes a rule.
func (d *Draft) RemoveRule(name string) error {
	r := d.next.RuleNamed(name)
	if r == nil {
		return Missing(KindRule, name)
	}
	d.dropRule(r)
	return nil
}

// PutTrial adds a trial (ID 0) or replaces it.
func (d *Draft) PutTrial(t Trial) (ID, error) {
	if err := d.checkHead(KindTrial, t.ID, t.Name, &t.Fields); err != nil {
		return 0, err
	}
	if d.next.Scope(t.Scope) == nil {
		return 0, Refused("trial %s needs a scope", t.Name)
	}
	if len(t.Hardware) != 6 {
		return 0, Refused("trial %s needs a hardware address like 02:00:00:00:00:17", t.Name)
	}
	if t.Every != 0 && time.Duration(t.Every) < time.Minute {
		return 0, Refused("trial %s: once a minute is the most", t.Name)
	}
	var before Item
	if old := d.next.catalog.trials[t.ID]; old != nil {
		before = *old
		d.rename(KindTrial, t.ID, old.Name, "")
	} else if t.ID == 0 {
		t.ID = d.newID()
	}
	d.next.catalog.trials[t.ID] = &t
	d.rename(KindTrial, t.ID, "", t.Name)
	d.note(KindTrial, t.ID, t.Name, before, t)
	return t.ID, nil
}

func (d *Draft) dropTrial(t *Trial) {
	delete(d.next.catalog.trials, t.ID)
	d.rename(KindTrial, t.ID, t.Name, "")
	d.note(KindTrial, t.ID, t.Name, *t, nil)
}

// RemoveTrial removes a trial.
func (d *Draft) RemoveTrial(name string) error {
	t := d.next.TrialNamed(name)
	if t == nil {
		return Missing(KindTrial, name)
	}
	d.dropTrial(t)
	return nil
}
