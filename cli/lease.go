package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/client"
)

func leaseCommands() []command {
	return []command{
		{name: "lease list", args: "[TEXT]", short: "List leases", most: 1,
			more: "  yarnpost lease list 02:4c --scope looms --status active --sort expires\n  yarnpost lease list --status abandoned\n  yarnpost lease list --scope looms --at \"2026-11-17 14:05\"",
			flags: func(f *flag.FlagSet) func(*call) error {
				q := client.LeaseQuery{}
				var status listFlag
				f.StringVar(&q.Scope, "scope", "", "only this scope's, by `name`")
				f.Var(&status, "status", "only this `status`: active, registered, released, expired or abandoned (repeatable)")
				f.StringVar(&q.Sort, "sort", "address",
					"`column`: address, hardware, hostname, vendor, scope, status, since, expires, heard or changed")
				f.BoolVar(&q.Desc, "desc", false, "in descending order")
				limit := f.Int("limit", 0, "at most this `number` (default: all)")
				at := f.String("at", "", "the table as it was at this `time`: 2026-11-17 14:05, here, or RFC 3339")
				return func(k *call) error {
					if *at != "" {
						var err error
						if q.At, err = past(*at); err != nil {
							return err
						}
					}
					q.Search, q.Status = strings.Join(k.args, " "), status
					list, err := k.leases(q, *limit)
					if err != nil {
						return err
					}
					t := newTable("Address", "Status", "Hardware", "Host name", "Scope", "Expires", "Since", "Heard", "Kind", "Vendor",
						"Circuit").without("Circuit", "Vendor", "Since", "Heard", "Kind")
					for _, l := range list {
						t.row(l.Address, l.Status, l.Hardware, l.Hostname, l.Scope, k.expiry(l.Expires), k.when(l.Since),
							k.when(l.Heard), kindOf(l),
							l.Vendor, l.Circuit)
					}
					return k.show(list, t, "No lease fits.")
				}
			}},
		{name: "lease show", args: "ADDRESS", short: "Show a lease", least: 1, most: 1, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				l, err := k.client.Lease(k.ctx, k.args[0])
				if err != nil {
					return err
				}
				t := newTable("Field", "Value")
				t.row("address", l.Address)
				t.row("status", l.Status+", "+kindOf(l))
				t.row("scope", l.Scope)
				t.row("hardware address", l.Hardware)
				t.known(clientRows(l))
				exact := func(at time.Time) string { return relative(time.Until(at)) + "  (" + at.Format(time.RFC3339) + ")" }
				t.row("since", exact(l.Since))
				if l.Expires == nil {
					t.row("expires", "never")
				} else {
					t.row("expires", exact(*l.Expires))
				}
				t.row("last heard", exact(l.Heard))
				t.row("lease time", l.Granted)
				if l.Learned {
					t.row("given by", "another server; learned by listening")
				} else {
					t.row("options of revision", fmt.Sprint(l.Revision))
				}
				if l.CanNudge {
					t.row("nudge", "possible")
				}
				for i, b := range l.Beside {
					t.row(map[bool]string{true: "beside it"}[i == 0], fmt.Sprintf("%s  (%s, %s)", b.Address, b.Status, cmp.Or(b.Scope,
						"no scope")))
				}
				return k.show(l, t, "")
			}
		}},
		historyCommand(),
		givenCommand(),
		staleCommand(),
		nudgeCommand(),
		endCommand(),
		clearCommand(),
	}
}

// leases reads pages until the limit, or the end for 0.
func (k *call) leases(q client.LeaseQuery, limit int) ([]api.Lease, error) {
	list := []api.Lease{}
	for {
		q.Limit = 5000
		if limit > 0 {
			q.Limit = min(q.Limit, limit-len(list))
		}
		page, err := k.client.Leases(k.ctx, q)
		if err != nil {
			return nil, err
		}
		list = append(list, page.Items...)
		if page.Next == "" || limit > 0 && len(list) >= limit {
			return list, nil
		}
		q.After = page.Next
	}
}

func kindOf(l api.Lease) string {
	switch {
	case l.Reserved:
		return "reserved"
	case l.Status == "registered":
		return "made by its client"
	}
	return "dynamic"
}

