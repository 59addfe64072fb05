package relay

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
)

// HopsMost6 is the most that the hop count of DHCPv6 may be when a message comes in (RFC 8415
// section 7.6, HOP_COUNT_LIMIT).
const HopsMost6 = 8

// Agent6 is one relay agent for DHCPv6 on one interface.
type Agent6 struct {
	Link      netip.Addr // of the interface that clients are on, for the server to know their link by; not link-local
	Interface []byte     // interface-id (18), by which replies find back
	Remote    []byte     // remote-id (37), with its enterprise number; none if empty
	Hops      uint8      // limit of the hop count; 0 means HopsMost6
	OwnPort   bool       // it sends from a port of its own, and is to be answered there (RFC 8357)
}

// head6 is how long a relayed message is before its options: type, hop count, two addresses.
const head6 = 34

const serverPort6 = 547 // of servers and relays (RFC 8415 section 7.2)

// Forward makes of a message of a client, or of a relay nearer to it, what goes to the servers (RFC
// 8415 section 19.1). From is where it came from. The port of a relay that has one of its own is noted,
// so that the reply finds back to it (RFC 8357 section 5.3).
func (a *Agent6) Forward(b []byte, from netip.AddrPort) ([]byte, error) {
	peer, downstream := from.Addr(), uint16(0)
	if len(b) < 4 {
		return nil, fmt.Errorf("forward: %w", ErrMalformed)
	}
	link, hops := a.Link, uint8(0)
	switch dhcp6.Type(b[0]) {
	case dhcp6.Advertise, dhcp6.Reply, dhcp6.Reconfigure, dhcp6.RelayRepl, dhcp6.AddrRegReply:
		return nil, fmt.Errorf("forward: a server's %s from the clients' side: %w", dhcp6.Type(b[0]), ErrSpoofed)
	case dhcp6.RelayForw:
		if len(b) < head6 {
			return nil, fmt.Errorf("forward: %w", ErrMalformed)
		}
		limit := a.Hops
		if limit == 0 {
			limit = HopsMost6
		}
		if b[1] >= limit {
			return nil, fmt.Errorf("forward: %d hops: %w", b[1], ErrHops)
		}
		hops = b[1] + 1
		if from.Port() != serverPort6 {
			downstream = from.Port()
		}
		if !peer.IsLinkLocalUnicast() { // the relay before has an address by which its link is known
			link = netip.IPv6Unspecified()
		}
	}
	out := append(make([]byte, 0, len(b)+head6+64), byte(dhcp6.RelayForw), hops)
	out = append(append(out, link.AsSlice()...), peer.WithZone("").AsSlice()...)
	put := func(code uint16, data []byte) {
		out = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(out, code), uint16(len(data)))
		out = append(out, data...)
	}
	put(option.InterfaceID6, a.Interface)
	if len(a.Remote) > 0 {
		put(option.RemoteID6, a.Remote)
	}
	if a.OwnPort || downstream != 0 {
		put(option.RelayPort6, binary.BigEndian.AppendUint16(nil, downstream))
	}
	if len(out)+4+len(b) > 1<<16-1 {
		return nil, fmt.Errorf("forward: %d octets leave no room: %w", len(b), ErrMalformed)
	}
	put(option.RelayMessage6, b)
	return out, nil
}

// Reply6 is what goes on to a client, or to a relay nearer to it.
type Reply6 struct {
	Data  []byte
	To    netip.Addr
	Relay bool   // to a relay
	Port  uint16 // of that relay; 0 for the usual one
}

// Return makes of a server's message what goes on to whom its relay heard (section 19.2).
func (a *Agent6) Return(b []byte) (r Reply6, err error) {
	if len(b) < head6 || dhcp6.Type(b[0]) != dhcp6.RelayRepl {
		return r, fmt.Errorf("return: %w", ErrMalformed)
	}
	link := netip.AddrFrom16([16]byte(b[2:]))
	ours := link == a.Link
	for o := b[head6:]; len(o) > 0; {
		if len(o) < 4 || len(o) < 4+int(binary.BigEndian.Uint16(o[2:])) {
			return r, fmt.Errorf("return: %w: an option runs past the end", ErrMalformed)
		}
		code, data := binary.BigEndian.Uint16(o), o[4:4+int(binary.BigEndian.Uint16(o[2:]))]
		o = o[4+len(data):]
		switch {
		case code == option.InterfaceID6 && string(data) == string(a.Interface):
			ours = true
		case code == option.InterfaceID6:
			return r, fmt.Errorf("return: interface %q: %w", data, ErrNotOurs)
		case code == option.RelayPort6 && len(data) == 2:
			r.Port = binary.BigEndian.Uint16(data)
		case code == option.RelayMessage6 && r.Data == nil:
			r.Data = append([]byte(nil), data...)
		}
	}
	if len(r.Data) < 4 {
		return r, fmt.Errorf("return: %w: no message in it", ErrMalformed)
	}
	if !ours {
		return r, fmt.Errorf("return: link %s: %w", link, ErrNotOurs)
	}
	r.To, r.Relay = netip.AddrFrom16([16]byte(b[18:])), dhcp6.Type(r.Data[0]) == dhcp6.RelayRepl
	return r, nil
}
