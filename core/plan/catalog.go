package plan

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/rule"
)

// fork copies the items, so that the copy may be written.
func (f catalog) fork() catalog {
	clone := func() catalog {
		return catalog{codebooks: maps.Clone(f.codebooks), lists: maps.Clone(f.lists), rules: maps.Clone(f.rules), trials: maps.Clone(f.trials),
			fields: maps.Clone(f.fields),
			books:  f.books, message: f.message, ready: f.ready, ruleOf: f.ruleOf}
	}
	out := clone()
	if out.codebooks == nil {
		out.codebooks, out.lists, out.rules, out.trials = map[ID]*Codebook{}, map[ID]*List{}, map[ID]*CompiledRule{}, map[ID]*Trial{}
	}
	if out.fields == nil {
		out.fields = map[ID]*OwnField{}
	}
	return out
}

// compiled works out what look-ups need.
func (f catalog) compiled() catalog {
	f.books = map[string]*option.Codebook{option.HeaderBook: option.Header4}
	own := option.Standard4.All()
	for _, c := range f.codebooks {
		if c.Place != InMessage {
			book := option.NewCodebook(c.Name, c.defs())
			if c.Place == In17 {
				book.Most = math.MaxUint16
			}
			f.books[strings.ToLower(c.Name)] = book
			continue
		}
		for _, d := range c.defs() {
			own = slices.DeleteFunc(own, func(o option.Def) bool {
				if o.Code == d.Code { // its registered name is understood all the same
					d.RFCName = o.Title
				}
				return o.Code == d.Code
			})
			own = append(own, d)
		}
	}
	f.message = option.NewCodebook("options of the message", own)
	named := map[string][]string{}
	for _, l := range f.lists {
		entries := make([]string, len(l.Entries))
		for i, e := range l.Entries {
			entries[i] = e.String()
		}
		named[l.Name] = entries
	}
	f.ready = rule.NewLists(named)
	f.ruleOf = map[ID][]*CompiledRule{}
	for _, r := range f.rules {
		if !r.Off {
			f.ruleOf[r.Of()] = append(f.ruleOf[r.Of()], r)
		}
	}
	for _, list := range f.ruleOf {
		slices.SortFunc(list, func(a, b *CompiledRule) int { return cmp.Or(cmp.Compare(a.Order, b.Order), cmp.Compare(a.ID, b.ID)) })
	}
	return f
}

func (c *Codebook) defs() (out []option.Def) {
	for _, o := range c.Options {
		out = append(out, option.Def{Code: o.Code, Title: o.Name, Type: o.Type, Meaning: o.Meaning})
	}
	return out
}

// Fits reports whether the codebook is for clients of a vendor class.
func (c *Codebook) Fits(class string) bool {
	return slices.ContainsFunc(c.Classes, func(want string) bool {
		if head, open := strings.CutSuffix(want, "*"); open {
			return strings.HasPrefix(class, head)
		}
		return class == want
	})
}

// Def is the definition behind a key.
func (p *Plan) Def(k option.Key) (option.Def, error) {
	switch {
	case k.Family == option.V6 && k.Book == "":
		return option.Standard6.ByCode(k.Code), nil
	case k.Family == option.V6 && k.Book == option.HeaderBook:
		return option.Header6.Lookup(strconv.Itoa(int(k.Code)))
	case k.Book == "":
		return p.catalog.message.ByCode(k.Code), nil
	}
	book := p.catalog.books[k.Book]
	if book == nil {
		return option.Def{}, fmt.Errorf("there is no codebook %q; yarnpost codebook list shows all", k.Book)
	}
	return book.Lookup(strconv.Itoa(int(k.Code)))
}

// Key finds an option by what people write: a code or a name, with the codebook
// and a slash before it where it is a vendor's, such as accesspoint/controller
// or header/boot-file, and v6/ before an option of DHCPv6, such as v6/dns-servers or
// v6/header/renewal-time. A codebook whose options travel in DHCPv6 needs no v6/ before it.
func (p *Plan) Key(text string) (option.Key, option.Def, error) {
	book, name, inBook := strings.Cut(strings.ToLower(strings.TrimSpace(text)), "/")
	if inBook && book == "v6" {
		if of, field, booked := strings.Cut(name, "/"); booked && of == option.HeaderBook {
			d, err := option.Header6.Lookup(field)
			return option.Key{Family: option.V6, Book: option.HeaderBook, Code: d.Code}, d, err
		} else if booked {
			return p.Key(name)
		}
		d, err := option.Standard6.Lookup(name)
		return option.Std6(d.Code), d, err
	}
	if !inBook {
		d, err := p.catalog.message.Lookup(book)
		return option.Std(d.Code), d, err
	}
	if c := p.CodebookNamed(book); c != nil && c.Place == InMessage {
		for _, o := range c.Options {
			if o.Name == name || strconv.Itoa(int(o.Code)) == name {
				return option.Std(o.Code), p.catalog.message.ByCode(o.Code), nil
			}
		}
		return option.Key{}, option.Def{}, fmt.Errorf("codebook %s has no option %q; yarnpost codebook list shows all", c.Name, name)
	}
	codes := p.catalog.books[book]
	if codes == nil {
		return option.Key{}, option.Def{}, fmt.Errorf("there is no codebook %q; yarnpost codebook list shows all", book)
	}
	d, err := codes.Lookup(name)
	k := option.Key{Book: book, Code: d.Code}
	if c := p.CodebookNamed(book); c != nil && c.Place == In17 {
		k.Family = option.V6
	}
	return k, d, err
}

