package wire

import (
	"encoding/binary"
	"errors"
	"net"
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/mdlayher/packet"
	"golang.org/x/net/bpf"
)

const etherIPv6 = 0x86dd

// Places in a frame of ICMPv6 over Ethernet without extension headers, and the types of what
// routers say (RFC 4861 section 4.2), and of what answers a neighbour solicitation (section 4.4).
const (
	nextHeader6      = 14 + 6
	hopLimit6        = 14 + 7
	source6          = 14 + 8
	payload6         = 14 + 40
	icmp6            = payload6
	udp6             = 17
	flags6           = icmp6 + 5
	routerLifetime6  = icmp6 + 6
	target6          = icmp6 + 8
	options6         = target6 + 16
	routerAdvertises = 134
	advertises       = 136
	targetLayer2     = 2 // option: the link-layer address of the target
)

// RouterAdvertisement is what a router of a link tells its hosts about addresses.
type RouterAdvertisement struct {
	Router  netip.Addr
	Managed bool // M: ask a DHCPv6 server for an address
	Other   bool // O: ask one for options
}

// nearOnly lets advertisements of routers and of neighbours pass, and UDP to the client port.
var nearOnly = func() []bpf.RawInstruction {
	raw, err := bpf.Assemble([]bpf.Instruction{
		bpf.LoadAbsolute{Off: nextHeader6, Size: 1},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: udp6, SkipTrue: 5},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 58, SkipTrue: 3}, // ICMPv6
		bpf.LoadAbsolute{Off: icmp6, Size: 1},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: routerAdvertises, SkipTrue: 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: advertises, SkipTrue: 3},
		bpf.RetConstant{Val: 0},
		bpf.LoadAbsolute{Off: payload6 + 2, Size: 2}, // destination port
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: ClientPort6, SkipTrue: 1},
		bpf.RetConstant{Val: 65535},
		bpf.RetConstant{Val: 0},
	})
	if err != nil {
		panic(err) // the program above is all there is to go wrong
	}
	return raw
}()

func (s *Server) listenNeighbours(conn *packet.Conn, i *Interface, handle func(Overheard)) {
	frames(conn, 2048, func(b []byte) {
		if a, hw, ok := advertised(b); ok {
			handle(Overheard{Interface: i, Speaker: hw, Address: a})
		} else if r, ok := routerSays(b); ok {
			handle(Overheard{Interface: i, Router: &r})
		} else if from, data, ok := udp6Of(b); ok {
			handle(Overheard{Interface: i, From: from, Data: data})
		}
	})
}

// udp6Of is the source and the payload of a UDP datagram to the client port in an Ethernet frame.
func udp6Of(b []byte) (from netip.Addr, data []byte, ok bool) {
	if len(b) < payload6+8 || b[nextHeader6] != udp6 || binary.BigEndian.Uint16(b[payload6+2:]) != ClientPort6 {
		return from, nil, false
	}
	end := payload6 + int(binary.BigEndian.Uint16(b[payload6+4:]))
	if end > len(b) || end < payload6+8 {
		return from, nil, false
	}
	return netip.AddrFrom16([16]byte(b[source6:])), b[payload6+8 : end], true
}

// advertised is the address that a neighbour advertisement in an Ethernet frame speaks for, and
// whose it is. One that came from beyond the link does not count (hop limit, section 7.1.2).
func advertised(b []byte) (a netip.Addr, hw net.HardwareAddr, ok bool) {
	if len(b) < options6 || b[nextHeader6] != 58 || b[hopLimit6] != 255 || b[icmp6] != advertises {
		return a, nil, false
	}
	hw = append(net.HardwareAddr(nil), b[6:12]...)
	if o := b[options6:]; len(o) >= 8 && o[0] == targetLayer2 && o[1] == 1 {
		hw = append(hw[:0], o[2:8]...)
	}
	return netip.AddrFrom16([16]byte(b[target6:])), hw, true
}

// routerSays is what a router advertisement in an Ethernet frame says; ok is false for one that is
// none, or by which its sender is no router of hosts any more (a lifetime of 0).
func routerSays(b []byte) (r RouterAdvertisement, ok bool) {
	if len(b) < target6+8 || b[nextHeader6] != 58 || b[hopLimit6] != 255 || b[icmp6] != routerAdvertises {
		return r, false
	}
	const managed, other = 0x80, 0x40
	r = RouterAdvertisement{netip.AddrFrom16([16]byte(b[source6:])), b[flags6]&managed != 0, b[flags6]&other != 0}
	return r, r.Router.IsLinkLocalUnicast() && (b[routerLifetime6] != 0 || b[routerLifetime6+1] != 0)
}

var errNoNeighbours = errors.New("no raw socket for neighbour solicitations on this interface")

// ProbeNeighbour asks who has an IPv6 address on an interface's link, as a host does that wants to
// use it (RFC 4862 section 5.4.2: from the unspecified address).
func (s *Server) ProbeNeighbour(i *Interface, a netip.Addr) error {
	v, ok := s.neighbours.Load(i.Index)
	now, err := net.InterfaceByIndex(i.Index)
	if !ok || err != nil || len(now.HardwareAddr) != 6 {
		return errNoNeighbours
	}
	frame, err := solicitation(now.HardwareAddr, a)
	if err != nil {
		return err
	}
	_, err = v.(*packet.Conn).WriteTo(frame, &packet.Addr{HardwareAddr: net.HardwareAddr(frame[:6])})
	return err
}

// solicitation is a frame that asks for an address, to its solicited-node group.
func solicitation(from net.HardwareAddr, a netip.Addr) ([]byte, error) {
	of := a.As16()
	group := netip.MustParseAddr("ff02::1:ff00:0").As16()
	copy(group[13:], of[13:])
	to := net.HardwareAddr{0x33, 0x33, group[12], group[13], group[14], group[15]}
	eth := &layers.Ethernet{SrcMAC: from, DstMAC: to, EthernetType: layers.EthernetTypeIPv6}
	ip := &layers.IPv6{Version: 6, HopLimit: 255, NextHeader: layers.IPProtocolICMPv6, SrcIP: net.IPv6unspecified, DstIP: group[:]}
	icmp := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeNeighborSolicitation, 0)}
	if err := icmp.SetNetworkLayerForChecksum(ip); err != nil {
		return nil, err
	}
	ask := &layers.ICMPv6NeighborSolicitation{TargetAddress: of[:]}
	buf := gopacket.NewSerializeBuffer()
	err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, eth, ip, icmp, ask)
	return buf.Bytes(), err
}
