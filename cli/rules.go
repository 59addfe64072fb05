package cli

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yarnpost/api"
)

// found makes a check that a name is among those listed.
func found[T any](list func() ([]T, error), name func(T) string, want string) func() error {
	return func() error {
		all, err := list()
		if err == nil && !slices.ContainsFunc(all, func(v T) bool { return strings.EqualFold(name(v), want) }) {
			err = fmt.Errorf("%s is not there", want)
		}
		return err
	}
}

func removing(kind, short string) command {
	return command{name: kind + " remove", args: "NAME", short: short, least: 1, most: 1, write: true,
		flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				return k.change([]api.Edit{{Op: "remove", Kind: kind, Name: k.args[0]}}, true, nil)
			}
		}}
}

// both makes the add and the edit of a kind of item, which share their flags.
func both(kind, add, edit, more string, flags func(f *flag.FlagSet) func(*call, string) (api.Edit, func() error, error)) []command {
	one := func(op, short string) command {
		return command{name: kind + " " + op, args: "NAME", short: short, more: more, least: 1, most: 1, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				make := flags(f)
				return func(k *call) error {
					e, verify, err := make(k, op)
					if err != nil {
						return err
					}
					e.Op, e.Kind, e.Name = op, kind, k.args[0]
					return k.change(append([]api.Edit{e}, k.also...), false, verify)
				}
			}}
	}
	return []command{one("add", add), one("edit", edit)}
}

// levelOf says what a rule is of.
func levelOf(r api.Rule) string {
	switch {
	case r.Scope != "":
		return "scope " + r.Scope
	case r.Supernet != "":
		return "supernet " + r.Supernet
	}
	return "defaults"
}

