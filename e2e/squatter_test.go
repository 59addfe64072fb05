package e2e

import (
	"encoding/json"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv6"

	"yarnpost/api"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/demo"
)

// addresses gives a host addresses of its own, without asking anybody.
func (h *host) addresses(list ...string) {
	h.t.Helper()
	sh(h.t, "ip", "-n", h.ns, "link", "set", "lo", "up")
	for _, a := range list {
		sh(h.t, "ip", "-n", h.ns, "addr", "add", a, "dev", "eth0")
	}
}

// Somebody sits on the next addresses of a pool: they are never offered, it is
// on record who answered, and they come back only when nobody answers any more.
func TestSquatterOnTheLink(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.120")
	squatter := w.host("02:00:00:00:05:05")
	squatter.addresses("10.77.0.100/24", "10.77.0.101/24", "10.77.0.103/24")
	first := w.host("02:00:00:00:00:01")
	first.dhcp()
	want(t, "the first free address", first.event("bound")["ip"], "10.77.0.102")
	second := w.host("02:00:00:00:00:02")
	second.dhcp()
	want(t, "the next free address", second.event("bound")["ip"], "10.77.0.104")
	for a, l := range w.leases() {
		squatted := a == "10.77.0.100" || a == "10.77.0.101" || a == "10.77.0.103"
		if squatted != (l.Status == "abandoned") || squatted && l.Evidence != "answered a probe from 02:00:00:00:05:05" {
			t.Errorf("%s is %s, evidence %q", a, l.Status, l.Evidence)
		}
	}
	for range 3 { // asking for it by name does not help either
		h := w.host("02:00:00:00:00:0" + string("345"[w.hosts%3]))
		h.dhcp("-r", "10.77.0.103")
		if got := h.event("bound")["ip"]; got == "10.77.0.103" || got == "10.77.0.100" || got == "10.77.0.101" {
			t.Errorf("a squatter's address, %s, was given", got)
		}
		h.quit()
	}
	if _, errs, code := w.cli("lease", "clear", "10.77.0.103", "--yes"); code != 1 || !strings.Contains(errs, "still in use") ||
		!strings.Contains(errs, "02:00:00:00:05:05") {
		t.Errorf("clearing an address that still answers: exit %d, %s", code, errs)
	}
	sh(t, "ip", "-n", squatter.ns, "addr", "del", "10.77.0.103/24", "dev", "eth0")
	w.must("lease", "clear", "10.77.0.103", "--yes")
	if l, there := w.leases()["10.77.0.103"]; there {
		t.Errorf("the cleared address is %s", l.Status)
	}
}

// far is a network beyond a relay agent: clients on a bridge of its own, a relay
// between them and the server.
type far struct {
	*wired
	relay  *host // on the server's link at 10.77.0.2, on the clients' at 10.9.0.1
	bridge string
	log    lockedBuffer
}

// beyond plugs a relay agent into the server's link and starts yarnpostd relay
// on it.
func (w *wired) beyond(args ...string) *far {
	w.t.Helper()
	f := &far{wired: w, relay: w.host("02:00:00:00:00:fe"), bridge: w.id + "far"}
	f.relay.addresses("10.77.0.2/24")
	for _, c := range []string{"link add br1 type bridge", "addr add 10.9.0.1/24 dev br1", "link set br1 up"} {
		sh(w.t, append([]string{"ip", "-n", f.relay.ns}, strings.Fields(c)...)...)
	}
	sh(w.t, "ip", "netns", "exec", f.relay.ns, "sysctl", "-qw", "net.ipv4.ip_forward=1")
	sh(w.t, "ip", "-n", w.netns, "route", "add", "10.9.0.0/24", "via", "10.77.0.2")
	f.startRelay(args...)
	return f
}

