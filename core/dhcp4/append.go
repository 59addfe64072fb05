package dhcp4

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"yarnpost/core/option"
)

// Append encodes m at the end of dst. The message takes at most limit octets
// (MinMax unless the client said more with option 57; values below MinMax count
// as MinMax, but for BootpSize, with which nothing overflows). Options are written in the order given; long ones are split (RFC
// 3396); those that do not fit the options field overflow into file and then
// sname where m leaves these empty (RFC 2131 section 4.1), split over the fields if need
// be; those that fit nowhere are left out and their codes returned. Option 82 comes last in the
// options field (RFC 3046 section 2.1). The result is padded to 300 octets.
func Append(dst []byte, m *Message, limit int) (out []byte, omitted []uint8, err error) {
	if len(m.CHAddr) > 16 {
		return dst, nil, fmt.Errorf("encode DHCPv4: %w", ErrHardware)
	}
	if len(m.SName) > 64 || len(m.File) > 128 {
		return dst, nil, fmt.Errorf("encode DHCPv4: server name takes %d of 64 octets, boot file %d of 128", len(m.SName), len(m.File))
	}
	bootp := limit == BootpSize
	if !bootp {
		limit = min(max(limit, MinMax), MaxMax)
	}
	start := len(dst)
	dst = appendHeader(dst, m)
	relay, hasRelay := m.Options.Get(option.RelayAgent)
	tail := 1 // End
	if hasRelay {
		if len(relay) > maxRelay {
			return dst[:start], nil, fmt.Errorf("encode DHCPv4: option 82 of %d octets: %w", len(relay), ErrOption)
		}
		tail += wireSize(relay)
	}
	need := tail
	for _, o := range m.Options {
		if o.Code != option.RelayAgent {
			need += wireSize(o.Data)
		}
	}
	overflow := optionsAt+need > limit && !bootp // BOOTP knows no option 52
	if overflow {
		tail += 3 // option 52
	}
	var fileBuf [128]byte
	var snameBuf [64]byte
	file, sname := fileBuf[:0], snameBuf[:0]
	large := 0 // octets of options still to come that only the options field can hold
	if overflow {
		for _, o := range m.Options {
			if size := wireSize(o.Data); o.Code != option.RelayAgent && size >= cap(file) && optionsAt+tail+large+size <= limit {
				large += size
			}
		}
	}
	for _, o := range m.Options {
		size := wireSize(o.Data)
		reserved := large
		if size >= cap(file) {
			large = max(0, large-size)
			reserved = 0
		}
		switch {
		case o.Code == option.RelayAgent || o.Code == option.Overload:
		case len(dst)-start+size+tail+reserved <= limit:
			dst = appendOption(dst, o.Code, o.Data)
		case overflow && len(m.File) == 0 && len(file)+size < cap(file):
			file = appendOption(file, o.Code, o.Data)
		case overflow && len(m.SName) == 0 && len(sname)+size < cap(sname):
			sname = appendOption(sname, o.Code, o.Data)
		default:
			space := limit - (len(dst) - start) - tail - reserved
			if !overflow || !appendSpread(o, space, room(file, len(m.File)), room(sname, len(m.SName)), &dst, &file, &sname) {
				omitted = append(omitted, o.Code)
			}
		}
	}
	dst = appendOverload(dst, start, file, sname)
	if hasRelay {
		dst = appendOption(dst, option.RelayAgent, relay)
	}
	dst = append(dst, option.End)
	for len(dst)-start < minSize {
		dst = append(dst, 0)
	}
	return dst, omitted, nil
}

// appendSpread appends an option in parts to the fields that have space for them. It
// appends nothing, and reports so, if all of them together have not enough.
func appendSpread(o Option, inOptions, inFile, inName int, dst, file, sname *[]byte) bool {
	parts, fits := spread(o.Data, inOptions, inFile, inName)
	if !fits {
		return false
	}
	for i, field := range [...]*[]byte{dst, file, sname} {
		if len(parts[i]) > 0 {
			*field = appendOption(*field, o.Code, parts[i])
		}
	}
	return true
}

// room is how many octets of options a fixed field can take yet, besides its end; given
// is how many it holds of its own.
func room(field []byte, given int) int {
	if given > 0 {
		return 0
	}
	return cap(field) - 1 - len(field)
}

// spread splits an option that fits nowhere as a whole over the fields, in the order in
// which they are read (RFC 3396 section 5); fits is false if all of them are too small.
func spread(data []byte, rooms ...int) (parts [3][]byte, fits bool) {
	for i, n := range rooms {
		n = min(n-2, len(data), 255) // code and length
		if n > 0 {
			parts[i], data = data[:n], data[n:]
		}
	}
	return parts, len(data) == 0
}

// appendOverload puts options into the fields for file and server name, and says
// so by option 52 (RFC 2132 section 9.3).
func appendOverload(dst []byte, start int, file, sname []byte) []byte {
	var overload byte
	if len(file) > 0 {
		overload |= 1
		copy(dst[start+fileAt:], append(file, option.End))
	}
	if len(sname) > 0 {
		overload |= 2
		copy(dst[start+snameAt:], append(sname, option.End))
	}
	if overload != 0 {
		dst = append(dst, option.Overload, 1, overload)
	}
	return dst
}

// appendHeader writes the fixed fields and the magic cookie.
func appendHeader(dst []byte, m *Message) []byte {
	start := len(dst)
	var header [optionsAt]byte
	dst = append(dst, header[:]...)
	h := dst[start:]
	h[0], h[1], h[2], h[3] = m.Op, m.HType, uint8(len(m.CHAddr)), m.Hops
	binary.BigEndian.PutUint32(h[4:], m.XID)
	binary.BigEndian.PutUint16(h[8:], m.Secs)
	binary.BigEndian.PutUint16(h[10:], m.Flags)
	for at, a := range [...]netip.Addr{m.CIAddr, m.YIAddr, m.SIAddr, m.GIAddr} {
		if a.Is4() {
			v := a.As4()
			copy(h[12+4*at:], v[:])
		}
	}
	copy(h[28:44], m.CHAddr)
	copy(h[snameAt:], m.SName)
	copy(h[fileAt:], m.File)
	copy(h[headerSize:], magic[:])
	return dst
}

// wireSize is what an option takes on the wire, in octets, split or not.
func wireSize(data []byte) int { return len(data) + 2*max(1, (len(data)+254)/255) }

func appendOption(dst []byte, code uint8, data []byte) []byte {
	for {
		n := min(len(data), 255)
		dst = append(append(dst, code, byte(n)), data[:n]...)
		if data = data[n:]; len(data) == 0 {
			return dst
		}
	}
}
