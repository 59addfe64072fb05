// Package addr has addresses: ranges, subnets and hardware
// addresses as administrators write them. Text comes in; values that compare,
// count and print in one canonical form go out. Both address families share it.
package addr

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"net/netip"
	"strconv"
	"strings"

	"go4.org/netipx"
)

// Range is an inclusive span of addresses of one family. The zero value is
// empty and invalid.
type Range struct {
	From, To netip.Addr
}

// ParseRange reads "10.0.0.5-10.0.0.9", a CIDR such as "10.0.0.0/28", or a
// single address.
func ParseRange(text string) (Range, error) {
	text = strings.TrimSpace(text)
	if from, to, ok := strings.Cut(text, "-"); ok {
		a, err := ParseAddr(from)
		if err != nil {
			return Range{}, err
		}
		b, err := ParseAddr(to)
		if err != nil {
			return Range{}, err
		}
		if a.BitLen() != b.BitLen() {
			return Range{}, fmt.Errorf("range %q mixes IPv4 and IPv6; give both ends in one family", text)
		}
		if b.Less(a) {
			return Range{}, fmt.Errorf("range %q runs backwards; write the lower address first: %s-%s", text, b, a)
		}
		return Range{a, b}, nil
	}
	if strings.Contains(text, "/") {
		p, err := ParseSubnet(text)
		if err != nil {
			return Range{}, err
		}
		return OfPrefix(p), nil
	}
	a, err := ParseAddr(text)
	if err != nil {
		return Range{}, err
	}
	return Range{a, a}, nil
}

// ParseAddr reads one address without a zone.
func ParseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(strings.TrimSpace(text))
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%q is not an IP address; write it like 10.0.0.5", strings.TrimSpace(text))
	}
	return a.Unmap(), nil
}

// ParseSubnet reads a CIDR ("10.0.0.0/24") or, for IPv4, an address and a
// dotted mask separated by "/" or a blank. Host bits must be clear.
func ParseSubnet(text string) (netip.Prefix, error) {
	text = strings.TrimSpace(text)
	base, mask, ok := strings.Cut(strings.Join(strings.Fields(text), "/"), "/")
	if !ok {
		return netip.Prefix{}, fmt.Errorf("%q has no mask; write a subnet like 10.0.0.0/24", text)
	}
	a, err := ParseAddr(base)
	if err != nil {
		return netip.Prefix{}, err
	}
	if strings.Contains(mask, ".") {
		n, err := maskLength(mask)
		if err != nil {
			return netip.Prefix{}, err
		}
		mask = fmt.Sprint(n)
	}
	p, err := netip.ParsePrefix(a.String() + "/" + mask)
	if err != nil {
		return netip.Prefix{}, fmt.Errorf("%q is not a subnet; write it like 10.0.0.0/24", text)
	}
	if p.Masked() != p {
		return netip.Prefix{}, fmt.Errorf("%s has host bits set; the subnet is %s", p, p.Masked())
	}
	return p, nil
}

// ParsePrefixOf reads what ParseSubnet reads, and gives the subnet of any address in
// it.
func ParsePrefixOf(text string) (netip.Prefix, error) {
	base, mask, ok := strings.Cut(strings.Join(strings.Fields(text), "/"), "/")
	if a, err := ParseAddr(base); ok && err == nil {
		n, err := strconv.Atoi(mask)
		if strings.Contains(mask, ".") {
			n, err = maskLength(mask)
		}
		if p, bad := a.Prefix(n); err == nil && bad == nil {
			return p, nil
		}
	}
	return ParseSubnet(text)
}

func maskLength(mask string) (int, error) {
	a, err := netip.ParseAddr(mask)
	if err != nil || !a.Is4() {
		return 0, fmt.Errorf("%q is not a mask; write it like 255.255.255.0", mask)
	}
	v := Uint32(a)
	n := bits.LeadingZeros32(^v)
	if v<<n != 0 {
		return 0, fmt.Errorf("mask %s has gaps; a mask is ones followed by zeros", mask)
	}
	return n, nil
}

// OfPrefix is every address of p, network and broadcast included.
func OfPrefix(p netip.Prefix) Range {
	r := netipx.RangeOfPrefix(p)
	return Range{r.From(), r.To()}
}

// Valid reports whether the range has both ends, in order, in one family.
func (r Range) Valid() bool {
	return r.From.IsValid() && r.From.BitLen() == r.To.BitLen() && !r.To.Less(r.From)
}

// Contains reports whether a lies in the range.
func (r Range) Contains(a netip.Addr) bool {
	return r.From.BitLen() == a.BitLen() && !a.Less(r.From) && !r.To.Less(a)
}

