package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"yarnpost/api"
)

func reservationCommands() []command {
	out := both("reservation", "Keep an address for one client", "Change a reservation; what is not named stays",
		"  yarnpost reservation add loom-17 --scope looms --hw 02:00:00:00:00:17 --address 10.77.0.17\n  yarnpost reservation edit loom-17 --hostname loom-17 --option ntp-servers=10.77.0.42\n  yarnpost reservation add shed --hw 02:00:00:00:00:19 --address 10.77.0.19 --also 2001:db8:77:1::19 --also 2001:db8:77:8100::/56\n  Without --address a new one keeps the address the client has, or gets a free one.",
		func(f *flag.FlagSet) func(*call, string) (api.Edit, func() error, error) {
			scope := f.String("scope", "", "`name` of the scope (found by --address if left out)")
			hw := f.String("hw", "", "hardware `address` of the client, whatever identifier it sends")
			id := f.String("identifier", "", "or its client identifier in `hexadecimal`")
			duid := f.String("duid", "", "or the `DUID` of a client of IPv6, as its system prints it")
			iaid := f.String("iaid", "", "with --duid: of the association of this `number` alone")
			circuit := f.String("circuit", "", "or the `circuit` (option 82) that it is plugged into, whoever it is")
			address := f.String("address", "", "`address` to keep, or prefix to delegate, such as 2001:db8:40:8100::/56")
			host := f.String("hostname", "", "host `name` for the client")
			var also listFlag
			f.Var(&also, "also", "another `address` or prefix for the same client, of the other family or to delegate (repeatable, with add)")
			insist := f.Bool("insist", false, "give it although another host answers for the address")
			lease := f.String("lease", "", "lease `time` of its own")
			valid := f.String("valid", "", "IPv6: for how `long` its address may be used in all")
			name := f.String("name", "", "new `name`")
			note := f.String("note", "", "`text` for people")
			own := ownFields(f)
			var options optionFlag
			var unset listFlag
			f.Var(&options, "option", "`name=value`, by option name or code (repeatable)")
			f.Var(&unset, "unset", "`name` of an option to inherit again (repeatable)")
			return func(k *call, op string) (api.Edit, func() error, error) {
				if op == "add" && *hw == "" && *id == "" && *duid == "" && *circuit == "" {
					return api.Edit{}, nil, usagef("yarnpost reservation add needs --hw, such as --hw 02:00:00:00:00:17, or --identifier, --duid or --circuit")
				}
				e := &api.ReservationEdit{Name: pick(f, "name", name), Scope: pick(f, "scope", scope), Hardware: pick(f, "hw", hw),
					Identifier: pick(f, "identifier", id), Circuit: pick(f, "circuit", circuit), DUID: pick(f, "duid", duid), IAID: pick(f, "iaid", iaid),
					Address: pick(f, "address", address), Hostname: pick(f, "hostname", host), Insist: pick(f, "insist", insist),
					Lease: pick(f, "lease", lease), Valid: pick(f, "valid", valid), Note: pick(f, "note", note), Options: options, Fields: *own}
				for _, o := range unset {
					if e.Options == nil {
						e.Options = map[string]string{}
					}
					e.Options[o] = ""
				}
				if len(also) > 0 {
					if op != "add" || *address == "" {
						return api.Edit{}, nil, usagef("--also goes with reservation add and --address; each becomes a reservation of its own")
					}
					for _, a := range also {
						k.also = append(k.also, api.Edit{Op: op, Kind: "reservation", Name: alsoNamed(k.args[0], a, k.also), Reservation: ofFamily(*e, a)})
					}
					e = ofFamily(*e, *address)
				}
				now := k.args[0]
				if *name != "" {
					now = *name
				}
				return api.Edit{Reservation: e}, func() error { _, err := k.reservation(now); return err }, nil
			}
		})
	return append(out, []command{
		{name: "reservation show", args: "NAME", short: "Show a reservation, and who has its address now", least: 1, most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					r, err := k.reservation(k.args[0])
					if err != nil {
						return err
					}
					t := newTable("Setting", "Value")
					t.known([][2]string{{"name", r.Name}, {"scope", r.Scope}, {"address", r.Address}, {"hardware address", r.Hardware},
						{"identifier", r.Identifier}, {"DUID", r.DUID}, {"IAID", r.IAID}, {"circuit", r.Circuit},
						{"host name", r.Hostname}, {"lease time", r.Lease}, {"valid lifetime", r.Valid}})
					if r.Insist {
						t.row("insists", "given although another host answers for the address")
					}
					for _, o := range r.Options {
						t.row("option "+o.Name, o.Value)
					}
					t.row("address is now", strings.TrimSpace(r.Status+" "+r.Holder))
					ownRows(t, r.Fields)
					if r.Note != "" {
						t.row("note", r.Note)
					}
					return k.show(r, t, "")
				}
			}},
		{name: "reservation list", short: "List reservations", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			scope := f.String("scope", "", "only this scope's, by `name`")
			search := f.String("search", "", "only those with this `text`")
			own := withFields(f)
			return func(k *call) error {
				list, err := k.client.Reservations(k.ctx, *scope, *search, *own...)
				if err != nil {
					return err
				}
				t := newTable("Name", "Scope", "Address", "Client", "Host name", "Status", "Note")
				for _, r := range list {
					t.row(r.Name, r.Scope, r.Address, r.Client, r.Hostname, r.Status, r.Note)
				}
				if *scope != "" || *search != "" {
					return k.show(list, t, "No reservation fits.")
				}
				return k.show(list, t, "No address is reserved. yarnpost reservation add -h shows how.")
			}
		}},
		{name: "reservation remove", args: "[NAME…]", short: "Remove reservations", most: -1, write: true,
			more: "  yarnpost reservation remove loom-17 loom-18 --yes\n  yarnpost reservation remove --scope looms --silent --yes      of clients that are off line",
			flags: func(f *flag.FlagSet) func(*call) error {
				scope := f.String("scope", "", "with --silent: those of the scope of this `name`")
				silent := f.Bool("silent", false, "only those at whose address nobody answers now")
				return func(k *call) error {
					if len(k.args) == 0 && (*scope == "" || !*silent) || len(k.args) > 0 && *scope != "" {
						return usagef("name reservations, or a scope with --scope and --silent")
					}
					names := k.args
					if *silent {
						var err error
						if names, err = k.silent(*scope, names); err != nil {
							return err
						}
					}
					var edits []api.Edit
					for _, name := range names {
						edits = append(edits, api.Edit{Op: "remove", Kind: "reservation", Name: name})
					}
					if len(edits) == 0 {
						fmt.Fprintln(k.out, "None is silent: nothing to remove.")
						return nil
					}
					return k.change(edits, true, nil)
				}
			}},
	}...)
}

