package e2e

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/demo"
)

// wired is a service in a namespace with a bridge, and hosts on its ports.
type wired struct {
	*service
	id    string
	hosts int
}

func sh(t *testing.T, args ...string) {
	t.Helper()
	if out, err := exec.Command(args[0], args[1:]...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", strings.Join(args, " "), err, out)
	}
}

// wires counts the wires of this process: each has namespaces of its own.
var wires atomic.Int32

// wire makes a namespace with a bridge br0 at 10.77.0.1/24 and serves it.
func wire(t *testing.T, scope ...string) *wired {
	t.Helper()
	needRoot(t)
	needTool(t, "ip", "iproute2")
	w := &wired{id: fmt.Sprintf("yp%d-%d-", os.Getpid()%10000, wires.Add(1))}
	ns := w.id + "s"
	sh(t, "ip", "netns", "add", ns)
	t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() })
	for _, c := range []string{"link set lo up", "link add br0 type bridge", "addr add 10.77.0.1/24 dev br0", "link set br0 up"} {
		sh(t, append([]string{"ip", "-n", ns}, strings.Fields(c)...)...)
	}
	w.service = &service{t: t, netns: ns, dir: dataDir(t), http: "127.0.0.1:8067", dhcp4: netip.MustParseAddrPort("0.0.0.0:67"),
		args: []string{"--interface", "br0"}}
	w.start()
	t.Cleanup(w.stop)
	w.must(append([]string{"scope", "add", "looms", "--subnet", "10.77.0.0/24", "--option", "router=10.77.0.1", "--option",
		"domain-name-server=10.77.0.53", "--serve"}, scope...)...)
	return w
}

// host is a namespace with one interface on the bridge.
type host struct {
	t  *testing.T
	ns string
	hw string

	cmd   *exec.Cmd   // its DHCP client
	lines chan string // what that says
}

// host plugs a host with a hardware address into the bridge.
func (w *wired) host(hw string) *host {
	w.t.Helper()
	w.hosts++
	h := &host{t: w.t, ns: fmt.Sprintf("%sh%d", w.id, w.hosts), hw: hw}
	port := fmt.Sprintf("p%d", w.hosts)
	sh(w.t, "ip", "netns", "add", h.ns)
	w.t.Cleanup(func() { h.quit(); exec.Command("ip", "netns", "del", h.ns).Run() })
	sh(w.t, "ip", "-n", w.netns, "link", "add", port, "type", "veth", "peer", "name", "eth0", "netns", h.ns)
	sh(w.t, "ip", "-n", w.netns, "link", "set", port, "master", "br0", "up")
	sh(w.t, "ip", "-n", h.ns, "link", "set", "eth0", "address", hw)
	sh(w.t, "ip", "-n", h.ns, "link", "set", "eth0", "up")
	return h
}

// script tells what the client learned, and configures the interface with it.
const script = `#!/bin/sh
[ "$1" = deconfig ] && ip addr flush dev "$interface"
[ "$1" = bound ] && ip addr add "$ip/${mask:-24}" dev "$interface" 2>/dev/null
echo "EVENT $1 ip=$ip mask=$mask subnet=$subnet router=$router dns=$dns domain=$domain hostname=$hostname lease=$lease serverid=$serverid message=$message"
`

// dhcp starts the operating system's own client on the host.
func (h *host) dhcp(args ...string) {
	h.t.Helper()
	path := needTool(h.t, "udhcpc", "udhcpc")
	file := filepath.Join(h.t.TempDir(), "script")
	if err := os.WriteFile(file, []byte(script), 0o755); err != nil {
		h.t.Fatal(err)
	}
	argv := append([]string{"netns", "exec", h.ns, path, "-f", "-i", "eth0", "-s", file, "-t", "4", "-T", "1", "-A", "2", "-O", "domain"},
		args...)
	h.watch(exec.Command("ip", argv...))
}

// watch starts a DHCP client, whose script tells events.
func (h *host) watch(cmd *exec.Cmd) {
	h.t.Helper()
	h.cmd = cmd
	out, err := h.cmd.StdoutPipe()
	if err != nil {
		h.t.Fatal(err)
	}
	h.cmd.Stderr = h.cmd.Stdout
	if err := h.cmd.Start(); err != nil {
		h.t.Fatal(err)
	}
	h.lines = make(chan string, 100)
	go func(lines chan string) {
		for s := bufio.NewScanner(out); s.Scan(); {
			lines <- s.Text()
		}
		close(lines)
	}(h.lines)
}

