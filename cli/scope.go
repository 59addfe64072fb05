package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"yarnpost/api"
)

// listFlag collects a repeatable flag.
type listFlag []string

func (l *listFlag) String() string     { return strings.Join(*l, ",") }
func (l *listFlag) Set(v string) error { *l = append(*l, v); return nil }

// optionFlag collects NAME=VALUE flags.
type optionFlag map[string]string

func (o *optionFlag) String() string { return "" }

func (o *optionFlag) Set(v string) error {
	name, value, ok := strings.Cut(v, "=")
	if !ok || name == "" || value == "" {
		return fmt.Errorf("write an option as NAME=VALUE, such as router=10.77.0.1")
	}
	if *o == nil {
		*o = optionFlag{}
	}
	(*o)[name] = value
	return nil
}

// given reports whether a flag was set on the command line.
func given(f *flag.FlagSet, name string) bool {
	found := false
	f.Visit(func(fl *flag.Flag) { found = found || fl.Name == name })
	return found
}

// some is a text that is set, or nil for an empty one.
func some(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

func pick[T any](f *flag.FlagSet, name string, v *T) *T {
	if given(f, name) {
		return v
	}
	return nil
}

// scopeFlags are the flags that add and edit share.
type scopeFlags struct {
	own                                            *fieldFlag
	subnet, link, lease, note, router, dns, domain string
	valid                                          string
	pools, exclude, prefixes                       listFlag
	options                                        optionFlag
	authoritative                                  bool
	identity, bootp, delay                         string
	rapid, probe, noPools                          bool
	perCircuit, newPerMinute                       int
	warn                                           warnFlags
	approval                                       bool
}

// warnFlags say when to warn of a scope.
type warnFlags struct{ used, headroom, days int }

func (w *warnFlags) register(f *flag.FlagSet) {
	f.IntVar(&w.used, "warn-used", 0, "warn above so many `percent` of the pools; 0 inherits, -1 is never (default: 90)")
	f.IntVar(&w.headroom, "warn-headroom", 0, "warn below so many `addresses` left; 0 inherits, -1 is never (default: never)")
	f.IntVar(&w.days, "warn-days", 0, "warn so many `days` before the pools run out; 0 inherits, -1 is never (default: 14)")
}

func (s *scopeFlags) register(f *flag.FlagSet) {
	f.StringVar(&s.subnet, "subnet", "", "`subnet` such as 10.77.0.0/24, \"10.77.0.0 255.255.255.0\" or 2001:db8:40:1::/64")
	f.Var(&s.pools, "pool", "`range` to hand out: a-b, a CIDR, or all (repeatable)")
	f.BoolVar(&s.noPools, "no-pools", false, "no pool at all: reserved clients alone are served")
	f.Var(&s.prefixes, "prefix-pool", "IPv6: `prefix` to delegate smaller ones from: \"2001:db8:40:8000::/49 in /56\" (repeatable)")
	f.StringVar(&s.valid, "valid", "", "IPv6: valid lifetime, a `time` such as 12h (default: half as long again as the lease time)")
	f.Var(&s.exclude, "exclude", "`range` never handed out, with who uses it after a comma: 10.77.0.9,plotter (repeatable)")
	f.Var(&s.options, "option", "`name=value`, by option name or code (repeatable)")
	f.StringVar(&s.router, "router", "", "`address` of the router, short for --option router=")
	f.StringVar(&s.dns, "dns", "", "`addresses` of DNS servers, short for --option domain-server= (IPv6: v6/dns-servers)")
	f.StringVar(&s.domain, "domain", "", "DNS `name`, short for --option domain-name= (IPv6: v6/domain-list)")
	f.StringVar(&s.lease, "lease", "", "lease `time` such as 8h or infinite (default: the plan's, 8h; none takes an inherited one away)")
	f.StringVar(&s.link, "link", "", "`name` of the link it shares with other scopes")
	f.BoolVar(&s.authoritative, "authoritative", false, "refuse clients without a record instead of keeping silent")
	f.StringVar(&s.identity, "identity", "", "`what` tells clients apart: identifier or hardware (default: the plan's)")
	f.StringVar(&s.bootp, "bootp", "", "`what` BOOTP clients get: ignore, reserved (default) or dynamic")
	f.BoolVar(&s.rapid, "rapid-commit", false, "let clients that ask for it do with two messages")
	f.StringVar(&s.delay, "offer-delay", "", "`time` that offers wait, up to 10s")
	f.BoolVar(&s.probe, "probe", true, "probe addresses before they are offered")
	f.IntVar(&s.perCircuit, "per-circuit", 0, "`number` of dynamic addresses behind one relay circuit; -1 for any (default: any)")
	f.IntVar(&s.newPerMinute, "new-per-minute", 0,
		"`number` of clients never seen before that are let in a minute; -1 for any (default: a tenth of the pools, 60 at least)")
	s.warn.register(f)
	f.BoolVar(&s.approval, "approval", false, "changes of it need a second person's approval")
	f.StringVar(&s.note, "note", "", "`text` for people")
	s.own = ownFields(f)
}

func (s *scopeFlags) edit(f *flag.FlagSet) *api.ScopeEdit {
	e := &api.ScopeEdit{Subnet: pick(f, "subnet", &s.subnet), Link: pick(f, "link", &s.link), Lease: pick(f, "lease", &s.lease),
		Fields: *s.own, Note: pick(f, "note", &s.note), Authoritative: pick(f, "authoritative", &s.authoritative), Options: s.options,
		Identity: pick(f, "identity", &s.identity), Bootp: pick(f, "bootp", &s.bootp), RapidCommit: pick(f, "rapid-commit", &s.rapid),
		OfferDelay: pick(f, "offer-delay", &s.delay),
		Probe:      pick(f, "probe", &s.probe), PerCircuit: pick(f, "per-circuit", &s.perCircuit),
		NewPerMinute: pick(f, "new-per-minute", &s.newPerMinute), WarnUsed: pick(f, "warn-used", &s.warn.used),
		WarnHeadroom: pick(f, "warn-headroom", &s.warn.headroom), WarnDays: pick(f, "warn-days", &s.warn.days),
		Approval: pick(f, "approval", &s.approval), Valid: pick(f, "valid", &s.valid)}
	if given(f, "prefix-pool") {
		e.PrefixPools = (*[]string)(&s.prefixes)
		if len(s.prefixes) == 1 && s.prefixes[0] == "none" {
			e.PrefixPools = &[]string{}
		}
	}
	if given(f, "pool") {
		e.Pools = (*[]string)(&s.pools)
	}
	if s.noPools {
		e.Pools = &[]string{}
	}
	for _, x := range s.exclude {
		r, user, _ := strings.Cut(x, ",")
		e.AddExclusions = append(e.AddExclusions, api.Exclusion{Range: r, User: strings.TrimSpace(user)})
	}
	dns, domain := "domain-server", "domain-name"
	if strings.Contains(s.subnet+s.dns, ":") {
		dns, domain = "v6/dns-servers", "v6/domain-list"
	}
	for name, value := range map[string]string{"router": s.router, dns: s.dns, domain: s.domain} {
		if value != "" {
			if e.Options == nil {
				e.Options = map[string]string{}
			}
			e.Options[name] = value
		}
	}
	return e
}

func scopeCommands() []command {
	return []command{
		{name: "scope add", args: "NAME", short: "Define a scope", least: 1, most: 1, write: true,
			more: "  yarnpost scope add looms --subnet 10.77.0.0/24 --pool 10.77.0.100-10.77.0.200 --router 10.77.0.1 --lease 12h --serve",
			flags: func(f *flag.FlagSet) func(*call) error {
				var s scopeFlags
				s.register(f)
				serve := f.Bool("serve", false, "answer clients at once (default: held)")
				return func(k *call) error {
					if s.subnet == "" {
						return usagef("yarnpost scope add needs --subnet, such as --subnet 10.77.0.0/24")
					}
					e := s.edit(f)
					if *serve {
						mode := "serving"
						e.Mode = &mode
					}
					err := k.change([]api.Edit{{Op: "add", Kind: "scope", Name: k.args[0], Scope: e}}, false, k.hasScope(k.args[0]))
					if err == nil && !*serve && !k.dryRun && !k.json && !k.csv {
						fmt.Fprintf(k.out, "The scope is held; yarnpost scope serve %s starts it.\n", k.args[0])
					}
					return err
				}
			}},
		{name: "scope list", short: "List scopes with their use", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			search := f.String("search", "", "only scopes with this `text` in name, subnet, link or note")
			order := f.String("sort", "name", "`order`: name, subnet or fullest")
			own := withFields(f)
			return func(k *call) error {
				list, err := k.client.Scopes(k.ctx, *search, *order, *own...)
				if err != nil {
					return err
				}
				t := newTable("Name", "Subnet", "Link", "Mode", "Lease", "Size", "Active", "Headroom", "Used", "Reserved", "Abandoned").without("Link",
					"Reserved", "Abandoned", "Size")
				for _, s := range list {
					t.row(s.Name, s.Subnet, s.Link, s.Mode, s.Lease, count(s.Usage.Size), count(s.Usage.Active), count(s.Usage.Headroom), used(s.Usage),
						count(s.Usage.Reserved), count(s.Usage.Abandoned))
				}
				if *search != "" {
					return k.show(list, t, fmt.Sprintf("No scope fits %q.", *search))
				}
				return k.show(list, t, "No scope is defined yet. yarnpost scope add -h shows how to begin.")
			}
		}},
		{name: "scope show", args: "NAME", short: "Show a scope", least: 1, most: 1, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				s, err := k.client.Scope(k.ctx, k.args[0])
				if err != nil {
					return err
				}
				return k.show(s, scopeTable(s), "")
			}
		}},
		{name: "scope edit", args: "NAME", short: "Change a scope; what is not named stays", least: 1, most: 1, write: true,
			more: "  yarnpost scope edit looms --lease 4h --exclude 10.77.0.50,plotter\n  yarnpost scope edit looms --pool 10.77.0.100-10.77.0.220     (replaces all pools)",
			flags: func(f *flag.FlagSet) func(*call) error {
				var s scopeFlags
				s.register(f)
				name := f.String("name", "", "new `name`")
				var unexclude, unset listFlag
				f.Var(&unexclude, "unexclude", "`range` of an exclusion to take away (repeatable)")
				f.Var(&unset, "unset", "`name` of an option to inherit again (repeatable)")
				return func(k *call) error {
					e := s.edit(f)
					e.Name = pick(f, "name", name)
					e.RemoveExclusions = unexclude
					for _, o := range unset {
						if e.Options == nil {
							e.Options = map[string]string{}
						}
						e.Options[o] = ""
					}
					now := k.args[0]
					if e.Name != nil {
						now = *name
					}
					return k.change([]api.Edit{{Op: "edit", Kind: "scope", Name: k.args[0], Scope: e}}, false, k.hasScope(now))
				}
			}},
		copyCommand(),
		modeCommand("serve", "serving", "Answer the clients of a scope"),
		modeCommand("hold", "held", "Stop answering the clients of a scope"),
		modeCommand("drain", "draining", "Take nobody new; clients move away as they renew"),
		shortenCommand(),
		evacuateCommand(),
		{name: "scope remove", args: "NAME", short: "Remove a scope with its reservations", least: 1, most: 1, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					return k.change([]api.Edit{{Op: "remove", Kind: "scope", Name: k.args[0]}}, true, nil)
				}
			}},
	}
}

