package store

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5/pgtype"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/service/journal"
)

// field is what of a lease is a column of its own: in the table, in its history
// and on the way there. A new one is a line here and a migration.
type field struct {
	name string
	kind kind
	past bool // the history has it, too
	put  func(*column, *lease.Lease)
	get  func(*lease.Lease, []byte) error // what PostgreSQL sends, binary; nil for null
}

// kind is a type of PostgreSQL.
type kind struct {
	oid   uint32
	array string
}

var (
	inet    = kind{pgtype.InetOID, "inet[]"}
	int2    = kind{pgtype.Int2OID, "smallint[]"}
	int8    = kind{pgtype.Int8OID, "bigint[]"}
	boolean = kind{pgtype.BoolOID, "bool[]"}
	bytea   = kind{pgtype.ByteaOID, "bytea[]"}
	text    = kind{pgtype.TextOID, "text[]"}
)

// fields are the columns of a lease. The first is its key.
var fields = []field{
	{"address", inet, true, func(c *column, l *lease.Lease) { c.prefix(l.Prefix) },
		func(l *lease.Lease, b []byte) error { return readPrefix(&l.Prefix, b) }},
	{"status", int2, true, func(c *column, l *lease.Lease) { c.int2(int16(l.Status)) },
		func(l *lease.Lease, b []byte) error { l.Status = lease.Status(binary.BigEndian.Uint16(b)); return nil }},
	{"reserved", boolean, false, func(c *column, l *lease.Lease) { c.bool(l.Reserved) },
		func(l *lease.Lease, b []byte) error { l.Reserved = b[0] == 1; return nil }},
	{"client", bytea, true, func(c *column, l *lease.Lease) { c.client(l.Client) },
		func(l *lease.Lease, b []byte) (err error) { l.Client, err = lease.ParseClient(b); return err }},
	octets("hardware", bytea, true, func(l *lease.Lease) *addr.Hardware { return &l.Hardware }),
	octets("hostname", text, true, func(l *lease.Lease) *string { return &l.Hostname }),
	octets("vendor", text, true, func(l *lease.Lease) *string { return &l.Vendor }),
	octets("circuit", bytea, true, func(l *lease.Lease) *string { return &l.Circuit }),
	octets("agent", bytea, false, func(l *lease.Lease) *string { return &l.Agent }),
	{"relay", inet, true, func(c *column, l *lease.Lease) { c.inet(l.Relay) }, func(l *lease.Lease, b []byte) error {
		var p netip.Prefix
		err := readPrefix(&p, b)
		l.Relay = p.Addr()
		return err
	}},
	number("since", true, func(l *lease.Lease) *lease.Time { return &l.Since }),
	number("changed", false, func(l *lease.Lease) *lease.Time { return &l.Changed }),
	number("expires", true, func(l *lease.Lease) *lease.Time { return &l.Expires }),
	number("heard", false, func(l *lease.Lease) *lease.Time { return &l.Heard }),
	{"granted", int8, false, func(c *column, l *lease.Lease) { c.int8(int64(l.Granted / time.Second)) },
		func(l *lease.Lease, b []byte) error {
			l.Granted = time.Duration(binary.BigEndian.Uint64(b)) * time.Second
			return nil
		}},
	number("revision", false, func(l *lease.Lease) *int64 { return &l.Revision }),
	number("given", true, func(l *lease.Lease) *uint64 { return &l.Given }),
	octets("nudge", bytea, false, func(l *lease.Lease) *string { return &l.Nudge }),
	{"owed", boolean, false, func(c *column, l *lease.Lease) { c.bool(l.Owed) },
		func(l *lease.Lease, b []byte) error { l.Owed = b[0] == 1; return nil }},
	{"version", int8, false, func(c *column, l *lease.Lease) { c.int8(int64(l.Version.Primary)<<32 | int64(l.Version.Secondary)) },
		func(l *lease.Lease, b []byte) error {
			l.Version = lease.VersionVector{Primary: binary.BigEndian.Uint32(b), Secondary: binary.BigEndian.Uint32(b[4:])}
			return nil
		}},
	moment("acked", func(l *lease.Lease) *lease.Moment { return &l.Acked }),
	moment("told", func(l *lease.Lease) *lease.Moment { return &l.Told }),
	{"given_by", int2, true, func(c *column, l *lease.Lease) { c.int2(int16(l.By)) },
		func(l *lease.Lease, b []byte) error { l.By = lease.Side(binary.BigEndian.Uint16(b)); return nil }},
}

