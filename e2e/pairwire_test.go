package e2e

import (
	"net/netip"
	"strings"
	"testing"
)

// Two servers on a real wire, with a wire of their own between them, and the
// operating system's own client: one server is killed, the wire between them is cut,
// the clients' wire of one is cut, and clients get, or keep, their addresses.
func TestPairOnTheWire(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.200", "--lease", "2h")
	w.stop()
	h := w.host("02:00:00:00:00:02")
	sh(t, "ip", "-n", h.ns, "link", "set", "lo", "up")
	sh(t, "ip", "-n", h.ns, "addr", "add", "10.77.0.2/24", "dev", "eth0")
	sh(t, "ip", "-n", w.netns, "link", "add", "yarn", "type", "veth", "peer", "name", "yarn", "netns", h.ns)
	for ns, a := range map[string]string{w.netns: "10.99.0.1/24", h.ns: "10.99.0.2/24"} {
		sh(t, "ip", "-n", ns, "addr", "add", a, "dev", "yarn")
		sh(t, "ip", "-n", ns, "link", "set", "yarn", "up")
	}
	w.args = append(w.args, "--name", "bobbin")
	w.start()
	b := &service{t: t, netns: h.ns, dir: dataDir(t), http: "127.0.0.1:8067", dhcp4: netip.MustParseAddrPort("0.0.0.0:67"),
		args: []string{"--interface", "eth0", "--name", "shuttle"}}
	b.start()
	t.Cleanup(b.stop)
	code := w.must("pair", "invite", "--at", "10.99.0.1", "--mode", "hot-standby")
	b.must(strings.Fields(strings.TrimPrefix(code, "yarnpost "))...)
	two := &twins{t: t, a: w.service, b: b}
	two.together("on the wire")

	first := w.host("02:00:00:00:00:aa")
	first.dhcp("-x", "hostname:card-room")
	got := first.event("bound")
	want(t, "server", got["serverid"], "10.77.0.1")
	want(t, "lease time", got["lease"], "3600") // the lead time
	address := got["ip"]
	b.await(func() bool { return b.leases()[address].Status == "active" }, "the other server to know the lease")
	want(t, "who gave it", b.leases()[address].By, "primary")

	// The server that gave it is dead: its client, started again, keeps its address,
	// and a new one gets another.
	w.kill()
	two.state(b, "communications-interrupted")
	first.quit()
	first.dhcp("-r", address)
	got = first.event("bound")
	want(t, "server after the death", got["serverid"], "10.77.0.2")
	want(t, "address after the death", got["ip"], address)
	second := w.host("02:00:00:00:00:bb")
	second.dhcp()
	got = second.event("bound")
	want(t, "server of a new client", got["serverid"], "10.77.0.2")
	if got["ip"] == address {
		t.Errorf("two clients have %s", address)
	}
	w.start()
	two.agree("after the server is back")

	// The wire between them is cut: both serve, and give nothing twice.
	sh(t, "ip", "-n", h.ns, "link", "set", "yarn", "down")
	two.state(w.service, "communications-interrupted")
	two.state(b, "communications-interrupted")
	third := w.host("02:00:00:00:00:cc")
	third.dhcp()
	had := third.event("bound")["ip"]
	if had == address || had == got["ip"] {
		t.Errorf("%s is given twice", had)
	}
	sh(t, "ip", "-n", h.ns, "link", "set", "yarn", "up")
	two.agree("after the wire is whole")

	// No client reaches the primary: the other answers whoever tries for a while.
	w.must("pair", "pause")
	fourth := w.host("02:00:00:00:00:dd")
	fourth.dhcp()
	want(t, "server while the first is paused", fourth.event("bound")["serverid"], "10.77.0.2")
	w.must("pair", "up")
	two.agree("after the pause")

	w.cutClients(two, "p1")
	two.agree("in the end")
	for _, s := range []*service{w.service, b} {
		if out := s.must("status"); strings.Contains(out, "another DHCP server") {
			t.Errorf("a partner is taken for a stranger:\n%s", out)
		}
	}
}

// cutClients has the second of two answer everybody, and then no client reach it.
func (w *wired) cutClients(two *twins, port string) {
	w.t.Helper()
	// The second is to answer everybody, and no client reaches it: the first answers
	// whoever tries for a while.
	w.must("pair", "edit", "--split", "0", "--yes")
	fifth := w.host("02:00:00:00:00:ee")
	fifth.dhcp()
	want(w.t, "server of the second's client", fifth.event("bound")["serverid"], "10.77.0.2")
	sh(w.t, "ip", "-n", w.netns, "link", "set", port, "down")
	sixth := w.host("02:00:00:00:00:ff")
	sixth.dhcp()
	want(w.t, "server while no client reaches the second", sixth.event("bound")["serverid"], "10.77.0.1")
	sh(w.t, "ip", "-n", w.netns, "link", "set", port, "up")
}
