package option

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"
)

// labels splits a name and checks it against RFC 1035 section 2.3.4.
func labels(text string) ([]string, error) {
	text = strings.TrimSuffix(strings.TrimSpace(text), ".")
	if text == "" {
		return nil, fmt.Errorf("empty name; write it like mill.example")
	}
	parts := strings.Split(text, ".")
	size := 1
	for _, p := range parts {
		if p == "" || len(p) > 63 {
			return nil, fmt.Errorf("name %q has a label of %d octets; labels have 1 to 63", text, len(p))
		}
		if strings.ContainsAny(p, " ,") || !printable(p) {
			return nil, fmt.Errorf("name %q has a character no host name can have", text)
		}
		size += len(p) + 1
	}
	if size > 255 {
		return nil, fmt.Errorf("name %q takes %d octets; a name has at most 255", text, size)
	}
	return parts, nil
}

func appendName(out []byte, text string) ([]byte, error) {
	parts, err := labels(text)
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		out = append(append(out, byte(len(p))), p...)
	}
	return append(out, 0), nil
}

// appendNames writes comma-separated names, pointing back at shared tails
// (RFC 1035 section 4.1.4); offsets count from the start of the value.
func appendNames(out []byte, text string) ([]byte, error) {
	start := len(out)
	seen := map[string]int{}
	for _, name := range strings.Split(text, ",") {
		parts, err := labels(name)
		if err != nil {
			return nil, err
		}
		pointed := false
		for i := range parts {
			tail := strings.Join(parts[i:], ".")
			if at, ok := seen[tail]; ok {
				out = append(out, 0xc0|byte(at>>8), byte(at))
				pointed = true
				break
			}
			if at := len(out) - start; at < 0x4000 {
				seen[tail] = at
			}
			out = append(append(out, byte(len(parts[i]))), parts[i]...)
		}
		if !pointed {
			out = append(out, 0)
		}
	}
	return out, nil
}

func formatName(b []byte) (string, int, bool) { return readName(b, 0) }

// readName reads the name at offset at; n counts the octets it takes there.
func readName(b []byte, at int) (name string, n int, ok bool) {
	var parts []string
	size, jumped, pos := 0, false, at
	for hops := 0; ; {
		if pos >= len(b) {
			return "", 0, false
		}
		c := int(b[pos])
		switch {
		case c == 0:
			if !jumped {
				n = pos + 1 - at
			}
			return strings.Join(parts, "."), n, len(parts) > 0
		case c < 64:
			if pos+1+c > len(b) || size+c+1 > 254 {
				return "", 0, false
			}
			label := string(b[pos+1 : pos+1+c])
			if !printable(label) || strings.ContainsAny(label, "., ") {
				return "", 0, false
			}
			parts, size, pos = append(parts, label), size+c+1, pos+1+c
		case c >= 0xc0:
			if pos+1 >= len(b) {
				return "", 0, false
			}
			to := (c&0x3f)<<8 | int(b[pos+1])
			if hops++; to >= pos || hops > 127 { // only ever backwards: no loops
				return "", 0, false
			}
			if !jumped {
				n, jumped = pos+2-at, true
			}
			pos = to
		default:
			return "", 0, false
		}
	}
}

func formatNames(b []byte) (string, int, bool) {
	var names []string
	for at := 0; at < len(b); {
		name, n, ok := readName(b, at)
		if !ok {
			return "", 0, false
		}
		names, at = append(names, name), at+n
	}
	return strings.Join(names, ","), len(b), len(names) > 0
}

