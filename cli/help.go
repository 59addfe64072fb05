package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
)

// group is what commands are about.
type group struct {
	name, about string
	nouns       []string
}

// groups are all commands, by what they are about.
var groups = []group{
	{"network", "what is defined", []string{"scope", "supernet", "link", "reservation", "option", "codebook", "rule", "list", "field", "defaults"}},
	{"changes", "how the plan changes: history, files, what is prepared", []string{"plan", "change", "sheet", "rehearse", "trail"}},
	{"clients", "who has what, who goes without, and why", []string{"lease", "unserved", "explain", "trace", "trial", "relay", "listening"}},
	{"use", "when addresses run out", []string{"capacity"}},
	{"findings", "what is wrong or odd, and who is told", []string{"audit", "sweep", "alert"}},
	{"servers", "this server, its partner, and who may", []string{"status", "pair", "preflight", "backup", "account", "token", "completion", "version"}},
}

// daily are the commands of a day.
var daily = []string{"status", "scope list", "lease list", "unserved list", "explain", "reservation add", "scope add", "capacity list",
	"audit run", "plan history"}

const footer = `
Flags stand before or after arguments; yarnpost NOUN VERB -h lists them.
--json and --csv print for programs; --dry-run on every write only says what would happen.
Exit codes: 0 done, 1 refused or failed, 2 wrong command line, 3 previewed (--yes goes ahead),
4 server not reached or token not valid, 5 audit found something, or the pair could not take over.
`

// helpFirst is one screen: the commands of a day, and the groups of all.
func helpFirst(w io.Writer) {
	all := commands()
	fmt.Fprint(w, "yarnpost administers a Yarn Post DHCP server.\n\n")
	t := newTable("Every day")
	for _, name := range daily {
		i := slices.IndexFunc(all, func(c command) bool { return c.name == name })
		t.row("  yarnpost "+strings.TrimSpace(all[i].name+" "+all[i].args), all[i].short)
	}
	t.write(w, widthOf(w))
	fmt.Fprintln(w)
	t = newTable("All commands, by what they are about")
	for _, g := range groups {
		t.row("  yarnpost help "+g.name, g.about+": "+strings.Join(g.nouns, ", "))
	}
	t.row("  yarnpost help NOUN", "the commands of one noun, as yarnpost help scope")
	t.write(w, widthOf(w))
	fmt.Fprint(w, footer)
}

// help lists the commands of a group or a noun, or all; it reports whether there are any.
func help(w io.Writer, of string) bool {
	t := newTable()
	list := func(nouns ...string) (any bool) {
		for _, c := range commands() {
			noun, _, _ := strings.Cut(c.name, " ")
			if slices.Contains(nouns, noun) {
				t.row("  yarnpost "+strings.TrimSpace(c.name+" "+c.args), c.short)
				any = true
			}
		}
		return any
	}
	i := slices.IndexFunc(groups, func(g group) bool { return g.name == of })
	switch {
	case i >= 0:
		fmt.Fprintf(w, "%s\n\n", strings.ToUpper(groups[i].about[:1])+groups[i].about[1:])
		for n, noun := range groups[i].nouns {
			if n > 0 {
				t.row("")
			}
			list(noun)
		}
	case !list(of):
		return false
	}
	t.write(w, widthOf(w))
	fmt.Fprint(w, footer)
	return true
}
