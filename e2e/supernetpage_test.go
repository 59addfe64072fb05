package e2e

import (
	"fmt"
	"strings"
	"testing"

	"yarnpost/e2e/browser"
)

// Supernets in a browser: one is added around scopes, the plan is a tree then; a search keeps
// what it fits; what it gives is changed with what scopes inherit differently shown first; a
// free square begins a scope there; the plan of before comes back.
func TestSupernetPage(t *testing.T) {
	t.Parallel()
	s := startService(t)
	for name, subnet := range map[string]string{"looms": "10.77.10.0/24", "offices": "10.77.11.0/24", "yard": "192.0.2.0/24"} {
		s.must("scope", "add", name, "--subnet", subnet, "--pool", "all", "--serve")
	}
	p := visit(t, s)
	p.enter(s)
	p.do("a plan without supernets", p.open("/plan/~tree"), p.see("0 supernets around 3 scopes"), p.see("offices"))
	p.do("adding one", p.click("button=Add a supernet"), p.see("A name and a prefix are enough"), p.fill("#name", "west"),
		p.fill("#prefix", "10.77.10.0/25"), p.see("would cut scope looms"), p.fill("#prefix", "10.77.0.0/16"), p.fill("#lease", "2h"),
		p.see("2 settings are inherited differently"), p.see("8h (the usual one) → 2h (supernet west)"), p.click("button=Apply"),
		p.see("supernet, 2 scopes"))
	under := func(names string) func() error {
		return func() error {
			return p.Wait("[...document.querySelectorAll('.tree tbody tr.ant-table-row td:first-child')].map((d) => d.innerText.trim()).join(' ') === '" +
				names + "'")
		}
	}
	p.do("the tree", under("west looms offices yard"))
	p.do("a search", p.open("/plan/~tree?search=offic"), under("west offices"), p.open("/plan/~tree?search=192.0"), under("yard"))
	p.do("where space is left", p.open("/plan/~tree?edit=west"), p.see("Where space is left"), p.see("65,024 addresses"), func() error {
		return p.Wait("document.querySelectorAll('.squares .scope').length === 2 && document.querySelectorAll('.squares a').length === 254")
	})
	p.do("changing it", p.fill("#lease", "3h"), p.see("2h (supernet west) → 3h (supernet west)"), p.click("button=Apply"),
		p.see("is in force"))
	p.do("a scope says where its lease time comes from", p.open("/plan/looms"), p.see("3h (supernet west)"), p.see("Lies in"))
	p.do("a free square", p.open("/plan/~tree?edit=west"), p.see("Where space is left"), func() error {
		_, err := browser.Eval[bool](p.Page, "document.querySelector('.squares a').click(), true")
		return err
	}, p.see("Add a scope"), func() error { return p.Wait("document.querySelector('#subnet').value === '10.77.0.0/24'") })
	p.do("its use over time", p.open("/capacity?kind=supernet"), p.see("west"), p.open("/capacity/west?of=supernet"),
		p.see("Supernet west"))
	p.do("a rule of it", p.open("/plan/~rules"), p.click("button=Add a rule"), p.fill("#name", "phones"), p.fill("#parts_0_value", "02:32"),
		p.fill("#lease", "1h"), p.see("lease time: 1h"))
	p.do("the plan of before", p.open(fmt.Sprint("/changes?open=", 3)), p.click("button=Bring back the plan as it was then"),
		p.see("Bring back the plan of revision 3"), p.see("3h (supernet west) → 8h (the usual one)"), p.click("button=Apply"))
	s.await(func() bool { return strings.Contains(s.must("supernet", "list"), "No supernet") }, "the plan of before")
}
