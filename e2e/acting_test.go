package e2e

import (
	"bytes"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/mdlayher/packet"

	onwire "yarnpost/service/wire"
)

// frames listens on a host for frames of an EtherType that hold a text; what it gives waits for
// one.
func (h *host) frames(etherType int, with []byte) (wait func() []byte) {
	h.t.Helper()
	var conn *packet.Conn
	h.within(func() error {
		i, err := net.InterfaceByName("eth0")
		if err != nil {
			return err
		}
		conn, err = packet.Listen(i, packet.Raw, etherType, nil)
		return err
	})
	h.t.Cleanup(func() { conn.Close() })
	return func() []byte {
		h.t.Helper()
		_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		b := make([]byte, 2000)
		for {
			n, _, err := conn.ReadFrom(b)
			if err != nil {
				h.t.Fatalf("no frame of type %04x with %x: %v", etherType, with, err)
			}
			if bytes.Contains(b[:n], with) {
				return b[:n]
			}
		}
	}
}

// Acting on clients of a real wire, one and many: who answers, whose lease ends because nobody
// does, who is woken here and beyond a router, who keeps an address, who moves.
func TestActingOnClients(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.120", "--lease", "1h")
	there, gone := w.host("02:00:00:00:00:aa"), w.host("02:00:00:00:00:bb")
	for _, h := range []*host{there, gone} {
		h.dhcp("-x", "hostname:card-"+h.hw[len(h.hw)-2:])
	}
	a, b := there.event("bound")["ip"], gone.event("bound")["ip"]
	sh(t, "ip", "-n", gone.ns, "link", "set", "eth0", "down")

	out := w.must("lease", "reach", "--scope", "looms")
	line := func(address string) string {
		for l := range strings.Lines(out) {
			if strings.HasPrefix(l, address+" ") {
				return l
			}
		}
		t.Fatalf("nothing is said of %s:\n%s", address, out)
		return ""
	}
	if !strings.Contains(line(a), "answers from 02:00:00:00:00:aa") || !strings.Contains(line(b), "silent") {
		t.Errorf("who answers:\n%s", out)
	}
	if !strings.Contains(out, "2 clients: 1 answer, 1 silent.") {
		t.Errorf("no sum:\n%s", out)
	}

	// Waking is what the plan allows.
	out, _, _ = w.cli("lease", "wake", b, "--yes")
	if !strings.Contains(out, "yarnpost link edit looms --wake allows it") {
		t.Errorf("a client is woken though its link does not allow it:\n%s", out)
	}
	w.must("link", "edit", "looms", "--wake")
	magic := magicPacket(t, "02:00:00:00:00:bb")
	heard := there.frames(0x0842, magic)
	w.must("lease", "wake", b, "--yes")
	if f := heard(); !bytes.Equal(f[:6], onwire.Broadcast) {
		t.Errorf("the frame goes to % x", f[:6])
	}
	// Beyond a router: a broadcast directed at the subnet, which goes to the router as any packet.
	w.must("scope", "add", "yard", "--subnet", "10.88.0.0/24", "--option", "router=10.88.0.1", "--serve")
	w.must("link", "edit", "yard", "--relay", "10.88.0.1", "--wake")
	w.must("reservation", "add", "crane", "--scope", "yard", "--hw", "02:00:00:00:00:cc", "--address", "10.88.0.7")
	router := w.host("02:00:00:00:00:01")
	router.addresses("10.77.0.9/24")
	sh(t, "ip", "-n", w.netns, "route", "add", "10.88.0.0/24", "via", "10.77.0.9")
	heard = router.frames(0x0800, magicPacket(t, "02:00:00:00:00:cc"))
	w.must("lease", "wake", "10.88.0.7", "--yes")
	if f := heard(); !bytes.Equal(f[30:34], []byte{10, 88, 0, 255}) || f[37] != 9 {
		t.Errorf("the packet goes to % x, port %d", f[30:34], f[37])
	}

	manyAtOnce(t, w, there, a, b)
}

// manyAtOnce acts on many: one of two clients answers.
func manyAtOnce(t *testing.T, w *wired, there *host, a, b string) {
	t.Helper()
	// Many leases end, but for those whose clients answer.
	if out, _, code := w.cli("lease", "end", "--scope", "looms", "--silent"); code != 3 || !strings.Contains(out, "1 would be ended, 1 would be left as they are") {
		t.Errorf("the preview says %d:\n%s", code, out)
	}
	w.must("lease", "end", "--scope", "looms", "--silent", "--yes")
	if l := w.leases(); l[a].Status != "active" || l[b].Status != "released" {
		t.Errorf("%s is %s, %s is %s", a, l[a].Status, b, l[b].Status)
	}

	// An address is kept, and changed.
	w.must("lease", "reserve", a)
	if out := w.must("reservation", "list", "--scope", "looms"); !strings.Contains(out, "card-aa") || !strings.Contains(out, a) {
		t.Errorf("not reserved:\n%s", out)
	}
	w.must("lease", "move", a, "--to", "10.77.0.17")
	there.signal("USR1")
	w.await(func() bool { return w.leases()["10.77.0.17"].Status == "active" }, "the client to move")

	// Reservations of what is off line go.
	w.must("reservation", "add", "loom-18", "--scope", "looms", "--hw", "02:00:00:00:00:18", "--address", "10.77.0.18")
	w.await(func() bool {
		return strings.Contains(w.must("lease", "reach", "10.77.0.17"), "1 answer")
	}, "the client to use its new address")
	w.must("reservation", "remove", "--scope", "looms", "--silent", "--yes")
	if out := w.must("reservation", "list", "--scope", "looms"); strings.Contains(out, "loom-18") || !strings.Contains(out, "card-aa") {
		t.Errorf("reservations after the silent ones went:\n%s", out)
	}
	if out := w.must("trail"); !strings.Contains(out, "woke clients") || !strings.Contains(out, "ended leases") {
		t.Errorf("the trail does not have it:\n%s", out)
	}
}

// magicPacket is the magic packet of a hardware address.
func magicPacket(t *testing.T, hw string) []byte {
	t.Helper()
	a, err := net.ParseMAC(hw)
	if err != nil {
		t.Fatal(err)
	}
	return onwire.MagicPacket(a)
}
