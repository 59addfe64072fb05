package trial

import (
	"context"
	"net/netip"
	"time"

	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
)

// Relay6 is a relay agent for DHCPv6 on an address of this machine (RFC 8415 section 19). It
// takes replies on its own port (RFC 8357).
type Relay6 struct {
	*post
	Link  netip.Addr    // an address of the link it serves
	Far   []dhcp6.Relay // relays between it and its clients, the outermost first
	Tried time.Duration // for which its clients say that they tried before: then either server of a pair answers
}

// NewRelay6 opens a relay at an address, in front of a server or of several.
func NewRelay6(at, link netip.Addr, servers ...netip.AddrPort) (*Relay6, error) {
	p, err := newPost(at, servers, func(b []byte) (uint32, bool) {
		var m dhcp6.Message
		err := dhcp6.Decode(&m, b)
		return m.Transaction, err == nil
	})
	if err != nil {
		return nil, err
	}
	return &Relay6{post: p, Link: link}, nil
}

// Wrap puts the relays around a message, and what they say of its client.
func (r *Relay6) Wrap(m *dhcp6.Message, of *Client6) {
	own := dhcp6.Relay{Link: r.Link, Peer: of.peer(m), Hops: uint8(len(r.Far)), Options: dhcp6.Options{
		{Code: option.RelayPort6, Data: []byte{0, 0}}}}
	m.Relays = append([]dhcp6.Relay{own}, r.Far...)
	m.Relays[len(m.Relays)-1].Peer = of.peer(m)
	say := func(at *dhcp6.Relay, code uint16, data []byte) {
		at.Options = append(at.Options, dhcp6.Option{Code: code, Data: data})
	}
	if of.Circuit != "" {
		say(&m.Relays[len(m.Relays)-1], option.InterfaceID6, []byte(of.Circuit))
	}
	if of.Hardware != "" {
		say(&m.Relays[len(m.Relays)-1], option.ClientLinkLayer6, append([]byte{0, 1}, of.Hardware...))
	}
}

// Send relays a message of a client without waiting for a reply.
func (r *Relay6) Send(m dhcp6.Message, of *Client6) error {
	r.Wrap(&m, of)
	b, _, err := m.AppendTo(nil, 0)
	if err != nil {
		return err
	}
	return r.send(b)
}

// Exchange relays a message of a client and waits for the reply to its transaction, trying again
// as clients do. It gives the reply decoded and as it came.
func (r *Relay6) Exchange(ctx context.Context, m dhcp6.Message, of *Client6, patience time.Duration) (reply *dhcp6.Message, raw []byte,
	err error) {
	options := m.Options
	err = r.exchange(ctx, m.Transaction, patience, func(tried time.Duration) error {
		hundredths := uint16(min((r.Tried+tried)/(10*time.Millisecond), 0xffff))
		m.Options = append(append(dhcp6.Options(nil), options...), dhcp6.Option{Code: option.ElapsedTime6,
			Data: []byte{byte(hundredths >> 8), byte(hundredths)}})
		return r.Send(m, of)
	}, func(b []byte) (bool, error) {
		raw = b
		got := &dhcp6.Message{}
		if err := dhcp6.Decode(got, b); err != nil {
			return false, err
		}
		if string(got.ClientID()) != string(m.ClientID()) {
			return false, nil
		}
		reply = got
		return true, nil
	})
	return reply, raw, err
}
