package e2e

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// clauses are what the standards ask of a server, one check each. The numbers of
// clients keep the checks apart.
var clauses = []struct {
	name  string
	check func(*conformity)
}{
	{"offer-fields", func(c *conformity) { // RFC 2131 section 4.3.1, table 3
		a := c.client(1, 1, looms, o(55, 1, 3, 6, 51))
		a.flags, a.secs = 0x8000, 9
		r := c.send(a)
		c.is("op, htype, hlen, hops", r.raw[:4], []byte{2, 1, 6, 0})
		c.is("secs", r.raw[8:10], []byte{0, 0})
		c.is("flags", r.raw[10:12], []byte{0x80, 0})
		c.is("ciaddr", r.field(12), make([]byte, 4))
		c.is("siaddr", r.field(20), make([]byte, 4))
		c.is("giaddr", r.field(24), ip("127.0.0.9"))
		c.is("chaddr", r.raw[28:44], join(a.chaddr, make([]byte, 10)))
		c.is("type", r.kind(), 2)
		c.is("server identifier", r.options[54], ip("127.0.0.1"))
		c.is("lease time", secondsOf(r.options[51]), 3600)
		c.is("T1", secondsOf(r.options[58]), 1800)
		c.is("T2", secondsOf(r.options[59]), 3150)
		for _, never := range []byte{50, 55, 57} {
			if _, there := r.options[never]; there {
				c.t.Errorf("the OFFER has option %d, which only clients send", never)
			}
		}
	}},
	{"parameter-order", func(c *conformity) { // RFC 2132 section 9.8
		r := c.send(c.client(1, 2, looms, o(55, 42, 15, 6, 3, 1)))
		var got []byte
		for _, code := range r.codes {
			if slices.Contains([]byte{42, 15, 6, 3}, code) {
				got = append(got, code)
			}
		}
		c.is("order", got, []byte{42, 15, 6, 3})
		if slices.Index(r.codes, 1) > slices.Index(r.codes, 3) { // RFC 2132 section 3.3
			c.t.Error("the mask comes after the routers")
		}
		if _, there := r.options[26]; there {
			c.t.Error("option 26 is sent although it was not asked for")
		}
		all := c.send(c.client(1, 2, looms))
		if _, there := all.options[26]; !there {
			c.t.Error("without a list option 26 is not sent")
		}
	}},
	{"lease-time-asked", func(c *conformity) { // RFC 2131 section 3.5, 4.3.1
		c.is("a shorter time", secondsOf(c.send(c.client(1, 3, looms, o(51, 0, 0, 2, 88))).options[51]), 600)
		c.is("a longer time", secondsOf(c.send(c.client(1, 3, looms, o(51, 0xff, 0xff, 0xff, 0xff))).options[51]), 3600)
	}},
	{"requested-address", func(c *conformity) { // RFC 2131 section 4.3.1
		c.is("a free address that is asked for", c.send(c.client(1, 4, looms, oa(50, "10.77.0.140"))).yiaddr(), "10.77.0.140")
		c.is("the address it had", c.lease(5, looms), c.lease(5, looms))
	}},
	{"other-server", func(c *conformity) { // RFC 2131 section 3.1.4
		offer := c.send(c.client(1, 6, looms))
		c.silence("a client that chose another server", c.client(3, 6, looms, oa(50, offer.yiaddr()), oa(54, "10.9.9.9")))
		c.is("what was offered to it goes to the next", c.send(c.client(1, 7, looms)).yiaddr(), offer.yiaddr())
	}},
	{"selecting", func(c *conformity) { // RFC 2131 section 4.3.2
		offer := c.send(c.client(1, 8, looms, o(55, 1, 3)))
		r := c.send(c.client(3, 8, looms, oa(50, offer.yiaddr()), opt{54, offer.options[54]}, o(55, 1, 3)))
		c.is("type", r.kind(), 5)
		c.is("yiaddr", r.yiaddr(), offer.yiaddr())
		c.is("router", r.options[3], ip(looms))
	}},
	{"init-reboot", func(c *conformity) { // RFC 2131 section 4.3.2
		had := c.lease(9, looms)
		c.is("of the right address", c.send(c.client(3, 9, looms, oa(50, had))).kind(), 5)
		wrong := c.send(c.client(3, 9, looms, oa(50, "192.0.2.7")))
		c.is("of another network", wrong.kind(), 6)
		c.silence("a reboot without a record", c.client(3, 10, looms, oa(50, "10.77.0.149")))
		c.is("without a record, where the scope is authoritative", c.send(c.client(3, 10, sure, oa(50, "10.78.0.149"))).kind(), 6)
	}},
	{"renewing-rebinding", func(c *conformity) { // RFC 2131 section 4.3.2, 4.4.5
		had := c.lease(11, looms)
		a := c.client(3, 11, looms)
		a.ciaddr = had
		r := c.send(a)
		c.is("type", r.kind(), 5)
		c.is("ciaddr", r.field(12), ip(had))
		c.is("yiaddr", r.yiaddr(), had)
		if left := secondsOf(r.options[51]); left > 3600 || left < 3590 {
			c.t.Errorf("an early renewal promises %d s", left)
		}
		b := c.client(3, 12, looms) // another client claims the address
		b.ciaddr = had
		c.is("an address of another client", c.send(b).kind(), 6)
	}},
	{"nak-fields", func(c *conformity) { // RFC 2131 table 3, section 4.3.2
		a := c.client(3, 13, looms, oa(50, "192.0.2.7"), o(55, 1, 3, 6), o(61, 1, 2, 3))
		r := c.send(a)
		c.is("type", r.kind(), 6)
		c.is("ciaddr, yiaddr, siaddr", r.raw[12:24], make([]byte, 12))
		c.is("flags through a relay", r.raw[10:12], []byte{0x80, 0})
		for _, code := range r.codes {
			if !slices.Contains([]byte{53, 54, 56, 61, 82}, code) {
				c.t.Errorf("the NAK has option %d", code)
			}
		}
	}},
	{"decline", func(c *conformity) { // RFC 2131 section 4.3.3
		had := c.lease(14, looms)
		c.silence("a DECLINE", c.client(4, 14, looms, oa(50, had), oa(54, "127.0.0.1")))
		c.is("status", c.leases()[had].Status, "abandoned")
		if next := c.lease(14, looms); next == had {
			c.t.Errorf("the declined address %s was given again", had)
		}
	}},
	{"release", func(c *conformity) { // RFC 2131 section 4.3.4
		had := c.lease(15, looms)
		a := c.client(7, 15, looms, oa(54, "127.0.0.1"))
		a.ciaddr = had
		c.silence("a RELEASE", a)
		c.await(func() bool { return c.leases()[had].Status == "released" }, "the release")
		c.is("the same client again", c.lease(15, looms), had)
		b := c.client(7, 16, looms, oa(54, "127.0.0.1"))
		b.ciaddr = had
		c.silence("a stranger's RELEASE", b)
		c.is("after a stranger's RELEASE", c.leases()[had].Status, "active")
	}},
	{"inform", func(c *conformity) { // RFC 2131 section 4.3.5
		a := c.client(8, 17, looms, o(55, 1, 3, 6, 51, 58, 59))
		a.ciaddr = "10.77.0.33"
		r := c.send(a)
		c.is("type", r.kind(), 5)
		c.is("yiaddr", r.yiaddr(), "0.0.0.0")
		c.is("DNS", r.options[6], join(ip("10.40.0.5"), ip("10.40.0.6")))
		for _, never := range []byte{51, 58, 59} {
			if _, there := r.options[never]; there {
				c.t.Errorf("the ACK to an INFORM has option %d", never)
			}
		}
		if _, there := c.leases()["10.77.0.33"]; there {
			c.t.Error("an INFORM made a lease")
		}
	}},
	{"client-identifier", func(c *conformity) { // RFC 2131 section 4.2, RFC 4361, RFC 6842
		duid := o(61, 0xff, 0, 0, 0, 1, 0, 1, 0, 1, 9, 9, 9, 9, 2, 0xcc, 0, 0, 0, 18)
		r := c.send(c.client(1, 18, looms, duid))
		c.is("echoed in the OFFER", r.options[61], duid.data)
		one, two := c.lease(18, looms, duid), c.lease(18, looms, o(61, 0, 'x', 'y'))
		if one == two {
			c.t.Errorf("two identifiers on one hardware address share %s", one)
		}
		c.is("another hardware address with the identifier", c.lease(19, looms, duid), one)
	}},
	{"hardware-identity", func(c *conformity) { // per scope: hardware address alone
		c.is("two identifiers on one hardware address", c.lease(20, hwonly, o(61, 0, 'x')), c.lease(20, hwonly, o(61, 0, 'y')))
	}},
	{"reservations", func(c *conformity) {
		c.is("by hardware address, whatever the identifier", c.lease(0x63, looms, o(61, 0, 'p', 'x', 'e')), "10.77.0.60")
		c.is("by hardware address, another identifier", c.lease(0x63, looms, o(61, 0, 'o', 's')), "10.77.0.60")
		c.is("by client identifier", c.lease(21, looms, ot(61, "\x00loom")), "10.77.0.61")
		plug := func(n int) *asking {
			a := c.client(1, n, looms)
			a.relay = sub(1, []byte("sw7/0/1")...)
			return a
		}
		c.is("by circuit", c.send(plug(22)).yiaddr(), "10.77.0.62")
		take := plug(22)
		take.options = []opt{o(53, 3), oa(50, "10.77.0.62"), oa(54, "127.0.0.1")}
		c.is("by circuit, taken", c.send(take).kind(), 5)
		c.is("by circuit, the next device", c.send(plug(23)).yiaddr(), "10.77.0.62")
		if r := c.send(c.client(1, 24, looms, oa(50, "10.77.0.60"))); r.yiaddr() == "10.77.0.60" {
			c.t.Error("a reserved address was offered to another client")
		}
	}},
	{"overload-in", func(c *conformity) { // RFC 2131 section 4.1, RFC 3396
		a := c.client(1, 25, looms, o(52, 3), ot(12, "half-a"))
		a.file = join([]byte{12, 6}, []byte("-name!"), []byte{50, 4}, ip("10.77.0.141"), []byte{255})
		a.sname = join([]byte{60, 4}, []byte("acme"), []byte{255})
		c.is("the address asked for in file", c.send(a).yiaddr(), "10.77.0.141")
		c.lease(25, looms, o(52, 1))
	}},
	{"long-options", func(c *conformity) { // RFC 3396; RFC 2131 section 4.1; RFC 2132 section 9.3, 9.10
		r := c.send(c.client(1, 26, long, o(55, 162, 3, 6), opt{57, num(1500)}))
		c.is("a value of 300 octets", r.options[162], bytes.Repeat([]byte{0xab}, 300))
		if len(r.raw) > 1472 {
			c.t.Errorf("%d octets are too many", len(r.raw))
		}
		small := c.send(c.client(1, 26, long, o(55, 3, 6, 17, 113, 14), opt{57, num(576)}))
		if len(small.raw) > 548 {
			c.t.Errorf("%d octets are more than the client takes", len(small.raw))
		}
		if small.one(52) == 0 {
			c.t.Error("what does not fit the options field is not in file or sname")
		}
		for code, n := range map[byte]int{17: 120, 113: 100, 14: 50} {
			if len(small.options[code]) != n {
				c.t.Errorf("option %d has %d octets, want %d", code, len(small.options[code]), n)
			}
		}
		tiny := c.send(c.client(1, 26, long, o(55, 3, 6, 162))) // no option 57: 576 octets
		if len(tiny.raw) > 548 {
			c.t.Errorf("without option 57 the reply has %d octets", len(tiny.raw))
		}
	}},
	{"relay-echo", func(c *conformity) { // RFC 3046 section 2.2, RFC 3993, RFC 4243
		a := c.client(1, 27, looms, o(55, 1, 3))
		a.relay = join(sub(1, []byte("eth0/7")...), sub(2, 9, 9), sub(6, []byte("sub-4711")...), sub(9, 0, 0, 0x7e, 0xd9, 3, 'a', 'b', 'c'),
			sub(200, 1, 2, 3))
		r := c.send(a)
		c.is("the last option", r.codes[len(r.codes)-1], 82)
		c.is("option 82", r.options[82], join(sub(5, ip(looms)...), a.relay, sub(19)))
		c.lease(27, looms)
	}},
	{"link-selection", func(c *conformity) { // RFC 3527
		if got := c.send(c.client(1, 28, sure)).yiaddr(); !strings.HasPrefix(got, "10.78.0.") {
			c.t.Errorf("link selection of %s gives %s", sure, got)
		}
	}},
	{"subnet-selection", func(c *conformity) { // RFC 3011
		r := c.send(c.client(1, 29, "", oa(118, "10.78.0.0")))
		if !strings.HasPrefix(r.yiaddr(), "10.78.0.") {
			c.t.Errorf("subnet selection gives %s", r.yiaddr())
		}
		c.is("option 118 in the reply", r.options[118], ip("10.78.0.0"))
		if other := c.send(c.client(1, 29, "", oa(118, "10.80.0.0"))); !strings.HasPrefix(other.yiaddr(), "10.77.0.") {
			c.t.Errorf("a link that does not allow it is selected: %s", other.yiaddr())
		}
		both := c.send(c.client(1, 29, looms, oa(118, "10.78.0.0")))
		if !strings.HasPrefix(both.yiaddr(), "10.77.0.") {
			c.t.Errorf("the relay's link selection does not come first: %s", both.yiaddr())
		}
	}},
	{"server-override", func(c *conformity) { // RFC 5107, RFC 5010
		a := c.client(1, 30, looms)
		a.relay = sub(11, ip("10.77.0.1")...)
		offer := c.send(a)
		c.is("server identifier", offer.options[54], ip("10.77.0.1"))
		b := c.client(3, 30, looms, oa(50, offer.yiaddr()), oa(54, "10.77.0.1"))
		b.relay = a.relay
		c.is("a REQUEST that names it", c.send(b).kind(), 5)
		n := c.client(3, 31, looms) // unicast through the relay: renewing, so no record means NAK
		n.ciaddr, n.relay = "10.77.0.148", join(a.relay, sub(10, 0x80))
		c.is("a renewal without a record, sent to the relay", c.send(n).kind(), 6)
		n = c.client(3, 31, looms)
		n.ciaddr, n.relay = "10.77.0.148", a.relay
		c.silence("a rebinding without a record", n)
	}},
	{"virtual-net", func(c *conformity) { // RFC 6607
		a := c.client(1, 32, looms, o(221, 255))
		a.relay = join(sub(151, 255), sub(152))
		r := c.send(a)
		c.is("option 82 of the global network, understood", r.options[82], join(sub(5, ip(looms)...), sub(151, 255), sub(19)))
		c.is("option 221", r.options[221], []byte{255})
		b := c.client(1, 32, looms, o(221, 1, 0, 0, 9, 0, 0, 0, 7))
		b.relay = join(sub(151, 1, 0, 0, 9, 0, 0, 0, 7), sub(152))
		r = c.send(b)
		c.is("option 82 of another network, not understood", r.options[82], join(sub(5, ip(looms)...), b.relay, sub(19)))
		if _, there := r.options[221]; there {
			c.t.Error("option 221 of another network is answered")
		}
	}},
	{"rapid-commit", func(c *conformity) { // RFC 4039
		r := c.send(c.client(1, 33, sure, o(80)))
		c.is("type", r.kind(), 5)
		if b, there := r.options[80]; !there || len(b) != 0 {
			c.t.Errorf("option 80 is %x", b)
		}
		c.is("status", c.leases()[r.yiaddr()].Status, "active")
		c.is("where it is not allowed", c.send(c.client(1, 33, looms, o(80))).kind(), 2)
	}},
	{"fqdn", func(c *conformity) { // RFC 4702 section 4
		name := []byte("\x04loom\x04mill\x07example\x00")
		r := c.send(c.client(1, 34, looms, opt{81, join([]byte{5, 0, 0}, name)}))
		c.is("option 81", r.options[81], join([]byte{4 | 8 | 2, 255, 255}, name))
		had := c.lease(34, looms, opt{81, join([]byte{5, 0, 0}, name)})
		c.is("host name on record", c.leases()[had].Hostname, "loom.mill.example")
	}},
	{"vendor-class", func(c *conformity) { // RFC 2132 sections 8.4 and 9.13
		r := c.send(c.client(1, 35, looms, ot(60, "accesspoint 9"), o(55, 1, 43)))
		c.is("option 43", r.options[43], sub(241, ip("10.40.0.31")...))
		if r := c.send(c.client(1, 36, looms, ot(60, "camera"), o(55, 1, 43))); r.options[43] != nil {
			c.t.Errorf("another vendor gets option 43 %x", r.options[43])
		}
	}},
	{"vendor-enterprise", func(c *conformity) { // RFC 3925
		block := join([]byte{0, 0, 0x7e, 0xd9, 8}, sub(7, []byte("indigo")...))
		r := c.send(c.client(1, 37, looms, opt{124, join([]byte{0, 0, 0x7e, 0xd9, 3}, []byte("hub"))}, o(55, 1)))
		c.is("option 125", r.options[125], block)
		if r := c.send(c.client(1, 38, looms, opt{124, join([]byte{0, 0, 0, 9, 3}, []byte("hub"))}, o(55, 1))); r.options[125] != nil {
			c.t.Errorf("another enterprise gets option 125 %x", r.options[125])
		}
	}},
	{"user-class", func(c *conformity) { // RFC 3004
		c.is("lease time by rule", secondsOf(c.send(c.client(1, 39, looms, ot(77, "\x05staff\x02it"))).options[51]), 600)
		c.is("lease time of others", secondsOf(c.send(c.client(1, 40, looms, ot(77, "\x05guest"))).options[51]), 3600)
	}},
	{"architecture", func(c *conformity) { // RFC 4578
		r := c.send(c.client(1, 41, looms, o(93, 0, 7), o(94, 1, 3, 16), o(97, append([]byte{0}, make([]byte, 16)...)...)))
		c.is("boot file", string(bytes.TrimRight(r.raw[108:236], "\x00")), "x64.efi")
		other := c.send(c.client(1, 41, looms, o(93, 0, 0)))
		c.is("boot file of another architecture", string(bytes.TrimRight(other.raw[108:236], "\x00")), "")
	}},
	{"typed-options", func(c *conformity) { // RFC 3397, 3442, 4833, 5223, 5417, 5859, 8910, 2610, 3361
		r := c.send(c.client(1, 42, looms, o(55, 119, 121, 100, 101, 150, 114, 138, 137, 120, 78, 2, 26, 19, 224), opt{57, num(1400)}))
		for code, want := range map[byte]string{
			119: "\x04mill\x07example\x00\x04loom\xc0\x00", 121: "\x10\x0a\x32\x0a\x4d\x00\x02\x00\x0a\x4d\x00\x01",
			100: "GMT0BST,M3.5.0/1,M10.5.0", 101: "Europe/London", 150: "\x0a\x28\x00\x15\x0a\x28\x00\x16", 114: "https://welcome.mill.example/api",
			138: "\x0a\x28\x00\x1f", 137: "\x04lost\x04mill\x07example\x00", 120: "\x01\x0a\x28\x00\x09", 78: "\x01\x0a\x28\x00\x08\x0a\x28\x00\x07",
			2: "\xff\xff\xf1\xf0", 26: "\x05\x78", 19: "\x00", 224: "http://plan.mill.example",
		} {
			if string(r.options[code]) != want {
				c.t.Errorf("option %d is %x, want %x", code, r.options[code], want)
			}
		}
	}},
	{"ipv6-only", func(c *conformity) { // RFC 8925 section 3.3
		r := c.send(c.client(1, 43, v6only, o(55, 1, 3, 108)))
		c.is("yiaddr", r.yiaddr(), "0.0.0.0")
		c.is("time to do without", secondsOf(r.options[108]), 1800)
		other := c.send(c.client(1, 44, v6only, o(55, 1, 3)))
		if other.yiaddr() == "0.0.0.0" || other.options[108] != nil {
			c.t.Errorf("a client that needs IPv4 gets %s, option 108 %x", other.yiaddr(), other.options[108])
		}
	}},
	{"auto-configure", func(c *conformity) { // RFC 2563
		r := c.send(c.client(1, 45, closed, o(116, 1)))
		c.is("yiaddr", r.yiaddr(), "0.0.0.0")
		c.is("option 116", r.options[116], []byte{0})
		c.silence("a client that does not ask", c.client(1, 45, closed))
	}},
	{"bootp", func(c *conformity) { // RFC 951, 1534, 1542
		a := c.client(0, 46, boot, o(12, 'o', 'l', 'd'))
		r := c.send(a)
		c.is("size", len(r.raw), 300)
		c.is("next server", r.field(20), ip("10.40.0.21"))
		c.is("server name", string(bytes.TrimRight(r.raw[44:108], "\x00")), "bobbin")
		c.is("boot file", string(bytes.TrimRight(r.raw[108:236], "\x00")), "loom.bin")
		for _, never := range []byte{51, 52, 53, 54, 58, 59} {
			if _, there := r.options[never]; there {
				c.t.Errorf("the BOOTP reply has option %d", never)
			}
		}
		l := c.leases()[r.yiaddr()]
		if l.Status != "active" || l.Expires != nil {
			c.t.Errorf("the BOOTP lease is %s and expires %v", l.Status, l.Expires)
		}
		c.is("again", c.send(c.client(0, 46, boot)).yiaddr(), r.yiaddr())
		c.is("reserved", c.send(c.client(0, 0x63, looms)).yiaddr(), "10.77.0.60")
		c.silence("BOOTP from the pool of a scope that reserves for it", c.client(0, 47, looms))
		c.silence("BOOTP where it is ignored", c.client(0, 48, plain))
	}},
	{"rules-turn-away", func(c *conformity) {
		c.silence("an ignored client", c.client(1, 0x0e01, looms))
		c.silence("an ignored client's REQUEST", c.client(3, 0x0e01, looms, oa(50, "192.0.2.7")))
		c.silence("a refused client's DISCOVER", c.client(1, 0x0d01, looms))
		c.is("a refused client's REQUEST", c.send(c.client(3, 0x0d01, looms, oa(50, "10.77.0.120"))).kind(), 6)
		out := c.must("unserved", "list", "02:cc:00:00:0d:01")
		if !strings.Contains(out, "turned away by rule readers") {
			c.t.Errorf("unserved list:\n%s", out)
		}
	}},
	{"not-for-servers", func(c *conformity) { // replies, and messages of other servers
		for _, kind := range []byte{2, 5, 6, 9, 10, 13, 18, 77} {
			c.silence(fmt.Sprintf("a message of type %d", kind), c.client(kind, 49, looms))
		}
		a := c.client(1, 49, looms)
		a.op = 2
		c.silence("a reply", a)
	}},
	{"malformed", func(c *conformity) {
		whole := c.client(1, 50, looms, ot(12, "loom")).octets()
		for n := 0; n < len(whole); n += 7 { // cut anywhere
			c.conn.WriteTo(whole[:n], c.to())
		}
		for _, bad := range [][]byte{
			join(whole[:2], []byte{17}, whole[3:]),               // hlen beyond chaddr
			join(whole[:240], []byte{53, 1, 1, 52, 1, 9, 255}),   // bad overload
			join(whole[:240], []byte{53, 0, 255}),                // type without a value
			join(whole[:240], []byte{53, 1, 1, 82, 200, 1, 255}), // runs past the end
			bytes.Repeat([]byte{0xff}, 1400), make([]byte, 1400),
		} {
			c.conn.WriteTo(bad, c.to())
		}
		c.lease(50, looms) // and it serves on
		metrics := c.metrics()
		for _, reason := range []string{"malformed-short", "malformed-hardware-length", "malformed-overload", "malformed-message-type",
			"malformed-option-length"} {
			if !strings.Contains(metrics, `yarnpost_dropped_total{reason="`+reason+`"}`) {
				c.t.Errorf("/metrics does not count %s", reason)
			}
		}
	}},
}
