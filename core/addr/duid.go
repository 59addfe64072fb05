package addr

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
	"time"
)

// DUID is the identifier of a DHCPv6 client or server (RFC 8415 section 11) as raw octets,
// comparable and compact. It prints in lower-case hexadecimal with colons.
type DUID string

// Types of DUIDs.
const (
	duidLLT  = 1 // link-layer address and time
	duidEN   = 2 // enterprise number
	duidLL   = 3 // link-layer address
	duidUUID = 4 // RFC 6355
)

// duidEpoch is from when DUIDs count seconds.
var duidEpoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// Bounds of a DUID in octets, its type among them.
const (
	duidLeast = 3
	duidMost  = 130
)

// ParseDUID reads a DUID as client systems print it: hexadecimal in either case, with colons,
// dashes, dots or nothing between the digits, octets of one digit among them.
func ParseDUID(text string) (DUID, error) {
	text = strings.TrimSpace(text)
	var padded []string
	parts := strings.FieldsFunc(text, func(r rune) bool { return r == ':' || r == '-' })
	for _, p := range parts {
		if len(parts) > 1 && len(p) == 1 {
			p = "0" + p
		}
		padded = append(padded, p)
	}
	raw, err := hex.DecodeString(bare.Replace(strings.Join(padded, "")))
	if err != nil {
		return "", fmt.Errorf("%q is no DUID; write it like 00:03:00:01:02:00:00:00:00:17", text)
	}
	if len(raw) < duidLeast || len(raw) > duidMost {
		return "", fmt.Errorf("DUID %q has %d octets; it has %d to %d", text, len(raw), duidLeast, duidMost)
	}
	return DUID(raw), nil
}

// Proper reports whether the length is that of a DUID.
func (d DUID) Proper() bool { return len(d) >= duidLeast && len(d) <= duidMost }

func (d DUID) String() string { return Hardware(d).String() }

// kind is the type of the DUID, or 0.
func (d DUID) kind() uint16 {
	if len(d) < 2 {
		return 0
	}
	return uint16(d[0])<<8 | uint16(d[1])
}

// Hardware is the link-layer address that the DUID is made of, or "".
func (d DUID) Hardware() Hardware {
	switch k := d.kind(); {
	case k == duidLL && len(d) >= 4+6:
		return Hardware(d[4:])
	case k == duidLLT && len(d) >= 8+6:
		return Hardware(d[8:])
	}
	return ""
}

// Describe says what the DUID is made of, or "".
func (d DUID) Describe() string {
	raw := []byte(d)
	switch k := d.kind(); {
	case k == duidLLT && len(d) > 8:
		made := duidEpoch.Add(time.Duration(binary.BigEndian.Uint32(raw[4:])) * time.Second)
		return fmt.Sprintf("hardware address %s, made %s", Hardware(d[8:]), made.Format("2006-01-02 15:04:05 UTC"))
	case k == duidEN && len(d) > 6:
		return fmt.Sprintf("enterprise %d, %s", binary.BigEndian.Uint32(raw[2:]), Hardware(d[6:]))
	case k == duidLL && len(d) > 4:
		return "hardware address " + Hardware(d[4:]).String()
	case k == duidUUID && len(d) == 18:
		return fmt.Sprintf("UUID %x-%x-%x-%x-%x", raw[2:6], raw[6:8], raw[8:10], raw[10:12], raw[12:])
	}
	return ""
}

// NewDUID is the DUID of a machine with a hardware address of Ethernet, made at a moment (type 1).
func NewDUID(hw Hardware, at time.Time) DUID {
	b := []byte{0, duidLLT, 0, 1}
	b = binary.BigEndian.AppendUint32(b, uint32(at.Sub(duidEpoch)/time.Second))
	return DUID(append(b, hw...))
}

// RandomDUID is the DUID of random octets, of which there are 16 (type 4).
func RandomDUID(random [16]byte) DUID { return DUID(append([]byte{0, duidUUID}, random[:]...)) }
