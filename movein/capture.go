package movein

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"net/netip"
	"slices"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/edit"
)

// network is a subnet as the answers of a capture show it.
type network struct {
	prefix  netip.Prefix
	relays  []netip.Addr
	servers []netip.Addr
	clients map[string]*client // by hardware address
	options map[uint8]map[string]int
	leases  map[uint32]int
	answers int
	span    span
}

// client is who was given an address.
type client struct {
	hardware addr.Hardware
	id       addr.Octets // client identifier that it sends, if it does
	until    time.Time   // when what it was given last ends
	address  netip.Addr
	name     string
	vendor   string
	file     string // boot file that it was given
	forGood  bool   // its address never ends
	seen     int
	span     span
}

// span is from when to when something was seen.
type span struct{ from, to time.Time }

func (s *span) at(t time.Time) {
	if s.from.IsZero() || t.Before(s.from) {
		s.from = t
	}
	if t.After(s.to) {
		s.to = t
	}
}

// String says it in UTC: the days only where they differ.
func (s span) String() string {
	from, to := s.from.UTC(), s.to.UTC()
	if from.Truncate(24 * time.Hour).Equal(to.Truncate(24 * time.Hour)) {
		return fmt.Sprintf("%s, %s to %s", from.Format("2006-01-02"), from.Format("15:04"), to.Format("15:04"))
	}
	return from.Format("2006-01-02 15:04") + " to " + to.Format("2006-01-02 15:04")
}

// packets reads a capture file.
type packets interface {
	ReadPacketData() ([]byte, gopacket.CaptureInfo, error)
	LinkType() layers.LinkType
}

func open(data []byte) (packets, error) {
	if bytes.HasPrefix(data, []byte{0x0a, 0x0d, 0x0d, 0x0a}) {
		return pcapgo.NewNgReader(bytes.NewReader(data), pcapgo.DefaultNgReaderOptions)
	}
	return pcapgo.NewReader(bytes.NewReader(data))
}

// heard is a message that was captured, told from its copies on the way through a relay.
type heard struct {
	xid    uint32
	kind   dhcp4.Type
	client string
}

// capture reads the DHCPv4 messages of a capture.
func (g *gatherer) capture(data []byte) error {
	g.line = 0
	in, err := open(data)
	if err != nil {
		return fmt.Errorf("it is no capture that can be read: %w", err)
	}
	last := map[heard]time.Time{}
	vendors := map[string]string{} // by hardware address
	ids := map[string]addr.Octets{}
	messages, bad := 0, 0
	for {
		frame, info, err := in.ReadPacketData()
		if errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			g.leave("it ends within a packet; what is before that was read")
			break
		}
		payload := dhcpOf(frame, in.LinkType())
		if payload == nil {
			continue
		}
		var m dhcp4.Message
		if dhcp4.Decode(&m, payload) != nil {
			bad++
			continue
		}
		messages++
		if v := m.Vendor(); v != "" && m.Op == dhcp4.BootRequest {
			vendors[string(m.CHAddr)] = edit.Clean(v)
		}
		if id, ok := m.Options.Get(uint8(option.ClientID)); ok && len(id) >= 2 && m.Op == dhcp4.BootRequest {
			ids[string(m.CHAddr)] = addr.Octets(string(id))
		}
		key := heard{m.XID, m.Type, string(m.CHAddr)}
		if m.Op != dhcp4.BootReply || info.Timestamp.Sub(last[key]).Abs() < 2*time.Second {
			continue
		}
		last[key] = info.Timestamp
		g.answer(&m, info.Timestamp, vendors[string(m.CHAddr)], ids[string(m.CHAddr)])
	}
	if messages == 0 {
		g.leave("it has no DHCPv4 message")
	}
	if bad > 0 {
		g.leave("%d messages are malformed and were left out", bad)
	}
	return nil
}

// dhcpOf is the DHCPv4 message in a frame, or nil.
func dhcpOf(frame []byte, link layers.LinkType) []byte {
	p := gopacket.NewPacket(frame, link, gopacket.DecodeOptions{Lazy: true, NoCopy: true})
	udp, ok := p.Layer(layers.LayerTypeUDP).(*layers.UDP)
	if !ok || udp.SrcPort != 67 && udp.DstPort != 67 {
		return nil
	}
	return udp.Payload
}

// answer takes in what a server gave.
func (g *gatherer) answer(m *dhcp4.Message, at time.Time, vendor string, id addr.Octets) {
	mask, ok := m.Options.Get(uint8(option.SubnetMask))
	if m.Type != dhcp4.Ack && m.Type != dhcp4.None || !ok || len(mask) != 4 || m.YIAddr.IsUnspecified() || len(m.CHAddr) == 0 {
		return
	}
	value := binary.BigEndian.Uint32(mask)
	bits := bits.LeadingZeros32(^value)
	if bits < 8 || value != ^uint32(0)<<(32-bits) {
		return
	}
	prefix := netip.PrefixFrom(m.YIAddr, bits).Masked()
	n := g.nets[prefix]
	if n == nil {
		n = &network{prefix: prefix, clients: map[string]*client{}, options: map[uint8]map[string]int{}, leases: map[uint32]int{}}
		g.nets[prefix] = n
	}
	n.answers++
	n.span.at(at)
	if !m.GIAddr.IsUnspecified() && prefix.Contains(m.GIAddr) && !slices.Contains(n.relays, m.GIAddr) {
		n.relays = append(n.relays, m.GIAddr)
	}
	if server, ok := m.Options.Addr(uint8(option.ServerID)); ok && !slices.Contains(n.servers, server) {
		n.servers = append(n.servers, server)
	}
	c := n.clients[string(m.CHAddr)]
	if c == nil {
		c = &client{hardware: addr.Hardware(string(m.CHAddr))}
		n.clients[string(m.CHAddr)] = c
	}
	c.address, c.vendor, c.name, c.file = m.YIAddr, vendor, edit.Clean(m.Hostname()), edit.Clean(bootFile(m))
	c.id, c.until = id, time.Time{}
	c.seen++
	c.span.at(at)
	t, timed := m.Options.Uint32(uint8(option.AddressTime))
	if c.forGood = !timed || t == 0xffffffff; timed {
		n.leases[t]++
		c.until = at.Add(time.Duration(t) * time.Second)
	}
	for code, data := range m.Options.Each() {
		if settable(code) && !usual(uint16(code), data, t) {
			of := uint8(code)
			if n.options[of] == nil {
				n.options[of] = map[string]int{}
			}
			n.options[of][string(data)]++
		}
	}
}

// usual reports whether an option is what every server gives with a lease of so many seconds: T1
// and T2 of RFC 2131 section 4.4.5.
func usual(code uint16, data []byte, lease uint32) bool {
	if len(data) != 4 {
		return false
	}
	switch t := binary.BigEndian.Uint32(data); code {
	case option.RenewalTime:
		return t == lease/2
	case option.RebindingTime:
		return t == uint32(uint64(lease)*7/8)
	}
	return false
}

func bootFile(m *dhcp4.Message) string {
	if b, ok := m.Options.Get(bootFileName); ok {
		return string(b)
	}
	return string(m.File)
}

// Options that are looked at by themselves, or are no network's.
const (
	vendorSpecific = 43
	bootFileName   = 67
)

// settable reports whether a plan sets an option: not what the service works out by itself, nor what
// is one client's.
func settable(code uint16) bool {
	switch code {
	case option.Hostname, option.SubnetMask, bootFileName, vendorSpecific:
		return false
	}
	d := option.Standard4.ByCode(code)
	return !d.Managed && d.Title != ""
}
