package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/demo"
)

// says runs a command line that has to succeed and prints all of the texts.
func (s *service) says(texts []string, args ...string) {
	s.t.Helper()
	out := s.must(args...)
	for _, text := range texts {
		if !strings.Contains(out, text) {
			s.t.Errorf("yarnpost %s does not say %q:\n%s", strings.Join(args, " "), text, out)
		}
	}
}

// fails runs a command line that has to be refused with a text.
func (s *service) fails(code int, text string, args ...string) {
	s.t.Helper()
	out, errs, got := s.cli(args...)
	if got != code || !strings.Contains(errs, text) {
		s.t.Errorf("yarnpost %s: exit %d, want %d with %q\n%s%s", strings.Join(args, " "), got, code, text, out, errs)
	}
}

// An administrator asks why, in every way there is.
func TestUnderstanding(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.101", "--pool", "10.77.0.200-10.77.0.209",
		"--router", "10.77.0.1", "--serve")
	relay := s.relay("127.0.0.2", "10.77.0.1")
	client := func(n int, name string) *demo.Client {
		return &demo.Client{Relay: relay, Circuit: fmt.Sprintf("sw1/0/%d", n), Hardware: hw(n), ID: append([]byte{1}, hw(n)...),
			Hostname: name,
			Vendor:   "loomctl/2", Wants: []byte{1, 3, 42, 150}, Patience: 2 * time.Second}
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}

	// Codebooks, options and host names.
	s.fails(1, "need the vendor class", "codebook", "add", "ap", "--place", "43")
	s.says([]string{"codebook ap", "added"}, "codebook", "add", "ap", "--place", "43", "--class", "loomctl*", "--code",
		"7 controller address; where it is")
	s.says([]string{"Nothing to change"}, "codebook", "add", "ap", "--place", "43", "--class", "loomctl*", "--code",
		"7 controller address; where it is")
	s.says([]string{"controller", "where it is", "vendor class loomctl*"}, "codebook", "show", "ap")
	s.says([]string{"Resolved: localhost → 127.0.0.1"}, "option", "set", "ap/controller=localhost", "--scope", "looms", "--dry-run")
	s.must("option", "set", "ap/controller=10.77.0.31", "--scope", "looms")
	s.fails(1, "unset it there first", "codebook", "remove", "ap", "--yes")
	s.says([]string{"ap/controller", "1×"}, "option", "codes", "controller")

	// Rules: tried, kept, counted.
	a := client(1, "loom-a")
	must(a.Get(ctx))
	s.fails(1, "line 1, column 1", "rule", "try", "hx == 1")
	s.says([]string{"would fit 1 of 1 clients", "loom-a"}, "rule", "try", `vendor.startsWith("loomctl") && 150 in wants`)
	s.fails(1, "is no pool of any scope", "rule", "add", "staff", "--when", "true", "--pool", "10.77.0.5-10.77.0.9")
	s.must("list", "add", "lent", "--entry", hw(2).String())
	s.says([]string{"rule lent-out", "pool: 10.77.0.200-10.77.0.209"}, "rule", "add", "lent-out", "--scope", "looms", "--when",
		"hw in lists.lent", "--pool", "10.77.0.200-10.77.0.209", "--lease", "20m")
	b := client(2, "loom-b")
	must(b.Get(ctx))
	want(t, "the address from the rule's pool", b.Address.String(), "10.77.0.200")
	s.says([]string{"lent-out", "2×", "lease 20m"}, "rule", "list")
	s.fails(1, "rule lent-out looks into list lent", "list", "remove", "lent", "--yes")
	s.says([]string{"kept for a rule", "10.77.0.200-10.77.0.209"}, "scope", "show", "looms")

	// Explained: of a client on record, and of a made-up one.
	s.says([]string{"would be offered 10.77.0.200", "rule lent-out fits", "ap/controller", "43 vendor-specific", "ap/controller=10.77.0.31",
		"for 20m"}, "explain", hw(2).String())
	s.says([]string{"would hear nothing: no scope for this link"}, "explain", hw(9).String(), "--relay", "10.99.0.1")
	s.says([]string{"would be refused 192.0.2.9", "asks for an address of another link", "NAK"}, "explain", "--scope", "looms", "--message",
		"REQUEST", "--address", "192.0.2.9")
	if n := len(s.leases()); n != 2 {
		t.Errorf("explaining left %d leases", n)
	}
	s.fails(1, "not clear which link", "explain")

	// What was given, what is stale, what is missing.
	s.says([]string{"asked", "given", "ap/controller=10.77.0.31", "Asked for and not given: 42 ntp-servers, 150 tftp-server-address"},
		"lease",
		"options", a.Address.String())
	s.says([]string{"2        42    ntp-servers"}, "option", "unmet")
	s.says([]string{"No client holds old options"}, "lease", "stale")
	s.must("option", "set", "ntp-servers=10.77.0.42", "--scope", "looms")
	s.says([]string{"2 of 2 active clients hold old options; 0 of them can be nudged", "in 4 h"}, "lease", "stale")
	must(a.Renew(ctx))
	s.says([]string{"1 of 2 active clients hold old options"}, "lease", "stale")
	s.fails(1, "cannot be nudged", "lease", "nudge", a.Address.String())

	// Who had it then, and where has it been.
	before := time.Now().UTC().Add(-time.Hour).Format(time.RFC3339)
	s.says([]string{"Nobody held " + a.Address.String() + " then"}, "lease", "history", a.Address.String(), "--at", before)
	s.says([]string{"loom-a"}, "lease", "history", a.Address.String(), "--at", time.Now().UTC().Add(time.Minute).Format(time.RFC3339))
	s.says([]string{a.Address.String(), "sw1/0/1"}, "lease", "history", hw(1).String())
	s.fails(2, "is not a time", "lease", "history", a.Address.String(), "--at", "tea")

	// Unserved, and mended in one step.
	must(client(3, "loom-c").Get(ctx))
	d := client(4, "loom-d")
	if _, err := d.Discover(ctx); err == nil {
		t.Fatal("there is an address for the fourth client")
	}
	s.says([]string{"loom-d", "pool is empty"}, "unserved", "list")
	s.fails(3, "nothing was changed", "unserved", "mend", hw(4).String())
	s.says([]string{"A reserved address mends it", "reservation loom-d"}, "unserved", "mend", hw(4).String(), "--yes")
	must(d.Get(ctx))
	far := s.relay("127.0.0.3", "10.88.0.1")
	lost := &demo.Client{Relay: far, Hardware: hw(5), Patience: time.Second}
	lost.Discover(ctx)
	s.says([]string{"scope subnet-10-88-0-0-24", "added"}, "unserved", "mend", hw(5).String(), "--yes")
	must(lost.Get(ctx))

	// Conversations.
	s.says([]string{"ignored: pool is empty", "loom-d"}, "trace", "--outcome", "pool-empty")
	s.says([]string{"· rule lent-out fits", "asked: REQUEST", "reply: ACK", "82 relay-agent-information", "circuit=sw1/0/2"}, "trace",
		"--client", "loom-b", "--long")
	s.says([]string{hw(5).String()}, "trace", "--relay", "127.0.0.3")
	s.says([]string{"No message that is remembered fits"}, "trace", "--scope", "nowhere")
	s.follows(t, client(1, "loom-a"))
	file := filepath.Join(t.TempDir(), "some.pcap")
	s.must("trace", "--scope", "looms", "--pcap", file)
	if out, err := exec.Command(needTool(t, "tshark", "tshark"), "-r", file, "-Y",
		"dhcp.option.hostname == \"loom-b\"").Output(); err != nil || bytes.Count(out, []byte("\n")) != 2 {
		t.Errorf("the capture shows of loom-b:\n%s %v", out, err)
	}

	// Trials.
	s.says([]string{"ok     acknowledged", "ok     its options are what the plan says", "ok     given back", "is served as the plan says"},
		"trial", "run", "--scope", "subnet-10-88-0-0-24")
	s.fails(1, "is not served as the plan says", "trial", "run", "--scope", "looms")
	s.must("trial", "add", "far", "--scope", "subnet-10-88-0-0-24", "--every", "1m")
	s.await(func() bool { return strings.Contains(s.must("trial", "list"), "good, ") }, "the planned trial to run")
	if out, _, code := s.cli("trial", "run", "--scope", "looms", "--hw", hw(1).String()); code != 1 ||
		!strings.Contains(out, "the trial would take it away") {
		t.Errorf("a trial as a client that is there: exit %d\n%s", code, out)
	}
	s.fails(1, "no link knows relay", "trial", "run", "--relay", "10.99.0.1")
	s.says([]string{"127.0.0.2", "looms", "heard"}, "relay", "list")
	s.says([]string{"ok", "database"}, "preflight")
}

