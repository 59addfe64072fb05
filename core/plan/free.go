package plan

import (
	"net/netip"
	"slices"

	"yarnpost/core/addr"
)

// FreeForReservation proposes the lowest address of a scope that nobody may
// get otherwise: outside the pools first, then inside. The taken function says
// which addresses somebody holds now.
func FreeForReservation(p *Plan, v *View, taken func(netip.Addr) bool) (netip.Addr, bool) {
	ends := append(reservedEnds(v.Subnet), p.ofNetwork(v)...)
	for _, e := range v.Exclusions {
		ends = append(ends, e.Range)
	}
	outside := addr.Subtract([]addr.Range{addr.OfPrefix(v.Subnet)}, append(slices.Clone(v.Pools), ends...))
	for _, r := range append(outside, v.Ranges...) {
		for a := r.From; r.Contains(a); a = a.Next() {
			if p.ReservationAt(a) == nil && !taken(a) {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}