func ruleCommands() []command {
	out := both("rule", "Define a rule: which clients it fits, and what they get or are refused", "Change a rule; what is not named stays",
		"  yarnpost rule add loom-boot --scope looms --when 'vendor.startsWith(\"loomctl\")' --option header/boot-file=loom.bin\n"+
			"  yarnpost rule add no-toys --when 'hw.startsWith(\"02:4c:00:\")' --ignore\n"+
			"  yarnpost rule add staff --scope visitors --when '\"staff\" in userClass' --pool 10.40.79.0-10.40.79.250 --lease 8h",
		func(f *flag.FlagSet) func(*call, string) (api.Edit, func() error, error) {
			when := f.String("when", "", "`condition` in CEL; yarnpost rule variables lists what it can ask")
			scope := f.String("scope", "", "`name` of the scope it is of (default: the defaults)")
			supernet := f.String("supernet", "", "`name` of the supernet it is of, instead of a scope")
			order := f.Int("order", 0, "`number` of its place, lower first (default: last)")
			ignore := f.Bool("ignore", false, "its clients hear nothing")
			refuse := f.Bool("refuse", false, "its clients are refused")
			reserved := f.Bool("reserved-only", false, "its clients get an address only by reservation")
			give := f.Bool("give", false, "its clients are served (takes ignore, refuse or reserved-only back)")
			pool := f.String("pool", "", "`range` of a pool that is for its clients alone")
			lease := f.String("lease", "", "lease `time` of its clients")
			var options optionFlag
			f.Var(&options, "option", "`name=value`, by option name or code (repeatable)")
			off := f.Bool("off", false, "keep it, but do not ask it")
			name := f.String("name", "", "new `name`")
			note := f.String("note", "", "`text` for people")
			own := ownFields(f)
			return func(k *call, op string) (api.Edit, func() error, error) {
				if op == "add" && *when == "" {
					return api.Edit{}, nil, usagef("yarnpost rule add needs --when, such as --when 'hw.startsWith(\"02:4c:00:\")'")
				}
				r := &api.RuleEdit{Name: pick(f, "name", name), When: pick(f, "when", when), Scope: pick(f, "scope", scope),
					Supernet: pick(f, "supernet", supernet), Order: pick(f, "order", order), Pool: pick(f, "pool", pool),
					Lease: pick(f, "lease", lease), Options: options, Off: pick(f, "off", off), Fields: *own, Note: pick(f, "note", note)}
				words := map[string]bool{"ignore": *ignore, "refuse": *refuse, "reserved": *reserved, "": *give}
				for word, set := range words {
					if set {
						if r.Action != nil {
							return api.Edit{}, nil, usagef("choose one of --ignore, --refuse, --reserved-only and --give")
						}
						r.Action = &word
					}
				}
				now := k.args[0]
				if *name != "" {
					now = *name
				}
				return api.Edit{Rule: r},
					found(func() ([]api.Rule, error) { return k.client.Rules(k.ctx, "") }, func(r api.Rule) string { return r.Name }, now), nil
			}
		})
	return append(out,
		command{name: "rule list", short: "List rules in the order in which they are asked, with how often each fitted", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				scope := f.String("scope", "", "only this scope's, by `name`")
				return func(k *call) error {
					list, err := k.client.Rules(k.ctx, *scope)
					if err != nil {
						return err
					}
					t := newTable("Of", "Order", "Name", "When", "Then", "Fitted", "Last")
					for _, r := range list {
						of, last := levelOf(r), "never"
						if r.Last != nil {
							last = k.when(*r.Last)
						}
						t.row(of, strconv.Itoa(r.Order), r.Name, r.When, then(r), fmt.Sprintf("%d×", r.Fitted), last)
					}
					return k.show(list, t, "No rule is defined. yarnpost rule add -h shows how.")
				}
			}},
		command{name: "rule show", args: "NAME", short: "Show a rule", least: 1, most: 1, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.Rules(k.ctx, "")
				if err != nil {
					return err
				}
				i := slices.IndexFunc(list, func(r api.Rule) bool { return strings.EqualFold(r.Name, k.args[0]) })
				if i < 0 {
					return fmt.Errorf("no rule is called %q; yarnpost rule list shows all", k.args[0])
				}
				r := list[i]
				t := newTable("Setting", "Value")
				t.row("name", r.Name)
				t.row("of", levelOf(r))
				t.row("order", strconv.Itoa(r.Order))
				t.row("when", r.When)
				t.row("then", then(r))
				t.row("fitted", fmt.Sprintf("%d requests since the start", r.Fitted))
				ownRows(t, r.Fields)
				if r.Note != "" {
					t.row("note", r.Note)
				}
				return k.show(r, t, "")
			}
		}},
		removing("rule", "Remove a rule"),
		command{name: "rule try", args: "CONDITION", short: "Say which clients on record a condition would fit", least: 1, most: 1,
			more: "  yarnpost rule try 'vendor.startsWith(\"deskphone\") && 150 in wants'",
			flags: func(f *flag.FlagSet) func(*call) error {
				scope := f.String("scope", "", "only clients of this scope, by `name`")
				return func(k *call) error {
					r, err := k.client.TryRule(k.ctx, api.RuleTry{When: k.args[0], Scope: *scope})
					if err != nil {
						return err
					}
					t := newTable("Address", "Hardware", "Host name", "Scope", "Vendor", "Status")
					for _, l := range r.Examples {
						t.row(l.Address, l.Hardware, l.Hostname, l.Scope, l.Vendor, l.Status)
					}
					if !k.json && !k.csv {
						fmt.Fprintf(k.out, "It would fit %d of %d clients on record, as they asked last.\n", r.Fits, r.Of)
						if r.Fits > 0 {
							fmt.Fprintln(k.out, "Some of them:")
						} else {
							return nil
						}
					}
					return k.show(r, t, "")
				}
			}},
		command{name: "rule variables", short: "List what a condition can ask of a request", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Variables(k.ctx)
					if err != nil {
						return err
					}
					t := newTable("Name", "Type", "Meaning", "Example")
					for _, v := range list {
						t.row(v.Name, v.Type, v.Meaning, v.Example)
					}
					return k.show(list, t, "")
				}
			}})
}

// then is what a rule does, in words.
func then(r api.Rule) string {
	var parts []string
	switch r.Action {
	case "ignore", "refuse":
		parts = append(parts, r.Action)
	case "reserved":
		parts = append(parts, "reserved clients only")
	}
	if r.Pool != "" {
		parts = append(parts, "pool "+r.Pool)
	}
	if r.Lease != "" {
		parts = append(parts, "lease "+r.Lease)
	}
	for _, o := range r.Options {
		parts = append(parts, o.Name+"="+o.Value)
	}
	text := strings.Join(parts, ", ")
	if r.Off {
		text += " (off)"
	}
	return text
}

