package option

import (
	"encoding/hex"
	"errors"
	"net/netip"
	"strings"
	"testing"
)

// Types as people define them in codebooks of their own.
func TestOwnTypes(t *testing.T) {
	for _, c := range []struct{ shape, text, hex string }{
		{"address", "10.0.0.1", "0a000001"},
		{"address list", "10.0.0.1,10.0.0.2", "0a0000010a000002"},
		{"u8 u16 u32", "1 2 3", "01000200000003"},
		{"i8 i16 i32", "-1 -2 -3", "fffffefffffffd"},
		{"u8 text", "7 two words", "0774776f20776f726473"},
		{"bool duration", "true 8h", "0100007080"},
		{"u8 address list", "1 10.0.0.1,2 10.0.0.2", "010a000001020a000002"},
		{"bool address more", "true 10.0.0.1,10.0.0.2", "010a0000010a000002"},
		{"counted list", "staff,it", "057374616666026974"},
		{"counted", "0x00ff", "0200ff"},
		{"u32 counted list", "9 hub,32473 lamp", "0000000903687562" + "00007ed9046c616d70"},
		{"name", "mill.example", "046d696c6c076578616d706c6500"},
		{"names", "mill.example,loom.mill.example", "046d696c6c076578616d706c6500046c6f6f6dc000"},
		{"bytes", "0a:0b", "0a0b"},
		{"route list", "10.50.0.0/16 10.0.0.1", "100a320a000001"},
		{"empty", "true", ""},
	} {
		typ, err := ParseType(c.shape)
		if err != nil || typ.String() != c.shape {
			t.Errorf("%s: %v, %v", c.shape, typ, err)
			continue
		}
		b, err := typ.Encode(c.text)
		if err != nil || hex.EncodeToString(b) != c.hex {
			t.Errorf("%s %q: %x, %v; want %s", c.shape, c.text, b, err, c.hex)
		}
		if back := typ.Format(b); back != c.text {
			t.Errorf("%s back: %q, want %q", c.shape, back, c.text)
		}
	}
	for shape, says := range map[string]string{"": "a type is needed", "adress": "is not a type", "text u8": "can only stand last",
		"text list": "can only stand last", "empty u8": "can only stand last"} {
		if _, err := ParseType(shape); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("type %q: %v, want %q", shape, err, says)
		}
	}
	for shape, text := range map[string]string{"i8": "200", "i16": "-40000", "counted": "", "u8 u8": "1",
		"bool address more": "true 10.0.0.1,gate"} {
		typ, _ := ParseType(shape)
		if b, err := typ.Encode(text); err == nil {
			t.Errorf("%s takes %q as %x", shape, text, b)
		}
	}
}

func TestResolve(t *testing.T) {
	resolve := func(host string) (netip.Addr, error) {
		if host == "ntp.mill.example" {
			return netip.MustParseAddr("10.0.0.42"), nil
		}
		return netip.Addr{}, errors.New("no such host")
	}
	for _, c := range []struct{ shape, text, want string }{
		{"address list", "ntp.mill.example, 10.0.0.1", "10.0.0.42,10.0.0.1"},
		{"address", "10.0.0.999", "10.0.0.999"}, // a slip, not a name
		{"u8 address more", "1 ntp.mill.example,ntp.mill.example", "1 10.0.0.42,10.0.0.42"},
		{"text", "ntp.mill.example", "ntp.mill.example"},
		{"address", "hex:0a000001", "hex:0a000001"},
	} {
		typ, _ := ParseType(c.shape)
		if got, err := typ.Resolve(c.text, resolve); got != c.want || err != nil {
			t.Errorf("%s %q: %q, %v; want %q", c.shape, c.text, got, err, c.want)
		}
	}
	typ, _ := ParseType("address")
	if _, err := typ.Resolve("gone.mill.example", resolve); err == nil {
		t.Error("a name that cannot be resolved is taken")
	}
}

func TestKeys(t *testing.T) {
	for _, k := range []Key{Std(3), {Book: "accesspoint", Code: 241}, {Book: HeaderBook, Code: BootFile}, Std6(23), {V6, "vendor", 4000}} {
		b, _ := k.MarshalText()
		var back Key
		if err := back.UnmarshalText(b); err != nil || back != k {
			t.Errorf("%s comes back as %v, %v", b, back, err)
		}
	}
	var k Key
	for _, text := range []string{"", "x", "book/", "300", "book/-1"} {
		if k.UnmarshalText([]byte(text)) == nil {
			t.Errorf("%q is taken as %v", text, k)
		}
	}
}

// Whatever type somebody defines and whatever octets come, nothing panics, and
// what Format writes Encode reads to the same octets.
func FuzzOwnType(f *testing.F) {
	f.Add("u8 counted list", []byte("\x01\x03abc"))
	f.Add("bool address more", []byte("\x01\x0a\x00\x00\x01"))
	f.Fuzz(func(t *testing.T, shape string, b []byte) {
		typ, err := ParseType(shape)
		if err != nil {
			return
		}
		text := typ.Format(b)
		if back, err := typ.Encode(text); len(b) > 0 && (err != nil || !strings.HasPrefix(text, RawPrefix) && typ.Format(back) != text) {
			t.Errorf("%s %x: %q, back %x, %v", shape, b, text, back, err)
		}
	})
}