// follows checks that a trace goes on as messages come.
func (s *service) follows(t *testing.T, c *demo.Client) {
	t.Helper()
	cmd := exec.Command(filepath.Join(binaries, "yarnpost"), "trace", "--follow", "--client", c.Hardware.String(), "--limit", "1")
	cmd.Env = append(os.Environ(), "YARNPOST_SERVER=http://"+s.http, "YARNPOST_TOKEN_FILE="+s.tokenFile())
	var out lockedBuffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { cmd.Process.Signal(os.Interrupt); cmd.Wait() }()
	s.await(func() bool { return strings.Count(out.String(), "\n") == 1 }, "the trace to begin")
	c.Inform(context.Background(), c.Relay.Link)
	s.await(func() bool { return strings.Contains(out.String(), "INFORM") }, "the trace to follow: "+out.String())
	if n := strings.Count(out.String(), "\n"); n != 2 {
		t.Errorf("the trace printed %d lines:\n%s", n, out.String())
	}
}

// An offer waits as long as its scope says.
func TestOffersWait(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "slow", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.109", "--offer-delay", "1s", "--serve")
	c := &demo.Client{Relay: s.relay("127.0.0.2", "10.77.0.1"), Hardware: hw(1), Patience: 9 * time.Second}
	begun := time.Now()
	offer, err := c.Discover(context.Background())
	if err != nil || offer.Type != dhcp4.Offer {
		t.Fatal(err)
	}
	if took := time.Since(begun); took < 900*time.Millisecond {
		t.Errorf("the offer came after %s", took)
	}
	if err := c.Request(context.Background(), offer); err != nil {
		t.Error(err)
	}
	if _, told := offer.Options.Get(option.ServerID); !told {
		t.Error("the offer names no server")
	}
}

