package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"
)

func completionCommands() []command {
	return []command{{name: "completion", args: "bash|zsh|fish", short: "Print shell completion", least: 1, most: 1,
		more: "  source <(yarnpost completion bash)",
		flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				script, ok := map[string]func() string{"bash": bashCompletion, "zsh": zshCompletion, "fish": fishCompletion}[k.args[0]]
				if !ok {
					return usagef("completion is there for bash, zsh and fish, not for %q", k.args[0])
				}
				fmt.Fprint(k.out, script())
				return nil
			}
		}}}
}

// words lists nouns, the verbs of each noun, and the flags of each command.
func words() (nouns []string, verbs, flags map[string][]string) {
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
	nouns, verbs, flags := words()
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
	b.WriteString("  esac\n  COMPREPLY=($(compgen -W \"$words\" -- \"$cur\"))\n}\ncomplete -F _yarnpost yarnpost\n")
	return b.String()
}

func zshCompletion() string {
	return "autoload -U +X bashcompinit && bashcompinit\n" + bashCompletion()
}

func fishCompletion() string {
	nouns, verbs, flags := words()
	var b strings.Builder
	fmt.Fprintf(&b, "complete -c yarnpost -f -n __fish_use_subcommand -a %q\n", strings.Join(nouns, " "))
	for _, n := range nouns {
		if len(verbs[n]) > 0 {
			fmt.Fprintf(&b, "complete -c yarnpost -f -n '__fish_seen_subcommand_from %s; and not __fish_seen_subcommand_from %s' -a %q\n", n, strings.Join(verbs[n], " "), strings.Join(verbs[n], " "))
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
