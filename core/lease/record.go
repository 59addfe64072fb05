package lease

import (
	"encoding/binary"
	"net/netip"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease/internal/ilist"
	"yarnpost/core/lease/internal/intern"
	"yarnpost/core/lease/internal/slab"
)

// record is a lease as the table keeps it: two lines of memory, and its texts in an
// arena. It holds no pointer, so a collection of garbage has no lease to look at,
// however many there are. What each decision looks at stands first.
type record struct {
	key      key
	status   Status
	kind     ClientKind
	by       Side
	marks    marks
	cells    uint16 // of its texts
	number   uint32 // Client.Number
	text     uint32 // place of its texts
	vendor   uint32 // number of the shared text; 0 if it is among its own
	circuit  uint32 // the same
	version  VersionVector
	acked    Moment
	told     Moment
	link     ilist.Link // where it stands among what can be given again
	expires  Time
	changed  Time
	heard    Time
	since    Time
	due      Time // when its entry among what is due stands; 0 for none
	granted  time.Duration
	revision int64
	given    uint64
}

// marks are what is true of a record or is not.
type marks uint8

const (
	reserved marks = 1 << iota
	owed
	ending // its hardware address is the end of its client's identifier
)

func (m marks) has(one marks) bool { return m&one != 0 }

// key is the key of a record without a pointer: the octets of its address (RFC 4291
// section 2.5.5.2 for IPv4), and the length of the prefix.
type key [17]byte

func keyOf(k netip.Prefix) (out key) {
	a := k.Addr().As16()
	copy(out[:], a[:])
	out[16] = byte(k.Bits())
	return out
}

func (k key) prefix() netip.Prefix { return netip.PrefixFrom(k.address(), int(k[16])) }

func (k key) address() netip.Addr {
	if [12]byte(k[:12]) == mapped {
		return netip.AddrFrom4([4]byte(k[12:16]))
	}
	return netip.AddrFrom16([16]byte(k[:16]))
}

// mapped begins the octets of an IPv4 address.
var mapped = [12]byte{10: 0xff, 11: 0xff}

// vacant reports whether the slot has no record: no key is the whole of IPv6.
func (r *record) vacant() bool { return r.key == key{} }

// tombstone reports whether the record says nothing at all (Lease.tombstone).
func (r *record) tombstone() bool {
	return r.status == Free && r.kind == Nobody && r.version == (VersionVector{})
}

// textMost bounds each text; none that comes in a message is longer.
const textMost = 1<<16 - 1

// recordOf is the record of a lease with its texts; whatever else the table keeps in a
// record is zero. The texts are good until room is used again.
func recordOf(l *Lease, w *intern.Texts, room []byte) (r record, text []byte) {
	r = record{key: keyOf(l.Prefix), status: l.Status, kind: l.Client.Kind, by: l.By, number: l.Client.Number, version: l.Version,
		acked: l.Acked, told: l.Told, expires: l.Expires, changed: l.Changed, heard: l.Heard, since: l.Since, granted: l.Granted,
		revision: l.Revision, given: l.Given, vendor: w.Number(l.Vendor), circuit: w.Number(l.Circuit)}
	if l.Reserved {
		r.marks |= reserved
	}
	if l.Owed {
		r.marks |= owed
	}
	text = appendText(room[:0], l.Client.ID)
	if len(l.Hardware) < 256 && strings.HasSuffix(l.Client.ID, string(l.Hardware)) { // as with most
		r.marks |= ending
		text = append(text, byte(len(l.Hardware)))
	} else {
		text = appendText(text, string(l.Hardware))
	}
	text = appendText(appendText(text, l.Hostname), l.Nudge)
	text = appendAddr(text, l.Relay)
	if r.vendor == 0 {
		text = appendText(text, l.Vendor)
	}
	if r.circuit == 0 {
		text = appendText(text, l.Circuit)
	}
	text = appendText(text, l.Agent)
	r.cells = uint16(slab.Cells(text))
	return r, text
}

// brief is the lease of a record, but for its texts and its relay.
func (r *record) brief() (l Lease) {
	r.fixed(&l)
	return l
}

// fixed fills in what is no text.
func (r *record) fixed(l *Lease) {
	l.Prefix, l.Status, l.Reserved, l.Owed, l.By = r.key.prefix(), r.status, r.marks.has(reserved), r.marks.has(owed), r.by
	l.Version, l.Acked, l.Told, l.Client.Kind, l.Client.Number = r.version, r.acked, r.told, r.kind, r.number
	l.Expires, l.Heard, l.Since, l.Changed = r.expires, r.heard, r.since, r.changed
	l.Granted, l.Revision, l.Given = r.granted, r.revision, r.given
}

// full fills in all of a lease, given the texts of the record and those that are shared.
func (r *record) full(l *Lease, text string, w []string) {
	r.fixed(l)
	l.Client.ID = cut(&text)
	if r.marks.has(ending) {
		n := int(text[0])
		l.Hardware, text = addr.Hardware(l.Client.ID[len(l.Client.ID)-n:]), text[1:]
	} else {
		l.Hardware = addr.Hardware(cut(&text))
	}
	l.Hostname, l.Nudge = cut(&text), cut(&text)
	l.Relay = cutAddr(&text)
	if l.Vendor = w[r.vendor]; r.vendor == 0 {
		l.Vendor = cut(&text)
	}
	if l.Circuit = w[r.circuit]; r.circuit == 0 {
		l.Circuit = cut(&text)
	}
	l.Agent = cut(&text)
}

// appendText adds a text behind its length.
func appendText(b []byte, text string) []byte {
	text = text[:min(len(text), textMost)]
	return append(binary.AppendUvarint(b, uint64(len(text))), text...)
}

// cut takes the first text off others.
func cut[T string | []byte](texts *T) (first T) {
	t := *texts
	n := int(t[0])
	if t = t[1:]; n >= 0x80 {
		n, t = longer(n, t)
	}
	first, *texts = t[:n], t[n:]
	return first
}

// longer reads on where a length takes more than one octet.
func longer[T string | []byte](n int, t T) (int, T) {
	n &= 0x7f
	for shift := 7; ; shift += 7 {
		c := t[0]
		n |= int(c&0x7f) << shift
		if t = t[1:]; c < 0x80 {
			return n, t
		}
	}
}

// appendAddr adds an address, which may be none or have a zone.
func appendAddr(b []byte, a netip.Addr) []byte {
	switch {
	case !a.IsValid():
		return append(b, 0)
	case a.Is4():
		raw := a.As4()
		return append(append(b, byte(len(raw))), raw[:]...)
	}
	raw := a.As16()
	return appendText(b, string(raw[:])+a.Zone())
}

func cutAddr(texts *string) netip.Addr {
	switch raw := cut(texts); {
	case len(raw) == 4:
		return netip.AddrFrom4([4]byte{raw[0], raw[1], raw[2], raw[3]})
	case len(raw) >= 16:
		return netip.AddrFrom16([16]byte([]byte(raw[:16]))).WithZone(raw[16:])
	}
	return netip.Addr{}
}
