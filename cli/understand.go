package cli

import (
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"yarnpost/api"
	"yarnpost/client"
)

func understandCommands() []command {
	return []command{traceCommand(), explainCommand(), listeningCommand(),
		{name: "relay list", short: "List relays that forward to the server, and those that have gone quiet", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Relays(k.ctx)
					if err != nil {
						return err
					}
					t := newTable("Relay", "Link", "Messages", "Last", "Usual gap", "State")
					for _, r := range list {
						state, last := "heard; the plan does not name it", "never"
						switch {
						case r.Named:
							state = "named by the plan"
						case r.Found:
							state = "found by a probe; the plan does not name it"
						}
						if r.Last != nil {
							last = k.when(*r.Last)
						} else {
							state += ", not heard since the start"
						}
						if r.Silent {
							state = "SILENT: unusually quiet"
						}
						gap := fmt.Sprintf("%.0f s", r.Gap)
						if r.Gap < 1 {
							gap = "under 1 s"
						}
						t.row(r.Address, r.Link, fmt.Sprint(r.Count), last, gap, state)
					}
					return k.show(list, t, "No relay was heard, and the plan names none.")
				}
			}},
		{name: "relay accept", args: "ADDRESS", short: "Name a relay in the plan, so that what it says of circuits counts", least: 1,
			most: 1, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				link := f.String("link", "", "`name` of its link; the one whose scope it lies in otherwise")
				return func(k *call) error { return k.acceptRelay(k.args[0], *link) }
			}},
		{name: "relay forget", args: "[ADDRESS]", short: "Forget a relay that was heard, or all that the plan does not name", most: 1,
			write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				all := f.Bool("all", false, "forget all that the plan does not name")
				return func(k *call) error {
					address := ""
					switch {
					case len(k.args) == 1 && !*all:
						address = k.args[0]
					case len(k.args) == 1 || !*all:
						return usagef("say which relay, or --all")
					}
					return k.forgetRelays(address)
				}
			}},
		{name: "preflight", short: "Look whether the server's host can serve", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.Preflight(k.ctx)
				if err != nil {
					return err
				}
				if err := k.show(list, Checks(list), ""); err != nil {
					return err
				}
				return bad(list)
			}
		}},
	}
}

// errTrouble ends a command that found trouble.
var errTrouble = errors.New("there is trouble; the mend is beside it")

// Checks makes a table of a look at the host.
func Checks(list []api.Check) *table {
	t := newTable("State", "Check", "Found", "Mend")
	for _, c := range list {
		t.row(mark(c.Status), c.Name, c.Text, c.Mend)
	}
	return t
}

// mark is a state that reads without colour.
func mark(status string) string {
	return map[string]string{"good": "ok", "warning": "WARN", "trouble": "BAD", "unknown": "?"}[status]
}

func bad(list []api.Check) error {
	for _, c := range list {
		if c.Status == "trouble" {
			return errTrouble
		}
	}
	return nil
}

