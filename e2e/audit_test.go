package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/demo"
	"yarnpost/service/store"
)

// findings makes an audit and gives what it found, by key.
func (s *service) findings(args ...string) map[string]api.Finding {
	s.t.Helper()
	out, errs, code := s.cli(append([]string{"audit", "run", "--json"}, args...)...)
	var r api.AuditReport
	if err := json.Unmarshal([]byte(out), &r); err != nil || code != 0 && code != 5 {
		s.t.Fatalf("audit run: exit %d, %v\n%s%s", code, err, out, errs)
	}
	if (code == 5) != slices.ContainsFunc(r.Findings, func(f api.Finding) bool { return f.Known == nil }) {
		s.t.Errorf("exit %d with %d findings", code, len(r.Findings))
	}
	found := map[string]api.Finding{}
	for _, f := range r.Findings {
		found[f.Key] = f
		if f.Text == "" || f.Mend == "" || f.Title == "" {
			s.t.Errorf("%s says too little: %+v", f.Key, f)
		}
	}
	return found
}

// planted is one fault, and what an audit has to find because of it, and nothing else.
type planted struct {
	name  string
	plant func()
	want  string // codes, with blanks between
	undo  func()
	with  []string // arguments of the audit
	mends string   // code whose command, run as printed, takes its finding away
}

// hold checks that an audit finds what is planted, and nothing else.
func (s *service) hold(list []planted) {
	s.t.Helper()
	before := s.findings()
	for _, p := range list {
		p.plant()
		after := s.findings(p.with...)
		got := newCodes(before, after)
		for wait := time.Now().Add(20 * time.Second); got != p.want && time.Now().Before(wait); got = newCodes(before, after) {
			time.Sleep(time.Second) // a disk that stalls for seconds is found, too, and forgotten with the next sample
			after = s.findings(p.with...)
		}
		if got != p.want {
			s.t.Errorf("%s: found %q, planted %q", p.name, got, p.want)
			for key, f := range after {
				if _, was := before[key]; !was {
					s.t.Log(f.Key, "|", f.Text)
				}
			}
		}
		if p.mends != "" {
			s.mend(before, []string{p.mends})
			after = s.findings()
		}
		if p.undo != nil {
			p.undo()
			after = s.findings()
			for wait := time.Now().Add(5 * time.Second); newCodes(before, after) != "" && time.Now().Before(wait); after = s.findings() {
				time.Sleep(time.Second) // the host is looked at a moment later
			}
			for key := range after {
				if _, was := before[key]; !was {
					s.t.Errorf("%s is undone, and is still found: %s", p.name, key)
				}
			}
		}
		before = after
	}
}

// forgetNeighbours checks that what a file told stays until the next file, and gives an empty
// one, which forgets it.
func (s *service) forgetNeighbours(file string) {
	s.t.Helper()
	stays := false
	for _, f := range s.findings() {
		stays = stays || strings.HasPrefix(f.Code, "neighbour-")
	}
	if !stays {
		s.t.Error("an audit without a file forgets what the one before was told")
	}
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		s.t.Fatal(err)
	}
	s.findings("--neighbours", file)
}

// newCodes are the codes of what was not found before.
func newCodes(before, after map[string]api.Finding) string {
	var codes []string
	for key, f := range after {
		if _, was := before[key]; !was && !slices.Contains(codes, f.Code) {
			codes = append(codes, f.Code)
		}
	}
	slices.Sort(codes)
	return strings.Join(codes, " ")
}

// served has a scope looms in which 24 clients are served.
func served(t *testing.T, flags ...string) *service {
	t.Helper()
	s := startService(t, flags...)
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	r := s.relay("127.77.0.1", "10.77.0.1")
	for n := range 24 {
		c := demo.Client{Relay: r, Hardware: hw(n + 1), Hostname: fmt.Sprint("loom-", n)}
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
	}
	s.calm()
	return s
}

