package main

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/core/request"
)

// dialect is how clients of one family speak, in templates in which a few octets differ from
// client to client.
type dialect interface {
	// message appends the slot's next message; its transaction tells slot and turn.
	message(buf []byte, i int, s *slot) []byte
	// reply reads the slot and the turn of a reply; ok is false for what is none.
	reply(b []byte) (i int, turn uint8, ok bool)
	// given reads what a reply gives, and by which server; ok is false if it gives nothing.
	given(b []byte) (a [16]byte, server [4]byte, ok bool)
}

// dialect4 speaks DHCPv4.
type dialect4 struct {
	ask, take, renew         []byte // DISCOVER, REQUEST, REQUEST of a client that has its address
	id, name, wanted, server int    // places in them
}

func newDialect4() (*dialect4, error) {
	zero := netip.IPv4Unspecified()
	relay := append([]byte{dhcp4.SubCircuit, 7}, "sw1/0/1"...)
	relay = append(relay, dhcp4.SubLink, 4, 10, 0, 0, 1, dhcp4.SubSourcePort, 0)
	var bad error
	template := func(t dhcp4.Type, extra ...dhcp4.Option) []byte {
		m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, Hops: 1, CIAddr: zero, YIAddr: zero, SIAddr: zero,
			GIAddr: netip.AddrFrom4([4]byte{127, 0, 0, 1}),
			CHAddr: addr.Hardware("\x02\x00\x00\x00\x00\x00")}
		m.Options = append(dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(t)}},
			{Code: option.ClientID, Data: []byte("\x01\x02\x00\x00\x00\x00\x00")},
			{Code: option.Hostname, Data: []byte("bench-00000000")}, {Code: option.ClassID, Data: []byte("bench")},
			{Code: option.ParameterList, Data: []byte{1, 3, 6, 15, 42, 51, 58, 59}}}, extra...)
		m.Options = append(m.Options, dhcp4.Option{Code: option.RelayAgent, Data: relay})
		b, _, err := dhcp4.Append(nil, m, 0)
		if err != nil {
			bad = err
		}
		return b
	}
	d := &dialect4{ask: template(dhcp4.Discover), renew: template(dhcp4.Request),
		take: template(dhcp4.Request, dhcp4.Option{Code: option.AddressRequest, Data: make([]byte, 4)},
			dhcp4.Option{Code: option.ServerID, Data: make([]byte, 4)})}
	// magic cookie at 236; 53 takes 3 octets; then 61, 12, 60, 55, 50, 54
	d.id = 240 + 3 + 2 + 3
	d.name = 240 + 3 + 9 + 2 + 6
	d.wanted = 240 + 3 + 9 + 16 + 7 + 10 + 2
	d.server = d.wanted + 4 + 2
	return d, bad
}

func (d *dialect4) message(buf []byte, i int, s *slot) []byte {
	switch {
	case s.renews:
		buf = append(buf, d.renew...)
		copy(buf[12:], s.offer[:4])
	case s.taking:
		buf = append(buf, d.take...)
		copy(buf[d.wanted:], s.offer[:4])
		copy(buf[d.server:], s.server[:])
	default:
		buf = append(buf, d.ask...)
	}
	binary.BigEndian.PutUint32(buf[4:], uint32(s.turn)<<16|uint32(i))
	binary.BigEndian.PutUint32(buf[30:], s.client)
	binary.BigEndian.PutUint32(buf[d.id:], s.client)
	putDigits(buf[d.name:], s.client)
	return buf
}

func putDigits(to []byte, n uint32) {
	const digits = "0123456789abcdef"
	for k := range 8 {
		to[k] = digits[n>>(28-4*k)&15]
	}
}

func (d *dialect4) reply(b []byte) (i int, turn uint8, ok bool) {
	if len(b) < 244 {
		return 0, 0, false
	}
	return int(binary.BigEndian.Uint16(b[6:])), b[5], true
}