// moment is a column of a moment, which takes half the room in memory.
func moment(name string, of func(*lease.Lease) *lease.Moment) field {
	return field{name, int8, false, func(c *column, l *lease.Lease) { c.int8(int64(*of(l))) },
		func(l *lease.Lease, b []byte) error { *of(l) = lease.Moment(binary.BigEndian.Uint64(b)); return nil }}
}

// octets is a column of a text, or of raw octets.
func octets[T ~string](name string, k kind, past bool, of func(*lease.Lease) *T) field {
	put := func(c *column, l *lease.Lease) { c.text(string(*of(l))) }
	if k == text {
		put = func(c *column, l *lease.Lease) { c.text(storable(string(*of(l)))) }
	}
	return field{name, k, past, put,
		func(l *lease.Lease, b []byte) error { *of(l) = T(b); return nil }}
}

// storable is a text as a column of texts takes it, whatever came from outside: UTF-8
// without NULs. One text that is not would have its whole batch refused.
func storable(s string) string {
	if utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 {
		return s
	}
	return strings.ReplaceAll(strings.ToValidUTF8(s, "?"), "\x00", "?")
}

// number is a column of an integer of eight octets.
func number[T ~int64 | ~uint64](name string, past bool, of func(*lease.Lease) *T) field {
	return field{name, int8, past, func(c *column, l *lease.Lease) { c.int8(int64(*of(l))) },
		func(l *lease.Lease, b []byte) error { *of(l) = T(binary.BigEndian.Uint64(b)); return nil }}
}

// readPrefix reads an inet: family, prefix length, whether it is a prefix, how
// many octets, octets. Null is the zero prefix.
func readPrefix(p *netip.Prefix, b []byte) error {
	*p = netip.Prefix{}
	if b == nil {
		return nil
	}
	if len(b) >= 4 {
		if a, ok := netip.AddrFromSlice(b[4:]); ok {
			*p = netip.PrefixFrom(a, int(b[1]))
			return nil
		}
	}
	return fmt.Errorf("%x is no address", b)
}

// names lists the columns that are kept for what is wanted, with commas between.
func names(wanted func(field) bool) string {
	var out []string
	for _, f := range fields {
		if wanted(f) {
			out = append(out, f.name)
		}
	}
	return strings.Join(out, ", ")
}

var (
	leaseColumns = names(func(field) bool { return true })
	pastColumns  = names(func(f field) bool { return f.past })
	record       = recordStatement()
)

// fieldsFrom are the arrays of all fields, as parameters from a number on, and how each
// field but the key is updated.
func fieldsFrom(first int) (arrays, updates string) {
	var from, to []string
	for i, f := range fields {
		from = append(from, fmt.Sprintf("$%d::%s", first+i, f.kind.array))
		if i > 0 {
			to = append(to, f.name+" = excluded."+f.name)
		}
	}
	return strings.Join(from, ", "), strings.Join(to, ", ")
}

// recordStatement writes a batch in one statement, which is one transaction: the
// batch's number $2 (only under this process's epoch $1, and only behind the batch
// that is known to be the last), the newest record of each address, and a line of
// history at $3 for each entry. From $4 on there is an array for each field, one that
// says which row is the newest, one that says which is for the record alone, where this
// server of a pair stands, or null, and the number of the batch before.
func recordStatement() string {
	arrays, updates := fieldsFrom(4)
	return fmt.Sprintf(`with mark as (
	update server set last_batch = $2 where epoch = $1 and last_batch = $%[9]d returning 1
), r as (
	select * from unnest(%[1]s, $%[2]d::bool[], $%[7]d::bool[]) as t(%[3]s, newest, quiet)
), h as (
	insert into lease_history (at, %[4]s) select $3, %[4]s from r, mark where not quiet
), p as (
	update pair set record = convert_from($%[8]d::bytea, 'UTF8')::jsonb from mark where $%[8]d::bytea is not null
)
insert into lease (%[3]s) select %[3]s from r, mark where newest
on conflict (%[5]s) do update set %[6]s`, arrays, 4+len(fields), leaseColumns, pastColumns, fields[0].name,
		updates, 5+len(fields), 6+len(fields), 7+len(fields))
}