// planFaults are faults of a plan with a scope looms in which 24 clients are served. They
// are planted and undone by running commands.
func planFaults(run func(args ...string)) (list []planted) {
	do := func(args ...string) func() { return func() { run(args...) } }
	scope := func(more ...string) (plant, undo func()) {
		return do(append([]string{"scope", "add", "odd", "--subnet", "10.78.0.0/24", "--router", "10.78.0.1", "--pool",
			"10.78.0.10-10.78.0.19"},
			more...)...), do("scope", "remove", "odd", "--yes")
	}
	add := func(name, want string, plant, undo func()) {
		list = append(list, planted{name: name, want: want, plant: plant, undo: undo})
	}
	odd := func(want string, more ...string) {
		plant, undo := scope(more...)
		add(want, want, plant, undo)
	}
	odd("router-outside", "--router", "10.99.0.1")
	odd("routes-without-default", "--option", "classless-route=10.9.0.0/16 10.78.0.2")
	odd("infinite-lease", "--lease", "infinite")
	odd("idle-exclusion", "--exclude", "10.78.0.200,nobody")
	odd("exclusion-unused", "--exclude", "10.78.0.12")
	odd("empty-pool", "--exclude", "10.78.0.10-10.78.0.19,all of it")
	odd("scope-unused", "--serve")
	odd("silent-server", "--dns", "127.0.0.99", "--serve")
	list[len(list)-1].want = "scope-unused silent-server"
	add("no router", "no-router", do("scope", "add", "odd", "--subnet", "10.78.0.0/24", "--pool", "10.78.0.10-10.78.0.19"),
		do("scope", "remove", "odd", "--yes"))
	add("no pool", "no-pool", do("scope", "add", "odd", "--subnet", "10.78.0.0/24", "--router", "10.78.0.1"), do("scope", "remove", "odd",
		"--yes"))
	add("a public range", "public-range", do("scope", "add", "odd", "--subnet", "11.0.0.0/24", "--router", "11.0.0.1", "--pool",
		"11.0.0.9"),
		do("scope", "remove", "odd", "--yes"))
	add("a short lease", "short-lease", do("scope", "add", "odd", "--subnet", "10.80.0.0/16", "--router", "10.80.0.1", "--pool", "all",
		"--lease", "1m"),
		do("scope", "remove", "odd", "--yes"))
	add("two scopes of a link that differ", "link-mixed scope-unused", do("scope", "add", "odd", "--subnet", "10.78.0.0/24", "--pool",
		"10.78.0.10-10.78.0.19", "--router", "10.78.0.1", "--dns", "127.0.0.1", "--link", "looms", "--serve"), do("scope", "remove",
		"odd", "--yes"))
	list[len(list)-1].want = "link-mixed scope-unused silent-server"
	add("a list", "list-unused", do("list", "add", "lost", "--entry", "02:00:00:00:00:77"), do("list", "remove", "lost", "--yes"))
	add("a rule that fits nobody", "rule-never-fits", do("rule", "add", "never", "--when", `hw == "02:99:99:99:99:99"`, "--lease", "1h"),
		do("rule", "remove", "never", "--yes"))
	add("a rule behind a refusal", "rule-shadowed", func() {
		run("rule", "add", "first", "--when", `hostname == "loom-3"`, "--refuse", "--yes")
		run("rule", "add", "second", "--when", `hostname  ==  "loom-3"`, "--lease", "1h")
	}, func() { run("rule", "remove", "second", "--yes"); run("rule", "remove", "first", "--yes") })
	add("a reservation for nobody", "reservation-unclaimed", do("reservation", "add", "ghost", "--scope", "looms", "--hw",
		"02:88:00:00:00:01",
		"--address", "10.77.0.9"), do("reservation", "remove", "ghost", "--yes"))
	add("a reservation of what another holds", "reservation-contested", do("reservation", "add", "late", "--scope", "looms", "--hw",
		"02:88:00:00:00:01", "--address", "10.77.0.100"), do("reservation", "remove", "late", "--yes"))
	add("a reservation for one that has another address", "reserved-elsewhere", do("reservation", "add", "moves", "--scope", "looms",
		"--hw",
		hw(3).String(), "--address", "10.77.0.8"), do("reservation", "remove", "moves", "--yes"))
	add("a circuit that no relay of the link vouches for", "circuit-not-believed reservation-unclaimed", do("reservation", "add", "plug",
		"--scope",
		"looms", "--circuit", "sw1/0/7", "--address", "10.77.0.9"), do("reservation", "remove", "plug", "--yes"))
	add("one name for two", "reservation-name reservation-unclaimed", func() {
		run("reservation", "add", "one", "--scope", "looms", "--hw", "02:88:00:00:00:01", "--address", "10.77.0.8", "--hostname", "dobby")
		run("reservation", "add", "two", "--scope", "looms", "--hw", "02:88:00:00:00:02", "--address", "10.77.0.9", "--hostname", "Dobby")
	}, func() {
		run("reservation", "remove", "one", "--yes")
		run("reservation", "remove", "two", "--yes")
	})
	add("one client twice on a link", "reservation-twice reservation-unclaimed", func() {
		run("scope", "add", "odd", "--subnet", "10.78.0.0/24", "--router", "10.78.0.1", "--pool", "10.78.0.10", "--link", "looms")
		run("reservation", "add", "one", "--scope", "looms", "--hw", "02:88:00:00:00:01", "--address", "10.77.0.8")
		run("reservation", "add", "two", "--scope", "odd", "--hw", "02:88:00:00:00:01", "--address", "10.78.0.8")
	}, func() { run("reservation", "remove", "one", "--yes"); run("scope", "remove", "odd", "--yes") })
	add("a change of options", "options-old", do("option", "set", "ntp-servers=10.77.0.5", "--scope", "looms"),
		do("option", "unset", "ntp-servers", "--scope", "looms"))
	add("a pool past its threshold", "pool-full", do("scope", "edit", "looms", "--warn-used", "20"), do("scope", "edit", "looms",
		"--warn-used", "0"))
	add("a pool below its threshold", "pool-full", do("scope", "edit", "looms", "--warn-headroom", "90"),
		do("scope", "edit", "looms", "--warn-headroom", "0"))
	return list
}