func (d *dialect4) given(b []byte) (a [16]byte, server [4]byte, ok bool) {
	copy(a[:], b[16:20])
	copy(server[:], b[245:249]) // 53 is first, 54 second in every reply
	return a, server, b[242] != byte(dhcp4.Nak)
}

// dialect6 speaks DHCPv6, as a relay of the scope's link passes it on.
type dialect6 struct {
	ask, take, renew                []byte // SOLICIT, REQUEST, RENEW
	inner                           int    // where the client's message begins
	id, name, wanted, renewalWanted int
}

func newDialect6(server []byte) (*dialect6, error) {
	var bad error
	unset := netip.MustParseAddr("::dead:beef")
	template := func(k request.Kind, hint bool) []byte {
		one := request.Association{ID: 7}
		if hint {
			one.Hints = []netip.Prefix{netip.PrefixFrom(unset, 128)}
		}
		m := dhcp6.Compose(request.Draft{Kind: k, Identifier: []byte("\x00\x03\x00\x01\x02\x00\xfe\xed\xfe\xed"), Hostname: "bench-00000000",
			Vendor: "bench", Asks: []uint16{23, 24, 56}, Wants: []request.Association{one}, ServerDUID: server,
			Agent: request.Agent{Relay: netip.MustParseAddr("2001:db8:40::1"), Circuit: []byte("sw1/0/1")}})
		m.Relays[0].Options = append(m.Relays[0].Options, dhcp6.Option{Code: option.RelayPort6, Data: []byte{0, 0}})
		b, _, err := m.AppendTo(nil, 0)
		if err != nil {
			bad = err
		}
		return b
	}
	d := &dialect6{ask: template(request.Solicit, false), take: template(request.Select, true), renew: template(request.Renew, true)}
	if bad != nil {
		return nil, bad
	}
	find := func(in []byte, what string) int {
		for n := range in {
			if len(in)-n >= len(what) && string(in[n:n+len(what)]) == what {
				return n
			}
		}
		bad = fmt.Errorf("a template has no %q", what)
		return 0
	}
	const relay = 34 + 4 + len("sw1/0/1") + 4 + 2 + 4 // its head, its interface, its port, the head of the message
	d.inner = relay
	d.id = find(d.ask, "\xfe\xed\xfe\xed")
	d.name = find(d.ask, "bench-00000000") + 6
	hint := string(unset.AsSlice())
	d.wanted, d.renewalWanted = find(d.take, hint), find(d.renew, hint)
	return d, bad
}

func (d *dialect6) message(buf []byte, i int, s *slot) []byte {
	switch {
	case s.renews:
		buf = append(buf, d.renew...)
		copy(buf[d.renewalWanted:], s.offer[:])
	case s.taking:
		buf = append(buf, d.take...)
		copy(buf[d.wanted:], s.offer[:])
	default:
		buf = append(buf, d.ask...)
	}
	buf[d.inner+1] = s.turn
	binary.BigEndian.PutUint16(buf[d.inner+2:], uint16(i))
	binary.BigEndian.PutUint32(buf[d.id:], s.client)
	putDigits(buf[d.name:], s.client)
	return buf
}

func (d *dialect6) reply(b []byte) (i int, turn uint8, ok bool) {
	if len(b) < d.inner+4 {
		return 0, 0, false
	}
	return int(binary.BigEndian.Uint16(b[d.inner+2:])), b[d.inner+1], true
}

func (d *dialect6) given(b []byte) (a [16]byte, server [4]byte, ok bool) {
	for at := d.inner + 4; at+4 <= len(b); {
		code, size := binary.BigEndian.Uint16(b[at:]), int(binary.BigEndian.Uint16(b[at+2:]))
		if at += 4; code == option.IANA && size >= 12+4+24 && at+size <= len(b) {
			return [16]byte(b[at+16:]), server, true
		}
		at += size
	}
	return a, server, false
}
