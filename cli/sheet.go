package cli

import (
	"flag"
	"fmt"
	"strings"

	"yarnpost/api"
	"yarnpost/sheet"
)

// This file has the commands for sheets.

// leaseSheet is the kind of sheet that has no plan, but what another server promised.
const leaseSheet = "lease"

// sheetKind is the kind of sheet that is named, in the singular or the plural.
func sheetKind(word string) (string, error) {
	kinds := append(sheet.Kinds(), leaseSheet)
	for _, k := range kinds {
		if word == k || word == k+"s" || k == "entry" && word == "entries" {
			return k, nil
		}
	}
	return "", usagef("there is no sheet of %q; there are sheets of %s", word, strings.Join(kinds, ", "))
}

func sheetCommands() []command {
	return []command{
		{name: "sheet export", args: "KIND [FILE]", short: "Write all scopes, reservations, exclusions, entries of lists, or active leases as a sheet (CSV)", least: 1, most: 2,
			more:  "  yarnpost sheet export reservations reservations.csv",
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.writeSheet(false) } }},
		{name: "sheet template", args: "KIND [FILE]", short: "Write the columns that a sheet can have, and a row that shows how they are filled",
			least: 1, most: 2,
			more:  "  yarnpost sheet template scopes",
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.writeSheet(true) } }},
		{name: "sheet preview", args: "KIND FILE", short: "Show what a sheet would change. Exit code 0 if nothing, 3 if anything", least: 2, most: 2,
			more: "  yarnpost sheet preview scopes scopes.csv",
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if kind, _ := sheetKind(k.args[0]); kind == leaseSheet {
						return k.bring(true)
					}
					return k.previewed(k.sendSheet(api.FileOrder{DryRun: true}))
				}
			}},
		{name: "sheet apply", args: "KIND FILE", short: "Add or change what a sheet has, a row each, as one revision or not at all", least: 2, most: 2,
			write: true,
			more: "  yarnpost sheet apply reservations new.csv --yes --reason \"handed in by the weavers\"\n" +
				"  Without --yes it only shows what would change. Columns stand in any order; one that is not there changes nothing,\n" +
				"  an empty cell sets nothing. Options have columns of their own, such as \"option router\".\n" +
				"  A sheet of leases takes what another server promised into the table, so that clients keep their addresses.",
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if kind, _ := sheetKind(k.args[0]); kind == leaseSheet {
						return k.bring(k.dryRun || !k.yes)
					}
					return k.changed(k.sendSheet(api.FileOrder{Reason: k.reason, DryRun: k.holdsBack(), Confirm: k.yes, Alone: k.alone, Into: k.into}))
				}
			}},
	}
}

func (k *call) writeSheet(template bool) error {
	kind, err := sheetKind(k.args[0])
	if err != nil {
		return err
	}
	var text []byte
	if kind == leaseSheet {
		text, err = k.client.LeaseSheet(k.ctx, "", template)
	} else {
		text, err = k.client.Sheet(k.ctx, kind, template)
	}
	if err != nil {
		return err
	}
	if len(k.args) == 1 {
		_, err := k.out.Write(text)
		return err
	}
	if err := writeFile(k.args[1], text); err != nil {
		return err
	}
	fmt.Fprintf(k.out, "Written to %s.\n", k.args[1])
	return nil
}

// sendSheet has a server preview or apply a sheet.
func (k *call) sendSheet(o api.FileOrder) (api.ChangeResult, error) {
	kind, err := sheetKind(k.args[0])
	if err != nil {
		return api.ChangeResult{}, err
	}
	text, err := readFile(k.args[1])
	if err != nil {
		return api.ChangeResult{}, err
	}
	done, err := k.client.ApplySheet(k.ctx, kind, text, o)
	return done, k.located(k.args[1], err)
}

// bring has a server take the leases of a sheet into its table, or say what would become of them.
func (k *call) bring(preview bool) error {
	text, err := readFile(k.args[1])
	if err != nil {
		return err
	}
	b, err := k.client.BringLeases(k.ctx, text, preview)
	if err != nil {
		return k.located(k.args[1], err)
	}
	if k.json || k.csv {
		t := newTable("Left")
		for _, l := range b.Left {
			t.row(l)
		}
		err = k.show(b, t, "")
	} else {
		for _, l := range b.Left {
			k.say("Left: ", l+".")
		}
		fmt.Fprintln(k.out, b.Text+".")
	}
	if err == nil && !b.Applied && !k.dryRun && b.Taken > 0 {
		return errPreview
	}
	return err
}
