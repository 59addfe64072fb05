package e2e

import (
	"strings"
	"testing"

	"yarnpost/e2e/browser"
)

// The Pair page: an invitation, both servers side by side, a cut wire, a comparison,
// maintenance, and a person who reads first what an order does.
func TestPairPage(t *testing.T) {
	t.Parallel()
	w := unpaired(t)
	w.a.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--serve")
	p := visit(t, w.a)
	do, see, click, fill := p.do, p.see, p.click, p.fill
	p.enter(w.a)
	do("inviting", func() error { return p.Go("/pair") }, see("Invite a second server"), fill("#at", w.cable.Address()),
		click("button=Make an invitation"), see("yarnpost pair join"))
	line, err := browser.Eval[string](p.Page, "document.querySelector('pre.code').innerText")
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