func (k *call) hasScope(name string) func() error {
	return func() error { _, err := k.client.Scope(k.ctx, name); return err }
}

func modeCommand(verb, mode, short string) command {
	return command{name: "scope " + verb, args: "NAME", short: short, least: 1, most: 1, write: true,
		flags: func(f *flag.FlagSet) func(*call) error {
			until := ""
			if verb == "drain" {
				f.StringVar(&until, "until", "", "`time` (RFC 3339) or span such as 3d, beyond which no lease reaches")
			}
			return func(k *call) error {
				e := &api.ScopeEdit{Mode: &mode}
				if until != "" {
					t, err := moment(until)
					if err != nil {
						return err
					}
					e.DrainUntil = &t
				}
				return k.change([]api.Edit{{Op: "edit", Kind: "scope", Name: k.args[0], Scope: e}}, false, func() error {
					s, err := k.client.Scope(k.ctx, k.args[0])
					if err == nil && s.Mode != mode {
						err = fmt.Errorf("scope %s is %s", s.Name, s.Mode)
					}
					return err
				})
			}
		}}
}

func shortenCommand() command {
	return command{name: "scope shorten", args: "NAME", least: 1, most: 1, write: true,
		short: "Have leases run down until a moment, so that what changes then soon reaches every client",
		more:  "  yarnpost scope shorten looms --until 2026-12-24T02:00:00Z\n  Without --until it is called off. A change in preparation that is set for a moment does this by itself.",
		flags: func(f *flag.FlagSet) func(*call) error {
			until := f.String("until", "", "`time` (RFC 3339) or span such as 3d")
			return func(k *call) error {
				e := &api.ScopeEdit{RunDown: new(string)}
				if *until != "" {
					t, err := moment(*until)
					if err != nil {
						return err
					}
					*e.RunDown = t.UTC().Format(time.RFC3339)
				}
				return k.change([]api.Edit{{Op: "edit", Kind: "scope", Name: k.args[0], Scope: e}}, false, nil)
			}
		}}
}