// restoreStatement writes records anew that a database lost which was set back. It has
// the parameters of recordStatement from $4 on, as far as they are fields and which row
// is the newest.
func restoreStatement() string {
	arrays, updates := fieldsFrom(1)
	return fmt.Sprintf(`insert into lease (%[2]s) select %[2]s from unnest(%[1]s, $%[3]d::bool[]) as t(%[2]s, newest) where newest
on conflict (%[4]s) do update set %[5]s`, arrays, leaseColumns, 1+len(fields), fields[0].name, updates)
}

// rows are the parameters of record for one batch, in memory that is used again.
type rows struct {
	columns []column   // as fields
	newest  column     // whether a row is the newest of its key
	quiet   column     // whether it gets no line of history
	body    []byte     // where this server of a pair stands, or nil
	scalars [4][8]byte // $1 to $3, and the last
	params  [][]byte
	last    map[netip.Prefix]int // the newest row of a key
	count   int
	digests []int64 // of sets never recorded before
	sets    [][]byte
}

func newRows() rows {
	return rows{columns: make([]column, len(fields)), last: map[netip.Prefix]int{}}
}

// fill takes a batch in, and tells how many rows it has.
func (r *rows) fill(batch []journal.Entry) int {
	for i := range fields {
		r.columns[i].begin(fields[i].kind.oid)
	}
	r.newest.begin(boolean.oid)
	r.quiet.begin(boolean.oid)
	r.body = nil
	clear(r.last)
	r.count, r.digests, r.sets = 0, r.digests[:0], r.sets[:0]
	for i := range batch {
		e := &batch[i]
		l := e.After
		if e.Body != nil {
			r.body = e.Body
		}
		if l == nil {
			continue
		}
		if i, twice := r.last[l.Prefix]; twice {
			r.newest.setBool(i, 0)
		}
		r.last[l.Prefix] = r.count
		r.count++
		for i := range fields {
			fields[i].put(&r.columns[i], l)
		}
		r.newest.bool(true)
		r.quiet.bool(e.Quiet)
		if e.Set != nil {
			r.digests, r.sets = append(r.digests, int64(l.Given)), append(r.sets, e.Set)
		}
	}
	for _, c := range r.columns {
		c.end(r.count)
	}
	r.newest.end(r.count)
	r.quiet.end(r.count)
	return r.count
}

// values gives the parameters of record, all in binary format.
func (r *rows) values(epoch, batch, before int64, at time.Time) [][]byte {
	r.params = r.params[:0]
	since2000 := at.Sub(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).Microseconds()
	for i, n := range []int64{epoch, batch, since2000, before} {
		binary.BigEndian.PutUint64(r.scalars[i][:], uint64(n))
	}
	for i := range 3 {
		r.params = append(r.params, r.scalars[i][:])
	}
	for i := range r.columns {
		r.params = append(r.params, r.columns[i])
	}
	r.params = append(r.params, r.newest, r.quiet, r.body, r.scalars[3][:])
	return r.params
}

// leaseOf reads a row of leaseColumns in PostgreSQL's binary format, integers
// big-endian. Reading rows by reflection takes several times as long, and a
// start waits for it.
func leaseOf(row [][]byte) (*lease.Lease, error) {
	l := new(lease.Lease)
	for i := range fields {
		if err := fields[i].get(l, row[i]); err != nil {
			return nil, fmt.Errorf("column %s: %w", fields[i].name, err)
		}
	}
	return l, nil
}
