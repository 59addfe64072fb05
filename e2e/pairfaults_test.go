package e2e

import (
	"context"
	"encoding/json"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/demo"
	"yarnpost/service/partner"
)

// A drill tells who was served by the other server and how long each waited. It ends
// at once when a client suffers: here one whose relay forwards to the server that is
// out alone.
func TestDrill(t *testing.T) {
	t.Parallel()
	w := pairOf(t, "--mode", "hot-standby")
	ctx := context.Background()
	drill := func(span string) (d api.PairDrill) {
		out, errs, code := w.a.cli("pair", "drill", "--for", span, "--yes", "--json")
		if err := json.Unmarshal([]byte(out), &d); err != nil || code != 0 {
			t.Errorf("drill: exit %d, %v\n%s%s", code, err, out, errs)
		}
		return d
	}
	running := func() bool { return pairSeen(w.a).Drill != nil && pairSeen(w.a).Drill.Running }
	done := make(chan api.PairDrill, 1)
	go func() { done <- drill("10s") }()
	w.a.await(running, "the drill to begin")
	for n := range 3 {
		c := demo.Client{Relay: w.relay, Hardware: hw(n + 1), Patience: 5 * time.Second}
		if err := c.Get(ctx); err != nil || c.Server != w.b.dhcp4.Addr() {
			t.Errorf("client %d in the drill: %v, served by %s", n+1, err, c.Server)
		}
	}
	d := <-done
	if d.Served != 3 || d.Without != 0 || len(d.Clients) != 3 || d.Longest <= 0 || d.Longest > 5 ||
		!strings.Contains(d.Verdict, "nobody went without") {
		t.Errorf("the drill says %+v", d)
	}
	for _, c := range d.Clients {
		if c.Seconds == nil || *c.Seconds > d.Longest {
			t.Errorf("of %s it does not say how long it waited: %+v", c.Name, c)
		}
	}
	w.together("after the drill")

	lonely := w.a.relay("127.77.0.9", "10.77.0.1")
	began := time.Now()
	go func() { done <- drill("5m") }()
	w.a.await(running, "the second drill to begin")
	c := demo.Client{Relay: lonely, Hardware: hw(9), Hostname: "cut-off", Patience: time.Second}
	w.a.await(func() bool { return c.Get(ctx) == nil }, "the cut-off client to be served again")
	if d = <-done; d.Without != 1 || !strings.Contains(d.Verdict, "ended at once") || !strings.Contains(d.Verdict, "cut-off") ||
		time.Since(began) > time.Minute {
		t.Errorf("after %s the second drill says %+v", time.Since(began), d)
	}
	w.together("after the second drill")
}

// What one server alone refused shows on both, with the server that refused it, and
// goes once the client is served.
func TestUnservedByThePair(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	ctx := context.Background()
	w.a.must("scope", "add", "held", "--subnet", "10.78.0.0/24", "--router", "10.78.0.1", "--pool", "10.78.0.10-10.78.0.19")
	w.together("after a scope is held")
	c := demo.Client{Relay: w.b.relay("127.78.0.1", "10.78.0.1"), Hardware: hw(7), Patience: 300 * time.Millisecond}
	c.Relay.Tried = 60 // so long that either server answers
	for _, s := range []*service{w.a, w.b} {
		w.a.await(func() bool {
			c.Discover(ctx)
			out := s.must("unserved", "list")
			return strings.Contains(out, c.Hardware.String()) && strings.Contains(out, "shuttle") && !strings.Contains(out, "bobbin")
		}, "both to know who is unserved, and where")
	}
	w.a.must("unserved", "mend", c.Hardware.String(), "--yes")
	if err := c.Get(ctx); err != nil {
		t.Fatal(err)
	}
	w.a.await(func() bool {
		return strings.Contains(w.a.must("unserved", "list"), "Every client that asked was served")
	}, "nobody to be left")
	w.b.stop()
	if _, errs, _ := w.a.cli("unserved", "list"); !strings.Contains(errs, "shuttle cannot be asked") {
		t.Errorf("with the other server away the list says %s", errs)
	}
	w.b.start()
}

