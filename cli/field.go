package cli

import (
	"errors"
	"flag"
	"maps"
	"slices"
	"strings"

	"yarnpost/api"
)

// This file has the commands for fields of one's own, and the flags by which items get values of them.

// fieldFlag collects --field NAME=VALUE.
type fieldFlag map[string]string

func (o *fieldFlag) String() string { return "" }

func (o *fieldFlag) Set(v string) error {
	name, value, ok := strings.Cut(v, "=")
	if !ok || name == "" {
		return errors.New("write a field as NAME=VALUE, such as location=\"Hall 3\"; NAME= takes the value away")
	}
	if *o == nil {
		*o = fieldFlag{}
	}
	(*o)[name] = value
	return nil
}

// ownFields is the flag that gives an item values of fields of one's own.
func ownFields(f *flag.FlagSet) *fieldFlag {
	own := &fieldFlag{}
	f.Var(own, "field", "`name=value` of a field of your own; no value takes it away (repeatable)")
	return own
}

// withFields is the flag that lists only items with values of fields of one's own.
func withFields(f *flag.FlagSet) *listFlag {
	own := &listFlag{}
	f.Var(own, "field", "only with this `name=value` of a field of your own (repeatable)")
	return own
}

// ownRows shows the values that an item has.
func ownRows(t *table, fields map[string]string) {
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		t.row(name, fields[name])
	}
}

func fieldCommands() []command {
	put := func(op, short, more string) command {
		return command{name: "field " + op, args: "NAME", short: short, least: 1, most: 1, write: true, more: more,
			flags: func(f *flag.FlagSet) func(*call) error {
				of := f.String("type", "text", "`type` of its values: text, number, date, choice, address or link")
				var choices, on listFlag
				f.Var(&choices, "choice", "`text` that it can be, with --type choice (repeatable)")
				f.Var(&on, "on", "`kind` of items that can have it, such as scope or reservation (repeatable; default: all)")
				note := f.String("note", "", "`text` for people")
				return func(k *call) error {
					e := &api.FieldEdit{Type: pick(f, "type", of), Note: pick(f, "note", note)}
					if given(f, "choice") {
						e.Choices = (*[]string)(&choices)
					}
					if given(f, "on") {
						e.On = (*[]string)(&on)
					}
					return k.change([]api.Edit{{Op: op, Kind: "field", Name: k.args[0], Field: e}}, false, nil)
				}
			}}
	}
	return []command{
		put("add", "Define a field of your own, such as a location or a ticket, for items of the plan",
			"  yarnpost field add location --on scope --on reservation\n"+
				"  yarnpost field add line --type choice --choice copper --choice fibre --on scope\n"+
				"  yarnpost scope edit looms --field location=\"Hall 3\""),
		put("edit", "Change what a field of your own can be; it keeps its name", ""),
		{name: "field list", short: "List fields of your own", most: 0, flags: func(*flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.OwnFields(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Name", "Type", "Choices", "On", "Used", "Note")
				for _, f := range list {
					t.row(f.Name, f.Type, strings.Join(f.Choices, ", "), strings.Join(f.On, ", "), count(f.Used), f.Note)
				}
				return k.show(list, t, "There is no field of your own yet. yarnpost field add -h shows how to begin.")
			}
		}},
		{name: "field remove", args: "NAME", short: "Remove a field of your own, with the values that items have of it", least: 1, most: 1, write: true,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					return k.change([]api.Edit{{Op: "remove", Kind: "field", Name: k.args[0]}}, true, nil)
				}
			}},
	}
}
