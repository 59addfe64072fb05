package plan

import "yarnpost/core/addr"

// Prefetch reads what a decision will read of the scope, for a client with this
// hardware address; see lease.Table.Ahead.
func (v *View) Prefetch(hw addr.Hardware) (read int) {
	// One field of each line of memory.
	read = v.Slot + len(v.Ranges) + int(v.Lease) + len(v.Parts) + len(v.Routers) + len(v.Mode) +
		len(v.Pools) + int(v.OfferDelay) + v.Limits.NewPerMinute
	if n := len(v.bloom.words); n > 0 {
		read += int(v.bloom.words[hashOfClient('h', string(hw))>>32&uint64(n-1)])
	}
	for i := range v.Values {
		if data := v.Values[i].Data; len(data) > 0 {
			read += int(data[0])
		}
	}
	return read
}
