package httpd

import (
	"testing"

	"yarnpost/core/lease"
)

// One host is known by its hardware address, or by the DUID that it sends in both families.
func TestSameHost(t *testing.T) {
	const duid = "\x00\x04sixteen-octets-.."
	v6 := &lease.Lease{Client: lease.Client{Kind: lease.Addresses, Number: 7, ID: duid}}
	for name, c := range map[string]struct {
		a, b *lease.Lease
		want bool
	}{
		"hardware": {&lease.Lease{Hardware: "\x02\x00\x00\x00\x00\x01"}, &lease.Lease{Hardware: "\x02\x00\x00\x00\x00\x01"},
			true},
		"other hardware": {&lease.Lease{Hardware: "\x02\x00\x00\x00\x00\x01"}, &lease.Lease{Hardware: "\x02\x00\x00\x00\x00\x02"},
			false},
		"nothing known":      {&lease.Lease{}, &lease.Lease{}, false},
		"prefix of the DUID": {v6, &lease.Lease{Client: lease.Client{Kind: lease.Prefixes, Number: 8, ID: duid}}, true},
		"registered":         {v6, &lease.Lease{Client: lease.Client{Kind: lease.Registered, ID: duid}}, true},
		"DUID in IPv4":       {v6, &lease.Lease{Client: lease.ByIdentifier([]byte("\xff\x00\x00\x00\x09" + duid))}, true},
		"another identifier": {v6, &lease.Lease{Client: lease.ByIdentifier([]byte("\x00" + duid))}, false},
		"short identifier": {&lease.Lease{Client: lease.ByIdentifier([]byte("\xff\x00"))},
			&lease.Lease{Client: lease.ByIdentifier([]byte("\xff\x00"))}, false},
	} {
		if sameHost(c.a, c.b) != c.want || sameHost(c.b, c.a) != c.want {
			t.Errorf("%s: one host is %v", name, !c.want)
		}
	}
}
