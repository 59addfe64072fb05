package addr

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// Hardware is a link-layer address as raw octets, comparable and compact.
// It prints in lower-case hexadecimal with colons.
type Hardware string

// bare takes away what people write between hexadecimal digits.
var bare = strings.NewReplacer(":", "", "-", "", ".", "", " ", "")

// ParseHardware reads a hardware address of 6 (Ethernet), 8 (EUI-64) or 20
// (InfiniBand) octets with colons, dashes, dots or nothing between the digits.
func ParseHardware(text string) (Hardware, error) {
	text = strings.TrimSpace(text)
	digits := bare.Replace(text)
	raw, err := hex.DecodeString(digits)
	if err != nil {
		return "", fmt.Errorf("%q is not a hardware address; write it like 02:00:00:00:00:17", text)
	}
	switch len(raw) {
	case 6, 8, 20:
		return Hardware(raw), nil
	}
	return "", fmt.Errorf("hardware address %q has %d octets; Ethernet has 6 (02:00:00:00:00:17)", text, len(raw))
}

func (h Hardware) String() string { return string(h.AppendTo(nil)) }

// AppendTo appends the address as String writes it.
func (h Hardware) AppendTo(b []byte) []byte {
	const digits = "0123456789abcdef"
	b = slices.Grow(b, 3*len(h))
	for i := range len(h) {
		if i > 0 {
			b = append(b, ':')
		}
		b = append(b, digits[h[i]>>4], digits[h[i]&15])
	}
	return b
}

// Group reports whether the address is of a group or of all (the lowest bit of
// the first octet), so of no single station.
func (h Hardware) Group() bool { return len(h) == 6 && h[0]&1 == 1 }

// Zero reports whether the address is empty, or nothing but zeros.
func (h Hardware) Zero() bool { return strings.Trim(string(h), "\x00") == "" }

// MarshalText writes the address as String does.
func (h Hardware) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText reads what ParseHardware reads; empty text is no address.
func (h *Hardware) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*h = ""
		return nil
	}
	*h, err = ParseHardware(string(text))
	return err
}

// Octets are any octets that people write in hexadecimal, such as a client
// identifier; comparable and compact.
type Octets string

// String writes lower-case hexadecimal with colons.
func (o Octets) String() string { return Hardware(o).String() }

// MarshalText writes the octets as String does.
func (o Octets) MarshalText() ([]byte, error) { return []byte(o.String()), nil }

// UnmarshalText reads hexadecimal with colons, dashes, dots or nothing between
// the digits.
func (o *Octets) UnmarshalText(text []byte) error {
	raw, err := hex.DecodeString(bare.Replace(string(text)))
	if err != nil || len(raw) > 255 {
		return fmt.Errorf("%q is not hexadecimal; write octets like 01:02:00:00:00:00:17", text)
	}
	*o = Octets(raw)
	return nil
}