// A change of the plan stands once in the trail of a pair, at either server, and says from
// where it was made and at which of them.
func TestTrailOfThePair(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	w.a.must("scope", "add", "loft", "--subnet", "10.81.0.0/24", "--reason", "asked at bobbin")
	w.together("after a change at one")
	w.b.must("scope", "add", "attic", "--subnet", "10.82.0.0/24", "--reason", "asked at shuttle")
	w.together("after a change at the other")
	for _, asked := range []*service{w.a, w.b} {
		for server, reason := range map[string]string{"bobbin": "asked at bobbin", "shuttle": "asked at shuttle"} {
			var list []api.Deed
			if err := json.Unmarshal([]byte(asked.must("trail", "asked at", "--json")), &list); err != nil {
				t.Fatal(err)
			}
			list = slices.DeleteFunc(list, func(d api.Deed) bool { return d.Reason != reason })
			if len(list) != 1 || list[0].From != "127.0.0.1" || list[0].Server != server || !strings.Contains(list[0].Subject, "revision") {
				t.Errorf("of what was %s the trail says %+v", reason, list)
			}
		}
	}
}

// One server's database hangs, and then is killed, under load: the other serves, no
// acknowledged lease is lost, and both tables agree once it is back.
func TestPairLosesADatabase(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	p := &promises{of: map[string]promise{}}
	ctx, stop := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	load(ctx, w.a, over4(w.relay), 1000, p, &wg)
	served := func(more int, what string) {
		t.Helper()
		before := p.count()
		w.a.await(func() bool { return p.count() > before+more }, what)
	}
	served(100, "clients")
	thaw := freezePostgres(t, w.a)
	for n := range 6 { // whoever comes once that is noticed waits for nothing
		newcomer := demo.Client{Relay: w.relay, Hardware: hw(n + 1), Patience: 4 * time.Second}
		w.a.await(func() bool { return newcomer.Get(ctx) == nil }, "a newcomer to be served with a database that hangs")
		if newcomer.Server != w.b.dhcp4.Addr() {
			t.Errorf("newcomer %d is served by %s", n+1, newcomer.Server)
		}
	}
	served(200, "clients to be served by the other")
	thaw()
	served(60, "clients to be served by both")
	killPostgres(t, w.b)
	served(60, "clients with the other's database killed")
	stop()
	wg.Wait()
	w.agree("after both databases are back")
	p.kept(w.a, "in the end at bobbin")
	p.kept(w.b, "in the end at shuttle")
}

// freezePostgres stops every process of a private database where it stands, until the
// function that it gives is called.
func freezePostgres(t *testing.T, s *service) (thaw func()) {
	t.Helper()
	pid := postmaster(t, s)
	send := func(what syscall.Signal) {
		for _, of := range append(childrenOf(pid), pid) {
			_ = syscall.Kill(of, what) // a child may be gone
		}
	}
	send(syscall.SIGSTOP)
	t.Cleanup(func() { send(syscall.SIGCONT) })
	return func() { send(syscall.SIGCONT) }
}

// childrenOf lists the processes that a process started.
func childrenOf(pid int) (out []int) {
	b, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/task/" + strconv.Itoa(pid) + "/children")
	for _, word := range strings.Fields(string(b)) {
		if n, err := strconv.Atoi(word); err == nil {
			out = append(out, n)
		}
	}
	return out
}

// Settings that one server could not record come to be the same on both.
func TestPairSettings(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	thaw := freezePostgres(t, w.b)
	if _, errs, code := w.a.cli("pair", "edit", "--lead", "30m", "--yes"); code == 0 {
		t.Errorf("settings are said to be on both, one of which cannot record them: %s", errs)
	}
	thaw()
	w.together("after the database is back")
	w.a.await(func() bool { return pairSeen(w.a).Lead == pairSeen(w.b).Lead }, "both to have the same settings")
	w.b.await(func() bool { _, _, code := w.b.cli("pair", "edit", "--lead", "20m", "--yes"); return code == 0 }, "settings to be recorded again")
	w.a.await(func() bool { return pairSeen(w.a).Lead == "20m" && pairSeen(w.b).Lead == "20m" }, "both to have the second's settings")
}

