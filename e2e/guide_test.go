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
