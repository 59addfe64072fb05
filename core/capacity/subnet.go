package capacity

import (
	"fmt"
	"math"
	"net/netip"
	"strconv"

	"yarnpost/core/addr"
)

// Subnet is what there is to know about a subnet.
type Subnet struct {
	Prefix           netip.Prefix
	First, Last      netip.Addr // of the addresses that hosts can have
	Network          netip.Addr
	Broadcast        netip.Addr // not valid for IPv6, and for /31 and /32
	Mask, Wildcard   netip.Addr // IPv4 alone
	Bits             int        // of the host part
	Hosts            string     // how many hosts fit, in full
	Parts            []netip.Prefix
	PartCount        string
	Around, Neighbor netip.Prefix // the next larger one, and the other half of it
}

// Calculate works out a subnet and, for a longer prefix length than its own, the
// parts that it splits into, the first few of them. Zero splits nothing.
func Calculate(p netip.Prefix, split int) (s Subnet, err error) {
	p = p.Masked()
	full := p.Addr().BitLen()
	s = Subnet{Prefix: p, Network: p.Addr(), Bits: full - p.Bits()}
	r := addr.OfPrefix(p)
	s.First, s.Last = r.From, r.To
	hosts := math.Ldexp(1, s.Bits)
	if p.Addr().Is4() {
		s.Mask = addr.Mask(p)
		m := s.Mask.As4()
		s.Wildcard = netip.AddrFrom4([4]byte{^m[0], ^m[1], ^m[2], ^m[3]})
		if s.Bits > 1 { // of a /31 both are hosts (RFC 3021)
			s.Broadcast, s.First, s.Last = r.To, r.From.Next(), r.To.Prev()
			hosts -= 2
		}
	}
	s.Hosts = strconv.FormatFloat(hosts, 'f', 0, 64)
	if p.Bits() > 0 {
		s.Around = netip.PrefixFrom(p.Addr(), p.Bits()-1).Masked()
		if s.Neighbor = netip.PrefixFrom(s.Around.Addr(), p.Bits()); s.Neighbor == p {
			s.Neighbor = netip.PrefixFrom(addr.OfPrefix(s.Around).To, p.Bits()).Masked()
		}
	}
	if split == 0 {
		return s, nil
	}
	if split <= p.Bits() || split > full {
		return s, fmt.Errorf("%s does not split into /%d; give a length from %d to %d", p, split, p.Bits()+1, full)
	}
	s.PartCount = strconv.FormatFloat(math.Ldexp(1, split-p.Bits()), 'f', 0, 64)
	for at := p.Addr(); len(s.Parts) < partsMost && at.IsValid() && p.Contains(at); {
		part := netip.PrefixFrom(at, split)
		s.Parts = append(s.Parts, part)
		at = addr.OfPrefix(part).To.Next()
	}
	return s, nil
}

const partsMost = 64 // that are listed
