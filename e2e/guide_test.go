package e2e

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// The guide's worked examples, followed to the letter: each block of commands
// between "<!-- example NAME -->" and the end of its code block is run as it
// stands; a line that begins with "# →" must appear in what the command before
// it prints.
func TestGuide(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/guide.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := regexp.MustCompile("(?s)<!-- example ([a-z-]+) -->\\s*```\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	if len(blocks) < 6 {
		t.Fatalf("the guide has %d worked examples only", len(blocks))
	}
	s := startService(t)
	for _, b := range blocks {
		t.Run(b[1], func(t *testing.T) {
			s.t = t
			var out string
			lines := strings.Split(strings.ReplaceAll(b[2], "\\\n", " "), "\n")
			for _, line := range lines {
				switch {
				case strings.HasPrefix(line, "# → "):
					for _, part := range strings.Split(strings.TrimPrefix(line, "# → "), " … ") {
						if !strings.Contains(strings.Join(strings.Fields(out), " "), strings.TrimSpace(part)) {
							t.Errorf("the guide promises %q; the command says:\n%s", part, out)
						}
					}
				case strings.HasPrefix(line, "yarnpost "):
					out = s.must(words(t, line)[1:]...)
				case strings.TrimSpace(line) != "" && !strings.HasPrefix(line, "#"):
					t.Errorf("%q is no command of the example", line)
				}
			}
		})
	}
	s.t = t
}

// words splits a command line as a shell does: at blanks, but not in quotes.
func words(t *testing.T, line string) (out []string) {
	t.Helper()
	line, _, _ = strings.Cut(line, "   #")
	var word strings.Builder
	quote, open := rune(0), false
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '\'' || r == '"'):
			quote, open = r, true
		case quote == 0 && r == ' ':
			if word.Len() > 0 || open {
				out = append(out, word.String())
			}
			word.Reset()
			open = false
		default:
			word.WriteRune(r)
		}
	}
	if quote != 0 {
		t.Fatalf("a quote is open in %s", line)
	}
	return append(out, word.String())
}

// The guide's chapter about pairs, followed to the letter by two servers.
func TestPairGuide(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/guide.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := regexp.MustCompile("(?s)<!-- pair ([a-z-]+) -->\\s*```\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	if len(blocks) < 6 {
		t.Fatalf("the guide has %d examples of pairs only", len(blocks))
	}
	w := unpaired(t)
	out, code := "", ""
	for _, b := range blocks {
		for _, line := range strings.Split(strings.TrimSpace(b[2]), "\n") {
			server, command, isCommand := strings.Cut(line, "$ yarnpost ")
			switch {
			case strings.HasPrefix(line, "# → "):
				for _, part := range strings.Split(strings.TrimPrefix(line, "# → "), " … ") {
					if !strings.Contains(strings.Join(strings.Fields(out), " "), strings.TrimSpace(part)) {
						t.Errorf("%s: the guide promises %q; the command says:\n%s", b[1], part, out)
					}
				}
			case strings.HasPrefix(line, "# "):
				w.happens(strings.TrimPrefix(line, "# "))
			case isCommand:
				s := map[string]*service{"bobbin": w.a, "shuttle": w.b}[server]
				command = strings.NewReplacer("BOBBIN", w.cable.Address(), "CODE", code).Replace(command)
				if strings.HasPrefix(command, "pair status") || strings.HasPrefix(command, "pair pause") || strings.HasPrefix(command, "pair down") {
					w.ready(s, command)
				}
				if strings.HasPrefix(command, "pair join") && strings.Contains(command, "give-up") {
					w.b.await(func() bool { return !pairSeen(w.b).Formed }, "the other to know that the pair is no more")
				}
				out = s.must(words(t, command)...)
				if strings.HasPrefix(command, "pair invite") {
					code = strings.TrimPrefix(strings.TrimSpace(out), "yarnpost pair join ")
				}
			default:
				t.Errorf("%s: %q is nothing that the guide can say", b[1], line)
			}
		}
	}
}

// ready waits for what a person would see before the next command.
func (w *twins) ready(s *service, command string) {
	w.t.Helper()
	switch {
	case strings.HasPrefix(command, "pair down"):
		w.state(s, "communications-interrupted")
	case strings.HasPrefix(command, "pair status"), strings.HasPrefix(command, "pair pause"):
		w.together("before " + command)
	}
}

// happens does what the guide says in between.
func (w *twins) happens(what string) {
	w.t.Helper()
	switch what {
	case "bobbin is off":
		w.a.kill()
	case "bobbin is on":
		w.a.start()
		w.a.await(func() bool { return strings.Contains(w.a.must("scope", "list"), "attic") }, "the returned server to have the plan")
	case "the wire is cut":
		w.cable.Cut()
		w.state(w.a, "communications-interrupted")
		w.state(w.b, "communications-interrupted")
	case "the wire is whole":
		w.cable.Mend()
		w.a.await(func() bool {
			a, b := pairSeen(w.a), pairSeen(w.b)
			return a.Plan == "parted" || a.Takeover && b.Takeover && a.Plan == "together"
		}, "the two to meet again")
	case "the pair stands together":
		w.together("in the guide")
	default:
		w.t.Errorf("the guide says %q, and nobody knows how", what)
	}
}