// Each fault of a plan is found by an audit, and nothing else with it; and is gone
// once it is undone.
func TestAuditOfThePlan(t *testing.T) {
	t.Parallel()
	s := served(t, "--unused-after", "1us")
	s.hold(planFaults(func(args ...string) { s.must(args...) }))
	// What is found is advised at the moment of the change, too.
	if out := s.must("scope", "edit", "looms", "--dns", "127.0.0.98", "--dry-run"); !strings.Contains(out, "DNS server 127.0.0.98") ||
		!strings.Contains(out, "does not answer") {
		t.Errorf("a DNS server that does not answer is set without a word:\n%s", out)
	}
}

// What is printed to mend a finding, run as it is printed, takes away that finding and
// brings no other; where it only previews, --yes has it done.
func TestMendsAsPrinted(t *testing.T) {
	t.Parallel()
	s := served(t)
	undoing, mended := false, 0
	for _, p := range planFaults(func(args ...string) {
		if undoing { // the mend may have done it
			s.cli(args...)
			return
		}
		s.must(args...)
	}) {
		undoing = false
		before := s.findings()
		p.plant()
		if s.mend(before, nil) {
			mended++
		}
		undoing = true
		p.undo()
	}
	if mended < 5 {
		t.Errorf("%d findings had a command", mended)
	}
}

