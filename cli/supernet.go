package cli

import (
	"flag"
	"fmt"
	"strings"

	"yarnpost/api"
)

func supernetCommands() []command {
	out := both("supernet", "Define a supernet: what lies in its prefix inherits from it", "Change a supernet; what is not named stays",
		"  yarnpost supernet add west-mill --prefix 10.77.0.0/16 --lease 4h --option domain-name=west.mill.example",
		func(f *flag.FlagSet) func(*call, string) (api.Edit, func() error, error) {
			var s api.SupernetEdit
			prefix := f.String("prefix", "", "`prefix` such as 10.77.0.0/16")
			lease := f.String("lease", "", "lease `time` of what lies in it, such as 8h (default: inherited)")
			approval := f.Bool("approval", false, "changes of it, and of what lies in it, need a second person's approval")
			identity := f.String("identity", "", "`what` tells clients apart: identifier or hardware (default: inherited)")
			var options optionFlag
			var unset listFlag
			f.Var(&options, "option", "`name=value`, by option name or code (repeatable)")
			f.Var(&unset, "unset", "`name` of an option to inherit again (repeatable)")
			var warn warnFlags
			warn.register(f)
			name := f.String("name", "", "new `name`")
			note := f.String("note", "", "`text` for people")
			own := ownFields(f)
			return func(k *call, op string) (api.Edit, func() error, error) {
				if op == "add" && *prefix == "" {
					return api.Edit{}, nil, usagef("yarnpost supernet add needs --prefix, such as --prefix 10.77.0.0/16")
				}
				s = api.SupernetEdit{Name: pick(f, "name", name), Prefix: pick(f, "prefix", prefix), Lease: pick(f, "lease", lease),
					Identity: pick(f, "identity", identity), Approval: pick(f, "approval", approval), Options: options,
					Fields: *own, Note: pick(f, "note", note),
					WarnUsed: pick(f, "warn-used", &warn.used), WarnHeadroom: pick(f, "warn-headroom", &warn.headroom),
					WarnDays: pick(f, "warn-days", &warn.days)}
				for _, o := range unset {
					if s.Options == nil {
						s.Options = map[string]string{}
					}
					s.Options[o] = ""
				}
				now := k.args[0]
				if *name != "" {
					now = *name
				}
				return api.Edit{Supernet: &s},
					found(func() ([]api.Supernet, error) { return k.client.Supernets(k.ctx, "") },
						func(n api.Supernet) string { return n.Name }, now), nil
			}
		})
	out = append(out, supernetViews()...)
	return append(out, removing("supernet", "Remove a supernet with its rules; what lies in it stays"))
}

// supernetViews are the commands that show supernets.
func supernetViews() []command {
	return []command{
		{name: "supernet list", short: "List supernets, each before what lies in it, with the use of their scopes", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				search := f.String("search", "", "only supernets with this `text` in name, prefix or note")
				return func(k *call) error {
					list, err := k.client.Supernets(k.ctx, *search)
					if err != nil {
						return err
					}
					t := newTable("Name", "Prefix", "Scopes", "Size", "Active", "Headroom", "Used", "Lease", "Note").without("Note", "Size")
					for _, n := range list {
						t.row(k.nested(n), n.Prefix, fmt.Sprint(n.Scopes), count(n.Usage.Size), count(n.Usage.Active),
							count(n.Usage.Headroom), used(n.Usage), n.Lease, n.Note)
					}
					return k.show(list, t, "No supernet is defined. yarnpost supernet add -h shows how.")
				}
			}},
		{name: "supernet show", args: "NAME", short: "Show a supernet", least: 1, most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Supernets(k.ctx, "")
					if err != nil {
						return err
					}
					for _, n := range list {
						if strings.EqualFold(n.Name, k.args[0]) {
							return k.show(n, supernetTable(n), "")
						}
					}
					return fmt.Errorf("no supernet is called %q; yarnpost supernet list shows all", k.args[0])
				}
			}},
		{name: "supernet space", args: "NAME", short: "Show what a supernet is made of, and what in it is free", least: 1, most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					s, err := k.client.Space(k.ctx, k.args[0], 0, 0)
					if err != nil {
						return err
					}
					t := newTable("Prefix", "What", "Name")
					for _, p := range s.Parts {
						t.row(p.Prefix, p.What, p.Name)
					}
					return k.show(s, t, "")
				}
			}},
		{name: "supernet next", args: "NAME", short: "List the next free prefixes in a supernet; small gaps are used first", least: 1,
			most: 1, more: "  yarnpost supernet next west-mill --bits 24 --count 3",
			flags: func(f *flag.FlagSet) func(*call) error {
				bits := f.Int("bits", 0, "`length` of the prefixes, such as 24")
				count := f.Int("count", 1, "`number` of them, at most")
				return func(k *call) error {
					if *bits < 1 || *count < 1 || *count > 1000 {
						return usagef("yarnpost supernet next needs --bits, such as --bits 24, and up to 1000 for --count")
					}
					s, err := k.client.Space(k.ctx, k.args[0], *bits, *count)
					if err != nil {
						return err
					}
					if k.json || k.csv {
						t := newTable("Prefix")
						for _, p := range s.Next {
							t.row(p)
						}
						return k.show(s.Next, t, "")
					}
					for _, p := range s.Next {
						fmt.Fprintln(k.out, p)
					}
					if len(s.Next) == 0 {
						return fmt.Errorf("no /%d is free in supernet %s; yarnpost supernet space %s shows what is", *bits, k.args[0], k.args[0])
					}
					return nil
				}
			}},
	}
}

// nested is a supernet's name below what it lies in: for the eye, and not for other programs.
func (k *call) nested(n api.Supernet) string {
	if k.csv {
		return n.Name
	}
	return strings.Repeat("  ", len(n.In)) + n.Name
}

func supernetTable(n api.Supernet) *table {
	t := newTable("Setting", "Value")
	t.row("name", n.Name)
	t.row("prefix", n.Prefix)
	if len(n.In) > 0 {
		t.row("lies in", strings.Join(n.In, " › "))
	}
	if n.Lease != "" {
		t.row("lease time", n.Lease)
	}
	if n.Approval {
		t.row("changes", "need a second person's approval")
	}
	if n.Identity != "" {
		t.row("clients told apart by", n.Identity)
	}
	for _, o := range n.Options {
		t.row(fmt.Sprintf("option %d", o.Code), o.Name+" = "+o.Value)
	}
	ownRows(t, n.Fields)
	if n.Note != "" {
		t.row("note", n.Note)
	}
	u := n.Usage
	t.row("scopes", fmt.Sprint(n.Scopes))
	t.row("in the pools", fmt.Sprintf("%v addresses, %v more excluded", u.Size, u.Excluded))
	t.row("in use", fmt.Sprintf("%d active, %d offered, %d abandoned", u.Active, u.Offered, u.Abandoned))
	t.row("headroom", fmt.Sprintf("%v addresses (%s used)", u.Headroom, used(u)))
	return t
}
