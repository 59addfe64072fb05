// Package dhcp4 is the codec of the DHCPv4 wire format (RFC 951, 2131, 2132,
// 3046, 3396): octets come in and a Message goes out, and back. It knows what
// the fields are, never what to answer. All integers are big-endian.
package dhcp4

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/request"
)

// Type is a DHCP message type (option 53).
type Type uint8

// Message types of RFC 2131 and later; None marks a BOOTP message without option 53.
const (
	None Type = iota
	Discover
	Offer
	Request
	Decline
	Ack
	Nak
	Release
	Inform
	ForceRenew      // RFC 3203
	LeaseQuery      // RFC 4388, and so on to LeaseActive
	LeaseUnassigned //
	LeaseUnknown    //
	LeaseActive     //
)

var typeNames = [...]string{"BOOTP", "DISCOVER", "OFFER", "REQUEST", "DECLINE", "ACK", "NAK", "RELEASE", "INFORM",
	"FORCERENEW", "LEASEQUERY", "LEASEUNASSIGNED", "LEASEUNKNOWN", "LEASEACTIVE"}

func (t Type) String() string {
	if int(t) < len(typeNames) {
		return typeNames[t]
	}
	return fmt.Sprintf("TYPE-%d", uint8(t))
}

// Values of the op field.
const (
	BootRequest = 1
	BootReply   = 2
)

// BroadcastFlag in Flags asks for replies to be broadcast (RFC 2131 section 2).
const BroadcastFlag = 0x8000

// Sizes in octets.
const (
	headerSize = 236            // fixed fields, before the magic cookie
	optionsAt  = headerSize + 4 // first option
	snameAt    = 44             // sname field
	fileAt     = 108            // file field
	minSize    = 300            // BOOTP minimum (RFC 1542 section 2.1)
	udpIP      = 28             // IP and UDP headers without options
	MinMax     = 576 - udpIP    // what every client must take (RFC 2131 section 2)
	MaxMax     = 1500 - udpIP   // what fits one Ethernet frame
	BootpSize  = 300            // a reply to BOOTP, vendor area of 64 octets included
	maxRelay   = 255            // longest option 82 that is echoed
)

var magic = [4]byte{99, 130, 83, 99}

// Option is one option as received or to be sent. Data of received options
// points into the datagram unless the option was split (RFC 3396).
type Option struct {
	Code uint8
	Data []byte
}

// Options is a list of options in the order of the wire.
type Options []Option

// Get is the data of the first option with that code; ok tells whether it is
// there at all (its data may be empty).
func (o Options) Get(code uint8) (data []byte, ok bool) {
	for i := range o {
		if o[i].Code == code {
			return o[i].Data, true
		}
	}
	return nil, false
}

// Addr is the value of an option that holds exactly one IPv4 address.
func (o Options) Addr(code uint8) (netip.Addr, bool) {
	b, ok := o.Get(code)
	if !ok || len(b) != 4 {
		return netip.Addr{}, false
	}
	return netip.AddrFrom4([4]byte(b)), true
}

// Uint32 is the value of an option of exactly four octets.
func (o Options) Uint32(code uint8) (uint32, bool) {
	b, ok := o.Get(code)
	if !ok || len(b) != 4 {
		return 0, false
	}
	return binary.BigEndian.Uint32(b), true
}

// Message is a decoded DHCPv4 or BOOTP message (RFC 2131 section 2).
type Message struct {
	Op                             uint8
	HType                          uint8
	Hops                           uint8
	XID                            uint32
	Secs                           uint16
	Flags                          uint16
	CIAddr, YIAddr, SIAddr, GIAddr netip.Addr
	CHAddr                         addr.Hardware // hlen octets of chaddr
	SName, File                    []byte        // without trailing NULs; nil where overloaded
	Type                           Type
	Options                        Options // as joined by RFC 3396, without pad, end and 52
	Agent                          Relay   // what option 82 says

	wants [1]request.Association // room for what Request gives
	hint  [1]netip.Prefix
}

// Errors that Decode wraps; each names one way a datagram can be malformed, so
// that drops can be counted by reason.
var (
	ErrShort    = errors.New("shorter than the fixed fields")
	ErrHardware = errors.New("hardware address longer than 16 octets")
	ErrOption   = errors.New("option runs past the end")
	ErrOverload = errors.New("bad option overload")
	ErrType     = errors.New("bad message type")
)

