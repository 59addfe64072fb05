package main

import (
	"net/netip"

	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// letter is what a client sends: a message of one of the two families.
type letter struct {
	kind    request.Kind
	xid     uint32
	relayed bool
	four    dhcp4.Message
	six     dhcp6.Message
}

// letter makes a message of the client's about an address or a prefix, or none, to a server
// that it names where such a message names one.
func (c *client) letter(k request.Kind, about netip.Addr, server int) letter {
	c.xid++
	l := letter{kind: k, xid: c.xid<<10 | uint32(c.n), relayed: true}
	if c.six {
		l.six = c.letter6(l, about, server)
		return l
	}
	zero := netip.IPv4Unspecified()
	m := dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, Type: types4[k], XID: l.xid, CIAddr: zero, YIAddr: zero, SIAddr: zero,
		GIAddr: c.relay, CHAddr: c.hardware, Secs: uint16(min((c.w.now-c.began)/second, 65535))}
	put := func(code uint8, data []byte) { m.Options = append(m.Options, dhcp4.Option{Code: code, Data: data}) }
	put(option.MessageType, []byte{byte(m.Type)})
	if c.id != nil {
		put(option.ClientID, c.id)
	}
	switch {
	case k == request.Renew || k == request.Rebind || k == request.Release:
		m.CIAddr = about
	case about.IsValid():
		put(option.AddressRequest, about.AsSlice())
	}
	if k == request.Renew || k == request.Release {
		m.GIAddr, l.relayed = zero, false
	}
	if k == request.Select || k == request.Release || k == request.Decline {
		put(option.ServerID, c.w.servers[server].address.AsSlice())
	}
	l.four = m
	return l
}

var types4 = map[request.Kind]dhcp4.Type{request.Solicit: dhcp4.Discover, request.Select: dhcp4.Request, request.Confirm: dhcp4.Request,
	request.Renew: dhcp4.Request, request.Rebind: dhcp4.Request, request.Release: dhcp4.Release, request.Decline: dhcp4.Decline}

// letter6 is the same with DHCPv6. Whoever comes back asks for what it had by REBIND, as routers
// do (RFC 8415 section 18.2.5).
func (c *client) letter6(l letter, about netip.Addr, server int) dhcp6.Message {
	d := request.Draft{Kind: l.kind, Identifier: append([]byte{0, 3, 0, 1}, c.hardware...), Agent: request.Agent{Relay: c.relay}}
	if d.Kind == request.Confirm {
		d.Kind = request.Rebind
	}
	if server >= 0 {
		d.ServerDUID = c.w.servers[server].duid()
	}
	one := request.Association{ID: 1}
	if scopesOf[c.scope].length > 0 {
		one.Object = request.Delegation
	}
	if about.IsValid() {
		one.Hints = []netip.Prefix{keyOf(about)}
	}
	d.Wants = []request.Association{one}
	m := dhcp6.Compose(d)
	m.Transaction = l.xid
	hundredths := min((c.w.now-c.began)/(10*ms), 0xffff)
	m.Options = append(m.Options, dhcp6.Option{Code: option.ElapsedTime6, Data: []byte{byte(hundredths >> 8), byte(hundredths)}})
	return *m
}

// request is what a server reads of the letter.
func (l *letter) request(p request.Path) request.Request {
	if l.four.Type != 0 {
		m := l.four
		return m.Request(p)
	}
	m := l.six
	return m.Request(p)
}

// sort is what a reply amounts to.
type sort uint8

const (
	nothing sort = iota
	offered
	given
	refused
)

// heard is what a client makes of a reply.
type heard struct {
	sort    sort
	xid     uint32
	address netip.Addr
	lease   tick
	from    int // which server
	why     reason.Reason
}

func heardOf(r request.Reply, s *server) heard {
	switch m := r.(type) {
	case *dhcp4.Message:
		h := heard{xid: m.XID, address: m.YIAddr, from: s.index,
			sort: map[dhcp4.Type]sort{dhcp4.Offer: offered, dhcp4.Ack: given, dhcp4.Nak: refused}[m.Type]}
		if t, ok := m.Options.Uint32(option.AddressTime); ok {
			h.lease = tick(t) * second
		}
		return h
	case *dhcp6.Message:
		h := heard{xid: m.Transaction, from: s.index}
		for _, ia := range m.IAs {
			if m.Type == dhcp6.Reply && (ia.Status == dhcp6.NoBinding || ia.Status == dhcp6.NotOnLink || len(ia.Leases) > 0) {
				h.sort = refused // unless something lasts
			}
			for _, l := range ia.Leases {
				if l.Valid == 0 {
					continue
				}
				if h.address, h.lease, h.sort = l.Prefix.Addr(), tick(l.Valid)*second, given; m.Type == dhcp6.Advertise {
					h.sort = offered
				}
				return h
			}
		}
		return h
	}
	return heard{}
}

// keyOf is the key of an address, or of the prefix that begins with it.
func keyOf(a netip.Addr) netip.Prefix {
	for _, sc := range scopesOf {
		if sc.length > 0 && netip.MustParsePrefix(sc.pool).Contains(a) {
			return netip.PrefixFrom(a, sc.length)
		}
	}
	return lease.Host(a)
}