// What a host lacks is said with its mend, before serving.
func TestPreflight(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.1-10.77.0.50")
	look := func(args ...string) string {
		argv := append([]string{"netns", "exec", w.netns, filepath.Join(binaries, "yarnpostd"), "preflight", "--data", w.dir}, args...)
		out, _ := exec.Command("ip", argv...).CombinedOutput()
		return string(out)
	}
	for _, name := range []string{"down", "bare", "leased"} {
		sh(t, "ip", "-n", w.netns, "link", "add", name+"0", "type", "veth", "peer", "name", name+"1")
		if name != "down" {
			sh(t, "ip", "-n", w.netns, "link", "set", name+"0", "up")
			sh(t, "ip", "-n", w.netns, "link", "set", name+"1", "up")
		}
	}
	sh(t, "ip", "-n", w.netns, "addr", "add", "10.66.0.9/24", "dev", "leased0", "valid_lft", "600", "preferred_lft", "600")
	w.must("link", "edit", "looms", "--relay", "172.31.9.9", "--relay", "10.66.0.9")
	w.must("option", "set", "router=10.77.0.254", "--scope", "looms") // a router's address is kept out of pools anyway
	out := look("--interface", "br0", "--interface", "down0", "--interface", "bare0", "--interface", "leased0", "--interface", "gone0")
	for _, text := range []string{"BAD   port 67", "is taken", "it is down", "ip link set down0 up", "it has no IPv4 address",
		"was leased: it ends by itself", "there is no such interface",
		"10.77.0.1 lies in a pool of scope looms", "--exclude 10.77.0.1,yarnpost", "there is no route back to relay 172.31.9.9",
		"an interface cannot both serve and relay", "no other DHCP server answered"} {
		if !strings.Contains(out, text) {
			t.Errorf("preflight does not say %q:\n%s", text, out)
		}
	}
}

// A restart does not make the service forget who goes without.
func TestRecall(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := startService(t)
	s.must("scope", "add", "stores", "--subnet", "10.77.0.0/24", "--router", "10.77.0.1", "--serve")
	s.must("scope", "add", "looms", "--subnet", "10.78.0.0/24", "--pool", "10.78.0.100-10.78.0.109", "--router", "10.78.0.1", "--serve")
	s.must("rule", "add", "all", "--scope", "looms", "--when", "true", "--lease", "1h")
	s.must("trial", "add", "looms-served", "--scope", "looms")
	c := &demo.Client{Relay: s.relay("127.0.0.2", "10.77.0.1"), Hardware: hw(1), ID: []byte{0xff, 0, 0x80}, Hostname: "weaver",
		Patience: time.Second}
	c.Discover(ctx)
	s.must("trial", "run", "looms-served")
	s.stop()
	s.start()
	s.says([]string{"weaver", "scope serves reserved clients only"}, "unserved", "list")
	s.says([]string{"looms-served", "good, "}, "trial", "list")
	s.says([]string{"2×"}, "rule", "list")
	s.says([]string{"127.0.0.2", "stores"}, "relay", "list")
	s.must("reservation", "add", "weaver", "--scope", "stores", "--hw", hw(1).String())
	if err := c.Get(ctx); err != nil {
		t.Fatal(err)
	}
	s.says([]string{"Every client that asked was served"}, "unserved", "list")
}

