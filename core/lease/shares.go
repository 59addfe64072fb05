package lease

import (
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"
	"go4.org/netipx"

	"yarnpost/core/addr"
	"yarnpost/core/lease/internal/calendar"
	"yarnpost/core/lease/internal/ilist"
	"yarnpost/core/lease/internal/intern"
	"yarnpost/core/plan"
)

// shares say whose the addresses are that nobody ever had: whole blocks at a time,
// so that those still cost nothing.
type shares struct {
	side   Side
	blocks *bart.Table[*Lease]
	both   bool // of IPv6 pools that fill up the partner's half is this server's, too
}

func newShares() shares { return shares{blocks: new(bart.Table[*Lease])} }

// get is the record of a block, or nil.
func (s *shares) get(k netip.Prefix) *Lease {
	if s.side == Alone || k.IsSingleIP() {
		return nil
	}
	l, _ := s.blocks.Get(k)
	return l
}

// standing is whose a key is that has no record. Of IPv6 its lowest bit says so.
func (s *shares) standing(k netip.Prefix) standing {
	if s.side == Alone {
		return ours
	}
	a := k.Addr()
	if a.Is6() {
		if odds(k) == (s.side == Secondary) {
			return ours
		}
		return theirs
	}
	l, ok := s.blocks.Lookup(a)
	if s.side == Secondary == (ok && l.Status == FreeBackup) {
		return ours
	}
	return theirs
}

// own cuts ranges of a scope down to what is this server's to give.
func (s *shares) own(v *plan.View, ranges []addr.Range) []addr.Range {
	if s.side == Alone {
		return ranges
	}
	backup := s.backup(v.Subnet)
	if s.side == Primary {
		return addr.Subtract(ranges, backup)
	}
	return addr.Subtract(ranges, addr.Subtract(ranges, backup))
}

// backup is what of a subnet is the secondary's, as far as nobody ever had it.
func (s *shares) backup(subnet netip.Prefix) (out []addr.Range) {
	var list []*Lease
	for _, l := range s.blocks.Supernets(subnet) {
		list = append(list, l)
	}
	for _, l := range s.blocks.Subnets(subnet) {
		if l.Prefix != subnet || !slices.Contains(list, l) {
			list = append(list, l)
		}
	}
	slices.SortFunc(list, func(a, b *Lease) int { return a.Prefix.Bits() - b.Prefix.Bits() })
	var set netipx.IPSetBuilder
	for _, l := range list { // the more specific has the last word
		if l.Status == FreeBackup {
			set.AddPrefix(l.Prefix)
		} else {
			set.RemovePrefix(l.Prefix)
		}
	}
	all, err := set.IPSet()
	if err != nil {
		return nil // no prefix here is invalid
	}
	for _, r := range all.Ranges() {
		out = append(out, addr.Range{From: r.From(), To: r.To()})
	}
	return out
}

// Pair makes the table that of one server of a pair, or of one that is alone
// again. Do it before leases are put in, or be patient: all is accounted anew.
func (t *Table) Pair(side Side) {
	t.shares.side, t.shares.both = side, false
	for _, s := range t.shards {
		t.reshare(s)
	}
}

// Reset empties the table: it is as New made it.
func (t *Table) Reset(p *plan.Plan, now Time) {
	t.rebuild = nil
	*t = Table{plan: plan.New(), secret: t.secret, shards: map[plan.ID]*shard{}, due: calendar.New[key](int64(now)),
		texts:  intern.New(textsMost),
		shares: newShares()}
	t.orphans = t.newShard(t.plan, nil)
	var all []plan.Change
	for _, s := range p.Scopes() {
		all = append(all, plan.Change{Kind: plan.KindScope, ID: s.ID})
	}
	t.SetPlan(p, all)
}

// Claim makes the partner's half of IPv6 pools that fill up this server's to give, or gives it
// back. Do it only while the partner gives nothing.
func (t *Table) Claim(both bool) {
	if t.shares.both == both || t.shares.side == Alone {
		return
	}
	t.shares.both = both
	all := []*shard{}
	for _, s := range t.shards {
		all = append(all, s)
	}
	if t.rebuild != nil {
		for _, s := range t.rebuild.fresh {
			all = append(all, s)
		}
	}
	for _, s := range all {
		if slices.ContainsFunc(s.pools, func(p pool) bool { return p.fills() }) {
			t.reshare(s)
		}
	}
}

// Side is which server of a pair the table is of.
func (t *Table) Side() Side { return t.shares.side }

func (t *Table) putBlock(l *Lease) {
	t.shares.blocks.Insert(l.Prefix, l.Clone())
	t.reshared(l.Prefix)
}

func (t *Table) dropBlock(k netip.Prefix) {
	t.shares.blocks.Delete(k)
	t.reshared(k)
}

