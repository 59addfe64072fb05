package engine

import (
	"errors"
	"net"
	"net/netip"

	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/request"
	"yarnpost/service/wire"
)

var (
	errNoWay    = errors.New("no way back to the client")
	errOwnRelay = errors.New("its relay's address is this host's own, and it came from elsewhere")
)

var broadcast = netip.AddrFrom4([4]byte{255, 255, 255, 255})

// route turns a destination into an address, a port and, for clients that
// cannot be reached by IP yet, a frame (RFC 2131 section 4.1).
//
// To an address of the host itself, which own tells, a reply goes only if the request came
// from there.
func route(p *wire.Packet, req *request.Request, d *answer.Decision, data []byte, own func(netip.Addr) bool) (wire.Reply, error) {
	r := wire.Reply{Data: data, From: req.Server, Interface: p.Interface}
	if d.To == answer.ToSource {
		r.To = netip.AddrPortFrom(p.From.Addr(), wire.ClientPort6)
		if said := req.Message.(*dhcp6.Message); said.OwnPort() { // RFC 8357
			r.To = p.From
		} else if said.Relayed() {
			r.To = netip.AddrPortFrom(p.From.Addr(), wire.ServerPort6)
		}
		return r, nil
	}
	said, reply := req.Message.(*dhcp4.Message), d.Reply.(*dhcp4.Message)
	switch d.To {
	case answer.ToRelay:
		if own(reply.GIAddr) && p.From.Addr() != reply.GIAddr {
			return r, errOwnRelay // any service of the host could be reached so
		}
		port := uint16(wire.ServerPort)
		if said.Agent.SourcePort { // RFC 8357
			port = p.From.Port()
		}
		r.To = netip.AddrPortFrom(reply.GIAddr, port)
		return r, nil
	case answer.ToAddress:
		r.To = netip.AddrPortFrom(said.CIAddr, wire.ClientPort)
		return r, nil
	}
	if req.Interface == "" || p.Interface == nil || len(p.Interface.Hardware) != 6 {
		return r, errNoWay
	}
	r.Frame = true
	if d.To == answer.ToHardware && len(req.Hardware) == 6 {
		r.To = netip.AddrPortFrom(reply.YIAddr, wire.ClientPort)
		r.Hardware = net.HardwareAddr(req.Hardware)
	} else {
		r.To = netip.AddrPortFrom(broadcast, wire.ClientPort)
		r.Hardware = wire.Broadcast
	}
	return r, nil
}