// A rush of made-up clients is bounded, reported, and does not keep out those
// who were there before.
func TestRush(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--router", "10.77.0.1",
		"--new-per-minute", "12", "--serve")
	relay := s.relay("127.0.0.2", "10.77.0.1")
	for time.Now().Second() > 40 { // within one minute, as limits are
		time.Sleep(time.Second)
	}
	old := &demo.Client{Relay: relay, Circuit: "sw1/0/1", Hardware: hw(1)}
	if err := old.Get(ctx); err != nil {
		t.Fatal(err)
	}
	served := 0
	for n := range 40 {
		if (&demo.Client{Relay: relay, Circuit: "sw1/0/9", Hardware: hw(1000 + n), Patience: 50 * time.Millisecond}).Get(ctx) == nil {
			served++
		}
	}
	if served != 6 {
		t.Errorf("one port was served %d made-up clients in a minute, want 6", served)
	}
	if err := old.Renew(ctx); err != nil {
		t.Errorf("who was there before: %v", err)
	}
	s.says([]string{"clients that scope looms never saw before came in a rush"}, "status")
	s.says([]string{"too many clients never seen before"}, "unserved", "list")
}

// What people do is in one list: who, from where, what, why and what came of it; and
// nothing is there that was only previewed, refused or asked. Secrets are not.
func TestTrail(t *testing.T) {
	t.Parallel()
	s := startService(t, "--alerts-to", "127.0.0.0/8")
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.139", "--router", "10.77.0.1", "--serve",
		"--reason", "the new looms")
	c := demo.Client{Relay: s.relay("127.77.0.1", "10.77.0.1"), Hardware: hw(1), Hostname: "loom-1"}
	if err := c.Get(context.Background()); err != nil {
		t.Fatal(err)
	}
	held := c.Address.String()
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("woolsack\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s.must("lease", "end", held, "--dry-run")
	s.must("scope", "edit", "looms", "--lease", "2h", "--dry-run")
	s.cli("lease", "end", "10.77.0.200") // nobody has it
	s.must("explain", c.Hardware.String())
	s.must("lease", "end", held, "--yes", "--reason", "moved to höfen")
	s.must("alert", "target", "add", "desk", "--url", "http://127.0.0.1:9/hook", "--secret-file", secret)
	s.must("alert", "target", "add", "desk", "--url", "http://127.0.0.1:9/other", "--secret-file", secret)
	s.must("alert", "silence", "pool-full*", "--until", "2h", "--reason", "the fair")
	s.must("token", "add", "robot")
	s.must("token", "revoke", "robot", "--yes")
	s.must("alert", "target", "remove", "desk")
	s.cli("audit", "run") // it ends with 5 where it found something
	var page api.Page[api.Deed]
	s.await(func() bool { // what a busy disk did not take at once is recorded seconds later
		var err error
		page, err = s.api().Trail(context.Background(), "", time.Time{}, 100)
		return err == nil && !slices.ContainsFunc(page.Items, func(d api.Deed) bool { return d.From == "" })
	}, "each deed to be on record")
	want := []string{"ran an audit  ", "removed a target of alerts desk ", "revoked a token robot ", "made a token robot ",
		"silenced alerts pool-full* the fair", "set a target of alerts desk ", "set a target of alerts desk ",
		"ended a lease " + held + " moved to höfen",
		"changed the plan revision 1 the new looms"}
	if len(page.Items) != len(want) {
		t.Errorf("%d deeds, want %d: %+v", len(page.Items), len(want), page.Items)
	}
	for i, d := range page.Items[:min(len(want), len(page.Items))] {
		if got := d.Deed + " " + d.Subject + " " + d.Reason; got != want[i] || d.Who == "" || d.From != "127.0.0.1" {
			t.Errorf("%q by %q from %q, want %q", got, d.Who, d.From, want[i])
		}
	}
	if out := s.must("trail", "desk", "--wide"); !strings.Contains(out, "http://127.0.0.1:9/hook → http://127.0.0.1:9/other") {
		t.Errorf("where the alerts go is not said:\n%s", out)
	}
	if out := s.must("trail", "--json"); strings.Contains(out, "woolsack") || strings.Contains(out, "yp_") {
		t.Errorf("a secret is in the trail:\n%s", out)
	}
	if out := s.must("trail", "höfen"); !strings.Contains(out, "ended a lease: "+held) || strings.Contains(out, "robot") {
		t.Errorf("searched:\n%s", out)
	}
	if out := s.must("lease", "history", held); !strings.Contains(out, "admin") {
		t.Errorf("the history does not say who ended the lease:\n%s", out)
	}
	file := filepath.Join(t.TempDir(), "report.html")
	s.must("audit", "report", "--out", file)
	if b, err := os.ReadFile(file); err != nil || !strings.Contains(string(b), "moved to höfen") {
		t.Errorf("the report does not have it: %v", err)
	}
}
