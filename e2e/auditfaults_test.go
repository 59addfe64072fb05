package e2e

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/api"
	"yarnpost/demo"
	"yarnpost/service/store"
)

// sql runs statements in the private database of a service, and gives how many rows the
// last of them is about.
func (s *service) sql(statements ...string) (rows int64) {
	s.t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, store.PrivateDSN(s.dir))
	if err != nil {
		s.t.Fatal(err)
	}
	defer conn.Close(ctx)
	for _, text := range statements {
		tag, err := conn.Exec(ctx, text)
		if err != nil {
			s.t.Fatalf("%s: %v", text, err)
		}
		rows = tag.RowsAffected()
	}
	return rows
}

// Faults of the service itself are found by an audit, and nothing else with them.
func TestAuditOfTheService(t *testing.T) {
	t.Parallel()
	s := startService(t, "--unused-after", "1us")
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	r := s.relay("127.77.0.1", "10.77.0.1")
	get := func(c *demo.Client) {
		t.Helper()
		c.Relay, c.Patience = r, 5*time.Second
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
	}
	get(&demo.Client{Hardware: hw(1), Hostname: "loom-1"})
	s.calm()
	day := time.Now().UTC().AddDate(0, 0, -9).Format(time.DateOnly)
	alter := func(text ...string) func() { return func() { s.sql(append(text, "select pg_reload_conf()")...) } }
	s.hold([]planted{
		{name: "a database that commits slowly", want: "database-slow", plant: func() {
			alter("alter system set commit_delay = 100000", "alter system set commit_siblings = 0", "alter system set fsync = on")()
			time.Sleep(time.Second) // until every connection has heard of it
			for n := range 5 {
				get(&demo.Client{Hardware: hw(10 + n), Hostname: fmt.Sprint("slow-", n)})
			}
		}, undo: func() {
			alter("alter system reset commit_delay", "alter system reset commit_siblings")()
			time.Sleep(time.Second)
			for n := range 5 {
				get(&demo.Client{Hardware: hw(20 + n), Hostname: fmt.Sprint("quick-", n)})
			}
		}},
		{name: "history of a day that has no place", want: "history-behind", plant: func() {
			s.sql("insert into lease_history (at, address, status, client, hardware, hostname, circuit, since, expires) values ('" + day +
				"', '10.77.0.5', 2, '', '', '', '', 0, 0)")
		}, undo: func() { s.sql("delete from lease_history where address = '10.77.0.5'") }},
		{name: "a trial that nobody answers", want: "trial-failed", mends: "trial-failed", plant: func() {
			s.must("rule", "add", "no-strangers", "--when", `vendor == "stranger"`, "--refuse", "--yes")
			s.must("trial", "add", "stranger", "--scope", "looms", "--vendor", "stranger")
			s.cli("trial", "run", "stranger")
			s.must("rule", "remove", "no-strangers", "--yes")
		}, undo: func() { s.must("trial", "remove", "stranger", "--yes") }},
		{name: "two hosts with one identifier", want: "clients-unserved identifier-twice", mends: "identifier-twice", plant: func() {
			for n := range 6 { // they take turns, as hosts do that renew
				s.must("scope", "edit", "looms", "--note", fmt.Sprint("turn ",
					n)) // by another revision, nothing is answered from the record
				get(&demo.Client{Hardware: hw(40 + n%2), ID: []byte("\x00clone"), Hostname: "clone"})
			}
		}},
		{name: "a burst that the host drops", want: "conversations-dropped", plant: func() {
			s.cmd.Process.Signal(syscall.SIGSTOP)
			conn, err := net.Dial("udp", s.dhcp4.String())
			if err != nil {
				t.Fatal(err)
			}
			for range 60_000 {
				_, _ = conn.Write(make([]byte, 548)) // what does not fit is what is wanted
			}
			conn.Close()
			s.cmd.Process.Signal(syscall.SIGCONT)
			get(&demo.Client{Hardware: hw(1), Hostname: "loom-1"})
		}, undo: func() { time.Sleep(time.Second) }},
	})
}

