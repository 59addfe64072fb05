package yarnpost

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// heldLocks lists the places of a file at which a lock is taken, or released, in a way that a
// panic leaves it held: Lock and RLock are followed at once by the Unlock, deferred, or are in
// a function that returns it.
func heldLocks(set *token.FileSet, f *ast.File) (out []token.Position) {
	called := func(e ast.Expr) (on, name string) {
		c, ok := e.(*ast.CallExpr)
		if !ok || len(c.Args) > 0 {
			return "", ""
		}
		s, ok := c.Fun.(*ast.SelectorExpr)
		if !ok {
			return "", ""
		}
		return textOf(s.X), s.Sel.Name
	}
	releases := func(next ast.Stmt, on, name string) bool {
		want := strings.Replace(name, "Lock", "Unlock", 1)
		switch x := next.(type) {
		case *ast.DeferStmt:
			of, is := called(x.Call)
			return of == on && is == want
		case *ast.ReturnStmt:
			s, ok := x.Results[0].(*ast.SelectorExpr)
			return ok && textOf(s.X) == on && s.Sel.Name == want
		}
		return false
	}
	ast.Inspect(f, func(n ast.Node) bool {
		b, ok := n.(*ast.BlockStmt)
		if !ok {
			return true
		}
		for i, s := range b.List {
			e, ok := s.(*ast.ExprStmt)
			if !ok {
				continue
			}
			on, name := called(e.X)
			held := (name == "Lock" || name == "RLock") && (i+1 == len(b.List) || !releases(b.List[i+1], on, name))
			if held || name == "Unlock" || name == "RUnlock" {
				out = append(out, set.Position(s.Pos()))
			}
		}
		return true
	})
	return out
}

// textOf writes an expression of names and dots.
func textOf(e ast.Expr) string {
	switch x := e.(type) {
	case *ast.Ident:
		return x.Name
	case *ast.SelectorExpr:
		return textOf(x.X) + "." + x.Sel.Name
	case *ast.IndexExpr:
		return textOf(x.X) + "[]"
	}
	return "?"
}

// A panic anywhere leaves no lock held.
func TestLocksAreReleased(t *testing.T) {
	err := filepath.WalkDir("service", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		for _, at := range heldLocks(set, f) {
			t.Errorf("%s: release the lock by defer, or use lock.While", at)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]int{
		"m.Lock(); defer m.Unlock(); f()":            0,
		"a.m.Lock(); return a.m.Unlock":              0,
		"m.Lock(); f(); m.Unlock()":                  2,
		"m.Lock(); defer n.Unlock()":                 1,
		"m.RLock(); defer m.Unlock()":                1,
		"for { m.Lock(); f() }":                      1,
		"g(func() { m.RLock(); defer m.RUnlock() })": 0,
	} {
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, "", "package x\nfunc y() {\n"+text+"\n}", 0)
		if err != nil {
			t.Fatal(err)
		}
		if got := heldLocks(set, f); len(got) != want {
			t.Errorf("%s: %d places, want %d", text, len(got), want)
		}
	}
}
