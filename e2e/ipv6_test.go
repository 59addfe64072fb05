package e2e

import (
	"encoding/json"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/api"
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
// own client gets an address and a prefix through it; the squatter beyond the relay is found by a ping.
func TestRelayAgentSix(t *testing.T) {
	t.Parallel()
	w := wire6(t)
	w.must("scope", "add", "far6", "--subnet", "2001:db8:9::/64", "--pool", "2001:db8:9::100-2001:db8:9::101", "--prefix-pool",
		"2001:db8:9100::/40 in /56", "--serve")
	w.must("link", "edit", "far6", "--relay", "2001:db8:9::1")
	f := &far{wired: w, relay: w.host("02:00:00:00:00:fe"), bridge: w.id + "far"}
	f.relay.addresses("10.77.0.2/24")
	for _, c := range []string{"addr add 2001:db8:40:1::2/64 dev eth0 nodad", "link add br1 type bridge", "addr add 10.9.0.1/24 dev br1",
		"addr add 2001:db8:9::1/64 dev br1 nodad", "link set br1 up"} {
		sh(t, append([]string{"ip", "-n", f.relay.ns}, strings.Fields(c)...)...)
	}
	sh(t, "ip", "netns", "exec", f.relay.ns, "sysctl", "-qw", "net.ipv6.conf.all.forwarding=1")
	sh(t, "ip", "-n", w.netns, "-6", "route", "add", "2001:db8:9::/64", "via", "2001:db8:40:1::2")
	squatter := f.client("02:00:00:00:05:09")
	sh(t, "ip", "-n", squatter.ns, "addr", "add", "2001:db8:9::100/64", "dev", "eth0", "nodad")
	sh(t, "ip", "-n", squatter.ns, "-6", "route", "add", "default", "via", "2001:db8:9::1")
	f.startRelay("--to", "2001:db8:40:1::1", "--remote", "hall-3", "--source-port", "4547")
	h := f.client("02:00:00:00:06:09")
	h.dhcp6()
	bound := h.event("BOUND6")
	a, err := netip.ParseAddr(bound["address"])
	if err != nil || a != netip.MustParseAddr("2001:db8:9::101") {
		t.Fatalf("bound with %v; the relay says\n%s", bound, f.log.String())
	}
	second := f.client("02:00:00:00:06:10") // for which nothing is left: what the squatter has is met
	second.dhcp6()
	w.await(func() bool { return w.leases()["2001:db8:9::100"].Status == "abandoned" }, "what the squatter has to be met")
	if pd, err := netip.ParsePrefix(bound["pd"]); err != nil || !netip.MustParsePrefix("2001:db8:9100::/40").Contains(pd.Addr()) {
		t.Errorf("delegated is %v", bound)
	}
	w.says([]string{"br1", "2001:db8:9::1"}, "lease", "show", a.String())
}

// A second Yarn Post plays the DHCPv6 server that is to be replaced: this one sends nothing, compares,
// learns, and when it goes live, the client keeps its address and its prefix.
func TestListening6(t *testing.T) {
	t.Parallel()
	w := wire6(t)
	sh(t, "ip", "-n", w.netns, "link", "set", "br0", "promisc", "on") // what is sent to others is overheard as well
	w.must("link", "edit", "looms", "--listening")
	old := w.host("02:00:00:00:0d:06")
	old.addresses("10.77.0.2/24")
	sh(t, "ip", "-n", old.ns, "addr", "add", "2001:db8:40:1::2/64", "dev", "eth0", "nodad")
	other := &service{t: t, netns: old.ns, dir: dataDir(t), http: "127.0.0.1:8067", dhcp4: netip.MustParseAddrPort("0.0.0.0:67"),
		args: []string{"--interface", "eth0"}}
	other.start()
	t.Cleanup(other.stop)
	other.must("scope", "add", "theirs6", "--subnet", "2001:db8:40:1::/64", "--pool", "2001:db8:40:1::100-2001:db8:40:1::1ff",
		"--prefix-pool", "2001:db8:40:8000::/49 in /56", "--dns", "2001:db8:40::54", "--domain", "mill.example", "--serve")
	var st api.Status
	if err := json.Unmarshal([]byte(other.must("status", "--json")), &st); err != nil || st.DUID == "" {
		t.Fatal(err, st)
	}
	h := w.host("02:00:00:00:06:07")
	h.networkd()
	link, pool := netip.MustParsePrefix("2001:db8:40:1::/64"), netip.MustParsePrefix("2001:db8:40:8000::/49")
	had := []netip.Addr{h.number6("eth0", link), h.number6("behind", pool)}
	listening := func() (l api.Listening) {
		if err := json.Unmarshal([]byte(w.must("listening", "--json")), &l); err != nil {
			t.Fatal(err)
		}
		return l
	}
	w.await(func() bool { l := listening(); return len(l.Clients) == 2 && l.Clients[0].Options }, "an address and a prefix to be compared")
	l := listening()
	if a := l.Clients[0]; a.Agrees || !strings.Contains(strings.Join(a.Difference, ";"), "option dns-servers is 2001:db8:40::53 here and 2001:db8:40::54 there") ||
		a.Server != st.DUID || len(l.OtherServers) != 1 || l.OtherServers[0].Server != st.DUID || l.Learned < 2 {
		t.Errorf("%+v", l)
	}
	if out := w.must("preflight"); !strings.Contains(out, "another DHCP server answers there: ["+st.DUID) {
		t.Errorf("preflight does not find the other server:\n%s", out)
	}
	seat, err := exec.Command("ip", "netns", "exec", h.ns, filepath.Join(binaries, "yarnpostd"), "trial", "--interface", "eth0", "--ipv6", "--prefix",
		"--hw", "02:00:00:00:00:55").CombinedOutput()
	for _, text := range []string{"from server " + st.DUID, "REPLY", "23 dns-servers", "2001:db8:40::54", "given back", "/56"} {
		if err != nil || !strings.Contains(string(seat), text) {
			t.Errorf("from a client's seat, %v: no %q in\n%s", err, text, seat)
		}
	}
	// Stand aside while it answers; then it is gone, and this one goes live.
	w.must("link", "edit", "looms", "--stand-aside", "--listening=false")
	late := w.host("02:00:00:00:06:08")
	late.dhcp6()
	if got := late.event("BOUND6"); got["dns"] != "2001:db8:40::54" {
		t.Errorf("while standing aside a client is given %v", got)
	}
	other.stop()
	w.must("link", "edit", "looms", "--stand-aside=false")
	h.quit()
	h.networkd()
	if got := []netip.Addr{h.number6("eth0", link), h.number6("behind", pool)}; !slices.Equal(got, had) {
		t.Errorf("over the change of servers %v became %v", had, got)
	}
	w.says([]string{"2001:db8:40::53"}, "lease", "options", had[0].String())
}

// networkd is a host whose network is configured by another client of the operating system: an address
// on the link, and the first /64 of a prefix on a bridge of its own.
const networkd = `
mount -o remount,ro /sys && mount -t tmpfs none /run && mkdir -p /run/systemd/network || exit
cat > /run/systemd/network/1-link.network <<.
[Match]
Name=eth0
[Network]
DHCP=ipv6
IPv6AcceptRA=no
LinkLocalAddressing=ipv6
[DHCPv6]
WithoutRA=solicit
UseDelegatedPrefix=yes
.
cat > /run/systemd/network/2-behind.network <<.
[Match]
Name=behind
[Network]
ConfigureWithoutCarrier=yes
DHCPPrefixDelegation=yes
[DHCPPrefixDelegation]
UplinkInterface=eth0
SubnetId=0
.
exec "$0"
`

// A second client of the operating system, of another make: it gets an address and a prefix, and numbers
// what is behind it from that; and the same ones again when it comes back.
func TestSecondClient6(t *testing.T) {
	t.Parallel()
	w := wire6(t)
	h := w.host("02:00:00:00:06:02")
	link, pool := netip.MustParsePrefix("2001:db8:40:1::/64"), netip.MustParsePrefix("2001:db8:40:8000::/49")
	var first []netip.Addr
	for range 2 {
		h.networkd()
		got := []netip.Addr{h.number6("eth0", link), h.number6("behind", pool)}
		if first == nil {
			first = got
		} else if !slices.Equal(got, first) {
			t.Errorf("it came back to %v, and had %v", got, first)
		}
		prefix, _ := got[1].Prefix(56)
		w.says([]string{got[0].String(), prefix.Masked().String()}, "lease", "list")
		h.quit()
	}
}

// networkd starts the client anew, on a host that has no address of IPv6.
func (h *host) networkd() {
	h.t.Helper()
	path := needTool(h.t, "/lib/systemd/systemd-networkd", "systemd")
	if exec.Command("ip", "-n", h.ns, "link", "add", "behind", "type", "bridge").Run() != nil { // it was here before
		for _, dev := range []string{"eth0", "behind"} {
			sh(h.t, "ip", "-n", h.ns, "-6", "addr", "flush", "dev", dev, "scope", "global")
		}
	}
	h.watch(exec.Command("ip", "netns", "exec", h.ns, "unshare", "-m", "sh", "-c", networkd, path))
}

// number6 waits for an address of a prefix on an interface of the host.
func (h *host) number6(dev string, of netip.Prefix) netip.Addr {
	h.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		out, _ := exec.Command("ip", "-n", h.ns, "-6", "-br", "addr", "show", "dev", dev).Output()
		for _, word := range strings.Fields(string(out)) {
			if p, err := netip.ParsePrefix(word); err == nil && of.Contains(p.Addr()) {
				return p.Addr()
			}
		}
	}
	h.t.Fatalf("%s has no address of %s", dev, of)
	return netip.Addr{}
}
