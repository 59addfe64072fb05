// Package cli is the command line of yarnpost: a noun and a verb, flags before
// or after arguments, an aligned table for people and JSON or CSV for programs.
// It knows the HTTP API through its client, of the core what computes without a
// server, and nothing else of the service.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"yarnpost/api"
	"yarnpost/client"
)

// Exit codes.
const (
	ExitOK       = 0
	ExitRefused  = 1 // the server refused, or something failed
	ExitUsage    = 2 // the command line is wrong
	ExitPreview  = 3 // nothing was changed; --yes is needed
	ExitNoServer = 4 // the server cannot be reached, or does not know the token
)

// command is one noun and verb.
type command struct {
	name    string // "scope add"
	args    string // "NAME"
	short   string
	more    string // examples
	least   int    // arguments needed
	most    int    // arguments allowed; -1 for any number
	write   bool   // takes --dry-run, --reason
	offline bool   // does without a server, or may
	flags   func(*flag.FlagSet) func(*call) error
}

// call is one run of a command.
type call struct {
	ctx    context.Context
	client *client.Client
	args   []string
	out    io.Writer
	err    io.Writer
	json   bool
	csv    bool
	wide   bool
	ca     string
	dryRun bool
	yes    bool
	reason string
	alone  bool
	at     string // where the server is
	into   string // the change in preparation that changes are gathered in

	unknown error       // why there is no client
	capture *[]api.Edit // edits go here, and nothing is changed
	also    []api.Edit  // what is changed beside what a command says first
}

// needsServer is why a server cannot be asked by a command that may do without, or
// nil.
func (k *call) needsServer() error { return k.unknown }

var errUsage = errors.New("usage")

// errPreview ends a command that only showed what it would do.
var errPreview = fmt.Errorf("%wrepeat the command with --yes to go ahead", errOnlyPreview)

// errOnlyPreview is wrapped by what ends a command that changed nothing.
var errOnlyPreview = errors.New("nothing was changed; ")

func usagef(format string, args ...any) error {
	return fmt.Errorf("%w: %s", errUsage, fmt.Sprintf(format, args...))
}

func commands() []command {
	var all []command
	all = append(all, statusCommands()...)
	all = append(all, defaultsCommands()...)
	all = append(all, scopeCommands()...)
	all = append(all, supernetCommands()...)
	all = append(all, linkCommands()...)
	all = append(all, fieldCommands()...)
	all = append(all, reservationCommands()...)
	all = append(all, optionCommands()...)
	all = append(all, codebookCommands()...)
	all = append(all, ruleCommands()...)
	all = append(all, listCommands()...)
	all = append(all, leaseCommands()...)
	all = append(all, actingCommands()...)
	all = append(all, unservedCommands()...)
	all = append(all, understandCommands()...)
	all = append(all, trialCommands()...)
	all = append(all, planCommands()...)
	all = append(all, proposeCommand())
	all = append(all, changeCommands()...)
	all = append(all, sheetCommands()...)
	all = append(all, trailCommands()...)
	all = append(all, pairCommands()...)
	all = append(all, capacityCommands()...)
	all = append(all, auditCommands()...)
	all = append(all, rehearseCommands()...)
	all = append(all, alertCommands()...)
	all = append(all, backupCommands()...)
	all = append(all, accessCommands()...)
	all = append(all, completionCommands()...)
	return all
}

// Run runs one command line and gives its exit code.
func Run(ctx context.Context, args []string, stdout, stderr io.Writer) int {
	err := run(ctx, args, stdout, stderr)
	var problem *client.Problem
	switch {
	case err == nil:
		return ExitOK
	case errors.Is(err, flag.ErrHelp):
		return ExitOK
	case errors.Is(err, errOnlyPreview):
		fmt.Fprintln(stderr, err)
		return ExitPreview
	case errors.Is(err, errFindings):
		return ExitFindings
	case errors.Is(err, errNoTakeover):
		return ExitNoTakeover
	case errors.Is(err, errUsage):
		fmt.Fprintln(stderr, "yarnpost:", strings.TrimPrefix(err.Error(), "usage: "))
		return ExitUsage
	case errors.As(err, &problem):
		fmt.Fprintln(stderr, "yarnpost:", err)
		if problem.Status == 401 {
			return ExitNoServer
		}
		return ExitRefused
	case strings.HasPrefix(err.Error(), "cannot reach the server"):
		fmt.Fprintln(stderr, "yarnpost:", err)
		fmt.Fprintln(stderr, "Is yarnpostd running? Name another server with --server or YARNPOST_SERVER.")
		return ExitNoServer
	}
	fmt.Fprintln(stderr, "yarnpost:", err)
	return ExitRefused
}

