package e2e

import (
	"strings"
	"testing"
	"time"

	"yarnpost/demo"
)

// Clients are acted on from the pages: chosen in the lease table, reserved, ended; everybody moves to
// another scope; leases come along in a sheet; audits are compared, and reports made.
func TestActingPages(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.10.0/24", "--pool", "10.77.10.100-10.77.10.149", "--router", "10.77.10.1", "--serve",
		"--new-per-minute", "-1")
	r := s.relay("127.77.0.1", "10.77.10.1")
	for n := range 3 {
		c := demo.Client{Relay: r, Hardware: hw(n), Patience: 2 * time.Second}
		if err := c.Get(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	p := visit(t, s)
	p.enter(s)
	choose := func(most string) func() error {
		return p.js(`[...document.querySelectorAll('.ant-table-row .ant-checkbox-input')].slice(0, ` + most + `).forEach((x) => x.click())`)
	}
	p.do("two are reserved", p.open("/leases"), p.see("10.77.10.100"), choose("2"), p.see("2 chosen"), p.click("button=Reserve"),
		p.see("Reserve 2 addresses"), p.see("hardware address: 02:00:00:00:00:01"), p.click("button=Apply"), p.see("is in force"))
	if out := s.must("reservation", "list"); !strings.Contains(out, "10.77.10.100") || !strings.Contains(out, "10.77.10.101") {
		t.Errorf("reserved:\n%s", out)
	}
	p.do("three end", p.open("/leases?status=active"), p.see("10.77.10.102"), choose("3"), p.see("3 chosen"), p.click(".acting .ant-btn-dangerous"),
		p.see("3 would be ended"), p.click(".ant-modal .ant-btn-dangerous"), p.see("3 clients: 3 ended"))
	s.await(func() bool { return s.leases()["10.77.10.102"].Status == "released" }, "the leases to end")
	p.do("one is woken, and cannot be", p.open("/leases?open=10.77.10.100"), p.see("Lease of"), p.click("button=Reachable?"), p.see("no probe reaches it"))

	s.must("scope", "add", "weaving", "--subnet", "10.77.11.0/24", "--pool", "10.77.11.100-10.77.11.149", "--link", "looms", "--router", "10.77.11.1")
	p.do("everybody moves", p.open("/plan/looms"), p.see("Address map"), p.hover("More"), p.menu("Move everybody"),
		p.see("Move everybody from looms"),
		p.pick(".ant-select.wide", "weaving"), p.see("2 reservations move"), p.see("10.77.10.100 → 10.77.11.100"), p.click("button=Move"), p.see("is in force"))
	if out := s.must("reservation", "list"); !strings.Contains(out, "10.77.11.100") || strings.Contains(out, "10.77.10.10") {
		t.Errorf("the reservations are still there:\n%s", out)
	}
	p.do("reservations are chosen", p.open("/plan/weaving?tab=reservations"), p.see("10.77.11.101"), choose("1"), p.see("1 chosen"),
		p.click(".acting .ant-btn-dangerous"), p.see("Remove 1 reservation"), p.click("button=Apply"), p.see("is in force"))

	p.do("a sheet of leases", p.open("/plan/~files?kind=lease"), p.click("button=Template"), func() error {
		return p.Wait("document.querySelector('.files textarea').value.startsWith('address,')")
	}, p.fill(".files textarea", "address,hardware\n10.77.11.120,02:00:00:00:00:77\n10.99.0.1,02:00:00:00:00:78\n"), p.see("no scope holds 10.99.0.1"),
		p.fill(".files textarea", "address,hardware\n10.77.11.120,02:00:00:00:00:77\n10.77.11.1,02:00:00:00:00:79\n"), p.see("1 lease would be taken over"),
		p.see("is a router"), p.click("button=Apply"), p.see("1 lease taken over"))
	if s.leases()["10.77.11.120"].Status != "active" {
		t.Error("the lease of the sheet is not on record")
	}

	s.cli("audit", "run")
	p.do("audits are compared", p.open("/audit/compared?from=2020-01-01T00:00:00Z"), p.see("stayed"))
	p.do("reports are made", p.open("/audit/reports"), p.see("None was made on schedule yet"), p.pick(".ant-select.span", "every week"),
		p.click("button=Keep this"), p.see("The next is made"))
	if out := s.must("audit", "schedule"); !strings.Contains(out, "every 7d") {
		t.Errorf("the schedule: %s", out)
	}
}
