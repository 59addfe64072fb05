package e2e

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/service/trial"
)

// relay6 speaks to a service as a relay of an IPv6 link does, from loopback.
type relay6 struct {
	*trial.Relay6
	t    *testing.T
	duid []byte // of the service
}

// startService6 starts a service that hears DHCPv6 on loopback, too, with a scope for offices.
func startService6(t *testing.T, args ...string) *service {
	t.Helper()
	s := startService(t, append(args, "--dhcp6", fmt.Sprintf("[::1]:%d", freePort6(t)))...)
	s.must("scope", "add", "offices6", "--subnet", "2001:db8:40:1::/64", "--pool", "all", "--prefix-pool",
		"2001:db8:40:8000::/49 in /56", "--dns", "2001:db8:40::53", "--domain", "mill.example", "--serve")
	s.must("link", "edit", "offices6", "--relay", "2001:db8:40:1::1")
	return s
}

func freePort6(t *testing.T) int {
	t.Helper()
	return freePort(t, "udp6")
}

// relay6 is a relay of a link in front of a service, and of others.
func (s *service) relay6(link string, others ...*service) *relay6 {
	s.t.Helper()
	st, err := s.api().Status(s.t.Context())
	if err != nil {
		s.t.Fatal(err)
	}
	servers := []netip.AddrPort{netip.MustParseAddrPort(st.DHCP6)}
	for _, o := range others {
		at, err := o.api().Status(s.t.Context())
		if err != nil {
			s.t.Fatal(err)
		}
		servers = append(servers, netip.MustParseAddrPort(at.DHCP6))
	}
	r, err := trial.NewRelay6(netip.IPv6Loopback(), netip.MustParseAddr(link), servers...)
	if err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(r.Close)
	d, err := addr.ParseDUID(st.DUID)
	if err != nil {
		s.t.Fatal(err)
	}
	return &relay6{Relay6: r, t: s.t, duid: []byte(d)}
}

// behindAnother puts another relay between this one and its clients.
func (r *relay6) behindAnother() {
	r.Far = []dhcp6.Relay{{Link: r.Link, Peer: netip.MustParseAddr("fe80::17")}}
	r.Link = netip.MustParseAddr("2001:db8:99::1")
}

// client is client n behind the relay.
func (r *relay6) client(n int) *trial.Client6 {
	circuit := "ge-0/7"
	if r.Far != nil {
		circuit = "far/1"
	}
	return &trial.Client6{Relay: r.Relay6, DUID: duid6(n), Hostname: fmt.Sprintf("loom%02d", n), Circuit: circuit, Server: r.duid,
		Wants: []uint16{23, 24}, Patience: 2 * time.Second}
}

// duid6 is the DUID of client n.
func duid6(n int) []byte { return trial.DUIDOf(hw(n)) }

// ask sends a message of client n and gives the answer, or nil for silence.
func (r *relay6) ask(kind dhcp6.Type, n int, ias ...dhcp6.IA) *dhcp6.Message {
	r.t.Helper()
	c := r.client(n)
	back, err := c.Do(r.t.Context(), c.Message(kind, ias...))
	if err != nil && !errors.Is(err, trial.ErrSilence) {
		r.t.Fatalf("what comes back is malformed: %v", err)
	}
	if back != nil && len(back.Relays) != 1+len(r.Far) {
		r.t.Errorf("it comes back through %d relays, of %d", len(back.Relays), 1+len(r.Far))
	}
	return back
}

// get does the exchange of four messages for an address and a prefix.
func (r *relay6) get(n int) (address, prefix netip.Prefix) {
	r.t.Helper()
	offer := r.ask(dhcp6.Solicit, n, dhcp6.IA{Code: option.IANA, ID: 1}, dhcp6.IA{Code: option.IAPD, ID: 2})
	if offer == nil || len(offer.IAs) != 2 || len(offer.IAs[0].Leases) != 1 || len(offer.IAs[1].Leases) != 1 {
		r.t.Fatalf("client %d is offered %+v", n, offer)
	}
	reply := r.ask(dhcp6.Request, n, offer.IAs...)
	if reply == nil || len(reply.IAs) != 2 || len(reply.IAs[0].Leases) != 1 || len(reply.IAs[1].Leases) != 1 {
		r.t.Fatalf("client %d gets %+v", n, reply)
	}
	return reply.IAs[0].Leases[0].Prefix, reply.IAs[1].Leases[0].Prefix
}