// evacuateCommand moves everybody from a scope to another one of its link.
func evacuateCommand() command {
	return command{name: "scope move", args: "NAME", short: "Move everybody to another scope of the link, as they renew", least: 1, most: 1, write: true,
		more: "  yarnpost scope move carding --to carding-new\n  Reservations move to the same places there. yarnpost scope show NAME says who is left; then yarnpost scope remove NAME.",
		flags: func(f *flag.FlagSet) func(*call) error {
			to := f.String("to", "", "`name` of the scope that they move to")
			return func(k *call) error {
				if *to == "" {
					return usagef("name the scope that they move to with --to")
				}
				m, err := k.client.Move(k.ctx, k.args[0], *to)
				if err != nil {
					return err
				}
				fmt.Fprintln(k.err, m.Text+".")
				if len(m.Edits) == 0 {
					fmt.Fprintln(k.out, "Nothing to change: it drains already. yarnpost scope show "+k.args[0]+" says who is left.")
					return nil
				}
				return k.change(m.Edits, false, nil)
			}
		}}
}

// moment reads a time, or a span from now.
func moment(text string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	span := text
	days := 0
	if n, rest, ok := strings.Cut(text, "d"); ok {
		if _, err := fmt.Sscan(n, &days); err == nil {
			span = rest
		}
	}
	if span == "" {
		span = "0s"
	}
	d, err := time.ParseDuration(span)
	if err != nil || d < 0 {
		return time.Time{}, usagef("%q is neither a time like 2026-12-24T18:00:00Z nor a span like 3d or 12h", text)
	}
	return time.Now().Add(d + time.Duration(days)*24*time.Hour).Truncate(time.Second), nil
}

