package plan

import (
	"net/netip"
	"slices"

	"yarnpost/core/addr"
)

// FreeForReservation proposes the lowest address of a scope that nobody may
// get otherwise: outside the pools first, then inside. The taken function says
// which addresses somebody holds now. An address that is preferred is taken before all others,
// if it can be.
func FreeForReservation(p *Plan, v *View, prefer netip.Addr, taken func(netip.Addr) bool) (netip.Addr, bool) {
	ends := append(reservedEnds(v.Subnet), p.ofNetwork(v)...)
	for _, e := range v.Exclusions {
		ends = append(ends, e.Range)
	}
	outside := addr.Subtract([]addr.Range{addr.OfPrefix(v.Subnet)}, append(slices.Clone(v.Pools), ends...))
	ranges := append(outside, v.Ranges...)
	may := func(a netip.Addr) bool { return p.ReservationAt(a) == nil && !taken(a) }
	if slices.ContainsFunc(ranges, func(r addr.Range) bool { return r.Contains(prefer) }) && may(prefer) {
		return prefer, true
	}
	for _, r := range ranges {
		for a := r.From; r.Contains(a); a = a.Next() {
			if may(a) {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}
