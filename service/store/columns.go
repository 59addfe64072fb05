package store

import (
	"encoding/binary"
	"net/netip"

	"yarnpost/core/lease"
)

// column is an array in PostgreSQL's binary format, big-endian: a header, then
// each element behind its length. Encoding by reflection would cost the hot path
// a third of its garbage.
type column []byte

// columnHead is the length of the header: dimensions, whether there are nulls,
// the type of elements, how many there are, and the number of the first.
const columnHead = 20

func (c *column) begin(oid uint32) {
	b := append((*c)[:0], make([]byte, columnHead)...)
	binary.BigEndian.PutUint32(b, 1)
	binary.BigEndian.PutUint32(b[8:], oid)
	binary.BigEndian.PutUint32(b[16:], 1)
	*c = b
}

func (c column) end(elements int) { binary.BigEndian.PutUint32(c[12:], uint32(elements)) }

func (c *column) text(s string) {
	*c = append(binary.BigEndian.AppendUint32(*c, uint32(len(s))), s...)
}

func (c *column) int2(n int16) {
	*c = binary.BigEndian.AppendUint16(append(*c, 0, 0, 0, 2), uint16(n))
}

func (c *column) int8(n int64) {
	*c = binary.BigEndian.AppendUint64(append(*c, 0, 0, 0, 8), uint64(n))
}

func (c *column) bool(v bool) {
	b := byte(0)
	if v {
		b = 1
	}
	*c = append(*c, 0, 0, 0, 1, b)
}

// setBool changes an element of an array of nothing but booleans.
func (c column) setBool(element int, v byte) { c[columnHead+5*element+4] = v }

// client adds the key of a client.
func (c *column) client(k lease.Client) {
	at := len(*c)
	b := k.Append(append(*c, 0, 0, 0, 0))
	binary.BigEndian.PutUint32(b[at:], uint32(len(b)-at-4))
	*c = b
}

// inet adds an address, or null for none.
func (c *column) inet(a netip.Addr) { c.prefix(netip.PrefixFrom(a, a.BitLen())) }

// prefix adds a prefix, or null for none: family, prefix length, whether it is a
// prefix, octets.
func (c *column) prefix(p netip.Prefix) {
	b := *c
	switch a := p.Addr(); {
	case a.Is4():
		octets := a.As4()
		b = append(append(b, 0, 0, 0, 8, 2, byte(p.Bits()), 0, 4), octets[:]...)
	case a.Is6():
		octets := a.As16()
		b = append(append(b, 0, 0, 0, 20, 3, byte(p.Bits()), 0, 16), octets[:]...)
	default:
		b = append(b, 0xff, 0xff, 0xff, 0xff)
		b[7] = 1 // there are nulls
	}
	*c = b
}
