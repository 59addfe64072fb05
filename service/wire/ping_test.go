package wire

import (
	"net/netip"
	"testing"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
)

// Only the host that was asked can answer: a reply that others make up says nothing,
// whatever identifier and number it has, and so does a true one from elsewhere.
func TestForgedEchoReplies(t *testing.T) {
	p := &Pinger{of: echoes4, id: 77, secret: [32]byte{1, 2, 3}}
	asked, other := netip.MustParseAddr("10.77.0.9"), netip.MustParseAddr("10.77.0.10")
	reply := func(kind ipv4.ICMPType, id, seq int, data []byte) []byte {
		b, err := (&icmp.Message{Type: kind, Body: &icmp.Echo{ID: id, Seq: seq, Data: data}}).Marshal(nil)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	good := p.payload(asked, 5)
	if !p.answers(asked, reply(ipv4.ICMPTypeEchoReply, 77, 5, good)) {
		t.Error("the true answer does not count")
	}
	for name, b := range map[string][]byte{
		"another number":     reply(ipv4.ICMPTypeEchoReply, 77, 6, good),
		"another identifier": reply(ipv4.ICMPTypeEchoReply, 78, 5, good),
		"a request":          reply(ipv4.ICMPTypeEcho, 77, 5, good),
		"no payload":         reply(ipv4.ICMPTypeEchoReply, 77, 5, nil),
		"the old payload":    reply(ipv4.ICMPTypeEchoReply, 77, 5, []byte("yarnpost")),
		"more than was sent": reply(ipv4.ICMPTypeEchoReply, 77, 5, append(good[:len(good):len(good)], 0)),
		"nothing":            nil,
	} {
		if p.answers(asked, b) {
			t.Errorf("%s counts as an answer", name)
		}
	}
	if p.answers(other, reply(ipv4.ICMPTypeEchoReply, 77, 5, good)) {
		t.Error("an answer counts for another address than was asked")
	}
}
