package addr

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/bits"
	"net/netip"
	"strconv"
	"strings"
)

// IAID is the number by which a DHCPv6 client tells its identity associations apart (RFC 8415
// section 12): four raw octets, big-endian, or "" for none.
type IAID string

// IAIDOf is the IAID of a number.
func IAIDOf(n uint32) IAID { return IAID(binary.BigEndian.AppendUint32(nil, n)) }

// ParseIAID reads an IAID as client systems print it: a number in decimal, 0x and hexadecimal
// digits, or four octets with colons or dashes.
func ParseIAID(text string) (IAID, error) {
	text = strings.TrimSpace(text)
	if n, err := strconv.ParseUint(text, 10, 32); err == nil {
		return IAIDOf(uint32(n)), nil
	}
	digits, isHex := strings.CutPrefix(strings.ToLower(text), "0x")
	if isHex && len(digits) < 8 {
		digits = strings.Repeat("0", 8-len(digits)) + digits
	}
	if raw, err := hex.DecodeString(bare.Replace(digits)); err == nil && len(raw) == 4 {
		return IAID(raw), nil
	}
	return "", fmt.Errorf("%q is no IAID; write it as a number, or as four octets like 00:00:00:01", text)
}

// Number is the IAID as a number; 0 for none.
func (i IAID) Number() uint32 {
	if len(i) != 4 {
		return 0
	}
	return binary.BigEndian.Uint32([]byte(i))
}

// String writes the number in decimal; none is "".
func (i IAID) String() string {
	if len(i) != 4 {
		return ""
	}
	return strconv.FormatUint(uint64(i.Number()), 10)
}

// MarshalText writes the IAID as String does.
func (i IAID) MarshalText() ([]byte, error) { return []byte(i.String()), nil }

// UnmarshalText reads what ParseIAID reads; empty text is none.
func (i *IAID) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*i = ""
		return nil
	}
	*i, err = ParseIAID(string(text))
	return err
}

// ParseKey reads an address, as a prefix of full length, or a prefix.
func ParseKey(text string) (netip.Prefix, error) {
	if strings.Contains(text, "/") {
		return ParseSubnet(text)
	}
	a, err := ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, err
	}
	return netip.PrefixFrom(a, a.BitLen()), nil
}

// FormatKey is the reverse of ParseKey: an address, or a prefix, as people write it; "" for one
// that is not valid.
func FormatKey(k netip.Prefix) string {
	switch {
	case !k.IsValid():
		return ""
	case k.IsSingleIP():
		return k.Addr().String()
	}
	return k.String()
}

// CountText says how many addresses or prefixes there are: those that nobody counts by the power
// of two that comes closest, since more than 2^64 no uint64 holds.
func CountText(n uint64) string {
	if n>>40 == 0 {
		return strconv.FormatUint(n, 10)
	}
	power := bits.Len64(n)
	if n>>(power-2) == 2 { // nearer to the power below
		power--
	}
	if power == 64 {
		return "2^64 or more"
	}
	return fmt.Sprintf("about 2^%d", power)
}

// CommonBits is how many bits the addresses of a range have in common.
func CommonBits(r Range) int {
	n := 0
	for n < r.From.BitLen() {
		if p, err := r.From.Prefix(n + 1); err != nil || !p.Contains(r.To) {
			break
		}
		n++
	}
	return n
}

// Plus is the prefix of the same length that stands n places behind another; ok is false if
// there is none.
func Plus(p netip.Prefix, n uint64) (out netip.Prefix, ok bool) {
	shift := p.Addr().BitLen() - p.Bits()
	b := p.Addr().As16()
	hi, lo := binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])
	addHi, addLo := uint64(0), uint64(0)
	switch {
	case shift >= 64:
		if shift >= 128 && n > 0 || shift < 128 && n<<(shift-64)>>(shift-64) != n {
			return p, false
		}
		addHi = n << (shift - 64)
	default:
		addLo = n << shift
		if shift > 0 {
			addHi = n >> (64 - shift)
		}
	}
	sum := lo + addLo
	carry := uint64(0)
	if sum < lo {
		carry = 1
	}
	top := hi + addHi + carry
	if top < hi {
		return p, false
	}
	binary.BigEndian.PutUint64(b[:8], top)
	binary.BigEndian.PutUint64(b[8:], sum)
	a := netip.AddrFrom16(b)
	if p.Addr().Is4() {
		a = a.Unmap()
		if !a.Is4() {
			return p, false
		}
	}
	return netip.PrefixFrom(a, p.Bits()), true
}
