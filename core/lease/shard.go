package lease

import (
	"cmp"
	"math"
	"math/bits"
	"net/netip"
	"slices"

	"yarnpost/core/addr"
	"yarnpost/core/lease/internal/ilist"
	"yarnpost/core/plan"
)

// shard is the part of the table that lies in one scope: what is bound, what is
// on offer, and what its pools have to give.
type shard struct {
	bindings
	plan    *plan.Plan // that it follows
	view    *plan.View // nil for the orphans
	offers  offers
	pools   []pool // as view.Parts
	shares  *shares
	counts  // of all addresses of the scope; each pool has its own
	churn   Churn
	ports   ports
	crowd   crowd
	refused declines
	moved   map[netip.Prefix]*plan.Plan // by whose reservations came or went: the plan before; not yet in stand

	delegated counts // of prefixes; those above are of addresses
}

func (t *Table) newShard(p *plan.Plan, v *plan.View) *shard {
	of := &t.shares
	s := &shard{bindings: bindings{shared: &t.texts}, plan: p, view: v, shares: of, offers: newOffers(), ports: ports{}}
	if v == nil {
		return s
	}
	s.pools = make([]pool, len(v.Parts))
	for i, part := range v.Parts {
		var own, other uint64
		if part.Pool.From.Is4() {
			ranges := of.own(v, part.Ranges)
			s.pools[i].fresh = cursorOver(ranges, 32)
			own = addr.Total(ranges)
			other = addr.Total(part.Ranges) - own
		} else {
			h := newHashed(part, t.secret, of)
			s.pools[i].fresh = h
			own, other = h.halves()
		}
		s.pools[i].stand[ours], s.pools[i].stand[theirs] = own, other
		all := &s.counts
		if part.Length > 0 {
			all = &s.delegated
		}
		all.stand[ours], all.stand[theirs] = plus(all.stand[ours], own), plus(all.stand[theirs], other)
	}
	return s
}

// plus adds counts; more than a uint64 holds stays the largest.
func plus(a, b uint64) uint64 {
	if n, carry := bits.Add64(a, b, 0); carry == 0 {
		return n
	}
	return math.MaxUint64
}

// countsOf are the counts that a key belongs to: of addresses, or of delegated prefixes.
func (s *shard) countsOf(k netip.Prefix) *counts {
	if k.IsSingleIP() {
		return &s.counts
	}
	return &s.delegated
}

// counts is how many addresses are what.
type counts struct {
	tally   [statuses]int     // records, by status
	stand   [standings]uint64 // allocatable addresses, by whose they are to give
	claimed int               // reserved addresses whose client has them
	kept    int
	offered int
}

func (c *counts) add(l *Lease, n int) {
	c.tally[l.Status] += n
	if l.Status == Active && l.Reserved {
		c.claimed += n
	}
	if l.Kept() {
		c.kept += n
	}
}

// poolAt is the pool that an address lies in, or nil.
func (s *shard) poolAt(a netip.Addr) *pool {
	if s.view != nil {
		if n := s.view.PartAt(a); n >= 0 && n < len(s.pools) {
			return &s.pools[n]
		}
	}
	return nil
}

// Churn is how many clients came to a scope and left it, since the table was made.
type Churn struct {
	New      uint64 // clients that the scope had no record of
	Returned uint64
	Left     uint64 // by a release, or because their time was over
}

// turnover counts that a client came or left, before its record is stored in a slot,
// -1 for a new one.
func (s *shard) turnover(at int, l *Lease) {
	had, has := at >= 0 && s.at(at).status == Active, l.Status == Active
	if had && has && s.isOf(at, l.Client) {
		return
	}
	if had {
		s.churn.Left++
	}
	if !has {
		return
	}
	if s.former(l.Client) >= 0 {
		s.churn.Returned++
	} else {
		s.churn.New++
	}
}

// standing is what an address counts as, if the pools give it at all.
type standing uint8

const (
	ours   standing = iota // it could be handed out here, now
	theirs                 // it is the partner's to give
	taken                  // it is reserved, held, offered, abandoned, or nobody's yet
	standings
)

// standingOf is what an address counts as by its record, or nil.
func (s *shard) standingOf(k netip.Prefix, l *Lease) standing {
	alone := s.shares.side == Alone
	switch {
	case l == nil || !alone && l.tombstone():
		return s.byShare(k)
	case l.busy():
		return taken
	case alone || l.Status == s.shares.side.Free():
		return ours
	case l.Status == s.shares.side.Other().Free():
		return theirs
	}
	return taken
}

// byShare is whose a key is that has no record.
func (s *shard) byShare(k netip.Prefix) standing {
	if s.shares.both && k.Addr().Is6() {
		if p := s.poolAt(k.Addr()); p != nil && p.fills() {
			return ours
		}
	}
	return s.shares.standing(k)
}

// standing is what a key counts as now; it must be one that the pools give.
func (s *shard) standing(k netip.Prefix) standing {
	if _, offered := s.offers.on(k); offered || s.plan.ReservationIn(s.view, k) != nil {
		return taken
	}
	return s.onRecord(k)
}

// onRecord is what a key counts as by its record alone.
func (s *shard) onRecord(k netip.Prefix) standing {
	i := s.slot(keyOf(k))
	if i < 0 {
		return s.standingOf(k, nil)
	}
	l := s.at(i).brief()
	return s.standingOf(k, &l)
}

// gives reports whether the pools give a key.
func (s *shard) gives(k netip.Prefix) bool { return s.view != nil && s.view.Gives(k) }

// untouched reports whether a key has no record and can be given (judge).
func (s *shard) untouched(k netip.Prefix) bool {
	return s.slot(keyOf(k)) < 0 && (!s.gives(k) || s.standing(k) == ours)
}

