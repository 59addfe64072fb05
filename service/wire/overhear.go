package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/mdlayher/packet"
	"golang.org/x/net/bpf"
)

// Ethernet types.
const (
	etherIP  = 0x0800
	etherARP = 0x0806
)

// Overheard is what passes on an interface without being sent to a socket of
// this host.
type Overheard struct {
	Interface *Interface
	// ARP, or a neighbour advertisement: somebody at this hardware address speaks for that address.
	Speaker net.HardwareAddr
	Address netip.Addr
	// Or what a router says.
	Router *RouterAdvertisement
	// Or a datagram to the client port, as servers send it.
	Data []byte // valid until the handler returns
	From netip.Addr
}

// Overhear listens on the served interfaces to ARP, to neighbour advertisements, and to what servers send to
// clients, until Close. It fails where raw sockets are not permitted.
func (s *Server) Overhear(handle func(Overheard)) error {
	for _, i := range s.Interfaces() {
		if !i.Served {
			continue
		}
		ifi, err := net.InterfaceByIndex(i.Index)
		if err != nil {
			return fmt.Errorf("overhear on %s: %w", i.Name, err)
		}
		arp, err := packet.Listen(ifi, packet.Raw, etherARP, nil)
		if err != nil {
			return fmt.Errorf("overhear on %s: %w", i.Name, err)
		}
		s.ears = append(s.ears, arp)
		replies, err := packet.Listen(ifi, packet.Raw, etherIP, &packet.Config{Filter: clientPortOnly})
		if err != nil {
			return fmt.Errorf("overhear on %s: %w", i.Name, err)
		}
		s.ears = append(s.ears, replies)
		if s.v6 != nil || len(i.Prefixes6) > 0 {
			near, err := packet.Listen(ifi, packet.Raw, etherIPv6, &packet.Config{Filter: nearOnly})
			if err != nil {
				return fmt.Errorf("overhear on %s: %w", i.Name, err)
			}
			s.ears = append(s.ears, near)
			s.neighbours.Store(i.Index, near)
			s.listening.Go(func() { s.listenNeighbours(near, i, handle) })
		}
		s.arps.Store(i.Index, arp)
		s.listening.Go(func() { s.listenARP(arp, i, handle) })
		s.listening.Go(func() { s.listenReplies(replies, i, handle) })
	}
	return nil
}

// clientPortOnly lets UDP to the client port pass.
var clientPortOnly = func() []bpf.RawInstruction {
	raw, err := bpf.Assemble([]bpf.Instruction{
		bpf.LoadAbsolute{Off: 23, Size: 1}, // protocol
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 17, SkipTrue: 6},
		bpf.LoadAbsolute{Off: 20, Size: 2}, // fragment offset
		bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: 0x1fff, SkipTrue: 4},
		bpf.LoadMemShift{Off: 14},          // length of the IP header
		bpf.LoadIndirect{Off: 16, Size: 2}, // destination port
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: ClientPort, SkipTrue: 1},
		bpf.RetConstant{Val: 65535},
		bpf.RetConstant{Val: 0},
	})
	if err != nil {
		panic(err) // the program above is all there is to go wrong
	}
	return raw
}()

// frames gives each frame that a raw socket hears to heard, until it is closed.
func frames(conn *packet.Conn, most int, heard func(b []byte)) {
	buf := make([]byte, most)
	for {
		n, _, err := conn.ReadFrom(buf)
		if err != nil {
			return
		}
		heard(buf[:n])
	}
}

func (s *Server) listenARP(conn *packet.Conn, i *Interface, handle func(Overheard)) {
	frames(conn, 128, func(b []byte) {
		// Ethernet (14), then ARP for IPv4 over Ethernet (28).
		if len(b) >= 42 && binary.BigEndian.Uint32(b[14:]) == 0x00010800 && b[18] == 6 && b[19] == 4 {
			handle(Overheard{Interface: i, Speaker: append(net.HardwareAddr(nil), b[22:28]...), Address: netip.AddrFrom4([4]byte(b[28:32]))})
		}
	})
}