func (t *Table) reshared(k netip.Prefix) {
	note := func(s *shard) {
		switch {
		case s == nil:
		case t.together:
			t.resharing[s] = true
		default:
			t.reshare(s)
		}
	}
	for v := range t.plan.Overlapping(k) { // a block may lie in several scopes, once subnets were split
		note(t.shards[v.ID])
	}
	if t.rebuild != nil {
		for v := range t.rebuild.plan.Overlapping(k) {
			note(t.rebuild.fresh[v.ID])
		}
	}
}

// Together does several changes, after which each scope whose blocks changed counts anew
// once.
func (t *Table) Together(changes func()) {
	t.together, t.resharing = true, map[*shard]bool{}
	defer func() {
		t.together = false
		for s := range t.resharing {
			t.reshare(s)
		}
		t.resharing = nil
	}()
	changes()
}

// reshare takes in that blocks changed: the pools have other addresses to give,
// and each counts anew.
func (t *Table) reshare(s *shard) {
	for k := range s.moved {
		s.arrive(k)
	}
	fresh := t.newShard(s.plan, s.view)
	s.stand, s.delegated.stand = fresh.stand, fresh.delegated.stand
	for i := range s.pools {
		s.pools[i].stand = fresh.pools[i].stand
	}
	s.reserve()
	for i := range s.pools {
		if _, walked := s.pools[i].fresh.(*cursor); walked {
			s.pools[i].fresh = s.pools[i].fresh.reshaped(fresh.pools[i].fresh.ranges())
		} else {
			s.pools[i].fresh = fresh.pools[i].fresh // it gives the other half now
		}
		s.pools[i].lapsed, s.pools[i].returned = ilist.List{}, ilist.List{}
	}
	for k := range s.offers.at {
		if s.gives(k) && s.plan.ReservationIn(s.view, k) == nil {
			s.account(k, s.byShare(k), taken)
		}
	}
	var free []freed
	for i := range s.slots.Size() {
		s.at(i).link = ilist.Link{}
		l := s.at(i).brief()
		k := l.Prefix
		if !s.gives(k) || s.plan.ReservationIn(s.view, k) != nil {
			continue
		}
		if _, offered := s.offers.on(k); offered {
			continue
		}
		is := s.standingOf(k, &l)
		s.account(k, s.byShare(k), is)
		if is == ours {
			free = append(free, freed{k, l.Changed})
		}
	}
	inOrder(free)
	for _, f := range free {
		s.giveBack(f.key, false)
	}
}

// Blocks yields the shares of what nobody ever had.
func (t *Table) Blocks(yield func(*Lease) bool) {
	for _, l := range t.shares.blocks.AllSorted() {
		if !yield(l) {
			return
		}
	}
}

// Fresh is what of a scope nobody ever had and is this server's to give, but for
// single records within.
func (t *Table) Fresh(scope plan.ID) (out []addr.Range) {
	s := t.shards[scope]
	if s == nil {
		return nil
	}
	for i := range s.pools {
		out = append(out, s.pools[i].fresh.left()...)
	}
	return out
}

// OffersIn reports whether anything of a prefix is on offer.
func (t *Table) OffersIn(k netip.Prefix) bool {
	for at := range t.shardOf(k).offers.at {
		if k.Contains(at.Addr()) {
			return true
		}
	}
	return false
}

// Returned lists addresses of a scope that somebody had and that are this
// server's to give again, n at most, free for longest first.
func (t *Table) Returned(scope plan.ID, n int) (out []*Lease) {
	s := t.shards[scope]
	if s == nil {
		return nil
	}
	for i := range s.pools {
		s.queued(&s.pools[i], &s.pools[i].returned, n, func(i int) bool {
			if !s.at(i).tombstone() {
				out = append(out, s.get(i))
			}
			return len(out) < n
		})
	}
	return out
}

// Spare lists keys of an IPv6 pool of a scope, by its number, that are this server's to give, n at
// most: those that nobody ever had, then those that are free for longest.
func (t *Table) Spare(scope plan.ID, part, n int) (out []netip.Prefix) {
	s := t.shards[scope]
	if s == nil || part >= len(s.pools) || !s.pools[part].fills() {
		return nil
	}
	in := &s.pools[part]
	in.fresh.(*hashed).rest.each(s.untouched, "", n, func(k netip.Prefix) bool {
		out = append(out, k)
		return len(out) < n
	})
	if len(out) < n {
		s.queued(in, &in.returned, n, func(i int) bool {
			out = append(out, s.at(i).key.prefix())
			return len(out) < n
		})
	}
	return out
}

// Fills is what of an IPv6 pool is free, by its number in the scope; ok is false for a pool of
// IPv4, and for one so vast that it never fills up.
func (t *Table) Fills(scope plan.ID, part int) (n Counts, ok bool) {
	s := t.shards[scope]
	if s == nil || part < 0 || part >= len(s.pools) || !s.pools[part].fills() {
		return n, false
	}
	return s.pools[part].counts.counts(), true
}

// Gives reports whether a free address or prefix is this server's to give: by its record,
// nil for none, or by its share.
func (t *Table) Gives(k netip.Prefix, l *Lease) bool {
	return t.shardOf(k).standingOf(k, l) == ours
}
