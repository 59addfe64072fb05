package e2e

import (
	"context"
	"fmt"
	"os"
	"testing"

	"yarnpost/demo"
	"yarnpost/e2e/browser"
)

// Whatever a row or a column's head opens, it opens with the keyboard alone, and where the
// focus is can be seen.
func TestKeyboardAlone(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	s.must("rule", "add", "toys", "--when", `hw == "02:00:00:00:00:09"`, "--refuse", "--yes")
	s.must("list", "add", "lent", "--entry", "02:00:00:00:00:77")
	s.must("field", "add", "hall", "--on", "scope")
	s.must("scope", "edit", "looms", "--field", "hall=north")
	c := demo.Client{Relay: s.relay("127.77.0.1", "10.77.0.1"), Hardware: hw(1), Hostname: "carder"}
	if err := c.Get(context.Background()); err != nil {
		t.Fatal(err)
	}
	v := visit(t, s)
	v.enter(s)
	focus := func(js string) func() error { // tabs until the focus is on what the expression says of e
		return func() error {
			for range 90 {
				if err := v.Page.Keys("\t"); err != nil {
					return err
				}
				found, err := browser.Eval[bool](v.Page, "(e => !!("+js+"))(document.activeElement)")
				if err != nil {
					return err
				}
				if !found {
					continue
				}
				if seen, err := browser.Eval[bool](v.Page, "getComputedStyle(document.activeElement).outlineStyle !== 'none'"); err != nil || !seen {
					return fmt.Errorf("that the focus is there cannot be seen: %v", err)
				}
				return nil
			}
			return fmt.Errorf("the focus never comes to %s", js)
		}
	}
	keys := func(text string) func() error { return func() error { return v.Page.Keys(text) } }
	row := func(text string) func() error {
		return focus(fmt.Sprintf("e.tagName === 'TR' && e.innerText.includes(%q)", text))
	}
	for page, of := range map[string]string{"/leases": "carder", "/plan/~rules": "toys", "/plan/~links": "looms", "/plan/~fields": "hall"} {
		v.do(page+" by Enter", v.open(page), v.see(of), row(of), keys("\r"), func() error {
			return v.Page.Wait("document.querySelector('.ant-drawer-open, .ant-modal-wrap:not([style*=none])')")
		})
	}
	v.do("the skip link", v.open("/plan"), v.see("10.77.0.0/24"), focus("e.className === 'skip'"), keys("\r"),
		func() error { return v.Page.Wait("document.activeElement.id === 'content'") })
	v.do("sorting by Enter", focus("e.tagName === 'TH' && e.innerText.includes('Subnet')"), keys("\r"),
		func() error { return v.Page.Wait("document.querySelector('th[aria-sort=ascending]')") })
	v.do("choosing by a field of one's own", focus("e.className === 'chooser'"), keys("\r"), v.see("north"))
	v.do("a letter goes to a page", v.open("/today"), v.see("Is every client being served?"), keys("g"), keys("l"), v.see("carder"),
		v.see("Lease table"))
	name, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	v.do("a page of a server by its name", v.open("/at/"+name+"/plan/looms"), v.see("Address map"), v.see("10.77.0.0/24"))
}
