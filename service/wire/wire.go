// Package wire has sockets and frames: datagrams come in with what
// is known of their way, replies go out by the way a decision names. It knows
// ports and interfaces, not leases.
package wire

import (
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/mdlayher/packet"
)

// Ports of RFC 2131 section 4.1, and of RFC 8415 section 7.2.
const (
	ServerPort  = 67
	ClientPort  = 68
	ServerPort6 = 547
	ClientPort6 = 546
)

// batchSize is how many datagrams one system call moves.
const batchSize = 64

// Interface is one interface of the host as it is now.
type Interface struct {
	Index    int
	Name     string
	Hardware net.HardwareAddr
	Prefixes []netip.Prefix // IPv4 addresses with their masks
	Served   bool           // clients of its link are answered

	Prefixes6 []netip.Prefix // IPv6 addresses with the lengths of their prefixes
}

// Packet is one datagram as it arrived.
type Packet struct {
	Data      []byte // valid until the handler returns
	From      netip.AddrPort
	To        netip.Addr // destination in the IP header
	Interface *Interface // nil if it is not known
}

// Reply is one datagram to be sent. With Frame it leaves as a raw Ethernet
// frame on its interface; else through the UDP socket.
type Reply struct {
	Data      []byte
	To        netip.AddrPort
	From      netip.Addr // source address, if it matters
	Frame     bool
	Hardware  net.HardwareAddr // destination of the frame
	Interface *Interface
	Talk      uint64 // number by which the sender knows it
}

// Server is the side of DHCP that faces the network.
type Server struct {
	v4, v6     *socket // v6 is nil unless DHCPv6 is served
	log        *slog.Logger
	served     []string
	frames     sync.Map // interface index → *packet.Conn
	arps       sync.Map // interface index → *packet.Conn
	neighbours sync.Map // the same for neighbour advertisements
	ears       []*packet.Conn

	listening sync.WaitGroup

	interfaces atomic.Pointer[map[int]*Interface]
	SendErrors atomic.Uint64
	// Unsent, if set before Serve, is told of each reply that could not leave.
	Unsent func(Reply, error)
}

