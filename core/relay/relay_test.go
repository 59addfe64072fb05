package relay

import (
	"bytes"
	"errors"
	"net/netip"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
)

var us = &Agent{Address: netip.MustParseAddr("10.9.0.1"), Circuit: []byte("eth1"), Remote: []byte("hall"), SourcePort: true}

func message(t testing.TB, op byte, change func(*dhcp4.Message)) []byte {
	t.Helper()
	zero := netip.IPv4Unspecified()
	m := &dhcp4.Message{Op: op, HType: 1, XID: 9, CIAddr: zero, YIAddr: zero, SIAddr: zero, GIAddr: zero,
		CHAddr:  addr.Hardware("\x02\x00\x00\x00\x00\x17"),
		Options: dhcp4.Options{{Code: option.MessageType, Data: []byte{1}}, {Code: option.Hostname, Data: []byte("loom")}}}
	change(m)
	b, _, err := dhcp4.Append(nil, m, 0)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestForward(t *testing.T) {
	b := message(t, dhcp4.BootRequest, func(*dhcp4.Message) {})
	before := bytes.Clone(b)
	out, err := us.Forward(b)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(b, before) {
		t.Error("the client's own octets were changed")
	}
	var m dhcp4.Message
	if err := dhcp4.Decode(&m, out); err != nil {
		t.Fatal(err)
	}
	last := m.Options[len(m.Options)-1]
	r := dhcp4.ParseRelay(last.Data)
	if m.Hops != 1 || m.GIAddr != us.Address || last.Code != option.RelayAgent || string(r.Circuit) != "eth1" || string(r.Remote) != "hall" ||
		!r.SourcePort || m.Text(option.Hostname) != "loom" {
		t.Errorf("forwarded as %+v, relay %+v", m, r)
	}
	// The next relay only adds a hop.
	far := &Agent{Address: netip.MustParseAddr("10.8.0.1"), Circuit: []byte("x")}
	again, err := far.Forward(out)
	if err != nil || again[hopsAt] != 2 || !bytes.Equal(again[hopsAt+1:], out[hopsAt+1:]) {
		t.Errorf("the second relay changed more than the hops: %v", err)
	}
}

func TestForwardRefuses(t *testing.T) {
	for what, c := range map[string]struct {
		change func(*dhcp4.Message)
		want   error
	}{
		"too many hops": {func(m *dhcp4.Message) { m.Hops = 16 }, ErrHops},
		"a client with option 82": {func(m *dhcp4.Message) {
			m.Options = append(m.Options, dhcp4.Option{Code: option.RelayAgent, Data: []byte{1, 1, 'x'}})
		}, ErrSpoofed},
		"our own address": {func(m *dhcp4.Message) { m.GIAddr = us.Address }, ErrSpoofed},
		"a reply":         {func(m *dhcp4.Message) { m.Op = dhcp4.BootReply }, ErrMalformed},
	} {
		if _, err := us.Forward(message(t, dhcp4.BootRequest, c.change)); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", what, err, c.want)
		}
	}
	few := &Agent{Address: us.Address, Hops: 1}
	if _, err := few.Forward(message(t, dhcp4.BootRequest, func(m *dhcp4.Message) { m.Hops = 1 })); !errors.Is(err, ErrHops) {
		t.Errorf("a limit of one hop: %v", err)
	}
	b := message(t, dhcp4.BootRequest, func(*dhcp4.Message) {})
	for n := range len(b) { // cut anywhere, it is refused or forwarded, never worse
		if out, err := us.Forward(b[:n]); err == nil && n < options {
			t.Errorf("%d octets became %d", n, len(out))
		}
	}
}

func TestReturn(t *testing.T) {
	reply := func(change func(*dhcp4.Message)) []byte {
		return message(t, dhcp4.BootReply, func(m *dhcp4.Message) {
			m.GIAddr, m.YIAddr = us.Address, netip.MustParseAddr("10.9.0.50")
			m.Options = append(m.Options, dhcp4.Option{Code: option.RelayAgent, Data: us.option82()})
			change(m)
		})
	}
	r, err := us.Return(reply(func(*dhcp4.Message) {}))
	if err != nil || r.Broadcast || r.To.String() != "10.9.0.50" || r.Hardware.String() != "02:00:00:00:00:17" {
		t.Errorf("to a client without an address: %+v, %v", r, err)
	}
	var m dhcp4.Message
	if err := dhcp4.Decode(&m, r.Data); err != nil {
		t.Fatal(err)
	}
	if _, there := m.Options.Get(option.RelayAgent); there || m.Text(option.Hostname) != "loom" {
		t.Errorf("the client gets %+v", m.Options)
	}
	if r, err = us.Return(reply(func(m *dhcp4.Message) { m.Flags = dhcp4.BroadcastFlag })); err != nil || !r.Broadcast {
		t.Errorf("with the broadcast flag: %+v, %v", r, err)
	}
	if r, err = us.Return(reply(func(m *dhcp4.Message) { m.CIAddr = m.YIAddr })); err != nil || r.Broadcast || r.Hardware != "" ||
		r.To.String() != "10.9.0.50" {
		t.Errorf("to a client that has its address: %+v, %v", r, err)
	}
	if r, err = us.Return(reply(func(m *dhcp4.Message) { m.YIAddr = netip.IPv4Unspecified() })); err != nil || !r.Broadcast {
		t.Errorf("a refusal: %+v, %v", r, err)
	}
	if _, err = us.Return(reply(func(m *dhcp4.Message) { m.GIAddr = netip.MustParseAddr("10.9.0.2") })); !errors.Is(err, ErrNotOurs) {
		t.Errorf("for another relay: %v", err)
	}
}

func FuzzRelay(f *testing.F) {
	f.Add(message(f, dhcp4.BootRequest, func(*dhcp4.Message) {}))
	f.Add(message(f, dhcp4.BootReply, func(m *dhcp4.Message) { m.GIAddr = us.Address }))
	f.Fuzz(func(t *testing.T, b []byte) {
		if out, err := us.Forward(b); err == nil && len(out) > len(b)+64+least {
			t.Errorf("%d octets became %d", len(b), len(out))
		}
		us.Return(b)
	})
}