func traceCommand() command {
	return command{name: "trace", short: "Show recent messages with what was decided and why; follow them with --follow", most: 0,
		more: "  yarnpost trace --follow --scope looms\n  yarnpost trace --client 02:40:18:00:00:07 --long\n  yarnpost trace --outcome refused --limit 20\n  yarnpost trace --relay 10.40.8.1 --pcap looms.pcap",
		flags: func(f *flag.FlagSet) func(*call) error {
			var q client.ExchangeQuery
			f.StringVar(&q.Client, "client", "", "only this client: part of hardware `address`, identifier or host name")
			f.StringVar(&q.Address, "address", "", "only messages about this `address`")
			f.StringVar(&q.Scope, "scope", "", "only this scope, by `name`")
			f.StringVar(&q.Relay, "relay", "", "only what came through the relay with this `address`")
			f.StringVar(&q.Outcome, "outcome", "", "only this `outcome` or reason, such as refused, ignored or pool-empty")
			f.IntVar(&q.Limit, "limit", 50, "at most this `number` of past messages")
			follow := f.Bool("follow", false, "go on until interrupted")
			long := f.Bool("long", false, "show the trail and every field and option")
			file := f.String("pcap", "", "write messages and replies to this `file` for a protocol analyser")
			return func(k *call) error {
				if *file != "" {
					if *follow {
						return usagef("--pcap writes what there is; it cannot follow")
					}
					q.Limit = max(q.Limit, 5000)
					b, err := k.client.Capture(k.ctx, q)
					if err != nil {
						return err
					}
					if err := os.WriteFile(*file, b, 0o600); err != nil {
						return fmt.Errorf("write the capture: %w", err)
					}
					fmt.Fprintf(k.out, "Wrote %d octets to %s.\n", len(b), *file)
					return nil
				}
				if *follow {
					return k.follow(q, *long)
				}
				list, err := k.client.Exchanges(k.ctx, q)
				if err != nil {
					return err
				}
				if k.json || k.csv {
					t := newTable("At", "Type", "Hardware", "Host name", "Relay", "Circuit", "Outcome", "Reason", "Address", "Scope",
						"Fate", "Millis")
					for _, x := range list.Items {
						t.row(x.At.Format(time.RFC3339Nano), x.Type, x.Hardware, x.Hostname, x.Relay, x.Circuit, x.Outcome, x.Reason,
							x.Address, x.Scope,
							x.Fate, fmt.Sprintf("%.2f", x.Millis))
					}
					if k.csv {
						return t.csv(k.out)
					}
					return k.show(list.Items, t, "")
				}
				if len(list.Items) == 0 {
					fmt.Fprintln(k.out, "No message that is remembered fits.")
				}
				for _, x := range list.Items {
					k.exchange(x, *long)
				}
				return nil
			}
		}}
}

// followPause is how often new messages are asked for.
const followPause = 300 * time.Millisecond

func (k *call) follow(q client.ExchangeQuery, long bool) error {
	q.Limit = min(q.Limit, 20)
	for {
		list, err := k.client.Exchanges(k.ctx, q)
		if k.ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		for _, x := range list.Items {
			if k.json {
				if err := json.NewEncoder(k.out).Encode(x); err != nil {
					return err
				}
				continue
			}
			k.exchange(x, long)
		}
		q.After, q.Limit = list.Next, 5000
		select {
		case <-k.ctx.Done():
			return nil
		case <-time.After(followPause):
		}
	}
}

// exchange prints one message and what came of it.
func (k *call) exchange(x api.Exchange, long bool) {
	from := x.Interface
	if x.Relay != "" {
		from = strings.TrimSpace("via " + x.Relay + " " + x.Circuit)
	}
	fate := x.Fate
	if fate == "sent" {
		fate = fmt.Sprintf("%.1f ms", x.Millis)
	}
	// The way and the name go first where there is no room.
	width := widthOf(k.out)
	line := func(name, way int) string {
		out := fmt.Sprintf("%s  %-8s  %s  ", x.At.Local().Format("15:04:05.000"), x.Type, x.Hardware)
		if name > 0 {
			out += fmt.Sprintf("%-*s  ", name, clip(harmless(x.Hostname), name))
		}
		if way > 0 {
			out += fmt.Sprintf("%-*s  ", way, clip(harmless(from), way))
		}
		return out + fmt.Sprintf("→ %s  [%s]", x.Text, fate)
	}
	text := line(16, 28)
	for _, room := range [][2]int{{12, 22}, {10, 13}, {12, 0}, {0, 0}} {
		if !k.wide && !long && utf8.RuneCountInString(text) > width {
			text = line(room[0], room[1])
		}
	}
	fmt.Fprintln(k.out, text)
	if !long {
		return
	}
	for _, s := range x.Trail {
		fmt.Fprintf(k.out, "              · %s\n", s)
	}
	k.message("asked", x.Request)
	if x.Reply != nil {
		k.message("reply", *x.Reply)
	}
	fmt.Fprintln(k.out)
}