// Addresses and prefixes through relays, once and twice: durable before they are said, listed,
// explained, kept over a kill, ended by a person; and all that an administrator asks has an answer.
func TestServed6(t *testing.T) {
	t.Parallel()
	s := startService6(t)
	r := s.relay6("2001:db8:40:1::1")
	a, p := r.get(1)
	r.behindAnother()
	b, q := r.get(2)
	if a == b || p == q {
		t.Fatalf("two clients have %s, %s, %s, %s", a, b, p, q)
	}
	s.says([]string{a.Addr().String(), p.String(), b.Addr().String(), q.String(), "loom01", "offices6", "far/1"}, "lease", "list")
	s.says([]string{a.Addr().String()}, "lease", "list", "2001:db8:40:1")
	s.says([]string{p.String(), "DUID", "00:03:00:01", "IAID", "beside it",
		a.Addr().String() + "  (active, offices6)"}, "lease", "show", p.String())
	s.says([]string{"active"}, "lease", "history", p.String())
	s.says([]string{"2 active", "2 of 128 delegated, 126 left"}, "scope", "show", "offices6")
	s.says([]string{"v6/dns-servers", "2001:db8:40::53"}, "lease", "options", a.Addr().String())
	s.says([]string{"DHCPv6 on"}, "status")
	s.kill()
	s.start()
	r = s.relay6("2001:db8:40:1::1")
	if a2, p2 := r.get(1); a2 != a || p2 != p {
		t.Errorf("after a kill it has %s and %s, before %s and %s", a2, p2, a, p)
	}
	s.says([]string{"offered " + a.Addr().String(), "relay 2001:db8:40:1::1", "v6/dns-servers"}, "explain", "--duid",
		"00:03:00:01:02:00:00:00:00:01", "--scope", "offices6")
	s.says([]string{"offered " + p.String()}, "explain", "--duid", "0:3:0:1:2:0:0:0:0:1", "--iaid", "2", "--scope", "offices6",
		"--delegated")
	everyCommand(t, s)
	s.must("lease", "end", p.String(), "--yes")
	s.says([]string{"released"}, "lease", "show", p.String())
}

// everyCommand runs what reads, on a plan with IPv6 in it: nothing fails.
func everyCommand(t *testing.T, s *service) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "plan.yaml")
	for _, line := range []string{"status", "scope list", "scope show offices6 --json", "supernet list", "link list", "lease list --csv",
		"lease stale", "option unmet", "unserved list", "capacity list", "capacity show offices6", "capacity users offices6",
		"audit run --severity trouble",
		"plan history", "plan export", "trace", "relay list", "option list", "reservation list", "sheet export scopes",
		"sheet export leases", "trial list", "rule list"} {
		out, errs, code := s.cli(strings.Fields(line)...)
		if code != 0 && code != 2 || strings.Contains(out+errs, "panic") || strings.Contains(errs, "500") {
			t.Errorf("yarnpost %s: exit %d\n%s%s", line, code, out, errs)
		} else if code == 2 {
			t.Logf("yarnpost %s: %s", line, errs)
		}
	}
	text := s.must("plan", "export")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	s.says([]string{"Nothing to change"}, "plan", "preview", file)
	if !strings.Contains(text, "2001:db8:40:8000::/49 in /56") {
		t.Errorf("the plan file has not the prefix pool:\n%s", text)
	}
	if path, err := exec.LookPath("tshark"); err == nil {
		capture := filepath.Join(t.TempDir(), "c.pcap")
		s.must("trace", "--pcap", capture)
		out, err := exec.Command(path, "-r", capture, "-Y", "dhcpv6", "-T", "fields", "-e", "dhcpv6.msgtype", "-e",
			"_ws.malformed").Output()
		if err != nil || len(out) == 0 || strings.Contains(string(out), "Malformed") {
			t.Errorf("an analyser reads %q, %v", out, err)
		}
	}
}