// Samples that cannot be recorded are found, and the finding goes once they can.
func TestAuditOfSamples(t *testing.T) {
	t.Parallel()
	s := startService(t, "--unused-after", "1us")
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	s.calm()
	until := func(want bool) { // one is taken each minute
		t.Helper()
		for end := time.Now().Add(3 * time.Minute); time.Now().Before(end); time.Sleep(3 * time.Second) {
			if _, is := s.findings()["samples-behind samples"]; is == want {
				return
			}
		}
		t.Errorf("samples-behind is not as it should be: %v", want)
	}
	s.hold([]planted{{name: "samples have no place", want: "samples-behind",
		plant: func() { s.sql("alter table capacity_open rename to capacity_closed"); until(true) },
		undo:  func() { s.sql("alter table capacity_closed rename to capacity_open"); until(false) }}})
}

// A relay that forwards to one server of a pair alone is found, once both have been
// there for long enough to hear it.
func TestAuditOfRelays(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	w.a.bend()
	w.b.bend()
	w.together("with clocks of the test's")
	ctx := context.Background()
	lone := w.a.relay("127.77.0.9", "10.77.0.1")
	come := func() {
		t.Helper()
		for n, r := range []*demo.Relay{w.relay, lone} {
			c := demo.Client{Relay: r, Hardware: hw(n + 1), Patience: 12 * time.Second}
			if err := c.Get(ctx); err != nil {
				t.Fatal(err)
			}
		}
	}
	come()
	if _, ok := w.a.findings()["pair-relay relay 127.77.0.9"]; ok {
		t.Error("a relay that one server has heard alone is found at once")
	}
	for _, s := range []*service{w.a, w.b} {
		s.tell("slept", 3*time.Minute)
	}
	w.together("three minutes later")
	come()
	found := map[string]api.Finding{}
	w.a.await(func() bool {
		found = w.a.findings()
		_, ok := found["pair-relay relay 127.77.0.9"]
		return ok
	}, "a relay to be found that one server hears alone")
	if f := found["pair-relay relay 127.77.0.9"]; !strings.Contains(f.Text, "to bobbin alone") {
		t.Errorf("found: %s", f.Text)
	}
}

// What time alone brings about is found once it has passed.
func TestAuditLater(t *testing.T) {
	t.Parallel()
	s := startService(t, "--unused-after", "1us")
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	s.must("scope", "add", "old", "--subnet", "10.78.0.0/24", "--pool", "10.78.0.100-10.78.0.199", "--router", "10.78.0.1", "--serve")
	s.must("link", "edit", "looms", "--relay", "127.77.0.1")
	s.must("reservation", "add", "press", "--scope", "looms", "--hw", hw(1).String(), "--address", "10.77.0.9")
	s.must("reservation", "add", "idle", "--scope", "looms", "--hw", hw(77).String(), "--address", "10.77.0.10")
	var clients []demo.Client
	for n, link := range []string{"10.77.0.1", "10.78.0.1"} {
		c := demo.Client{Relay: s.relay(fmt.Sprintf("127.77.0.%d", n+1), link), Hardware: hw(n + 1)}
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
		clients = append(clients, c)
	}
	busy := func() { // what the first relay forwards
		for range 30 {
			if _, err := clients[0].Discover(ctx); err != nil {
				t.Fatal(err)
			}
		}
	}
	busy()
	s.after("10m")
	busy()
	s.must("scope", "drain", "old", "--until", time.Now().Add(time.Hour).UTC().Format(time.RFC3339), "--yes")
	const silent = "relay-silent relay 127.77.0.1"
	s.tell("slept", 30*time.Minute) // time passes, and nobody says anything
	s.await(func() bool { return s.findings()[silent].Code != "" }, "a busy relay that says nothing to be found")
	busy()
	idle := func() string { return s.must("sweep", "list", "--kind", "unclaimed", "--older", "30d") }
	if out := idle(); strings.Contains(out, "idle") {
		t.Errorf("a reservation of a few minutes ago counts as old:\n%s", out)
	}
	if out := s.must("sweep", "list", "--kind", "unclaimed"); !strings.Contains(out, "and never claimed") {
		t.Errorf("what could be swept is\n%s", out)
	}
	before := s.findings()
	if _, is := before[silent]; is {
		t.Error("a relay is heard again, and is still found silent")
	}
	s.after("800h")
	if out := idle(); !strings.Contains(out, "idle") || !strings.Contains(out, "press") {
		t.Errorf("after a month, what could be swept is\n%s", out)
	}
	after := s.findings()
	for _, want := range []string{"reservation-unseen reservation press", "drain-over scope old"} {
		if _, was := before[want]; was {
			t.Errorf("%s is found before its time", want)
		}
		if _, is := after[want]; !is {
			t.Errorf("%s is not found after a month: %v", want, keysOf(after))
		}
		s.mend(nil, strings.Fields(want)[:1])
	}
}