// A server that joined and did not hear the answer is told once more; nobody else is.
func TestJoinedTwice(t *testing.T) {
	t.Parallel()
	s := startService(t, "--partner", "127.0.0.1:"+strconv.Itoa(freePort(t, "tcp")), "--name", "bobbin")
	line := strings.Fields(s.must("pair", "invite", "--at", "127.0.0.1"))
	i, err := partner.ParseInvitation(line[len(line)-1])
	if err != nil {
		t.Fatal(err)
	}
	join := func(identity []byte) error {
		var out json.RawMessage
		_, err := partner.Join(context.Background(), i, identity, map[string]any{"secret": i.Secret[:], "name": "shuttle", "version": 1}, &out)
		return err
	}
	var ids [2][]byte
	for n := range ids {
		if ids[n], err = partner.NewIdentity("shuttle", time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	for n := range 2 {
		if err := join(ids[0]); err != nil {
			t.Errorf("joining for the time %d: %v", n+1, err)
		}
	}
	if err := join(ids[1]); err == nil || !strings.Contains(err.Error(), "no invitation is open") {
		t.Errorf("another one joins by the same invitation: %v", err)
	}
}

// One server comes back after an hour in which the other served alone: what was
// promised meanwhile is known to both, and nobody's address is somebody else's.
func TestPairAnHourLater(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	ctx := context.Background()
	clients := make([]demo.Client, 24)
	for n := range clients {
		clients[n] = demo.Client{Relay: w.relay, Hardware: hw(n + 1), Patience: 12 * time.Second}
		if err := clients[n].Get(ctx); err != nil {
			t.Fatal(err)
		}
	}
	w.together("before an hour passes")
	w.b.kill()
	w.a.after("70m") // beyond the lead time, and what every lease was for
	w.state(w.a, "communications-interrupted")
	taken := map[string]string{}
	for n := range 8 { // some renew late, the rest left; newcomers come
		c := &clients[n]
		if n >= 4 {
			c = &demo.Client{Relay: w.relay, Hardware: hw(100 + n), Patience: 12 * time.Second}
		}
		if err := c.Get(ctx); err != nil {
			t.Fatalf("client %d an hour later: %v", n, err)
		}
		if who, twice := taken[c.Address.String()]; twice {
			t.Errorf("%s is given to %s and to %s", c.Address, who, c.Hardware)
		}
		taken[c.Address.String()] = c.Hardware.String()
	}
	found := w.a.findings()
	for _, want := range []string{"pair-owed server bobbin", "pair-nobodys server bobbin", "pair-takeover server shuttle"} {
		if _, ok := found[want]; !ok {
			t.Errorf("%s is not found: %v", want, keysOf(found))
		}
	}
	w.b.later = "70m"
	w.b.start()
	w.agree("after an hour apart")
	for _, s := range []*service{w.a, w.b} {
		table := s.leases()
		for a, who := range taken {
			if l := table[a]; l.Status != "active" || l.Hardware != who {
				t.Errorf("%s was acknowledged to %s; the table says %s of %s", a, who, l.Status, l.Hardware)
			}
		}
	}
	// Both tell in which state they were, and when the one was away.
	var states api.PairStates
	status, body := w.a.ask("GET", "/api/pair/states?hours=3", "")
	if err := json.Unmarshal([]byte(body), &states); err != nil || status != 200 || len(states.Servers) != 2 {
		t.Fatalf("states: %d %v\n%s", status, err, body)
	}
	for i, want := range []string{"communications-interrupted", "normal"} {
		spans := states.Servers[i].Spans
		if len(spans) < 2 || !slices.ContainsFunc(spans, func(p api.PairSpan) bool { return p.State == want }) ||
			spans[len(spans)-1].State != "normal" {
			t.Errorf("%s was in %+v", states.Servers[i].Name, spans)
		}
	}
	if out := w.a.must("status"); strings.Contains(out, "stepped") {
		t.Errorf("an hour that passed is taken for a step of the clock:\n%s", out)
	}
}
