package dhcp4

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"net/netip"
	"reflect"
	"strings"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// discover is a DISCOVER as a small embedded client sends it: broadcast bit
// clear, client identifier, requested address, parameter list, vendor class.
var discover = unhex(
	"01010600 3903f326 0000 0000 00000000 00000000 00000000 00000000" + // to giaddr
		"0200000000170000 0000000000000000" + strings.Repeat("00", 192) + "63825363" +
		"350101" + "3d0701020000000017" + "32040a4d0064" + "37070103060c0f1c2a" + "3c0975646863702d312e33" + "ff")

func unhex(s string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	if err != nil {
		panic(err)
	}
	return b
}

func TestDecodeDiscover(t *testing.T) {
	var m Message
	if err := Decode(&m, discover); err != nil {
		t.Fatal(err)
	}
	if m.Type != Discover || m.XID != 0x3903f326 || m.CHAddr.String() != "02:00:00:00:00:17" || m.Op != BootRequest || m.Broadcast() {
		t.Errorf("header read as %+v", m)
	}
	if a, ok := m.Options.Addr(50); !ok || a != netip.MustParseAddr("10.77.0.100") {
		t.Errorf("requested address %v", a)
	}
	if prl, _ := m.Options.Get(55); !bytes.Equal(prl, []byte{1, 3, 6, 12, 15, 28, 42}) {
		t.Errorf("parameter list %v", prl)
	}
	if vc, _ := m.Options.Get(60); string(vc) != "udhcp-1.3" {
		t.Errorf("vendor class %q", vc)
	}
}

// A datagram cut anywhere is decoded or refused, never a panic, and a cut
// inside an option is always refused.
func TestDecodeTruncated(t *testing.T) {
	var m Message
	for n := range len(discover) {
		err := Decode(&m, discover[:n])
		switch {
		case n < headerSize && !errors.Is(err, ErrShort):
			t.Fatalf("%d octets: %v, want ErrShort", n, err)
		case n == optionsAt+4 && !errors.Is(err, ErrOption):
			t.Fatalf("%d octets: %v, want ErrOption", n, err)
		}
	}
}

