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
	servers []string
	clients map[identity]*client
	options map[option.Key]map[string]int
	leases  map[uint32]int // lease times in seconds; of IPv6 the preferred ones
	valids  map[uint32]int // and the valid ones
	answers int
	span    span
}

func (n *network) family() option.Family {
	if n.prefix.Addr().Is6() {
		return option.V6
	}
	return option.V4
}

// identity is by what clients of a network are told apart: the hardware address, or the DUID with the
// number of the association, and the kind of what it is given.
type identity struct {
	id   string
	iaid addr.IAID
	kind int
}

// client is who was given something.
type client struct {
	hardware addr.Hardware
	id       addr.Octets // client identifier that it sends, if it does
	duid     addr.DUID
	iaid     addr.IAID
	until    time.Time // when what it was given last ends
	key      netip.Prefix
	name     string
	vendor   string
	file     string // boot file that it was given
	forGood  bool   // what it was given never ends
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
	family option.Family
	xid    uint32
	kind   uint8
	client string
}

// reel is a capture that is being read: who its clients say that they are, and what was read last.
type reel struct {
	*gatherer
	last    map[heard]time.Time
	vendors map[string]string      // by hardware address, or DUID
	ids     map[string]addr.Octets // by hardware address
	names   map[string]string      // by DUID, like what follows
	stands  map[string]addr.Hardware
	links   map[string]netip.Addr // an address of the link that it is on
	adrift  int                   // prefixes of which no message says on which link they are
}

// capture reads the messages of both families in a capture.
func (g *gatherer) capture(data []byte) error {
	g.line = 0
	in, err := open(data)
	if err != nil {
		return fmt.Errorf("it is no capture that can be read: %w", err)
	}
	r := &reel{gatherer: g, last: map[heard]time.Time{}, vendors: map[string]string{}, names: map[string]string{},
		ids: map[string]addr.Octets{}, stands: map[string]addr.Hardware{}, links: map[string]netip.Addr{}}
	messages, bad := 0, 0
	for {
		frame, info, err := in.ReadPacketData()
		if errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			g.leave("it ends within a packet; what is before that was read")
			break
		}
		payload, family := dhcpOf(frame, in.LinkType())
		if payload == nil {
			continue
		}
		if r.message(payload, family, info.Timestamp) != nil {
			bad++
			continue
		}
		messages++
	}
	if messages == 0 {
		g.leave("it has no message of DHCP")
	}
	if bad > 0 {
		g.leave("%d messages are malformed and were left out", bad)
	}
	if r.adrift > 0 {
		g.leave("%d times a prefix was delegated, and no message says on which link; capture beside a relay as well", r.adrift)
	}
	return nil
}

// dhcpOf is the message of DHCP in a frame, or nil, with its family.
func dhcpOf(frame []byte, link layers.LinkType) ([]byte, option.Family) {
	p := gopacket.NewPacket(frame, link, gopacket.DecodeOptions{Lazy: true, NoCopy: true})
	udp, ok := p.Layer(layers.LayerTypeUDP).(*layers.UDP)
	switch {
	case !ok:
	case udp.SrcPort == 67 || udp.DstPort == 67:
		return udp.Payload, option.V4
	case udp.SrcPort == 547 || udp.DstPort == 547:
		return udp.Payload, option.V6
	}
	return nil, option.V4
}

// message reads a message; the error says that it is malformed.
func (r *reel) message(payload []byte, family option.Family, at time.Time) error {
	if family == option.V6 {
		return r.message6(payload, at)
	}
	var m dhcp4.Message
	if err := dhcp4.Decode(&m, payload); err != nil {
		return err
	}
	hw := string(m.CHAddr)
	if v := m.Vendor(); v != "" && m.Op == dhcp4.BootRequest {
		r.vendors[hw] = edit.Clean(v)
	}
	if id, ok := m.Options.Get(uint8(option.ClientID)); ok && len(id) >= 2 && m.Op == dhcp4.BootRequest {
		r.ids[hw] = addr.Octets(string(id))
	}
	if m.Op == dhcp4.BootReply && r.first(heard{option.V4, m.XID, uint8(m.Type), hw}, at) {
		r.answer(&m, at)
	}
	return nil
}