// Decode reads a datagram into m, which it overwrites; m's option list is
// reused. The data of options points into b. Errors wrap ErrShort, ErrHardware,
// ErrOption, ErrOverload or ErrType.
func Decode(m *Message, b []byte) error {
	*m = Message{Options: m.Options[:0]}
	if len(b) < headerSize {
		return fmt.Errorf("decode DHCPv4: %d octets: %w", len(b), ErrShort)
	}
	m.Op, m.HType, m.Hops = b[0], b[1], b[3]
	hlen := int(b[2])
	if hlen > 16 {
		return fmt.Errorf("decode DHCPv4: hlen %d: %w", hlen, ErrHardware)
	}
	m.XID = binary.BigEndian.Uint32(b[4:])
	m.Secs = binary.BigEndian.Uint16(b[8:])
	m.Flags = binary.BigEndian.Uint16(b[10:])
	m.CIAddr = netip.AddrFrom4([4]byte(b[12:16]))
	m.YIAddr = netip.AddrFrom4([4]byte(b[16:20]))
	m.SIAddr = netip.AddrFrom4([4]byte(b[20:24]))
	m.GIAddr = netip.AddrFrom4([4]byte(b[24:28]))
	m.CHAddr = addr.Hardware(b[28 : 28+hlen])
	sname, file := b[snameAt:fileAt], b[fileAt:headerSize]
	if len(b) < optionsAt || [4]byte(b[headerSize:optionsAt]) != magic {
		m.SName, m.File = trim(sname), trim(file)
		return nil // BOOTP with another vendor area, or none (RFC 951)
	}
	if err := m.Options.parse(b[optionsAt:]); err != nil {
		return err
	}
	var overload byte
	if v, ok := m.Options.Get(option.Overload); ok {
		if len(v) != 1 || v[0] < 1 || v[0] > 3 {
			return fmt.Errorf("decode DHCPv4: option 52 is %x: %w", v, ErrOverload)
		}
		overload = v[0]
		m.Options.remove(option.Overload)
	}
	// RFC 3396 section 5: options, then file, then sname.
	if overload&1 != 0 {
		if err := m.Options.parse(file); err != nil {
			return err
		}
	} else {
		m.File = trim(file)
	}
	if overload&2 != 0 {
		if err := m.Options.parse(sname); err != nil {
			return err
		}
	} else {
		m.SName = trim(sname)
	}
	if v, ok := m.Options.Get(option.MessageType); ok {
		if len(v) != 1 || v[0] == 0 {
			return fmt.Errorf("decode DHCPv4: option 53 is %x: %w", v, ErrType)
		}
		m.Type = Type(v[0])
	}
	if b, ok := m.Options.Get(option.RelayAgent); ok {
		m.Agent = ParseRelay(b)
	}
	return nil
}

// parse adds the options of one field, joining instances of the same code.
func (o *Options) parse(b []byte) error {
	for i := 0; i < len(b); {
		code := b[i]
		if code == 0 {
			i++
			continue
		}
		if code == option.End {
			return nil
		}
		if i+2 > len(b) || i+2+int(b[i+1]) > len(b) {
			return fmt.Errorf("decode DHCPv4: option %d at octet %d: %w", code, i, ErrOption)
		}
		data := b[i+2 : i+2+int(b[i+1]) : i+2+int(b[i+1])]
		i += 2 + len(data)
		if j := o.index(code); j >= 0 {
			(*o)[j].Data = append((*o)[j].Data, data...) // the cap above forces a copy
		} else {
			*o = append(*o, Option{code, data})
		}
	}
	return nil
}

func (o Options) index(code uint8) int {
	for i := range o {
		if o[i].Code == code {
			return i
		}
	}
	return -1
}

func (o *Options) remove(code uint8) {
	if i := o.index(code); i >= 0 {
		*o = append((*o)[:i], (*o)[i+1:]...)
	}
}

// trim cuts a field at its first NUL.
func trim(b []byte) []byte {
	for i, c := range b {
		if c == 0 {
			return b[:i]
		}
	}
	return b
}

// Broadcast reports whether the client asks for broadcast replies.
func (m *Message) Broadcast() bool { return m.Flags&BroadcastFlag != 0 }
