package lease

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"math/bits"
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// hashed is a pool of IPv6 addresses or prefixes. Which one a client gets, a keyed hash of the
// client and the pool says (RFC 7943 section 3): the same each time, as long as nobody else has
// it, and hard to guess for whoever does not know the key. So nothing is walked however large
// the pool is. One that is small enough to fill up has a cursor besides, which finds what
// chance does not.
type hashed struct {
	part   plan.Part
	secret string
	side   Side // whose half of the pool this server gives
	common int  // bits that all of the pool has in common
	whole  bool // the pool is the whole prefix of these
	size   uint64
	rest   *cursor // nil for a pool that never fills up

	mac  keyed // that is used again; what it reads and gives lies in room
	room []byte
}

// keyed is a keyed hash function.
type keyed interface {
	Write(b []byte) (int, error)
	Sum(b []byte) []byte
	Reset()
}

// Bounds of a hashed pool: keys up to which it may fill up, and what is tried by chance.
const (
	walkable     = 1 << 20
	chances      = 64 // most of a pool may be excluded
	chancesSmall = 16 // of one that may fill up: the cursor finds the rest
)

func newHashed(part plan.Part, secret string, of *shares) *hashed {
	h := &hashed{part: part, secret: secret, side: of.side, common: addr.CommonBits(part.Pool), size: part.Size()}
	h.whole = addr.OfPrefix(netip.PrefixFrom(part.Pool.From, h.common)) == part.Pool
	if h.size <= walkable {
		h.rest = cursorOver(part.Ranges, h.length())
		if of.both {
			h.side = Alone
		}
	}
	return h
}

// length is that of the keys.
func (h *hashed) length() int {
	if h.part.Length > 0 {
		return h.part.Length
	}
	return 128
}

// nth is what a client would be given after n others turned out to be taken; ok is false if
// that is not in the pool.
func (h *hashed) nth(who string, n uint64) (k netip.Prefix, ok bool) {
	if h.mac == nil {
		h.mac = hmac.New(sha256.New, []byte(h.secret))
	}
	from := h.part.Pool.From.As16()
	h.mac.Reset()
	h.room = append(binary.BigEndian.AppendUint64(append(h.room[:0], from[:]...), n), who...)
	_, _ = h.mac.Write(h.room) // a hash takes everything
	h.room = h.mac.Sum(h.room[:0])
	sum := h.room
	length, common := h.length(), h.common
	if h.whole {
		b := from
		for i := range b { // the bits behind those of the pool, up to the key's length, are chance's
			b[i] |= sum[i] & between(i, common, length)
		}
		h.half(&b, common, length)
		k = netip.PrefixFrom(netip.AddrFrom16(b), length)
	} else {
		place, _ := bits.Mul64(binary.BigEndian.Uint64(sum), max(h.part.Pool.Size(), 1))
		k, ok = addr.Plus(netip.PrefixFrom(h.part.Pool.From, length), place)
		if !ok {
			return k, false
		}
		b := k.Addr().As16()
		h.half(&b, 0, length)
		k = netip.PrefixFrom(netip.AddrFrom16(b), length)
	}
	return k, addr.In(h.part.Ranges, k.Addr())
}

// between is which bits of octet i stand from one place of the whole to another.
func between(i, from, to int) byte {
	low := func(n int) byte { return 0xff >> min(max(n-8*i, 0), 8) } // those from place n on
	return low(from) &^ low(to)
}

// half puts a key into the half that this server gives.
func (h *hashed) half(b *[16]byte, common, length int) {
	if h.side == Alone || length <= common {
		return
	}
	at, bit := (length-1)/8, byte(0x80)>>((length-1)%8)
	if b[at] &^= bit; h.side == Secondary {
		b[at] |= bit
	}
}

// each yields what chance finds, then what the cursor does. For nobody there is
// nothing, since it depends on who asks.
func (h *hashed) each(j judge, who string, most int, yield func(netip.Prefix) bool) bool {
	if who == "" {
		return true
	}
	tries := uint64(chances)
	if h.rest != nil {
		tries = chancesSmall
	}
	for n := range tries {
		if k, ok := h.nth(who, n); ok && j(k) && !yield(k) {
			return false
		}
	}
	return h.rest == nil || h.rest.each(j, who, most, yield)
}

// passed reports whether the cursor has gone by: what comes back to a vast pool is found by
// chance again, and needs no record.
func (h *hashed) passed(k netip.Prefix) bool { return h.rest != nil && h.rest.passed(k) }

func (h *hashed) advance(j judge, n int) int {
	if h.rest == nil {
		return n
	}
	return h.rest.advance(j, n)
}

func (h *hashed) reshaped(ranges []addr.Range) fresh {
	n := *h
	n.part.Ranges, n.mac, n.room = ranges, nil, nil
	if h.rest != nil {
		n.rest = h.rest.reshaped(ranges).(*cursor)
	}
	return &n
}

func (h *hashed) ranges() []addr.Range { return h.part.Ranges }
func (h *hashed) left() []addr.Range   { return nil }

// halves is how many keys of a part are this server's to give, and the other's.
func (h *hashed) halves() (own, other uint64) {
	n := h.size
	switch {
	case h.side == Alone:
		return n, 0
	case n > walkable: // nobody counts on one more or less
		return n - n/2, n / 2
	}
	length := h.length()
	for _, r := range h.part.Ranges {
		for k, ok := netip.PrefixFrom(r.From, length), true; ok && r.Contains(k.Addr()); k, ok = addr.Plus(k, 1) {
			if odds(k) == (h.side == Secondary) {
				own++
			}
		}
	}
	return own, n - own
}

// odds reports whether the lowest bit of a key is 1: those are the secondary's to give (RFC 8156
// section 4.2.2.1, independent allocation).
func odds(k netip.Prefix) bool {
	b := k.Addr().As16()
	at := k.Bits() - 1
	return at >= 0 && b[at/8]&(0x80>>(at%8)) != 0
}

// GivesFor is the server of a pair that gives a free IPv6 address or prefix to new clients.
func GivesFor(k netip.Prefix) Side {
	if odds(k) {
		return Secondary
	}
	return Primary
}