func listCommands() []command {
	out := both("list", "Define a list of hardware addresses or identifiers, for rules", "Change a list",
		"  yarnpost list add lent --entry 02:40:10:00:00:07 --entry 02:40:10:00:00:08\n  yarnpost rule add lent-out --when 'hw in lists.lent' --lease 30m",
		func(f *flag.FlagSet) func(*call, string) (api.Edit, func() error, error) {
			var put, drop listFlag
			f.Var(&put, "entry", "hardware address or identifier in `hexadecimal` to add (repeatable)")
			f.Var(&drop, "drop", "`entry` to take away (repeatable)")
			name := f.String("name", "", "new `name`")
			note := f.String("note", "", "`text` for people")
			own := ownFields(f)
			return func(k *call, op string) (api.Edit, func() error, error) {
				now := k.args[0]
				if *name != "" {
					now = *name
				}
				return api.Edit{List: &api.ListEdit{Name: pick(f, "name", name), Put: put, Drop: drop, Fields: *own, Note: pick(f, "note", note)}},
					found(func() ([]api.List, error) { return k.client.Lists(k.ctx) }, func(l api.List) string { return l.Name }, now), nil
			}
		})
	return append(out,
		command{name: "list list", short: "List the lists", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.Lists(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Name", "Entries", "Rules", "Note")
				for _, l := range list {
					t.row(l.Name, strconv.Itoa(len(l.Entries)), strings.Join(l.Rules, " "), l.Note)
				}
				return k.show(list, t, "No list is defined. yarnpost list add -h shows how.")
			}
		}},
		command{name: "list show", args: "NAME", short: "Show the entries of a list", least: 1, most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Lists(k.ctx)
					if err != nil {
						return err
					}
					for _, l := range list {
						if strings.EqualFold(l.Name, k.args[0]) {
							t := newTable("Entry")
							for _, e := range l.Entries {
								t.row(e)
							}
							return k.show(l, t, "The list is empty.")
						}
					}
					return fmt.Errorf("no list is called %q; yarnpost list list shows all", k.args[0])
				}
			}},
		removing("list", "Remove a list that no rule uses"))
}

// codeFlag collects options of a codebook: "241 controller address", and the
// meaning behind a semicolon.
type codeFlag []api.OwnOption

func (c *codeFlag) String() string { return "" }

func (c *codeFlag) Set(text string) error {
	head, meaning, _ := strings.Cut(text, ";")
	f := strings.Fields(head)
	if len(f) < 3 {
		return errors.New(`write an option as "CODE NAME TYPE; MEANING", such as "241 controller address; where the controller is"`)
	}
	code, err := strconv.ParseUint(f[0], 10, 16)
	if err != nil {
		return fmt.Errorf("%q is not a code: a number from 1", f[0])
	}
	*c = append(*c, api.OwnOption{Code: uint16(code), Name: f[1], Type: strings.Join(f[2:], " "), Meaning: strings.TrimSpace(meaning)})
	return nil
}

