package addr

import (
	"net/netip"
	"strings"
	"testing"
)

func TestParseRange(t *testing.T) {
	for _, c := range []struct {
		in, out string
		size    uint64
	}{
		{"10.0.0.5-10.0.0.9", "10.0.0.5-10.0.0.9", 5},
		{" 10.0.0.5 - 10.0.0.5 ", "10.0.0.5", 1},
		{"10.0.0.0/28", "10.0.0.0-10.0.0.15", 16},
		{"10.0.0.7", "10.0.0.7", 1},
		{"0.0.0.0/0", "0.0.0.0-255.255.255.255", 1 << 32},
		{"2001:db8::/64", "2001:db8::/64", ^uint64(0)},
		{"2001:db8::1-2001:db8::2", "2001:db8::1-2001:db8::2", 2},
		{"2001:db8::ffff:ffff:ffff:ffff-2001:db8:0:1::", "2001:db8::ffff:ffff:ffff:ffff-2001:db8:0:1::", 2},
	} {
		r, err := ParseRange(c.in)
		if err != nil || r.String() != c.out || r.Size() != c.size {
			t.Errorf("ParseRange(%q) = %v (%d), %v; want %s (%d)", c.in, r, r.Size(), err, c.out, c.size)
		}
	}
	for in, hint := range map[string]string{
		"10.0.0.9-10.0.0.5": "runs backwards", "10.0.0.1-::1": "mixes", "ten": "not an IP address",
		"10.0.0.1/24": "host bits", "10.0.0.0/33": "not a subnet", "fe80::1%eth0": "not an IP address",
	} {
		if _, err := ParseRange(in); err == nil || !strings.Contains(err.Error(), hint) {
			t.Errorf("ParseRange(%q): error %v, want one with %q", in, err, hint)
		}
	}
}

func TestParseSubnetWithMask(t *testing.T) {
	for _, in := range []string{"10.40.2.0/255.255.255.192", "10.40.2.0 255.255.255.192", "10.40.2.0/26"} {
		if p, err := ParseSubnet(in); err != nil || p.String() != "10.40.2.0/26" || Mask(p).String() != "255.255.255.192" {
			t.Errorf("ParseSubnet(%q) = %v, %v", in, p, err)
		}
	}
	for _, in := range []string{"10.0.0.0/255.0.255.0", "10.0.0.0", "10.0.0.0/255.255.255.256"} {
		if _, err := ParseSubnet(in); err == nil {
			t.Errorf("ParseSubnet(%q) was accepted", in)
		}
	}
}

func TestSubtract(t *testing.T) {
	parse := func(list ...string) (out []Range) {
		for _, s := range list {
			r, err := ParseRange(s)
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, r)
		}
		return out
	}
	got := Subtract(parse("10.0.0.10-10.0.0.20", "10.0.0.18-10.0.0.30"), parse("10.0.0.12", "10.0.0.25-10.0.0.99"))
	want := parse("10.0.0.10-10.0.0.11", "10.0.0.13-10.0.0.24")
	if len(got) != 2 || got[0] != want[0] || got[1] != want[1] || Total(got) != 14 {
		t.Fatalf("got %v, want %v", got, want)
	}
	for a, in := range map[string]bool{"10.0.0.9": false, "10.0.0.10": true, "10.0.0.12": false, "10.0.0.24": true, "10.0.0.25": false} {
		if In(got, netip.MustParseAddr(a)) != in {
			t.Errorf("In(%s) = %v", a, !in)
		}
	}
}

func TestHardwareWritings(t *testing.T) {
	for _, in := range []string{"02:00:5E:00:00:17", "02-00-5e-00-00-17", "0200.5e00.0017", "02005e000017", " 02:00:5e:00:00:17 "} {
		if h, err := ParseHardware(in); err != nil || h.String() != "02:00:5e:00:00:17" {
			t.Errorf("ParseHardware(%q) = %v, %v", in, h, err)
		}
	}
	for _, in := range []string{"02:00:00:00:00", "02:00:00:00:00:0g", "", "0200000000170"} {
		if h, err := ParseHardware(in); err == nil {
			t.Errorf("ParseHardware(%q) = %v, want an error", in, h)
		}
	}
}