// mend runs what is printed to mend the first finding that is new and whose command does
// more than show something, of certain codes alone unless there are none. It reports
// whether there was one, and checks that this finding goes, that nothing else goes which
// was there before, and that nothing comes.
func (s *service) mend(before map[string]api.Finding, codes []string) bool {
	s.t.Helper()
	planted := s.findings()
	for _, key := range keysOf(planted) {
		f := planted[key]
		line, ours := strings.CutPrefix(f.Command, "yarnpost ")
		if _, was := before[key]; was || !ours || shows(line) || len(codes) > 0 && !slices.Contains(codes, f.Code) {
			continue
		}
		if strings.ContainsAny(line, "…<>|") || strings.Contains(line, "NAME") {
			s.t.Errorf("%s is to be mended by %q, which cannot be run", key, f.Command)
			continue
		}
		args := words(s.t, line)
		out, errs, code := s.cli(args...)
		if code == 3 {
			out, errs, code = s.cli(append(args, "--yes")...)
		}
		if code != 0 {
			s.t.Errorf("%s: %s ends with %d: %s%s", key, f.Command, code, out, errs)
			continue
		}
		after := s.findings()
		for wait := time.Now().Add(10 * time.Second); after[key].Code != "" && time.Now().Before(wait); after = s.findings() {
			time.Sleep(time.Second) // a partner hears of it a moment later
		}
		if _, there := after[key]; there {
			s.t.Errorf("%s is still there after %s: %s", key, f.Command, out)
		}
		for other, x := range after {
			if _, was := planted[other]; !was {
				s.t.Errorf("%s is mended by %s, and then there is %s: %s", key, f.Command, other, x.Text)
			}
		}
		for other := range before {
			if _, there := after[other]; !there {
				s.t.Errorf("%s is mended by %s, and %s is gone as well", key, f.Command, other)
			}
		}
		return true
	}
	if len(codes) > 0 {
		s.t.Errorf("nothing of %v is to be mended by a command: %v", codes, keysOf(planted))
	}
	return false
}

// shows reports whether a command only shows something.
func shows(line string) bool {
	verb := strings.Fields(line)
	return len(verb) == 1 || verb[0] == "explain" || slices.Contains([]string{"list", "show", "status", "stale", "history"}, verb[1])
}

