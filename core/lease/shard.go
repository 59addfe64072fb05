package lease

import (
	"cmp"
	"net/netip"
	"slices"

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
	tally   [statuses]int
	taken   uint64 // allocatable addresses that are reserved, held, offered or abandoned
	ports   ports
	crowd   crowd
	refused declines
	moved   map[netip.Addr]*plan.Plan // by whose reservations came or went: the plan before; not yet in taken
}

func newShard(p *plan.Plan, v *plan.View) *shard {
	s := &shard{plan: p, view: v, offers: newOffers(), ports: ports{}}
	if v != nil {
		s.pools = make([]pool, len(v.Parts))
	}
	return s
}

// takes reports whether an address is lost to headroom.
func (s *shard) takes(a netip.Addr) bool {
	if s.view == nil || !s.view.Allocatable(a) {
		return false
	}
	k := Host(a)
	if _, offered := s.offers.at[k]; offered || s.plan.ReservationIn(s.view, a) != nil {
		return true
	}
	l := s.get(k)
	return l != nil && l.busy()
}

// untouched reports whether an address has no record and is not taken (judge).
func (s *shard) untouched(a netip.Addr) bool { return s.slot(Host(a)) < 0 && !s.takes(a) }

// stillFree reports whether what was queued is free, and was all the time (judge).
func (s *shard) stillFree(f freed) bool {
	if !s.view.Allocatable(f.address) || s.takes(f.address) {
		return false
	}
	l := s.get(Host(f.address))
	if l == nil {
		return f.since == 0
	}
	return l.Changed == f.since
}

func (s *shard) account(before, after bool) {
	if after && !before {
		s.taken++
	} else if before && !after {
		s.taken--
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
	now, was := s.takes(a), false
	if s.view != nil && s.view.Allocatable(a) {
		_, offered := s.offers.at[Host(a)]
		l := s.get(Host(a))
		was = offered || old.ReservationAt(a) != nil || l != nil && l.busy()
	}
	s.account(was, now)
	if s.plan.ReservationAt(a) == nil {
		s.giveBack(a, false)
	}
}

// giveBack queues an address that nobody holds, if the pools give it out:
// behind the others that were returned, or, if it was only on offer, before them.
func (s *shard) giveBack(a netip.Addr, lapsed bool) {
	if s.view == nil || !s.view.Allocatable(a) || s.takes(a) {
		return
	}
	n := s.view.PartAt(a)
	if n < 0 {
		return
	}
	queue := &s.pools[n].returned
	if lapsed {
		queue = &s.pools[n].lapsed
	}
	var since Time
	if l := s.get(Host(a)); l != nil {
		since = l.Changed
	} else if !s.pools[n].fresh.passed(s.view.Parts[n].Ranges, a) {
		return
	}
	*queue = append(*queue, freed{a, since})
	if len(*queue) > 2*len(s.slots)+1024 {
		compact(queue, s)
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

// store is set without the queues.
func (s *shard) store(l *Lease) int {
	a := l.Address()
	s.arrive(a)
	i, old := s.put(l)
	wasBusy := false
	if old != nil {
		wasBusy = old.busy()
		s.tally[old.Status]--
		s.plug(old, -1)
	}
	s.tally[l.Status]++
	s.plug(l, 1)
	if wasBusy != l.busy() && s.view != nil && s.view.Allocatable(a) {
		if _, offered := s.offers.at[l.Prefix]; !offered && s.plan.ReservationIn(s.view, a) == nil {
			s.account(wasBusy, l.busy())
		}
	}
	return i
}

// plug counts the dynamic addresses behind a port.
func (s *shard) plug(l *Lease, n int) {
	if at, ok := l.Port(); ok && l.Status == Active && !l.Reserved {
		s.ports.count(at, n)
	}
}

// offer runs a change of the offers of a key, and keeps the headroom true.
func (s *shard) offer(k netip.Prefix, change func()) {
	a := k.Addr()
	s.arrive(a)
	before := s.takes(a)
	change()
	s.account(before, s.takes(a))
}

func (s *shard) putOffer(o Offer) {
	if k, ok := s.offers.to[o.Client]; ok && k != o.Prefix {
		s.dropOffer(k)
	}
	s.offer(o.Prefix, func() {
		if old, ok := s.offers.at[o.Prefix]; ok {
			s.ports.count(old.Port, -1)
		}
		s.offers.put(o)
		s.ports.count(o.Port, 1)
	})
}

func (s *shard) dropOffer(k netip.Prefix) {
	o, ok := s.offers.at[k]
	if !ok {
		return
	}
	s.offer(k, func() {
		s.offers.drop(o)
		s.ports.count(o.Port, -1)
	})
	s.giveBack(k.Addr(), true)
}

// free yields what pools have to give, best first, until yield wants no more:
// never used, then offered in vain, then free for longest. Of each kind and pool
// at most most addresses are yielded.
func (s *shard) free(pools []int, most int, yield func(netip.Addr) bool) {
	for _, n := range pools {
		if !s.pools[n].fresh.each(s.view.Parts[n].Ranges, s, most, yield) {
			return
		}
	}
	for _, n := range pools {
		if !queued(&s.pools[n].lapsed, s, most, yield) {
			return
		}
	}
	if len(pools) > 1 { // the one whose first address is free for longest goes first
		slices.SortStableFunc(pools, func(a, b int) int { return cmp.Compare(s.pools[a].longest(), s.pools[b].longest()) })
	}
	for _, n := range pools {
		if !queued(&s.pools[n].returned, s, most, yield) {
			return
		}
	}
}

// advance moves the cursors of the pools past what is taken, n addresses at most,
// and gives what is left of n.
func (s *shard) advance(n int) int {
	for i := range s.pools {
		n = s.pools[i].fresh.advance(s.view.Parts[i].Ranges, s, n)
	}
	return n
}
