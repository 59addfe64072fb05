package e2e

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/demo"
)

// twins are two services that are a pair, with one scope, a relay that reaches both,
// and the cable between them.
type twins struct {
	t     *testing.T
	a, b  *service
	cable *demo.Cable
	relay *demo.Relay
}

func pairOf(t *testing.T, mode ...string) *twins {
	t.Helper()
	w := unpaired(t)
	w.a.must("scope", "add", "looms", "--subnet", "10.77.0.0/16", "--pool", "10.77.1.0-10.77.60.255", "--option", "router=10.77.0.1", "--serve")
	w.form(mode...)
	var err error
	if w.relay, err = demo.NewRelay(netip.MustParseAddr("127.0.0.1"), netip.MustParseAddr("10.77.0.1"), w.a.dhcp4, w.b.dhcp4); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.relay.Close)
	return w
}

// unpaired are two services with a cable to the first.
func unpaired(t *testing.T) *twins {
	t.Helper()
	w := &twins{t: t}
	for i, s := range []**service{&w.a, &w.b} {
		partner := fmt.Sprintf("127.0.0.1:%d", freePort(t, "tcp"))
		*s = &service{t: t, dir: dataDir(t), http: freeHTTP(t),
			dhcp4: netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, byte(2 + i)}), uint16(freePort(t, "udp"))),
			args: []string{"--partner", partner, "--name", []string{"bobbin", "shuttle"}[i], "--alerts-to", "127.0.0.0/8",
				"--dhcp6", fmt.Sprintf("[::1]:%d", freePort6(t))}}
		(*s).start()
		t.Cleanup((*s).stop)
		if i == 0 {
			var err error
			if w.cable, err = demo.NewCable(partner); err != nil {
				t.Fatal(err)
			}
			t.Cleanup(w.cable.Close)
		}
	}
	return w
}

// form makes the two a pair.
func (w *twins) form(mode ...string) {
	w.t.Helper()
	code := w.a.must(append([]string{"pair", "invite", "--at", w.cable.Address()}, mode...)...)
	w.b.must(strings.Fields(strings.TrimPrefix(code, "yarnpost "))...)
	w.together("after the joining")
}

// pair is the pair as a server sees it.
func pairSeen(s *service) api.Pair {
	s.t.Helper()
	out, _, code := s.cli("pair", "status", "--json")
	var p api.Pair
	if err := json.Unmarshal([]byte(out), &p); err != nil || code != 0 && code != 5 {
		s.t.Fatalf("pair status: exit %d, %v\n%s", code, err, out)
	}
	if (code == 0) != p.Takeover {
		s.t.Errorf("pair status ends with %d, and says %v", code, p.Takeover)
	}
	return p
}

// together waits until both would carry on for each other, and owe nothing.
func (w *twins) together(when string) {
	w.t.Helper()
	w.a.await(func() bool {
		a, b := pairSeen(w.a), pairSeen(w.b)
		return a.Takeover && b.Takeover && a.Own.Owed+b.Own.Owed == 0 && a.Own.Revision == b.Own.Revision && a.Plan == "together"
	}, "both to stand together "+when)
}

// agree compares both tables.
func (w *twins) agree(when string) {
	w.t.Helper()
	w.together(when)
	for _, s := range []*service{w.a, w.b} {
		var c api.PairComparison
		if err := json.Unmarshal([]byte(s.must("pair", "compare", "--json")), &c); err != nil {
			w.t.Fatal(err)
		}
		for _, d := range c.Differences {
			w.t.Errorf("%s: %s differs (%s): %+v and %+v", when, d.Address, d.Class, d.Own, d.Partner)
		}
	}
}

// state waits until a server is in a state.
func (w *twins) state(s *service, state string) {
	w.t.Helper()
	s.await(func() bool { return pairSeen(s).Own.State == state }, "state "+state)
}

