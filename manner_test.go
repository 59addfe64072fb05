package yarnpost

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
)

// The manner in which the code is written, as far as it can be counted.
const (
	columnsMost  = 140 // of a line of Go, but where texts alone take most of it
	functionMost = 80  // lines of a function
)

// longFunctions are those that may be longer, each with its reason.
var longFunctions = map[string]string{
	"bench/holdup.go: heldUp":                                "a report, from top to bottom",
	"bench/main.go: run":                                     "a report, from top to bottom",
	"bench/pair.go: asPair":                                  "a report, from top to bottom",
	"cli/access.go: accessCommands":                          "a list of commands",
	"cli/audit.go: auditCommands":                            "a list of commands",
	"demo/mill.go: plan4":                                    "the mill's plan, in order",
	"demo/run.go: misbehave":                                 "a list of troubles",
	"e2e/capacity_test.go: TestAlertsGoWhereTheyMay":         "one story",
	"e2e/capacity_test.go: TestPoolRunsOut":                  "one story",
	"service/store/samples_test.go: TestSamplesAreKept":      "one story",
	"cli/reservation.go: reservationCommands":                "a list of commands",
	"cli/pair.go: pairCommands":                              "a list of commands",
	"cli/reservation.go: optionCommands":                     "a list of commands",
	"cli/rules.go: ruleCommands":                             "a list of commands",
	"cli/rules.go: codebookCommands":                         "a list of commands",
	"cli/rules.go: trialCommands":                            "a list of commands",
	"cli/scope.go: scopeCommands":                            "a list of commands",
	"core/lease/rebuild_test.go: TestTurnBesideTraffic":      "one story",
	"e2e/console_test.go: TestConsole":                       "one story",
	"e2e/service_test.go: TestCommands":                      "one story",
	"e2e/service_test.go: TestAccess":                        "one story",
	"e2e/squatter_test.go: TestListeningBesideAnotherServer": "one story",
	"e2e/squatter_test.go: TestNudgeOnTheWire":               "one story",
	"e2e/understand_test.go: TestUnderstanding":              "one story",
	"service/httpd/plan.go: registerPlan":                    "a list of operations",
	"service/httpd/rules.go: registerRules":                  "a list of operations",
}

// goFiles are the Go files under version control.
func goFiles(t *testing.T) []string {
	t.Helper()
	out, err := exec.Command("git", "ls-files", "*.go").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.Fields(string(out))
}

var texts = regexp.MustCompile("`[^`]*`|\"(\\\\.|[^\"\\\\])*\"")

func TestLinesAreShort(t *testing.T) {
	for _, name := range goFiles(t) {
		src, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		raw := false // inside a text of several lines
		for n, line := range bytes.Split(src, []byte("\n")) {
			inside := raw || bytes.Count(line, []byte("`"))%2 == 1
			raw = raw != (bytes.Count(line, []byte("`"))%2 == 1)
			if rest := texts.ReplaceAll(line, nil); !inside && len(line) > columnsMost && len(rest) > 2*columnsMost/3 {
				t.Errorf("%s:%d has %d columns, %d without its texts", name, n+1, len(line), len(rest))
			}
		}
	}
}

func TestFunctionsAreShort(t *testing.T) {
	used := map[string]bool{}
	for _, name := range goFiles(t) {
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			lines := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1
			id := fmt.Sprintf("%s: %s", name, fn.Name.Name)
			if lines <= functionMost {
				continue
			}
			if _, may := longFunctions[id]; !may {
				t.Errorf("%s has %d lines", id, lines)
			}
			used[id] = true
		}
	}
	for id := range longFunctions {
		if !used[id] {
			t.Errorf("%s is not long any more; take it off the list", id)
		}
	}
}