func (s *Server) listenReplies(conn *packet.Conn, i *Interface, handle func(Overheard)) {
	frames(conn, 2048, func(b []byte) {
		if from, data, ok := udpOf(b); ok {
			handle(Overheard{Interface: i, From: from, Data: data})
		}
	})
}

// udpOf is the source and the payload of a UDP datagram in an Ethernet frame.
func udpOf(b []byte) (from netip.Addr, data []byte, ok bool) {
	if len(b) < 14+20+8 || b[14]>>4 != 4 {
		return from, nil, false
	}
	at := 14 + int(b[14]&15)*4
	if len(b) < at+8 {
		return from, nil, false
	}
	end := at + int(binary.BigEndian.Uint16(b[at+4:]))
	if end > len(b) || end < at+8 {
		return from, nil, false
	}
	return netip.AddrFrom4([4]byte(b[26:30])), b[at+8 : end], true
}

var errNoARP = errors.New("no raw socket for ARP on this interface")

// ProbeARP asks who has an address on an interface's link, as a host does that
// wants to use it (RFC 5227 section 2.1.1: the sender's address is zero).
func (s *Server) ProbeARP(i *Interface, a netip.Addr) error {
	v, ok := s.arps.Load(i.Index)
	now, err := net.InterfaceByIndex(i.Index) // a bridge takes another address with each port
	if !ok || err != nil || len(now.HardwareAddr) != 6 {
		return errNoARP
	}
	hw := now.HardwareAddr
	eth := &layers.Ethernet{SrcMAC: hw, DstMAC: Broadcast, EthernetType: layers.EthernetTypeARP}
	arp := &layers.ARP{AddrType: layers.LinkTypeEthernet, Protocol: layers.EthernetTypeIPv4, HwAddressSize: 6, ProtAddressSize: 4,
		Operation:       layers.ARPRequest,
		SourceHwAddress: hw, SourceProtAddress: make([]byte, 4), DstHwAddress: make([]byte, 6), DstProtAddress: a.AsSlice()}
	buf := gopacket.NewSerializeBuffer()
	if err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{}, eth, arp); err != nil {
		return err
	}
	_, err = v.(*packet.Conn).WriteTo(buf.Bytes(), &packet.Addr{HardwareAddr: eth.DstMAC})
	return err
}

// allServers6 are all relay agents and servers of a link.
var allServers6 = netip.MustParseAddr("ff02::1:2")

// SendMulticast sends a client's message from an interface to all servers and relays of its link (RFC
// 8415 section 7.1), as a client with the interface's link-local address would. This host does not hear it.
func (s *Server) SendMulticast(i *Interface, data []byte) error {
	from := i.LinkLocal()
	if !from.IsValid() {
		return fmt.Errorf("interface %s has no link-local address", i.Name)
	}
	return s.sendRaw(i, i.Hardware, net.HardwareAddr{0x33, 0x33, 0, 1, 0, 2}, netip.AddrPortFrom(from, ClientPort6),
		netip.AddrPortFrom(allServers6, ServerPort6), data)
}

// LinkLocal is the interface's link-local address, or not valid.
func (i *Interface) LinkLocal() netip.Addr {
	for _, p := range i.Prefixes6 {
		if p.Addr().IsLinkLocalUnicast() {
			return p.Addr()
		}
	}
	return netip.Addr{}
}

// SendBroadcast sends a client's message as a broadcast frame from an interface,
// as a client with that hardware address on the link would.
func (s *Server) SendBroadcast(i *Interface, hw net.HardwareAddr, data []byte) error {
	return s.sendRaw(i, hw, Broadcast, netip.AddrPortFrom(netip.IPv4Unspecified(), ClientPort),
		netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), ServerPort), data)
}