// alsoNamed is the name of a further reservation of a client, beside those that there are.
func alsoNamed(name, address string, beside []api.Edit) string {
	switch {
	case strings.Contains(address, "/"):
		name += "-net"
	case strings.Contains(address, ":"):
		name += "-v6"
	default:
		name += "-v4"
	}
	free := name
	for n := 2; slices.ContainsFunc(beside, func(e api.Edit) bool { return e.Name == free }); n++ {
		free = fmt.Sprint(name, "-", n)
	}
	return free
}

// ofFamily is what a reservation says of the address of one family: the identifier by which its
// client is known there, and the options that there are.
func ofFamily(e api.ReservationEdit, address string) *api.ReservationEdit {
	e.Address = &address
	six := strings.Contains(address, ":")
	switch {
	case six && e.DUID != nil:
		e.Hardware, e.Identifier = nil, nil
	case six:
		e.Identifier = nil
	default:
		e.DUID, e.IAID, e.Valid = nil, nil, nil
	}
	options := map[string]string{}
	for name, value := range e.Options {
		if strings.HasPrefix(name, "v6/") == six {
			options[name] = value
		}
	}
	if e.Options = options; len(options) == 0 {
		e.Options = nil
	}
	e.Scope = nil
	return &e
}

// reservation finds one by its name; case does not matter.
func (k *call) reservation(name string) (api.Reservation, error) {
	list, err := k.client.Reservations(k.ctx, "", name)
	if err != nil {
		return api.Reservation{}, err
	}
	i := slices.IndexFunc(list, func(r api.Reservation) bool { return strings.EqualFold(r.Name, name) })
	if i < 0 {
		return api.Reservation{}, fmt.Errorf("no reservation is called %q; yarnpost reservation list shows all", name)
	}
	return list[i], nil
}