func count[T int | uint64 | api.Count](n T) string { return fmt.Sprint(n) }

// used is the part of the pools that cannot be handed out now.
func used(u api.Usage) string {
	if u.Size == 0 {
		return "-"
	}
	return fmt.Sprintf("%.0f%%", 100*(1-float64(min(u.Headroom+u.Partner, u.Size))/float64(u.Size)))
}

// insideText says who is inside a scope still.
func insideText(i *api.Inside) string {
	if i.Clients == 0 {
		return "nobody"
	}
	text := many(i.Clients, "client")
	if i.Last != nil {
		text += "; if nobody renews, the last lease ends at " + i.Last.Format(time.RFC3339)
	}
	if i.Endless > 0 {
		text += fmt.Sprintf("; %d of the leases never end", i.Endless)
	}
	return text
}

func scopeTable(s api.Scope) *table {
	t := newTable("Setting", "Value")
	t.row("name", s.Name)
	t.row("mode", s.Mode)
	if s.DrainUntil != nil {
		t.row("drains until", s.DrainUntil.Format(time.RFC3339))
	}
	if s.RunDown != nil {
		t.row("leases run down until", s.RunDown.Format(time.RFC3339))
	}
	if s.Inside != nil {
		t.row("still inside", insideText(s.Inside))
	}
	if s.Approval {
		t.row("changes", "need a second person's approval")
	}
	subnet := s.Subnet
	if s.Mask != "" {
		subnet += "  mask " + s.Mask
	}
	t.row("subnet", subnet)
	t.row("link", s.Link)
	if len(s.Supernets) > 0 {
		t.row("lies in", strings.Join(s.Supernets, " › "))
	}
	for _, p := range s.Pools {
		t.row("pool", p)
	}
	for _, p := range s.PrefixPools {
		t.row("prefix pool", p)
	}
	for _, x := range s.Exclusions {
		t.row("exclusion", strings.TrimSpace(x.Range+"  "+x.User))
	}
	lease := s.Lease
	if s.LeaseSet == "" {
		lease += "  (" + s.LeaseFrom + ")"
	}
	t.row("lease time", lease)
	if s.Valid != "" {
		t.row("valid lifetime", s.Valid)
	}
	for _, o := range s.Options {
		t.row(fmt.Sprintf("option %d", o.Code), o.Name+" = "+o.Value)
	}
	for _, f := range []struct {
		set         bool
		name, value string
	}{{s.Authoritative, "authoritative", "yes"}, {s.Identity == "hardware", "clients told apart by", "hardware address alone"},
		{s.Bootp != "reserved", "BOOTP", s.Bootp},
		{s.RapidCommit, "rapid commit", "yes"}, {s.OfferDelay != "", "offers wait", s.OfferDelay}, {!s.Probe, "probing", "off"},
		{s.PerCircuit > 0, "addresses a circuit", fmt.Sprint(s.PerCircuit)},
		{s.NewPerMinute != 0, "new clients a minute", strings.Replace(fmt.Sprint(s.NewPerMinute), "-1", "any number", 1)},
		{s.Listening, "answered", "no: its link is listened to"}} {
		if f.set {
			t.row(f.name, f.value)
		}
	}
	for _, p := range s.Confined {
		t.row("kept for a rule", "pool "+p)
	}
	ownRows(t, s.Fields)
	if s.Note != "" {
		t.row("note", s.Note)
	}
	u := s.Usage
	t.row("in the pools", fmt.Sprintf("%s addresses, %s more excluded", u.Size, u.Excluded))
	t.row("for reservations", fmt.Sprintf("%s addresses outside the pools, %d reservations", u.Spare, u.Reserved))
	t.row("in use", fmt.Sprintf("%d active, %d offered, %d abandoned", u.Active, u.Offered, u.Abandoned))
	t.row("headroom", fmt.Sprintf("%s addresses (%s used)", u.Headroom, used(u)))
	if n := s.Prefixes; n != nil {
		t.row("prefixes", fmt.Sprintf("%d of %s delegated, %s left", n.Active, n.Size, n.Headroom))
	}
	return t
}

