package e2e

import (
	"encoding/binary"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"time"

	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/service/trial"
)

// Clients that are told that they may register addresses that they made themselves: the lease table
// has them by name, over a restart, and nobody else is given one.
func TestRegistered6(t *testing.T) {
	t.Parallel()
	s := startService6(t)
	r := s.relay6("2001:db8:40:1::1")
	c := r.client(1)
	made := netip.MustParseAddr("2001:db8:40:1:5ca1:ab1e:0:1")
	if err := c.Register(t.Context(), made, time.Hour); err == nil {
		t.Fatal("a registration is taken that the plan does not ask for")
	}
	s.must("option", "set", "v6/addr-reg-enable=true")
	c.Wants = append(c.Wants, option.AddressReg6)
	reply, err := c.Inform(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, told := reply.Options.Get(option.AddressReg6); !told {
		t.Error("who asks is not told that it may register")
	}
	for _, a := range []string{made.String(), "2001:db8:40:1:feed::1", "2001:db8:40:1:feed::2"} {
		if err := c.Register(t.Context(), netip.MustParseAddr(a), time.Hour); err != nil {
			t.Fatal(err)
		}
	}
	r.behindAnother()
	if err := r.client(2).Register(t.Context(), netip.MustParseAddr("2001:db8:40:1:cafe::2"), time.Hour); err != nil {
		t.Errorf("through two relays: %v", err)
	}
	s.kill()
	s.start()
	for _, want := range []string{made.String(), "registered", "loom01", "2001:db8:40:1:cafe::2", "loom02"} {
		s.says([]string{want}, "lease", "list", "--status", "registered")
	}
	s.says([]string{"registered, made by its client", "nothing was leased", "DUID"}, "lease", "show", made.String())
	s.says([]string{made.String()}, "lease", "list", "00-03-00-01-"+strings.ReplaceAll(hw(1).String(), ":", "-"))
	s.says([]string{"registered"}, "lease", "history", made.String())
	s.says([]string{made.String(), "2001:db8:40:1:feed::2"}, "lease", "history", "0:3:0:1:"+hw(1).String())
	out, _, _ := s.cli("audit", "run")
	for _, want := range []string{" addresses-registered ", "2 hosts of scope offices6 made 4 addresses",
		"2 beside another of the same host"} {
		if !strings.Contains(out, want) {
			t.Errorf("the audit does not say %q:\n%s", want, out)
		}
	}
	if out, errs, _ := s.cli("lease", "end", "2001:db8:40:1:feed::1", "--dry-run"); !strings.Contains(out, "will register it again") {
		t.Errorf("of an end it says\n%s%s", out, errs)
	}
	if err := c.Register(t.Context(), made, 0); err != nil {
		t.Error(err)
	}
	if out := s.must("lease", "list", "--status", "registered"); strings.Contains(out, made.String()) {
		t.Errorf("what is not used any more is registered still:\n%s", out)
	}
}

// A host of the link registers by the multicast address of all servers, and is answered at the
// address that it registers.
func TestRegisteredOnTheLink(t *testing.T) {
	w := wire6(t, "--option", "v6/addr-reg-enable=true")
	h := w.host("02:00:00:00:06:31")
	sh(t, "ip", "-n", h.ns, "addr", "add", "2001:db8:40:1:5ca1:ab1e:0:1/64", "dev", "eth0", "nodad")
	made := netip.MustParseAddr("2001:db8:40:1:5ca1:ab1e:0:1")
	c := &trial.Client6{DUID: duid6(1)}
	m := c.Message(dhcp6.AddrRegInform)
	m.Options = m.Options[:1]
	data := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(made.AsSlice(), 1800), 3600)
	m.Options = append(m.Options, dhcp6.Option{Code: option.IAAddress, Data: data})
	b, _, err := m.AppendTo(nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	h.within(func() error {
		conn, err := net.ListenUDP("udp6", &net.UDPAddr{IP: made.AsSlice(), Port: 546})
		if err != nil {
			return err
		}
		defer conn.Close()
		at, err := net.InterfaceByName("eth0")
		if err != nil {
			return err
		}
		if _, err := conn.WriteTo(b, &net.UDPAddr{IP: net.ParseIP("ff02::1:2"), Port: 547, Zone: strconv.Itoa(at.Index)}); err != nil {
			return err
		}
		if err := conn.SetReadDeadline(time.Now().Add(5 * time.Second)); err != nil {
			return err
		}
		room := make([]byte, 1500)
		n, err := conn.Read(room)
		if err != nil {
			return err
		}
		var reply dhcp6.Message
		if err := dhcp6.Decode(&reply, room[:n]); err != nil || reply.Type != dhcp6.AddrRegReply || reply.Transaction != m.Transaction {
			t.Errorf("answered is %+v, %v", reply, err)
		}
		return nil
	})
	w.says([]string{made.String(), "registered"}, "lease", "list")
}
