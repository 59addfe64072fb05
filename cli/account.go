package cli

import (
	"errors"
	"flag"
	"fmt"
	"os"

	"yarnpost/client"
)

// This file has the commands of accounts.

func accountCommands() []command {
	return []command{
		{name: "account list", short: "List who may sign in", flags: func(*flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.Accounts(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("Account", "State", "Since")
				for _, a := range list {
					state := a.State
					if state == "new" {
						state = "new, with its one-time password"
					}
					t.row(a.Name, state, k.when(a.Changed))
				}
				return k.show(list, t, "")
			}
		}},
		{name: "account add", args: "NAME", short: "Make an account; its one-time password is printed this once", least: 1, most: 1, write: true,
			more: "  yarnpost account add ben\n  Ben signs in at the console and chooses a password, or runs yarnpost account password --account ben.",
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if k.dryRun {
						fmt.Fprintf(k.out, "Account %s would be made.\n", k.args[0])
						return nil
					}
					a, err := k.client.AddAccount(k.ctx, k.args[0])
					if err != nil {
						return err
					}
					if k.json || k.csv {
						return k.show(a, newTable(), "")
					}
					fmt.Fprintln(k.out, a.Password)
					fmt.Fprintf(k.err, "That is the one-time password of account %s, and it is nowhere else; its first use is to choose another.\n", a.Name)
					return nil
				}
			}},
		{name: "account close", args: "NAME", short: "End an account at once, with its sessions and tokens", least: 1, most: 1, write: true,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if k.holdsBack() {
						fmt.Fprintf(k.out, "Account %s would be closed, and its sessions and tokens ended.\n", k.args[0])
						if k.dryRun {
							return nil
						}
						return errPreview
					}
					if err := k.client.CloseAccount(k.ctx, k.args[0]); err != nil {
						return err
					}
					fmt.Fprintf(k.out, "Account %s is closed. yarnpost account add opens it again.\n", k.args[0])
					return nil
				}
			}},
		passwordCommand(),
	}
}

func passwordCommand() command {
	return command{name: "account password", short: "Replace your account's password; asks for the old and the new one", most: 0, offline: true,
		flags: func(f *flag.FlagSet) func(*call) error {
			account := f.String("account", "", "of this `account` (default: the token's own)")
			return func(k *call) error {
				ask := prompter(os.Stdin, k.err)
				if *account == "" && k.unknown != nil {
					return k.unknown
				}
				old, err := ask("Old password: ")
				if err == nil && *account != "" {
					err = k.signIn(*account, old)
				}
				if err != nil {
					return err
				}
				first, err := ask("New password: ")
				if err != nil {
					return err
				}
				again, err := ask("The same again: ")
				if err != nil {
					return err
				}
				if first != again {
					return errors.New("the two new passwords differ; nothing was changed")
				}
				if err := k.client.ChangePassword(k.ctx, old, first); err != nil {
					return err
				}
				fmt.Fprintln(k.out, "The password is replaced; sessions of the account have ended.")
				return nil
			}
		}}
}

// signIn has a command act for an account.
func (k *call) signIn(account, password string) (err error) {
	c := client.New(k.at, "")
	if k.ca != "" {
		if err := c.Trust(k.ca); err != nil {
			return err
		}
	}
	k.client, err = c.SignIn(k.ctx, account, password)
	return err
}

// as has a command act for an account, whose password it asks for; "" leaves it as it is.
func (k *call) as(account string, ask func(string) (string, error)) error {
	if account == "" {
		return k.unknown
	}
	password, err := ask("Password of " + account + ": ")
	if err != nil {
		return err
	}
	return k.signIn(account, password)
}