func linkCommands() []command {
	return []command{
		{name: "link list", short: "List links with their interfaces, relays and scopes", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Links(k.ctx)
					if err != nil {
						return err
					}
					t := newTable("Name", "Interfaces", "Relays", "Scopes", "State", "Note")
					for _, l := range list {
						state := "answered"
						if l.Listening {
							state = "listened to"
						} else if l.StandAside {
							state = "answered, unless another server is there"
						}
						t.row(l.Name, strings.Join(l.Interfaces, " "), strings.Join(l.Relays, " "), strings.Join(l.Scopes, " "), state, l.Note)
					}
					return k.show(list, t, "No link is defined yet; a scope brings its own.")
				}
			}},
		{name: "link edit", args: "NAME", short: "Change how clients of a link are reached", least: 1, most: 1, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				var relays, interfaces listFlag
				f.Var(&relays, "relay", "`address` of a relay (repeatable; replaces all)")
				f.Var(&interfaces, "interface", "`name` of an interface (repeatable; replaces all)")
				name := f.String("name", "", "new `name`")
				note := f.String("note", "", "`text` for people")
				own := ownFields(f)
				listen := f.Bool("listening", false, "hear it and send nothing; --listening=false goes live")
				aside := f.Bool("stand-aside", false, "do not answer while another server answers there")
				choose := f.Bool("subnet-selection", false, "let clients of other links choose a scope of it (option 118)")
				wake := f.Bool("wake", false, "let people wake its clients (Wake-on-LAN)")
				return func(k *call) error {
					e := &api.LinkEdit{Name: pick(f, "name", name), Fields: *own, Note: pick(f, "note", note), Listening: pick(f, "listening", listen),
						StandAside: pick(f, "stand-aside", aside), SubnetSelection: pick(f, "subnet-selection", choose),
						Wake: pick(f, "wake", wake)}
					if given(f, "relay") {
						e.Relays = (*[]string)(&relays)
					}
					if given(f, "interface") {
						e.Interfaces = (*[]string)(&interfaces)
					}
					return k.change([]api.Edit{{Op: "edit", Kind: "link", Name: k.args[0], Link: e}}, false, func() error {
						list, err := k.client.Links(k.ctx)
						now := k.args[0]
						if e.Name != nil {
							now = *name
						}
						if err == nil && !slices.ContainsFunc(list, func(l api.Link) bool { return strings.EqualFold(l.Name, now) }) {
							err = fmt.Errorf("link %s is not there", now)
						}
						return err
					})
				}
			}},
	}
}

