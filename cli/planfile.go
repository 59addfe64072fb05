package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"yarnpost/api"
	"yarnpost/client"
	"yarnpost/planfile"
)

// This file has the commands for plan files.

func planFileCommands() []command {
	return []command{
		exportCommand(), checkCommand(), previewCommand(), applyCommand(), formatCommand(),
		{name: "plan keys", args: "[SECTION]", short: "What may stand in a plan file", most: 1, offline: true,
			more: "  yarnpost plan keys scopes",
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					of := ""
					if len(k.args) > 0 {
						of = k.args[0]
					}
					rows, known := planfile.Keys(of)
					if !known {
						return usagef("a plan file has no section %q; yarnpost plan keys shows all", of)
					}
					t := newTable("Section", "Key", "Value", "Meaning")
					for _, r := range rows {
						t.row(r.Section, r.Key, r.Value, r.Meaning)
					}
					return k.show(rows, t, "")
				}
			}},
		{name: "plan schema", short: "Print the JSON Schema of plan files, by which editors complete and check them", most: 0, offline: true,
			more: "  yarnpost plan schema > plan.schema.json",
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					_, err := k.out.Write(planfile.Schema())
					return err
				}
			}},
	}
}

// readFile reads a file, or for - what comes in.
func readFile(name string) ([]byte, error) {
	if name == "-" {
		b, err := io.ReadAll(io.LimitReader(os.Stdin, planfile.Most+1))
		if err != nil {
			return nil, fmt.Errorf("read the standard input: %w", err)
		}
		return b, nil
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("read the plan file: %w", err)
	}
	return b, nil
}

// writeFile puts a file in place of another, as a whole or not at all.
func writeFile(name string, text []byte) error {
	mode := os.FileMode(0o644)
	if old, err := os.Stat(name); err == nil {
		mode = old.Mode().Perm()
	}
	next := name + ".new"
	if err := os.WriteFile(next, text, mode); err != nil {
		return fmt.Errorf("write %s: %w", name, err)
	}
	if err := os.Rename(next, name); err != nil {
		return errors.Join(fmt.Errorf("write %s: %w", name, err), os.Remove(next))
	}
	return nil
}

func exportCommand() command {
	return command{name: "plan export", args: "[FILE]", short: "Write the plan as a plan file: to a file, or here", most: 1,
		more: "  yarnpost plan export plan.yaml\n  yarnpost plan export --only scope,reservation > scopes.yaml",
		flags: func(f *flag.FlagSet) func(*call) error {
			only := f.String("only", "", "only these `kinds` of items, such as scope,reservation; a file that covers a part")
			revision := f.Int64("revision", 0, "the plan as the revision of this `number` left it")
			at := f.String("at", "", "the plan as it was at this `time`: 2026-11-17 14:05, here, or RFC 3339")
			return func(k *call) error {
				q := client.PlanQuery{Revision: *revision}
				if *only != "" {
					q.Only = strings.Split(*only, ",")
				}
				if *at != "" {
					var err error
					if q.At, err = past(*at); err != nil {
						return err
					}
				}
				text, err := k.client.PlanFile(k.ctx, q)
				if err != nil {
					return err
				}
				if len(k.args) == 0 {
					_, err := k.out.Write(text)
					return err
				}
				if err := writeFile(k.args[0], text); err != nil {
					return err
				}
				fmt.Fprintf(k.out, "Written to %s.\n", k.args[0])
				return nil
			}
		}}
}

// faulty prints the faults of a file, one a line, as editors and pipelines read them.
func (k *call) faulty(name string, faults []planfile.Fault) error {
	for _, f := range faults {
		place := name
		if f.Line > 0 {
			place = fmt.Sprintf("%s:%d", name, f.Line)
		}
		if f.Column > 0 {
			place = fmt.Sprintf("%s:%d", place, f.Column)
		}
		fmt.Fprintf(k.err, "%s: %s\n", place, harmless(f.Text))
	}
	return fmt.Errorf("%s has %s", name, many(len(faults), "fault"))
}

func checkCommand() command {
	return command{name: "plan check", args: "FILE", short: "Say what is wrong with a plan file; no server is asked. Exit code 1 if anything is", least: 1, most: 1,
		offline: true,
		more:    "  yarnpost plan check plan.yaml\n  yarnpost plan check scopes.yaml --against plan.yaml     (a part, within the whole)",
		flags: func(f *flag.FlagSet) func(*call) error {
			against := f.String("against", "", "`file` that has the rest of the plan")
			return func(k *call) error {
				text, err := readFile(k.args[0])
				if err != nil {
					return err
				}
				var rest []byte
				if *against != "" {
					if rest, err = readFile(*against); err != nil {
						return err
					}
				}
				done := planfile.Check(text, rest)
				if len(done.Faults) > 0 {
					return k.faulty(k.args[0], done.Faults)
				}
				has := "nothing"
				if len(done.Counts) > 0 {
					has = strings.Join(done.Counts, ", ")
				}
				covers := "the whole plan"
				if done.Covers == planfile.Part {
					covers = "a part of the plan"
				}
				fmt.Fprintf(k.out, "%s is good: %s; it covers %s.\n", k.args[0], has, covers)
				if done.Alone {
					fmt.Fprintln(k.out, "It was looked at by itself: yarnpost plan check --against FILE or yarnpost plan preview say whether it fits the rest.")
				}
				for _, a := range done.Advice {
					k.say("Advice: ", a+".")
				}
				return nil
			}
		}}
}