// optionPlaces are the levels on which options can be set: a flag each, or none for the
// defaults. What it gives sets options there.
func optionPlaces(f *flag.FlagSet) func(k *call, options map[string]string) error {
	kinds := []string{"supernet", "scope", "rule", "reservation"}
	names := map[string]*string{}
	for _, kind := range kinds {
		names[kind] = f.String(kind, "", "set it on the "+kind+" of this `name`")
	}
	return func(k *call, options map[string]string) error {
		e := api.Edit{Op: "edit", Kind: "defaults", Defaults: &api.DefaultsEdit{Options: options}}
		for _, kind := range kinds {
			name := *names[kind]
			if name == "" {
				continue
			}
			if e.Kind != "defaults" {
				return usagef("choose one of --supernet, --scope, --rule and --reservation")
			}
			switch e = (api.Edit{Op: "edit", Kind: kind, Name: name}); kind {
			case "supernet":
				e.Supernet = &api.SupernetEdit{Options: options}
			case "scope":
				e.Scope = &api.ScopeEdit{Options: options}
			case "rule":
				e.Rule = &api.RuleEdit{Options: options}
			case "reservation":
				e.Reservation = &api.ReservationEdit{Options: options}
			}
		}
		return k.change([]api.Edit{e}, false, nil)
	}
}

func optionCommands() []command {
	return []command{
		{name: "option set", args: "NAME=VALUE…", short: "Set options in the defaults, a supernet, a scope, a rule or a reservation", least: 1, most: -1,
			write: true,
			more:  "  yarnpost option set ntp-servers=10.40.0.42\n  yarnpost option set router=10.40.8.1 --scope looms\n  yarnpost option set ntp-servers=none --scope visitors      (takes the inherited value away)",
			flags: func(f *flag.FlagSet) func(*call) error {
				on := optionPlaces(f)
				return func(k *call) error {
					var o optionFlag
					for _, a := range k.args {
						if err := o.Set(a); err != nil {
							return usagef("%q: %v", a, err)
						}
					}
					return on(k, o)
				}
			}},
		{name: "option unset", args: "NAME…", short: "Unset options; the inherited value holds again", least: 1, most: -1, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				on := optionPlaces(f)
				return func(k *call) error {
					o := map[string]string{}
					for _, a := range k.args {
						o[a] = ""
					}
					return on(k, o)
				}
			}},
		{name: "option list", short: "List options that are set, with where", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			scope := f.String("scope", "", "only this scope and its reservations, by `name`")
			return func(k *call) error {
				list, err := k.client.Options(k.ctx, *scope)
				if err != nil {
					return err
				}
				t := newTable("Level", "Item", "Code", "Option", "Value")
				for _, o := range list {
					t.row(o.Level, o.Item, fmt.Sprint(o.Setting.Code), o.Setting.Name, o.Setting.Value)
				}
				return k.show(list, t, "No option is set. yarnpost option set -h shows how.")
			}
		}},
		{name: "option codes", args: "[TEXT]", short: "Search the codebook: codes, names, types", most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Codes(k.ctx, strings.Join(k.args, " "))
					if err != nil {
						return err
					}
					t := newTable("Code", "Option", "Type", "Example", "Set", "Meaning")
					for _, c := range list {
						set := ""
						if c.Set > 0 {
							set = fmt.Sprintf("%d×", c.Set)
						}
						t.row(fmt.Sprint(c.Code), c.Name, c.Type, c.Example, set, c.Meaning)
					}
					return k.show(list, t, "No option fits.")
				}
			}},
		{name: "option explain", args: "[HW|ADDRESS]", short: "Say what a client is given, and which level each value comes from", most: 1,
			more: "  yarnpost option explain 02:00:00:00:00:17\n  yarnpost option explain 10.77.0.17\n  yarnpost option explain --scope looms",
			flags: func(f *flag.FlagSet) func(*call) error {
				scope := f.String("scope", "", "`name` of the scope it is in")
				return func(k *call) error {
					who := strings.Join(k.args, "")
					if who == "" && *scope == "" {
						return usagef("name a client by hardware address or address, or a scope with --scope")
					}
					ask := api.Ask{Hardware: who, Scope: *scope, Known: who != ""}
					if strings.Count(who, ".") == 3 {
						ask.Hardware, ask.Address = "", who
					}
					e, err := k.client.Explain(k.ctx, ask)
					if err != nil {
						return err
					}
					return k.explanation(e, false)
				}
			}},
	}
}
