package relay

import (
	"errors"
	"net/netip"
	"testing"

	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
)

var us6 = &Agent6{Link: netip.MustParseAddr("2001:db8:9::1"), Interface: []byte("br1"), Remote: []byte("\x00\x00\x7e\xd9hall")}

func solicit(t *testing.T, of dhcp6.Type) []byte {
	t.Helper()
	m := dhcp6.Message{Type: of, Transaction: 0x123456, Options: dhcp6.Options{{Code: option.ClientID6,
		Data: []byte("\x00\x03\x00\x01\x02\x00\x00\x00\x00\x17")}}}
	b, _, err := m.AppendTo(nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// A client's message goes on with the link, whom it came from, and the interface; what comes back
// goes to whom it came from, whatever is between.
func TestForwardSix(t *testing.T) {
	peer := netip.MustParseAddrPort("[fe80::17%br1]:546")
	b := solicit(t, dhcp6.Solicit)
	out, err := us6.Forward(b, peer)
	if err != nil {
		t.Fatal(err)
	}
	var m dhcp6.Message
	if err := dhcp6.Decode(&m, out); err != nil || len(m.Relays) != 1 || m.Transaction != 0x123456 {
		t.Fatalf("%v: %+v", err, m)
	}
	r := m.Relays[0]
	id, _ := r.Options.Get(option.InterfaceID6)
	remote, _ := r.Options.Get(option.RemoteID6)
	if r.Link != us6.Link || r.Peer != netip.MustParseAddr("fe80::17") || r.Hops != 0 || string(id) != "br1" ||
		string(remote) != string(us6.Remote) {
		t.Errorf("it goes on as %+v", r)
	}
	again, err := us6.Forward(out, netip.MustParseAddrPort("[2001:db8:10::2]:547"))
	if err != nil || dhcp6.Decode(&m, again) != nil || len(m.Relays) != 2 || !m.Relays[0].Link.IsUnspecified() || m.Relays[0].Hops != 1 {
		t.Errorf("behind another relay: %v, %+v", err, m.Relays)
	}
	m.Type = dhcp6.Advertise
	back, _, err := m.AppendTo(nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	got, err := us6.Return(back)
	if err != nil || !got.Relay || got.Port != 0 || got.To != netip.MustParseAddr("2001:db8:10::2") {
		t.Fatalf("the outer relay gives %v, %+v", err, got)
	}
	if got, err = us6.Return(got.Data); err != nil || got.Relay || got.To != netip.MustParseAddr("fe80::17") ||
		dhcp6.Type(got.Data[0]) != dhcp6.Advertise {
		t.Errorf("the inner one gives %v, %+v", err, got)
	}
}

// A relay with a port of its own says that it has one, and keeps that of a relay nearer to the client,
// to which the reply goes back there (RFC 8357 sections 5.2 and 5.3).
func TestOwnPortSix(t *testing.T) {
	own := *us6
	own.OwnPort = true
	near, err := own.Forward(solicit(t, dhcp6.Solicit), netip.MustParseAddrPort("[fe80::17]:546"))
	if err != nil {
		t.Fatal(err)
	}
	far, err := us6.Forward(near, netip.MustParseAddrPort("[2001:db8:10::2]:4711"))
	if err != nil {
		t.Fatal(err)
	}
	var m dhcp6.Message
	if err := dhcp6.Decode(&m, far); err != nil || len(m.Relays) != 2 {
		t.Fatal(err)
	}
	for i, want := range []string{"\x12\x67", "\x00\x00"} {
		if got, ok := m.Relays[i].Options.Get(option.RelayPort6); !ok || string(got) != want {
			t.Errorf("relay %d says port %x, and not %x", i, got, want)
		}
	}
	m.Type = dhcp6.Advertise
	back, _, err := m.AppendTo(nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := us6.Return(back); err != nil || !got.Relay || got.Port != 4711 {
		t.Errorf("it goes back by %+v, %v", got, err)
	}
}

// What must not go on is dropped, with the reason; nothing that is cut short is read past its end.
func TestOddSix(t *testing.T) {
	peer := netip.MustParseAddrPort("[fe80::17]:546")
	for _, of := range []dhcp6.Type{dhcp6.Advertise, dhcp6.Reply, dhcp6.Reconfigure, dhcp6.RelayRepl} {
		if _, err := us6.Forward(solicit(t, of), peer); !errors.Is(err, ErrSpoofed) {
			t.Errorf("%s from a client: %v", of, err)
		}
	}
	b := solicit(t, dhcp6.Solicit)
	for n := range HopsMost6 + 1 {
		var err error
		if b, err = us6.Forward(b, peer); err != nil {
			t.Fatalf("hop %d: %v", n, err)
		}
	}
	if _, err := us6.Forward(b, peer); !errors.Is(err, ErrHops) {
		t.Errorf("one hop too many: %v", err)
	}
	out, _ := us6.Forward(solicit(t, dhcp6.Solicit), peer)
	out[0] = byte(dhcp6.RelayRepl)
	for n := range out {
		if _, err := us6.Return(out[:n]); err == nil {
			t.Errorf("%d of %d octets are enough", n, len(out))
		}
	}
	other := &Agent6{Link: netip.MustParseAddr("2001:db8:10::1"), Interface: []byte("br2")}
	if _, err := other.Return(out); !errors.Is(err, ErrNotOurs) {
		t.Errorf("another's reply: %v", err)
	}
}
