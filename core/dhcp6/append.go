package dhcp6

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"yarnpost/core/option"
)

// AppendTo implements request.Reply: the message, wrapped for the relays that it goes back
// through (RFC 8415 section 19.3); a message of a client is wrapped as relays do on the way
// here. Datagrams of IPv6 can be sent in fragments, so nothing is left out; limit, if it is not
// 0, bounds the whole.
func (m *Message) AppendTo(dst []byte, limit int) (b []byte, omitted []uint16, err error) {
	as := RelayForw
	if m.Type == Advertise || m.Type == Reply || m.Type == Reconfigure || m.Type == AddrRegReply {
		as = RelayRepl
	}
	from := len(dst)
	b = dst
	var opened [relaysMost]int // where the messages within begin
	if len(m.Relays) > relaysMost {
		return dst, nil, fmt.Errorf("encode DHCPv6: %d relays: %w", len(m.Relays), ErrRelays)
	}
	for i := range m.Relays {
		r := &m.Relays[i]
		b = append(b, byte(as), r.Hops)
		b = appendAddr(appendAddr(b, r.Link), r.Peer)
		for _, o := range r.Options {
			if as == RelayForw || r.echoes(o.Code) {
				b = appendOption(b, o.Code, o.Data)
			}
		}
		b = appendHead(b, option.RelayMessage6, 0)
		opened[i] = len(b)
	}
	b = binary.BigEndian.AppendUint32(b, uint32(m.Type)<<24|m.Transaction&0xffffff)
	for _, o := range m.Options {
		if len(o.Data) >= sizeMost {
			return dst, nil, fmt.Errorf("encode DHCPv6: option %d has %d octets; 65535 are the most", o.Code, len(o.Data))
		}
		b = appendOption(b, o.Code, o.Data)
	}
	for i := range m.IAs {
		ia := &m.IAs[i]
		b = appendHead(b, ia.Code, 0)
		at := len(b)
		if b = ia.append(b); len(b)-at >= sizeMost {
			return dst, nil, fmt.Errorf("encode DHCPv6: association %d has %d octets; 65535 are the most", ia.ID, len(b)-at)
		}
		setSize(b, at)
	}
	if limit == 0 {
		limit = sizeMost - 48 // headers of IPv6 and UDP
	}
	if len(b)-from > limit {
		return dst, nil, fmt.Errorf("encode DHCPv6: %d octets, and %d are the most", len(b)-from, limit)
	}
	for _, at := range opened[:len(m.Relays)] {
		setSize(b, at)
	}
	return b, nil, nil
}

// echoes reports whether an option of a relay's goes back to it: its interface (section 19.3),
// that it wants its own port (RFC 8357), and what it asks for (RFC 4994).
func (r *Relay) echoes(code uint16) bool {
	switch code {
	case option.InterfaceID6, option.RelayPort6:
		return true
	case option.RelayMessage6:
		return false
	}
	asked, _ := r.Options.Get(echoRequest)
	for ; len(asked) >= 2; asked = asked[2:] {
		if binary.BigEndian.Uint16(asked) == code {
			return true
		}
	}
	return false
}

const echoRequest = 43 // RFC 4994

func appendHead(b []byte, code uint16, size int) []byte {
	return binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(b, code), uint16(size))
}

// setSize sets the size in the head of an option whose data begins at a place and ends with b.
func setSize(b []byte, at int) { binary.BigEndian.PutUint16(b[at-2:], uint16(len(b)-at)) }

func appendOption(b []byte, code uint16, data []byte) []byte {
	return append(appendHead(b, code, len(data)), data...)
}

func appendAddr(b []byte, a netip.Addr) []byte {
	octets := a.As16()
	return append(b, octets[:]...)
}

// append encodes the data of the association's option.
func (ia *IA) append(b []byte) []byte {
	b = binary.BigEndian.AppendUint32(b, ia.ID)
	if ia.Code != option.IATA {
		b = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, ia.T1), ia.T2)
	}
	for i := range ia.Leases {
		l := &ia.Leases[i]
		if ia.Code != option.IAPD {
			b = appendAddr(appendHead(b, option.IAAddress, 24), l.Prefix.Addr())
			b = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, l.Preferred), l.Valid)
			continue
		}
		b = appendHead(b, option.IAPrefix, 0)
		at := len(b)
		b = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, l.Preferred), l.Valid)
		b = appendAddr(append(b, byte(l.Prefix.Bits())), l.Prefix.Addr())
		if l.Exclude != nil {
			b = appendOption(b, option.PrefixExclude6, l.Exclude)
		}
		setSize(b, at)
	}
	if ia.Status != Success || ia.Message != "" {
		b = appendOption(b, option.StatusCode6, StatusData(ia.Status, ia.Message))
	}
	return b
}

// StatusData is the data of a status option.
func StatusData(s Status, message string) []byte {
	return append(binary.BigEndian.AppendUint16(nil, uint16(s)), message...)
}

// Age takes from an encoded reply the seconds that it waited: all lifetimes, T1 and T2 of what
// it gives. A lifetime that would become 0 or less is not aged, and ok is false: the reply is
// not worth sending.
func Age(b []byte, seconds uint32) (ok bool) {
	if len(b) < head {
		return false
	}
	options := b[head:]
	if Type(b[0]) == RelayRepl || Type(b[0]) == RelayForw {
		if len(b) < relayHead {
			return false
		}
		ok = true
		err := each(b[relayHead:], func(code uint16, data []byte) error {
			if code == option.RelayMessage6 {
				ok = Age(data, seconds)
			}
			return nil
		})
		return ok && err == nil
	}
	if Type(b[0]) != Reply && Type(b[0]) != Advertise {
		return true
	}
	ok = true
	err := each(options, func(code uint16, data []byte) error {
		if code == option.IANA && len(data) >= 12 || code == option.IAPD && len(data) >= 12 {
			ok = ageIA(data, seconds) && ok
		}
		return nil
	})
	return ok && err == nil
}

func ageIA(ia []byte, seconds uint32) (ok bool) {
	ok = true
	less := func(at []byte, lifetime bool) {
		n := binary.BigEndian.Uint32(at)
		switch {
		case n == 0 || n == ^uint32(0):
		case n > seconds:
			binary.BigEndian.PutUint32(at, n-seconds)
		case lifetime:
			ok = false
		default:
			binary.BigEndian.PutUint32(at, 1)
		}
	}
	less(ia[4:], false)
	less(ia[8:], false)
	err := each(ia[12:], func(code uint16, data []byte) error {
		switch {
		case code == option.IAAddress && len(data) >= 24:
			less(data[16:], false)
			less(data[20:], true)
		case code == option.IAPrefix && len(data) >= 25:
			less(data, false)
			less(data[4:], true)
		}
		return nil
	})
	return ok && err == nil
}
