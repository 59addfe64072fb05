package e2e

import (
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/demo"
)

// Whatever datagrams somebody makes up, from wherever he sends them: no client loses its
// lease, and no pool an address.
func TestForgedDatagrams(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.119", "--serve")
	s.must("reservation", "add", "port", "--scope", "looms", "--circuit", "sw1/0/7", "--address", "10.77.0.60")
	s.must("link", "edit", "looms", "--relay", "127.77.0.1")
	relay := s.relay("127.77.0.1", "10.77.0.1")
	ctx := context.Background()
	victim := demo.Client{Relay: relay, Hardware: hw(1), Hostname: "loom-1"}
	if err := victim.Get(ctx); err != nil {
		t.Fatal(err)
	}
	before := s.leases()[victim.Address.String()]
	conn, err := net.DialUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 66)}, net.UDPAddrFromAddrPort(s.dhcp4))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	zero := netip.IPv4Unspecified()
	send := func(kind dhcp4.Type, giaddr, ciaddr netip.Addr, n int, options ...dhcp4.Option) {
		t.Helper()
		m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: uint32(n + 7), CIAddr: ciaddr, YIAddr: zero, SIAddr: zero,
			GIAddr: giaddr, CHAddr: hw(n)}
		m.Options = append(dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(kind)}}}, options...)
		b, _, err := dhcp4.Append(nil, m, dhcp4.MaxMax)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := conn.Write(b); err != nil {
			t.Fatal(err)
		}
	}
	minute := dhcp4.Option{Code: option.AddressTime, Data: []byte{0, 0, 0, 60}}
	at := dhcp4.Option{Code: option.AddressRequest, Data: victim.Address.AsSlice()}
	for _, giaddr := range []netip.Addr{zero, victim.Address, netip.MustParseAddr("10.77.0.7"), netip.MustParseAddr("10.77.0.119")} {
		send(dhcp4.Request, giaddr, victim.Address, 1, minute)
		send(dhcp4.Release, giaddr, victim.Address, 1)
		send(dhcp4.Decline, giaddr, zero, 1, at)
		send(dhcp4.Discover, giaddr, zero, 1)
	}
	for n := range 60 { // each address of the pool, and of the rest, is said to be a relay's
		send(dhcp4.Discover, netip.AddrFrom4([4]byte{10, 77, 0, byte(90 + n)}), zero, 100+n)
	}
	circuit := dhcp4.Option{Code: option.RelayAgent, Data: append([]byte{1, 7}, "sw1/0/7"...)}
	send(dhcp4.Discover, netip.MustParseAddr("127.0.0.66"), zero, 3, circuit)
	send(dhcp4.Discover, netip.MustParseAddr("10.77.0.7"), zero, 3, circuit)
	// Whoever comes now is served from the same pool.
	for n := range 19 {
		c := demo.Client{Relay: relay, Hardware: hw(500 + n), Patience: 40 * time.Second}
		if err := c.Get(ctx); err != nil {
			t.Fatalf("client %d of 19: %v; unserved:\n%s", n+1, err, s.must("unserved", "list"))
		}
	}
	after, ok := s.leases()[victim.Address.String()]
	if !ok || after.Status != "active" || after.Hardware != before.Hardware || after.Expires == nil ||
		after.Expires.Before(*before.Expires) {
		t.Errorf("the victim's lease was %+v and is %+v", before, after)
	}
	if err := victim.Renew(ctx); err != nil {
		t.Errorf("the victim renews: %v", err)
	}
	if out := s.must("scope", "show", "looms"); strings.Contains(out, "10.77.0.60 ") {
		t.Errorf("the address that is reserved for a port was given:\n%s", out)
	}
	if out := s.must("relay", "list"); !strings.Contains(out, "the plan does not name it") {
		t.Errorf("relays that were made up are shown as\n%s", out)
	}
	if out := s.must("relay", "forget", "--all"); !strings.Contains(out, "Relays forgotten: ") {
		t.Errorf("forgetting them says %s", out)
	}
	for key := range s.findings() {
		if strings.HasPrefix(key, "relay-silent") {
			t.Errorf("a relay that was made up is missed: %s", key)
		}
	}
}