func (k *call) message(title string, m api.Decoded) {
	fmt.Fprintf(k.out, "              %s: %s, %d octets\n", title, m.Type, m.Size)
	t := newTable()
	for _, f := range m.Fields {
		t.row("                ", f.Name, f.Value)
	}
	for _, o := range m.Options {
		t.row("                ", fmt.Sprintf("%d %s", o.Code, o.Name), o.Value)
	}
	k.print(t)
}

func explainCommand() command {
	return command{name: "explain", args: "[HW]",
		short: "Say what a client would be answered, and each step that leads there; nothing is touched", most: 1,
		more: "  yarnpost explain 02:40:18:00:00:07                                  (as it asked last)\n  yarnpost explain --scope phones --vendor \"deskphone 7\" --wants 66,150\n  yarnpost explain 02:00:00:00:00:01 --relay 10.40.8.1 --message REQUEST --address 10.40.9.9\n  yarnpost explain --duid 00:03:00:01:02:00:00:00:00:17 --scope workshop6 --delegated",
		flags: func(f *flag.FlagSet) func(*call) error {
			var a api.Ask
			f.StringVar(&a.Identifier, "identifier", "", "client identifier in `hexadecimal`")
			f.StringVar(&a.DUID, "duid", "", "IPv6: its `DUID`, as its system prints it (default: one of its hardware address)")
			f.StringVar(&a.IAID, "iaid", "", "IPv6: `number` of the association (default: 1)")
			f.BoolVar(&a.Delegated, "delegated", false, "IPv6: it asks for a prefix, rather than an address")
			f.StringVar(&a.Message, "message", "", "`type`: DISCOVER (default), REQUEST, INFORM or BOOTP; with IPv6 SOLICIT (default), "+
				"REQUEST, CONFIRM, RENEW, REBIND or INFORMATION-REQUEST")
			f.StringVar(&a.Scope, "scope", "", "it is on the link of the scope of this `name`")
			f.StringVar(&a.Relay, "relay", "", "it comes through the relay with this `address`")
			f.StringVar(&a.Interface, "interface", "", "it is heard on the interface of this `name`")
			f.StringVar(&a.Address, "address", "", "`address` it asks for, or has")
			f.StringVar(&a.Circuit, "circuit", "", "`circuit` (option 82) it is plugged into")
			f.StringVar(&a.Remote, "remote", "", "remote `id` (option 82)")
			f.StringVar(&a.Vendor, "vendor", "", "vendor `class`")
			f.StringVar(&a.UserClass, "user-class", "", "user `class`")
			f.StringVar(&a.Hostname, "hostname", "", "host `name` it tells")
			wants := f.String("wants", "", "`options` it asks for, by code or name, with commas")
			var options optionFlag
			f.Var(&options, "send", "`name=value` of another option it sends (repeatable)")
			return func(k *call) error {
				if len(k.args) > 0 {
					a.Hardware = k.args[0]
				}
				if *wants != "" {
					a.Wants = strings.Split(*wants, ",")
				}
				a.Options = options
				a.Known = a.Hardware != "" && a.DUID == "" && a.Vendor == "" && a.Relay == "" && a.Interface == ""
				e, err := k.client.Explain(k.ctx, a)
				if err != nil {
					return err
				}
				return k.explanation(e, true)
			}
		}}
}

