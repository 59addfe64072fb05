package option

import (
	"encoding/hex"
	"strings"
	"testing"
	"time"
)

func TestEncodeAndFormat(t *testing.T) {
	for _, c := range []struct{ name, text, hex, back string }{
		{"router", "10.0.0.1, 10.0.0.2", "0a0000010a000002", "10.0.0.1,10.0.0.2"},
		{"domain-name-server", "10.0.0.53", "0a000035", ""},
		{"6", "10.0.0.53", "0a000035", ""},
		{"hostname", "loom-17", "6c6f6f6d2d3137", ""},
		{"time-offset", "-3600", "fffff1f0", ""},
		{"mtu-interface", "1500", "05dc", ""},
		{"forward-on-off", "true", "01", ""},
		{"arp-timeout", "1h30m", "00001518", ""},
		{"policy-filter", "10.0.0.0 255.0.0.0,10.1.0.0 255.255.0.0", "0a000000ff0000000a010000ffff0000", ""},
		{"domain-search", "eng.apple.com,marketing.apple.com", "03656e67056170706c6503636f6d00096d61726b6574696e67c004", ""},
		{"option-v4-lost", "lost.mill.example", "046c6f7374046d696c6c076578616d706c6500", ""},
		{"classless-static-route-option", "0.0.0.0/0 10.0.0.1,10.17.0.0/16 10.0.0.2,10.27.129.128/25 10.0.0.3",
			"000a000001" + "100a110a000002" + "190a1b81800a000003", ""},
		{"sip-servers-dhcp-option", "10.0.0.5,10.0.0.6", "010a0000050a000006", ""},
		{"sip-servers-dhcp-option", "a.example,b.example", "00016107" + "6578616d706c6500" + "0162c002", ""},
		{"rapid-commit", "true", "", ""},
		{"directory-agent", "true 10.0.0.9", "010a000009", ""},
		{"client-ndi", "1 2 1", "010201", ""},
		{"vendor-specific", "01:04:0a:00:00:01", "01040a000001", ""},
		{"router", "hex:0a00", "0a00", ""},
		{"hostname", "hex:6c6f6f6d", "6c6f6f6d", "loom"},
		{"240", "de:ad", "dead", ""},
	} {
		d, err := Standard4.Lookup(c.name)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		b, err := d.Type.Encode(c.text)
		if err != nil || hex.EncodeToString(b) != c.hex {
			t.Errorf("%s %q: %x, %v; want %s", c.name, c.text, b, err, c.hex)
			continue
		}
		want := c.back
		if want == "" {
			want = c.text
		}
		if got := d.Type.Format(b); got != want {
			t.Errorf("%s back: %q, want %q", c.name, got, want)
		}
	}
}

func TestEncodeRefusals(t *testing.T) {
	for _, c := range []struct{ name, text, hint string }{
		{"router", "gateway", "not an IPv4 address"},
		{"router", "", "empty value"},
		{"mtu-interface", "70000", "from 0 to 65535"},
		{"forward-on-off", "maybe", "neither true nor false"},
		{"arp-timeout", "1500ms", "whole seconds"},
		{"policy-filter", "10.0.0.0", "1 of 2 fields"},
		{"domain-search", "a..b", "label"},
		{"domain-search", strings.Repeat("abcdefgh.", 40), "at most 255"},
		{"121", "10.0.0.1/8 10.0.0.1", "host bits"},
		{"vendor-specific", "zz", "not hexadecimal"},
	} {
		d, err := Standard4.Lookup(c.name)
		if err != nil {
			t.Fatal(err)
		}
		if b, err := d.Type.Encode(c.text); err == nil || !strings.Contains(err.Error(), c.hint) {
			t.Errorf("%s %q: %x, %v; want an error with %q", c.name, c.text, b, err, c.hint)
		}
	}
	if _, err := Standard4.Lookup("domain-name-servers"); err == nil || !strings.Contains(err.Error(), "domain-name-server") {
		t.Errorf("a near miss is not helped: %v", err)
	}
	if _, err := Standard4.Lookup("255"); err == nil {
		t.Error("code 255 was accepted")
	}
}

// Every registered example must survive the way to octets and back.
func TestExamplesRoundTrip(t *testing.T) {
	seen := map[string]uint16{}
	for _, d := range Standard4.All() {
		if other, dup := seen[d.Name()]; dup {
			t.Errorf("%s names both %d and %d", d.Name(), other, d.Code)
		}
		seen[d.Name()] = d.Code
		text := d.Type.Example()
		b, err := d.Type.Encode(text)
		if err != nil {
			t.Errorf("%d %s: example %q: %v", d.Code, d.Name(), text, err)
			continue
		}
		again, err := d.Type.Encode(d.Type.Format(b))
		if err != nil || string(again) != string(b) {
			t.Errorf("%d %s: %x came back as %x, %v", d.Code, d.Name(), b, again, err)
		}
	}
}

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{"3600": time.Hour, "8h": 8 * time.Hour, "7d": 168 * time.Hour, "1d12h": 36 * time.Hour,
		"infinite": Infinite, "90s": 90 * time.Second} {
		got, err := ParseDuration(text)
		if err != nil || got != want {
			t.Errorf("ParseDuration(%q) = %v, %v", text, got, err)
		}
		if back, _ := ParseDuration(FormatDuration(got)); back != got {
			t.Errorf("FormatDuration(%v) = %q", got, FormatDuration(got))
		}
	}
	for _, text := range []string{"", "-1h", "h", "1.5s", "200y", "99999999999"} {
		if d, err := ParseDuration(text); err == nil {
			t.Errorf("ParseDuration(%q) = %v", text, d)
		}
	}
	if Seconds(Infinite) != 0xffffffff || FromSeconds(0xffffffff) != Infinite {
		t.Error("infinity does not travel as all ones")
	}
}

// What a network sends never panics, and what Format says can be encoded to
// the very same octets.
func FuzzFormat(f *testing.F) {
	f.Add(uint8(119), []byte("\x03eng\x05apple\x03com\x00\x09marketing\xc0\x04"))
	f.Add(uint8(119), []byte{0xc0, 0x00})
	f.Add(uint8(121), []byte{24, 10, 0, 0, 10, 0, 0, 1})
	f.Add(uint8(120), []byte{1, 10, 0, 0, 5})
	f.Add(uint8(12), []byte("name\x00"))
	f.Fuzz(func(t *testing.T, code uint8, b []byte) {
		d := Standard4.ByCode(uint16(code))
		text := d.Type.Format(b)
		again, err := d.Type.Encode(text)
		if err != nil {
			t.Fatalf("%d: Format(%x) = %q, which Encode refuses: %v", code, b, text, err)
		}
		if d.Type.Format(again) != text {
			t.Fatalf("%d: %x -> %q -> %x -> %q", code, b, text, again, d.Type.Format(again))
		}
	})
}