func TestDecodeRefusals(t *testing.T) {
	change := func(at int, b ...byte) []byte { // from octet at on
		return append(bytes.Clone(discover[:at]), append(b, discover[at+len(b):]...)...)
	}
	options := func(b ...byte) []byte { return append(bytes.Clone(discover[:optionsAt]), append(b, 255)...) }
	for name, c := range map[string]struct {
		in   []byte
		want error
	}{
		"hlen 17":    {change(2, 17), ErrHardware},
		"type empty": {options(53, 0), ErrType},
		"type zero":  {options(53, 1, 0), ErrType},
		"overload 4": {options(52, 1, 4), ErrOverload},
		"overload 0": {options(52, 1, 0), ErrOverload},
	} {
		var m Message
		if err := Decode(&m, c.in); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
}

func TestOverloadIn(t *testing.T) {
	d := bytes.Clone(discover[:optionsAt])
	d = append(d, 53, 1, 1, 52, 1, 3, 119, 2, 3, 'a', 255)
	copy(d[fileAt:], []byte{119, 3, 'b', 'c', 0, 12, 2, 'h', 'i', 255, 77})
	copy(d[snameAt:], []byte{15, 4, 'm', 'i', 'l', 'l', 255})
	var m Message
	if err := Decode(&m, d); err != nil {
		t.Fatal(err)
	}
	for code, want := range map[uint8]string{119: "\x03abc\x00", 12: "hi", 15: "mill"} {
		if got, _ := m.Options.Get(code); string(got) != want {
			t.Errorf("option %d is %q, want %q", code, got, want)
		}
	}
	if _, ok := m.Options.Get(52); ok || m.File != nil || m.SName != nil {
		t.Error("overload left its traces in the message")
	}
}

func reply(options ...Option) *Message {
	return &Message{Op: BootReply, HType: 1, XID: 7, CHAddr: addr.Hardware("\x02\x00\x00\x00\x00\x17"),
		CIAddr: netip.IPv4Unspecified(), SIAddr: netip.IPv4Unspecified(), GIAddr: netip.MustParseAddr("10.0.0.2"),
		YIAddr: netip.MustParseAddr("10.77.0.100"), Options: options}
}

func TestAppendRoundTrip(t *testing.T) {
	long := bytes.Repeat([]byte("0123456789"), 30) // 300 octets: must be split
	relay := []byte{1, 4, 'e', 't', 'h', '0'}
	for name, c := range map[string]struct {
		in       *Message
		limit    int
		overload bool
		omitted  []uint8
	}{
		"small":          {reply(Option{53, []byte{5}}, Option{82, relay}, Option{3, []byte{10, 0, 0, 1}}), 0, false, nil},
		"split":          {reply(Option{53, []byte{5}}, Option{43, long}), 1400, false, nil},
		"into file":      {reply(Option{53, []byte{5}}, Option{43, long[:250]}, Option{15, long[:90]}, Option{82, relay}), 0, true, nil},
		"large one last": {reply(Option{53, []byte{5}}, Option{14, long[:100]}, Option{15, long[:60]}, Option{17, long[:200]}), 0, true, nil},
		"file, sname":    {reply(Option{53, []byte{5}}, Option{43, long[:250]}, Option{15, long[:120]}, Option{12, long[:55]}), 0, true, nil},
		"too much": {reply(Option{53, []byte{5}}, Option{43, long[:250]}, Option{15, long}, Option{6, []byte{10, 0, 0, 1}}), 0, false,
			[]uint8{15}},
	} {
		b, omitted, err := Append(nil, c.in, c.limit)
		if err != nil || !reflect.DeepEqual(omitted, c.omitted) {
			t.Errorf("%s: omitted %v, %v", name, omitted, err)
			continue
		}
		if len(b) < 300 || len(b) > max(c.limit, MinMax) {
			t.Errorf("%s: %d octets", name, len(b))
		}
		var m Message
		if err := Decode(&m, b); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		overloaded := m.File == nil
		if overloaded != c.overload {
			t.Errorf("%s: overload %v, want %v", name, overloaded, c.overload)
		}
		for _, o := range c.in.Options {
			got, ok := m.Options.Get(o.Code)
			if want := !bytes.Contains(c.omitted, []byte{o.Code}); ok != want || ok && !bytes.Equal(got, o.Data) {
				t.Errorf("%s: option %d came back as %x", name, o.Code, got)
			}
		}
		if at := bytes.LastIndex(b, append([]byte{82, byte(len(relay))}, relay...)); at >= 0 && b[at+2+len(relay)] != 255 {
			t.Errorf("%s: option 82 is not the last in the options field", name)
		}
		if m.YIAddr != c.in.YIAddr || m.GIAddr != c.in.GIAddr || m.CHAddr != c.in.CHAddr {
			t.Errorf("%s: header came back as %+v", name, m)
		}
	}
}

func TestAppendRefusals(t *testing.T) {
	m := reply()
	m.File = make([]byte, 129)
	if _, _, err := Append(nil, m, 0); err == nil {
		t.Error("a boot file of 129 octets was accepted")
	}
	if _, _, err := Append(nil, reply(Option{82, make([]byte, 400)}), 0); err == nil {
		t.Error("an option 82 that no client message can hold was accepted")
	}
}

func TestParseRelay(t *testing.T) {
	r := ParseRelay(unhex("0104 65746830" + "0203 aabbcc" + "0504 0a4d0000" + "0b04 0a4d0001" + "1300" + "09ff"))
	if string(r.Circuit) != "eth0" || !bytes.Equal(r.Remote, []byte{0xaa, 0xbb, 0xcc}) || !r.SourcePort ||
		r.Link.String() != "10.77.0.0" || r.ServerID.String() != "10.77.0.1" {
		t.Errorf("got %+v", r)
	}
}

// Whatever comes in, decoding neither panics nor loses what encoding it again
// could carry.
func FuzzDecode(f *testing.F) {
	f.Add(discover)
	b, _, _ := Append(nil, reply(Option{53, []byte{5}}, Option{43, make([]byte, 250)}, Option{15, make([]byte, 90)}), 0)
	f.Add(b)
	f.Add(discover[:headerSize])
	f.Fuzz(func(t *testing.T, b []byte) {
		var m, back Message
		if Decode(&m, b) != nil {
			return
		}
		out, omitted, err := Append(nil, &m, MaxMax)
		if err != nil || len(omitted) > 0 {
			return
		}
		if err := Decode(&back, out); err != nil {
			t.Fatalf("cannot read what was written: %v", err)
		}
		if len(m.Options) != len(back.Options) || m.XID != back.XID || m.CHAddr != back.CHAddr {
			t.Fatalf("%+v came back as %+v", m, back)
		}
	})
}

func BenchmarkDecode(b *testing.B) {
	var m Message
	b.ReportAllocs()
	for b.Loop() {
		if err := Decode(&m, discover); err != nil {
			b.Fatal(err)
		}
	}
}

// A reply that waited promises so much less, whatever else it says.
func TestAge(t *testing.T) {
	times := func(lease, renew uint32) []byte {
		none := netip.IPv4Unspecified()
		m := Message{Op: BootReply, Type: Ack, CIAddr: none, YIAddr: netip.MustParseAddr("10.0.0.9"), SIAddr: none, GIAddr: none,
			Options: Options{{53, []byte{5}}, {12, []byte("a\x33\x04host")}, {51, binary.BigEndian.AppendUint32(nil, lease)},
				{58, binary.BigEndian.AppendUint32(nil, renew)}}}
		b, _, err := Append(nil, &m, MinMax)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	for _, c := range []struct{ lease, renew, by, leaseLeft, renewLeft uint32 }{
		{3600, 1800, 30, 3570, 1770}, {3600, 20, 30, 3570, 0}, {1<<32 - 1, 1<<32 - 1, 30, 1<<32 - 1, 1<<32 - 1},
	} {
		b := times(c.lease, c.renew)
		if want := times(c.leaseLeft, c.renewLeft); !Age(b, c.by) || !bytes.Equal(b, want) {
			t.Errorf("%+v: % x\nis not % x", c, b[optionsAt:], want[optionsAt:])
		}
	}
	if Age(times(30, 15), 30) {
		t.Error("something is left of a lease that is over")
	}
	for n := range len(times(60, 30)) { // cut anywhere, it is left alone
		Age(times(60, 30)[:n], 5)
	}
}

// A long identifier is echoed beside a long option 82, split over the fields that the
// reply leaves empty.
func TestLongIdentifierIsEchoed(t *testing.T) {
	id, relay := bytes.Repeat([]byte{7}, 200), bytes.Repeat([]byte{1, 1, 9}, 60)
	zero := netip.IPv4Unspecified()
	m := &Message{Op: BootReply, HType: 1, CIAddr: zero, YIAddr: zero, SIAddr: zero, GIAddr: zero, CHAddr: "\x02\x00\x00\x00\x00\x01"}
	m.Options = Options{{option.MessageType, []byte{5}}, {option.ServerID, []byte{10, 0, 0, 1}}, {option.SubnetMask, []byte{255, 255, 255, 0}},
		{option.Router, []byte{10, 0, 0, 1}}, {option.ClientID, id}, {option.RelayAgent, relay}}
	b, omitted, err := Append(nil, m, MinMax)
	if err != nil || len(omitted) > 0 {
		t.Fatalf("%v are left out, %v", omitted, err)
	}
	var back Message
	if err := Decode(&back, b); err != nil {
		t.Fatal(err)
	}
	if got, _ := back.Options.Get(option.ClientID); !bytes.Equal(got, id) {
		t.Errorf("the identifier comes back as %d octets: %x", len(got), got)
	}
	if got, _ := back.Options.Get(option.RelayAgent); !bytes.Equal(got, relay) || len(b) > MinMax {
		t.Errorf("option 82 comes back as %d octets, in a message of %d", len(got), len(b))
	}
	m.File = []byte("boot/loom") // with less room it is left out, and the rest is whole
	if _, omitted, err := Append(nil, m, MinMax); err != nil || !bytes.Equal(omitted, []byte{option.ClientID}) {
		t.Errorf("beside a boot file %v are left out, %v", omitted, err)
	}
}
