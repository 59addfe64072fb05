package lease

import (
	"net/netip"
	"slices"

	"yarnpost/core/addr"
	"yarnpost/core/lease/internal/calendar"
	"yarnpost/core/lease/internal/chunk"
	"yarnpost/core/lease/internal/intern"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// textsMost bounds what clients can make the table remember.
const textsMost = 1 << 16

// Table is every lease, in one shard a scope. An address that nobody ever had
// costs nothing.
type Table struct {
	plan      *plan.Plan
	secret    string // key of what hashed pools choose by
	shards    map[plan.ID]*shard
	slots     []*shard              // the same, by the views' slots: one look instead of three
	orphans   *shard                // leases outside every scope
	offered   [2]chunk.Queue[Offer] // by when they lapse: usual ones, brief ones
	due       calendar.Queue[key]
	texts     intern.Texts
	shares    shares
	rebuild   *Rebuild        // a change of the plan on its way in, or nil
	together  bool            // several changes are made, after which
	resharing map[*shard]bool // these count anew
}

// New is an empty table under a plan. Leases that end at or before now are
// due at once.
func New(p *plan.Plan, now Time) *Table {
	t := &Table{}
	t.Reset(p, now)
	return t
}

// ChooseBy sets the key by which pools of IPv6 choose what a client gets: of whoever knows it
// the choice can be foretold. Do it before leases are put in.
func (t *Table) ChooseBy(secret string) {
	t.secret = secret
	t.Pair(t.shares.side)
}

// Plan is the revision the table follows.
func (t *Table) Plan() *plan.Plan { return t.plan }

// shardOf is where the record of a key lives.
func (t *Table) shardOf(k netip.Prefix) *shard { return t.shardAt(k.Addr()) }

func (t *Table) shardAt(a netip.Addr) *shard {
	if s := t.in(t.plan.ScopeAt(a)); s != nil {
		return s
	}
	return t.orphans
}

// in is the shard of a scope, or nil.
func (t *Table) in(v *plan.View) *shard {
	if v == nil || v.Slot >= len(t.slots) {
		return nil
	}
	return t.slots[v.Slot]
}

// setShard makes a shard that of a scope; nil takes it away.
func (t *Table) setShard(id plan.ID, slot int, s *shard) {
	for slot >= len(t.slots) {
		t.slots = append(t.slots, nil)
	}
	if t.slots[slot] = s; s == nil {
		delete(t.shards, id)
	} else {
		t.shards[id] = s
	}
}

// Put stores a lease in place of what was recorded for its key. It keeps nothing of
// what it is given.
func (t *Table) Put(l *Lease) {
	if l.Block() {
		t.putBlock(l)
		return
	}
	s := t.shardOf(l.Prefix)
	i := s.set(l)
	t.expect(s, i)
	t.rebuild.put(l, s.at(i).due)
}

// Restore puts a key back to an earlier record, nil for none.
func (t *Table) Restore(k netip.Prefix, l *Lease) {
	if l == nil && k.Addr().Is4() && !k.IsSingleIP() {
		t.dropBlock(k)
		return
	}
	if l != nil {
		t.Put(l)
		return
	}
	t.Put(&Lease{Prefix: k, Status: Free})
	if k.Addr().Is6() {
		t.Forget(k)
	}
}

// Get is the record of a key, or nil if nobody ever had it.
func (t *Table) Get(k netip.Prefix) *Lease {
	if l := t.shares.get(k); l != nil {
		return l
	}
	return t.shardOf(k).known(k)
}

// known is the record of a key, or nil if it has none, or one that says nothing but
// that it can be given.
func (s *shard) known(k netip.Prefix) *Lease {
	l := s.get(s.slot(keyOf(k)))
	if l != nil && l.Status == Free && *l == (Lease{Prefix: l.Prefix}) {
		return nil
	}
	return l
}

// At is the record of an address, or nil if nobody ever had it.
func (t *Table) At(a netip.Addr) *Lease { return t.Get(Host(a)) }

// In is the record of an address or prefix of a scope, or nil if nobody ever had it.
func (t *Table) In(v *plan.View, k netip.Prefix) *Lease {
	if s := t.in(v); s != nil {
		return s.known(k)
	}
	return nil
}

// ByClient is what a client has in a scope, or had last, or nil.
func (t *Table) ByClient(v *plan.View, c Client) *Lease {
	if s := t.in(v); s != nil {
		return s.get(s.former(c))
	}
	return nil
}

// Bindings yields all that a client holds in a scope, or may still use, until
// yield wants no more.
func (t *Table) Bindings(v *plan.View, c Client, yield func(*Lease) bool) {
	if s := t.in(v); s != nil {
		s.of(c, func(i int) bool {
			l := s.at(i).brief()
			return !l.live() || yield(s.get(i))
		})
	}
}

// PutOffer notes an offer; it replaces an earlier one to the same client.
func (t *Table) PutOffer(o Offer) {
	t.shardOf(o.Prefix).putOffer(o)
	t.rebuild.putOffer(o)
	if o.Brief {
		t.offered[1].Add(o)
	} else {
		t.offered[0].Add(o)
	}
}

// DropOffer forgets the offer of a key, if there is one.
func (t *Table) DropOffer(k netip.Prefix) {
	t.shardOf(k).dropOffer(k)
	t.rebuild.dropOffer(k)
}

// OfferTo is what is on offer to a client in a scope.
func (t *Table) OfferTo(v *plan.View, c Client) (k netip.Prefix, ok bool) {
	if s := t.in(v); s != nil {
		return s.offers.made(c)
	}
	return k, false
}

// OfferOf is the offer standing on an address or a prefix.
func (t *Table) OfferOf(k netip.Prefix) (Offer, bool) { return t.shardOf(k).offers.on(k) }

// lapseMost bounds the work of one Lapse.
const lapseMost = 256

// Lapse drops offers that nobody took in time, a few at most, and reports whether
// there may be more.
func (t *Table) Lapse(now Time) (more bool) {
	for i := range t.offered {
		q := &t.offered[i]
		for n := 0; ; n++ {
			o := q.First()
			if o == nil || o.Until > now {
				break
			}
			if n == lapseMost {
				return true
			}
			if of, _ := t.shardOf(o.Prefix).offers.on(o.Prefix); of == *o {
				t.DropOffer(o.Prefix)
			}
			q.Drop()
		}
	}
	return false
}

// skipMost bounds how many free addresses one search passes over because they
// are not usable for whoever asks.
const skipMost = 64

// Sought is what a new client is to be given.
type Sought struct {
	Pool      addr.Range // a valid one narrows the search to that pool, else pools that rules keep for their clients are left out
	Delegated bool       // a prefix, rather than an address
	Length    int        // that a prefix should have; the pool that comes closest is searched first
	Who       string     // octets that tell the client from others, by which pools of IPv6 choose
}

// Pick is the address, or the prefix, that a scope would give to a new client: never used
// before, or else the one that is free for longest. The usable function has the last word.
// Nothing is given: asking again gives the same answer.
func (t *Table) Pick(v *plan.View, of Sought, usable func(netip.Prefix) bool) (found netip.Prefix, ok bool) {
	s := t.in(v)
	if s == nil {
		return found, false
	}
	var room [8]int
	open := room[:0]
	for i := range s.view.Parts {
		p := &s.view.Parts[i]
		if (p.Length > 0) == of.Delegated && (of.Pool.Valid() && p.Pool == of.Pool || !of.Pool.Valid() && !p.Confined) {
			open = append(open, i)
		}
	}
	look := func(pools []int) {
		s.free(pools, of.Who, skipMost, func(k netip.Prefix) bool {
			found, ok = k, usable(k)
			return !ok
		})
	}
	if !of.Delegated {
		look(open)
		return found, ok
	}
	slices.SortStableFunc(open, func(a, b int) int { return far(&s.view.Parts[a], of.Length) - far(&s.view.Parts[b], of.Length) })
	for i := 0; i < len(open) && !ok; i++ {
		look(open[i : i+1])
	}
	return found, ok
}

// far is how far the prefixes of a part are from a length that is sought: longer ones, which
// give less, count as further than shorter ones.
func far(p *plan.Part, length int) int {
	switch {
	case length == 0 || p.Length == length:
		return 0
	case p.Length < length:
		return length - p.Length
	}
	return 128 + p.Length - length
}

// Upcoming lists the next addresses that Pick would give, at most n of each
// pool, confined ones too.
func (t *Table) Upcoming(scope plan.ID, n int) (out []netip.Addr) {
	s := t.shards[scope]
	if s == nil || s.view.Family() == option.V6 { // whose next depends on who asks
		return nil
	}
	for i := range s.pools {
		left := n
		s.free([]int{i}, "", n, func(k netip.Prefix) bool {
			out = append(out, k.Addr())
			left--
			return left > 0
		})
	}
	return out
}

// Counts says how the addresses of a scope or a pool are used.
type Counts struct {
	Active, Offered, Released, Expired, Abandoned int
	Claimed                                       int    // active by a reservation
	Kept                                          int    // released, and kept from others for a while
	Headroom                                      uint64 // could be handed out now
	Partner                                       uint64 // could be handed out by the partner
}

func (c *counts) counts() Counts {
	return Counts{c.tally[Active], c.offered, c.tally[Released], c.tally[Expired], c.tally[Abandoned], c.claimed, c.kept,
		c.stand[ours], c.stand[theirs]}
}

// Count counts a scope in constant time.
func (t *Table) Count(scope plan.ID) Counts {
	if s := t.shards[scope]; s != nil {
		return s.counts.counts()
	}
	return Counts{}
}

// CountDelegated counts the delegated prefixes of a scope in constant time.
func (t *Table) CountDelegated(scope plan.ID) Counts {
	if s := t.shards[scope]; s != nil {
		return s.delegated.counts()
	}
	return Counts{}
}

// CountPools counts a scope pool by pool, as its view has them, in constant time.
func (t *Table) CountPools(scope plan.ID) (out []Counts) {
	if s := t.shards[scope]; s != nil {
		for i := range s.pools {
			out = append(out, s.pools[i].counts.counts())
		}
	}
	return out
}

// Churn counts who came to a scope and left it since the table was made.
func (t *Table) Churn(scope plan.ID) Churn {
	if s := t.shards[scope]; s != nil {
		return s.churn
	}
	return Churn{}
}

// Offers lists what is on offer in a scope.
func (t *Table) Offers(scope plan.ID) []Offer {
	s := t.shards[scope]
	if s == nil {
		return nil
	}
	out := make([]Offer, 0, len(s.offers.at))
	for _, o := range s.offers.at {
		out = append(out, o)
	}
	return out
}

// Behind counts the dynamic addresses that clients behind a port hold or have
// on offer in a scope.
func (t *Table) Behind(scope plan.ID, at Port) int {
	if s := t.shards[scope]; s != nil {
		return s.ports.behind(at)
	}
	return 0
}

// Welcome counts a client that a scope never saw before.
func (t *Table) Welcome(scope plan.ID, at Port, now Time) {
	if s := t.shards[scope]; s != nil {
		s.crowd.note(at, now)
	}
}

// Newcomers counts the clients of the present minute that a scope never saw
// before: all of them, and those behind a port.
func (t *Table) Newcomers(scope plan.ID, at Port, now Time) (all, behind int) {
	if s := t.shards[scope]; s != nil {
		return s.crowd.counts(at, now)
	}
	return 0, 0
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
