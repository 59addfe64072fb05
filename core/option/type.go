// Package option has typed option values: codebooks say which code
// has which name and type, and a type turns text into the octets that travel
// and octets back into text. Nothing here knows a message or a level.
package option

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"yarnpost/core/addr"
)

// Kind is the type of one field of a value. All integers are big-endian.
type Kind string

// The kinds a field can have.
const (
	Address  Kind = "address"  // IPv4 address, 4 octets
	Text     Kind = "text"     // printable octets to the end of the value
	Name     Kind = "name"     // one RFC 1035 name, uncompressed
	Names    Kind = "names"    // RFC 1035 names, compressed across the value (RFC 3397)
	U8       Kind = "u8"       // unsigned, 1 octet
	U16      Kind = "u16"      // unsigned, 2 octets
	U32      Kind = "u32"      // unsigned, 4 octets
	I8       Kind = "i8"       // two's complement, 1 octet
	I16      Kind = "i16"      // two's complement, 2 octets
	I32      Kind = "i32"      // two's complement, 4 octets
	Bool     Kind = "bool"     // 1 octet, 0 or 1
	Duration Kind = "duration" // seconds, unsigned, 4 octets
	Bytes    Kind = "bytes"    // hexadecimal to the end of the value
	Route    Kind = "route"    // RFC 3442: width, significant octets, router
	SIP      Kind = "sip"      // RFC 3361: encoding octet, then names or addresses
	Counted  Kind = "counted"  // an octet of length, then text or octets (RFC 3004, 3925)
	Empty    Kind = "empty"    // presence alone

	Address6  Kind = "address6"  // IPv6 address, 16 octets
	Counted16 Kind = "counted16" // two octets of length, then text or octets (RFC 8415)
	NTP6      Kind = "ntp6"      // time servers as sub-options: addresses, groups, names (RFC 5908)
)

// kinds lists every kind, for people who define options of their own.
var kinds = []Kind{Address, Text, Name, Names, U8, U16, U32, I8, I16, I32, Bool, Duration, Bytes, Route, SIP, Counted, Empty,
	Address6, Counted16, NTP6}

// toEnd reports whether a field of the kind takes the rest of the value.
func (k Kind) toEnd() bool {
	return k == Text || k == Bytes || k == Names || k == SIP || k == Empty || k == NTP6
}

// Type is the shape of a whole value: a record of fields, an array of records,
// or a record whose last field repeats.
type Type struct {
	Fields []Kind
	Array  bool // the record repeats
	Tail   bool // the last field repeats
}

// ParseType reads what String writes: kinds separated by blanks, with "list" at
// the end for an array of them, or "more" for a last field that repeats.
func ParseType(text string) (Type, error) {
	var t Type
	words := strings.Fields(strings.ToLower(text))
	if n := len(words); n > 1 && (words[n-1] == "list" || words[n-1] == "more") {
		t.Array, t.Tail = words[n-1] == "list", words[n-1] == "more"
		words = words[:n-1]
	}
	for i, w := range words {
		k := Kind(w)
		if !slices.Contains(kinds, k) {
			return Type{}, fmt.Errorf("%q is not a type; use %s, several of them for a record, and list at the end for an array", w,
				kinds)
		}
		if k.toEnd() && (i < len(words)-1 || t.Array || t.Tail) || k == Empty && len(words) > 1 {
			return Type{}, fmt.Errorf("a %s takes the rest of the value, so it can only stand last, and once", k)
		}
		t.Fields = append(t.Fields, k)
	}
	if len(t.Fields) == 0 {
		return Type{}, fmt.Errorf("a type is needed, such as address, \"address list\", text or \"u8 text\"")
	}
	return t, nil
}

// Empty reports whether the type is of options that have no data.
func (t Type) Empty() bool { return len(t.Fields) == 1 && t.Fields[0] == Empty }

// String writes the shape for people: "address list", "u8 u8 text".
func (t Type) String() string {
	words := make([]string, len(t.Fields))
	for i, f := range t.Fields {
		words[i] = string(f)
	}
	s := strings.Join(words, " ")
	if t.Array {
		s += " list"
	}
	if t.Tail {
		s += " more"
	}
	return s
}

// MarshalText writes the shape as String does.
func (t Type) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads what ParseType reads.
func (t *Type) UnmarshalText(text []byte) (err error) {
	*t, err = ParseType(string(text))
	return err
}