// explanation prints what a client would be answered.
func (k *call) explanation(e api.Explanation, whole bool) error {
	t := newTable("Code", "Option", "Value", "Level", "Sent", "Bytes").without("Bytes")
	for _, o := range e.Options {
		level, sent := o.Level, "-"
		if o.From != "" {
			level += " " + o.From
		}
		if o.Sent {
			sent = "yes"
		}
		t.row(fmt.Sprint(o.Code), o.Name, o.Value, level, sent, o.Bytes)
	}
	if k.json || k.csv {
		return k.show(e, t, "")
	}
	who := "It"
	if e.Hardware != "" {
		who = e.Hardware
	}
	fmt.Fprintf(k.out, "%s %s", who, e.Text)
	if e.Scope != "" {
		fmt.Fprintf(k.out, ", in scope %s", e.Scope)
	}
	if e.Lease != "" {
		fmt.Fprintf(k.out, ", for %s", e.Lease)
	}
	if e.Reservation != "" {
		fmt.Fprintf(k.out, ", by reservation %s", e.Reservation)
	}
	fmt.Fprintln(k.out, ".")
	if e.Withheld != "" {
		fmt.Fprintf(k.out, "Nothing would be sent: %s.\n", e.Withheld)
	}
	if whole {
		fmt.Fprintln(k.out, "\nHow it is decided:")
		for i, s := range e.Trail {
			fmt.Fprintf(k.out, "  %d. %s\n", i+1, s)
		}
	}
	if len(e.Options) > 0 {
		fmt.Fprintln(k.out, "\nWhat the plan gives, and from where:")
		k.print(t)
	}
	for _, o := range e.Omitted {
		fmt.Fprintf(k.out, "Option %s does not fit the largest message the client takes.\n", o)
	}
	if whole && e.Reply != nil {
		fmt.Fprintf(k.out, "\nThe reply, %s, %d octets:\n", e.Reply.Type, e.Reply.Size)
		r := newTable()
		for _, f := range e.Reply.Fields {
			r.row("  "+f.Name, f.Value)
		}
		for _, o := range e.Reply.Options {
			r.row(fmt.Sprintf("  %d %s", o.Code, o.Name), o.Value)
		}
		k.print(r)
	}
	return nil
}

func listeningCommand() command {
	return command{name: "listening", short: "Compare what another server gives with what this one would give", most: 0,
		more: "  yarnpost link edit yard --listening          starts listening on a link\n  yarnpost link edit yard --listening=false    goes live there\n  yarnpost listening --propose > heard.yaml    a plan file of what its clients would need to keep what they have",
		flags: func(f *flag.FlagSet) func(*call) error {
			all := f.Bool("all", false, "list clients that agree, too")
			propose := f.Bool("propose", false, "instead write what would let clients keep what they have, as a plan file to review")
			return func(k *call) error {
				if *propose {
					text, err := k.client.HeardProposal(k.ctx)
					if err == nil {
						_, err = k.out.Write(text)
					}
					return err
				}
				l, err := k.client.Listening(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Client", "Host name", "Scope", "Took", "From", "Would offer", "Agrees", "Difference").without("From",
					"Host name")
				for _, a := range l.Clients {
					agrees := "yes"
					if !a.Agrees {
						agrees = "NO"
					}
					if !a.Agrees || *all || k.csv {
						t.row(cmp.Or(a.Hardware, a.DUID), a.Hostname, a.Scope, a.Took, a.Server, a.Would, agrees, strings.Join(a.Difference, "; "))
					}
				}
				if k.json || k.csv {
					return k.show(l, t, "")
				}
				switch {
				case l.Whole:
					fmt.Fprintln(k.out, "The whole server listens and sends nothing.")
				case len(l.Links) > 0:
					fmt.Fprintf(k.out, "Listening on: %s. Other links are answered.\n", strings.Join(l.Links, ", "))
				default:
					fmt.Fprintln(k.out, "No link is only listened to; every link is answered.")
				}
				for _, r := range l.OtherServers {
					fmt.Fprintf(k.out, "Server %s answers on link %s: %s, %d times, last %s.\n", r.Server, r.Link, r.How, r.Count,
						k.when(r.Last))
				}
				if l.Learned > 0 {
					fmt.Fprintf(k.out, "%d addresses were learned and are kept for their clients.\n", l.Learned)
				}
				if len(l.Scopes) > 0 {
					fmt.Fprintln(k.out)
					s := newTable("Scope", "Link", "Clients", "Agree", "Disagree")
					for _, x := range l.Scopes {
						s.row(x.Scope, x.Link, fmt.Sprint(x.Clients), fmt.Sprint(x.Agree), fmt.Sprint(x.Disagree))
					}
					k.print(s)
				}
				if len(t.rows) > 0 {
					fmt.Fprintln(k.out)
					k.print(t)
				}
				return nil
			}
		}}
}

