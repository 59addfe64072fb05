package cli

import (
	"flag"
	"fmt"
	"slices"
	"strconv"
	"time"

	"yarnpost/api"
)

func planCommands() []command {
	return append(planFileCommands(), []command{
		revertCommand(),
		restoreCommand(),
		againCommand(),
		{name: "plan history", short: "List revisions of the plan, newest first", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			limit := f.Int("limit", 20, "at most this `number` of revisions")
			return func(k *call) error {
				list, err := k.client.Revisions(k.ctx, 0, *limit)
				if err != nil {
					return err
				}
				t := newTable("Revision", "At", "Author", "Change", "Reason")
				for _, r := range list {
					t.row(strconv.FormatInt(r.Number, 10), k.when(r.At), r.Author, summary(r), r.Reason)
				}
				defer k.most(len(list), *limit)
				return k.show(list, t, "The plan is empty: nothing was ever changed.")
			}
		}},
		{name: "plan show", args: "[REVISION]", short: "Show a revision with its diff (default: the newest)", most: 1,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					var r api.Revision
					if len(k.args) == 0 {
						list, err := k.client.Revisions(k.ctx, 0, 1)
						if err != nil {
							return err
						}
						if len(list) == 0 {
							fmt.Fprintln(k.out, "The plan is empty: nothing was ever changed.")
							return nil
						}
						r = list[0]
					} else {
						n, err := strconv.ParseInt(k.args[0], 10, 64)
						if err != nil {
							return usagef("%q is not a revision number", k.args[0])
						}
						if r, err = k.client.Revision(k.ctx, n); err != nil {
							return err
						}
					}
					t := newTable("Kind", "Name", "Change")
					for _, d := range r.Diff {
						t.row(d.Kind, d.Name, d.Text)
					}
					if !k.json && !k.csv {
						fmt.Fprintf(k.out, "Revision %d by %s, %s", r.Number, r.Author, r.At.Format("2006-01-02 15:04:05 UTC"))
						if r.Reason != "" {
							fmt.Fprintf(k.out, ": %s", r.Reason)
						}
						fmt.Fprint(k.out, "\n\n")
					}
					return k.show(r, t, "")
				}
			}},
	}...)
}

func restoreCommand() command {
	return command{name: "plan restore", args: "[REVISION]", short: "Bring back the plan as a revision left it, or as it was at a moment, as a new revision",
		most: 1, write: true,
		more: "  yarnpost plan restore 19\n  yarnpost plan restore --at 2026-11-30T08:00:00Z",
		flags: func(f *flag.FlagSet) func(*call) error {
			at := f.String("at", "", "the plan as it was at this `time` (RFC 3339)")
			return func(k *call) error {
				r := api.Restore{Revert: api.Revert{Reason: k.reason, DryRun: k.holdsBack(), Confirm: k.yes, Into: k.into}}
				switch {
				case (*at == "") == (len(k.args) == 0):
					return usagef("name a revision or, with --at, a time; one of them. yarnpost plan history lists all")
				case *at != "":
					t, err := time.Parse(time.RFC3339, *at)
					if err != nil {
						return usagef("%q is no time like 2026-11-30T08:00:00Z", *at)
					}
					r.At = &t
				default:
					n, err := strconv.ParseInt(k.args[0], 10, 64)
					if err != nil || n < 1 {
						return usagef("%q is not a revision number", k.args[0])
					}
					r.Revision = n
				}
				return k.changed(k.client.RestorePlan(k.ctx, r))
			}
		}}
}

func revertCommand() command {
	return command{name: "plan revert", args: "REVISION", short: "Undo what one revision changed, as a new revision", least: 1, most: 1,
		write: true,
		more:  "  yarnpost plan revert 19\n  What was changed again since is not undone; the answer names it.",
		flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				n, err := strconv.ParseInt(k.args[0], 10, 64)
				if err != nil {
					return usagef("%q is not a revision number", k.args[0])
				}
				return k.changed(k.client.Revert(k.ctx, n, api.Revert{Reason: k.reason, DryRun: k.holdsBack(), Confirm: k.yes, Into: k.into}))
			}
		}}
}

func againCommand() command {
	return command{name: "plan again", args: "KEY", short: "Apply a revision that was not chosen when two plans had parted", least: 1, most: 1,
		write: true,
		more:  "  yarnpost plan again shuttle-3\n  \"yarnpost pair settle\" lists what is kept aside, with its key.",
		flags: func(*flag.FlagSet) func(*call) error {
			return func(k *call) error {
				return k.changed(k.client.Again(k.ctx, k.args[0], api.Revert{Reason: k.reason, DryRun: k.holdsBack(), Confirm: k.yes, Into: k.into}))
			}
		}}
}

// changed shows what a change of the plan came to, or would.
func (k *call) changed(done api.ChangeResult, err error) error {
	if err != nil {
		return err
	}
	if err := k.showChange(done); err != nil || done.Applied || done.Into != "" || k.dryRun || len(done.Diff) == 0 {
		return err
	}
	return errPreview
}

// summary is what changed in a few words.
func summary(r api.Revision) string {
	diff := r.Diff
	if len(diff) == 0 {
		return ""
	}
	first := diff[0]
	if i := slices.IndexFunc(diff, func(d api.DiffLine) bool { return d.Kind != "link" }); i > 0 {
		first = diff[i] // a link mostly comes along with its scope
	}
	text := first.Kind + " " + first.Name + ": " + first.Text
	if first.Text == "added" || first.Text == "removed" {
		text = first.Kind + " " + first.Name + " " + first.Text
	}
	if r.Items > 1 {
		text += fmt.Sprintf(", and %d more", r.Items-1)
	} else if r.Lines > 1 && first.Text != "added" {
		text += fmt.Sprintf(", and %d more setting", r.Lines-1)
		if r.Lines > 2 {
			text += "s"
		}
	}
	return text
}