// Two servers serve IPv6 together: each gives its half, both know all, and whoever is left renews
// what the other gave and gives new addresses and prefixes.
func TestPair6(t *testing.T) {
	t.Parallel()
	w := unpaired(t)
	w.a.must("scope", "add", "offices6", "--subnet", "2001:db8:40:1::/64", "--pool", "all", "--prefix-pool",
		"2001:db8:40:8000::/53 in /56", "--lease", "2h", "--serve")
	w.form()
	w.a.must("link", "edit", "offices6", "--relay", "2001:db8:40:1::1")
	one, two := w.a.relay6("2001:db8:40:1::1"), w.b.relay6("2001:db8:40:1::1")
	have := map[int][2]netip.Prefix{}
	served := [2]int{}
	for n := range 6 {
		for i, r := range []*relay6{one, two} {
			if offer := r.ask(dhcp6.Solicit, n, dhcp6.IA{Code: option.IANA, ID: 1}, dhcp6.IA{Code: option.IAPD, ID: 2}); offer != nil {
				a, p := r.get(n)
				have[n] = [2]netip.Prefix{a, p}
				served[i]++
				break
			}
		}
	}
	if len(have) != 6 || served[0] == 0 || served[1] == 0 {
		t.Fatalf("of six clients %d are served, %v by each", len(have), served)
	}
	w.agree("with IPv6 in it")
	for _, s := range []*service{w.a, w.b} {
		s.await(func() bool { return strings.Count(s.must("lease", "list", "--json"), `"status": "active"`) == 12 },
			"all to be known on both")
	}
	w.a.kill()
	w.state(w.b, "communications-interrupted")
	w.b.must("pair", "down", "--yes")
	w.state(w.b, "partner-down")
	for n, has := range have {
		back := two.ask(dhcp6.Rebind, n, dhcp6.IA{Code: option.IANA, ID: 1, Leases: []dhcp6.Lease{{Prefix: has[0]}}},
			dhcp6.IA{Code: option.IAPD, ID: 2, Leases: []dhcp6.Lease{{Prefix: has[1]}}})
		if back == nil || len(back.IAs) != 2 || len(back.IAs[0].Leases) != 1 || back.IAs[0].Leases[0].Prefix != has[0] ||
			back.IAs[1].Leases[0].Prefix != has[1] {
			t.Errorf("client %d rebinds %v at the one that is left, and is told %+v", n, has, back)
		}
	}
	two.get(9)
}

// A small pool is shared out between partners: in hot standby the server that serves gives all of
// it, the last prefix too.
func TestPairLastPrefix(t *testing.T) {
	t.Parallel()
	w := unpaired(t)
	w.a.must("scope", "add", "workshops", "--subnet", "2001:db8:40:60::/64", "--pool", "2001:db8:40:60::10-2001:db8:40:60::17",
		"--prefix-pool", "2001:db8:40:8000::/53 in /56", "--lease", "2h", "--serve")
	w.form("--mode", "hot-standby")
	w.a.must("link", "edit", "workshops", "--relay", "2001:db8:40:60::1")
	one := w.a.relay6("2001:db8:40:60::1")
	given := map[netip.Prefix]bool{}
	for n := range 8 {
		c := one.client(n)
		c.Asks = []dhcp6.IA{{Code: option.IANA, ID: 1}, {Code: option.IAPD, ID: 1}}
		w.a.await(func() bool { return c.Get(t.Context()) == nil }, fmt.Sprintf("router %d to get an address and a prefix", n))
		given[c.Has(option.IANA)], given[c.Has(option.IAPD)] = true, true
	}
	if len(given) != 16 {
		t.Errorf("eight routers have %d addresses and prefixes: %v", len(given), given)
	}
	w.agree("when all is given")
	if out := w.a.must("scope", "show", "workshops"); !strings.Contains(out, "8 of 8 delegated") {
		t.Errorf("the scope says:\n%s", out)
	}
}

