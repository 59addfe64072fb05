package node

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
)

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

// digests are those of all drawers for no drawer, under -1, or of the parts of some.
func (n *Node) digests(of []int) map[int][]uint64 {
	out := map[int][]uint64{}
	if len(of) == 0 {
		out[-1] = make([]uint64, pair.Drawers)
	}
	for _, d := range of {
		out[d] = make([]uint64, pair.Parts)
	}
	n.eachRecord(func(l *lease.Lease) {
		d, p := pair.Drawer(l)
		if all := out[-1]; all != nil {
			all[d] ^= pair.Digest(l)
		} else if parts := out[d]; parts != nil {
			parts[p] ^= pair.Digest(l)
		}
	})
	return out
}

// eachRecord walks leases and shares.
func (n *Node) eachRecord(f func(*lease.Lease)) {
	n.engine.EachLease(0, f)
	n.engine.With(func(t *lease.Table) {
		if t.Side() != lease.Alone {
			for l := range t.Blocks {
				f(l)
			}
		}
	})
}

// recordsOf lists what is in some parts of drawers.
func (n *Node) recordsOf(of [][2]int) (out []Known) {
	wanted := map[[2]int]bool{}
	for _, k := range of {
		wanted[k] = true
	}
	n.eachRecord(func(l *lease.Lease) {
		d, p := pair.Drawer(l)
		if wanted[[2]int{d, p}] && pair.Digest(l) != 0 {
			out = append(out, Known{l.Prefix, l.Status.String(), hex.EncodeToString(l.Client.Append(nil)), l.Hardware.String(), int64(l.Expires),
				int64(l.Changed), l.Version.Primary, l.Version.Secondary, l.Owed})
		}
	})
	return out
}

// Compare finds every address of which the two servers know different things, by
// exchanging digests.
func (n *Node) Compare(ctx context.Context) (out Comparison, err error) {
	n.pair.mu.Lock()
	c, on := n.pair.channel, n.pair.on
	n.pair.mu.Unlock()
	if c == nil || on == nil {
		return out, ErrAlone
	}
	began := n.clock.Now()
	defer func() { out.Took = n.clock.Since(began) }()
	ask := func(of []int) (own, theirs map[int][]uint64, err error) {
		if err := c.Ask(ctx, "digests", of, &theirs); err != nil {
			return nil, nil, fmt.Errorf("compare with %s: %w", on.Partner.Name, err)
		}
		for _, list := range theirs {
			out.Octets += 8 * len(list)
		}
		return n.digests(of), theirs, nil
	}
	n.engine.EachLease(0, func(*lease.Lease) { out.Leases++ })
	own, theirs, err := ask(nil)
	if err != nil {
		return out, err
	}
	var drawers []int
	for d, digest := range own[-1] {
		if d >= len(theirs[-1]) || theirs[-1][d] != digest {
			drawers = append(drawers, d)
		}
	}
	if len(drawers) == 0 {
		return out, nil
	}
	if own, theirs, err = ask(drawers); err != nil {
		return out, err
	}
	var parts [][2]int
	for _, d := range drawers {
		for p, digest := range own[d] {
			if p >= len(theirs[d]) || theirs[d][p] != digest {
				parts = append(parts, [2]int{d, p})
			}
		}
	}
	var records []Known
	if err := c.Ask(ctx, "records", parts, &records); err != nil {
		return out, err
	}
	out.Octets += 120 * len(records)
	out.Differences = differences(n.recordsOf(parts), records, n.clock.Now())
	return out, nil
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
	case d.Own != nil && d.Partner != nil && d.Own.Client == d.Partner.Client:
		d.Class, d.Text = Allowed, "both name the same client, and one knows of a later renewal"
	default:
		d.Class, d.Text = Wrong, "one names a holder that the other does not know"
	}
}

// MendDifferences has both servers tell each other again what they know of addresses
// that differ wrongly; the newer, by what each knew of the other, stays.
func (n *Node) MendDifferences(ctx context.Context, list []netip.Prefix) error {
	if len(list) == 0 {
		return errors.New("name the addresses to mend")
	}
	return n.withPair(func(s *pair.Server) (lists []effect.List, err error) {
		return s.TellAgain(list, lease.At(n.clock.Now()))
	})
}
