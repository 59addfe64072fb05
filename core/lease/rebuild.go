package lease

import (
	"cmp"
	"net/netip"
	"slices"

	"yarnpost/core/lease/internal/ilist"
	"yarnpost/core/plan"
)

// Rebuild is a change of the plan on its way into the table. What a new revision
// needs is built beside what serves, a part at a time, while whatever happens to
// the table meanwhile happens to both; so nobody is held up however many leases
// there are. Begin, Shape, Step, Queue, End and Rest need the table to themselves; NewRebuild
// and Sort only that nobody else changes the plan.
type Rebuild struct {
	table   *Table
	plan    *plan.Plan
	shapes  []plan.ID          // of scopes that are built anew, still to be begun
	fresh   map[plan.ID]*shard // built anew
	gone    map[plan.ID]int    // scopes that are no more, with their slots
	orphans *shard             // built anew, or nil
	sources []*shard
	slot    int            // of the first source
	offers  []netip.Prefix // on offer in the sources, still to be looked at
	cursors []*shard       // whose cursors have to move
	free    []freed        // addresses of the fresh shards, in the order of the walk, then sorted
	sorted  bool
	shaped  bool
	moved   map[plan.ID]map[netip.Prefix]*plan.Plan // whose reservations come or go, of scopes that stay
	rest    []movedAt
}

// freed is what can be given again, since when.
type freed struct {
	key   netip.Prefix
	since Time // Changed of its record
}

// inOrder sorts by the time since when they are free.
func inOrder(list []freed) {
	slices.SortStableFunc(list, func(a, b freed) int { return cmp.Compare(a.since, b.since) })
}

type movedAt struct {
	scope plan.ID
	key   netip.Prefix
}

// NewRebuild works out what a new revision needs, given what changed.
func (t *Table) NewRebuild(p *plan.Plan, changes []plan.Change) *Rebuild {
	u := &Rebuild{table: t, plan: p, fresh: map[plan.ID]*shard{}, gone: map[plan.ID]int{}, moved: map[plan.ID]map[netip.Prefix]*plan.Plan{}}
	ids, subnets := plan.Reshaped(t.plan, p, changes)
	for _, id := range ids {
		if s := t.shards[id]; s != nil {
			u.sources = append(u.sources, s)
		}
		if p.Scope(id) != nil {
			u.shapes = append(u.shapes, id)
		} else {
			u.gone[id] = t.plan.Scope(id).Slot
		}
	}
	if subnets {
		u.orphans = t.newShard(p, nil)
		u.sources = append(u.sources, t.orphans)
	}
	anew := make(map[plan.ID]bool, len(u.shapes))
	for _, id := range u.shapes {
		anew[id] = true
	}
	for _, c := range changes {
		if c.Kind != plan.KindReservation {
			continue
		}
		for _, item := range []plan.Item{c.Before, c.After} {
			r, ok := item.(plan.Reservation)
			if !ok || anew[r.Scope] || t.shards[r.Scope] == nil {
				continue
			}
			if u.moved[r.Scope] == nil {
				u.moved[r.Scope] = map[netip.Prefix]*plan.Plan{}
			}
			u.moved[r.Scope][r.Key()] = t.plan
			u.rest = append(u.rest, movedAt{r.Scope, r.Key()})
		}
	}
	return u
}

// Begin lets what happens to the table happen to both from now on.
func (u *Rebuild) Begin() { u.table.rebuild = u }

// Shape begins about n of the scopes that are built anew, and reports whether there are
// more. Blocks of a pair may come and go in between: what is begun already follows them.
func (u *Rebuild) Shape(n int) (more bool) {
	for ; n > 0 && len(u.shapes) > 0; n-- {
		id := u.shapes[0]
		u.shapes = u.shapes[1:]
		s := u.table.newShard(u.plan, u.plan.Scope(id))
		s.reserve()
		u.fresh[id] = s
		u.cursors = append(u.cursors, s)
	}
	if len(u.shapes) > 0 {
		return true
	}
	if !u.shaped { // what comes on offer from now on is noted in both
		u.shaped = true
		for _, s := range u.sources {
			for k := range s.offers.at {
				u.offers = append(u.offers, k)
			}
		}
		slices.SortFunc(u.offers, netip.Prefix.Compare)
	}
	return false
}

// reserve accounts for the reserved addresses that the pools would give, of a
// shard without any record.
func (s *shard) reserve() {
	if s.plan.ReservationCount(s.view.ID) == 0 {
		return
	}
	for _, r := range s.plan.Reservations(s.view.ID) {
		if k := r.Key(); s.view.Gives(k) {
			s.account(k, s.byShare(k), taken)
		}
	}
}

// target is where the record of a key will live, or nil if that does not change.
func (u *Rebuild) target(k netip.Prefix) *shard {
	if u == nil {
		return nil
	}
	if v := u.plan.ScopeAt(k.Addr()); v != nil {
		return u.fresh[v.ID]
	}
	return u.orphans
}