// appendRoute writes "10.0.0.0/8 10.1.1.1" as RFC 3442 has it: the width, the
// significant octets of the network, the router.
func appendRoute(out []byte, text string) ([]byte, error) {
	network, router, ok := strings.Cut(text, " ")
	if network == "default" {
		network = "0.0.0.0/0"
	}
	p, err := netip.ParsePrefix(network)
	a, err2 := netip.ParseAddr(strings.TrimSpace(router))
	if !ok || err != nil || err2 != nil || !p.Addr().Is4() || !a.Is4() {
		return nil, fmt.Errorf("%q is not a route; write network and router like 10.50.0.0/16 10.40.0.1", text)
	}
	if p.Masked() != p {
		return nil, fmt.Errorf("route %s has host bits set; the network is %s", p, p.Masked())
	}
	out = append(out, byte(p.Bits()))
	out = append(out, p.Addr().AsSlice()[:(p.Bits()+7)/8]...)
	return append(out, a.AsSlice()...), nil
}

func formatRoute(b []byte) (string, int, bool) {
	width := int(b[0])
	n := (width + 7) / 8
	if width > 32 || len(b) < 1+n+4 {
		return "", 0, false
	}
	var net [4]byte
	copy(net[:], b[1:1+n])
	p := netip.PrefixFrom(netip.AddrFrom4(net), width)
	if p.Masked() != p {
		return "", 0, false
	}
	return p.String() + " " + netip.AddrFrom4([4]byte(b[1+n:5+n])).String(), 5 + n, true
}

// appendSIP writes addresses (encoding 1) or names (encoding 0), RFC 3361.
func appendSIP(out []byte, text string) ([]byte, error) {
	items := strings.Split(text, ",")
	if _, err := netip.ParseAddr(strings.TrimSpace(items[0])); err == nil {
		out = append(out, 1)
		for _, item := range items {
			if out, err = appendField(out, Address, strings.TrimSpace(item)); err != nil {
				return nil, fmt.Errorf("%w; give either addresses or names, not both", err)
			}
		}
		return out, nil
	}
	tail, err := appendNames(nil, text)
	return append(append(out, 0), tail...), err
}

func formatSIP(b []byte) (string, int, bool) {
	if len(b) < 2 {
		return "", 0, false
	}
	if b[0] == 0 {
		s, n, ok := formatNames(b[1:])
		return s, n + 1, ok
	}
	s := Type{Fields: []Kind{Address}, Array: true}.Format(b[1:])
	return s, len(b), b[0] == 1 && !strings.HasPrefix(s, RawPrefix)
}

// Sub-options of time servers (RFC 5908 section 4).
const (
	ntpAddress = 1
	ntpGroup   = 2
	ntpName    = 3
)

// appendNTP6 writes addresses, groups and names, each as a sub-option (RFC 5908).
func appendNTP6(out []byte, text string) ([]byte, error) {
	for _, item := range strings.Split(text, ",") {
		item = strings.TrimSpace(item)
		kind, data := uint16(ntpName), []byte(nil)
		if a, err := netip.ParseAddr(item); err == nil {
			if !a.Is6() || a.Zone() != "" {
				return nil, fmt.Errorf("%q is not an IPv6 address", item)
			}
			kind, data = ntpAddress, a.AsSlice()
			if a.IsMulticast() {
				kind = ntpGroup
			}
		} else if data, err = appendName(nil, item); err != nil {
			return nil, err
		}
		out = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(out, kind), uint16(len(data)))
		out = append(out, data...)
	}
	return out, nil
}

func formatNTP6(b []byte) (string, int, bool) {
	var items []string
	for rest := b; len(rest) > 0; {
		if len(rest) < 4 || len(rest) < 4+int(binary.BigEndian.Uint16(rest[2:])) {
			return "", 0, false
		}
		n := int(binary.BigEndian.Uint16(rest[2:]))
		kind, data := binary.BigEndian.Uint16(rest), rest[4:4+n]
		rest = rest[4+n:]
		if kind == ntpName {
			name, took, ok := readName(data, 0)
			if !ok || took != n {
				return "", 0, false
			}
			items = append(items, name)
			continue
		}
		a, ok := netip.AddrFromSlice(data)
		if !ok || !a.Is6() || kind != ntpAddress && kind != ntpGroup || a.IsMulticast() != (kind == ntpGroup) {
			return "", 0, false
		}
		items = append(items, a.String())
	}
	return strings.Join(items, ","), len(b), len(items) > 0
}