// Overlaps reports whether the ranges share an address.
func (r Range) Overlaps(o Range) bool {
	return r.From.BitLen() == o.From.BitLen() && !o.To.Less(r.From) && !r.To.Less(o.From)
}

// Size is the number of addresses; ranges of 2^64 and more give the largest
// uint64.
func (r Range) Size() uint64 {
	if !r.Valid() {
		return 0
	}
	a, b := r.From.As16(), r.To.As16()
	hi, borrowLo := binary.BigEndian.Uint64(b[:8]), uint64(0)
	lo, borrowLo := bits.Sub64(binary.BigEndian.Uint64(b[8:]), binary.BigEndian.Uint64(a[8:]), 0)
	hi, _ = bits.Sub64(hi, binary.BigEndian.Uint64(a[:8]), borrowLo)
	if hi != 0 || lo == ^uint64(0) {
		return ^uint64(0)
	}
	return lo + 1
}

// String writes a single address as itself, a whole prefix of IPv6 as a CIDR, and anything else as
// "from-to".
func (r Range) String() string {
	if !r.Valid() {
		return "empty range"
	}
	if r.From == r.To {
		return r.From.String()
	}
	if r.From.Is6() {
		if p := netip.PrefixFrom(r.From, CommonBits(r)); OfPrefix(p) == r {
			return p.String()
		}
	}
	return r.From.String() + "-" + r.To.String()
}

// MarshalText writes the range as String does.
func (r Range) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText reads what ParseRange reads.
func (r *Range) UnmarshalText(text []byte) (err error) {
	*r, err = ParseRange(string(text))
	return err
}

// Subtract returns the sorted, disjoint ranges of from that are not in take.
func Subtract(from, take []Range) []Range {
	var b netipx.IPSetBuilder
	for _, r := range from {
		b.AddRange(netipx.IPRangeFrom(r.From, r.To))
	}
	for _, r := range take {
		b.RemoveRange(netipx.IPRangeFrom(r.From, r.To))
	}
	set, err := b.IPSet()
	if err != nil { // only invalid ranges reach this, and Valid keeps them out
		return nil
	}
	var out []Range
	for _, r := range set.Ranges() {
		out = append(out, Range{r.From(), r.To()})
	}
	return out
}

// Total adds up the sizes of disjoint ranges, saturating.
func Total(ranges []Range) uint64 {
	var n uint64
	for _, r := range ranges {
		sum, carry := bits.Add64(n, r.Size(), 0)
		if carry != 0 {
			return ^uint64(0)
		}
		n = sum
	}
	return n
}

// In reports whether a lies in one of the sorted, disjoint ranges.
func In(ranges []Range, a netip.Addr) bool {
	lo, hi := 0, len(ranges)
	for lo < hi {
		mid := (lo + hi) / 2
		if ranges[mid].To.Less(a) {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo < len(ranges) && ranges[lo].Contains(a)
}

// Uint32 is an IPv4 address as a number, most significant octet first.
func Uint32(a netip.Addr) uint32 {
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

// Dashed is an address as part of a name, in which no colons can be: 2001-db8-40-1 for
// 2001:db8:40:1::.
func Dashed(a netip.Addr) string {
	return strings.TrimRight(strings.ReplaceAll(a.String(), ":", "-"), "-")
}

// Mask is the dotted mask of an IPv4 subnet, as an address.
func Mask(p netip.Prefix) netip.Addr {
	var b [4]byte
	binary.BigEndian.PutUint32(b[:], ^uint32(0)<<(32-p.Bits()))
	return netip.AddrFrom4(b)
}

// Broadcast is the last address of an IPv4 subnet.
func Broadcast(p netip.Prefix) netip.Addr { return OfPrefix(p).To }

// SamePlace is the address that stands in one subnet where another stands in its own: the same
// number of addresses behind the first. It is the zero Addr if the subnet has no such place.
func SamePlace(a netip.Addr, from, to netip.Prefix) netip.Addr {
	if a.Is4() != to.Addr().Is4() || !from.Contains(a) {
		return netip.Addr{}
	}
	host, net := a.AsSlice(), to.Masked().Addr().AsSlice()
	for i := range host {
		fixed := func(bits int) byte { return ^byte(0xff >> min(max(bits-8*i, 0), 8)) } // of this octet
		place := host[i] &^ fixed(from.Bits())
		if place&fixed(to.Bits()) != 0 {
			return netip.Addr{}
		}
		net[i] |= place
	}
	out, _ := netip.AddrFromSlice(net)
	return out
}

// IsZero reports whether the range is the empty one.
func (r Range) IsZero() bool { return r == Range{} }