// Example is a value of the type as an administrator would write it.
func (t Type) Example() string {
	words := make([]string, len(t.Fields))
	for i, f := range t.Fields {
		words[i] = map[Kind]string{Address: "10.40.0.1", Text: "text", Name: "mill.example", Names: "mill.example,loom.example",
			U8: "1", U16: "1500", U32: "70000", I8: "-5", I16: "-300", I32: "-3600", Bool: "true", Counted: "staff", Duration: "8h",
			Bytes: "0a:0b",
			Route: "10.50.0.0/16 10.40.0.1", SIP: "10.40.0.5",
			Address6: "2001:db8:40::1", Counted16: "staff", NTP6: "2001:db8:40::123"}[f]
	}
	return strings.Join(words, " ")
}

// RawPrefix marks a value given as hexadecimal octets whatever its type.
const RawPrefix = "hex:"

// Encode turns text into the octets that travel. List items are separated by
// commas and the fields of a record by blanks; "hex:" and hexadecimal digits
// override any type. Values longer than 255 octets are split when they are
// sent (RFC 3396).
func (t Type) Encode(text string) ([]byte, error) {
	text = strings.TrimSpace(text)
	if rest, ok := strings.CutPrefix(text, RawPrefix); ok {
		return parseHex(rest)
	}
	if t.Empty() {
		if text != "" && text != "true" {
			return nil, fmt.Errorf("the option has no value; write true to send it")
		}
		return nil, nil
	}
	if text == "" {
		return nil, fmt.Errorf("empty value; want %s such as %s, or none to take an inherited value away", t, t.Example())
	}
	items := []string{text}
	if t.Array {
		items = strings.Split(text, ",")
	}
	var out []byte
	for _, item := range items {
		fields := []string{strings.TrimSpace(item)}
		if n := len(t.Fields); n > 1 {
			fields = splitFields(item, n)
		}
		if len(fields) != len(t.Fields) {
			return nil, fmt.Errorf("%q has %d of %d fields; want %s such as %s", item, len(fields), len(t.Fields), t, t.Example())
		}
		for i, f := range t.Fields {
			parts := []string{fields[i]}
			if t.Tail && i == len(t.Fields)-1 {
				parts = strings.Split(fields[i], ",")
			}
			for _, part := range parts {
				var err error
				if out, err = appendField(out, f, strings.TrimSpace(part)); err != nil {
					return nil, err
				}
			}
		}
	}
	if len(out) > math.MaxUint16 {
		return nil, fmt.Errorf("value takes %d octets; no message carries that many", len(out))
	}
	return out, nil
}

// Resolve replaces host names that stand where an address belongs by what the
// resolve function gives for them. Text that is no host name stays as it is.
func (t Type) Resolve(text string, resolve func(host string) (netip.Addr, error)) (string, error) {
	if !slices.Contains(t.Fields, Address) || strings.HasPrefix(text, RawPrefix) { // names of IPv6 hosts are not resolved
		return text, nil
	}
	items := strings.Split(text, ",")
	for i, item := range items {
		words := strings.Fields(item)
		for j, w := range words {
			last := len(t.Fields) - 1
			field := j
			if t.Tail && i > 0 { // behind the first comma only the last field is left
				field = last
			}
			if _, err := netip.ParseAddr(w); err == nil || field > last && !t.Tail || t.Fields[min(field, last)] != Address {
				continue
			}
			if _, err := labels(w); err != nil || strings.Trim(w, "0123456789./:") == "" {
				continue // a mistyped address is no name
			}
			a, err := resolve(strings.TrimSuffix(w, "."))
			if err != nil {
				return "", fmt.Errorf("%q is no address, and as a host name it cannot be resolved: %w", w, err)
			}
			words[j] = a.String()
		}
		items[i] = strings.Join(words, " ")
	}
	return strings.Join(items, ","), nil
}

// splitFields cuts at blanks into n fields, the last of which keeps its blanks.
func splitFields(item string, n int) []string {
	var out []string
	rest := strings.TrimSpace(item)
	for len(out) < n-1 {
		word, tail, ok := strings.Cut(rest, " ")
		if !ok {
			break
		}
		out, rest = append(out, word), strings.TrimSpace(tail)
	}
	return append(out, rest)
}