func defaultsCommands() []command {
	return []command{
		{name: "defaults show", short: "Show what holds in the whole plan", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				d, err := k.client.Defaults(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Setting", "Value")
				t.row("lease time", d.Lease)
				t.row("clients told apart by",
					map[string]string{"hardware": "hardware address alone", "identifier": "client identifier, if they send one"}[d.Identity])
				for _, o := range d.Options {
					t.row("option "+o.Name, o.Value)
				}
				if d.Listening {
					t.row("listening", "the whole server hears and sends nothing")
				}
				if d.Note != "" {
					t.row("note", d.Note)
				}
				return k.show(d, t, "")
			}
		}},
		{name: "defaults edit", short: "Change what holds in the whole plan (options: yarnpost option set)", most: 0, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				lease := f.String("lease", "", "lease `time`")
				identity := f.String("identity", "", "`what` tells clients apart: identifier or hardware")
				listen := f.Bool("listening", false, "the whole server hears and sends nothing; --listening=false goes live")
				note := f.String("note", "", "`text` for people")
				var warn warnFlags
				warn.register(f)
				return func(k *call) error {
					return k.change([]api.Edit{{Op: "edit", Kind: "defaults",
						Defaults: &api.DefaultsEdit{Lease: pick(f, "lease", lease), Identity: pick(f, "identity", identity),
							Listening: pick(f, "listening", listen), Note: pick(f, "note", note), WarnUsed: pick(f, "warn-used", &warn.used),
							WarnHeadroom: pick(f, "warn-headroom", &warn.headroom), WarnDays: pick(f, "warn-days", &warn.days)}}}, false, func() error {
						_,
							err := k.client.Defaults(k.ctx)
						return err
					})
				}
			}},
	}
}