// Listen opens the sockets: for DHCPv6 only if there is an address for it. Clients of local
// links are served on the named interfaces, which must exist.
func Listen(at, at6 netip.AddrPort, served []string, log *slog.Logger) (*Server, error) {
	s := &Server{log: log, served: served}
	var err error
	if s.v4, err = listen4(at); err == nil && at6.IsValid() {
		s.v6, err = listen6(at6)
	}
	if err == nil {
		err = s.Refresh()
	}
	for i := 0; err == nil && i < len(served); i++ {
		if _, missing := net.InterfaceByName(served[i]); missing != nil {
			err = fmt.Errorf("serve interface %s: there is no such interface; ip link shows all", served[i])
		}
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Addr is where DHCPv4 is heard.
func (s *Server) Addr() netip.AddrPort { return s.v4.addr() }

// Addr6 is where DHCPv6 is heard; the zero AddrPort if it is not.
func (s *Server) Addr6() (at netip.AddrPort) {
	if s.v6 != nil {
		at = s.v6.addr()
	}
	return at
}

// Refresh looks at the host's interfaces again, and hears the clients of those that came.
func (s *Server) Refresh() error {
	list, err := net.Interfaces()
	if err != nil {
		return fmt.Errorf("list interfaces: %w", err)
	}
	found := make(map[int]*Interface, len(list))
	for _, i := range list {
		f := &Interface{Index: i.Index, Name: i.Name, Hardware: i.HardwareAddr}
		addrs, err := i.Addrs()
		if err != nil {
			continue // it went away meanwhile
		}
		for _, a := range addrs {
			n, ok := a.(*net.IPNet)
			if !ok {
				continue
			}
			if ip, ok := netip.AddrFromSlice(n.IP); ok {
				ones, _ := n.Mask.Size()
				if ip = ip.Unmap(); ip.Is4() {
					f.Prefixes = append(f.Prefixes, netip.PrefixFrom(ip, ones))
				} else {
					f.Prefixes6 = append(f.Prefixes6, netip.PrefixFrom(ip, ones))
				}
			}
		}
		f.Served = slices.Contains(s.served, i.Name)
		if f.Served && s.v6 != nil {
			s.v6.join(&i)
		}
		found[i.Index] = f
	}
	s.interfaces.Store(&found)
	return nil
}

// Drops is how many datagrams the kernel dropped because a socket's buffer was
// full, as /proc tells; 0 where it does not.
func (s *Server) Drops() uint64 {
	n := s.v4.drops("/proc/self/net/udp")
	if s.v6 != nil {
		n += s.v6.drops("/proc/self/net/udp6")
	}
	return n
}

// Interfaces lists the host's interfaces by index, as of the last Refresh.
func (s *Server) Interfaces() map[int]*Interface { return *s.interfaces.Load() }

// Serve hands batches of DHCPv4 datagrams to the handler until Close. The replies it
// returns are sent before the next batch is read.
func (s *Server) Serve(handle func([]Packet) []Reply) error { return s.serve(s.v4, handle) }

// Serve6 is Serve for DHCPv6.
func (s *Server) Serve6(handle func([]Packet) []Reply) error {
	if s.v6 == nil {
		return nil
	}
	return s.serve(s.v6, handle)
}

func (s *Server) serve(on *socket, handle func([]Packet) []Reply) error {
	in := on.incoming()
	packets := make([]Packet, 0, batchSize)
	for {
		n, err := on.batch.ReadBatch(in, 0)
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			s.log.Error("cannot read from a socket of DHCP", "at", on.addr(), "err", err)
			time.Sleep(100 * time.Millisecond)
			continue
		}
		interfaces := s.Interfaces()
		packets = packets[:0]
		for _, m := range in[:n] {
			from, ok := m.Addr.(*net.UDPAddr)
			if !ok {
				continue
			}
			p := Packet{Data: m.Buffers[0][:m.N], From: netip.AddrPortFrom(from.AddrPort().Addr().Unmap(), uint16(from.Port))}
			if dst, index, ok := on.way(m.OOB[:m.NN]); ok {
				if to, ok := netip.AddrFromSlice(dst); ok {
					p.To = to.Unmap()
				}
				p.Interface = interfaces[index]
			}
			packets = append(packets, p)
		}
		if replies := handle(packets); len(replies) > 0 {
			s.Send(replies)
		}
	}
}

// Send sends replies; those that cannot leave are counted, and told of.
func (s *Server) Send(replies []Reply) {
	for i := range replies {
		if r := &replies[i]; r.Frame {
			if err := s.sendFrame(r); err != nil {
				s.unsent(r, err)
			}
		}
	}
	for _, on := range [...]*socket{s.v4, s.v6} {
		if on == nil {
			continue
		}
		for _, f := range on.send(replies) {
			s.unsent(&replies[f.reply], f.err)
		}
	}
}

func (s *Server) unsent(r *Reply, err error) {
	s.SendErrors.Add(1)
	s.log.Debug("a reply could not leave", "to", r.To, "err", err)
	if s.Unsent != nil {
		s.Unsent(*r, err)
	}
}

// sendFrame reaches a client that has no address yet, without ARP.
func (s *Server) sendFrame(r *Reply) error {
	return s.sendRaw(r.Interface, r.Interface.Hardware, r.Hardware, netip.AddrPortFrom(r.From, s.v4.port), r.To, r.Data)
}

func (s *Server) sendRaw(i *Interface, fromHW, toHW net.HardwareAddr, from, to netip.AddrPort, data []byte) error {
	frame, err := Frame(fromHW, toHW, from, to, data)
	if err != nil {
		return err
	}
	return s.write(i, toHW, frame)
}

// write sends a whole Ethernet frame from an interface.
func (s *Server) write(i *Interface, toHW net.HardwareAddr, frame []byte) error {
	v, ok := s.frames.Load(i.Index)
	if !ok {
		ifi, err := net.InterfaceByIndex(i.Index)
		if err != nil {
			return err
		}
		conn, err := packet.Listen(ifi, packet.Raw, 0, nil) // protocol 0: it only sends
		if err != nil {
			return err
		}
		v, _ = s.frames.LoadOrStore(i.Index, conn)
	}
	_, err := v.(*packet.Conn).WriteTo(frame, &packet.Addr{HardwareAddr: toHW})
	if err != nil { // the interface may have been made anew; open it again next time
		s.frames.Delete(i.Index)
		v.(*packet.Conn).Close()
	}
	return err
}

// Frame wraps a datagram in UDP, IP and Ethernet headers.
func Frame(fromHW, toHW net.HardwareAddr, from, to netip.AddrPort, data []byte) ([]byte, error) {
	eth := &layers.Ethernet{SrcMAC: fromHW, DstMAC: toHW, EthernetType: layers.EthernetTypeIPv4}
	src, dst := from.Addr().AsSlice(), to.Addr().AsSlice()
	var ip interface {
		gopacket.NetworkLayer
		gopacket.SerializableLayer
	} = &layers.IPv4{Version: 4, TTL: 64, TOS: 0x10, Protocol: layers.IPProtocolUDP, SrcIP: src, DstIP: dst}
	if to.Addr().Is6() {
		eth.EthernetType = layers.EthernetTypeIPv6
		ip = &layers.IPv6{Version: 6, HopLimit: 64, NextHeader: layers.IPProtocolUDP, SrcIP: src, DstIP: dst}
	}
	udp := &layers.UDP{SrcPort: layers.UDPPort(from.Port()), DstPort: layers.UDPPort(to.Port())}
	if err := udp.SetNetworkLayerForChecksum(ip); err != nil {
		return nil, err
	}
	buf := gopacket.NewSerializeBuffer()
	err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, eth, ip, udp,
		gopacket.Payload(data))
	return buf.Bytes(), err
}

// Close ends Serve.
func (s *Server) Close() {
	for _, on := range [...]*socket{s.v4, s.v6} {
		if on != nil {
			on.conn.Close()
		}
	}
	for _, e := range s.ears {
		e.Close()
	}
	s.listening.Wait()
	s.frames.Range(func(_, v any) bool {
		v.(*packet.Conn).Close()
		return true
	})
}