// client plugs a host into the far network.
func (f *far) client(hw string) *host {
	f.t.Helper()
	f.hosts++
	h := &host{t: f.t, ns: f.id + "h" + string(rune('a'+f.hosts)), hw: hw}
	port := "q" + string(rune('a'+f.hosts))
	sh(f.t, "ip", "netns", "add", h.ns)
	f.t.Cleanup(func() { h.quit(); runQuietly("ip", "netns", "del", h.ns) })
	sh(f.t, "ip", "-n", f.relay.ns, "link", "add", port, "type", "veth", "peer", "name", "eth0", "netns", h.ns)
	sh(f.t, "ip", "-n", f.relay.ns, "link", "set", port, "master", "br1", "up")
	sh(f.t, "ip", "-n", h.ns, "link", "set", "eth0", "address", hw)
	sh(f.t, "ip", "-n", h.ns, "link", "set", "eth0", "up")
	return h
}

// A client two namespaces away is served through the relay agent, in both ways
// of answering it; the operating system's own client is happy; the squatter
// beyond the relay is found by a ping.
func TestRelayAgent(t *testing.T) {
	t.Parallel()
	for what, args := range map[string][]string{"port 67": nil, "its own port": {"--source-port", "6700", "--remote", "hall-3"}} {
		t.Run(strings.ReplaceAll(what, " ", "-"), func(t *testing.T) {
			w := wire(t, "--pool", "10.77.0.100-10.77.0.101")
			w.must("scope", "add", "far", "--subnet", "10.9.0.0/24", "--pool", "10.9.0.50-10.9.0.60", "--router", "10.9.0.1", "--serve")
			f := w.beyond(args...)
			squatter := f.client("02:00:00:00:05:05")
			squatter.addresses("10.9.0.50/24")
			sh(t, "ip", "-n", squatter.ns, "route", "add", "default", "via", "10.9.0.1")
			h := f.client("02:00:00:00:00:99")
			h.dhcp("-x", "hostname:far-away")
			got := h.event("bound")
			want(t, "address", got["ip"], "10.9.0.51")
			want(t, "router", got["router"], "10.9.0.1")
			l := w.leases()["10.9.0.51"]
			want(t, "relay and circuit", l.Relay+" "+l.Circuit, "10.9.0.1 br1")
			want(t, "the squatter's address", w.leases()["10.9.0.50"].Status, "abandoned")
			h.signal("USR1")
			want(t, "renewed", h.event("renew")["ip"], "10.9.0.51")
			sh(t, "ip", "-n", h.ns, "route", "add", "default", "via", "10.9.0.1") // a release goes straight to the server
			h.signal("USR2")
			h.event("deconfig")
			w.await(func() bool { return w.leases()["10.9.0.51"].Status == "released" }, "the release through the relay")
			// A client that is at home elsewhere is refused through the relay, as a broadcast.
			moved := f.client("02:00:00:00:00:98")
			moved.dhcp("-r", "192.168.55.9")
			if got := moved.event("bound")["ip"]; !strings.HasPrefix(got, "10.9.0.") {
				t.Errorf("the moved client has %s", got)
			}
			if !strings.Contains(f.log.String(), "relaying") {
				t.Errorf("the relay says:\n%s", f.log.String())
			}
		})
	}
}