func run(ctx context.Context, args []string, stdout, stderr io.Writer) error {
	words, rest := split(args)
	if len(words) == 0 || words[0] == "help" {
		of := strings.Join(words[min(1, len(words)):], " ")
		for _, c := range commands() {
			if c.name == of {
				c.help(stdout)
				return nil
			}
		}
		if of == "" {
			helpFirst(stdout)
			return nil
		}
		if !help(stdout, of) {
			return usagef("there is no command %q; yarnpost help lists all", of)
		}
		return nil
	}
	all := commands()
	var cmd *command
	used := 0
	for i := range all {
		n := strings.Count(all[i].name, " ") + 1
		if len(words) >= n && all[i].name == strings.Join(words[:n], " ") && n > used {
			cmd, used = &all[i], n
		}
	}
	if cmd == nil {
		if hasHelp(rest) || len(words) == 1 && isNoun(all, words[0]) {
			help(stdout, words[0])
			return nil
		}
		return usagef("there is no command %q; yarnpost help lists all", strings.Join(words[:min(2, len(words))], " "))
	}
	return cmd.run(ctx, drop(args, used), stdout, stderr)
}

// split gives the leading words that can be a command, wherever global flags
// with values stand.
func split(args []string) (words, rest []string) {
	for i := 0; i < len(args); i++ {
		if a := args[i]; strings.HasPrefix(a, "-") {
			if n := strings.TrimLeft(a, "-"); n == "server" || n == "token-file" || n == "ca" {
				i++
			}
			rest = append(rest, a)
			continue
		}
		words = append(words, args[i])
	}
	return words, rest
}

// drop removes the first n words from the arguments and keeps the flags.
func drop(args []string, n int) []string {
	var out []string
	for i := 0; i < len(args); i++ {
		a := args[i]
		if strings.HasPrefix(a, "-") {
			out = append(out, a)
			if name := strings.TrimLeft(a, "-"); (name == "server" || name == "token-file" || name == "ca") && i+1 < len(args) {
				i++
				out = append(out, args[i])
			}
			continue
		}
		if n > 0 {
			n--
			continue
		}
		out = append(out, a)
	}
	return out
}

func hasHelp(flags []string) bool {
	for _, f := range flags {
		if n := strings.TrimLeft(f, "-"); n == "h" || n == "help" {
			return true
		}
	}
	return false
}

func isNoun(all []command, word string) bool {
	for _, c := range all {
		if strings.HasPrefix(c.name, word+" ") {
			return true
		}
	}
	return false
}