// given prints what the holder of a lease was last given.
func givenCommand() command {
	return command{name: "lease options", args: "ADDRESS", short: "Say exactly what a client asked with and was last given", least: 1,
		most: 1,
		flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				g, err := k.client.Given(k.ctx, k.args[0])
				if err != nil {
					return err
				}
				t := newTable("What", "Code", "Option", "Value", "Bytes").without("Bytes")
				for _, o := range g.Asked {
					t.row("asked", fmt.Sprint(o.Code), o.Name, o.Value, o.Bytes)
				}
				for _, o := range g.Given {
					t.row("given", fmt.Sprint(o.Code), o.Name, o.Value, o.Bytes)
				}
				if err := k.show(g, t, "It is not on record what this client was given; it will be with its next renewal."); err != nil ||
					k.json ||
					k.csv {
					return err
				}
				if len(g.Unmet) > 0 {
					fmt.Fprintf(k.out, "\nAsked for and not given: %s.\n", strings.Join(g.Unmet, ", "))
				}
				return nil
			}
		}}
}

func staleCommand() command {
	return command{name: "lease stale", short: "List clients that still hold options from before a change, first to renew first", most: 0,
		more: "  yarnpost lease stale --scope phones\n  yarnpost lease nudge --stale --scope phones --yes",
		flags: func(f *flag.FlagSet) func(*call) error {
			scope := f.String("scope", "", "only this scope, by `name`")
			return func(k *call) error {
				s, err := k.client.Stale(k.ctx, *scope)
				if err != nil {
					return err
				}
				t := newTable("Address", "Hardware", "Host name", "Scope", "Renews", "Can be nudged", "Note")
				for _, x := range s.Items {
					nudge, note := "no", ""
					if x.Lease.CanNudge {
						nudge = "yes"
					}
					if x.Moves {
						note = "will move"
					}
					t.row(x.Lease.Address, x.Lease.Hardware, x.Lease.Hostname, x.Lease.Scope, k.when(x.Renews), nudge, note)
				}
				if err := k.show(s, t, fmt.Sprintf("No client holds old options (%d active).", s.Active)); err != nil || k.json || k.csv ||
					s.Total == 0 {
					return err
				}
				fmt.Fprintf(k.out, "\n%d of %d active clients hold old options; %d of them can be nudged.\n", s.Total, s.Active, s.CanNudge)
				return nil
			}
		}}
}

func nudgeCommand() command {
	return command{name: "lease nudge", args: "[ADDRESS…]", short: "Make clients renew at once, or all with old options (--stale), paced",
		most: -1, write: true, flags: func(f *flag.FlagSet) func(*call) error {
			stale := f.Bool("stale", false, "all clients that still hold old options")
			scope := f.String("scope", "", "with --stale: only this scope, by `name`")
			return func(k *call) error {
				r := api.NudgeRequest{Stale: *stale, Scope: *scope, DryRun: k.dryRun || !k.yes && *stale}
				if r.Stale == (len(k.args) > 0) {
					return usagef("name addresses, or --stale for all clients with old options")
				}
				if len(k.args) > 1 {
					return k.act((*client.Client).NudgeClients, true, api.ActRequest{Addresses: k.args})
				}
				if len(k.args) > 0 {
					r.Address = k.args[0]
				}
				n, err := k.client.Nudge(k.ctx, r)
				if err != nil {
					return err
				}
				t := newTable("Applied", "Sent", "Cannot")
				t.row(fmt.Sprint(n.Applied), fmt.Sprint(n.Sent), fmt.Sprint(n.Cannot))
				if k.json || k.csv {
					err = k.show(n, t, "")
				} else {
					fmt.Fprintln(k.out, n.Text+".")
				}
				if err == nil && !n.Applied && !k.dryRun {
					return errPreview
				}
				return err
			}
		}}
}

