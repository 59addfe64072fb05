package dhcp6

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"yarnpost/core/option"
	"yarnpost/core/request"
)

func octets(t *testing.T, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.NewReplacer(" ", "", "\n", "", "\t", "").Replace(text))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// solicit is a SOLICIT octet by octet: client identifier (a DUID-LL), option request (23, 24),
// elapsed time (1 s), IA_NA 1 without a hint, IA_PD 2 that would like a /56.
const solicit = `01 123456
	0001 000a 0003 0001 020000000017
	0006 0004 0017 0018
	0008 0002 0064
	0003 000c 00000001 00000000 00000000
	0019 0029 00000002 00000000 00000000
		001a 0019 00000000 00000000 38 00000000000000000000000000000000`

func TestDecode(t *testing.T) {
	var m Message
	if err := Decode(&m, octets(t, solicit)); err != nil {
		t.Fatal(err)
	}
	r := m.Request(request.Path{Interface: "eth0"})
	got := fmt.Sprint(m.Name(), " ", r.Kind, " ", fmt.Sprintf("%06x", r.Transaction), " ", r.Hardware, " ", r.Tried, " ", m.Wants(), " ",
		len(r.Wants), " ", r.Wants[0].Object, r.Wants[0].ID, r.Wants[0].Hints, " ", r.Wants[1].Object, r.Wants[1].ID, r.Wants[1].Hints)
	if want := "SOLICIT solicit 123456 02:00:00:00:00:17 1s [23 24] 2 0 1 [] 1 2 [::/56]"; got != want {
		t.Errorf("reads as %s\nwant     %s", got, want)
	}
}