// flagSet makes the flags of the command: its own and those all share.
func (c *command) flagSet(k *call, server, tokenFile *string) (*flag.FlagSet, func(*call) error) {
	f := flag.NewFlagSet("yarnpost "+c.name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	do := c.flags(f)
	f.StringVar(server, "server", *server, "`URL` of the server [YARNPOST_SERVER]")
	f.StringVar(tokenFile, "token-file", *tokenFile, "`file` with the API token [YARNPOST_TOKEN_FILE]")
	f.StringVar(&k.ca, "ca", k.ca, "`file` of certificates to trust, for a server of your own authority [YARNPOST_CA]")
	f.BoolVar(&k.json, "json", false, "print JSON")
	f.BoolVar(&k.csv, "csv", false, "print CSV (RFC 4180), all that an item has")
	f.BoolVar(&k.wide, "wide", false, "print tables in full, however wide")
	if c.write {
		f.BoolVar(&k.dryRun, "dry-run", false, "only say what would happen")
		f.BoolVar(&k.yes, "yes", false, "go ahead where a command only previews otherwise")
		f.StringVar(&k.reason, "reason", "", "`text` kept with the change")
		if c.changesPlan() {
			f.StringVar(&k.into, "into", "", "gather it in this change in preparation, by its `name`, and change nothing now")
		}
		if !strings.HasPrefix(c.name, "pair ") {
			f.BoolVar(&k.alone, "alone", false, "change the plan although the other server of the pair cannot be reached")
		}
	}
	return f, do
}

// changesPlan reports whether a command that writes makes changes of the plan, which can be
// gathered instead.
func (c *command) changesPlan() bool {
	noun, _, _ := strings.Cut(c.name, " ")
	switch noun {
	case "defaults", "supernet", "scope", "link", "field", "reservation", "option", "codebook", "rule", "list", "trial", "plan", "sheet":
		return true
	}
	return false
}

// holdsBack reports whether a command only previews, since nobody said --yes. What is gathered
// changes nothing yet.
func (k *call) holdsBack() bool { return k.dryRun || !k.yes && k.into == "" }

func (c *command) run(ctx context.Context, args []string, stdout, stderr io.Writer) error {
	k := &call{ctx: ctx, out: stdout, err: stderr, ca: env("YARNPOST_CA", "")}
	server := env("YARNPOST_SERVER", "http://127.0.0.1:8067")
	tokenFile := env("YARNPOST_TOKEN_FILE", "")
	f, do := c.flagSet(k, &server, &tokenFile)
	for { // flags may stand before and after arguments, up to a --
		if len(args) > 0 && args[0] == "--" {
			k.args = append(k.args, args[1:]...)
			break
		}
		if err := f.Parse(args); errors.Is(err, flag.ErrHelp) {
			c.help(stdout)
			return err
		} else if err != nil {
			return usagef("%s; yarnpost %s -h lists the flags", flagFault(err), c.name)
		}
		if f.NArg() == 0 {
			break
		}
		k.args = append(k.args, f.Arg(0))
		args = f.Args()[1:]
	}
	if len(k.args) < c.least {
		return usagef("yarnpost %s needs %s; see yarnpost %s -h", c.name, c.args, c.name)
	}
	if c.most >= 0 && len(k.args) > c.most {
		return usagef("yarnpost %s does not take %q; see yarnpost %s -h", c.name, k.args[c.most], c.name)
	}
	if k.json && k.csv {
		return usagef("choose one of --json and --csv")
	}
	k.at = server
	token, err := readToken(tokenFile)
	if k.unknown = err; err != nil && !c.offline {
		return err
	}
	if err == nil {
		k.client = client.New(server, token)
		k.client.Reason = k.reason
		if k.ca != "" {
			if err := k.client.Trust(k.ca); err != nil {
				return err
			}
		}
		if k.dryRun { // whatever the command does, nothing changes
			k.client = k.client.Previewing()
		}
	}
	return do(k)
}

// flagFault says what is wrong with a flag as one writes it.
func flagFault(err error) string {
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "flag provided but not defined: -"); ok {
		return "--" + name + " is no flag of this command"
	}
	if name, ok := strings.CutPrefix(text, "flag needs an argument: -"); ok {
		return "--" + name + " needs a value"
	}
	for _, kind := range []string{"", "boolean "} {
		rest, ok := strings.CutPrefix(text, "invalid "+kind+"value ")
		value, rest, found := strings.Cut(rest, " for flag -")
		if !found {
			value, rest, found = strings.Cut(value, " for -")
		}
		if name, why, parted := strings.Cut(rest, ": "); ok && found && parted {
			if why == "parse error" || why == "value out of range" {
				why = "that is no value for it"
			}
			return "--" + name + " " + strings.Trim(value, `"`) + ": " + why
		}
	}
	return text
}

func env(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}

// readToken reads the token from the named file, or from where the service and
// administrators keep it.
func readToken(file string) (string, error) {
	if t := os.Getenv("YARNPOST_TOKEN"); t != "" && file == "" {
		return t, nil
	}
	places := []string{file}
	if file == "" {
		places = []string{"yarnpost-data/admin.token"}
		if dir, err := os.UserConfigDir(); err == nil {
			places = append(places, filepath.Join(dir, "yarnpost", "token"))
		}
	}
	var first error
	for _, p := range places {
		b, err := os.ReadFile(p)
		if err == nil {
			return strings.TrimSpace(string(b)), nil
		}
		if first == nil {
			first = err
		}
	}
	return "", usagef("no API token: %v; name the file with --token-file or YARNPOST_TOKEN_FILE (the service writes admin.token into its data folder)", first)
}

func (c *command) help(w io.Writer) {
	fmt.Fprintf(w, "%s\n\n  yarnpost %s %s [flags]\n\n", c.short, c.name, c.args)
	var server, token string
	f, _ := c.flagSet(&call{}, &server, &token)
	t := newTable()
	f.VisitAll(func(fl *flag.Flag) {
		name, text := flag.UnquoteUsage(fl)
		if name != "" {
			name = " " + strings.ToUpper(name)
		}
		t.row("  --"+fl.Name+name, text)
	})
	t.write(w, widthOf(w))
	if c.more != "" {
		fmt.Fprintf(w, "\n%s\n", c.more)
	}
}
