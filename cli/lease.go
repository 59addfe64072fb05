package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/client"
)

func leaseCommands() []command {
	return []command{
		{name: "lease list", args: "[TEXT]", short: "List leases", most: 1,
			more: "  yarnpost lease list 02:4c --scope looms --status active --sort expires\n  yarnpost lease list --status abandoned",
			flags: func(f *flag.FlagSet) func(*call) error {
				q := client.LeaseQuery{}
				var status listFlag
				f.StringVar(&q.Scope, "scope", "", "only this scope's, by `name`")
				f.Var(&status, "status", "only this `status`: active, released, expired or abandoned (repeatable)")
				f.StringVar(&q.Sort, "sort", "address", "`column`: address, hardware, hostname, vendor, scope, status, since, expires, heard or changed")
				f.BoolVar(&q.Desc, "desc", false, "in descending order")
				limit := f.Int("limit", 0, "at most this `number` (default: all)")
				return func(k *call) error {
					q.Search, q.Status = strings.Join(k.args, " "), status
					list, err := k.leases(q, *limit)
					if err != nil {
						return err
					}
					t := newTable("Address", "Status", "Hardware", "Host name", "Scope", "Expires", "Since", "Heard", "Kind", "Vendor", "Circuit")
					for _, l := range list {
						t.row(l.Address, l.Status, l.Hardware, l.Hostname, l.Scope, k.expiry(l.Expires), k.when(l.Since), k.when(l.Heard), kindOf(l), l.Vendor, l.Circuit)
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
				for _, f := range [][2]string{{"identifier", l.Identifier}, {"host name", l.Hostname}, {"vendor class", l.Vendor}, {"relay", l.Relay}, {"circuit", l.Circuit}, {"evidence", l.Evidence}} {
					if f[1] != "" {
						t.row(f[0], f[1])
					}
				}
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
				return k.show(l, t, "")
			}
		}},
		historyCommand(),
		givenCommand(),
		staleCommand(),
		nudgeCommand(),
		endingCommand("end", "End a lease; its client finds out when it next renews", (*client.Client).EndLease),
		endingCommand("clear", "Clear an abandoned address, so that it can be handed out again", (*client.Client).ClearLease),
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
		list = append(list, page.Leases...)
		if page.Next == "" || limit > 0 && len(list) >= limit {
			return list, nil
		}
		q.After = page.Next
	}
}

func kindOf(l api.Lease) string {
	if l.Reserved {
		return "reserved"
	}
	return "dynamic"
}

func endingCommand(verb, short string, do func(*client.Client, context.Context, string, bool) (api.Ended, error)) command {
	return command{name: "lease " + verb, args: "ADDRESS", short: short, least: 1, most: 1, write: true, flags: func(f *flag.FlagSet) func(*call) error {
		return func(k *call) error {
			e, err := do(k.client, k.ctx, k.args[0], k.dryRun || !k.yes)
			if err != nil {
				return err
			}
			t := newTable("Address", "Result")
			t.row(e.Lease.Address, e.Text)
			if k.json || k.csv {
				err = k.show(e, t, "")
			} else {
				fmt.Fprintln(k.out, e.Text+".")
			}
			if err == nil && !e.Applied && !k.dryRun {
				return errPreview
			}
			return err
		}
	}}
}

func unservedCommands() []command {
	return []command{mendCommand(), {name: "unserved list", args: "[TEXT]", short: "List clients that ask and get nothing, or a refusal", most: 1, flags: func(f *flag.FlagSet) func(*call) error {
		reason := f.String("reason", "", "only this `reason`, such as pool-empty")
		return func(k *call) error {
			list, err := k.client.Unserved(k.ctx, strings.Join(k.args, " "), *reason)
			if err != nil {
				return err
			}
			t := newTable("Hardware", "Host name", "Why", "Scope", "From", "Since", "Last", "Asked", "Mend")
			mends := newTable()
			seen := map[string]bool{}
			for _, u := range list {
				from := u.Interface
				if u.Relay != "" {
					from = strings.TrimSpace(u.Relay + " " + u.Circuit)
				}
				mend := u.Mend
				if !k.csv { // a table has no room for it beside each client
					if key := u.Reason + u.Mend; !seen[key] && u.Mend != "" {
						seen[key] = true
						mends.row("  "+u.Text, u.Mend)
					}
					mend = ""
				}
				t.row(u.Hardware, u.Hostname, u.Text, u.Scope, from, k.when(u.First), k.when(u.Last), fmt.Sprintf("%d×", u.Count), mend)
			}
			if !k.csv {
				t.head = t.head[:len(t.head)-1]
			}
			if err := k.show(list, t, "Every client that asked was served."); err != nil || k.json || k.csv || len(list) == 0 {
				return err
			}
			fmt.Fprintln(k.out, "\nWhat to do:")
			mends.write(k.out)
			return nil
		}
	}}}
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
			t.row("health", health)
			t.row("serving", fmt.Sprintf("DHCPv4 on %s, up since %s", s.DHCP4, relative(-s.Now.Sub(s.Started))))
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
			t.row("unserved", fmt.Sprintf("%d clients", s.Unserved))
			t.row("recorded", fmt.Sprintf("%d leases in %d commits", s.Recorded, s.Commits))
			t.row("version", s.Version)
			if err := k.show(s, t, ""); err != nil || k.json || k.csv {
				return err
			}
			for i, w := range s.Warnings {
				if i == 0 {
					fmt.Fprintln(k.out)
				}
				fmt.Fprintf(k.out, "WARN  %s.\n      %s\n", w.Text, w.Mend)
			}
			return nil
		}
	}}}
}
