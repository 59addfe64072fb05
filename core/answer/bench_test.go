package answer

import (
	"net/netip"
	"testing"

	"yarnpost/core/dhcp4"
)

// BenchmarkDiscover is the way of a DISCOVER through the core: parse, decide,
// encode.
func BenchmarkDiscover(b *testing.B) {
	w := newWorld(b, "10.77.0.0/16", "10.77.1.0-10.77.250.255")
	packet, _, err := dhcp4.Append(nil, w.message(dhcp4.Discover, 1), 0)
	if err != nil {
		b.Fatal(err)
	}
	var m dhcp4.Message
	var d Decider
	out := make([]byte, 0, 600)
	b.ReportAllocs()
	for b.Loop() {
		if err := dhcp4.Decode(&m, packet); err != nil {
			b.Fatal(err)
		}
		got := d.Decide(Request{Message: &m, Relay: dhcp4.ParseRelay(nil), Server: netip.MustParseAddr("10.77.0.1"), Unicast: true}, w.world())
		if got.Outcome != Offered {
			b.Fatal(got.Outcome, got.Why)
		}
		if out, _, err = dhcp4.Append(out[:0], got.Reply, got.Limit); err != nil {
			b.Fatal(err)
		}
	}
}