// Two commands form a pair. It has one plan, whichever server is asked; both hear of
// every lease, and each says how the other is.
func TestPair(t *testing.T) {
	t.Parallel()
	w := pairOf(t, "--mode", "load-sharing")
	ctx := context.Background()
	by := map[string]int{}
	for n := range 40 {
		c := &demo.Client{Relay: w.relay, Hardware: hw(n), Patience: 12 * time.Second}
		if err := c.Get(ctx); err != nil {
			t.Fatalf("client %d: %v", n, err)
		}
		by[c.Server.String()]++
		if c.Lease > time.Hour {
			t.Errorf("the first lease of client %d is for %s, beyond the lead time", n, c.Lease)
		}
		if err := c.Renew(ctx); err != nil || c.Lease < 7*time.Hour {
			w.a.await(func() bool { return c.Renew(ctx) == nil && c.Lease > 7*time.Hour }, "a renewal for the full time")
		}
	}
	if len(by) != 2 {
		t.Errorf("clients were answered by %v", by)
	}
	w.agree("after forty clients")
	// The plan changes on either.
	w.b.must("scope", "add", "stores", "--subnet", "10.78.0.0/24", "--pool", "10.78.0.10-10.78.0.99", "--serve")
	w.a.must("reservation", "add", "press", "--scope", "looms", "--hw", "02:00:5e:00:00:01", "--address", "10.77.0.9")
	w.together("after two changes")
	a, b := w.a.must("scope", "list", "--csv"), w.b.must("plan", "history", "--json")
	if !strings.Contains(a, "stores") || !strings.Contains(b, "press") {
		t.Errorf("the plans differ:\n%s\n%s", a, b)
	}
	// Apart, a change is refused, unless it is asked for at the primary.
	w.cable.Cut()
	w.state(w.a, "communications-interrupted")
	w.state(w.b, "communications-interrupted")
	if _, errs, code := w.a.cli("scope", "add", "attic", "--subnet", "10.79.0.0/24"); code != 1 || !strings.Contains(errs, "--alone") {
		t.Errorf("apart, a change at the primary ends with %d: %s", code, errs)
	}
	if _, errs, code := w.b.cli("scope", "add", "attic", "--subnet", "10.79.0.0/24"); code != 1 || !strings.Contains(errs, "bobbin is the plan's one writer") {
		t.Errorf("apart, a change at the secondary ends with %d: %s", code, errs)
	}
	w.a.must("scope", "add", "attic", "--subnet", "10.79.0.0/24", "--alone")
	w.cable.Mend()
	w.together("after the cut")
	if out := w.b.must("scope", "list"); !strings.Contains(out, "attic") {
		t.Errorf("the secondary did not take the change over:\n%s", out)
	}
	// A person can sign in at either, with the same token.
	if _, err := clientWith(w.b, w.a.token()).Status(ctx); err != nil {
		t.Errorf("the primary's token at the secondary: %v", err)
	}
	if out := w.a.must("pair", "history"); !strings.Contains(out, "formed a pair with shuttle") || !strings.Contains(out, "communications-interrupted") {
		t.Errorf("history:\n%s", out)
	}
}

// A server that alone hears newcomers is lent what it needs, to the last address of the
// pool.
func TestLastAddress(t *testing.T) {
	t.Parallel()
	for _, mode := range []string{"hot-standby", "load-sharing"} {
		t.Run(mode, func(t *testing.T) {
			t.Parallel()
			w := unpaired(t)
			w.a.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.11-10.77.0.14", "--serve", "--new-per-minute", "-1")
			w.a.must("scope", "add", "vats", "--subnet", "10.78.0.0/24", "--pool", "10.78.0.11-10.78.0.14", "--serve", "--new-per-minute", "-1")
			w.form("--mode", mode)
			var wg sync.WaitGroup
			for i, s := range []*service{w.a, w.b} {
				r := s.relay(fmt.Sprintf("127.77.0.%d", 1+i), fmt.Sprintf("10.%d.0.1", 77+i))
				wg.Go(func() {
					for n := range 4 {
						c := &demo.Client{Relay: r, Hardware: hw(100*i + n), Patience: 40 * time.Second}
						if err := c.Get(context.Background()); err != nil {
							t.Errorf("client %d of 4 that %s alone hears: %v", n+1, s.args[3], err)
							return
						}
					}
				})
			}
			wg.Wait()
			w.agree("with full pools")
		})
	}
}

