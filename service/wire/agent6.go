package wire

import (
	"cmp"
	"fmt"
	"net"
	"net/netip"

	"yarnpost/core/dhcp6"
	"yarnpost/core/relay"
)

// openAgents6 makes the relay of each interface that it has clients of DHCPv6 on.
func (a *Agent) openAgents6(c AgentConfig) error {
	for _, i := range a.server.Interfaces() {
		if !i.Served {
			continue
		}
		r := &relay.Agent6{Interface: []byte(c.Circuit), OwnPort: c.SourcePort != 0}
		if c.Circuit == "" {
			r.Interface = []byte(i.Name)
		}
		if c.Remote != "" && !c.Bare {
			r.Remote = append([]byte{0, 0, 0, 0}, c.Remote...) // of no enterprise
		}
		for _, p := range i.Prefixes6 {
			if !p.Addr().IsLinkLocalUnicast() {
				r.Link = p.Addr()
				break
			}
		}
		if !r.Link.IsValid() {
			return fmt.Errorf("interface %s has no IPv6 address by which servers know the clients' link; give it one, such as 2001:db8:1::1/64", i.Name)
		}
		a.agents6[i.Index] = r
		if c.SourcePort != 0 && a.own6 == nil {
			conn, err := net.ListenUDP("udp6", &net.UDPAddr{IP: net.IPv6unspecified, Port: int(c.SourcePort)})
			if err != nil {
				return fmt.Errorf("open the relay's own port: %w", err)
			}
			a.own6 = conn
		}
		c.Log.Info("relaying DHCPv6", "interface", i.Name, "link", r.Link, "interface-id", string(r.Interface), "servers", a.servers6)
	}
	return nil
}

// serve6 relays DHCPv6 until Close.
func (a *Agent) serve6() error {
	if a.own6 != nil {
		go a.answered(a.own6, a.back6)
	}
	return a.server.Serve6(func(packets []Packet) (out []Reply) {
		for i := range packets {
			p := &packets[i]
			if len(p.Data) == 0 || dhcp6.Type(p.Data[0]) != dhcp6.RelayRepl {
				out = append(out, a.forth6(p)...)
			} else if r := a.back6(p.Data); r != nil {
				out = append(out, *r)
			}
		}
		return out
	})
}

// forth6 sends a message of DHCPv6 to every server.
func (a *Agent) forth6(p *Packet) (out []Reply) {
	if p.Interface == nil || a.agents6[p.Interface.Index] == nil {
		return nil // not from a link that is relayed
	}
	data, err := a.agents6[p.Interface.Index].Forward(p.Data, p.From)
	if err != nil {
		a.drop(err)
		return nil
	}
	a.Forwarded.Add(1)
	for _, to := range a.servers6 {
		if a.own6 != nil {
			if _, err := a.own6.WriteToUDPAddrPort(data, to); err != nil {
				a.drop(err)
			}
			continue
		}
		out = append(out, Reply{Data: data, To: to})
	}
	return out
}

// back6 sends a server's message of DHCPv6 to its client, or to the relay that it came through.
func (a *Agent) back6(b []byte) *Reply {
	err := error(relay.ErrNotOurs)
	for index, r := range a.agents6 {
		var back relay.Reply6
		if back, err = r.Return(b); err != nil {
			continue
		}
		a.Returned.Add(1)
		port := uint16(ClientPort6)
		if back.Relay {
			port = cmp.Or(back.Port, ServerPort6)
		}
		return &Reply{Data: back.Data, To: netip.AddrPortFrom(back.To, port), Interface: a.server.Interfaces()[index]}
	}
	a.drop(err)
	return nil
}
