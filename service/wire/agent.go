package wire

import (
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync/atomic"

	"yarnpost/core/relay"
)

// Agent relays between clients on local links and servers elsewhere.
type Agent struct {
	server   *Server
	agents   map[int]*relay.Agent // by interface index
	servers  []netip.AddrPort
	agents6  map[int]*relay.Agent6
	servers6 []netip.AddrPort
	own      map[netip.Addr]*net.UDPConn // sockets of the relay's own port (RFC 8357)
	own6     *net.UDPConn                // the same of IPv6, or nil
	log      *slog.Logger

	Forwarded, Returned, Dropped atomic.Uint64
}

// AgentConfig says what to relay.
type AgentConfig struct {
	Interfaces []string         // where clients are
	Servers    []netip.AddrPort // each gets every request of its family
	Circuit    string           // option 82.1; "" for the interface's name
	Remote     string           // option 82.2; "" for none
	Hops       uint8            // limit; 0 for the standard's 16
	Bare       bool             // add no option 82
	SourcePort uint16           // send from this port and be answered there (RFC 8357); 0 for the usual ports
	Log        *slog.Logger
}

// NewAgent opens the relay's sockets.
func NewAgent(c AgentConfig) (*Agent, error) {
	if len(c.Interfaces) == 0 || len(c.Servers) == 0 {
		return nil, errors.New("a relay needs an interface with clients and a server to send to")
	}
	a := &Agent{agents: map[int]*relay.Agent{}, agents6: map[int]*relay.Agent6{}, own: map[netip.Addr]*net.UDPConn{}, log: c.Log}
	at4, at6 := netip.AddrPortFrom(netip.IPv4Unspecified(), 0), netip.AddrPort{}
	for _, to := range c.Servers {
		if to.Addr().Is6() {
			a.servers6, at6 = append(a.servers6, to), netip.AddrPortFrom(netip.IPv6Unspecified(), ServerPort6)
		} else {
			a.servers, at4 = append(a.servers, to), netip.AddrPortFrom(netip.IPv4Unspecified(), ServerPort)
		}
	}
	var err error
	if a.server, err = Listen(at4, at6, c.Interfaces, c.Log); err != nil {
		return nil, err
	}
	if len(a.servers6) > 0 {
		err = a.openAgents6(c)
	}
	if err == nil && len(a.servers) > 0 {
		err = a.openAgents(c)
	}
	if err != nil {
		a.Close()
		return nil, err
	}
	return a, nil
}

// openAgents makes the relay of each interface that it has clients of DHCPv4 on.
func (a *Agent) openAgents(c AgentConfig) error {
	for _, i := range a.server.Interfaces() {
		if !i.Served {
			continue
		}
		if len(i.Prefixes) == 0 {
			return fmt.Errorf("interface %s has no IPv4 address to relay from; give it one on the clients' link", i.Name)
		}
		r := &relay.Agent{Address: i.Prefixes[0].Addr(), Hops: c.Hops, SourcePort: c.SourcePort != 0}
		if !c.Bare {
			if r.Circuit, r.Remote = []byte(c.Circuit), []byte(c.Remote); c.Circuit == "" {
				r.Circuit = []byte(i.Name)
			}
		}
		a.agents[i.Index] = r
		if c.SourcePort != 0 {
			conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(r.Address, c.SourcePort)))
			if err != nil {
				return fmt.Errorf("open the relay's own port: %w", err)
			}
			a.own[r.Address] = conn
		}
		c.Log.Info("relaying", "interface", i.Name, "giaddr", r.Address, "circuit", string(r.Circuit), "servers", a.servers)
	}
	return nil
}

// Serve relays until Close.
func (a *Agent) Serve() error {
	for giaddr, conn := range a.own {
		go a.answered(conn, func(b []byte) *Reply { return a.back(b, giaddr) })
	}
	if len(a.servers6) > 0 {
		go func() {
			if err := a.serve6(); err != nil {
				a.log.Error("the DHCPv6 socket failed", "err", err)
			}
		}()
	}
	return a.server.Serve(func(packets []Packet) (out []Reply) {
		for i := range packets {
			p := &packets[i]
			if len(p.Data) > 0 && p.Data[0] == 2 {
				if r := a.back(p.Data, p.To); r != nil {
					out = append(out, *r)
				}
				continue
			}
			out = append(out, a.forth(p)...)
		}
		return out
	})
}

// answered passes on what comes back to a port of the relay's own until it is closed.
func (a *Agent) answered(conn *net.UDPConn, back func([]byte) *Reply) {
	buf := make([]byte, 1<<16)
	for {
		n, _, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		if out := back(buf[:n]); out != nil {
			a.server.Send([]Reply{*out})
		}
	}
}

func (a *Agent) drop(err error) {
	a.Dropped.Add(1)
	a.log.Debug("dropped", "err", err)
}

// forth sends a client's message to every server.
func (a *Agent) forth(p *Packet) (out []Reply) {
	if p.Interface == nil || a.agents[p.Interface.Index] == nil {
		return nil // not from a link that is relayed
	}
	r := a.agents[p.Interface.Index]
	data, err := r.Forward(p.Data)
	if err != nil {
		a.drop(err)
		return nil
	}
	a.Forwarded.Add(1)
	for _, to := range a.servers {
		if own := a.own[r.Address]; own != nil {
			if _, err := own.WriteToUDPAddrPort(data, to); err != nil {
				a.drop(err)
			}
			continue
		}
		out = append(out, Reply{Data: data, To: to, From: r.Address})
	}
	return out
}

// back sends a server's message to its client.
func (a *Agent) back(b []byte, giaddr netip.Addr) *Reply {
	for index, r := range a.agents {
		if r.Address != giaddr {
			continue
		}
		back, err := r.Return(b)
		if err != nil {
			a.drop(err)
			return nil
		}
		a.Returned.Add(1)
		out := &Reply{Data: back.Data, From: r.Address, To: netip.AddrPortFrom(back.To, ClientPort), Interface: a.server.Interfaces()[index]}
		switch {
		case back.Broadcast:
			out.Frame, out.Hardware = true, Broadcast
			out.To = netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), ClientPort)
		case len(back.Hardware) == 6:
			out.Frame, out.Hardware = true, net.HardwareAddr(back.Hardware)
		}
		return out
	}
	a.drop(relay.ErrNotOurs)
	return nil
}

// Close ends Serve.
func (a *Agent) Close() {
	a.server.Close()
	for _, c := range a.own {
		c.Close()
	}
	if a.own6 != nil {
		a.own6.Close()
	}
}