// KeyName is a key as people read it: the option's name, after its codebook.
func (p *Plan) KeyName(k option.Key) string {
	d, err := p.Def(k)
	if err != nil {
		return k.String()
	}
	switch {
	case k.Family == option.V6 && k.Book == "":
		return "v6/" + d.Name()
	case k.Family == option.V6 && k.Book == option.HeaderBook:
		return "v6/header/" + d.Name()
	case k.Book == "":
		return d.Name()
	}
	return k.Book + "/" + d.Name()
}

// Codes is the codebook of the message's own options: registered ones and the
// administrator's own.
func (p *Plan) Codes() *option.Codebook { return p.catalog.message }

// Codebooks lists the administrator's codebooks by name.
func (p *Plan) Codebooks() []*Codebook {
	return slices.SortedFunc(maps.Values(p.catalog.codebooks), func(a, b *Codebook) int { return strings.Compare(a.Name, b.Name) })
}

// CodebookNamed is the codebook with that name, or nil; case does not matter.
func (p *Plan) CodebookNamed(name string) *Codebook {
	return p.catalog.codebooks[p.id(KindCodebook, name)]
}

// Lists lists the lists by name.
func (p *Plan) Lists() []*List {
	return slices.SortedFunc(maps.Values(p.catalog.lists), func(a, b *List) int { return strings.Compare(a.Name, b.Name) })
}

// ListNamed is the list with that name, or nil; case does not matter.
func (p *Plan) ListNamed(name string) *List { return p.catalog.lists[p.id(KindList, name)] }

// ReadyLists are all lists as rules use them.
func (p *Plan) ReadyLists() *rule.Lists { return p.catalog.ready }

// Rules lists all rules: those of the defaults first, then by supernet, outer ones first, then
// by scope; in order.
func (p *Plan) Rules() []*CompiledRule {
	return slices.SortedFunc(maps.Values(p.catalog.rules), func(a, b *CompiledRule) int {
		return cmp.Or(cmp.Compare(a.rank(), b.rank()), p.prefixOf(a.Supernet).Compare(p.prefixOf(b.Supernet)),
			strings.Compare(p.Label(a.Scope), p.Label(b.Scope)), cmp.Compare(a.Order, b.Order), cmp.Compare(a.ID, b.ID))
	})
}

// rank orders rules by the kind of level that they are of.
func (r *CompiledRule) rank() Level {
	switch {
	case r.Scope != 0:
		return AtScope
	case r.Supernet != 0:
		return AtSupernet
	}
	return AtDefaults
}

// RuleNamed is the rule with that name, or nil; case does not matter.
func (p *Plan) RuleNamed(name string) *CompiledRule { return p.catalog.rules[p.id(KindRule, name)] }

// RulesOf are the rules of a scope that are on, or those of the defaults for 0,
// in order.
func (p *Plan) RulesOf(of ID) []*CompiledRule { return p.catalog.ruleOf[of] }

// Ruled reports whether any rule is asked of the clients of a scope.
func (p *Plan) Ruled(v *View) bool {
	return len(p.catalog.ruleOf) > 0 && slices.ContainsFunc(v.Levels, func(of ID) bool { return len(p.catalog.ruleOf[of]) > 0 })
}

// Trials lists the trials by name.
func (p *Plan) Trials() []*Trial {
	return slices.SortedFunc(maps.Values(p.catalog.trials), func(a, b *Trial) int { return strings.Compare(a.Name, b.Name) })
}

// TrialNamed is the trial with that name, or nil; case does not matter.
func (p *Plan) TrialNamed(name string) *Trial { return p.catalog.trials[p.id(KindTrial, name)] }

// confined reports whether a rule keeps the pool of a scope for its clients.
func (p *Plan) confined(scope ID, pool addr.Range) bool {
	for _, r := range p.catalog.rules {
		if !r.Off && r.Pool == pool && (r.Scope == scope || r.Scope == 0) {
			return true
		}
	}
	return false
}
