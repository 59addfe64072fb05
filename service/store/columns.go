package store

import (
	"encoding/binary"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

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

// inet adds an address, or null for none: family, prefix length, whether it is a
// prefix, octets.
func (c *column) inet(a netip.Addr) {
	b := *c
	switch {
	case a.Is4():
		octets := a.As4()
		b = append(append(b, 0, 0, 0, 8, 2, 32, 0, 4), octets[:]...)
	case a.Is6():
		octets := a.As16()
		b = append(append(b, 0, 0, 0, 20, 3, 128, 0, 16), octets[:]...)
	default:
		b = append(b, 0xff, 0xff, 0xff, 0xff)
		b[7] = 1 // there are nulls
	}
	*c = b
}

// recordTypes are the types of the columns of a batch.
var recordTypes = [...]uint32{
	pgtype.InetOID, pgtype.Int2OID, pgtype.BoolOID, pgtype.ByteaOID, pgtype.ByteaOID, pgtype.TextOID, pgtype.TextOID, pgtype.ByteaOID,
	pgtype.InetOID, pgtype.Int8OID, pgtype.Int8OID, pgtype.Int8OID, pgtype.Int8OID, pgtype.Int8OID, pgtype.Int8OID, pgtype.Int8OID,
	pgtype.ByteaOID, pgtype.BoolOID,
}

const newestColumn = len(recordTypes) - 1

// rows are the parameters of record for one batch, in memory that is used again.
type rows struct {
	columns [len(recordTypes)]column // from $4 on
	scalars [3][8]byte               // $1 to $3
	params  [3 + len(recordTypes)][]byte
	last    map[netip.Addr]int // the newest row of an address
	count   int
	digests []int64 // of sets never recorded before
	sets    [][]byte
}

// fill takes a batch in, and tells how many rows it has.
func (r *rows) fill(batch []Entry) int {
	for i, oid := range recordTypes {
		r.columns[i].begin(oid)
	}
	if r.last == nil {
		r.last = map[netip.Addr]int{}
	}
	clear(r.last)
	r.count, r.digests, r.sets = 0, r.digests[:0], r.sets[:0]
	for i := range batch {
		e := &batch[i]
		l := e.After
		if l == nil {
			continue
		}
		if i, twice := r.last[l.Address]; twice {
			r.columns[newestColumn].setBool(i, 0)
		}
		r.last[l.Address] = r.count
		r.count++
		r.add(l)
		if e.Set != nil {
			r.digests, r.sets = append(r.digests, int64(l.Given)), append(r.sets, e.Set)
		}
	}
	for _, c := range r.columns {
		c.end(r.count)
	}
	return r.count
}

func (r *rows) add(l *lease.Lease) {
	c := &r.columns
	c[0].inet(l.Address)
	c[1].int2(int16(l.Status))
	c[2].bool(l.Reserved)
	c[3].text(string(l.Client))
	c[4].text(string(l.Hardware))
	c[5].text(l.Hostname)
	c[6].text(l.Vendor)
	c[7].text(l.Circuit)
	c[8].inet(l.Relay)
	c[9].int8(int64(l.Since))
	c[10].int8(int64(l.Changed))
	c[11].int8(int64(l.Expires))
	c[12].int8(int64(l.Heard))
	c[13].int8(int64(l.Granted / time.Second))
	c[14].int8(l.Revision)
	c[15].int8(int64(l.Given))
	c[16].text(l.Nudge)
	c[newestColumn].bool(true)
}

// values gives the parameters of record, all in binary format.
func (r *rows) values(epoch, batch int64, at time.Time) [][]byte {
	since2000 := at.Sub(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).Microseconds()
	for i, n := range []int64{epoch, batch, since2000} {
		binary.BigEndian.PutUint64(r.scalars[i][:], uint64(n))
		r.params[i] = r.scalars[i][:]
	}
	for i := range r.columns {
		r.params[3+i] = r.columns[i]
	}
	return r.params[:]
}