// A second Yarn Post plays the server that is to be replaced. This one listens:
// it sends nothing, compares, learns; and when it goes live, clients keep their
// addresses.
func TestListeningBesideAnotherServer(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.150", "--exclude", "10.77.0.120-10.77.0.129,barriers")
	w.must("link", "edit", "looms", "--listening")
	w.must("reservation", "add", "loom-9", "--scope", "looms", "--hw", "02:00:00:00:00:09", "--address", "10.77.0.9")
	old := w.host("02:00:00:00:0d:01")
	old.addresses("10.77.0.2/24")
	other := &service{t: t, netns: old.ns, dir: dataDir(t), http: "127.0.0.1:8067", dhcp4: netip.MustParseAddrPort("0.0.0.0:67"),
		args: []string{"--interface", "eth0"}}
	other.start()
	t.Cleanup(other.stop)
	other.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.118-10.77.0.125", "--option", "router=10.77.0.254",
		"--serve")

	var clients []*host
	taken := map[string]string{}
	for _, hw := range []string{"02:00:00:00:00:01", "02:00:00:00:00:02", "02:00:00:00:00:03", "02:00:00:00:00:09"} {
		h := w.host(hw)
		h.dhcp("-B") // replies are broadcast, so they can be overheard
		taken[hw] = h.event("bound")["ip"]
		clients = append(clients, h)
	}
	want(t, "the third client's address", taken["02:00:00:00:00:03"], "10.77.0.120")
	listening := func() (l api.Listening) {
		if err := json.Unmarshal([]byte(w.must("listening", "--json")), &l); err != nil {
			t.Fatal(err)
		}
		return l
	}
	w.await(func() bool { l := listening(); return len(l.Clients) == 4 && l.Clients[3].Options }, "four clients to be compared")
	why := map[string]string{}
	for _, a := range listening().Clients {
		want(t, "server of "+a.Hardware, a.Server, "10.77.0.2")
		why[a.Hardware] = strings.Join(a.Difference, "; ")
	}
	for hw, text := range map[string]string{"02:00:00:00:00:01": "option router is 10.77.0.1 here and 10.77.0.254 there",
		"02:00:00:00:00:03": "10.77.0.120 is excluded", "02:00:00:00:00:09": "10.77.0.9 is reserved for it as loom-9"} {
		if !strings.Contains(why[hw], text) {
			t.Errorf("%s differs by %q, want %q", hw, why[hw], text)
		}
	}
	if l := listening(); len(l.OtherServers) != 1 || l.OtherServers[0].Server != "10.77.0.2" || l.Learned < 4 {
		t.Errorf("other servers %+v, learned %d", l.OtherServers, l.Learned)
	}
	w.await(func() bool { return !strings.Contains(w.must("status"), "in no scope") }, "the look at the host to follow the plan")
	if out := w.must("status"); !strings.Contains(out, "another DHCP server, 10.77.0.2, answers on link looms") {
		t.Errorf("status does not warn:\n%s", out)
	}
	if out := w.must("trace", "--outcome", "withheld"); !strings.Contains(out, "02:00:00:00:00:01") {
		t.Errorf("no withheld message in the trace:\n%s", out)
	}
	seat, err := exec.Command("ip", "netns", "exec", clients[0].ns, filepath.Join(binaries, "yarnpostd"), "trial", "--interface", "eth0",
		"--hw", "02:00:00:00:00:55", "--wants", "router").CombinedOutput()
	for _, text := range []string{"from server 10.77.0.2", "ACK", "3 router", "10.77.0.254", "given back"} {
		if err != nil || !strings.Contains(string(seat), text) {
			t.Errorf("from a client's seat, %v: no %q in\n%s", err, text, seat)
		}
	}
	if out := w.must("preflight"); !strings.Contains(out, "another DHCP server answers there: [10.77.0.2]") {
		t.Errorf("preflight does not find the other server:\n%s", out)
	}
	// The other server gives the same router now: the first client agrees.
	other.must("option", "set", "router=10.77.0.1", "domain-server=10.77.0.53", "--scope", "looms")
	clients[0].signal("USR1")
	clients[0].event("renew")
	clients[0].quit()
	clients[0].dhcp("-B", "-r", taken["02:00:00:00:00:01"])
	clients[0].event("bound")
	w.await(func() bool {
		for _, a := range listening().Clients {
			if a.Hardware == "02:00:00:00:00:01" {
				return a.Agrees && a.Options
			}
		}
		return false
	}, "the first client to agree, options too")

	// Stand aside while it answers; then it is gone, and this one goes live.
	w.must("link", "edit", "looms", "--stand-aside", "--listening=false")
	late := w.host("02:00:00:00:00:20")
	late.dhcp()
	got := late.event("bound")
	want(t, "who serves while standing aside", got["serverid"], "10.77.0.2")
	other.stop()
	w.must("link", "edit", "looms", "--stand-aside=false")
	again := w.host("02:00:00:00:00:77")
	again.dhcp()
	if got := again.event("bound"); got["serverid"] != "10.77.0.1" || taken[got["ip"]] != "" {
		t.Errorf("a new client gets %v", got)
	}
	clients[1].quit()
	clients[1].dhcp("-r", taken["02:00:00:00:00:02"])
	got = clients[1].event("bound")
	want(t, "the address kept over the change of servers", got["ip"]+" by "+got["serverid"], taken["02:00:00:00:00:02"]+" by 10.77.0.1")
}

