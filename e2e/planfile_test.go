package e2e

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/demo"
	"yarnpost/planfile"
)

// written is a file of a test with a text.
func written(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

const vlans = `plan-file: 1
covers: whole
shared:
  vlan: {mode: serving, lease: 2h, options: {domain-name: mill.example}}
scopes:
`

// A dozen scopes come from a file of a dozen lines; the file is checked without a server, previewed,
// applied, and what others changed since is not undone by it; what it lost strands nobody unasked.
func TestPlanFile(t *testing.T) {
	t.Parallel()
	s := startService(t)
	text := vlans
	for i := range 12 {
		text += fmt.Sprintf("  vlan-%d: {like: vlan, subnet: 10.77.%[1]d.0/24, pools: 10.77.%[1]d.10-10.77.%[1]d.99, options: {router: 10.77.%[1]d.1}}\n",
			10+i)
	}
	file := written(t, "plan.yaml", text)
	s.says([]string{"is good: 12 scopes; it covers the whole plan"}, "plan", "check", file)
	out, _, code := s.cli("plan", "preview", file)
	if code != 3 || !strings.Contains(out, "vlan-21") {
		t.Errorf("preview: exit code %d:\n%s", code, out)
	}
	if _, _, code := s.cli("plan", "apply", file); code != 3 {
		t.Errorf("applying without --yes: exit code %d", code)
	}
	s.must("plan", "apply", file, "--yes", "--reason", "a new floor")
	ctx := context.Background()
	relay := s.relay("127.77.10.1", "10.77.10.1")
	for n := range 3 {
		c := &demo.Client{Relay: relay, Hardware: hw(n), Wants: []byte{1, 3, 15, 51}}
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
		if name, _ := c.Last.Options.Get(15); string(name) != "mill.example" {
			t.Errorf("the client is told %q", name)
		}
	}
	if out, _, code := s.cli("plan", "preview", file); code != 0 {
		t.Errorf("applied, it would change something (%d):\n%s", code, out)
	}
	whole := filepath.Join(t.TempDir(), "whole.yaml")
	s.must("plan", "export", whole)
	fileOfTwo(t, s, whole)
	// What a whole file does not have goes; clients that this strands have to be meant.
	kept, err := os.ReadFile(whole)
	if err != nil {
		t.Fatal(err)
	}
	i, j := strings.Index(string(kept), "  vlan-10:"), strings.Index(string(kept), "  vlan-11:")
	short := written(t, "short.yaml", string(kept[:i])+string(kept[j:]))
	s.says([]string{"scope vlan-10", "removed", "3 clients"}, "plan", "apply", short, "--dry-run")
	s.must("plan", "apply", short, "--yes")
	s.fails(1, "no scope is called", "scope", "show", "vlan-10")
	if last, err := s.api().Revisions(ctx, 0, 1); err != nil || !strings.Contains(string(must(os.ReadFile(short))),
		fmt.Sprint("revision: ", last[0].Number)) {
		t.Errorf("the file does not name the new revision: %v", err)
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// fileOfTwo has two people change the plan, one in a file.
func fileOfTwo(t *testing.T, s *service, whole string) {
	t.Helper()
	s.must("scope", "edit", "vlan-12", "--lease", "3h")
	text := string(must(os.ReadFile(whole)))
	mine := strings.Replace(text, "    subnet: 10.77.13.0/24\n", "    subnet: 10.77.13.0/24\n    note: mine\n", 1)
	file := written(t, "mine.yaml", mine)
	s.fails(1, "vlan-12", "plan", "apply", file, "--yes")
	s.says([]string{"lease time: 3h → 2h", "note: mine"}, "plan", "apply", file, "--overwrite", "--dry-run")
	// With a part, the colleague's change stays.
	part := written(t, "part.yaml", "plan-file: 1\nscopes:\n  vlan-13: {subnet: 10.77.13.0/24, mode: serving, note: mine}\n")
	s.must("plan", "apply", part, "--yes")
	if out := s.must("scope", "show", "vlan-12"); !strings.Contains(out, "3h") {
		t.Errorf("the colleague's lease time is gone:\n%s", out)
	}
	// Bad files change nothing, and say where they are bad: each door alike.
	bad := written(t, "bad.yaml", "plan-file: 1\nscopes:\n  attic: {subnet: 10.77.90.0/24, leese: 8h}\n  barn: {subnet: 10.77.13.0/25}\n")
	_, stderr, code := s.cli("plan", "check", bad)
	if code != 1 || !strings.Contains(stderr, bad+`:3:34: there is no key "leese"`) {
		t.Errorf("checked (%d): %s", code, stderr)
	}
	bad = written(t, "bad.yaml",
		"plan-file: 1\nscopes:\n  attic: {subnet: 10.77.90.0/24}\n  barn: {subnet: 10.77.13.0/25}\n  coop: {subnet: 10.77.12.0/25}\n")
	_, stderr, code = s.cli("plan", "apply", bad, "--yes")
	if code != 1 || !strings.Contains(stderr, bad+":4:3: scope barn (10.77.13.0/25) overlaps scope vlan-13") || !strings.Contains(stderr,
		bad+":5:3:") {
		t.Errorf("applied (%d): %s", code, stderr)
	}
	s.fails(1, "no scope is called", "scope", "show", "attic")
	s.must("plan", "export", whole)
}

// Sheets go out, are edited in a spreadsheet, and come in; a plan file goes through the secondary of a
// pair as through the primary.
func TestSheets(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	s := w.b
	file := written(t, "scopes.csv", "\ufeffname;subnet;pools;mode;option router;note\r\n"+
		"carding;10.78.0.0/24;10.78.0.10-10.78.0.99;serving;10.78.0.1;\"'=SUM(1)\"\r\nstores;10.78.1.0/24;;held;;\r\n")
	out, _, code := s.cli("sheet", "preview", "scopes", file)
	if code != 3 || !strings.Contains(out, "carding") {
		t.Errorf("preview: exit code %d:\n%s", code, out)
	}
	s.must("sheet", "apply", "scopes", file, "--yes")
	for _, of := range []*service{w.a, w.b} {
		of.await(func() bool { out, _, _ := of.cli("scope", "show", "carding"); return strings.Contains(out, "=SUM(1)") },
			"the scope on both")
	}
	file = written(t, "reservations.csv", "name,address,hardware\ncrane,10.78.0.5,02:00:00:00:00:17\nscale,10.78.1.9,02:00:00:00:00:18\n")
	s.must("sheet", "apply", "reservations", file, "--yes")
	for _, kind := range []string{"scopes", "reservations", "exclusions", "entries"} {
		back := filepath.Join(t.TempDir(), kind+".csv")
		s.must("sheet", "export", kind, back)
		if out, _, code := s.cli("sheet", "preview", kind, back); code != 0 && kind != "exclusions" && kind != "entries" {
			t.Errorf("%s that came out and go in change something (%d):\n%s", kind, code, out)
		}
	}
	bad := written(t, "bad.csv",
		"name,address,hardware\nx,10.78.0.6,02:00:00:00:00:19\ny,10.99.0.5,02:00:00:00:00:20\nz,10.78.0.5,02:00:00:00:00:21\n")
	_, stderr, code := s.cli("sheet", "apply", "reservations", bad, "--yes")
	if code != 1 || !strings.Contains(stderr, bad+":3: address: no scope holds 10.99.0.5") || !strings.Contains(stderr, bad+":4: ") {
		t.Errorf("a bad sheet (%d): %s", code, stderr)
	}
	s.fails(1, "no reservation is called", "reservation", "show", "x")
	// The schema is there for editors, without an account.
	if status, answer := s.ask("GET", "/api/plan/schema", ""); status != 200 || answer != string(planfile.Schema()) {
		t.Errorf("schema: %d", status)
	}
	// The plan of one line is a file for another server.
	whole := filepath.Join(t.TempDir(), "whole.yaml")
	s.must("plan", "export", whole)
	s.must("plan", "apply", whole, "--yes")
	elsewhere := startService(t)
	text := strings.Replace(string(must(os.ReadFile(whole))), "revision: ", "# revision: ", 1)
	elsewhere.must("plan", "apply", written(t, "there.yaml", text), "--yes")
	again := filepath.Join(t.TempDir(), "again.yaml")
	elsewhere.must("plan", "export", again)
	drop := func(text string) string {
		lines := strings.SplitAfter(text, "\n")
		for i, l := range lines {
			if strings.Contains(l, "revision: ") {
				lines[i] = ""
			}
		}
		return strings.Join(lines, "")
	}
	if a, b := drop(text), drop(string(must(os.ReadFile(again)))); a != b {
		t.Errorf("elsewhere it is another plan:\n%s\n%s", a, b)
	}
}

// What a server gave, as a capture, becomes a plan file that another server takes; its clients keep
// their addresses.
func TestMovingIn(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	old := startService(t)
	old.must("scope", "add", "looms", "--subnet", "10.77.10.0/24", "--pool", "10.77.10.100-10.77.10.149", "--router", "10.77.10.1",
		"--dns", "10.77.0.53", "--lease", "2h", "--serve", "--new-per-minute", "-1")
	var clients []*demo.Client
	r := old.relay("127.77.0.1", "10.77.10.1")
	for n := range 6 {
		c := &demo.Client{Relay: r, Hardware: hw(n), Patience: 2 * time.Second}
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
		clients = append(clients, c)
	}
	capture := filepath.Join(t.TempDir(), "looms.pcap")
	old.must("trace", "--pcap", capture, "--limit", "100")
	ethers := written(t, "ethers", "02:00:00:00:00:00 crane\nno such thing\n")
	out, errs, code := old.cli("plan", "propose", capture, ethers, "--scope", "looms=10.77.10.0/24", "--keep")
	if code != 0 || !strings.Contains(errs, "ethers, line 2") || !strings.Contains(errs, "1 scope, 6 reservations") {
		t.Fatalf("exit %d\n%s%s", code, out, errs)
	}
	file := written(t, "found.yaml", out)
	next := startService(t)
	next.must("plan", "check", file)
	next.must("plan", "apply", file, "--yes")
	next.says([]string{"held", "10.77.10.0/24", "2h", "10.77.10.1", "10.77.0.53"}, "scope", "show", "looms")
	next.says([]string{clients[0].Address.String()}, "reservation", "show", "crane")
	next.must("scope", "serve", "looms", "--yes")
	there := next.relay("127.77.0.2", "10.77.10.1")
	keeps := func(with []byte, r *demo.Relay) {
		t.Helper()
		for _, c := range clients {
			had := c.Address
			again := &demo.Client{Relay: r, Hardware: c.Hardware, ID: with, Patience: 2 * time.Second}
			if with != nil {
				again.ID = append(slices.Clone(with), c.Hardware...)
			}
			if err := again.Get(ctx); err != nil || again.Address != had {
				t.Errorf("%s had %s, and gets %s (%v)", c.Hardware, had, again.Address, err)
			}
		}
	}
	keeps(nil, there)
	movingLeases(t, old, capture, file, keeps)
}

// Two scopes change places in one file while they serve: their clients come to the addresses of their new
// subnets, nobody is given what another holds, and it is all the same after a restart and after a revert.
func TestScopesChangePlaces(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := startService(t)
	s.must("scope", "add", "carders", "--subnet", "10.77.1.0/24", "--pool", "10.77.1.100-10.77.1.149", "--lease", "2h", "--serve")
	s.must("scope", "add", "spinners", "--subnet", "10.77.2.0/24", "--pool", "10.77.2.100-10.77.2.149", "--lease", "2h", "--serve")
	s.must("link", "edit", "carders", "--relay", "127.77.0.1")
	s.must("link", "edit", "spinners", "--relay", "127.77.0.2")
	one, two := s.relay("127.77.0.1", "127.77.0.1"), s.relay("127.77.0.2", "127.77.0.2")
	one.Link, two.Link = netip.Addr{}, netip.Addr{} // they are told apart by their own addresses
	var clients []*demo.Client
	for n := range 8 {
		c := &demo.Client{Relay: []*demo.Relay{one, two}[n%2], Hardware: hw(n), Patience: 2 * time.Second}
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
		clients = append(clients, c)
	}
	come := func(when string, subnets ...string) {
		t.Helper()
		seen := map[netip.Addr]bool{}
		for n, c := range clients {
			if err := c.Renew(ctx); err != nil {
				if err := c.Get(ctx); err != nil {
					t.Fatalf("%s, client %d: %v", when, n, err)
				}
			}
			if !netip.MustParsePrefix(subnets[n%2]).Contains(c.Address) || seen[c.Address] {
				t.Errorf("%s, client %d has %s", when, n, c.Address)
			}
			seen[c.Address] = true
		}
	}
	file := written(t, "swap.yaml", "plan-file: 1\nscopes:\n  carders: {subnet: 10.77.2.0/24, pools: 10.77.2.100-10.77.2.149, mode: serving, lease: 2h}\n"+
		"  spinners: {subnet: 10.77.1.0/24, pools: 10.77.1.100-10.77.1.149, mode: serving, lease: 2h}\n")
	s.must("plan", "apply", file, "--yes")
	come("after they changed places", "10.77.2.0/24", "10.77.1.0/24")
	s.kill()
	s.start()
	come("after a restart", "10.77.2.0/24", "10.77.1.0/24")
	st, err := s.api().Status(ctx)
	if err != nil {
		t.Fatal(err)
	}
	s.must("plan", "revert", fmt.Sprint(st.Revision), "--yes")
	come("after a revert", "10.77.1.0/24", "10.77.2.0/24")
}

// movingLeases moves to another server with the leases, and not with reservations: the clients keep
// their addresses, also those that say another identifier than anybody knew.
func movingLeases(t *testing.T, old *service, capture, file string, keeps func([]byte, *demo.Relay)) {
	t.Helper()
	leases := filepath.Join(t.TempDir(), "leases.csv")
	out, errs, code := old.cli("plan", "propose", capture, "--scope", "looms=10.77.10.0/24", "--leases", leases)
	if code != 0 || !strings.Contains(errs, "0 reservations") {
		t.Fatalf("exit %d\n%s%s", code, out, errs)
	}
	last := startService(t)
	last.must("plan", "apply", written(t, "found.yaml", out), "--yes")
	last.must("scope", "serve", "looms", "--yes")
	for range 2 {
		out, _, code = last.cli("sheet", "apply", "leases", leases)
		if code != 3 || !strings.Contains(out, "6 leases would be taken over, 0 known already, 0 over, 0 left") {
			t.Fatalf("the preview exits %d:\n%s", code, out)
		}
	}
	last.must("sheet", "apply", "leases", leases, "--yes")
	if out := last.must("sheet", "preview", "leases", leases); !strings.Contains(out, "0 leases would be taken over, 6 known already") {
		t.Errorf("once more: %s", out)
	}
	// What does not fit is told by its line, and then nothing is taken.
	bad := written(t, "bad.csv", "address,hardware\n10.77.10.140,02:00:00:00:00:99\n10.99.0.1,02:00:00:00:00:98\n")
	if _, errs, code := last.cli("sheet", "apply", "leases", bad, "--yes"); code != 1 || !strings.Contains(errs, "bad.csv:3") ||
		!strings.Contains(errs, "no scope holds 10.99.0.1") || last.leases()["10.77.10.140"].Address != "" {
		t.Errorf("a bad sheet: exit %d, %s", code, errs)
	}
	left := written(t, "left.csv", "address,hardware\n10.77.10.100,02:00:00:00:00:99\n10.77.10.200,02:00:00:00:00:98\n10.77.10.1,02:00:00:00:00:97\n")
	out = last.must("sheet", "apply", "leases", left, "--yes")
	for _, says := range []string{"line 2: 10.77.10.100 is held here", "line 3: 10.77.10.200 is outside the pools", "line 4: 10.77.10.1 is a router"} {
		if !strings.Contains(out, says) {
			t.Errorf("what is left does not say %q:\n%s", says, out)
		}
	}
	last.stop()
	last.start() // it is on record
	keeps([]byte{0xff, 7}, last.relay("127.77.0.3", "10.77.10.1"))
	if out := last.must("sheet", "export", "leases"); strings.Count(out, "looms") != 6 {
		t.Errorf("exported:\n%s", out)
	}
}
