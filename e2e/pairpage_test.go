package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yarnpost/e2e/browser"
)

// The Pair page: an invitation, both servers side by side, a cut wire, a comparison,
// maintenance, and a person who reads first what an order does.
func TestPairPage(t *testing.T) {
	needTool(t, "chromium", "chromium")
	w := unpaired(t)
	w.a.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--serve")
	password, err := os.ReadFile(filepath.Join(w.a.dir, "admin.password"))
	if err != nil {
		t.Fatal(err)
	}
	p, err := browser.Open("http://" + w.a.http)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	do := func(what string, steps ...func() error) {
		t.Helper()
		for _, step := range steps {
			if err := step(); err != nil {
				t.Fatalf("%s: %v", what, err)
			}
		}
	}
	see := func(text string) func() error { return func() error { return p.See(text) } }
	click := func(what string) func() error { return func() error { return p.Click(what) } }
	fill := func(css, text string) func() error { return func() error { return p.Type(css, text) } }
	do("signing in", see("Sign in"), func() error { return p.SignIn("admin", strings.TrimSpace(string(password))) },
		see("Choose your own password"), fill("#old", strings.TrimSpace(string(password))), fill("#new", "warp-and-weft"),
		fill("#again", "warp-and-weft"), click("button=Keep it"), see("Sign in"),
		func() error { return p.SignIn("admin", "warp-and-weft") }, see("Fullest scopes"))
	do("inviting", func() error { return p.Go("/pair") }, see("Invite a second server"), fill("#at", w.cable.Address()),
		click("button=Make an invitation"), see("yarnpost pair join"))
	line, err := browser.Eval[string](p, "document.querySelector('pre.code').innerText")
	if err != nil {
		t.Fatal(err)
	}
	w.b.must(strings.Fields(strings.TrimPrefix(line, "yarnpost "))...)
	do("side by side", see("If bobbin died now, shuttle would carry on"), see("you are looking at this one"), see("shuttle stands by"))
	w.together("on the page")
	do("comparing", click("button=Compare now"), see("both know the same"))
	w.cable.Cut()
	do("a cut wire", see("would not carry on"), see("not heard"), see("shuttle does not stand by"))
	do("a person reads first", click("button=Declare shuttle down"), see("stay untouched until"), click("button=Cancel"))
	w.cable.Mend()
	do("whole again", see("If bobbin died now, shuttle would carry on"), see("communications-interrupted to normal"))
	do("maintenance", click("button=Pause bobbin for maintenance"), see("answers nobody"), see("Serve again"), click("button=Serve again"),
		see("serves again"))
}