// A message through two relays, a lightweight one next to the client (RFC 6221), comes back
// through both, with what they want back: interface, port of its own, what is asked for by an
// echo request (RFC 8415 section 19.3, RFC 8357, RFC 4994).
func TestRelayed(t *testing.T) {
	inner := octets(t, solicit)
	lightweight := append(octets(t, "0c 00 00000000000000000000000000000000 fe800000000000000000000000000017 0012 0004 67653031 0009"),
		append([]byte{byte(len(inner) >> 8), byte(len(inner))}, inner...)...)
	outer := append(octets(t, `0c 01 20010db8004000010000000000000001 fe80000000000000000000000000aaaa
		0026 0003 737562 002b 0002 0026 0087 0002 0000 004f 0008 0001 020000000099 0009`),
		append([]byte{byte(len(lightweight) >> 8), byte(len(lightweight))}, lightweight...)...)
	var m Message
	if err := Decode(&m, outer); err != nil {
		t.Fatal(err)
	}
	r := m.Request(request.Path{})
	got := fmt.Sprint(m.Name(), " ", len(m.Relays), " ", r.Relay, " ", string(r.Circuit), " ", string(r.Subscriber), " ", m.OwnPort())
	if want := "SOLICIT 2 2001:db8:40:1::1 ge01 sub true"; got != want {
		t.Errorf("reads as %s\nwant     %s", got, want)
	}
	reply := &Message{Type: Reply, Transaction: m.Transaction, Relays: m.Relays, Options: Options{{Code: option.ServerID6,
		Data: []byte("me!")}}}
	b, _, err := reply.AppendTo(nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	want := octets(t, `0d 01 20010db8004000010000000000000001 fe80000000000000000000000000aaaa
		0026 0003 737562 0087 0002 0000 0009 0039
			0d 00 00000000000000000000000000000000 fe800000000000000000000000000017
			0012 0004 67653031 0009 000b
				07 123456 0002 0003 6d6521`)
	if !bytes.Equal(b, want) {
		t.Errorf("goes back as %x\nwant         %x", b, want)
	}
	if _, _, err := reply.AppendTo(nil, 50); err == nil {
		t.Error("a reply longer than its limit is written")
	}
}

func TestReplyOctets(t *testing.T) {
	m := &Message{Type: Advertise, Transaction: 0x123456, IAs: []IA{
		{Code: option.IANA, ID: 1, T1: 14400, T2: 23040, Leases: []Lease{{Prefix: netip.MustParsePrefix("2001:db8::7/128"),
			Preferred: 28800,
			Valid:     43200}}},
		{Code: option.IAPD, ID: 2, Status: NoPrefixAvail, Message: "no"},
		{Code: option.IAPD, ID: 3, Leases: []Lease{{Prefix: netip.MustParsePrefix("2001:db8:8000::/48"), Preferred: 1, Valid: 2,
			Exclude: []byte{56, 0}}}},
	}}
	b, _, err := m.AppendTo(nil, 0)
	want := octets(t, `02 123456
		0003 0028 00000001 00003840 00005a00 0005 0018 20010db8000000000000000000000007 00007080 0000a8c0
		0019 0014 00000002 00000000 00000000 000d 0004 0006 6e6f
		0019 002f 00000003 00000000 00000000 001a 001f 00000001 00000002 30 20010db8800000000000000000000000 0043 0002 3800`)
	if err != nil || !bytes.Equal(b, want) {
		t.Errorf("written as %x, %v\nwant       %x", b, err, want)
	}
	var back Message
	if err := Decode(&back, b); err != nil || back.IAs[1].Status != NoPrefixAvail || back.IAs[0].Leases[0].Valid != 43200 {
		t.Errorf("reads back as %+v, %v", back.IAs, err)
	}
}

// A reply that waited promises so much less.
func TestAge(t *testing.T) {
	m := &Message{Type: Reply, IAs: []IA{{Code: option.IANA, T1: 50, T2: 80,
		Leases: []Lease{{Prefix: netip.MustParsePrefix("2001:db8::7/128"),
			Preferred: 100, Valid: 150}}}}, Relays: []Relay{{Link: netip.IPv6Unspecified(), Peer: netip.IPv6Unspecified()}}}
	b, _, _ := m.AppendTo(nil, 0)
	if !Age(b, 7) {
		t.Fatal("it is not worth sending")
	}
	var back Message
	if err := Decode(&back, b); err != nil {
		t.Fatal(err)
	}
	ia := back.IAs[0]
	if ia.T1 != 43 || ia.T2 != 73 || ia.Leases[0].Preferred != 93 || ia.Leases[0].Valid != 143 {
		t.Errorf("after 7 s it says %+v", ia)
	}
	if Age(b, 143) {
		t.Error("a reply is sent although nothing is left of its lease")
	}
	if Age([]byte{byte(Reply)}, 1) || Age([]byte{byte(RelayRepl), 0, 0, 0}, 1) {
		t.Error("what is no message is aged")
	}
}

// What is malformed is told by what is wrong, and by nothing else.
func TestMalformed(t *testing.T) {
	nested := octets(t, solicit)
	for range 10 {
		nested = append(octets(t, "0c 00 00000000000000000000000000000000 fe800000000000000000000000000017 0009"),
			append([]byte{byte(len(nested) >> 8), byte(len(nested))}, nested...)...)
	}
	for _, c := range []struct {
		b    []byte
		want error
	}{
		{nil, ErrShort}, {octets(t, "01 1234"), ErrShort}, {octets(t, "0c 00 00"), ErrShort},
		{octets(t, "01 123456 0001 00ff 00"), ErrOption}, {octets(t, "01 123456 0001"), ErrOption},
		{octets(t, "01 123456 0003 0004 00000001"), ErrIA},
		{octets(t, "01 123456 0003 0014 00000001 00000000 00000000 0005 0004 00000000"), ErrIA},
		{octets(t, "01 123456 0003 0010 00000001 00000000 00000000 0005 00ff"), ErrOption},
		{octets(t, "01 123456 0019 0029 00000002 00000000 00000000 001a 0019 00000000 00000000 81 00000000000000000000000000000000"),
			ErrIA},
		{octets(t, "0c 00 00000000000000000000000000000000 fe800000000000000000000000000017 0012 0001 41"), ErrShort},
		{nested, ErrRelays},
	} {
		if err := Decode(new(Message), c.b); !errors.Is(err, c.want) {
			t.Errorf("%x: %v, want %v", c.b[:min(len(c.b), 60)], err, c.want)
		}
	}
	most := octets(t, solicit)
	for range 9 {
		most = append(octets(t, "0c 00 00000000000000000000000000000000 fe800000000000000000000000000017 0009"),
			append([]byte{byte(len(most) >> 8), byte(len(most))}, most...)...)
	}
	if err := Decode(new(Message), most); err != nil {
		t.Errorf("nine relays: %v", err)
	}
}

func FuzzDecode(f *testing.F) {
	for _, seed := range []string{solicit, "0c 00 00000000000000000000000000000000 fe800000000000000000000000000017 0009 0004 01123456",
		"0b 000001 0006 0002 0017",
		"24 000001 0001 0003 000401 0005 0018 20010db8000000000000000000000017 00000010 00000020",
		"03 000001 0001 0003 000401 0002 0003 000401 0003 000c 00000001 00000000 00000000"} {
		b, _ := hex.DecodeString(strings.NewReplacer(" ", "", "\n", "", "\t", "").Replace(seed))
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		var m Message
		if Decode(&m, b) != nil {
			return
		}
		r := m.Request(request.Path{})
		_ = fmt.Sprint(m.Name(), m.Hostname(), m.FQDN(), m.Vendor(), m.ClassList(m.Classes()), m.Wants(), m.Enterprises(),
			r.First().Hints)
		reply := &Message{Type: Reply, Transaction: m.Transaction, Relays: m.Relays, IAs: m.IAs}
		out, _, err := reply.AppendTo(nil, 0)
		if err != nil {
			return
		}
		var back Message
		if err := Decode(&back, out); err != nil || len(back.IAs) != len(m.IAs) || len(back.Relays) != len(m.Relays) {
			t.Fatalf("%x came back as %x: %v", b, out, err)
		}
		Age(out, 10)
		n := m.Anew(request.Path{})
		if len(n.Wants) != len(r.Wants) && m.Type != AddrRegInform { // which asks for nothing
			t.Fatalf("asked anew for %d things, not %d", len(n.Wants), len(r.Wants))
		}
	})
}