func (u *Rebuild) put(l *Lease, due Time) {
	if s := u.target(l.Prefix); s != nil {
		s.at(s.set(l)).due = due
	}
}

func (u *Rebuild) putOffer(o Offer) {
	if s := u.target(o.Prefix); s != nil {
		s.putOffer(o)
	}
}

func (u *Rebuild) dropOffer(k netip.Prefix) {
	if s := u.target(k); s != nil {
		s.dropOffer(k)
	}
}

func (u *Rebuild) expected(k key, due Time) {
	if s := u.target(k.prefix()); s != nil {
		if i := s.slot(k); i >= 0 {
			s.at(i).due = due
		}
	}
}

// Step copies about n leases, and reports whether there is more to do.
func (u *Rebuild) Step(n int) (more bool) {
	if u.Shape(n) {
		return true
	}
	for n > 0 && len(u.sources) > 0 {
		from := u.sources[0]
		if u.slot >= from.slots.Size() {
			u.sources, u.slot = u.sources[1:], 0
			continue
		}
		r := from.at(u.slot)
		if s := u.target(r.key.prefix()); s != nil && !r.vacant() && s.slot(r.key) < 0 {
			l := from.get(u.slot)
			s.at(s.store(l)).due = r.due
			if s.gives(l.Prefix) && s.standingOf(l.Prefix, l) == ours {
				u.free = append(u.free, freed{l.Prefix, l.Changed})
			}
		}
		u.slot++
		n--
	}
	for ; n > 0 && len(u.offers) > 0; n-- {
		k := u.offers[0]
		u.offers = u.offers[1:]
		if o, stands := u.table.shardOf(k).offers.on(k); stands {
			u.putOffer(o)
		}
	}
	for n > 0 && len(u.cursors) > 0 {
		if n = u.cursors[0].advance(n); n > 0 {
			u.cursors = u.cursors[1:]
		}
	}
	return n <= 0
}

// Sort puts what is free in the order in which it became free. It may run while
// others use the table.
func (u *Rebuild) Sort() {
	inOrder(u.free)
	u.sorted = true
}

// Queue queues about n of what is free, before what became free meanwhile, and
// reports whether there is more.
func (u *Rebuild) Queue(n int) (more bool) {
	for ; n > 0 && len(u.free) > 0; n-- {
		f := u.free[len(u.free)-1]
		u.free = u.free[:len(u.free)-1]
		s := u.target(f.key)
		in, i := s.poolAt(f.key.Addr()), s.slot(keyOf(f.key))
		if in != nil && i >= 0 && s.at(i).changed == f.since && s.standing(f.key) == ours && !s.listed(i, in) {
			ilist.PushFront(s, &in.returned, i)
		}
	}
	return len(u.free) > 0
}

// End makes the table follow the new revision. What reservations that came or
// went do to the headroom is left to Rest.
func (u *Rebuild) End() {
	t := u.table
	for u.Shape(1 << 20) {
	}
	for u.Step(1 << 20) {
	}
	if !u.sorted {
		u.Sort()
	}
	for u.Queue(1 << 20) {
	}
	t.rebuild, t.plan = nil, u.plan
	for id, slot := range u.gone {
		t.setShard(id, slot, nil)
	}
	for id, s := range u.fresh {
		if was := t.shards[id]; was != nil {
			s.crowd, s.refused, s.churn = was.crowd, was.refused, was.churn
		}
		t.setShard(id, s.view.Slot, s)
	}
	if u.orphans != nil {
		t.orphans = u.orphans
	}
	t.orphans.plan = u.plan
	for id, s := range t.shards { // views are recompiled when defaults or links change
		s.plan = u.plan
		if v := u.plan.Scope(id); s.view != v {
			s.view = v
		}
	}
	for id, moved := range u.moved {
		if s := t.shards[id]; s != nil {
			s.moved = moved
		}
	}
}

// Rest accounts for about n reservations that came or went, and reports whether
// there are more. The next change of the plan waits until there are none.
func (u *Rebuild) Rest(n int) (more bool) {
	for ; n > 0 && len(u.rest) > 0; n-- {
		if s := u.table.shards[u.rest[0].scope]; s != nil {
			s.arrive(u.rest[0].key)
			if len(s.moved) == 0 {
				s.moved = nil
			}
		}
		u.rest = u.rest[1:]
	}
	return len(u.rest) > 0
}

// Drop gives the change up.
func (u *Rebuild) Drop() { u.table.rebuild = nil }

// SetPlan makes the table follow a new revision at once, given what changed.
func (t *Table) SetPlan(p *plan.Plan, changes []plan.Change) {
	u := t.NewRebuild(p, changes)
	u.Begin()
	u.End()
	for u.Rest(1 << 20) {
	}
}

// Settle looks for the first address of each pool that nobody ever had. Without
// it, the first newcomer of a full pool waits until that is found.
func (t *Table) Settle() {
	for _, s := range t.shards {
		s.advance(1 << 62)
	}
}
