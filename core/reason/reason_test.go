package reason

import (
	"go/ast"
	"go/parser"
	"go/token"
	"slices"
	"strconv"
	"testing"
)

// Each reason has words: the constants are read from the code, so that none is forgotten.
func TestWords(t *testing.T) {
	f, err := parser.ParseFile(token.NewFileSet(), "reason.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	ast.Inspect(f, func(n ast.Node) bool {
		v, ok := n.(*ast.ValueSpec)
		if !ok {
			return true
		}
		if of, ok := v.Type.(*ast.Ident); !ok || of.Name != "Reason" {
			return true
		}
		text, err := strconv.Unquote(v.Values[0].(*ast.BasicLit).Value)
		if err != nil {
			t.Fatal(err)
		}
		found++
		if r := Reason(text); !slices.Contains(All(), r) || r.Words("") == text {
			t.Errorf("%s has no words", v.Names[0].Name)
		}
		return true
	})
	if found != len(All()) || found == 0 {
		t.Errorf("%d constants, %d reasons", found, len(All()))
	}
	if got := ByRule.Words("no-guests"); got != "turned away by rule no-guests" {
		t.Error(got)
	}
}