// A disk that is nearly full is found.
func TestAuditOfADisk(t *testing.T) {
	t.Parallel()
	needRoot(t)
	dir := dataDir(t)
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=400m,mode=711", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be made here: %v %s", err, out)
	}
	t.Cleanup(func() { sh(t, "umount", dir) })
	s := startService(t, "--unused-after", "1us")
	s.stop()
	s.dir = dir
	s.start()
	t.Cleanup(s.stop)
	var of syscall.Statfs_t
	if err := syscall.Statfs(dir, &of); err != nil {
		t.Fatal(err)
	}
	filler := filepath.Join(dir, "filler")
	s.hold([]planted{{name: "a disk nearly full", want: "disk-full", plant: func() {
		if err := os.WriteFile(filler, make([]byte, int(of.Bavail)*int(of.Bsize)-24<<20), 0o600); err != nil {
			t.Fatal(err)
		}
	}, undo: func() { os.Remove(filler) }}})
	s.stop()
}

// An address of the server's own in a pool, and another server on the link, are found.
func TestAuditOnTheWire(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.150")
	other := w.host("02:00:00:00:0d:01")
	other.addresses("10.77.0.2/24")
	w.await(func() bool { return !strings.Contains(w.must("status"), "in no scope") }, "the look at the host to follow the plan")
	sh(t, "ip", "-n", w.netns, "addr", "add", "10.77.0.3/24", "dev", "br0")
	w.hold([]planted{
		{name: "the server's own address in a pool", want: "host own-address", plant: func() {
			w.must("scope", "edit", "looms", "--pool",
				"10.77.0.3-10.77.0.150")
		},
			undo: func() { w.must("scope", "edit", "looms", "--pool", "10.77.0.100-10.77.0.150") }},
		{name: "another server", want: "other-server", plant: func() {
			b := &service{t: t, netns: other.ns, dir: dataDir(t), http: "127.0.0.1:8067", dhcp4: w.dhcp4, args: []string{"--interface",
				"eth0"}}
			b.start()
			t.Cleanup(b.stop)
			b.must("scope", "add", "rogue", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.200-10.77.0.210", "--router", "10.77.0.2",
				"--serve")
			h := w.host("02:00:00:00:00:01")
			h.dhcp("-B")
			h.event("bound")
			w.await(func() bool { return strings.Contains(w.must("status"), "another DHCP server") }, "the other server to be heard")
		}},
	})
}

// What two servers say of their clocks, plans and debts is found.
func TestAuditOfTwoClocks(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	w.b.after("45s")
	w.together("with clocks apart")
	if f, ok := w.a.findings()["pair-clock server shuttle"]; !ok || !strings.Contains(f.Text, strconv.Itoa(45)) {
		t.Errorf("clocks 45 s apart: %+v", f)
	}
	w.b.after("0s")
	w.together("with clocks set right")
	if f, ok := w.a.findings()["pair-clock server shuttle"]; ok {
		t.Errorf("clocks set right: %+v", f)
	}
}
