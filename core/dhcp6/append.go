package dhcp6

import (
	"encoding/binary"
	"fmt"
	"slices"

	"yarnpost/core/option"
)

// AppendTo implements request.Reply: the message, wrapped for the relays that it goes back
// through (RFC 8415 section 19.3); a message of a client is wrapped as relays do on the way
// here. Datagrams of IPv6 can be sent in fragments, so nothing is left out; limit, if it is not
// 0, bounds the whole.
func (m *Message) AppendTo(dst []byte, limit int) (b []byte, omitted []uint16, err error) {
	inner, err := m.appendInner(nil)
	if err != nil {
		return dst, nil, err
	}
	echoes := make([][]byte, len(m.Relays))
	sizes := make([]int, len(m.Relays)+1)
	sizes[len(m.Relays)] = len(inner)
	as := RelayForw
	if m.Type == Advertise || m.Type == Reply || m.Type == Reconfigure || m.Type == AddrRegReply {
		as = RelayRepl
	}
	for i := len(m.Relays) - 1; i >= 0; i-- {
		if as == RelayRepl {
			echoes[i] = m.Relays[i].echo()
		} else {
			for _, o := range m.Relays[i].Options {
				echoes[i] = appendOption(echoes[i], o.Code, o.Data)
			}
		}
		sizes[i] = relayHead + len(echoes[i]) + 4 + sizes[i+1]
	}
	if limit == 0 {
		limit = sizeMost - 48 // headers of IPv6 and UDP
	}
	if sizes[0] > limit {
		return dst, nil, fmt.Errorf("encode DHCPv6: %d octets, and %d are the most", sizes[0], limit)
	}
	for i, r := range m.Relays {
		dst = append(dst, byte(as), r.Hops)
		dst = append(append(dst, r.Link.AsSlice()...), r.Peer.AsSlice()...)
		dst = append(dst, echoes[i]...)
		dst = appendHead(dst, option.RelayMessage6, sizes[i+1])
	}
	return append(dst, inner...), nil, nil
}

// echo is what of a relay's options goes back to it: its interface (section 19.3), that it wants
// its own port (RFC 8357), and what it asks for (RFC 4994).
func (r *Relay) echo() (b []byte) {
	wanted := []uint16{option.InterfaceID6, option.RelayPort6}
	asked, _ := r.Options.Get(echoRequest)
	for ; len(asked) >= 2; asked = asked[2:] {
		wanted = append(wanted, binary.BigEndian.Uint16(asked))
	}
	for _, o := range r.Options {
		if o.Code != option.RelayMessage6 && slices.Contains(wanted, o.Code) {
			b = appendOption(b, o.Code, o.Data)
		}
	}
	return b
}

const echoRequest = 43 // RFC 4994

func (m *Message) appendInner(dst []byte) ([]byte, error) {
	dst = binary.BigEndian.AppendUint32(dst, uint32(m.Type)<<24|m.Transaction&0xffffff)
	for _, o := range m.Options {
		if len(o.Data) >= sizeMost {
			return nil, fmt.Errorf("encode DHCPv6: option %d has %d octets; 65535 are the most", o.Code, len(o.Data))
		}
		dst = appendOption(dst, o.Code, o.Data)
	}
	for _, ia := range m.IAs {
		b := ia.append(nil)
		if len(b) >= sizeMost {
			return nil, fmt.Errorf("encode DHCPv6: association %d has %d octets; 65535 are the most", ia.ID, len(b))
		}
		dst = appendOption(dst, ia.Code, b)
	}
	return dst, nil
}

func appendHead(b []byte, code uint16, size int) []byte {
	return binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(b, code), uint16(size))
}

func appendOption(b []byte, code uint16, data []byte) []byte {
	return append(appendHead(b, code, len(data)), data...)
}

// append encodes the data of the association's option.
func (ia *IA) append(b []byte) []byte {
	b = binary.BigEndian.AppendUint32(b, ia.ID)
	if ia.Code != option.IATA {
		b = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, ia.T1), ia.T2)
	}
	for _, l := range ia.Leases {
		if ia.Code == option.IAPD {
			tail := 0
			if l.Exclude != nil {
				tail = 4 + len(l.Exclude)
			}
			b = appendHead(b, option.IAPrefix, 25+tail)
			b = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, l.Preferred), l.Valid)
			b = append(append(b, byte(l.Prefix.Bits())), l.Prefix.Addr().AsSlice()...)
			if l.Exclude != nil {
				b = appendOption(b, option.PrefixExclude6, l.Exclude)
			}
			continue
		}
		b = appendHead(b, option.IAAddress, 24)
		b = append(b, l.Prefix.Addr().AsSlice()...)
		b = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, l.Preferred), l.Valid)
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
