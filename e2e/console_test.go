package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"yarnpost/demo"
)

// The console in a real browser: the one-time password is replaced, a scope is
// added with its effect shown first, a lease appears live, an unserved client is
// reserved an address in one step, and the trail shows who did it.
func TestConsole(t *testing.T) {
	t.Parallel()
	s := startService(t)
	once := s.oncePassword()
	p := visit(t, s)
	ctx := context.Background()
	do, see, click, fill, open := p.do, p.see, p.click, p.fill, p.open

	do("a wrong password", see("Sign in"), func() error { return p.SignIn("admin", "not this one") }, see("do not fit together"))
	do("the one-time password", func() error { return p.SignIn("admin", once) }, see("Choose your own password"))
	do("a password of one's own", fill("#old", once), fill("#new", "warp-and-weft"), fill("#again", "warp-and-weft"),
		click("button=Keep it"),
		see("Sign in"))
	do("signing in with it", func() error { return p.SignIn("admin", "warp-and-weft") }, see("Nothing is served yet"))

	do("adding a scope", click("button=Define a first scope"), see("Add a scope"), fill("#name", "looms"), fill("#subnet", "10.77.0.0/24"),
		fill("#pools", "10.77.0.100-10.77.0.101"),
		see("left for reservations"), see("no router option is set")) // the effect shows before anything changed
	if out := s.must("scope", "list", "--json"); strings.Contains(out, "looms") {
		t.Error("the preview changed the plan")
	}
	do("a mistake is explained", fill("#router", "10.77.0.999"), see("not an IPv4 address"))
	do("adding it", fill("#router", "10.77.0.1"), func() error {
		return p.Wait("!document.body.innerText.includes('not an IPv4 address')")
	}, see("option router: 10.77.0.1"), click("button=Add it"), see("Address map"))

	do("the lease table", open("/leases"), see("Nobody has a lease yet"))
	r := s.relay("127.77.0.1", "10.77.0.1")
	for i, name := range []string{"carder", "spinner"} {
		if err := (&demo.Client{Relay: r, Hardware: hw(i + 1), Hostname: name}).Get(ctx); err != nil {
			t.Fatal(err)
		}
	}
	do("leases appear live", see("10.77.0.100"), see("spinner"))
	do("a lease's drawer", open("/leases?open=10.77.0.100"), see("Who had this address"), see("02:00:00:00:00:01"))
	late := &demo.Client{Relay: r, Hardware: hw(3), Hostname: "weaver", Patience: 1}
	late.Discover(ctx)
	do("an unserved client is reserved an address", open("/unserved"), see("weaver"), see("pool is empty"),
		click("button=Reserve an address"),
		see("hardware address: 02:00:00:00:00:03"), click("button=Reserve"), see("Every client that asked was served"))
	late.Patience = 0
	if err := late.Get(ctx); err != nil || !strings.HasPrefix(late.Address.String(), "10.77.0.") {
		t.Errorf("the reserved client got %v, %v", late.Address, err)
	}
	do("a rule by the form", open("/plan/~rules"), see("No rule is defined"), click("button=Add a rule"), see("Whom it would fit"),
		fill("#name", "toys"), fill("#parts_0_value", "02:00:00:00:00:02"),
		see(`hw.startsWith("02:00:00:00:00:02")`), see("of 3 clients on record"), fill("#lease", "30m"), see("lease time: 30m"),
		click("button=Apply"))
	s.await(func() bool { // the form says 30m, too, so the page proves nothing yet
		out := s.must("rule", "list")
		return strings.Contains(out, `hw.startsWith("02:00:00:00:00:02")`) && strings.Contains(out, "lease 30m")
	}, "the rule of the form")
	do("an expression with a fault", click("button=Add a rule"), fill("#name", "odd"), click(".ant-segmented-item:nth-of-type(2)"),
		fill("#when", "hx == 1"), see("line 1, column 1: undeclared reference"))
	do("an explanation", open("/unserved/explain?hardware=02:00:00:00:00:02"), see("would be offered 10.77.0.101"), see("rule toys fits"),
		see("for 30m"))
	do("a conversation", open("/unserved/conversations?client=weaver"), see("ignored: pool is empty"), click(".ant-table-row-expand-icon"),
		see("How it was decided"), see("53 dhcp-msg-type"))
	do("wishes, history and old options", open("/leases/history?who=02:00:00:00:00:02"), see("spinner"), open("/leases/stale"),
		see("No client holds old options"), open("/unserved/wishes"), see("Clients get everything they ask for"))
	do("a codebook", open("/plan/~codebooks"), click("button=Add a codebook"), fill("#name", "mill"),
		fill("#codes", "241 controller address; where it is"), see("need the vendor class"))
	do("a trial", open("/plan/~trials"), see("database"), see("No trial is planned"))
	s.must("scope", "edit", "looms", "--pool", "10.77.0.100-10.77.0.109")
	s.must("trial", "add", "looms-served", "--scope", "looms")
	do("a trial that is run", see("looms-served"), click("button=Run"), see("is served as the plan says"))
	do("links", open("/plan/~links"), see("127.77.0.1"), see("heard"))
	s.must("link", "edit", "looms", "--listening", "--yes")
	do("listening", open("/unserved/listening"), see("looms"), click("button=Go live"), see("is answered from now on"),
		click("button=Apply"),
		see("every link is answered"))
	do("who did it", open("/changes"), see("reservation weaver added"), see("admin"))
	live, err := s.api().Status(ctx)
	if err != nil {
		t.Fatal(err)
	}
	do("undoing it, which silences clients", open(fmt.Sprint("/changes?open=", live.Revision)), click("button=Undo"),
		see("would not be able to renew here"), func() error {
			return p.Wait("[...document.querySelectorAll('.ant-modal button')].find((b) => b.innerText === 'Apply').disabled")
		}, click(".ant-modal .ant-checkbox-input"), click("button=Apply"), see(fmt.Sprint("undoes revision ", live.Revision)))
	s.must("link", "edit", "looms", "--listening=false")
	do("search", func() error { return p.Keys("/") }, see("Hardware addresses may be written in any way"),
		func() error { return p.Keys("0200.0000.0002") }, see("10.77.0.101"))
	do("today", open("/today"), see("Every client that asked was served"), see("looms"))
	text, _ := p.Text()
	if !strings.Contains(text, "3 active leases") {
		t.Errorf("today says:\n%s", text)
	}
}