// event waits for what the client's script tells, by its first word.
func (h *host) event(name string) map[string]string {
	h.t.Helper()
	deadline := time.After(20 * time.Second)
	var seen []string
	for {
		select {
		case line, ok := <-h.lines:
			seen = append(seen, line)
			if !ok {
				h.t.Fatalf("the client of %s ended without %q:\n%s", h.hw, name, strings.Join(seen, "\n"))
			}
			rest, ok := strings.CutPrefix(line, "EVENT "+name+" ")
			if !ok {
				continue
			}
			out := map[string]string{}
			for _, f := range strings.Fields(rest) {
				k, v, _ := strings.Cut(f, "=")
				out[k] = v
			}
			return out
		case <-deadline:
			h.t.Fatalf("the client of %s did not say %q:\n%s", h.hw, name, strings.Join(seen, "\n"))
		}
	}
}

// signal sends the client a signal by name: USR1 renews, USR2 releases.
func (h *host) signal(name string) {
	h.t.Helper()
	out, err := exec.Command("ip", "netns", "pids", h.ns).Output()
	if err != nil {
		h.t.Fatal(err)
	}
	for _, pid := range strings.Fields(string(out)) {
		exec.Command("kill", "-"+name, pid).Run()
	}
}

func (h *host) quit() {
	if h.cmd != nil {
		h.signal("KILL")
		h.cmd.Wait()
		h.cmd = nil
	}
}

func want(t *testing.T, what, got, want string) {
	t.Helper()
	if got != want {
		t.Errorf("%s is %q, want %q", what, got, want)
	}
}

// The operating system's own client on a real wire: a lease with the options as
// configured, renewal, a restart of the service in between, release.
func TestRealClient(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.200", "--exclude", "10.77.0.100-10.77.0.109", "--domain", "fellgate.example", "--lease", "1h")
	w.must("reservation", "add", "loom-17", "--scope", "looms", "--hw", "02:00:00:00:00:17", "--address", "10.77.0.17", "--hostname",
		"loom-17")
	a := w.host("02:00:00:00:00:aa")
	a.dhcp("-x", "hostname:card-room")
	got := a.event("bound")
	want(t, "address", got["ip"], "10.77.0.110") // the first ten are excluded
	want(t, "mask", got["subnet"], "255.255.255.0")
	want(t, "router", got["router"], "10.77.0.1")
	want(t, "DNS", got["dns"], "10.77.0.53")
	want(t, "domain", got["domain"], "fellgate.example")
	want(t, "lease time", got["lease"], "3600")
	want(t, "server", got["serverid"], "10.77.0.1")
	l := w.leases()["10.77.0.110"]
	want(t, "status", l.Status, "active")
	want(t, "host name", l.Hostname, "card-room")
	want(t, "hardware address", l.Hardware, "02:00:00:00:00:aa")

	w.stop()
	w.start() // the table comes back from the database
	a.signal("USR1")
	want(t, "renewed address", a.event("renew")["ip"], "10.77.0.110")

	r := w.host("02:00:00:00:00:17")
	r.dhcp()
	got = r.event("bound")
	want(t, "reserved address", got["ip"], "10.77.0.17")
	want(t, "reserved host name", got["hostname"], "loom-17")
	if !w.leases()["10.77.0.17"].Reserved {
		t.Error("the reserved lease does not say that it is reserved")
	}

	a.signal("USR2")
	a.event("deconfig")
	w.await(func() bool { return w.leases()["10.77.0.110"].Status == "released" }, "the release to be recorded")
}

// Two clients and one address: the second goes without and shows as unserved,
// until the first gives the address back.
func TestOneAddressPool(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.50-10.77.0.51", "--exclude", "10.77.0.50")
	first, second := w.host("02:00:00:00:00:01"), w.host("02:00:00:00:00:02")
	first.dhcp()
	want(t, "the one address", first.event("bound")["ip"], "10.77.0.51")
	second.dhcp()
	second.event("leasefail")
	out := w.must("unserved", "list")
	if !strings.Contains(out, "02:00:00:00:00:02") || !strings.Contains(out, "pool is empty") {
		t.Errorf("unserved list does not show the second client:\n%s", out)
	}
	first.signal("USR2")
	first.event("deconfig")
	want(t, "the one address", second.event("bound")["ip"], "10.77.0.51")
	if out := w.must("unserved", "list"); strings.Contains(out, "02:00:00:00:00:02") {
		t.Errorf("the second client is served and still listed:\n%s", out)
	}
}