// Each fault of a lease table is found, and nothing else with it.
func TestAuditOfLeases(t *testing.T) {
	t.Parallel()
	s := startService(t)
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	r := s.relay("127.77.0.1", "10.77.0.1")
	get := func(c *demo.Client) *demo.Client {
		t.Helper()
		c.Relay = r
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
		return c
	}
	get(&demo.Client{Hardware: hw(1), Hostname: "loom-1"})
	file := filepath.Join(t.TempDir(), "neighbours")
	neighbours := func(text string) func() {
		return func() {
			if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	forget := func() { s.forgetNeighbours(file) }
	held := s.leases()
	var mine string
	for a := range held {
		mine = a
	}
	s.hold([]planted{
		{name: "two with one name", want: "hostname-twice", plant: func() { get(&demo.Client{Hardware: hw(2), Hostname: "loom-1"}) }},
		{name: "a made-up address", want: "hardware-odd", plant: func() {
			get(&demo.Client{Hardware: addr.Hardware([]byte{0, 0x11, 0x22, 0x33, 0x44, 0x55}), Hostname: "clone"})
		}},
		{name: "many with one adapter", want: "many-addresses", plant: func() {
			for n := range 5 {
				get(&demo.Client{Hardware: hw(9), ID: []byte{0, byte(n)}, Hostname: fmt.Sprint("guest-", n)})
			}
		}},
		{name: "a declined address", want: "abandoned", mends: "abandoned", plant: func() {
			get(&demo.Client{Hardware: hw(11), Hostname: "picky"}).Decline()
			s.await(func() bool { return strings.Contains(s.must("lease", "list", "--status", "abandoned"), "10.77.0.") },
				"the declined address")
		}},
		{name: "a host without a lease", want: "neighbour-unknown", mends: "neighbour-unknown", with: []string{"--neighbours", file},
			plant: neighbours("# as programs write it\n10.77.0.33 dev eth0 lladdr 02:44:00:00:00:01 REACHABLE\n10.77.0.34 dev eth0 FAILED\n10.77.0.1 at 02:44:00:00:00:02\n"),
			undo:  func() { s.must("reservation", "remove", "host-10-77-0-33", "--yes"); forget() }},
		{name: "a host with another's address", want: "neighbour-other", with: []string{"--neighbours", file},
			plant: neighbours(mine + " 02-44-00-00-00-09\n"), undo: forget},
		{name: "clients that a held scope leaves out", want: "clients-unserved held-wanted", mends: "held-wanted", plant: func() {
			s.must("scope", "add", "held", "--subnet", "10.78.0.0/24", "--router", "10.78.0.1", "--pool", "10.78.0.10-10.78.0.19")
			c := demo.Client{Relay: s.relay("127.78.0.1", "10.78.0.1"), Hardware: hw(20), Patience: 300 * time.Millisecond}
			c.Discover(ctx)
		}},
		{name: "a scope that is gone", want: "lease-outside", plant: func() { s.must("scope", "remove", "looms", "--yes") }},
	})
	// What is known is acknowledged, until a date and for a reason, and taken back.
	if _, errs, code := s.cli("audit", "acknowledge", "lease-outside", "--until", "10d"); code != 2 || !strings.Contains(errs, "--reason") {
		t.Errorf("acknowledged without a reason: exit %d, %s", code, errs)
	}
	s.must("audit", "acknowledge", "lease-outside", "--until", "10d", "--reason", "the looms are sold")
	if _, _, code := s.cli("audit", "list", "--code", "lease-outside"); code != 0 {
		t.Errorf("exit %d although all of it is acknowledged", code)
	}
	if out := s.must("audit", "show", "lease-outside"); !strings.Contains(out, "the looms are sold") {
		t.Errorf("the finding does not say who knows it:\n%s", out)
	}
	s.stop()
	s.start() // it is kept
	for key, f := range s.findings() {
		if f.Code == "lease-outside" && (f.Known == nil || f.Known.By != "admin") {
			t.Errorf("after a restart %s is known to %+v", key, f.Known)
		}
	}
	s.must("audit", "acknowledge", "lease-outside", "--withdraw")
	if _, _, code := s.cli("audit", "list", "--code", "lease-outside"); code != 5 {
		t.Errorf("exit %d although the acknowledgement was taken back", code)
	}
}

// A sweep lists first and clears on request, many at a time.
func TestSweep(t *testing.T) {
	t.Parallel()
	s := startService(t, "--unused-after", "1us")
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	r := s.relay("127.77.0.1", "10.77.0.1")
	for n := range 3 {
		c := demo.Client{Relay: r, Hardware: hw(n + 1)}
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
		c.Decline()
	}
	for n := range 3 {
		s.must("reservation", "add", fmt.Sprint("ghost-", n), "--scope", "looms", "--hw", hw(50+n).String(), "--address",
			fmt.Sprint("10.77.0.", 10+n))
	}
	s.await(func() bool { return strings.Count(s.must("lease", "list", "--status", "abandoned"), "abandoned") >= 3 },
		"three declined addresses")
	if out, _, code := s.cli("sweep", "run", "--kind", "abandoned"); code != 3 || !strings.Contains(out, "3 items would be cleared") {
		t.Errorf("a preview: exit %d\n%s", code, out)
	}
	if out := s.must("sweep", "run", "--kind", "abandoned", "--yes"); !strings.Contains(out, "3 items are cleared") {
		t.Errorf("cleared:\n%s", out)
	}
	if out := s.must("sweep", "list", "--kind", "abandoned"); !strings.Contains(out, "0 items") {
		t.Errorf("left:\n%s", out)
	}
	s.must("sweep", "run", "--kind", "unclaimed", "--search", "ghost-1", "--yes")
	if out := s.must("reservation", "list"); strings.Contains(out, "ghost-1") || !strings.Contains(out, "ghost-2") {
		t.Errorf("reservations left:\n%s", out)
	}
	if out := s.must("plan", "history"); !strings.Contains(out, "nobody claimed") {
		t.Errorf("the trail does not tell of the sweep:\n%s", out)
	}
	if _, _, code := s.cli("sweep", "run", "--kind", "dust"); code != 2 {
		t.Errorf("a kind that is none: exit %d", code)
	}
}

// The report stands by itself: one file that asks nothing of any other place, with
// what was found and what it means.
func TestAuditReport(t *testing.T) {
	t.Parallel()
	s := startService(t, "--unused-after", "1us")
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--router", "10.99.0.1", "--pool", "10.77.0.100-10.77.0.199", "--note",
		"<b>bold</b>", "--serve", "--reason", "looms come on Monday")
	s.findings()
	file := filepath.Join(t.TempDir(), "report.html")
	s.must("audit", "report", "--out", file)
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	text := string(b)
	for _, want := range []string{"Router outside the subnet", "router 10.99.0.1 is not in the subnet", "Name a router inside", "looms",
		"What the findings mean",
		"looms come on Monday", "scope looms: added"} {
		if !strings.Contains(text, want) {
			t.Errorf("the report does not say %q", want)
		}
	}
	for _, not := range []string{"http://", "https://", "<script", "src=", "<b>bold</b>", "@import", "url("} {
		if strings.Contains(text, not) {
			t.Errorf("the report has %q", not)
		}
	}
}

// What two servers know differently is found across the pair, and what stands in the
// way of a takeover.
func TestAuditOfAPair(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	ctx := context.Background()
	clients := make([]demo.Client, 4)
	for n := range clients {
		clients[n] = demo.Client{Relay: w.relay, Hardware: hw(n + 1), Hostname: fmt.Sprint("loom-", n)}
		if err := clients[n].Get(ctx); err != nil {
			t.Fatal(err)
		}
	}
	w.agree("before anything is planted")
	before := w.a.findings()
	for key := range before {
		if strings.HasPrefix(key, "pair-") {
			t.Errorf("found although nothing is planted: %s", key)
		}
	}
	// Somebody changes a record behind the servers' backs.
	victim := clients[2].Address
	conn, err := pgx.Connect(ctx, store.PrivateDSN(w.b.dir))
	if err != nil {
		t.Fatal(err)
	}
	w.b.cmd.Process.Signal(os.Interrupt)
	tag, err := conn.Exec(ctx, "delete from lease where address = $1", netip.PrefixFrom(victim, 32))
	conn.Close(ctx)
	w.b.stop()
	if err != nil || tag.RowsAffected() != 1 {
		t.Skipf("the record could not be taken away in time: %v", err)
	}
	w.b.start()
	w.together("after a record was taken away")
	found := w.a.findings()
	if f, ok := found["pair-differs address "+victim.String()]; !ok {
		t.Errorf("that %s is known here alone is not found: %v", victim, keysOf(found))
	} else if f.Severity != "trouble" {
		t.Errorf("%+v", f)
	}
	w.a.mend(before, []string{"pair-differs"})
	w.agree("after it was mended")
	// Where alerts go, and what is silenced, both know.
	d := newDesk(t)
	w.a.must("alert", "target", "add", "desk", "--url", d.URL)
	w.b.await(func() bool { return strings.Contains(w.b.must("alert", "target", "list"), d.URL) }, "the target to be known on both")
	w.b.must("alert", "silence", "trial-failed*", "--until", "1h", "--reason", "they are new")
	w.a.await(func() bool { return strings.Contains(w.a.must("alert", "silences"), "they are new") }, "the silence to be known on both")
	w.b.must("alert", "target", "remove", "desk")
	w.a.await(func() bool { return !strings.Contains(w.a.must("alert", "target", "list"), d.URL) }, "the target to be gone on both")
	// What is swept on one is cleared on both, and counted once.
	clients[3].Decline()
	for _, side := range []*service{w.a, w.b} { // whichever it was told
		side.await(func() bool { return strings.Contains(side.must("lease", "list", "--status", "abandoned"), "abandoned") },
			"the declined address")
	}
	if out := w.a.must("sweep", "run", "--kind", "abandoned", "--yes"); !strings.Contains(out,
		"1 item is cleared, each counted once though both servers know of it") {
		t.Errorf("swept:\n%s", out)
	}
	w.b.await(func() bool { return !strings.Contains(w.b.must("lease", "list", "--status", "abandoned"), "abandoned") },
		"the sweep to reach the other")
	w.cable.Cut()
	w.a.await(func() bool { return !pairSeen(w.a).Takeover }, "the cut to be noticed")
	if _, ok := w.a.findings()["pair-takeover server shuttle"]; !ok {
		t.Error("that the partner could not take over is not found")
	}
}

func keysOf(m map[string]api.Finding) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