func appendField(out []byte, k Kind, text string) ([]byte, error) {
	number := func(bits int) (uint64, error) {
		v, err := strconv.ParseUint(text, 0, bits)
		if err != nil {
			return 0, fmt.Errorf("%q is not a whole number from 0 to %d", text, uint64(1)<<bits-1)
		}
		return v, nil
	}
	switch k {
	case Address:
		a, err := netip.ParseAddr(text)
		if err != nil || !a.Is4() {
			return nil, fmt.Errorf("%q is not an IPv4 address", text)
		}
		return append(out, a.AsSlice()...), nil
	case Address6:
		a, err := netip.ParseAddr(text)
		if err != nil || !a.Is6() || a.Is4In6() || a.Zone() != "" {
			return nil, fmt.Errorf("%q is not an IPv6 address", text)
		}
		return append(out, a.AsSlice()...), nil
	case Text:
		if strings.ContainsRune(text, 0) {
			return nil, fmt.Errorf("text may not contain NUL; use %s for raw octets", RawPrefix)
		}
		return append(out, text...), nil
	case Bytes:
		b, err := parseHex(text)
		return append(out, b...), err
	case U8, U16, U32:
		bits := map[Kind]int{U8: 8, U16: 16, U32: 32}[k]
		v, err := number(bits)
		if err != nil {
			return nil, err
		}
		var b [8]byte
		binary.BigEndian.PutUint64(b[:], v)
		return append(out, b[8-bits/8:]...), nil
	case I8, I16, I32:
		bits := map[Kind]int{I8: 8, I16: 16, I32: 32}[k]
		v, err := strconv.ParseInt(text, 10, bits)
		if err != nil {
			return nil, fmt.Errorf("%q is not a whole number from %d to %d", text, -int64(1)<<(bits-1), int64(1)<<(bits-1)-1)
		}
		var b [8]byte
		binary.BigEndian.PutUint64(b[:], uint64(v))
		return append(out, b[8-bits/8:]...), nil
	case Counted, Counted16:
		return appendCounted(out, k, text)
	case Bool:
		v, err := strconv.ParseBool(text)
		if err != nil {
			return nil, fmt.Errorf("%q is neither true nor false", text)
		}
		if v {
			return append(out, 1), nil
		}
		return append(out, 0), nil
	case Duration:
		d, err := ParseDuration(text)
		if err != nil {
			return nil, err
		}
		return binary.BigEndian.AppendUint32(out, Seconds(d)), nil
	case Name:
		return appendName(out, text)
	case Names:
		return appendNames(out, text)
	case Route:
		return appendRoute(out, text)
	case SIP:
		return appendSIP(out, text)
	case NTP6:
		return appendNTP6(out, text)
	}
	return nil, fmt.Errorf("values of kind %s cannot be written as text; use %s", k, RawPrefix)
}

// Format turns octets into the text that Encode reads. Octets that do not fit
// the type come back as "hex:" and digits, so nothing is hidden.
func (t Type) Format(b []byte) string {
	raw := RawPrefix + hex.EncodeToString(b)
	if t.Empty() && len(b) == 0 {
		return "true"
	}
	var items []string
	for rest := b; len(rest) > 0; {
		var words []string
		for i, f := range t.Fields {
			word, n, ok := formatField(f, rest)
			if !ok {
				return raw
			}
			rest = rest[n:]
			for t.Tail && i == len(t.Fields)-1 && len(rest) > 0 {
				more, n, ok := formatField(f, rest)
				if !ok {
					return raw
				}
				word, rest = word+","+more, rest[n:]
			}
			words = append(words, word)
		}
		items = append(items, strings.Join(words, " "))
		if !t.Array && len(rest) > 0 {
			return raw
		}
	}
	if len(items) == 0 {
		return raw
	}
	return strings.Join(items, ",")
}

func formatField(k Kind, b []byte) (text string, n int, ok bool) {
	fixed := map[Kind]int{Address: 4, U8: 1, U16: 2, U32: 4, I8: 1, I16: 2, I32: 4, Bool: 1, Duration: 4, Counted: 2,
		Address6: 16, Counted16: 3}[k]
	if len(b) < fixed {
		return "", 0, false
	}
	switch k {
	case Address:
		return netip.AddrFrom4([4]byte(b[:4])).String(), 4, true
	case U8:
		return strconv.Itoa(int(b[0])), 1, true
	case U16:
		return strconv.Itoa(int(binary.BigEndian.Uint16(b))), 2, true
	case U32:
		return strconv.FormatUint(uint64(binary.BigEndian.Uint32(b)), 10), 4, true
	case I8:
		return strconv.Itoa(int(int8(b[0]))), 1, true
	case I16:
		return strconv.Itoa(int(int16(binary.BigEndian.Uint16(b)))), 2, true
	case Address6:
		a := netip.AddrFrom16([16]byte(b[:16]))
		return a.String(), 16, !a.Is4In6()
	case Counted:
		return formatCounted(b[1:], int(b[0]), 1)
	case Counted16:
		return formatCounted(b[2:], int(binary.BigEndian.Uint16(b)), 2)
	case I32:
		return strconv.Itoa(int(int32(binary.BigEndian.Uint32(b)))), 4, true
	case Bool:
		return strconv.FormatBool(b[0] == 1), 1, b[0] < 2
	case Duration:
		return FormatDuration(FromSeconds(binary.BigEndian.Uint32(b))), 4, true
	case Text:
		s := strings.TrimRight(string(b), "\x00")
		if !printable(s) || s != strings.TrimSpace(s) || strings.HasPrefix(s, RawPrefix) {
			return "", 0, false
		}
		return s, len(b), s != ""
	case Bytes:
		return Colons(b), len(b), len(b) > 0
	case Name:
		return formatName(b)
	case Names:
		return formatNames(b)
	case Route:
		return formatRoute(b)
	case SIP:
		return formatSIP(b)
	case NTP6:
		return formatNTP6(b)
	}
	return "", 0, false
}

