package capacity

import (
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// Count is how the addresses of something are used at a moment.
type Count struct {
	Size      uint64 // addresses that the pools may give, reserved ones included
	Excluded  uint64 // of the pools, taken away by exclusions
	Reserved  uint64 // reservations, inside and outside pools
	Claimed   uint64 // of those, held by their client
	Active    uint64
	Offered   uint64
	Released  uint64
	Kept      uint64 // released, and kept from others for a while
	Expired   uint64
	Abandoned uint64
	Headroom  uint64 // could be handed out here, now
	Partner   uint64 // could be handed out by the partner
}

// Most is the highest number of addresses that is counted; more, as an IPv6 subnet has, is that.
const Most = 1<<53 - 1

// Used is how many addresses of the pools cannot be handed out by anybody.
func (c Count) Used() uint64 {
	if c.Size >= Most {
		return c.Active + c.Offered + c.Kept + c.Abandoned
	}
	return c.Size - min(c.Size, c.Headroom+c.Partner)
}

// Share is the used part of the pools, 0 to 1; 0 if there are none.
func (c Count) Share() float64 {
	if c.Size == 0 {
		return 0
	}
	return float64(c.Used()) / float64(c.Size)
}

// Add is both together.
func (c Count) Add(o Count) Count {
	return Count{most(c.Size + o.Size), most(c.Excluded + o.Excluded), c.Reserved + o.Reserved, c.Claimed + o.Claimed, c.Active + o.Active,
		c.Offered + o.Offered, c.Released + o.Released, c.Kept + o.Kept, c.Expired + o.Expired, c.Abandoned + o.Abandoned,
		most(c.Headroom + o.Headroom), most(c.Partner + o.Partner)}
}

// most bounds a number of addresses.
func most(n uint64) uint64 { return min(n, Most) }

func countOf(n lease.Counts) Count {
	return Count{Claimed: uint64(n.Claimed), Active: uint64(n.Active), Offered: uint64(n.Offered), Released: uint64(n.Released),
		Kept: uint64(n.Kept), Expired: uint64(n.Expired), Abandoned: uint64(n.Abandoned), Headroom: most(n.Headroom), Partner: most(n.Partner)}
}

// OfScope counts a scope.
func OfScope(t *lease.Table, v *plan.View) Count {
	c := countOf(t.Count(v.ID))
	c.Size, c.Excluded, c.Reserved = most(v.Size), most(v.Excluded), uint64(t.Plan().ReservationCount(v.ID))
	return c
}

// OfPools counts a scope's pools, in the order of its view. Of reservations it
// tells those in the pools alone where there are few.
func OfPools(t *lease.Table, v *plan.View) []Count {
	counts := t.CountPools(v.ID)
	out := make([]Count, len(counts))
	for i, n := range counts {
		out[i] = countOf(n)
		part := v.Parts[i]
		out[i].Size = most(part.Size())
		for _, e := range v.Exclusions {
			if out[i].Size < Most && part.Pool.Overlaps(e.Range) {
				out[i].Excluded += part.Pool.Size() - addr.Total(addr.Subtract([]addr.Range{part.Pool}, []addr.Range{e.Range}))
			}
		}
		out[i].Reserved = reservedIn(t.Plan(), v, part)
	}
	return out
}

const reservedMost = 4096 // reservations of a scope that are looked at one by one

func reservedIn(p *plan.Plan, v *plan.View, part plan.Part) (n uint64) {
	if p.ReservationCount(v.ID) > reservedMost {
		return 0
	}
	for _, r := range p.Reservations(v.ID) {
		if part.Pool.Contains(r.Address) {
			n++
		}
	}
	return n
}
