// Package dhcp6 is the codec of the DHCPv6 wire format (RFC 8415): octets come in and a Message
// goes out, and back, with the relays around it. It knows what the fields are, never what to
// answer. All integers are big-endian.
package dhcp6

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/request"
)

// Type is a message type (RFC 8415 section 7.3).
type Type uint8

// Message types.
const (
	Solicit            Type = 1
	Advertise          Type = 2
	Request            Type = 3
	Confirm            Type = 4
	Renew              Type = 5
	Rebind             Type = 6
	Reply              Type = 7
	Release            Type = 8
	Decline            Type = 9
	Reconfigure        Type = 10
	InformationRequest Type = 11
	RelayForw          Type = 12
	RelayRepl          Type = 13
	AddrRegInform      Type = 36 // RFC 9686
	AddrRegReply       Type = 37
)

var typeNames = map[Type]string{Solicit: "SOLICIT", Advertise: "ADVERTISE", Request: "REQUEST", Confirm: "CONFIRM", Renew: "RENEW",
	Rebind: "REBIND", Reply: "REPLY", Release: "RELEASE", Decline: "DECLINE", Reconfigure: "RECONFIGURE",
	InformationRequest: "INFORMATION-REQUEST", RelayForw: "RELAY-FORW", RelayRepl: "RELAY-REPL", 14: "LEASEQUERY", 15: "LEASEQUERY-REPLY",
	AddrRegInform: "ADDR-REG-INFORM", AddrRegReply: "ADDR-REG-REPLY"}

func (t Type) String() string {
	if name := typeNames[t]; name != "" {
		return name
	}
	return fmt.Sprintf("TYPE-%d", uint8(t))
}

// Status is a status code (RFC 8415 section 21.13).
type Status uint16

// Status codes.
const (
	Success       Status = 0
	UnspecFail    Status = 1
	NoAddrsAvail  Status = 2
	NoBinding     Status = 3
	NotOnLink     Status = 4
	UseMulticast  Status = 5
	NoPrefixAvail Status = 6
)

var statusNames = [...]string{"Success", "UnspecFail", "NoAddrsAvail", "NoBinding", "NotOnLink", "UseMulticast", "NoPrefixAvail"}

func (s Status) String() string {
	if int(s) < len(statusNames) {
		return statusNames[s]
	}
	return fmt.Sprintf("status %d", uint16(s))
}

// Bounds of messages.
const (
	relaysMost = 9       // nested: hop counts go from 0 to 8 (HOP_COUNT_LIMIT, section 7.6)
	sizeMost   = 1 << 16 // octets of a datagram
	relayHead  = 34      // type, hops, two addresses
	head       = 4       // type, transaction
)

// Option is one option as received or to be sent.
type Option = request.Option

// Options are options in the order of the wire.
type Options = request.Options

// Message is a message from or to a client, with the relays that it came through.
type Message struct {
	Type        Type
	Transaction uint32 // 24 bits
	Options     Options
	IAs         []IA    // what IA_NA, IA_TA and IA_PD options say, in their order
	Relays      []Relay // the outermost first

	wants []request.Association // room for what Request gives
	hints []netip.Prefix
}

// Relay is what a relay put around a message (RFC 8415 section 9).
type Relay struct {
	Hops    uint8
	Link    netip.Addr // an address of the client's link, or the unspecified one
	Peer    netip.Addr // that the message came from
	Options Options    // without the message itself
}

// IA is an identity association (sections 21.4 to 21.6, 21.21).
type IA struct {
	Code    uint16 // option.IANA, option.IATA or option.IAPD
	ID      uint32 // IAID
	T1, T2  uint32 // seconds; of IA_TA there are none
	Leases  []Lease
	Status  Status
	Message string // beside a status that is not Success
}

// Lease is an address or a prefix of an association.
type Lease struct {
	Prefix           netip.Prefix // an address is one of full length
	Preferred, Valid uint32       // seconds
	Exclude          []byte       // of a prefix: data of option 67 (RFC 6603); nil for none
}

// Errors that Decode wraps; each names one way a datagram can be malformed, so
// that drops can be counted by reason.
var (
	ErrShort  = errors.New("shorter than the fixed fields")
	ErrOption = errors.New("option runs past the end")
	ErrRelays = errors.New("more relays than hops are allowed")
	ErrIA     = errors.New("bad identity association")
)

