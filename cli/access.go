package cli

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"yarnpost/api"
)

// Version is this program's version.
const Version = "0.1.0"

func accessCommands() []command {
	return append(accountCommands(), []command{
		{name: "token list", short: "List API tokens, without their secrets", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.Tokens(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Name", "Account", "Made")
				for _, x := range list {
					t.row(x.Name, x.Account, k.when(x.Made))
				}
				return k.show(list, t, "There is no API token.")
			}
		}},
		{name: "token add", args: "NAME", short: "Make an API token; its secret is printed this once", least: 1, most: 1, write: true, offline: true,
			more: "  yarnpost token add backup-script > ~/.config/yarnpost/token\n  yarnpost token add ben-laptop --account ben",
			flags: func(f *flag.FlagSet) func(*call) error {
				account := f.String("account", "", "of this `account`, whose password is asked for (default: the token's own)")
				return func(k *call) error {
					if err := k.as(*account, prompter(os.Stdin, k.err)); err != nil {
						return err
					}
					list, err := k.client.Tokens(k.ctx)
					if err != nil {
						return err
					}
					if slices.ContainsFunc(list, func(x api.Token) bool { return x.Name == k.args[0] }) {
						return fmt.Errorf("API token %s is there already; revoke it first, or choose another name", k.args[0])
					}
					if k.dryRun {
						fmt.Fprintf(k.out, "API token %s would be made.\n", k.args[0])
						return nil
					}
					x, err := k.client.AddToken(k.ctx, k.args[0])
					if err != nil {
						return err
					}
					if k.json || k.csv {
						return k.show(x, newTable(), "")
					}
					fmt.Fprintln(k.out, x.Secret)
					fmt.Fprintf(k.err, "That is the secret of token %s, and it is nowhere else; keep it in a file that only its user can read.\n", x.Name)
					return nil
				}
			}},
		{name: "token revoke", args: "NAME", short: "End an API token at once", least: 1, most: 1, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Tokens(k.ctx)
					if err != nil {
						return err
					}
					if !slices.ContainsFunc(list, func(x api.Token) bool { return x.Name == k.args[0] }) {
						return fmt.Errorf("API token %s is not there; yarnpost token list shows all", k.args[0])
					}
					if k.dryRun || !k.yes {
						fmt.Fprintf(k.out, "API token %s would be revoked: whoever uses it is refused at once.\n", k.args[0])
						if k.dryRun {
							return nil
						}
						return errPreview
					}
					if err := k.client.RevokeToken(k.ctx, k.args[0]); err != nil {
						return err
					}
					fmt.Fprintf(k.out, "API token %s is revoked.\n", k.args[0])
					return nil
				}
			}},
		{name: "version", offline: true, short: "Print the version of this program and of the server", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				t := newTable("Program", "Version")
				t.row("yarnpost", Version)
				out := []api.Program{{Name: "yarnpost", Version: Version}}
				if k.client != nil {
					if s, err := k.client.Status(k.ctx); err == nil {
						t.row("yarnpostd", s.Version)
						out = append(out, api.Program{Name: "yarnpostd", Version: s.Version})
					} else {
						fmt.Fprintln(k.err, "The server was not asked:", err)
					}
				}
				return k.show(out, t, "")
			}
		}},
	}...)
}

// watched reports whether somebody sees progress while it is made.
func (k *call) watched() bool {
	f, ok := k.err.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// prompter asks for secrets: without an echo on a terminal, else a line each.
func prompter(in *os.File, prompts io.Writer) func(prompt string) (string, error) {
	if term.IsTerminal(int(in.Fd())) {
		return func(prompt string) (string, error) {
			fmt.Fprint(prompts, prompt)
			b, err := term.ReadPassword(int(in.Fd()))
			fmt.Fprintln(prompts)
			return string(b), err
		}
	}
	lines := bufio.NewReader(in)
	return func(string) (string, error) {
		line, err := lines.ReadString('\n')
		if errors.Is(err, io.EOF) && line == "" {
			return "", usagef("another line is needed on standard input: the old password, and the new one twice")
		}
		return strings.TrimRight(line, "\r\n"), nil
	}
}