// A client that offers a nonce is nudged with an authentic FORCERENEW and renews
// at once; one that does not is not.
func TestNudgeOnTheWire(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.110")
	h := w.host("02:00:00:00:00:aa")
	h.addresses("10.77.0.200/24")
	server := netip.MustParseAddr("10.77.0.1")
	c := &demo.Client{Hardware: hw(0xaa), Wants: []byte{1, 3, 66}, Extra: []dhcp4.Option{{Code: option.ForceRenewNonce, Data: []byte{1}}}}
	exchange := func(m dhcp4.Message) (reply dhcp4.Message) {
		t.Helper()
		h.within(func() error {
			conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(10, 77, 0, 200), Port: 67})
			if err != nil {
				return err
			}
			defer conn.Close()
			m.GIAddr, m.Hops = netip.MustParseAddr("10.77.0.200"), 1
			b, _, err := dhcp4.Append(nil, &m, 0)
			if err != nil {
				return err
			}
			if _, err := conn.WriteTo(b, &net.UDPAddr{IP: server.AsSlice(), Port: 67}); err != nil {
				return err
			}
			conn.SetReadDeadline(time.Now().Add(5 * time.Second))
			buf := make([]byte, 1500)
			n, _, err := conn.ReadFromUDP(buf)
			if err != nil {
				return err
			}
			return dhcp4.Decode(&reply, append([]byte(nil), buf[:n]...))
		})
		return reply
	}
	offer := exchange(c.Message(dhcp4.Discover))
	ack := exchange(c.Message(dhcp4.Request, demo.AddrOption(option.AddressRequest, offer.YIAddr), demo.AddrOption(option.ServerID,
		server)))
	auth, _ := ack.Options.Get(option.Authentication)
	if len(auth) != 12+16 || auth[0] != 3 || auth[1] != 1 || auth[11] != 1 {
		t.Fatalf("option 90 of the ACK is %x", auth)
	}
	nonce := string(auth[12:])
	sh(t, "ip", "-n", h.ns, "addr", "add", ack.YIAddr.String()+"/24", "dev", "eth0")
	w.must("option", "set", "tftp-server-name=10.77.0.66", "--scope", "looms")
	if out := w.must("lease", "stale"); !strings.Contains(out, ack.YIAddr.String()) ||
		!strings.Contains(out, "1 of 1 active clients hold old options; 1 of them can be nudged") {
		t.Errorf("lease stale:\n%s", out)
	}
	heard := make(chan []byte, 1)
	var conn *net.UDPConn
	h.within(func() (err error) {
		conn, err = net.ListenUDP("udp4", &net.UDPAddr{IP: ack.YIAddr.AsSlice(), Port: 68})
		return err
	})
	defer conn.Close()
	go func() {
		buf := make([]byte, 1500)
		conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		n, _, err := conn.ReadFromUDP(buf)
		if err != nil {
			n = 0
		}
		heard <- buf[:n]
	}()
	w.must("lease", "nudge", "--stale", "--yes")
	b := <-heard
	if err := checkNudge(b, nonce); err != nil {
		t.Fatalf("the FORCERENEW %x: %v", b, err)
	}
	if checkNudge(b, "another nonce ..") == nil {
		t.Error("the FORCERENEW is authentic under another nonce")
	}
	renew := c.Message(dhcp4.Request)
	renew.CIAddr = ack.YIAddr
	again := exchange(renew)
	if name, _ := again.Options.Get(66); string(name) != "10.77.0.66" {
		t.Errorf("after the nudge option 66 is %q", name)
	}
	if out := w.must("lease", "stale"); !strings.Contains(out, "No client holds old options (1 active)") {
		t.Errorf("after the renewal:\n%s", out)
	}
	plain := w.host("02:00:00:00:00:ab")
	plain.dhcp()
	ip := plain.event("bound")["ip"]
	if _, errs, code := w.cli("lease", "nudge", ip); code != 1 || !strings.Contains(errs, "cannot be nudged") {
		t.Errorf("nudging a client that cannot be: exit %d, %s", code, errs)
	}
}