// What leaves the server is decoded by an independent decoder without a
// malformed field.
func TestCapturedOnTheWire(t *testing.T) {
	t.Parallel()
	tshark := needTool(t, "tshark", "tshark")
	w := wire(t, "--pool", "10.77.0.100-10.77.0.200", "--domain", "fellgate.example", "--option",
		"domain-search=fellgate.example,mill.fellgate.example",
		"--option", "classless-static-route-option=10.50.0.0/16 10.77.0.2,0.0.0.0/0 10.77.0.1", "--option", "ntp-servers=10.77.0.42")
	file := filepath.Join(t.TempDir(), "capture.pcap")
	capture := exec.Command("ip", "netns", "exec", w.netns, tshark, "-q", "-i", "br0", "-f", "udp port 67 or udp port 68", "-F", "pcap", "-w",
		file)
	var said lockedBuffer
	capture.Stderr = &said
	if err := capture.Start(); err != nil {
		t.Fatal(err)
	}
	w.await(func() bool { return strings.Contains(said.String(), "Capturing") }, "the capture to start")
	time.Sleep(500 * time.Millisecond)
	h := w.host("02:00:00:00:00:aa")
	h.dhcp("-O", "search", "-O", "staticroutes", "-O", "ntpsrv")
	h.event("bound")
	h.signal("USR1")
	h.event("renew")
	time.Sleep(time.Second)
	capture.Process.Signal(os.Interrupt)
	capture.Wait()
	fields, err := exec.Command(tshark, "-r", file, "-Y", "dhcp.type == 2", "-T", "fields", "-e", "dhcp.option.dhcp", "-e", "eth.dst", "-e",
		"ip.dst", "-e", "dhcp.option.domain_name", "-e", "_ws.malformed", "-e", "_ws.expert.message", "-e", "udp.checksum.status", "-o",
		"udp.check_checksum:TRUE").Output()
	if err != nil {
		t.Fatal(err)
	}
	lines := bytes.Split(bytes.TrimSpace(fields), []byte("\n"))
	if len(lines) < 3 {
		t.Fatalf("the capture holds %d replies, want OFFER, ACK and ACK:\n%s", len(lines), fields)
	}
	for i, line := range lines {
		f := append(strings.Split(string(line), "\t"), make([]string, 7)...)
		// The kernel leaves the checksum of what it sends itself to the (virtual) hardware.
		if f[4] != "" || f[5] != "" && (i < 2 || !strings.HasPrefix(f[5], "Bad checksum")) {
			t.Errorf("reply %d is malformed: %s", i, line)
		}
		want(t, "domain name", f[3], "fellgate.example")
		if i < 2 { // unicast to a client that has no address yet
			want(t, "hardware destination", f[1], "02:00:00:00:00:aa")
			want(t, "destination", f[2], "10.77.0.100")
			want(t, "UDP checksum status", f[6], "1")
		}
	}
}

// within runs f on a thread that is in a host's namespace meanwhile; sockets
// opened there belong to it. The thread goes back and lives on: the death of a
// thread is the death of the services it started.
func (h *host) within(f func() error) {
	h.t.Helper()
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	home, err := os.Open("/proc/thread-self/ns/net")
	if err != nil {
		h.t.Fatal(err)
	}
	defer home.Close()
	away, err := os.Open("/var/run/netns/" + h.ns)
	if err != nil {
		h.t.Fatal(err)
	}
	defer away.Close()
	if err := unix.Setns(int(away.Fd()), unix.CLONE_NEWNET); err != nil {
		h.t.Fatal(err)
	}
	failed := f()
	if err := unix.Setns(int(home.Fd()), unix.CLONE_NEWNET); err != nil {
		panic(err) // this thread must not run anything else
	}
	if failed != nil {
		h.t.Fatal(failed)
	}
}

