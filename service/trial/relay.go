// Package trial has clients of DHCPv4 and DHCPv6 that make real exchanges with a real server,
// through a relay of their own on an address of this machine. Trials, the demo and the tests sit
// here.
package trial

import (
	"context"
	"encoding/binary"
	"net/netip"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
)

// Relay is a relay agent for DHCPv4 on a loopback address. It names its link by link
// selection (RFC 3527) and takes replies on its own port (RFC 8357).
type Relay struct {
	*post
	Link   netip.Addr // an address of the link it serves; not valid: its own
	Tried  uint16     // seconds for which its clients say that they tried before: then either server of a pair answers
	giaddr netip.Addr
}

// NewRelay opens a relay at a loopback address, in front of a server or of several.
func NewRelay(at, link netip.Addr, servers ...netip.AddrPort) (*Relay, error) {
	p, err := newPost(at, servers, func(b []byte) (uint32, bool) {
		if len(b) < 8 {
			return 0, false
		}
		return binary.BigEndian.Uint32(b[4:]), true
	})
	if err != nil {
		return nil, err
	}
	return &Relay{post: p, Link: link, giaddr: at}, nil
}

// Address is the relay's own address (giaddr).
func (r *Relay) Address() netip.Addr { return r.giaddr }

// Option82 is what the relay adds: circuit, link selection, source port.
func (r *Relay) Option82(circuit string) []byte {
	var b []byte
	if circuit != "" {
		b = dhcp4.AppendSub(b, dhcp4.SubCircuit, []byte(circuit))
	}
	if r.Link.IsValid() {
		link := r.Link.As4()
		b = dhcp4.AppendSub(b, dhcp4.SubLink, link[:])
	}
	return dhcp4.AppendSub(b, dhcp4.SubSourcePort, nil)
}

// Send relays a message without waiting for a reply.
func (r *Relay) Send(m dhcp4.Message, circuit string) error {
	m.GIAddr, m.Hops = r.giaddr, m.Hops+1
	m.Options = append(append(dhcp4.Options(nil), m.Options...), dhcp4.Option{Code: option.RelayAgent, Data: r.Option82(circuit)})
	b, _, err := dhcp4.Append(nil, &m, dhcp4.MaxMax)
	if err != nil {
		return err
	}
	return r.send(b)
}

// Exchange relays a message and waits for the reply to its transaction, trying
// again as clients do. It gives the reply decoded and as it came.
func (r *Relay) Exchange(ctx context.Context, m dhcp4.Message, circuit string, patience time.Duration) (reply *dhcp4.Message, raw []byte,
	err error) {
	err = r.exchange(ctx, m.XID, patience, func(tried time.Duration) error {
		m.Secs = r.Tried + uint16(tried/time.Second)
		return r.Send(m, circuit)
	}, func(b []byte) (bool, error) {
		raw = b
		got := &dhcp4.Message{}
		if err := dhcp4.Decode(got, b); err != nil {
			return false, err
		}
		if got.Op != dhcp4.BootReply || got.CHAddr != m.CHAddr {
			return false, nil
		}
		reply = got
		return true, nil
	})
	return reply, raw, err
}
