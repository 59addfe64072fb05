// Package compare finds every address of which the two servers of a pair know different
// things, by exchanging digests of parts of their tables.
package compare

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/service/partner"
)

// Partner is the other server of a pair.
type Partner interface {
	Ask(ctx context.Context, method string, in, out any) error
	PartnerName() string
	Octets() int // that were sent and received since the channel was made
}

// Engine has the lease table.
type Engine interface {
	With(func(*lease.Table))
	EachLease(scope plan.ID, share ...func(*lease.Lease))
}

// Comparer compares this server's table with the partner's.
type Comparer struct {
	Engine  Engine
	Partner Partner
	Clock   interface{ Now() time.Time }
}

// Answers answer the questions of a partner that compares.
func (c *Comparer) Answers() map[string]partner.Answer {
	return map[string]partner.Answer{
		"digests": partner.Answers(func(_ context.Context, of []int) ([]byte, error) { return c.digests(of), nil }),
		"rows":    partner.Answers(func(_ context.Context, of [][2]int) ([]byte, error) { return c.rowsOf(of), nil }),
		"records": partner.Answers(func(_ context.Context, of []netip.Prefix) ([]Known, error) { return c.knownOf(of), nil }),
	}
}

// Known is what one server knows of an address.
type Known struct {
	Prefix    netip.Prefix `json:"prefix"`
	Status    string       `json:"status"`
	Client    string       `json:"client,omitempty"` // hexadecimal key
	Hardware  string       `json:"hardware,omitempty"`
	Expires   int64        `json:"expires"`
	Changed   int64        `json:"changed"`
	Primary   uint32       `json:"primary"`   // how often the primary changed it
	Secondary uint32       `json:"secondary"` // and the secondary
	Owed      bool         `json:"owed"`
}

// Difference is an address of which two servers know different things.
type Difference struct {
	Prefix       netip.Prefix
	Own, Partner *Known // nil: nothing
	Class        Class
	Text         string
}

// Class says what a difference means.
type Class string

// The classes.
const (
	OnItsWay Class = "on its way" // an update is owed, and will tell
	Allowed  Class = "allowed"    // by the lead time: time ends it by itself
	Wrong    Class = "wrong"      // nothing will make it right by itself
)

// Comparison is what comparing both tables gave.
type Comparison struct {
	Leases      int
	Differences []Difference
	Octets      int // that travelled
	Took        time.Duration
}

// digests are those of all buckets for no bucket, eight octets each, or of the parts
// of some, four octets each; big-endian, one after the other.
func (c *Comparer) digests(of []int) []byte {
	now := c.now()
	if len(of) == 0 {
		all := make([]uint64, pair.DigestBuckets)
		c.eachRecord(func(l *lease.Lease) {
			d, _ := pair.DigestBucket(l)
			all[d] ^= pair.Digest(l, now)
		})
		out := make([]byte, 0, 8*len(all))
		for _, digest := range all {
			out = binary.BigEndian.AppendUint64(out, digest)
		}
		return out
	}
	at := map[int]int{}
	for i, d := range of {
		at[d] = i * pair.Parts
	}
	parts := make([]uint32, len(of)*pair.Parts)
	c.eachRecord(func(l *lease.Lease) {
		d, p := pair.DigestBucket(l)
		if i, wanted := at[d]; wanted {
			parts[i+p] ^= uint32(pair.Digest(l, now) >> 32)
		}
	})
	out := make([]byte, 0, 4*len(parts))
	for _, digest := range parts {
		out = binary.BigEndian.AppendUint32(out, digest)
	}
	return out
}

func (c *Comparer) now() lease.Time { return lease.At(c.Clock.Now()) }

// eachRecord walks leases and shares.
func (c *Comparer) eachRecord(f func(*lease.Lease)) {
	c.Engine.EachLease(0, f)
	c.Engine.With(func(t *lease.Table) {
		if t.Side() != lease.Alone {
			for l := range t.Blocks {
				f(l)
			}
		}
	})
}

// rowSize is how many octets tell a key with its digest: address, length, digest.
const rowSize = 16 + 1 + 8

// rowsOf tells what is in some parts of buckets, a row each.
func (c *Comparer) rowsOf(of [][2]int) (out []byte) {
	now := c.now()
	wanted := map[[2]int]bool{}
	for _, k := range of {
		wanted[k] = true
	}
	c.eachRecord(func(l *lease.Lease) {
		d, p := pair.DigestBucket(l)
		if digest := pair.Digest(l, now); wanted[[2]int{d, p}] && digest != 0 {
			a := l.Address().As16()
			out = binary.BigEndian.AppendUint64(append(append(out, a[:]...), byte(l.Prefix.Bits())), digest)
		}
	})
	return out
}

// rows reads what rowsOf told.
func rows(b []byte) map[netip.Prefix]uint64 {
	out := map[netip.Prefix]uint64{}
	for ; len(b) >= rowSize; b = b[rowSize:] {
		k := netip.PrefixFrom(netip.AddrFrom16([16]byte(b)).Unmap(), int(b[16]))
		out[k] = binary.BigEndian.Uint64(b[17:])
	}
	return out
}

