package wire

import (
	"bytes"
	"fmt"
	"net"
	"net/netip"
	"slices"
)

// etherTypeWake is the type of Ethernet frames that carry a magic packet and nothing else.
const etherTypeWake = 0x0842

// discardPort is where magic packets go that are sent as UDP: nobody listens there, and
// network cards find them wherever they are.
const discardPort = 9

// Broadcast is the hardware address of everybody on a link.
var Broadcast = net.HardwareAddr{255, 255, 255, 255, 255, 255}

// MagicPacket is what wakes a machine that sleeps: six octets of ones, then its hardware
// address 16 times.
func MagicPacket(hw net.HardwareAddr) []byte {
	return append(slices.Clone([]byte(Broadcast)), bytes.Repeat(hw, 16)...)
}

// Wake broadcasts a frame with the magic packet of a machine from an interface.
func (s *Server) Wake(i *Interface, hw net.HardwareAddr) error {
	if len(hw) != 6 || len(i.Hardware) != 6 {
		return fmt.Errorf("no frame from %s wakes %s: both need an Ethernet address", i.Name, hw)
	}
	frame := slices.Concat(Broadcast, i.Hardware, []byte{etherTypeWake >> 8, etherTypeWake & 0xff}, MagicPacket(hw))
	return s.write(i, Broadcast, frame)
}

// WakeBeyond sends the magic packet of a machine to the broadcast address of the subnet that it
// is in, beyond routers, which have to let it through.
func (s *Server) WakeBeyond(everybody netip.Addr, hw net.HardwareAddr) error {
	if len(hw) != 6 {
		return fmt.Errorf("%s is no Ethernet address, so no packet wakes it", hw)
	}
	conn, err := net.ListenUDP("udp4", nil) // the standard library permits it to broadcast
	if err != nil {
		return fmt.Errorf("send a magic packet to %s: %w", everybody, err)
	}
	defer conn.Close()
	if _, err = conn.WriteToUDPAddrPort(MagicPacket(hw), netip.AddrPortFrom(everybody, discardPort)); err != nil {
		return fmt.Errorf("send a magic packet to %s: %w", everybody, err)
	}
	return nil
}
