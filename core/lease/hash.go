package lease

import (
	"hash/maphash"
	"math/bits"
)

// Secrets of the hashes, so that nobody can choose keys that collide; nothing else depends on
// them.
var (
	seed   = maphash.MakeSeed()
	secret = maphash.String(seed, "clients") | 1
)

func hashKey(k key) uint32 { return uint32(maphash.Bytes(seed, k[:])) }

// hashClient hashes all of a client's key.
func hashClient(c Client) uint32 {
	high, low := bits.Mul64(maphash.String(seed, c.ID)^(uint64(c.Number)<<8|uint64(c.Kind)), secret)
	return uint32(high ^ low)
}