func codebookCommands() []command {
	out := both("codebook", "Define a codebook: own options, or those of a vendor", "Change a codebook",
		"  yarnpost codebook add accesspoint --place 43 --class 'accesspoint*' --code '241 controller address list; wireless controllers'\n"+
			"  yarnpost option set accesspoint/controller=10.40.0.31 --scope access-points\n"+
			"  yarnpost codebook add mill --code '224 shift-plan text; where the shift plan is'",
		func(f *flag.FlagSet) func(*call, string) (api.Edit, func() error, error) {
			place := f.String("place", "", "where its options travel: `message` (default), 43, 125, or 17 of DHCPv6")
			var classes, drop listFlag
			var codes codeFlag
			f.Var(&classes, "class", "vendor `class` it is for, with place 43; a final * stands for any rest (repeatable; replaces all)")
			enterprise := f.Uint("enterprise", 0, "IANA enterprise `number`, with place 125 or 17")
			f.Var(&codes, "code", "option as `\"CODE NAME TYPE; MEANING\"` to add or replace (repeatable)")
			f.Var(&drop, "drop", "`code` to take away (repeatable)")
			note := f.String("note", "", "`text` for people")
			own := ownFields(f)
			return func(k *call, op string) (api.Edit, func() error, error) {
				e := &api.CodebookEdit{Place: pick(f, "place", place), Put: codes, Fields: *own, Note: pick(f, "note", note)}
				if len(classes) > 0 {
					e.Classes = (*[]string)(&classes)
				}
				if *enterprise != 0 {
					n := uint32(*enterprise)
					e.Enterprise = &n
				}
				for _, d := range drop {
					n, err := strconv.ParseUint(d, 10, 16)
					if err != nil {
						return api.Edit{}, nil, usagef("%q is not a code: a number from 1", d)
					}
					e.Drop = append(e.Drop, int(n))
				}
				return api.Edit{Codebook: e},
					found(func() ([]api.Codebook, error) { return k.client.Codebooks(k.ctx) }, func(c api.Codebook) string { return c.Name },
						k.args[0]), nil
			}
		})
	return append(out,
		command{name: "codebook list", short: "List own codebooks and those of vendors", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.Codebooks(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Name", "Travels in", "For", "Codes", "Clients seen", "Note")
				for _, c := range list {
					t.row(c.Name, placeText(c), forWhom(c), strconv.Itoa(len(c.Options)), strconv.Itoa(c.Seen), c.Note)
				}
				return k.show(list, t, "No codebook is defined. yarnpost codebook add -h shows how.")
			}
		}},
		command{name: "codebook show", args: "NAME", short: "Show the options of a codebook", least: 1, most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Codebooks(k.ctx)
					if err != nil {
						return err
					}
					for _, c := range list {
						if c.Name != strings.ToLower(k.args[0]) {
							continue
						}
						if !k.json && !k.csv {
							fmt.Fprintf(k.out, "%s travels in %s, for %s.\n\n", c.Name, placeText(c), forWhom(c))
						}
						t := newTable("Code", "Name", "Type", "Meaning")
						for _, o := range c.Options {
							t.row(strconv.Itoa(int(o.Code)), o.Name, o.Type, o.Meaning)
						}
						return k.show(c, t, "It has no options yet.")
					}
					return fmt.Errorf("no codebook is called %q; yarnpost codebook list shows all", k.args[0])
				}
			}},
		removing("codebook", "Remove a codebook that nothing uses"),
		command{name: "option vendors", short: "List vendor classes seen on the network", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Vendors(k.ctx)
					if err != nil {
						return err
					}
					t := newTable("Vendor class", "Clients")
					for _, v := range list {
						t.row(v.Class, strconv.Itoa(v.Clients))
					}
					return k.show(list, t, "No client told a vendor class so far.")
				}
			}},
		command{name: "option unmet", short: "List options that clients ask for and nobody set", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Unmet(k.ctx)
					if err != nil {
						return err
					}
					t := newTable("Clients", "Code", "Option", "Scopes", "Vendor classes")
					for _, u := range list {
						t.row(strconv.Itoa(u.Clients), strconv.Itoa(int(u.Code)), u.Name, strings.Join(u.Scopes, ", "), strings.Join(u.Vendors, ", "))
					}
					return k.show(list, t, "Clients get everything they ask for.")
				}
			}})
}

func placeText(c api.Codebook) string {
	if c.Place == "message" {
		return "the message"
	}
	return "option " + c.Place
}

func forWhom(c api.Codebook) string {
	switch {
	case len(c.Classes) > 0:
		return "vendor class " + strings.Join(c.Classes, " or ")
	case c.Enterprise != 0:
		return fmt.Sprintf("enterprise %d", c.Enterprise)
	}
	return "every client"
}

