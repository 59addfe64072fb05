package cli

import (
	"flag"
	"fmt"
	"strconv"
	"strings"
	"time"

	"yarnpost/api"
)

// This file has the commands of changes in preparation.

func changeCommands() []command {
	return append([]command{
		{name: "change begin", args: "NAME", short: "Begin a change in preparation, to gather edits in over days", least: 1, most: 1, write: true,
			more: "  yarnpost change begin looms-move --note \"the looms move to hall 4\"\n" +
				"  yarnpost scope edit looms --lease 2h --into looms-move\n  yarnpost change show looms-move\n  yarnpost change apply looms-move --yes",
			flags: func(f *flag.FlagSet) func(*call) error {
				note := f.String("note", "", "`text` that says what it is for")
				return func(k *call) error {
					if k.dryRun {
						fmt.Fprintf(k.out, "%s would be begun.\n", k.args[0])
						return nil
					}
					p, err := k.client.BeginChange(k.ctx, api.Begin{Name: k.args[0], Note: *note})
					if err != nil {
						return err
					}
					k.say("", fmt.Sprintf("%s is begun. Commands that change the plan gather in it with --into %s.", p.Name, p.Name))
					return nil
				}
			}},
		{name: "change list", short: "List changes in preparation", flags: func(*flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.AllPrepared(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Change", "Edits", "By", "State", "Note")
				for _, p := range list {
					t.row(p.Name, fmt.Sprint(p.Count), strings.Join(p.Makers, ", "), stateOf(p), p.Note)
				}
				return k.show(list, t, "No change is in preparation. yarnpost change begin NAME begins one.")
			}
		}},
		{name: "change show", args: "NAME", short: "Show what a change in preparation does to the plan as it is now", least: 1, most: 1,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					p, err := k.client.Prepared(k.ctx, k.args[0])
					if err != nil {
						return err
					}
					return k.showPrepared(p)
				}
			}},
		applyChangeCommand(),
		{name: "change postpone", args: "NAME", short: "Take away the moment that a change in preparation is set for", least: 1, most: 1, write: true,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if k.dryRun {
						fmt.Fprintf(k.out, "%s would be called off.\n", k.args[0])
						return nil
					}
					p, err := k.client.CallOffChange(k.ctx, k.args[0])
					if err != nil {
						return err
					}
					k.say("", p.Name+" is called off; leases run their usual time again, and what was gathered stays.")
					return nil
				}
			}},
	}, handleChangeCommands()...)
}

// handleChangeCommands are what is done to what was gathered.
func handleChangeCommands() []command {
	return []command{
		{name: "change approve", args: "NAME", short: "Approve a change in preparation that others made", least: 1, most: 1, write: true,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if k.dryRun {
						fmt.Fprintf(k.out, "%s would be approved as it is.\n", k.args[0])
						return nil
					}
					p, err := k.client.ApproveChange(k.ctx, k.args[0])
					if err != nil {
						return err
					}
					k.say("", p.Name+" is approved as it is; another edit takes that away.")
					return nil
				}
			}},
		{name: "change omit", args: "NAME NUMBER", short: "Take one edit out of a change in preparation", least: 2, most: 2, write: true,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					n, err := strconv.Atoi(k.args[1])
					if err != nil || n < 1 {
						return usagef("%q is no number of an edit; yarnpost change show %s numbers them", k.args[1], k.args[0])
					}
					if k.dryRun {
						fmt.Fprintf(k.out, "Edit %d would be taken out of %s.\n", n, k.args[0])
						return nil
					}
					p, err := k.client.TakeOutEdit(k.ctx, k.args[0], n)
					if err != nil {
						return err
					}
					return k.showPrepared(p)
				}
			}},
		{name: "change drop", args: "NAME", short: "Give up a change in preparation", least: 1, most: 1, write: true,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if k.holdsBack() {
						p, err := k.client.Prepared(k.ctx, k.args[0])
						if err != nil {
							return err
						}
						fmt.Fprintf(k.out, "%s would be given up, with %d edits by %s.\n", p.Name, p.Count, strings.Join(p.Makers, ", "))
						if k.dryRun {
							return nil
						}
						return errPreview
					}
					if err := k.client.DropChange(k.ctx, k.args[0]); err != nil {
						return err
					}
					fmt.Fprintf(k.out, "%s is given up.\n", k.args[0])
					return nil
				}
			}},
	}
}