// How many keys are looked up while the table is held, and asked of the partner at once.
const (
	lookedUp   = 256
	askedAbout = 5000
)

// knownOf tells all that is known of some keys, and holds up nobody for it.
func (c *Comparer) knownOf(keys []netip.Prefix) (out []Known) {
	now := c.now()
	for some := range slices.Chunk(keys, lookedUp) {
		c.Engine.With(func(t *lease.Table) {
			for _, k := range some {
				if l := t.Get(k); l != nil && pair.Digest(l, now) != 0 {
					out = append(out, Known{l.Prefix, l.Status.String(), hex.EncodeToString(l.Client.Append(nil)), l.Hardware.String(),
						int64(l.Expires), int64(l.Changed), l.Version.Primary, l.Version.Secondary, l.Owed})
				}
			}
		})
	}
	return out
}

// Compare finds every address of which the two servers know different things, by
// exchanging digests.
func (c *Comparer) Compare(ctx context.Context) (out Comparison, err error) {
	began, octets := c.Clock.Now(), c.Partner.Octets()
	defer func() { out.Took, out.Octets = c.Clock.Now().Sub(began), c.Partner.Octets()-octets }()
	ask := func(method string, of, answer any) error {
		if err := c.Partner.Ask(ctx, method, of, answer); err != nil {
			return fmt.Errorf("compare with %s: %w", c.Partner.PartnerName(), err)
		}
		return nil
	}
	c.Engine.EachLease(0, func(*lease.Lease) { out.Leases++ })
	var theirs []byte
	if err := ask("digests", []int{}, &theirs); err != nil {
		return out, err
	}
	buckets := unequal(c.digests(nil), theirs, 8)
	if len(buckets) == 0 {
		return out, nil
	}
	if err := ask("digests", buckets, &theirs); err != nil {
		return out, err
	}
	var parts [][2]int
	for _, i := range unequal(c.digests(buckets), theirs, 4) {
		parts = append(parts, [2]int{buckets[i/pair.Parts], i % pair.Parts})
	}
	if err := ask("rows", parts, &theirs); err != nil {
		return out, err
	}
	var keys []netip.Prefix
	mine, others := rows(c.rowsOf(parts)), rows(theirs)
	for k, digest := range mine {
		if others[k] != digest {
			keys = append(keys, k)
		}
	}
	for k := range others {
		if _, both := mine[k]; !both {
			keys = append(keys, k)
		}
	}
	var records []Known
	for some := range slices.Chunk(keys, askedAbout) { // of a table that is empty here it is all of theirs
		var more []Known
		if err := ask("records", some, &more); err != nil {
			return out, err
		}
		records = append(records, more...)
	}
	out.Differences = differences(c.knownOf(keys), records, c.Clock.Now())
	return out, nil
}

// unequal lists which of two rows of digests differ, of so many octets each.
func unequal(a, b []byte, size int) (out []int) {
	for i := 0; i < len(a); i += size {
		if i+size > len(b) || !bytes.Equal(a[i:i+size], b[i:i+size]) {
			out = append(out, i/size)
		}
	}
	return out
}

// differences sets what both know beside each other.
func differences(own, theirs []Known, now time.Time) (out []Difference) {
	both := map[netip.Prefix]*Difference{}
	of := func(k netip.Prefix) *Difference {
		if both[k] == nil {
			both[k] = &Difference{Prefix: k}
		}
		return both[k]
	}
	for i := range own {
		of(own[i].Prefix).Own = &own[i]
	}
	for i := range theirs {
		of(theirs[i].Prefix).Partner = &theirs[i]
	}
	for _, d := range both {
		if d.Own != nil && d.Partner != nil && d.Own.same(d.Partner) {
			continue
		}
		d.classify(now)
		out = append(out, *d)
	}
	slices.SortFunc(out, func(a, b Difference) int {
		return cmp.Or(cmp.Compare(b.Class, a.Class), a.Prefix.Addr().Compare(b.Prefix.Addr()))
	})
	return out
}

func (k *Known) same(o *Known) bool {
	return k.settled() == o.settled() && k.Client == o.Client && k.Primary == o.Primary && k.Secondary == o.Secondary
}

// settled is the status as far as both have to agree on it.
func (k *Known) settled() string {
	switch k.Status {
	case lease.PendingFree.String():
		return lease.Free.String()
	case lease.Expired.String():
		return lease.Active.String()
	}
	return k.Status
}

func (k *Known) held(now time.Time) bool {
	return k != nil && k.Status == lease.Active.String() && now.Unix() < k.Expires
}

func (d *Difference) classify(now time.Time) {
	owed := d.Own != nil && d.Own.Owed || d.Partner != nil && d.Partner.Owed
	switch {
	case owed:
		d.Class, d.Text = OnItsWay, "an update is owed and will tell"
	case !d.Own.held(now) && !d.Partner.held(now):
		d.Class, d.Text = Allowed, "nobody holds it by either"
	case d.Own != nil && d.Partner != nil && d.Own.Client == d.Partner.Client && d.Own.settled() == d.Partner.settled():
		d.Class, d.Text = Allowed, "both name the same client, and one knows of a later renewal"
	default:
		d.Class, d.Text = Wrong, "one names a holder that the other does not know"
	}
}
