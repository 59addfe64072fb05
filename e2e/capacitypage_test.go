package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"yarnpost/demo"
	"yarnpost/e2e/browser"
)

// Capacity and Audit in a browser: Today answers its five questions, a pool's chart
// can be read as a table, a change is rehearsed on the spot, a finding is mended in
// one step and another is acknowledged, and what is unclaimed is swept.
func TestCapacityPages(t *testing.T) {
	t.Parallel()
	s := startService(t, "--alerts-to", "127.0.0.0/8", "--unused-after", "1us")
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.139", "--router", "10.77.0.1", "--serve",
		"--exclude", "10.77.0.120-10.77.0.124", "--new-per-minute", "-1")
	s.must("reservation", "add", "ghost", "--scope", "looms", "--hw", "02:88:00:00:00:01", "--address", "10.77.0.9")
	r := s.relay("127.77.0.1", "10.77.0.1")
	for n := range 12 {
		c := demo.Client{Relay: r, Hardware: hw(n + 1), Hostname: fmt.Sprint("loom-", n), Vendor: "loomctl/2"}
		if err := c.Get(context.Background()); err != nil {
			t.Fatal(err)
		}
	}
	grow(t, s, 20)
	p := visit(t, s)
	p.enter(s)
	p.do("today", p.see("Where will addresses run out, and when?"), p.see("Is the pair sound?"), p.see("This server is alone"),
		p.see("What is wrong or odd in the plan and in the lease table?"), p.see("What changed since yesterday, by whom?"))
	p.do("capacity", p.open("/capacity"), p.see("12 of 35"), p.click("button=looms"), p.see("Addresses used, and what is expected"),
		p.see("What would help most"), p.see("loomctl/2"), p.see("10.77.0.120-10.77.0.124"))
	p.do("a chart as a table", func() error { return p.Wait("document.querySelectorAll('figure svg').length > 0") }, func() error {
		_, err := browser.Eval[bool](p.Page, "document.querySelector(\"figure figcaption button\").click(), true")
		return err
	},
		p.see("When (UTC)"))
	text, err := p.Text()
	if err != nil || !strings.Contains(strings.ToLower(text), "lowest") {
		t.Errorf("the table says:\n%s (%v)", text, err)
	}
	p.do("rehearsing", p.click("a[role=button]"), p.see("Rehearse a change of scope looms"), p.fill("#pools", "10.77.0.100-10.77.0.104"),
		func() error { time.Sleep(time.Second); return nil }, // what was typed has settled
		p.click("button=Rehearse it on the last 7 days"), p.see("Of those, never served"), p.see("Who would have been refused"))
	if out := s.must("scope", "show", "looms"); !strings.Contains(out, "10.77.0.139") {
		t.Errorf("the rehearsal changed the plan:\n%s", out)
	}
	p.do("sizing", p.open("/capacity/~sizing"), p.see("renewals a second"), p.see("10.40.79.254"))
	s.findings()
	p.do("a mend in one step", p.open("/audit?search=exclusion"), p.see("nobody is named for it"), p.click("button=Remove the exclusion"),
		p.see("→ not set"), p.click("button=Apply"))
	s.await(func() bool { return !strings.Contains(s.must("scope", "show", "looms"), "10.77.0.120-10.77.0.124") }, "the exclusion to go")
	p.do("what may stay", p.open("/audit?search=ghost"), p.see("which was never seen with it"), p.click("button=Acknowledge"), p.see("Why it may stay"),
		p.fill("#why", "it comes in spring"), p.click("button=Acknowledge it"), p.see("it comes in spring"))
	p.do("sweeping", p.open("/audit/sweep?kind=unclaimed"), p.see("ghost"), p.click("tbody .ant-checkbox-input"), p.click("button=Clear 1 item"),
		p.see("There is nothing of that kind"))
	if out := s.must("reservation", "list"); strings.Contains(out, "ghost") {
		t.Errorf("it was not swept:\n%s", out)
	}
	d := newDesk(t)
	p.do("a target for alerts", p.open("/audit/alerts"), p.see("Each fires once"), p.click("button=Add a target"), p.fill("#name", "desk"),
		p.fill("#url", d.URL+"/hook"), p.click("button=Add it"), p.see("warning and worse"), p.click("button=Try it"), p.see("desk took a message"))
	if !d.has("test test") {
		t.Errorf("the desk heard %v", d.all())
	}
	if n, err := browser.Eval[int](p.Page, "document.querySelectorAll('nav a').length"); err != nil || n < 8 {
		t.Errorf("%d ways to go, %v", n, err)
	}
}