// Whichever server is killed under load, the other goes on; when it is back, both
// know the same, and no lease was lost.
func TestPairKilled(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	w.a.must("scope", "add", "looms6", "--subnet", "2001:db8:1::/64", "--pool", "all", "--prefix-pool", "2001:db8:8000::/34 in /56", "--lease",
		"8h", "--serve", "--new-per-minute", "-1")
	w.a.must("link", "edit", "looms6", "--relay", "2001:db8:1::1")
	six := w.a.relay6("2001:db8:1::1", w.b)
	p := &promises{of: map[string]promise{}}
	first := 1000
	during := func(what string, do func()) {
		t.Helper()
		ctx, stop := context.WithCancel(context.Background())
		var wg sync.WaitGroup
		before := p.count()
		load(ctx, w.a, over4(w.relay), first, p, &wg)
		load(ctx, w.a, over6(six), first, p, &wg)
		first += 100_000
		w.a.await(func() bool { return p.count() > before+100 }, "clients "+what)
		do()
		n := p.count()
		w.a.await(func() bool { return p.count() > n+60 }, "clients to be served although "+what)
		stop()
		wg.Wait()
	}
	// The other knows what was acknowledged a moment before. What was on its way is on
	// the dead one's disk alone, and of addresses that the other does not give.
	told := &promises{}
	during("the primary is killed", func() {
		told.of = p.copied()
		time.Sleep(2 * time.Second)
		w.a.kill()
	})
	told.kept(w.b, "with the primary dead")
	w.a.start()
	w.agree("after the primary is back")
	p.kept(w.a, "after the primary is back")
	during("the secondary is killed", w.b.kill)
	w.b.start()
	w.agree("after the secondary is back")
	p.kept(w.b, "after the secondary is back")
	during("the wire is cut", w.cable.Cut)
	w.cable.Mend()
	w.agree("after the wire is whole")
	during("one way of the wire is dead", func() { w.cable.Deaden(false) })
	w.cable.Mend()
	w.agree("after the wire is alive")
	w.a.kill()
	w.b.kill()
	w.a.start()
	w.b.start()
	w.agree("after both were killed")
	for _, s := range []*service{w.a, w.b} {
		p.kept(s, "in the end")
	}
	// Maintenance: the other answers all, and nobody waits.
	w.a.must("pair", "pause")
	c := &demo.Client{Relay: w.relay, Hardware: hw(1), Patience: 2 * time.Second}
	if err := c.Get(context.Background()); err != nil || c.Server.String() != w.b.dhcp4.Addr().String() {
		t.Errorf("with the primary paused: %v by %s", err, c.Server)
	}
	w.a.must("pair", "up")
	out := w.a.must("pair", "drill", "--for", "10s", "--yes")
	if !strings.Contains(out, "nobody went without") {
		t.Errorf("the drill says: %s", out)
	}
}

// Both changed the plan while they were apart: nothing is thrown away, and a person
// chooses.
func TestPairParted(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	w.cable.Cut()
	w.state(w.a, "communications-interrupted")
	w.state(w.b, "communications-interrupted")
	w.a.must("scope", "add", "attic", "--subnet", "10.79.0.0/24", "--alone")
	if out, errs, code := w.b.cli("pair", "down"); code != 3 || !strings.Contains(out, "stay untouched until") {
		t.Errorf("pair down without --yes: %d\n%s%s", code, out, errs)
	}
	w.b.must("pair", "down", "--yes")
	w.state(w.b, "partner-down")
	w.b.must("scope", "add", "cellar", "--subnet", "10.80.0.0/24")
	w.cable.Mend()
	w.a.await(func() bool { return pairSeen(w.a).Plan == "parted" && pairSeen(w.b).Plan == "parted" }, "the plans to be seen to have parted")
	w.state(w.a, "normal") // leases were compared, and go on
	if f, ok := w.a.findings()["pair-plan plan"]; !ok || f.Severity != "trouble" {
		t.Errorf("that the plans have parted is found as %+v", f)
	}
	if out := w.a.must("pair", "settle"); !strings.Contains(out, "attic") || !strings.Contains(out, "cellar") {
		t.Errorf("both lines are\n%s", out)
	}
	if _, errs, code := w.a.cli("scope", "add", "loft", "--subnet", "10.81.0.0/24"); code != 1 || !strings.Contains(errs, "pair settle") {
		t.Errorf("a change with the plans parted: %d %s", code, errs)
	}
	w.a.must("pair", "settle", "shuttle", "--yes")
	w.together("after the choice")
	for _, s := range []*service{w.a, w.b} {
		if out := s.must("scope", "list"); !strings.Contains(out, "cellar") || strings.Contains(out, "attic") {
			t.Errorf("the plan is\n%s", out)
		}
	}
	if out := w.a.must("pair", "settle"); !strings.Contains(out, "attic") || !strings.Contains(out, "bobbin-1") {
		t.Errorf("the other line is not kept:\n%s", out)
	}
	// What was not chosen is applied again, asked for at either server.
	if out, _, code := w.b.cli("plan", "again", "bobbin-1"); code != 3 || !strings.Contains(out, "attic") {
		t.Errorf("a preview of what is kept aside: exit %d\n%s", code, out)
	}
	w.b.must("plan", "again", "bobbin-1", "--yes")
	w.together("after what was kept aside is applied again")
	if out := w.a.must("scope", "list"); !strings.Contains(out, "attic") || !strings.Contains(out, "cellar") {
		t.Errorf("with both lines the plan is\n%s", out)
	}
	if _, errs, code := w.a.cli("plan", "again", "bobbin-1", "--yes"); code != 1 || !strings.Contains(errs, "there already") {
		t.Errorf("applied once more: exit %d %s", code, errs)
	}
	w.settleOwn()
}