// appendCounted writes a text, or octets behind 0x, behind their length.
func appendCounted(out []byte, k Kind, text string) ([]byte, error) {
	b := []byte(text)
	if rest, ok := strings.CutPrefix(text, "0x"); ok {
		var err error
		if b, err = parseHex(rest); err != nil {
			return nil, err
		}
	}
	if k == Counted16 {
		if len(b) == 0 || len(b) > math.MaxUint16 {
			return nil, fmt.Errorf("%q takes %d octets; 1 to %d fit behind two octets of length", text, len(b), math.MaxUint16)
		}
		return append(binary.BigEndian.AppendUint16(out, uint16(len(b))), b...), nil
	}
	if len(b) == 0 || len(b) > 255 {
		return nil, fmt.Errorf("%q takes %d octets; 1 to 255 fit behind an octet of length", text, len(b))
	}
	return append(append(out, byte(len(b))), b...), nil
}

// formatCounted reads n octets, which stand behind a length of so many octets.
func formatCounted(b []byte, n, head int) (text string, took int, ok bool) {
	if n == 0 || len(b) < n {
		return "", 0, false
	}
	s := string(b[:n])
	if printable(s) && s == strings.TrimSpace(s) && !strings.Contains(s, ",") && !strings.HasPrefix(s, RawPrefix) &&
		!strings.HasPrefix(s, "0x") {
		return s, head + n, true
	}
	return "0x" + hex.EncodeToString(b[:n]), head + n, true
}

func printable(s string) bool {
	for _, r := range s {
		if r == 0xfffd || !strconv.IsPrint(r) {
			return false
		}
	}
	return true
}

func parseHex(text string) ([]byte, error) {
	digits := strings.NewReplacer(":", "", " ", "", "-", "").Replace(text)
	b, err := hex.DecodeString(digits)
	if err != nil {
		return nil, fmt.Errorf("%q is not hexadecimal; write octets like 0a:0b:0c", text)
	}
	return b, nil
}

// Colons writes octets in hexadecimal with colons.
func Colons(b []byte) string { return addr.Hardware(b).String() }

// Infinite is the lease time that never ends (RFC 2131 section 3.3).
const Infinite = time.Duration(math.MaxUint32) * time.Second

// ParseDuration reads "90s", "8h", "7d", "infinite", or whole seconds.
func ParseDuration(text string) (time.Duration, error) {
	text = strings.TrimSpace(text)
	if text == "infinite" {
		return Infinite, nil
	}
	if n, err := strconv.ParseUint(text, 10, 32); err == nil {
		return time.Duration(n) * time.Second, nil
	}
	rest, days := text, 0
	if head, tail, ok := strings.Cut(text, "d"); ok {
		n, err := strconv.ParseUint(head, 10, 16)
		if err == nil {
			rest, days = tail, int(n)
		}
	}
	var d time.Duration
	var err error
	if rest != "" || days == 0 {
		d, err = time.ParseDuration(rest)
	}
	d += time.Duration(days) * 24 * time.Hour
	if err != nil || d < 0 || d >= Infinite || d%time.Second != 0 {
		return 0, fmt.Errorf("%q is not a duration in whole seconds; write it like 90s, 8h, 7d or infinite", text)
	}
	return d, nil
}

// FormatDuration writes what ParseDuration reads, in the largest units.
func FormatDuration(d time.Duration) string {
	if d >= Infinite {
		return "infinite"
	}
	if d == 0 {
		return "0s"
	}
	var out strings.Builder
	for _, u := range []struct {
		unit time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}, {time.Second, "s"}} {
		if n := d / u.unit; n > 0 {
			fmt.Fprintf(&out, "%d%s", n, u.name)
			d -= n * u.unit
		}
	}
	return out.String()
}

// Seconds is a duration as it travels: whole seconds, all ones for Infinite.
func Seconds(d time.Duration) uint32 {
	return uint32(min(max(d/time.Second, 0), math.MaxUint32))
}

// FromSeconds is the inverse of Seconds.
func FromSeconds(s uint32) time.Duration { return time.Duration(s) * time.Second }