// located turns a refusal of a file into its faults, one a line.
func (k *call) located(name string, err error) error {
	var problem *client.Problem
	if !errors.As(err, &problem) || len(problem.Errors) == 0 {
		return err
	}
	var faults []planfile.Fault
	for _, e := range problem.Errors {
		f := planfile.Fault{Text: e.Message}
		if n, _ := fmt.Sscanf(e.Location, "line %d, column %d", &f.Line, &f.Column); n == 0 {
			f.Text = strings.TrimPrefix(e.Location+": "+e.Message, ": ")
		}
		faults = append(faults, f)
	}
	_ = k.faulty(name, faults)
	return errors.New(problem.Detail)
}

// sendFile has a server preview or apply a plan file.
func (k *call) sendFile(text []byte, o api.FileOrder) (api.ChangeResult, error) {
	done, err := k.client.ApplyPlanFile(k.ctx, text, o)
	return done, k.located(k.args[0], err)
}

func previewCommand() command {
	return command{name: "plan preview", args: "FILE", short: "Show what a plan file would change. Exit code 0 if nothing, 3 if anything", least: 1, most: 1,
		more: "  yarnpost plan preview plan.yaml",
		flags: func(*flag.FlagSet) func(*call) error {
			return func(k *call) error {
				text, err := readFile(k.args[0])
				if err != nil {
					return err
				}
				return k.previewed(k.sendFile(text, api.FileOrder{DryRun: true, Overwrite: true}))
			}
		}}
}

// previewed shows what a file would change.
func (k *call) previewed(done api.ChangeResult, err error) error {
	if err != nil {
		return err
	}
	if err := k.showChange(done); err != nil || len(done.Diff) == 0 {
		return err
	}
	return errWouldChange
}

// errWouldChange ends a preview of a file that would change something.
var errWouldChange = fmt.Errorf("%wapply makes the change", errOnlyPreview)

func applyCommand() command {
	return command{name: "plan apply", args: "FILE", short: "Make the plan what a plan file says, as one revision or not at all", least: 1, most: 1,
		write: true,
		more: "  yarnpost plan apply plan.yaml --yes --reason \"VLAN 40\"\n" +
			"  Without --yes it only shows what would change. A file that names a revision does not undo what was changed since;\n" +
			"  with --overwrite it does. After a change the file names the new revision.",
		flags: func(f *flag.FlagSet) func(*call) error {
			overwrite := f.Bool("overwrite", false, "undo what was changed since the file's revision")
			return func(k *call) error {
				text, err := readFile(k.args[0])
				if err != nil {
					return err
				}
				o := api.FileOrder{Overwrite: *overwrite, Reason: k.reason, DryRun: k.holdsBack(), Confirm: k.yes, Alone: k.alone, Into: k.into}
				done, err := k.sendFile(text, o)
				if err != nil {
					return err
				}
				if next := planfile.Rebase(text, done.Revision); done.Applied && k.args[0] != "-" && string(next) != string(text) {
					if err := writeFile(k.args[0], next); err != nil {
						return fmt.Errorf("revision %d was applied, but the file does not name it: %w", done.Revision, err)
					}
				}
				return k.changed(done, nil)
			}
		}}
}

func formatCommand() command {
	return command{name: "plan format", args: "FILE", short: "Put the sections and keys of a plan file into the usual order; comments stay", least: 1, most: 1,
		offline: true,
		more:    "  yarnpost plan format plan.yaml\n  yarnpost plan format plan.yaml --check     (exit code 1 if it is not in order)",
		flags: func(f *flag.FlagSet) func(*call) error {
			check := f.Bool("check", false, "change nothing, and say whether it is in order")
			return func(k *call) error {
				name := k.args[0]
				text, err := readFile(name)
				if err != nil {
					return err
				}
				next, faults := planfile.Format(text)
				switch {
				case len(faults) > 0:
					return k.faulty(name, faults)
				case name == "-" && !*check:
					_, err := k.out.Write(next)
					return err
				case string(next) == string(text):
					fmt.Fprintf(k.out, "%s is in order.\n", name)
					return nil
				case *check:
					return fmt.Errorf("%s is not in order; yarnpost plan format %s puts it so", name, name)
				}
				if err := writeFile(name, next); err != nil {
					return err
				}
				fmt.Fprintf(k.out, "%s is in order now.\n", name)
				return nil
			}
		}}
}