// A trial in a scope of IPv6 makes the whole exchange, for an address and a prefix, and finds what
// is wrong.
func TestTrial6(t *testing.T) {
	t.Parallel()
	s := startService6(t)
	s.must("trial", "add", "offices-served", "--scope", "offices6", "--every", "5m")
	out := s.must("trial", "run", "offices-served")
	for _, want := range []string{"given 2001:db8:40:1:", "/56, preferred for", "options are what the plan says", "lease table has it",
		"given back"} {
		if !strings.Contains(out, want) {
			t.Errorf("the trial does not say %q:\n%s", want, out)
		}
	}
	s.must("scope", "hold", "offices6", "--yes")
	out, _, code := s.cli("trial", "run", "offices-served")
	if code == 0 || !strings.Contains(out, "no offer") || !strings.Contains(out, "by the plan it gets none") {
		t.Errorf("in a scope that is held, exit %d:\n%s", code, out)
	}
	if n := strings.Count(s.must("lease", "list", "--json"), `"status": "active"`); n != 0 {
		t.Errorf("trials leave %d leases", n)
	}
}

// Two machines with one DUID take turns with one address, which an audit finds.
func TestOneDUIDTwice(t *testing.T) {
	t.Parallel()
	s := startService6(t)
	r := s.relay6("2001:db8:40:1::1")
	for n := range 8 {
		c := r.client(1)
		c.Hardware = hw(1 + n%2)
		c.Asks = []dhcp6.IA{{Code: option.IANA, ID: 1}}
		if err := c.Get(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	out, _, _ := s.cli("audit", "run")
	if !strings.Contains(out, "duid-twice") && !strings.Contains(out, "send one DUID with one IAID") {
		t.Errorf("the audit finds:\n%s", out)
	}
}

// Leases of IPv6 come along in a sheet: their clients renew what another server promised them, address
// and prefix, and whatever cannot be kept is said.
func TestBroughtLeases6(t *testing.T) {
	t.Parallel()
	old, next := startService6(t), startService6(t)
	r := old.relay6("2001:db8:40:1::1")
	var keys []netip.Prefix
	for n := range 3 {
		a, p := r.get(1 + n)
		keys = append(keys, a, p)
	}
	file := filepath.Join(t.TempDir(), "leases.csv")
	old.must("sheet", "export", "leases", file)
	previews := func(wants ...string) {
		out, _, _ := next.cli("sheet", "preview", "leases", file)
		for _, want := range wants {
			if !strings.Contains(out, want) {
				t.Errorf("the preview does not say %q:\n%s", want, out)
			}
		}
	}
	previews("6 leases would be taken over, 0 known already, 0 over, 0 left")
	next.must("sheet", "apply", "leases", file, "--yes")
	previews("0 leases would be taken over, 6 known already")
	for n := range 3 {
		c := next.relay6("2001:db8:40:1::1").client(1 + n)
		c.Holds = []dhcp6.IA{{Code: option.IANA, ID: 1, Leases: []dhcp6.Lease{{Prefix: keys[2*n]}}},
			{Code: option.IAPD, ID: 2, Leases: []dhcp6.Lease{{Prefix: keys[2*n+1]}}}}
		if err := c.Renew(t.Context()); err != nil || c.Has(option.IANA) != keys[2*n] || c.Has(option.IAPD) != keys[2*n+1] {
			t.Errorf("client %d had %s and %s, and renews %+v: %v", n, keys[2*n], keys[2*n+1], c.Holds, err)
		}
	}
	text := "address,duid,iaid\n2001:db8:40:1::,00:03:00:01:02:00:00:00:00:77,1\n2001:db8:40:8000::/60,00:03:00:01:02:00:00:00:00:77,2\n" +
		addr.FormatKey(keys[0]) + ",00:03:00:01:02:00:00:00:00:78,1\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	previews("2001:db8:40:1:: is an end", "2001:db8:40:8000::/60 is outside the pools", "is held here by loom01", "3 left")
}

// What a capture shows of a server becomes a plan by which another one serves the same clients: the scope
// with its relay and prefix pool, and what each client holds.
func TestProposed6(t *testing.T) {
	t.Parallel()
	old, next := startService6(t), startService(t, "--dhcp6", fmt.Sprintf("[::1]:%d", freePort6(t)))
	r := old.relay6("2001:db8:40:1::1")
	var keys []netip.Prefix
	for n := range 3 {
		a, p := r.get(1 + n)
		keys = append(keys, a, p)
	}
	dir := t.TempDir()
	capture, file, leases := filepath.Join(dir, "day.pcap"), filepath.Join(dir, "found.yaml"), filepath.Join(dir, "leases.csv")
	old.must("trace", "--pcap", capture, "--limit", "100")
	found, errs, code := old.cli("plan", "propose", capture, "--scope", "offices6=2001:db8:40:1::/64", "--leases", leases)
	if code != 0 || !strings.Contains(errs, "1 scope, 0 reservations") {
		t.Fatalf("exit %d: %s", code, errs)
	}
	if err := os.WriteFile(file, []byte(found), 0o600); err != nil {
		t.Fatal(err)
	}
	next.must("plan", "apply", file, "--yes")
	next.must("scope", "serve", "offices6", "--yes")
	next.says([]string{"2001:db8:40:1::/64", "/56", "2001:db8:40::53", "mill.example"}, "scope", "show", "offices6")
	next.must("sheet", "apply", "leases", leases, "--yes")
	there := next.relay6("2001:db8:40:1::1")
	for n := range 3 {
		c := there.client(1 + n)
		c.Holds = []dhcp6.IA{{Code: option.IANA, ID: 1, Leases: []dhcp6.Lease{{Prefix: keys[2*n]}}},
			{Code: option.IAPD, ID: 2, Leases: []dhcp6.Lease{{Prefix: keys[2*n+1]}}}}
		if err := c.Renew(t.Context()); err != nil || c.Has(option.IANA) != keys[2*n] || c.Has(option.IAPD) != keys[2*n+1] {
			t.Errorf("client %d had %s and %s, and renews %+v: %v\n%s", n, keys[2*n], keys[2*n+1], c.Holds, err, found)
		}
	}
}

// A scope of IPv6 is renumbered: who renews is told to leave its old address and gets a new one in the same
// reply, what is reserved moves to its place, and a second move has nothing to change. Prefixes stay.
func TestRenumbered6(t *testing.T) {
	t.Parallel()
	s := startService6(t)
	r := s.relay6("2001:db8:40:1::1")
	was, prefix := r.get(1)
	s.must("reservation", "add", "press", "--scope", "offices6", "--duid", addr.DUID(duid6(2)).String(), "--address", "2001:db8:40:1::22")
	kept, _ := r.get(2)
	s.must("scope", "add", "annex6", "--subnet", "2001:db8:40:2::/64", "--pool", "all", "--link", "offices6")
	s.must("scope", "add", "annex", "--subnet", "10.77.2.0/24", "--link", "offices6")
	s.fails(1, "two families", "scope", "move", "offices6", "--to", "annex", "--yes")
	s.must("scope", "serve", "annex", "--yes")
	if out, _, code := s.cli("scope", "drain", "offices6"); code != 3 || !strings.Contains(out, "nowhere to move") {
		t.Errorf("draining beside a scope of the other family: %d\n%s", code, out)
	}
	s.must("scope", "move", "offices6", "--to", "annex6", "--yes")
	s.says([]string{"Nothing to change"}, "scope", "move", "offices6", "--to", "annex6", "--yes")
	for n, old := range map[int]netip.Prefix{1: was, 2: kept} {
		c := r.client(n)
		c.Asks = []dhcp6.IA{{Code: option.IANA, ID: 1}}
		c.Holds = []dhcp6.IA{{Code: option.IANA, ID: 1, Leases: []dhcp6.Lease{{Prefix: old}}}}
		if err := c.Renew(t.Context()); err != nil {
			t.Fatal(err)
		}
		got := c.Has(option.IANA).Addr()
		if !netip.MustParsePrefix("2001:db8:40:2::/64").Contains(got) || n == 2 && got != netip.MustParseAddr("2001:db8:40:2::22") {
			t.Errorf("client %d renews %s and has %s", n, old, got)
		}
		left := false
		for _, l := range c.Last.IAs[0].Leases {
			left = left || l.Prefix == old && l.Valid == 0
		}
		if !left {
			t.Errorf("client %d is not told to leave %s: %+v", n, old, c.Last.IAs)
		}
	}
	if l := s.leases()[prefix.String()]; l.Status != "active" {
		t.Errorf("the prefix is %+v", l)
	}
}

// What is reserved for one host in both families, with a prefix, under one name, is nothing that is odd;
// one name for two hosts of IPv6 is.
func TestNothingOddAboutBothFamilies(t *testing.T) {
	t.Parallel()
	s := startService6(t)
	s.must("scope", "add", "offices", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--link", "offices6", "--serve")
	s.must("reservation", "add", "press", "--scope", "offices", "--hw", "02:88:00:00:00:01", "--address", "10.77.0.8", "--hostname", "press",
		"--also", "2001:db8:40:1::8", "--also", "2001:db8:40:8100::/56")
	odd := func() (n int) {
		for key := range s.findings() {
			if strings.HasPrefix(key, "reservation-twice") || strings.HasPrefix(key, "reservation-name") {
				n++
			}
		}
		return n
	}
	if n := odd(); n != 0 {
		t.Errorf("%d findings about one host: %v", n, s.findings())
	}
	// And a /64 hides nothing of the pools that can run out.
	for line := range strings.Lines(s.must("capacity", "list")) {
		if f := strings.Fields(line); f[0] == "all" && f[1] != "100" || f[0] == "link" {
			t.Errorf("of both families together it says: %s", line)
		}
	}
	s.must("reservation", "add", "other", "--scope", "offices6", "--hw", "02:88:00:00:00:02", "--address", "2001:db8:40:1::9", "--hostname",
		"press")
	if n := odd(); n != 1 {
		t.Errorf("%d findings about one name for two: %v", n, s.findings())
	}
}

// A table of routes says which prefixes are routed to where nobody has them any more, and which are
// delegated without a route.
func TestRoutesOfPrefixes(t *testing.T) {
	t.Parallel()
	s := startService6(t)
	r := s.relay6("2001:db8:40:1::1")
	_, kept := r.get(1)
	_, given := r.get(2)
	c := r.client(2)
	c.Holds = []dhcp6.IA{{Code: option.IAPD, ID: 2, Leases: []dhcp6.Lease{{Prefix: given}}}}
	if err := c.Release(); err != nil {
		t.Fatal(err)
	}
	s.await(func() bool { return strings.Contains(s.must("lease", "show", given.String()), "released") }, "the release")
	file := filepath.Join(t.TempDir(), "routes")
	finds := func(text string, wants ...string) {
		t.Helper()
		if err := os.WriteFile(file, []byte("default via fe80::1 dev eth0\n10.77.0.0/24 dev eth1\nfe80::/64 dev eth1\n"+text),
			0o600); err != nil {
			t.Fatal(err)
		}
		out, errs, _ := s.cli("audit", "run", "--routes", file)
		for _, want := range wants {
			if !strings.Contains(out, want) {
				t.Errorf("with routes %q the audit does not say %q:\n%s%s", text, want, out, errs)
			}
		}
		if n := strings.Count(out, " prefix-routed ") + strings.Count(out, " prefix-unrouted "); n != min(len(wants), 2) {
			t.Errorf("with routes %q it finds %d of %d:\n%s", text, n, len(wants), out)
		}
	}
	finds(given.String()+" via fe80::17 dev eth1 proto static metric 1024\n", " prefix-routed prefix "+given.String(),
		" prefix-unrouted scope offices6", "1 of the 1 prefix that scope offices6 delegated: "+kept.String()+" (loom01)")
	s.says([]string{"loom02 had it until", "via fe80::17 dev eth1"}, "audit", "show", "prefix-routed")
	finds(kept.String() + " via fe80::16 dev eth1\n")
	finds("2001:db8:40:8000::/49 via fe80::99 dev eth1\n")
	if _, _, code := s.cli("audit", "run", "--routes", file+".none"); code == 0 {
		t.Error("a file that is not there is read")
	}
}