func trialCommands() []command {
	out := both("trial", "Plan a trial: a real exchange as a client, made now and then", "Change a trial",
		"  yarnpost trial add looms-served --scope looms --every 15m",
		func(f *flag.FlagSet) func(*call, string) (api.Edit, func() error, error) {
			scope := f.String("scope", "", "`name` of the scope that is tried")
			hw := f.String("hw", "", "hardware `address` to use (default: one made up from the name)")
			vendor := f.String("vendor", "", "vendor `class` to tell")
			circuit := f.String("circuit", "", "`circuit` to come from")
			every := f.String("every", "", "`time` between trials, such as 15m (default: on demand alone)")
			name := f.String("name", "", "new `name`")
			note := f.String("note", "", "`text` for people")
			own := ownFields(f)
			return func(k *call, op string) (api.Edit, func() error, error) {
				if op == "add" && *scope == "" {
					return api.Edit{}, nil, usagef("yarnpost trial add needs --scope")
				}
				now := k.args[0]
				if *name != "" {
					now = *name
				}
				return api.Edit{Trial: &api.TrialEdit{Name: pick(f, "name", name), Scope: pick(f, "scope", scope), Hardware: pick(f, "hw", hw),
						Vendor:  pick(f, "vendor", vendor),
						Circuit: pick(f, "circuit", circuit), Every: pick(f, "every", every), Fields: *own, Note: pick(f, "note", note)}},
					found(func() ([]api.Trial, error) { return k.client.Trials(k.ctx) }, func(t api.Trial) string { return t.Name }, now), nil
			}
		})
	return append(out,
		command{name: "trial list", short: "List trials with their last results", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.Trials(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Name", "Scope", "Hardware", "Vendor", "Every", "Last", "Result")
				for _, x := range list {
					last, result := "never", ""
					if x.Last != nil {
						last, result = k.when(x.Last.At), trialText(*x.Last)
					}
					t.row(x.Name, x.Scope, x.Hardware, x.Vendor, x.Every, last, result)
				}
				return k.show(list, t, "No trial is planned. yarnpost trial add -h shows how; yarnpost trial run --scope NAME makes one now.")
			}
		}},
		command{name: "trial run", args: "[NAME]", short: "Make a real exchange as a client, compare it with the plan, and give the address back",
			most: 1,
			more: "  yarnpost trial run --scope looms --vendor loomctl/2.7\n  yarnpost trial run --relay 10.40.8.1 --hw 02:00:00:00:00:99\n  yarnpost trial run looms-served",
			flags: func(f *flag.FlagSet) func(*call) error {
				var r api.TrialRun
				f.StringVar(&r.Scope, "scope", "", "`name` of the scope that is tried")
				f.StringVar(&r.Relay, "relay", "", "`address` of the relay whose link is tried")
				f.StringVar(&r.Hardware, "hw", "", "hardware `address` to use")
				f.StringVar(&r.Vendor, "vendor", "", "vendor `class` to tell")
				f.StringVar(&r.Circuit, "circuit", "", "`circuit` to come from")
				return func(k *call) error {
					if len(k.args) > 0 {
						r.Name = k.args[0]
					}
					res, err := k.client.RunTrial(k.ctx, r)
					if err != nil {
						return err
					}
					t := newTable("State", "What", "Took")
					for _, st := range res.Steps {
						state, took := "ok", ""
						if !st.Good {
							state = "BAD"
						}
						if st.Millis > 0 {
							took = fmt.Sprintf("%.1f ms", st.Millis)
						}
						t.row(state, st.What, took)
					}
					if err := k.show(res, t, ""); err != nil {
						return err
					}
					if !res.Good {
						return fmt.Errorf("scope %s is not served as the plan says", res.Scope)
					}
					if !k.json && !k.csv {
						fmt.Fprintf(k.out, "\nScope %s is served as the plan says.\n", res.Scope)
					}
					return nil
				}
			}},
		command{name: "trial results", args: "NAME", short: "List the last results of a trial, newest first", least: 1, most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.TrialResults(k.ctx, k.args[0])
					if err != nil {
						return err
					}
					t := newTable("At", "Address", "Result")
					for _, r := range list {
						t.row(k.when(r.At), r.Address, trialText(r))
					}
					return k.show(list, t, "It was not run since the start of the service.")
				}
			}},
		removing("trial", "Remove a trial"))
}

// trialText is a trial's result in a few words.
func trialText(r api.TrialResult) string {
	var took float64
	for _, st := range r.Steps {
		took += st.Millis
		if !st.Good {
			return "FAILED: " + st.What
		}
	}
	return fmt.Sprintf("good, %.0f ms", took)
}
