package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

var (
	named     = regexp.MustCompile(`(?:^|[^a-z/.-])yarnpost ((?:[a-z]+)(?: [a-z]+)*)([^;"'\n]*)`)
	namedFlag = regexp.MustCompile(` --([a-z][a-z0-9-]*)`)
)

// prose are words that follow the program's name where it is spoken of, and commands
// that come with every program of this kind.
var prose = map[string]bool{"administers": true, "or": true, "yarnpost": true, "help": true, "completion": true}

// Whatever the product tells people to type, in findings, mends, refusals and help, is
// a command, with flags that it has.
func TestNamedCommandsExist(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() && (e.Name() == "node_modules" || e.Name() == ".git" || e.Name() == "e2e") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			lit, ok := n.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return true
			}
			text, err := strconv.Unquote(lit.Value)
			if err != nil {
				return true
			}
			for _, m := range named.FindAllStringSubmatch(text, -1) {
				seen++
				checkNamed(t, set.Position(lit.Pos()).String(), strings.Fields(m[1]), m[2])
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 100 {
		t.Errorf("only %d commands are named anywhere", seen)
	}
}

func checkNamed(t *testing.T, at string, words []string, rest string) {
	t.Helper()
	cmd, _ := find(words)
	if cmd == nil {
		if prose[words[0]] {
			return
		}
		t.Errorf("%s: yarnpost %s is no command", at, strings.Join(words, " "))
		return
	}
	var server, token string
	f, _ := cmd.flagSet(&call{}, &server, &token)
	for _, m := range namedFlag.FindAllStringSubmatch(rest, -1) {
		if f.Lookup(m[1]) == nil {
			t.Errorf("%s: yarnpost %s has no flag --%s", at, cmd.name, m[1])
		}
	}
}
