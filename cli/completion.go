package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"yarnpost/api"
)

func completionCommands() []command {
	return []command{{name: "completion", offline: true, args: "bash|zsh|fish", short: "Print shell completion", least: 1, most: -1,
		more: "  source <(yarnpost completion bash)",
		flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				if k.args[0] == "words" { // asked by the scripts themselves
					for _, w := range k.candidates(k.args[1:]) {
						fmt.Fprintln(k.out, w)
					}
					return nil
				}
				script, ok := map[string]func() string{"bash": bashCompletion, "zsh": zshCompletion, "fish": fishCompletion}[k.args[0]]
				if !ok {
					return usagef("completion is there for bash, zsh and fish, not for %q", k.args[0])
				}
				fmt.Fprint(k.out, script())
				return nil
			}
		}}}
}

// vocabulary lists nouns, the verbs of each noun, and the flags of each command.
func vocabulary() (nouns []string, verbs, flags map[string][]string) {
	verbs, flags = map[string][]string{}, map[string][]string{}
	for _, c := range commands() {
		noun, verb, _ := strings.Cut(c.name, " ")
		if !slices.Contains(nouns, noun) {
			nouns = append(nouns, noun)
		}
		if verb != "" {
			verbs[noun] = append(verbs[noun], verb)
		}
		var s, t string
		f, _ := c.flagSet(&call{}, &s, &t)
		f.VisitAll(func(fl *flag.Flag) { flags[c.name] = append(flags[c.name], "--"+fl.Name) })
	}
	return nouns, verbs, flags
}

func bashCompletion() string {
	nouns, verbs, flags := vocabulary()
	var b strings.Builder
	b.WriteString("_yarnpost() {\n  local cur=${COMP_WORDS[COMP_CWORD]} words=\n  case \"$COMP_CWORD:${COMP_WORDS[1]} ${COMP_WORDS[2]}\" in\n")
	fmt.Fprintf(&b, "    1:*) words=%q ;;\n", strings.Join(nouns, " "))
	for _, n := range nouns {
		if len(verbs[n]) > 0 {
			fmt.Fprintf(&b, "    2:%s\\ *) words=%q ;;\n", n, strings.Join(verbs[n], " "))
			for _, v := range verbs[n] {
				fmt.Fprintf(&b, "    *:%s\\ %s) words=%q ;;\n", n, v, strings.Join(flags[n+" "+v], " "))
			}
		} else {
			fmt.Fprintf(&b, "    *:%s\\ *) words=%q ;;\n", n, strings.Join(flags[n], " "))
		}
	}
	b.WriteString("  esac\n  words=\"$words $(yarnpost completion words -- \"${COMP_WORDS[@]:1:COMP_CWORD-1}\" 2>/dev/null)\"\n  COMPREPLY=($(compgen -W \"$words\" -- \"$cur\"))\n}\ncomplete -F _yarnpost yarnpost\n")
	return b.String()
}

func zshCompletion() string {
	return "autoload -U +X bashcompinit && bashcompinit\n" + bashCompletion()
}

func fishCompletion() string {
	nouns, verbs, flags := vocabulary()
	var b strings.Builder
	fmt.Fprintf(&b, "complete -c yarnpost -f -n __fish_use_subcommand -a %q\n", strings.Join(nouns, " "))
	b.WriteString("complete -c yarnpost -f -n 'not __fish_use_subcommand' -a '(yarnpost completion words -- (commandline -opc)[2..-1] 2>/dev/null)'\n")
	for _, n := range nouns {
		if len(verbs[n]) > 0 {
			fmt.Fprintf(&b, "complete -c yarnpost -f -n '__fish_seen_subcommand_from %s; and not __fish_seen_subcommand_from %s' -a %q\n", n,
				strings.Join(verbs[n], " "), strings.Join(verbs[n], " "))
		}
		for _, v := range append(verbs[n], "") {
			name := strings.TrimSpace(n + " " + v)
			for _, f := range flags[name] {
				seen := "__fish_seen_subcommand_from " + n
				if v != "" {
					seen += "; and __fish_seen_subcommand_from " + v
				}
				fmt.Fprintf(&b, "complete -c yarnpost -n '%s' -l %s\n", seen, strings.TrimPrefix(f, "--"))
			}
		}
	}
	return b.String()
}

// candidates are what can follow the words of a command line, as far as only the
// server knows: names of items, options, and values of flags.
func (k *call) candidates(line []string) []string {
	if k.client == nil || len(line) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(k.ctx, time.Second)
	defer cancel()
	k.ctx = ctx
	last := line[len(line)-1]
	switch flag := strings.TrimLeft(last, "-"); {
	case flag == last:
	case flag == "status":
		return []string{"active", "released", "expired", "abandoned"}
	case flag == "identity":
		return []string{"identifier", "hardware"}
	case flag == "bootp":
		return []string{"ignore", "reserved", "dynamic"}
	case flag == "option" || flag == "unset":
		return k.optionNames(flag == "option")
	case flag == "wants":
		return k.optionNames(false)
	default:
		return k.namesOf(flag)
	}
	switch noun := line[0]; {
	case len(line) < 2:
		return nil
	case noun == "option" && (line[1] == "set" || line[1] == "unset"):
		return k.optionNames(line[1] == "set")
	case line[1] == "add":
		return nil
	default:
		return k.namesOf(noun)
	}
}

// optionNames lists the options that can be set, ready for their value.
func (k *call) optionNames(set bool) (out []string) {
	list, err := k.client.Codes(k.ctx, "")
	if err != nil {
		return nil
	}
	for _, c := range list {
		if c.Managed {
			continue
		}
		if set {
			c.Name += "="
		}
		out = append(out, c.Name)
	}
	return out
}

// namesOf lists the items of a kind by name.
func (k *call) namesOf(kind string) []string {
	if kind == "token" { // which is none of the plan's
		list, _ := k.client.Tokens(k.ctx)
		return names(list, func(v api.Token) string { return v.Name })
	}
	list, _ := k.client.Names(k.ctx, kind)
	return list
}

func names[T any](list []T, name func(T) string) (out []string) {
	for _, v := range list {
		out = append(out, name(v))
	}
	return out
}
