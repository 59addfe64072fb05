package lease

import (
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// Prefetch reads what a decision about a client will read of a scope, of the record
// of an address in it, and of what the client has there. Among a million leases
// none of that is in a cache. The decision itself comes to it bit by bit, and
// waits each time; here no read waits for another that it does not depend on, so
// the processor makes them side by side. The sum is of no use but that the
// compiler keeps the reads.
func (t *Table) Prefetch(v *plan.View, a netip.Addr, c Client, hw addr.Hardware) (read int) {
	s := t.in(v)
	if s == nil {
		return 0
	}
	read = v.Prefetch(hw) + len(s.pools) + s.claimed
	if len(s.slots) == 0 {
		return read
	}
	key, client := hashKey(keyOf(Host(a))), hashClient(c)
	at, has := s.keys.Likely(key), s.clients.Likely(client)
	for _, r := range [...]*record{s.at(at), s.at(has)} {
		read += int(r.status) + int(r.due) + int(s.octets.At(r.text)[0])
	}
	return read
}
