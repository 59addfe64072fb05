package plan

import (
	"hash/maphash"
	"net/netip"
	"slices"
)

// bloom is a Bloom filter: it tells in one look into memory that a scope has no reservation of an
// address, or for a client; that there is one it cannot tell. Most clients have
// none, and among many scopes each look-up costs several. The zero bloom
// lets nothing through.
type bloom struct {
	words []uint64 // a power of two; each key sets three bits of one word
	keys  int
}

// bloomLoad is how many keys a word is for: with more, too much gets through.
const bloomLoad = 4

func newBloom(keys int) bloom {
	n := 1
	for n*bloomLoad < keys {
		n *= 2
	}
	return bloom{words: make([]uint64, n)}
}

func (s bloom) clone() bloom { return bloom{slices.Clone(s.words), s.keys} }
func (s *bloom) full() bool  { return s.keys+2 > bloomLoad*len(s.words) }

func (s *bloom) add(h uint64) {
	s.words[h>>32&uint64(len(s.words)-1)] |= bloomBits(h)
	s.keys++
}

func (s *bloom) may(h uint64) bool {
	return len(s.words) > 0 && s.words[h>>32&uint64(len(s.words)-1)]&bloomBits(h) == bloomBits(h)
}

func bloomBits(h uint64) uint64 { return 1<<(h&63) | 1<<(h>>6&63) | 1<<(h>>12&63) }

var seed = maphash.MakeSeed() // of keys in Bloom filters; nothing depends on it

func hashOfKey(k netip.Prefix) uint64 { return maphash.Comparable(seed, k) }

func hashOfClient(kind byte, who string) uint64 {
	return maphash.String(seed, who) + uint64(kind)*0x9e3779b97f4a7c15
}

// addToBloom makes a scope's bloom let a new reservation through.
func (d *Draft) addToBloom(r *Reservation) {
	v := d.next.Scope(r.Scope)
	if s := v.bloom; s.full() || !d.blooms[v.ID] {
		n := *v
		if s.full() {
			all := d.next.Reservations(v.ID)
			n.bloom = newBloom(4 * (len(all) + 2))
			for _, o := range all {
				n.bloom.let(o)
			}
		} else {
			n.bloom = s.clone()
		}
		d.blooms[v.ID] = true
		d.replaceView(&n)
		v = &n
	}
	v.bloom.let(r)
}

func (s *bloom) let(r *Reservation) {
	k := r.key()
	s.add(hashOfKey(r.Key()))
	s.add(hashOfClient(k.kind, k.who))
}

// replaceView puts a scope's view in place of the one it was copied from.
func (d *Draft) replaceView(v *View) {
	v.self[0] = v
	d.next.scopes.Set(v.ID, v)
	if !d.vacated[v.ID] {
		for _, p := range v.Prefixes() {
			insert(d, &d.next.subnets, p, v)
		}
	}
	peers := slices.Clone(d.next.OnLink(v.Link))
	peers[slices.IndexFunc(peers, func(o *View) bool { return o.ID == v.ID })] = v
	d.next.onLink.Set(v.Link, peers)
}

// ReservationIn is the reservation of an address or prefix of a scope, or nil.
func (p *Plan) ReservationIn(v *View, k netip.Prefix) *Reservation {
	if !v.bloom.may(hashOfKey(k)) {
		return nil
	}
	return p.ReservationOf(k)
}