func historyCommand() command {
	return command{name: "lease history", args: "ADDRESS|HW|DUID|HOSTNAME", short: "Say who had an address, or where a client has been",
		least: 1,
		most:  1,
		more:  "  yarnpost lease history press-room\n  yarnpost lease history 10.40.8.31 --at \"2026-11-17 14:05\"\n  yarnpost lease history 02:40:18:00:00:07\n  yarnpost lease history 00:03:00:01:02:40:18:00:00:07",
		flags: func(f *flag.FlagSet) func(*call) error {
			limit := f.Int("limit", 50, "at most this `number` of lines")
			at := f.String("at", "", "who had the address at this `time`: 2026-11-17 14:05, here, or RFC 3339")
			return func(k *call) error {
				q := client.HistoryQuery{Who: k.args[0], Limit: *limit}
				if *at != "" {
					t, err := past(*at)
					if err != nil {
						return err
					}
					q.At = t
				}
				list, err := k.client.History(k.ctx, q)
				if err != nil {
					return err
				}
				t := newTable("At", "Address", "Status", "By", "Hardware", "Host name", "Since", "Until", "Relay",
					"Circuit").without("Circuit", "Relay",
					"Since", "By")
				stamp := func(at time.Time) string { return at.Format("2006-01-02 15:04:05") }
				for _, e := range list {
					until := "never"
					if e.Expires != nil {
						until = stamp(*e.Expires)
					}
					t.row(stamp(e.At), e.Address, e.Status, e.By, e.Hardware, e.Hostname, stamp(e.Since), until, e.Relay, e.Circuit)
				}
				defer k.most(len(list), *limit)
				empty := "No match: there is no history of " + k.args[0] + "."
				if *at != "" {
					empty = "Nobody held " + k.args[0] + " then."
				}
				return k.show(list, t, empty)
			}
		}}
}

// past reads a moment, in the local time zone unless it says otherwise.
func past(text string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usagef("%q is not a time; write it like \"2026-11-17 14:05\" or 2026-11-17T14:05:00Z", text)
}

// mend does for an unserved client what its reason asks for.
func mendCommand() command {
	return command{name: "unserved mend", args: "HW",
		short: "Do what an unserved client needs: serve its scope, reserve an address, or define the scope", least: 1, most: 1, write: true,
		flags: func(f *flag.FlagSet) func(*call) error {
			name := f.String("name", "", "`name` of the reservation or scope that is made")
			return func(k *call) error {
				page, err := k.client.Unserved(k.ctx, k.args[0], "")
				if err != nil {
					return err
				}
				list := page.Items
				if len(list) != 1 {
					return usagef("%d unserved clients fit %q; yarnpost unserved list shows all", len(list), k.args[0])
				}
				u := list[0]
				edit, why := mending(u, *name)
				if edit == nil {
					return fmt.Errorf("no single step mends this (%s); what helps: %s", u.Text, u.Mend)
				}
				if !k.json && !k.csv {
					fmt.Fprintf(k.out, "%s: %s. %s\n", u.Hardware, u.Text, why)
				}
				return k.change([]api.Edit{*edit}, true, nil)
			}
		}}
}