// first reports whether a message is not the copy of one that was just read.
func (r *reel) first(h heard, at time.Time) bool {
	if at.Sub(r.last[h]).Abs() < 2*time.Second {
		return false
	}
	r.last[h] = at
	return true
}

// network is the one of a prefix, in which something was given at some time.
func (g *gatherer) network(prefix netip.Prefix, at time.Time, relay netip.Addr, server string) *network {
	n := g.nets[prefix]
	if n == nil {
		n = &network{prefix: prefix, clients: map[identity]*client{}, options: map[option.Key]map[string]int{}, leases: map[uint32]int{},
			valids: map[uint32]int{}}
		g.nets[prefix] = n
	}
	n.answers++
	n.span.at(at)
	if prefix.Contains(relay) && !slices.Contains(n.relays, relay) {
		n.relays = append(n.relays, relay)
	}
	if server != "" && !slices.Contains(n.servers, server) {
		n.servers = append(n.servers, server)
	}
	return n
}

// client is a client of the network that was given something at some time.
func (n *network) client(id identity, at time.Time) *client {
	c := n.clients[id]
	if c == nil {
		c = &client{}
		n.clients[id] = c
	}
	c.seen++
	c.span.at(at)
	return c
}

// lasts sets for how many seconds from a moment a client was given what it has.
func (c *client) lasts(seconds uint32, timed bool, at time.Time) {
	c.until = time.Time{}
	if c.forGood = !timed || seconds == forever; timed {
		c.until = at.Add(time.Duration(seconds) * time.Second)
	}
}

// forever is the lease time that never ends, in seconds.
const forever = 0xffffffff

// option counts a value of an option.
func (n *network) option(k option.Key, data []byte) {
	if n.options[k] == nil {
		n.options[k] = map[string]int{}
	}
	n.options[k][string(data)]++
}

// answer takes in what a server gave.
func (r *reel) answer(m *dhcp4.Message, at time.Time) {
	mask, ok := m.Options.Get(uint8(option.SubnetMask))
	if m.Type != dhcp4.Ack && m.Type != dhcp4.None || !ok || len(mask) != 4 || m.YIAddr.IsUnspecified() || len(m.CHAddr) == 0 {
		return
	}
	value := binary.BigEndian.Uint32(mask)
	bits := bits.LeadingZeros32(^value)
	if bits < 8 || value != ^uint32(0)<<(32-bits) {
		return
	}
	server := ""
	if a, ok := m.Options.Addr(uint8(option.ServerID)); ok {
		server = a.String()
	}
	n := r.network(netip.PrefixFrom(m.YIAddr, bits).Masked(), at, m.GIAddr, server)
	c := n.client(identity{id: string(m.CHAddr), kind: ofIPv4}, at)
	c.hardware, c.key = addr.Hardware(string(m.CHAddr)), netip.PrefixFrom(m.YIAddr, 32)
	c.vendor, c.name, c.file = r.vendors[string(m.CHAddr)], edit.Clean(m.Hostname()), edit.Clean(bootFile(m))
	c.id = r.ids[string(m.CHAddr)]
	t, timed := m.Options.Uint32(uint8(option.AddressTime))
	if c.lasts(t, timed, at); timed {
		n.leases[t]++
	}
	for code, data := range m.Options.Each() {
		if settable(option.Std(code)) && !usual(code, data, t) {
			n.option(option.Std(code), data)
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
	bootFileURL    = 59 // DHCPv6
)

// settable reports whether a plan sets an option: not what the service works out by itself, nor what
// is one client's.
func settable(k option.Key) bool {
	if k.Family == option.V6 {
		switch k.Code {
		case option.Preference6, option.UserClass6, option.VendorClass6, option.VendorOptions6, bootFileURL:
			return false
		}
	} else {
		switch k.Code {
		case option.Hostname, option.SubnetMask, bootFileName, vendorSpecific:
			return false
		}
	}
	d := option.Standard(k.Family).ByCode(k.Code)
	return !d.Managed && d.Title != ""
}