// An operating system's client that takes FORCERENEW renews when it is nudged,
// and has the new options then.
func TestNudgedClient(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.110")
	h := w.host("02:00:00:00:00:ab")
	path := needTool(t, "dhcpcd", "dhcpcd-base")
	file := filepath.Join(t.TempDir(), "script")
	if err := os.WriteFile(file, []byte("#!/bin/sh\necho EVENT $reason domain=$new_domain_name\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	// The command runs with mounts of its own, so what it keeps on disk stays there.
	h.watch(exec.Command("ip", "netns", "exec", h.ns, "sh", "-c",
		`mount -t tmpfs none /var/lib/dhcpcd && mount -t tmpfs none /run && exec "$@"`, "sh",
		path, "--nobackground", "--ipv4only", "--noarp", "--option", "domain_name", "--script", file, "eth0"))
	h.event("BOUND")
	w.must("option", "set", "domain-name=woven.example", "--scope", "looms")
	w.must("lease", "nudge", "--stale", "--yes")
	want(t, "domain", h.event("RENEW")["domain"], "woven.example")
	if out := w.must("lease", "stale"); !strings.Contains(out, "No client holds old options (1 active)") {
		t.Errorf("lease stale:\n%s", out)
	}
}

// The same with IPv6: whoever answers a neighbour solicitation keeps the address that it took, in
// a pool that is small, and where a client asks for it by name.
func TestSquatterOfSix(t *testing.T) {
	t.Parallel()
	w := wire6(t)
	w.must("scope", "edit", "offices6", "--pool", "2001:db8:40:1::100-2001:db8:40:1::103", "--yes")
	squatter := w.host("02:00:00:00:05:06")
	sh(t, "ip", "-n", squatter.ns, "link", "set", "lo", "up")
	for _, a := range []string{"2001:db8:40:1::100/64", "2001:db8:40:1::101/64", "2001:db8:40:1::103/64"} {
		sh(t, "ip", "-n", squatter.ns, "addr", "add", a, "dev", "eth0", "nodad")
	}
	h := w.host("02:00:00:00:06:02")
	h.dhcp6()
	want(t, "the one free address", h.event("BOUND6")["address"], "2001:db8:40:1::102")
	second := w.host("02:00:00:00:06:03") // for which nothing is left: each of the others is met
	second.dhcp6()
	w.await(func() bool {
		met := 0
		for _, l := range w.leases() {
			if l.Status == "abandoned" && strings.HasPrefix(l.Evidence, "answered a probe") {
				met++
			}
		}
		return met == 3
	}, "all three that the squatter took to be met")
}

// A router that tells hosts to make addresses of their own is found where a scope has addresses for
// them, until it tells them to ask.
func TestRouterUnmanaged(t *testing.T) {
	t.Parallel()
	w := wire6(t)
	router := w.host("02:00:00:00:05:07")
	advertise := func(flags byte) {
		router.within(func() error {
			conn, err := icmp.ListenPacket("ip6:ipv6-icmp", "::")
			if err != nil {
				return err
			}
			defer conn.Close()
			eth, err := net.InterfaceByName("eth0")
			if err != nil {
				return err
			}
			if err := conn.IPv6PacketConn().SetMulticastHopLimit(255); err != nil {
				return err
			}
			m := icmp.Message{Type: ipv6.ICMPTypeRouterAdvertisement, Body: &icmp.RawBody{Data: []byte{64, flags, 7, 8, 0, 0, 0, 0, 0, 0, 0, 0}}}
			b, err := m.Marshal(nil)
			if err == nil { // its own address is tentative at first, and nothing leaves
				_, _ = conn.WriteTo(b, &net.IPAddr{IP: net.ParseIP("ff02::1"), Zone: eth.Name})
			}
			return err
		})
	}
	found := func() bool {
		out, _, _ := w.cli("audit", "run", "--json")
		return strings.Contains(out, `"router-unmanaged"`)
	}
	w.await(func() bool { advertise(0); return found() }, "the router that keeps hosts from asking to be found")
	w.await(func() bool { advertise(0x80); return !found() }, "it to be gone, once the router tells hosts to ask")
}