// A relay with a real address: the server answers to giaddr, port 67, from the
// address the relay knows it by, and echoes option 82 as the last option. The
// very same client then renews straight to the server.
func TestRelayedOnTheWire(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.101")
	w.must("scope", "add", "far", "--subnet", "10.9.0.0/24", "--pool", "10.9.0.50-10.9.0.60", "--router", "10.9.0.1", "--probe=false",
		"--serve")
	sh(t, "ip", "-n", w.netns, "route", "add", "10.9.0.0/24", "via", "10.77.0.2")
	relay := w.host("02:00:00:00:00:fe")
	for _, c := range []string{"link set lo up", "addr add 10.77.0.2/24 dev eth0", "addr add 10.9.0.1/24 dev lo",
		"addr add 10.9.0.50/24 dev lo"} {
		sh(t, append([]string{"ip", "-n", relay.ns}, strings.Fields(c)...)...)
	}
	giaddr, server := netip.MustParseAddr("10.9.0.1"), &net.UDPAddr{IP: net.IPv4(10, 77, 0, 1), Port: 67}
	client := &demo.Client{Hardware: hw(0x99), Hostname: "far-away"}
	exchange := func(from string, port int, m dhcp4.Message) (reply dhcp4.Message) {
		t.Helper()
		relay.within(func() error {
			conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.ParseIP(from), Port: port})
			if err != nil {
				return err
			}
			defer conn.Close()
			b, _, err := dhcp4.Append(nil, &m, 0)
			if err != nil {
				return err
			}
			if _, err := conn.WriteTo(b, server); err != nil {
				return err
			}
			conn.SetReadDeadline(time.Now().Add(5 * time.Second))
			buf := make([]byte, 1500)
			n, sender, err := conn.ReadFromUDP(buf)
			if err != nil {
				return err
			}
			if sender.String() != "10.77.0.1:67" {
				t.Errorf("the reply comes from %s", sender)
			}
			return dhcp4.Decode(&reply, append([]byte(nil), buf[:n]...))
		})
		return reply
	}
	circuit := dhcp4.Option{Code: option.RelayAgent, Data: []byte("\x01\x04eth7")}
	m := client.Message(dhcp4.Discover, circuit)
	m.GIAddr, m.Hops = giaddr, 1
	offer := exchange("10.9.0.1", 67, m)
	want(t, "offer", offer.Type.String()+" "+offer.YIAddr.String(), "OFFER 10.9.0.50")
	m = client.Message(dhcp4.Request, demo.AddrOption(option.AddressRequest, offer.YIAddr),
		demo.AddrOption(option.ServerID, netip.MustParseAddr("10.77.0.1")), circuit)
	m.GIAddr, m.Hops = giaddr, 1
	ack := exchange("10.9.0.1", 67, m)
	last := ack.Options[len(ack.Options)-1]
	want(t, "ack", ack.Type.String()+" "+ack.YIAddr.String(), "ACK 10.9.0.50")
	want(t, "last option", fmt.Sprint(last.Code, string(last.Data)), "82\x01\x04eth7")

	renew := client.Message(dhcp4.Request)
	renew.CIAddr = ack.YIAddr
	again := exchange("10.9.0.50", 68, renew)
	want(t, "renewal", again.Type.String()+" "+again.YIAddr.String(), "ACK 10.9.0.50")
	l := w.leases()["10.9.0.50"]
	want(t, "relay and circuit", l.Relay+" "+l.Circuit, "10.9.0.1 eth7") // a renewal does not lose how it came

	wrong := client.Message(dhcp4.Request, demo.AddrOption(option.AddressRequest, netip.MustParseAddr("10.77.0.100")))
	wrong.GIAddr, wrong.Hops = giaddr, 1
	nak := exchange("10.9.0.1", 67, wrong)
	want(t, "an address of another link", fmt.Sprint(nak.Type, nak.Broadcast()), "NAK true")
}

// An operating system's client that remembers an address of another network is
// refused at once and gets a right one.
func TestMovedClient(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.101")
	h := w.host("02:00:00:00:00:aa")
	h.dhcp("-r", "192.168.55.9")
	want(t, "address", h.event("bound")["ip"], "10.77.0.100")
	if out := w.must("unserved", "list"); !strings.Contains(out, "Every client that asked was served") {
		t.Errorf("unserved list:\n%s", out)
	}
}

func runQuietly(args ...string) { exec.Command(args[0], args[1:]...).Run() }

// startRelay starts yarnpostd relay in the relay's namespace.
func (f *far) startRelay(args ...string) {
	f.t.Helper()
	argv := append([]string{"netns", "exec", f.relay.ns, filepath.Join(binaries, "yarnpostd"), "relay", "--interface", "br1", "--to",
		"10.77.0.1"}, args...)
	cmd := exec.Command("ip", argv...)
	cmd.Stdout, cmd.Stderr = &f.log, &f.log
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := cmd.Start(); err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() })
	f.await(func() bool { return strings.Contains(f.log.String(), "relaying") }, "the relay to come up: "+f.log.String())
}

// checkNudge verifies a FORCERENEW as its client does.
func checkNudge(b []byte, nonce string) error { return answer.CheckNudge(b, nonce) }