func applyChangeCommand() command {
	return command{name: "change apply", args: "NAME", short: "Make a change in preparation: now, or by itself at a set moment", least: 1, most: 1,
		write: true,
		more: "  yarnpost change apply looms-move --yes\n" +
			"  yarnpost change apply looms-move --at 2026-12-24T02:00:00Z --undo-within 30m --undo-above 5 --yes\n" +
			"  If the moment is half a lease time ahead at least, each client has a short lease by then, and all\n  have renewed ten minutes later; change show says when, scope by scope.",
		flags: func(f *flag.FlagSet) func(*call) error {
			at := f.String("at", "", "`time` (RFC 3339) or span such as 3d, at which it is made by itself")
			down := f.Bool("run-down", true, "leases run down until then, so that the change soon reaches every client")
			within := f.String("undo-within", "", "`time`, such as 30m, for which it is looked whether clients go unserved")
			above := f.Int("undo-above", 0, "it is undone by itself if more `clients` than so many, beyond those of before, go unserved")
			return func(k *call) error {
				var undo *api.UndoRule
				if *within != "" {
					undo = &api.UndoRule{Within: *within, Above: *above}
				} else if given(f, "undo-above") {
					return usagef("--undo-above needs --undo-within, which says for how long that is looked at")
				}
				if *at == "" {
					return k.changed(k.client.ApplyChange(k.ctx, k.args[0], api.ApplyPrepared{Reason: k.reason, DryRun: k.holdsBack(), Confirm: k.yes,
						Alone: k.alone, Undo: undo}))
				}
				moment, err := moment(*at)
				if err != nil {
					return err
				}
				if k.holdsBack() {
					if err := k.changed(k.client.ApplyChange(k.ctx, k.args[0], api.ApplyPrepared{DryRun: true, Undo: undo})); err != errPreview {
						return err
					}
					fmt.Fprintf(k.out, "It would be made by itself at %s.\n", moment.UTC().Format(time.RFC3339))
					return errPreview
				}
				p, err := k.client.SetDue(k.ctx, k.args[0], api.SetDue{At: moment, RunDown: down, Alone: k.alone, Undo: undo})
				if err != nil {
					return err
				}
				return k.showPrepared(p)
			}
		}}
}

// stateOf is how a change in preparation stands, in a few words.
func stateOf(p api.Prepared) string {
	switch {
	case p.Watched != nil:
		return fmt.Sprintf("made as revision %d, watched until %s", p.Watched.Revision, p.Watched.Until.Format("2006-01-02 15:04 UTC"))
	case p.Failed != "":
		return "failed"
	case p.Due != nil:
		return "due " + p.Due.At.Format("2006-01-02 15:04 UTC")
	case len(p.Approvals) > 0:
		return "approved"
	}
	return "gathering"
}

func (k *call) showPrepared(p api.Prepared) error {
	t := newTable("No.", "Edit", "By", "When")
	for i, e := range p.Edits {
		t.row(fmt.Sprint(i+1), e.Text, e.By, e.At.Format("2006-01-02 15:04"))
	}
	if k.json || k.csv {
		return k.show(p, t, "")
	}
	k.say(p.Name+": ", stateOf(p)+".")
	if p.Note != "" {
		k.say("Note: ", p.Note)
	}
	if len(p.Edits) == 0 {
		k.say("", fmt.Sprintf("Nothing is gathered in it yet. Commands that change the plan do that with --into %s.", p.Name))
		return nil
	}
	k.print(t)
	for i, e := range p.Edits {
		if e.Fault != "" {
			k.say(fmt.Sprintf("Edit %d: ", i+1), "does not fit the plan any more: "+e.Fault+".")
		}
		for _, m := range e.Meanwhile {
			k.say(fmt.Sprintf("Edit %d: ", i+1), "since it was made: "+m+".")
		}
	}
	for _, a := range p.Approvals {
		k.say("Approved: ", "by "+a.By+", "+a.At.Format("2006-01-02 15:04 UTC")+".")
	}
	if p.Failed != "" {
		k.say("Failed: ", p.Failed+".")
	}
	if p.Undo != nil {
		k.say("Undone: ", fmt.Sprintf("by itself, if more than %d clients more than before go unserved within %s.", p.Undo.Above, p.Undo.Within))
	}
	if p.Due != nil && len(p.RunDown) > 0 && p.RunDown[0].From != nil {
		k.print(runDownTable(p))
	}
	if p.Result != nil {
		fmt.Fprintln(k.out)
		return k.showChange(*p.Result)
	}
	return nil
}

// runDownTable is how leases run down until a change is made.
func runDownTable(p api.Prepared) *table {
	t := newTable("Leases run down", "Lease time", "Shorter from", "All renewed by")
	for _, r := range p.RunDown {
		t.row(r.Scope, r.Lease, r.From.Format("2006-01-02 15:04 UTC"), r.Settled.Format("2006-01-02 15:04 UTC"))
	}
	return t
}