// nameFrom makes a name for an item of what a client calls itself, or "".
func nameFrom(hostname string) string {
	parts := strings.FieldsFunc(hostname, func(r rune) bool {
		return !(r < unicode.MaxASCII && (unicode.IsLetter(r) ||
			unicode.IsDigit(r)))
	})
	name := strings.Join(parts, "-")
	return strings.TrimRight(name[:min(len(name), 60)], "-")
}

// mending is the edit that would serve a client, and what it does in words.
func mending(u api.Unserved, name string) (*api.Edit, string) {
	serving := "serving"
	switch {
	case u.Reason == "held" || u.Reason == "draining":
		return &api.Edit{Op: "edit", Kind: "scope", Name: u.Scope, Scope: &api.ScopeEdit{Mode: &serving}},
			"Serving scope " + u.Scope + " mends it."
	case slices.Contains([]string{"pool-empty", "reserved-only", "no-bootp", "too-many-new"}, u.Reason) && u.Scope != "":
		if name == "" {
			if name = nameFrom(u.Hostname); name == "" {
				name = "client-" + strings.ReplaceAll(u.Hardware, ":", "")
			}
		}
		return &api.Edit{Op: "add", Kind: "reservation", Name: name, Reservation: &api.ReservationEdit{Scope: &u.Scope,
				Hardware: &u.Hardware}},
			"A reserved address mends it."
	case u.Reason == "no-scope" && u.Guess != "":
		if name == "" {
			name = "subnet-" + strings.NewReplacer("/", "-", ".", "-").Replace(u.Guess)
		}
		scope := &api.ScopeEdit{Subnet: &u.Guess, Pools: &[]string{"all"}, Mode: &serving}
		relay, bad := netip.ParseAddr(u.Relay)
		if of, err := netip.ParsePrefix(u.Guess); err == nil && bad == nil && of.Contains(relay) {
			scope.AddExclusions = []api.Exclusion{{Range: u.Relay, User: "relay agent"}}
		}
		return &api.Edit{Op: "add", Kind: "scope", Name: name, Scope: scope},
			"A scope for its link mends it; the subnet is a guess from the relay's address."
	}
	return nil, ""
}

// acceptRelay names a relay on a link of the plan.
func (k *call) acceptRelay(address, link string) error {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return usagef("%q is no address", address)
	}
	links, err := k.client.Links(k.ctx)
	if err != nil {
		return err
	}
	if link == "" {
		scopes, err := k.client.Scopes(k.ctx, "", "")
		if err != nil {
			return err
		}
		for _, s := range scopes {
			if p, err := netip.ParsePrefix(s.Subnet); err == nil && p.Contains(a) {
				link = s.Link
			}
		}
		if link == "" {
			return usagef("%s lies in no scope; say its link with --link", address)
		}
	}
	i := slices.IndexFunc(links, func(l api.Link) bool { return strings.EqualFold(l.Name, link) })
	if i < 0 {
		return fmt.Errorf("there is no link %q; yarnpost link list shows all", link)
	}
	if slices.Contains(links[i].Relays, a.String()) {
		k.say("", fmt.Sprintf("%s is named on link %s already.", a, links[i].Name))
		return nil
	}
	relays := append(slices.Clone(links[i].Relays), a.String())
	return k.change([]api.Edit{{Op: "edit", Kind: "link", Name: links[i].Name, Link: &api.LinkEdit{Relays: &relays}}}, false, nil)
}

// forgetRelays forgets a relay, or all for "".
func (k *call) forgetRelays(address string) error {
	if k.dryRun {
		list, err := k.client.Relays(k.ctx)
		if err != nil {
			return err
		}
		n := 0
		for _, r := range list {
			if r.Address == address || address == "" && !r.Named {
				n++
			}
		}
		k.say("", fmt.Sprintf("Relays that would be forgotten: %d.", n))
		return nil
	}
	done, err := k.client.ForgetRelays(k.ctx, address)
	if err != nil {
		return err
	}
	k.say("", fmt.Sprintf("Relays forgotten: %d.", done.Count))
	return nil
}