func (s *shard) account(k netip.Prefix, before, after standing) {
	if before == after {
		return
	}
	all := s.countsOf(k)
	all.stand[before]--
	all.stand[after]++
	if p := s.poolAt(k.Addr()); p != nil {
		p.stand[before]--
		p.stand[after]++
	}
}

// arrive accounts for a reservation that came or went, if there is one: later
// than that happened, but before anything else happens to the address.
func (s *shard) arrive(k netip.Prefix) {
	old := s.moved[k]
	if old == nil {
		return
	}
	delete(s.moved, k)
	if s.gives(k) {
		was := taken
		if _, offered := s.offers.on(k); !offered && old.ReservationOf(k) == nil {
			was = s.onRecord(k)
		}
		s.account(k, was, s.standing(k))
	}
	if s.plan.ReservationOf(k) == nil {
		s.giveBack(k, false)
	}
}

// giveBack queues an address that nobody holds, if the pools give it out:
// behind the others that were returned, or, if it was only on offer, before them.
// One that nobody ever had gets a record of that, once the cursor has gone by it.
func (s *shard) giveBack(k netip.Prefix, lapsed bool) {
	if !s.gives(k) || s.standing(k) != ours {
		return
	}
	in, i := s.poolAt(k.Addr()), s.slot(keyOf(k))
	if i < 0 {
		if !in.fresh.passed(k) {
			return
		}
		i = s.store(&Lease{Prefix: k, Status: Free})
	}
	s.unlist(i, in)
	if lapsed {
		ilist.Push(s, &in.lapsed, i)
	} else {
		ilist.Push(s, &in.returned, i)
	}
}

// set stores a lease, and keeps the counts and the queues. It gives the slot.
func (s *shard) set(l *Lease) int {
	i := s.store(l)
	if !l.busy() {
		s.giveBack(l.Prefix, false)
	}
	return i
}

// store is set, without queueing what is free now.
func (s *shard) store(l *Lease) int {
	k := l.Prefix
	s.arrive(k)
	at := s.slot(keyOf(k))
	s.turnover(at, l)
	old := s.peek(at)
	i := s.put(at, l, old)
	p, all := s.poolAt(k.Addr()), s.countsOf(k)
	if old != nil {
		all.add(old, -1)
		if p != nil {
			p.add(old, -1)
			s.unlist(i, p)
		}
		s.plug(old, -1)
	}
	all.add(l, 1)
	if p != nil {
		p.add(l, 1)
		if old == nil {
			p.fresh.advance(s.untouched, 2) // so that whoever comes next need not go far
		}
	}
	s.plug(l, 1)
	if was, is := s.standingOf(k, old), s.standingOf(k, l); was != is && s.gives(k) {
		if _, offered := s.offers.on(k); !offered && s.plan.ReservationIn(s.view, k) == nil {
			s.account(k, was, is)
		}
	}
	return i
}

// plug counts the dynamic addresses behind a port.
func (s *shard) plug(l *Lease, n int32) {
	if at, ok := l.Port(); ok && l.Status == Active && !l.Reserved {
		s.ports.count(at, n)
	}
}

// offer runs a change of the offers of a key, and keeps the headroom true.
func (s *shard) offer(k netip.Prefix, change func()) {
	s.arrive(k)
	if !s.gives(k) {
		change()
		return
	}
	before := s.standing(k)
	change()
	s.account(k, before, s.standing(k))
}

func (s *shard) putOffer(o Offer) {
	if k, ok := s.offers.made(o.Client); ok && k != o.Prefix {
		s.dropOffer(k)
	}
	s.offer(o.Prefix, func() {
		if old, ok := s.offers.on(o.Prefix); ok {
			s.ports.count(old.Port, -1)
			s.note(o.Prefix, -1)
		}
		s.offers.put(o)
		s.ports.count(o.Port, 1)
		s.note(o.Prefix, 1)
	})
}

func (s *shard) dropOffer(k netip.Prefix) {
	o, ok := s.offers.on(k)
	if !ok {
		return
	}
	s.offer(k, func() {
		s.offers.drop(o)
		s.ports.count(o.Port, -1)
		s.note(o.Prefix, -1)
	})
	s.giveBack(k, true)
}

// note counts an offer.
func (s *shard) note(k netip.Prefix, n int) {
	s.countsOf(k).offered += n
	if p := s.poolAt(k.Addr()); p != nil {
		p.offered += n
	}
}

// free yields what pools have to give, best first, until yield wants no more:
// never used, then offered in vain, then free for longest. Of each kind and pool
// at most most are yielded.
func (s *shard) free(pools []int, who string, most int, yield func(netip.Prefix) bool) {
	for _, n := range pools {
		if p := &s.pools[n]; p.stand[ours] == 0 && s.moved == nil {
			continue
		} else if !p.fresh.each(s.untouched, who, most, yield) {
			return
		}
	}
	of := func(i int) bool { return yield(s.at(i).key.prefix()) }
	for _, n := range pools {
		if !s.queued(&s.pools[n], &s.pools[n].lapsed, most, of) {
			return
		}
	}
	if len(pools) > 1 { // the one whose first address is free for longest goes first
		slices.SortStableFunc(pools, func(a, b int) int { return cmp.Compare(s.longest(&s.pools[a]), s.longest(&s.pools[b])) })
	}
	for _, n := range pools {
		if !s.queued(&s.pools[n], &s.pools[n].returned, most, of) {
			return
		}
	}
}

// advance moves the cursors of the pools past what is taken, n addresses at most,
// and gives what is left of n.
func (s *shard) advance(n int) int {
	for i := range s.pools {
		n = s.pools[i].fresh.advance(s.untouched, n)
	}
	return n
}