// Decode reads a datagram into m, which it overwrites; m's lists are reused. The data of
// options points into b. Errors wrap ErrShort, ErrOption, ErrRelays or ErrIA.
func Decode(m *Message, b []byte) error {
	*m = Message{Options: m.Options[:0], IAs: m.IAs[:0], Relays: m.Relays[:0], wants: m.wants[:0], hints: m.hints[:0]}
	for {
		if len(b) < head {
			return fmt.Errorf("decode DHCPv6: %d octets: %w", len(b), ErrShort)
		}
		m.Type = Type(b[0])
		if m.Type != RelayForw && m.Type != RelayRepl {
			break
		}
		if len(b) < relayHead {
			return fmt.Errorf("decode DHCPv6: relayed, %d octets: %w", len(b), ErrShort)
		}
		if len(m.Relays) == relaysMost {
			return fmt.Errorf("decode DHCPv6: %w", ErrRelays)
		}
		r := Relay{Hops: b[1], Link: netip.AddrFrom16([16]byte(b[2:18])), Peer: netip.AddrFrom16([16]byte(b[18:34]))}
		inner := []byte(nil)
		err := each(b[relayHead:], func(code uint16, data []byte) error {
			if code == option.RelayMessage6 && inner == nil {
				inner = data
				return nil
			}
			r.Options = append(r.Options, Option{Code: code, Data: data})
			return nil
		})
		if err != nil {
			return err
		}
		if inner == nil {
			return fmt.Errorf("decode DHCPv6: relayed without a message: %w", ErrShort)
		}
		m.Relays = append(m.Relays, r)
		b = inner
	}
	m.Transaction = binary.BigEndian.Uint32(b) & 0xffffff
	return each(b[head:], func(code uint16, data []byte) error {
		m.Options = append(m.Options, Option{Code: code, Data: data})
		switch code {
		case option.IANA, option.IATA, option.IAPD:
			ia, err := parseIA(code, data)
			if err != nil {
				return err
			}
			m.IAs = append(m.IAs, ia)
		}
		return nil
	})
}

// each yields options one after the other.
func each(b []byte, yield func(code uint16, data []byte) error) error {
	for len(b) > 0 {
		if len(b) < 4 || len(b) < 4+int(binary.BigEndian.Uint16(b[2:])) {
			return fmt.Errorf("decode DHCPv6: %w", ErrOption)
		}
		n := int(binary.BigEndian.Uint16(b[2:]))
		if err := yield(binary.BigEndian.Uint16(b), b[4:4+n:4+n]); err != nil {
			return err
		}
		b = b[4+n:]
	}
	return nil
}

func parseIA(code uint16, b []byte) (ia IA, err error) {
	fixed := 12
	if code == option.IATA {
		fixed = 4
	}
	if len(b) < fixed {
		return ia, fmt.Errorf("decode DHCPv6: option %d of %d octets: %w", code, len(b), ErrIA)
	}
	ia = IA{Code: code, ID: binary.BigEndian.Uint32(b)}
	if fixed == 12 {
		ia.T1, ia.T2 = binary.BigEndian.Uint32(b[4:]), binary.BigEndian.Uint32(b[8:])
	}
	err = each(b[fixed:], func(sub uint16, data []byte) error {
		switch {
		case sub == option.StatusCode6 && len(data) >= 2:
			ia.Status, ia.Message = Status(binary.BigEndian.Uint16(data)), option.Clean(data[2:])
		case sub == option.IAAddress && code != option.IAPD:
			if len(data) < 24 {
				return fmt.Errorf("decode DHCPv6: address of %d octets: %w", len(data), ErrIA)
			}
			a := netip.AddrFrom16([16]byte(data))
			ia.Leases = append(ia.Leases, Lease{Prefix: netip.PrefixFrom(a, 128), Preferred: binary.BigEndian.Uint32(data[16:]),
				Valid: binary.BigEndian.Uint32(data[20:])})
		case sub == option.IAPrefix && code == option.IAPD:
			if len(data) < 25 || data[8] > 128 {
				return fmt.Errorf("decode DHCPv6: prefix of %d octets: %w", len(data), ErrIA)
			}
			a := netip.AddrFrom16([16]byte(data[9:]))
			ia.Leases = append(ia.Leases, Lease{Prefix: netip.PrefixFrom(a, int(data[8])), Preferred: binary.BigEndian.Uint32(data),
				Valid: binary.BigEndian.Uint32(data[4:])})
		}
		return nil
	})
	return ia, err
}

// ClientID is the DUID of the client, or nil.
func (m *Message) ClientID() []byte {
	b, _ := m.Options.Get(option.ClientID6)
	return b
}

// Relayed reports whether a relay passed the message on.
func (m *Message) Relayed() bool { return len(m.Relays) > 0 }

