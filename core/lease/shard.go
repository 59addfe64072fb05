package lease

import (
	"cmp"
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
	counts  // of the whole scope; each pool has its own
	churn   Churn
	ports   ports
	crowd   crowd
	refused declines
	moved   map[netip.Addr]*plan.Plan // by whose reservations came or went: the plan before; not yet in stand
}

func (t *Table) newShard(p *plan.Plan, v *plan.View) *shard {
	of := &t.shares
	s := &shard{bindings: bindings{shared: &t.texts}, plan: p, view: v, shares: of, offers: newOffers(), ports: ports{}}
	if v == nil {
		return s
	}
	s.pools = make([]pool, len(v.Parts))
	own := uint64(0)
	for i, part := range v.Parts {
		ranges := of.own(v, part.Ranges)
		s.pools[i].fresh = t.fresh(ranges)
		n := addr.Total(ranges)
		s.pools[i].stand[ours], s.pools[i].stand[theirs] = n, addr.Total(part.Ranges)-n
		own += n
	}
	s.stand[ours], s.stand[theirs] = own, v.Size-own
	return s
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
func (s *shard) standingOf(a netip.Addr, l *Lease) standing {
	alone := s.shares.side == Alone
	switch {
	case l == nil || !alone && l.tombstone():
		return s.shares.standing(a)
	case l.busy():
		return taken
	case alone || l.Status == s.shares.side.Free():
		return ours
	case l.Status == s.shares.side.Other().Free():
		return theirs
	}
	return taken
}

// standing is what an address counts as now; it must be one that the pools give.
func (s *shard) standing(a netip.Addr) standing {
	k := Host(a)
	if _, offered := s.offers.on(k); offered || s.plan.ReservationIn(s.view, a) != nil {
		return taken
	}
	return s.onRecord(a)
}

// onRecord is what an address counts as by its record alone.
func (s *shard) onRecord(a netip.Addr) standing {
	i := s.slot(keyOf(Host(a)))
	if i < 0 {
		return s.standingOf(a, nil)
	}
	l := s.at(i).brief()
	return s.standingOf(a, &l)
}

// gives reports whether the pools give an address.
func (s *shard) gives(a netip.Addr) bool { return s.view != nil && s.view.Allocatable(a) }

// untouched reports whether an address has no record and can be given (judge).
func (s *shard) untouched(a netip.Addr) bool {
	return s.slot(keyOf(Host(a))) < 0 && (!s.gives(a) || s.standing(a) == ours)
}

func (s *shard) account(a netip.Addr, before, after standing) {
	if before == after {
		return
	}
	s.stand[before]--
	s.stand[after]++
	if p := s.poolAt(a); p != nil {
		p.stand[before]--
		p.stand[after]++
	}
}

// arrive accounts for a reservation that came or went, if there is one: later
// than that happened, but before anything else happens to the address.
func (s *shard) arrive(a netip.Addr) {
	old := s.moved[a]
	if old == nil {
		return
	}
	delete(s.moved, a)
	if s.gives(a) {
		was := taken
		if _, offered := s.offers.on(Host(a)); !offered && old.ReservationAt(a) == nil {
			was = s.onRecord(a)
		}
		s.account(a, was, s.standing(a))
	}
	if s.plan.ReservationAt(a) == nil {
		s.giveBack(a, false)
	}
}

// giveBack queues an address that nobody holds, if the pools give it out:
// behind the others that were returned, or, if it was only on offer, before them.
// One that nobody ever had gets a record of that, once the cursor has gone by it.
func (s *shard) giveBack(a netip.Addr, lapsed bool) {
	if !s.gives(a) || s.standing(a) != ours {
		return
	}
	in, i := s.poolAt(a), s.slot(keyOf(Host(a)))
	if i < 0 {
		if !in.fresh.passed(a) {
			return
		}
		i = s.store(&Lease{Prefix: Host(a), Status: Free})
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
		s.giveBack(l.Address(), false)
	}
	return i
}

// store is set, without queueing what is free now.
func (s *shard) store(l *Lease) int {
	a := l.Address()
	s.arrive(a)
	at := s.slot(keyOf(l.Prefix))
	s.turnover(at, l)
	old := s.peek(at)
	i := s.put(at, l, old)
	p := s.poolAt(a)
	if old != nil {
		s.add(old, -1)
		if p != nil {
			p.add(old, -1)
			s.unlist(i, p)
		}
		s.plug(old, -1)
	}
	s.add(l, 1)
	if p != nil {
		p.add(l, 1)
		if old == nil {
			p.fresh.advance(s.untouched, 2) // so that whoever comes next need not go far
		}
	}
	s.plug(l, 1)
	if was, is := s.standingOf(a, old), s.standingOf(a, l); was != is && s.gives(a) {
		if _, offered := s.offers.on(l.Prefix); !offered && s.plan.ReservationIn(s.view, a) == nil {
			s.account(a, was, is)
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
	a := k.Addr()
	s.arrive(a)
	if !s.gives(a) {
		change()
		return
	}
	before := s.standing(a)
	change()
	s.account(a, before, s.standing(a))
}

func (s *shard) putOffer(o Offer) {
	if k, ok := s.offers.made(o.Client); ok && k != o.Prefix {
		s.dropOffer(k)
	}
	s.offer(o.Prefix, func() {
		if old, ok := s.offers.on(o.Prefix); ok {
			s.ports.count(old.Port, -1)
			s.note(o.Address(), -1)
		}
		s.offers.put(o)
		s.ports.count(o.Port, 1)
		s.note(o.Address(), 1)
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
		s.note(o.Address(), -1)
	})
	s.giveBack(k.Addr(), true)
}

// note counts an offer.
func (s *shard) note(a netip.Addr, n int) {
	s.offered += n
	if p := s.poolAt(a); p != nil {
		p.offered += n
	}
}

// free yields what pools have to give, best first, until yield wants no more:
// never used, then offered in vain, then free for longest. Of each kind and pool
// at most most addresses are yielded.
func (s *shard) free(pools []int, most int, yield func(netip.Addr) bool) {
	for _, n := range pools {
		if !s.pools[n].fresh.each(s.untouched, most, yield) {
			return
		}
	}
	of := func(i int) bool { return yield(s.at(i).key.address()) }
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