// settleOwn parts the plans once more, and chooses that of the server one is at.
func (w *twins) settleOwn() {
	w.t.Helper()
	w.cable.Cut()
	w.state(w.a, "communications-interrupted")
	w.state(w.b, "communications-interrupted")
	w.a.must("reservation", "add", "press", "--scope", "looms", "--hw", "02:00:5e:00:00:09", "--address", "10.77.1.9", "--alone")
	w.b.must("pair", "down", "--yes")
	w.state(w.b, "partner-down")
	w.b.must("reservation", "add", "scale", "--scope", "looms", "--hw", "02:00:5e:00:00:0a", "--address", "10.77.1.10")
	w.cable.Mend()
	w.a.await(func() bool { return pairSeen(w.a).Plan == "parted" }, "the plans to have parted again")
	w.state(w.a, "normal")
	w.a.must("pair", "settle", "bobbin", "--yes")
	w.together("after the second choice")
	if out := w.b.must("reservation", "list"); !strings.Contains(out, "press") || strings.Contains(out, "scale") {
		w.t.Errorf("the other server has\n%s", out)
	}
}

// Nobody else gets in: a stranger's certificate, a used invitation, garbage.
func TestPairStrangers(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	code := ""
	if _, errs, exit := w.a.cli("pair", "invite", "--at", "127.0.0.1:1"); exit != 1 || !strings.Contains(errs, "in a pair already") {
		t.Errorf("a second invitation: %d %s", exit, errs)
	}
	dial := func(proto string) error {
		cert := strangersCertificate(t)
		c, err := tls.Dial("tcp", w.cable.Address(), &tls.Config{InsecureSkipVerify: true, NextProtos: []string{proto},
			Certificates: []tls.Certificate{cert}})
		if err != nil {
			return err
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		if _, err := c.Write([]byte("\x00\x08\x23\x00\x00\x01\x00\x00\x00\x00")); err != nil {
			return err
		}
		_, err = c.Read(make([]byte, 1))
		return err
	}
	if err := dial("yarnpost-pair/1"); err == nil {
		t.Error("a stranger is listened to")
	}
	raw, err := net.Dial("tcp", w.cable.Address())
	if err != nil {
		t.Fatal(err)
	}
	_, _ = raw.Write([]byte(strings.Repeat("garbage ", 1000)))
	_, _ = io.Copy(io.Discard, raw)
	raw.Close()
	for _, bad := range []string{"yarnpair1-", "yarnpair1-abc", "what", code} {
		if _, errs, exit := w.b.cli("pair", "join", bad); exit == 0 || errs == "" {
			t.Errorf("joining by %q: %d %s", bad, exit, errs)
		}
	}
	w.together("with strangers at the door")
	if n := pairSeen(w.a).Strangers; n < 2 {
		t.Errorf("%d strangers are counted", n)
	}
	// One that leaves tells the other, which goes on alone.
	w.b.must("pair", "leave", "--yes")
	w.a.await(func() bool { return !pairSeen(w.a).Formed }, "the other to be alone")
	// An invitation is good once.
	c := startService(t, "--partner", fmt.Sprintf("127.0.0.1:%d", freePort(t, "tcp")), "--name", "heddle")
	line := strings.TrimSpace(strings.TrimPrefix(w.a.must("pair", "invite", "--at", w.cable.Address()), "yarnpost "))
	if _, errs, exit := w.b.cli(strings.Fields(line)...); exit != 1 || !strings.Contains(errs, "of its own") {
		t.Errorf("a server with a plan joins without a word: %d %s", exit, errs)
	}
	c.must(strings.Fields(line)...)
	if _, errs, exit := w.b.cli(append(strings.Fields(line), "--give-up-plan")...); exit == 0 {
		t.Errorf("an invitation is good twice: %s", errs)
	}
	// What the one before may have promised, nobody knows: it waits for the lead time.
	w.state(c, "recover-wait")
	w.a.await(func() bool { return strings.Contains(c.must("scope", "list"), "looms") }, "the plan to be there")
}