// Nearest is the relay next to the client, or nil.
func (m *Message) Nearest() *Relay {
	if len(m.Relays) == 0 {
		return nil
	}
	return &m.Relays[len(m.Relays)-1]
}

// Supplied are options that relays supply for the client, of those that relays may (RFC 6422 section
// 8: the domain for re-authentication alone): what the relay nearest to the client says comes
// first.
func (m *Message) Supplied() (out Options) {
	for i := len(m.Relays) - 1; i >= 0; i-- {
		b, _ := m.Relays[i].Options.Get(option.RelaySupplied6)
		supplied := Options(nil)
		err := each(b, func(code uint16, data []byte) error {
			if code == option.ERPDomain6 {
				supplied = append(supplied, Option{Code: code, Data: data})
			}
			return nil
		})
		if err == nil { // one that is malformed says nothing
			out = append(out, supplied...)
		}
	}
	return out
}

// OwnPort reports whether the outermost relay wants replies at the port that it sent from (RFC
// 8357 section 5).
func (m *Message) OwnPort() bool {
	if len(m.Relays) == 0 {
		return false
	}
	_, wants := m.Relays[0].Options.Get(option.RelayPort6)
	return wants
}

// Name implements request.Message.
func (m *Message) Name() string { return m.Type.String() }

// Option implements request.Message.
func (m *Message) Option(code uint16) ([]byte, bool) { return m.Options.Get(code) }

// Each implements request.Message.
func (m *Message) Each() iter.Seq2[uint16, []byte] { return m.Options.Each() }

// Wants implements request.Message (option 6).
func (m *Message) Wants() (out []uint16) {
	b, _ := m.Options.Get(option.RequestList6)
	for ; len(b) >= 2; b = b[2:] {
		out = append(out, binary.BigEndian.Uint16(b))
	}
	return out
}

// Hostname implements request.Message: the first label of option 39.
func (m *Message) Hostname() string {
	name := m.FQDN()
	for i := range len(name) {
		if name[i] == '.' {
			return name[:i]
		}
	}
	return name
}

// FQDN implements request.Message (option 39, RFC 4704 section 4).
func (m *Message) FQDN() string {
	b, ok := m.Options.Get(option.FQDN6)
	if !ok || len(b) < 2 {
		return ""
	}
	var room [256]byte
	out := room[:0]
	for rest := b[1:]; len(rest) > 0 && rest[0] != 0; {
		n := int(rest[0])
		if n > 63 || 1+n > len(rest) {
			return ""
		}
		if len(out) > 0 {
			out = append(out, '.')
		}
		out = append(out, rest[1:1+n]...)
		rest = rest[1+n:]
	}
	return option.Clean(out)
}

// Vendor implements request.Message: the first vendor class of option 16.
func (m *Message) Vendor() string {
	b, _ := m.Options.Get(option.VendorClass6)
	if len(b) < 6 || len(b) < 6+int(binary.BigEndian.Uint16(b[4:])) {
		return ""
	}
	return option.Clean(b[6 : 6+int(binary.BigEndian.Uint16(b[4:]))])
}

// Enterprises are the enterprise numbers by which the client names itself, or asks for options
// of a vendor (options 16 and 17).
func (m *Message) Enterprises() (out []uint32) {
	for _, o := range m.Options {
		if (o.Code == option.VendorClass6 || o.Code == option.VendorOptions6) && len(o.Data) >= 4 {
			out = append(out, binary.BigEndian.Uint32(o.Data))
		}
	}
	return out
}

// Classes implements request.Message (option 15).
func (m *Message) Classes() []byte {
	b, _ := m.Options.Get(option.UserClass6)
	return b
}

// ClassList implements request.Message: user classes, each behind two octets of length.
func (m *Message) ClassList(b []byte) []string {
	out := []string{}
	for len(b) >= 2 && len(b) >= 2+int(binary.BigEndian.Uint16(b)) {
		n := int(binary.BigEndian.Uint16(b))
		out = append(out, option.Show(b[2:2+n]))
		b = b[2+n:]
	}
	return out
}

// hardware is the hardware address of the client: what the relay next to it says (RFC 6939), or
// else what its DUID is made of.
func (m *Message) hardware() addr.Hardware {
	if r := m.Nearest(); r != nil {
		if b, ok := r.Options.Get(option.ClientLinkLayer6); ok && len(b) > 2 && len(b) <= 2+20 {
			return addr.Hardware(b[2:])
		}
	}
	return addr.DUID(m.ClientID()).Hardware()
}
