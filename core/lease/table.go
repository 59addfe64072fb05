package lease

import (
	"cmp"
	"net/netip"
	"slices"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// Table is every lease, in one shard a scope. An address that nobody ever had
// costs nothing.
type Table struct {
	plan    *plan.Plan
	shards  map[plan.ID]*shard
	orphans *shard // leases outside every scope
	offered offerQueue
	due     dueTimes
	words   words
	turn    *Turn // a change of the plan on its way in, or nil
}

// shard is the part of the table that lies in one scope.
type shard struct {
	view    *plan.View // nil for the orphans
	slots   []*Lease
	dues    []Time // when each slot's entry among what is due stands; 0 for none
	at      index  // by address
	clients index  // the slot a client last had, by client
	offers  map[netip.Addr]Offer
	offerOf map[Client]netip.Addr
	counts  [statuses]int
	taken   uint64 // allocatable addresses that are reserved, held, offered or abandoned
	parts   []part // as view.Parts
	ports   map[Port]int
	crowd   crowd
	refused declines
	moved   map[netip.Addr]*plan.Plan // by whose reservations came or went: the plan before; not yet in taken
}

// part is what a pool has to give.
type part struct {
	lapsed   []freed    // offered and not taken; they were next before
	returned []freed    // given back, in order of time
	rangeAt  int        // the cursor: everything before it has a record, is
	next     netip.Addr // reserved, or waits among the returned
}

// crowd counts clients never seen before in the present minute.
type crowd struct {
	minute Time
	all    int
	ports  map[Port]int
}

// freed is an address that can be given again, since when.
type freed struct {
	address netip.Addr
	since   Time // Changed of its record; 0 if it has none
}

func newShard(v *plan.View) *shard {
	s := &shard{view: v, offers: map[netip.Addr]Offer{}, offerOf: map[Client]netip.Addr{}, ports: map[Port]int{}}
	if v != nil {
		s.parts = make([]part, len(v.Parts))
	}
	return s
}

// New is an empty table under a plan. Leases that end at or before now are
// due at once.
func New(p *plan.Plan, now Time) *Table {
	t := &Table{plan: plan.New(), shards: map[plan.ID]*shard{}, orphans: newShard(nil), due: newDueTimes(now), words: words{}}
	var all []plan.Change
	for _, s := range p.Scopes() {
		all = append(all, plan.Change{Kind: plan.KindScope, ID: s.ID})
	}
	t.SetPlan(p, all)
	return t
}

// Plan is the revision the table follows.
func (t *Table) Plan() *plan.Plan { return t.plan }

func scopeID(v *plan.View) plan.ID {
	if v == nil {
		return 0
	}
	return v.ID
}

func (t *Table) shardAt(a netip.Addr) *shard {
	if s := t.shards[scopeID(t.plan.ScopeAt(a))]; s != nil {
		return s
	}
	return t.orphans
}

// takes reports whether the address is lost to headroom under a plan.
func (s *shard) takes(p *plan.Plan, a netip.Addr) bool {
	if s.view == nil || !s.view.Allocatable(a) {
		return false
	}
	if s.kept(p, a) {
		return true
	}
	l := s.get(a)
	return l != nil && l.busy()
}

// kept reports whether the address is reserved or on offer.
func (s *shard) kept(p *plan.Plan, a netip.Addr) bool {
	_, offered := s.offers[a]
	return offered || p.ReservationAt(a) != nil
}

// get is the record of an address, or nil.
func (s *shard) get(a netip.Addr) *Lease {
	if i := s.slotAt(a); i >= 0 {
		return s.slots[i]
	}
	return nil
}

func (s *shard) slotAt(a netip.Addr) int {
	return s.at.find(hashAddr(a), func(i int) bool { return s.slots[i].Address == a })
}

// slotOf is the slot that a client last had, or -1.
func (s *shard) slotOf(c Client) int {
	return s.clients.find(hashClient(c), func(i int) bool { return s.slots[i].Client == c })
}

// change runs a mutation of one address and keeps the headroom count true.
func (s *shard) change(p *plan.Plan, a netip.Addr, mutate func()) {
	s.arrive(p, a)
	before := s.takes(p, a)
	mutate()
	s.account(before, s.takes(p, a))
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
func (s *shard) arrive(p *plan.Plan, a netip.Addr) {
	old := s.moved[a]
	if old == nil {
		return
	}
	delete(s.moved, a)
	s.account(s.takes(old, a), s.takes(p, a))
	if p.ReservationAt(a) == nil {
		s.giveBack(p, a, false)
	}
}

// giveBack queues an address that nobody holds, if the pools give it out:
// behind the others that were returned, or, if it was only on offer, before them.
func (s *shard) giveBack(p *plan.Plan, a netip.Addr, lapsed bool) {
	if s.view == nil || !s.view.Allocatable(a) || s.takes(p, a) {
		return
	}
	n := s.view.PartAt(a)
	if n < 0 {
		return
	}
	queue := &s.parts[n].returned
	if lapsed {
		queue = &s.parts[n].lapsed
	}
	var since Time
	if l := s.get(a); l != nil {
		since = l.Changed
	} else if !s.passed(n, a) {
		return
	}
	*queue = append(*queue, freed{a, since})
	if len(*queue) > 2*len(s.slots)+1024 {
		s.compact(p, queue)
	}
}

// compact drops what was given again since it was queued, and doubles. Calls
// are so far apart that each entry pays for one look.
func (s *shard) compact(p *plan.Plan, queue *[]freed) {
	seen := make(map[netip.Addr]bool, len(s.slots))
	*queue = slices.DeleteFunc(*queue, func(f freed) bool {
		if seen[f.address] || !s.stillFree(p, f) {
			return true
		}
		seen[f.address] = true
		return false
	})
}

// passed reports whether a part's cursor has gone by the address.
func (s *shard) passed(n int, a netip.Addr) bool {
	q := &s.parts[n]
	return q.rangeAt >= len(s.view.Parts[n].Ranges) || q.next.IsValid() && a.Less(q.next)
}

// set stores a lease, and keeps the indexes, the headroom count and the queues.
// It gives the slot.
func (s *shard) set(p *plan.Plan, l *Lease) int {
	i := s.store(p, l)
	if !l.busy() {
		s.giveBack(p, l.Address, false)
	}
	return i
}

// store is set without the queues.
func (s *shard) store(p *plan.Plan, l *Lease) int {
	s.arrive(p, l.Address)
	wasBusy := false
	i := s.slotAt(l.Address)
	if i < 0 {
		i = len(s.slots)
		s.slots, s.dues = append(s.slots, l), append(s.dues, 0)
		s.at.add(hashAddr(l.Address), i)
	} else {
		old := s.slots[i]
		wasBusy = old.busy()
		s.counts[old.Status]--
		s.plug(old, -1)
		if old.Client != "" {
			s.clients.drop(hashClient(old.Client), i)
		}
		s.slots[i] = l
	}
	s.counts[l.Status]++
	s.plug(l, 1)
	if l.Client != "" && l.Status != Abandoned {
		j := s.slotOf(l.Client)
		if j >= 0 && l.before(s.slots[j]) {
			s.clients.drop(hashClient(l.Client), j)
			j = -1
		}
		if j < 0 {
			s.clients.add(hashClient(l.Client), i)
		}
	}
	if wasBusy != l.busy() && s.view != nil && s.view.Allocatable(l.Address) && !s.kept(p, l.Address) {
		s.account(wasBusy, l.busy())
	}
	return i
}

// plug counts the dynamic addresses behind a port.
func (s *shard) plug(l *Lease, n int) {
	if at, ok := l.Port(); ok && l.Status == Active && !l.Reserved {
		s.plugAt(at, n)
	}
}

func (s *shard) plugAt(at Port, n int) {
	if s.ports[at] += n; s.ports[at] <= 0 {
		delete(s.ports, at)
	}
}

// Pack makes a lease that nobody else knows yet take little room: texts that
// others have too are shared, its own lie in one piece.
func (t *Table) Pack(l *Lease) { t.words.pack(l) }

// Put stores a lease in place of what was recorded for its address.
func (t *Table) Put(l *Lease) {
	s := t.shardAt(l.Address)
	i := s.set(t.plan, l)
	t.expect(s, i)
	t.turn.put(l, s.dues[i])
}

// Restore puts an address back to an earlier record, nil for none.
func (t *Table) Restore(a netip.Addr, l *Lease) {
	if l == nil {
		l = &Lease{Address: a, Status: Free}
	}
	t.Put(l)
}

// Get is the record of an address, or nil.
func (t *Table) Get(a netip.Addr) *Lease {
	s := t.shardAt(a)
	return s.get(a)
}

// In is the record of an address of a scope, or nil.
func (t *Table) In(scope plan.ID, a netip.Addr) *Lease {
	if s := t.shards[scope]; s != nil {
		return s.get(a)
	}
	return nil
}

// ByClient is what a client last had in a scope, or nil.
func (t *Table) ByClient(scope plan.ID, c Client) *Lease {
	if s := t.shards[scope]; s != nil {
		if i := s.slotOf(c); i >= 0 {
			return s.slots[i]
		}
	}
	return nil
}

// PutOffer notes an offer; it replaces an earlier one to the same client.
func (t *Table) PutOffer(o Offer) {
	t.shardAt(o.Address).putOffer(t.plan, o)
	t.turn.putOffer(o)
	t.offered.add(o)
}

func (s *shard) putOffer(p *plan.Plan, o Offer) {
	if a, ok := s.offerOf[o.Client]; ok && a != o.Address {
		s.dropOffer(p, a)
	}
	if old, ok := s.offers[o.Address]; ok && old.Client != o.Client {
		delete(s.offerOf, old.Client)
	}
	s.change(p, o.Address, func() {
		if old, ok := s.offers[o.Address]; ok && old.Port.Circuit != "" {
			s.plugAt(old.Port, -1)
		}
		s.offers[o.Address] = o
		s.offerOf[o.Client] = o.Address
		if o.Port.Circuit != "" {
			s.plugAt(o.Port, 1)
		}
	})
}

func (s *shard) dropOffer(p *plan.Plan, a netip.Addr) {
	o, ok := s.offers[a]
	if !ok {
		return
	}
	s.change(p, a, func() {
		delete(s.offers, a)
		delete(s.offerOf, o.Client)
		if o.Port.Circuit != "" {
			s.plugAt(o.Port, -1)
		}
	})
	s.giveBack(p, a, true)
}

// DropOffer forgets the offer of an address, if there is one.
func (t *Table) DropOffer(a netip.Addr) {
	t.shardAt(a).dropOffer(t.plan, a)
	t.turn.dropOffer(a)
}

// OfferTo is the address on offer to a client in a scope.
func (t *Table) OfferTo(scope plan.ID, c Client) (netip.Addr, bool) {
	if s := t.shards[scope]; s != nil {
		a, ok := s.offerOf[c]
		return a, ok
	}
	return netip.Addr{}, false
}

// OfferOf is the offer standing on an address.
func (t *Table) OfferOf(a netip.Addr) (Offer, bool) {
	o, ok := t.shardAt(a).offers[a]
	return o, ok
}

// lapseMost bounds the work of one Lapse.
const lapseMost = 4096

// Lapse drops offers that nobody took in time, a few thousand at most: call it
// often.
func (t *Table) Lapse(now Time) {
	for range lapseMost {
		o, ok := t.offered.first()
		if !ok || o.Until > now {
			return
		}
		if s := t.shardAt(o.Address); s.offers[o.Address] == o {
			t.DropOffer(o.Address)
		}
		t.offered.drop()
	}
}

// skipMost bounds how many free addresses one search passes over because they
// are not usable for whoever asks.
const skipMost = 64

// Pick is the address that a scope would give to a new client: never used
// before, or else the one that is free for longest. A valid pool narrows the
// search to that pool, else pools that rules keep for their clients are left
// out. The usable function has the last word. Nothing is given: asking again
// gives the same answer.
func (t *Table) Pick(scope plan.ID, pool addr.Range, usable func(netip.Addr) bool) (found netip.Addr, ok bool) {
	t.upcoming(scope, pool, skipMost, func(a netip.Addr) bool {
		found, ok = a, usable(a)
		return !ok
	})
	return found, ok
}

// Upcoming lists the next addresses that Pick would give, at most n of each
// pool, confined ones too.
func (t *Table) Upcoming(scope plan.ID, n int) (out []netip.Addr) {
	s := t.shards[scope]
	if s == nil {
		return nil
	}
	for i := range s.parts {
		left := n
		s.free(t.plan, []int{i}, n, func(a netip.Addr) bool {
			out = append(out, a)
			left--
			return left > 0
		})
	}
	return out
}

func (t *Table) upcoming(scope plan.ID, pool addr.Range, most int, yield func(netip.Addr) bool) {
	s := t.shards[scope]
	if s == nil {
		return
	}
	var few [8]int
	open := few[:0]
	for i, p := range s.view.Parts {
		if pool.Valid() && p.Pool == pool || !pool.Valid() && !p.Confined {
			open = append(open, i)
		}
	}
	s.free(t.plan, open, most, yield)
}

// free yields what parts have to give, best first, until yield wants no more:
// never used, then offered in vain, then free for longest. Of each kind and part
// at most most addresses are yielded.
func (s *shard) free(p *plan.Plan, parts []int, most int, yield func(netip.Addr) bool) {
	for _, n := range parts {
		if !s.fresh(p, n, most, yield) {
			return
		}
	}
	for _, n := range parts {
		if !s.queued(p, &s.parts[n].lapsed, most, yield) {
			return
		}
	}
	if len(parts) > 1 { // the one whose first address is free for longest goes first
		head := func(n int) Time {
			if q := s.parts[n].returned; len(q) > 0 {
				return q[0].since
			}
			return Never
		}
		slices.SortStableFunc(parts, func(a, b int) int { return cmp.Compare(head(a), head(b)) })
	}
	for _, n := range parts {
		if !s.queued(p, &s.parts[n].returned, most, yield) {
			return
		}
	}
}

// fresh yields addresses of a part that nobody ever had; it reports whether
// yield wanted more. The cursor stays before what was yielded in vain: it may be
// of use to others.
func (s *shard) fresh(p *plan.Plan, n, most int, yield func(netip.Addr) bool) bool {
	q, ranges := &s.parts[n], s.view.Parts[n].Ranges
	skipped, next := 0, q.next
	for at := q.rangeAt; at < len(ranges); at++ {
		r := ranges[at]
		if !next.IsValid() || next.Less(r.From) {
			next = r.From
		}
		for ; r.Contains(next); next = next.Next() {
			if s.slotAt(next) < 0 && !s.takes(p, next) {
				if !yield(next) {
					return false
				}
				if skipped++; skipped > most {
					return true
				}
			}
			if skipped == 0 {
				q.next = next.Next()
			}
		}
		if skipped == 0 {
			q.rangeAt, q.next = at+1, next
		}
	}
	return true
}

// queued yields the free addresses of a queue; what was given meanwhile is
// dropped from it.
func (s *shard) queued(p *plan.Plan, queue *[]freed, most int, yield func(netip.Addr) bool) bool {
	for n := 0; n < min(len(*queue), most); {
		f := (*queue)[n]
		switch {
		case s.stillFree(p, f):
			if !yield(f.address) {
				return false
			}
			n++
		case n == 0:
			*queue = (*queue)[1:]
		default:
			*queue = slices.Delete(*queue, n, n+1)
		}
	}
	return true
}

func (s *shard) stillFree(p *plan.Plan, f freed) bool {
	if !s.view.Allocatable(f.address) || s.takes(p, f.address) {
		return false
	}
	l := s.get(f.address)
	if l == nil {
		return f.since == 0
	}
	return l.Changed == f.since
}

// Counts says how a scope's addresses are used.
type Counts struct {
	Active, Offered, Released, Expired, Abandoned int
	Headroom                                      uint64 // could be handed out now
}

// Count counts a scope in constant time.
func (t *Table) Count(scope plan.ID) Counts {
	s := t.shards[scope]
	if s == nil {
		return Counts{}
	}
	return Counts{s.counts[Active], len(s.offers), s.counts[Released], s.counts[Expired], s.counts[Abandoned], s.view.Size - s.taken}
}

// Position is a place in a walk through the table.
type Position struct {
	scopes []plan.ID
	slot   int
}

// Walk starts at the leases of a scope, or of the whole table for 0.
func (t *Table) Walk(scope plan.ID) *Position {
	if scope != 0 {
		return &Position{scopes: []plan.ID{scope}}
	}
	p := &Position{}
	for id := range t.shards {
		p.scopes = append(p.scopes, id)
	}
	slices.Sort(p.scopes)
	p.scopes = append(p.scopes, 0) // the orphans
	return p
}

// Next adds at most n leases to dst and moves on; it gives dst unchanged at the
// end. The table may change between calls: a lease that is there all the time is
// seen once, unless its scope is edited meanwhile.
func (t *Table) Next(p *Position, dst []*Lease, n int) []*Lease {
	for n > 0 && len(p.scopes) > 0 {
		s := t.shards[p.scopes[0]]
		if p.scopes[0] == 0 {
			s = t.orphans
		}
		if s == nil || p.slot >= len(s.slots) {
			p.scopes, p.slot = p.scopes[1:], 0
			continue
		}
		end := min(p.slot+n, len(s.slots))
		for _, l := range s.slots[p.slot:end] {
			if l.Status != Free {
				dst = append(dst, l)
			}
		}
		n -= end - p.slot
		p.slot = end
		if len(dst) > 0 {
			return dst
		}
	}
	return dst
}

// Offers lists what is on offer in a scope.
func (t *Table) Offers(scope plan.ID) []Offer {
	s := t.shards[scope]
	if s == nil {
		return nil
	}
	out := make([]Offer, 0, len(s.offers))
	for _, o := range s.offers {
		out = append(out, o)
	}
	return out
}

// Behind counts the dynamic addresses that clients behind a port hold or have
// on offer in a scope.
func (t *Table) Behind(scope plan.ID, at Port) int {
	if s := t.shards[scope]; s != nil {
		return s.ports[at]
	}
	return 0
}

// Welcome counts a client that a scope never saw before.
func (t *Table) Welcome(scope plan.ID, at Port, now Time) {
	s := t.shards[scope]
	if s == nil {
		return
	}
	if minute := now / 60; s.crowd.minute != minute {
		s.crowd = crowd{minute: minute, ports: map[Port]int{}}
	}
	s.crowd.all++
	if at.Circuit != "" {
		s.crowd.ports[at]++
	}
}

// Declined counts an address that a client declined.
func (t *Table) Declined(scope plan.ID, c Client, at Port, now Time) {
	if s := t.shards[scope]; s != nil {
		s.refused.note(c, at, now)
	}
}

// Declines counts the addresses declined lately: by a client, and by all behind
// its port.
func (t *Table) Declines(scope plan.ID, c Client, at Port, now Time) (own, behind int) {
	if s := t.shards[scope]; s != nil {
		return s.refused.counts(c, at, now)
	}
	return 0, 0
}

// Newcomers counts the clients of the present minute that a scope never saw
// before: all of them, and those behind a port.
func (t *Table) Newcomers(scope plan.ID, at Port, now Time) (all, behind int) {
	s := t.shards[scope]
	if s == nil || s.crowd.minute != now/60 {
		return 0, 0
	}
	return s.crowd.all, s.crowd.ports[at]
}