// A database that is set back under the service has all leases again; one that was set
// back while the service did not run is noticed, and what it lost is given to nobody else.
func TestDatabaseSetBack(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--serve")
	relay := s.relay("127.77.0.1", "10.77.0.1")
	ctx := context.Background()
	var clients []*demo.Client
	come := func(n int) error {
		c := &demo.Client{Relay: relay, Hardware: hw(n), Patience: 8 * time.Second}
		err := c.Get(ctx)
		if err == nil {
			clients = append(clients, c)
		}
		return err
	}
	for n := range 10 {
		if err := come(n); err != nil {
			t.Fatal(err)
		}
	}
	s.must("scope", "add", "yard", "--subnet", "10.78.0.0/24", "--serve")
	s.sql("delete from lease; update server set last_batch = 1; delete from plan_change where revision = 2; delete from plan_revision where revision = 2; " +
		"delete from plan_item where body->>'name' = 'yard'")
	const found = "database-set-back database"
	s.await(func() bool { return s.findings()[found].Code != "" }, "a database that was set back to be found")
	s.await(func() bool { return s.sql("select 1 from plan_revision where revision = 2") == 1 }, "the plan to be recorded again")
	if n := s.sql("select 1 from lease where status = 2"); n != 10 {
		t.Errorf("%d leases are in the database again, want 10", n)
	}
	s.stop()
	s.start()
	for _, c := range clients {
		if l := s.leases()[c.Address.String()]; l.Status != "active" || l.Hardware != c.Hardware.String() {
			t.Errorf("after a restart %s is %+v", c.Address, l)
		}
	}
	if out := s.must("scope", "list"); !strings.Contains(out, "yard") {
		t.Errorf("after a restart the scopes are\n%s", out)
	}
	// While the service does not run the database loses what the last run recorded.
	s.sql("delete from lease where address >= '10.77.0.105'")
	s.stop()
	path := filepath.Join(s.dir, "journal.mark")
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	binary.BigEndian.PutUint64(b[8:], binary.BigEndian.Uint64(b[8:])+5)
	binary.BigEndian.PutUint32(b[len(b)-4:], crc32.ChecksumIEEE(b[:len(b)-4]))
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
	s.start()
	if f := s.findings()[found]; !strings.Contains(f.Text, "kept until") {
		t.Errorf("found: %+v", f)
	}
	if err := come(50); err == nil {
		t.Errorf("a newcomer is given %s, which somebody may hold whose record was lost", clients[len(clients)-1].Address)
	}
	if out := s.must("unserved", "list"); !strings.Contains(out, "lost the records") {
		t.Errorf("who goes without, and why:\n%s", out)
	}
	for _, c := range clients {
		if err := c.Renew(ctx); err != nil {
			t.Errorf("%s does not renew %s: %v", c.Hardware, c.Address, err)
		}
	}
}

// A host that answers for every address takes a few, and is told as one trouble.
func TestProxyARP(t *testing.T) {
	t.Parallel()
	w := wire(t, "--pool", "10.77.0.100-10.77.0.140")
	liar := w.host("02:00:00:00:05:05")
	var all []string
	for n := 100; n <= 140; n++ {
		all = append(all, fmt.Sprintf("10.77.0.%d/24", n))
	}
	liar.addresses(all...)
	for n := range 6 {
		h := w.host(fmt.Sprintf("02:00:00:00:00:%02d", n+1))
		h.dhcp()
		h.event("bound")
	}
	abandoned := 0
	for _, l := range w.leases() {
		if l.Status == "abandoned" {
			abandoned++
		}
	}
	if abandoned > claimsBelieved {
		t.Errorf("%d addresses are abandoned because of one host", abandoned)
	}
	if f := w.findings()["host-claims-addresses hardware 02:00:00:00:05:05"]; f.Code == "" {
		t.Error("the host is not found")
	}
}

// claimsBelieved is how many addresses of a scope a host is believed to have.
const claimsBelieved = 3