func endCommand() command {
	return command{name: "lease end", args: "[ADDRESS…]", short: "End leases; each client finds out when it next renews", most: -1,
		write: true,
		more:  "  yarnpost lease end 10.77.0.31 --yes\n  yarnpost lease end --scope looms --silent --yes      of those that do not answer",
		flags: func(f *flag.FlagSet) func(*call) error {
			scope := f.String("scope", "", "all in the scope of this `name`")
			silent := f.Bool("silent", false, "only those at whose address nobody answers")
			return func(k *call) error {
				if len(k.args) == 1 && *scope == "" && !*silent {
					return k.ending((*client.Client).EndLease, k.args[0])
				}
				return k.act((*client.Client).EndLeases, true, api.ActRequest{Addresses: k.args, Scope: *scope, Silent: *silent})
			}
		}}
}

// ending ends one lease, or clears one address, and says what that means.
func (k *call) ending(do func(*client.Client, context.Context, string, bool) (api.Ended, error), address string) error {
	e, err := do(k.client, k.ctx, address, k.dryRun || !k.yes)
	if err != nil {
		return err
	}
	t := newTable("Address", "Result")
	t.row(e.Lease.Address, e.Text)
	if k.json || k.csv {
		err = k.show(e, t, "")
	} else {
		k.say("", e.Text+".")
	}
	if err == nil && !e.Applied && !k.dryRun {
		return errPreview
	}
	return err
}

func clearCommand() command {
	return command{name: "lease clear", args: "[ADDRESS…]",
		short: "Clear abandoned or kept addresses, so that they can be handed out again; those that still answer stay", most: -1,
		write: true,
		more:  "  yarnpost lease clear 10.77.0.103 --yes\n  yarnpost lease clear --scope looms --yes      all abandoned addresses of a scope\n  yarnpost lease clear --all --yes",
		flags: func(f *flag.FlagSet) func(*call) error {
			scope := f.String("scope", "", "all abandoned addresses of the scope of this `name`")
			all := f.Bool("all", false, "all abandoned addresses")
			return func(k *call) error {
				if len(k.args) == 1 && *scope == "" && !*all {
					return k.ending((*client.Client).ClearLease, k.args[0])
				}
				if len(k.args) == 0 && *scope == "" && !*all {
					return usagef("name addresses, or --scope, or --all")
				}
				c, err := k.client.ClearLeases(k.ctx, api.ClearRequest{Addresses: k.args, Scope: *scope, All: *all,
					DryRun: k.dryRun || !k.yes})
				if err != nil {
					return err
				}
				t := newTable("Address", "Hardware", "Host name", "Scope")
				for _, l := range c.Cleared {
					t.row(l.Address, l.Hardware, l.Hostname, l.Scope)
				}
				if k.json || k.csv {
					err = k.show(c, t, "")
				} else {
					k.print(t)
					for _, why := range c.Kept {
						k.say("Stays: ", why+".")
					}
					fmt.Fprintln(k.out, c.Text+".")
				}
				if err == nil && !c.Applied && !k.dryRun && len(c.Cleared) > 0 {
					return errPreview
				}
				return err
			}
		}}
}

func unservedCommands() []command {
	return []command{mendCommand(),
		{name: "unserved list", args: "[TEXT]", short: "List clients that ask and get nothing, or a refusal, by reason", most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				reason := f.String("reason", "", "only this `reason`, such as pool-empty")
				limit := f.Int("limit", 40, "at most this `number` of clients, the latest of each reason first; 0 for all")
				return func(k *call) error {
					page, err := k.client.Unserved(k.ctx, strings.Join(k.args, " "), *reason)
					if err != nil {
						return err
					}
					list := page.Items
					for _, name := range page.Missing {
						fmt.Fprintf(k.err, "%s cannot be asked: clients that it alone refused are not in this list.\n", name)
					}
					if len(list) == 0 && (*reason != "" || len(k.args) > 0) {
						return k.show(list, newTable(), "No unserved client fits.")
					}
					if k.json || k.csv || len(list) == 0 {
						return k.show(list, newTable(), "Every client that asked was served.")
					}
					groups := byReason(list)
					each := len(list)
					if *limit > 0 {
						each = max(1, *limit/len(groups))
					}
					t := newTable("Hardware", "Host name", "Why", "Scope", "Refused by", "From", "Last", "Asked", "Since").
						without("Since", "From", "Refused by")
					sums := newTable("Clients", "Why", "Where", "Mend")
					shown := 0
					for _, g := range groups {
						sums.row(fmt.Sprint(len(g)), g[0].Text, where(g), g[0].Mend)
						for _, u := range g[:min(each, len(g))] {
							from := u.Interface
							if u.Relay != "" {
								from = strings.TrimSpace(u.Relay + " " + u.Circuit)
							}
							shown++
							t.row(u.Hardware, u.Hostname, u.Text, u.Scope, strings.Join(u.Servers, ", "), from, k.when(u.Last),
								fmt.Sprintf("%d×", u.Count), k.when(u.First))
						}
					}
					k.print(sums)
					fmt.Fprintln(k.out)
					k.print(t)
					if shown < len(list) {
						fmt.Fprintf(k.out, "\n%d of %d clients; --limit 0 shows all, --reason those of one reason.\n", shown, len(list))
					}
					return nil
				}
			}}}
}

