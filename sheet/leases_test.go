package sheet

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"
)

var morning = time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)

// What is written is read back, and what spreadsheets make of it, too.
func TestLeases(t *testing.T) {
	list := []Lease{
		{Line: 2, Key: netip.MustParsePrefix("10.77.0.100/32"), Hardware: "\x02\x00\x00\x00\x00\x17",
			Identifier: "\x01\x02\x00\x00\x00\x00\x17",
			Hostname:   "=crane", Vendor: "crane 2", Scope: "looms", Status: "active", Since: morning.Add(-time.Hour),
			Expires: morning.Add(time.Hour)},
		{Line: 3, Key: netip.MustParsePrefix("10.77.0.101/32"), Hardware: "\x02\x00\x00\x00\x00\x18", Endless: true},
		{Line: 4, Key: netip.MustParsePrefix("2001:db8:77:8100::/56"), DUID: "\x00\x03\x00\x01\x02\x00\x00\x00\x00\x19",
			IAID: "\x00\x00\x00\x02", Endless: true},
	}
	text := WriteLeases(list)
	back, faults := ReadLeases(text, morning, time.UTC)
	if len(faults) > 0 || !slices.Equal(back, list) {
		t.Errorf("%s\ncomes back as %+v, %v", text, back, faults)
	}
	if strings.Contains(string(text), ",=crane") {
		t.Errorf("a spreadsheet would execute it:\n%s", text)
	}
	if _, faults := ReadLeases(LeaseTemplate(), morning, time.UTC); len(faults) > 0 {
		t.Errorf("the template: %v", faults)
	}
	read := func(text string) (Lease, []Fault) {
		l, faults := ReadLeases([]byte(text), morning, time.FixedZone("", 3600))
		if len(l) != 1 {
			return Lease{}, faults
		}
		return l[0], faults
	}
	for text, want := range map[string]time.Time{
		"2h": morning.Add(2 * time.Hour), "2026-12-01 10:00": morning.Add(time.Hour), "01.12.2026 10:00": morning.Add(time.Hour),
		"2026-12-01T10:00:00Z": morning.Add(2 * time.Hour), "": {},
	} {
		l, faults := read("\ufeffHardware;Expires;Address\r\n0200.0000.0017;" + text + ";10.77.0.100\r\n")
		if len(faults) > 0 || !l.Expires.Equal(want) || l.Hardware.String() != "02:00:00:00:00:17" {
			t.Errorf("expires %q: %+v, %v", text, l, faults)
		}
	}
}

// Every line that is wrong is told, and then there are no leases.
func TestFaultsOfLeases(t *testing.T) {
	for text, says := range map[string]string{
		"":                       "the sheet is empty",
		"hardware,expires\n":     "none called address",
		"address,colour\n":       `no column "colour"`,
		"address,address\n":      "stands here twice",
		"address\n10.77.0.300\n": "line 2, column address",
		"address\n10.77.0.100\n": "nobody knows whose it is",
		"address,hardware\n10.77.0.100,02:00:00:00:00:17\n10.77.0.100,02:00:00:00:00:18\n":              "line 3, column address: 10.77.0.100 is in line 2, too",
		"address,hardware,expires\n10.77.0.100,02:00:00:00:00:17,soon\n":                                `"soon" is no time`,
		"address,duid\n2001:db8::1,00:03:00:01:02:00:00:00:00:17\n":                                     "known by duid and iaid",
		"address,hardware\n2001:db8::1,02:00:00:00:00:17\n":                                             "known by duid and iaid",
		"address,duid,iaid\n10.77.0.1,00:03:00:01:02:00:00:00:00:17,1\n":                                "clients of IPv4 have no DUID",
		"address,hardware\n10.77.0.0/24,02:00:00:00:00:17\n":                                            "is a subnet, and no address",
		"address,duid,iaid\n2001:db8::1,00,1\n":                                                         "column duid",
		"address,hardware\n10.77.0.100,02:00\n":                                                         "column hardware",
		"address,hardware\n,02:00:00:00:00:17\n":                                                        "it has no address",
		"address,hardware\n10.77.0.100,02:00:00:00:00:17,extra\n":                                       "no name above",
		"address,hardware,hostname\n10.77.0.100,02:00:00:00:00:17,\"a\nb\"\n":                           "column hostname",
		"address,hardware\n10.77.0.1,02:00:00:00:00:17\n10.77.0.2,nobody\n10.77.0.3,02:00:00:00:00:1\n": "line 4",
	} {
		list, faults := ReadLeases([]byte(text), morning, time.UTC)
		var all []string
		for _, f := range faults {
			all = append(all, f.String())
		}
		if list != nil || !strings.Contains(strings.Join(all, "\n"), says) {
			t.Errorf("%q: %d leases, faults %q", text, len(list), all)
		}
	}
	if l, faults := ReadLeases([]byte("address,status\n10.77.0.100,expired\n"), morning, time.UTC); len(faults) > 0 || len(l) != 1 {
		t.Errorf("one that is over needs no client: %v", faults)
	}
}
