package e2e

import (
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// wire6 is a wire whose bridge has an IPv6 prefix, too, and a scope for it.
func wire6(t *testing.T, scope ...string) *wired {
	t.Helper()
	w := wire(t)
	sh(t, "ip", "-n", w.netns, "addr", "add", "2001:db8:40:1::1/64", "dev", "br0", "nodad")
	w.must(append([]string{"scope", "add", "offices6", "--subnet", "2001:db8:40:1::/64", "--link", "looms", "--pool", "all",
		"--prefix-pool", "2001:db8:40:8000::/49 in /56", "--dns", "2001:db8:40::53", "--domain", "mill.example", "--serve"}, scope...)...)
	return w
}

const script6 = `#!/bin/sh
echo "EVENT $reason address=$new_dhcp6_ia_na1_ia_addr1 pd=$new_dhcp6_ia_pd1_prefix1/$new_dhcp6_ia_pd1_prefix1_length dns=$new_dhcp6_name_servers search=$new_dhcp6_domain_search old=$old_dhcp6_ia_na1_ia_addr1"
`

// dhcp6 starts the operating system's own client on the host, for an address and a prefix.
func (h *host) dhcp6(args ...string) {
	h.t.Helper()
	path := needTool(h.t, "dhcpcd", "dhcpcd-base")
	dir := h.t.TempDir()
	script, conf := filepath.Join(dir, "script"), filepath.Join(dir, "conf")
	text := "duid\nipv6only\nnoipv6rs\ninterface eth0\nia_na 1\nia_pd 2 -\noption dhcp6_name_servers, dhcp6_domain_search\n"
	for file, body := range map[string]string{script: script6, conf: text} {
		if err := os.WriteFile(file, []byte(body), 0o755); err != nil {
			h.t.Fatal(err)
		}
	}
	argv := append([]string{"netns", "exec", h.ns, "unshare", "-m", "sh", "-c",
		`mount -t tmpfs none /var/lib/dhcpcd && mount -t tmpfs none /run && exec "$@"`, "sh",
		path, "-6", "-B", "-d", "-f", conf, "-c", script}, append(args, "eth0")...)
	h.watch(exec.Command("ip", argv...))
}

// The operating system's own client gets an address, a prefix and options.
func TestRealClient6(t *testing.T) {
	w := wire6(t)
	h := w.host("02:00:00:00:06:01")
	h.dhcp6()
	bound := h.event("BOUND6")
	a, err := netip.ParseAddr(bound["address"])
	if err != nil || !netip.MustParsePrefix("2001:db8:40:1::/64").Contains(a) {
		t.Fatalf("bound with %v", bound)
	}
	pd, err := netip.ParsePrefix(bound["pd"])
	if err != nil || pd.Bits() != 56 || !netip.MustParsePrefix("2001:db8:40:8000::/49").Contains(pd.Addr()) {
		t.Fatalf("delegated is %v", bound)
	}
	if bound["dns"] != "2001:db8:40::53" || !strings.HasPrefix(bound["search"], "mill.example") {
		t.Errorf("options are %v", bound)
	}
	out := w.must("lease", "list")
	if !strings.Contains(out, a.String()) || !strings.Contains(out, pd.String()) {
		t.Errorf("the lease table has not both:\n%s", out)
	}
	w.says([]string{"SOLICIT", "REQUEST", "acknowledged " + a.String()}, "trace")
	h.quit()
	if out := w.must("lease", "list", "--json"); strings.Count(out, `"status": "active"`) != 2 {
		t.Errorf("a client that went away without a word has still both:\n%s", out)
	}
}

// The relay agent brings clients of IPv6 to a server two networks away, and the operating system's
// own client gets an address and a prefix through it.
func TestRelayAgentSix(t *testing.T) {
	t.Parallel()
	w := wire6(t)
	w.must("scope", "add", "far6", "--subnet", "2001:db8:9::/64", "--pool", "all", "--prefix-pool", "2001:db8:9100::/40 in /56", "--serve")
	w.must("link", "edit", "far6", "--relay", "2001:db8:9::1")
	f := &far{wired: w, relay: w.host("02:00:00:00:00:fe"), bridge: w.id + "far"}
	f.relay.addresses("10.77.0.2/24")
	for _, c := range []string{"addr add 2001:db8:40:1::2/64 dev eth0 nodad", "link add br1 type bridge", "addr add 10.9.0.1/24 dev br1",
		"addr add 2001:db8:9::1/64 dev br1 nodad", "link set br1 up"} {
		sh(t, append([]string{"ip", "-n", f.relay.ns}, strings.Fields(c)...)...)
	}
	f.startRelay("--to", "2001:db8:40:1::1", "--remote", "hall-3", "--source-port", "4547")
	h := f.client("02:00:00:00:06:09")
	h.dhcp6()
	bound := h.event("BOUND6")
	a, err := netip.ParseAddr(bound["address"])
	if err != nil || !netip.MustParsePrefix("2001:db8:9::/64").Contains(a) {
		t.Fatalf("bound with %v; the relay says\n%s", bound, f.log.String())
	}
	if pd, err := netip.ParsePrefix(bound["pd"]); err != nil || !netip.MustParsePrefix("2001:db8:9100::/40").Contains(pd.Addr()) {
		t.Errorf("delegated is %v", bound)
	}
	w.says([]string{"br1", "2001:db8:9::1"}, "lease", "show", a.String())
}