// byReason groups clients by what is wrong and what mends it, the largest group
// first.
func byReason(list []api.Unserved) (groups [][]api.Unserved) {
	at := map[string]int{}
	for _, u := range list {
		key := u.Reason + u.Mend
		i, known := at[key]
		if !known {
			i = len(groups)
			at[key], groups = i, append(groups, nil)
		}
		groups[i] = append(groups[i], u)
	}
	slices.SortStableFunc(groups, func(a, b []api.Unserved) int { return len(b) - len(a) })
	return groups
}

// where names the scopes of clients, or where they come from.
func where(list []api.Unserved) string {
	var out []string
	for _, u := range list {
		place := cmp.Or(u.Scope, u.Relay, u.Interface)
		if !slices.Contains(out, place) {
			if out = append(out, place); len(out) == 4 {
				out[3] = "…"
				break
			}
		}
	}
	return strings.Join(out, ", ")
}

func statusCommands() []command {
	return []command{{name: "status", short: "Say how the service is", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
		return func(k *call) error {
			s, err := k.client.Status(k.ctx)
			if err != nil {
				return err
			}
			t := newTable("Field", "Value")
			health := "good"
			if !s.Healthy {
				health = "TROUBLE: " + s.Problem
			}
			if n := len(s.Warnings); s.Healthy && n > 0 {
				health = fmt.Sprintf("running; %d warnings", n)
				if n == 1 {
					health = "running; 1 warning"
				}
			}
			t.row("health", health)
			at := "DHCPv4 on " + s.DHCP4
			if s.DHCP6 != "" {
				at += ", DHCPv6 on " + s.DHCP6
			}
			t.row("serving", fmt.Sprintf("%s, up since %s", at, relative(-s.Now.Sub(s.Started))))
			for _, w := range s.Wires {
				link := w.Link
				if link == "" {
					link = "no link yet; define a scope for it"
				}
				t.row("interface "+w.Name, strings.Join(w.Addresses, " ")+", "+link)
			}
			t.row("plan", fmt.Sprintf("revision %d, %d scopes", s.Revision, s.Scopes))
			t.row("leases", fmt.Sprintf("%d active", s.Active))
			t.row("acknowledged", fmt.Sprintf("%d in five minutes, %d in a day", s.Served5m, s.Served24h))
			t.row("unserved", many(s.Unserved, "client"))
			t.row("recorded", fmt.Sprintf("%d leases in %d commits", s.Recorded, s.Commits))
			t.row("version", s.Version)
			if err := k.show(s, t, ""); err != nil || k.json || k.csv {
				return err
			}
			for i, w := range s.Warnings {
				if i == 0 {
					fmt.Fprintln(k.out)
				}
				k.say("WARN  ", w.Text+".")
				k.say("      ", w.Mend)
			}
			return nil
		}
	}}}
}

// clientRows are what is known of the client of a lease, and how it is connected.
func clientRows(l api.Lease) [][2]string {
	return [][2]string{{"identifier", l.Identifier}, {"DUID", l.DUID}, {"DUID is of", l.DUIDOf}, {"IAID", l.IAID}, {"host name",
		l.Hostname},
		{"vendor class", l.Vendor}, {"relay", l.Relay}, {"circuit", l.Circuit}, {"evidence", l.Evidence}}
}
