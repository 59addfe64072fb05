package pair

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/pair/message"
	"yarnpost/core/plan"
)

// Whose an address is that nobody holds. Each is one server's to give at any time:
// only whoever it belongs to can give it away, and has that on record before the
// other hears of it.

// decides reports whether the primary says whose addresses are now.
func (s *Server) decides() bool { return s.set.Side == lease.Primary && s.state == Normal }

// settle says whose an address is that nobody holds any more. It stays with the
// server that will hear its client again, unless the other's share runs low. What
// the primary keeps is free for others only once the secondary knows (rule 5, RFC
// 8156 section 7.3).
func (s *Server) settle(l *lease.Lease) {
	if !l.Limbo() || l.Status == lease.PendingFree || !s.decides() || s.promised(l) {
		return
	}
	home := s.homeOf(l.Client)
	if n, counted := s.freeBeside(l.Prefix); !counted {
		home = lease.GivesFor(l.Prefix)
	} else {
		switch other := home.Other(); {
		case other == lease.Secondary && s.short(lease.Secondary, n.Partner, n.Headroom):
			home = other
		case other == lease.Primary && s.short(lease.Primary, n.Headroom, n.Partner):
			home = other
		}
	}
	switch {
	case home == lease.Secondary:
		l.Status = lease.FreeBackup
	case s.Off[5]:
		l.Status = lease.Free
	default:
		l.Status = lease.PendingFree
	}
}

// freeBeside counts what is free where a key lies: in its scope of IPv4, or in its pool of IPv6.
// A pool so vast that it never fills up is not counted: each server has its half of it for good.
func (s *Server) freeBeside(k netip.Prefix) (n lease.Counts, counted bool) {
	v := s.table.Plan().ScopeAt(k.Addr())
	switch {
	case v == nil:
		return n, k.Addr().Is4()
	case v.Family() == option.V6:
		return s.table.Fills(v.ID, v.PartAt(k.Addr()))
	}
	return s.table.Count(v.ID), true
}

// portions yields what of a scope the two servers share out, each with what of it is free: the
// scope as a whole with IPv4, its pools that can fill up with IPv6.
func (s *Server) portions(v *plan.View, yield func(part int, n lease.Counts)) {
	if v.Family() == option.V4 {
		yield(0, s.table.Count(v.ID))
		return
	}
	for i := range v.Parts {
		if n, ok := s.table.Fills(v.ID, i); ok {
			yield(i, n)
		}
	}
}

// promised reports whether this server may have promised an address for longer than
// its table says, since that was lost and came back from the partner.
func (s *Server) promised(l *lease.Lease) bool {
	return l.Heard < s.rec.Lost && s.now < Others(s.rec.Lost, l, s.set.Wait())
}

// share is how many of some free addresses a side should have: as many in a hundred
// as it has clients, and never less than a few.
func (s *Server) share(side lease.Side, all uint64) uint64 {
	part := uint64(min(max(s.set.Split, 20), 80))
	if side == lease.Secondary {
		part = 100 - part
	}
	if all > 1 {
		return max(1, all/100*part+all%100*part/100)
	}
	return 0
}

// short reports whether a side has less than half of what it should have.
func (s *Server) short(side lease.Side, has, others uint64) bool {
	return 2*has < s.share(side, has+others)
}

// Ended is what becomes of a lease that time ends; journaled reports whether that
// has to be on record, and the partner told. Otherwise its record says it already.
func (s *Server) Ended(l *lease.Lease) (after *lease.Lease, journaled bool) {
	after = l.Ended(lease.Expired, l.Expires)
	if !s.decides() {
		if s.Off[5] {
			after.Status = s.set.Side.Free()
		}
		return after, false
	}
	s.Changed(l, after, 0)
	return after, true
}

// walks are walks through the table, a part at a time.
type walks struct {
	settle walk // nobody's addresses are given to one of the two
	claim  walk // the partner's are taken, once it is down for long enough
	all    *lease.Iterator
	some   lease.Part       // of one of them
	pools  lease.Time       // when shares were looked at last
	asked  lease.Time       // when the partner was asked for more
	dry    map[plan.ID]bool // scopes in which a client waits since
}

type walk struct {
	at   *lease.Iterator
	next lease.Time // when it begins again
}

func (w *walk) again() { w.at, w.next = nil, 0 }

// settlePause is how long it takes until the next look for addresses that are
// nobody's yet.
const settlePause = time.Minute

// walk takes each walk that the state wants a step on.
func (s *Server) walk(now lease.Time) {
	switch s.state {
	case Normal:
		if s.next == nil && s.decides() {
			s.settleSome()
		}
		if now.Sub(s.walks.pools) >= s.set.Contact {
			s.walks.pools = now
			s.balance(now)
			s.request(now)
		}
	case PartnerDown:
		if s.next == nil {
			s.claimSome(now)
		}
	}
}

// change records what becomes of records, and has the partner told.
func (s *Server) change(list []lease.Change) {
	if len(list) > 0 {
		s.begin()
		s.do(effect.Effect{Do: effect.Record, Changes: list}, effect.Effect{Do: effect.Await}, effect.Effect{Do: effect.Tell,
			Changes: list})
		s.begin()
	}
}

func (s *Server) settleSome() {
	w := &s.walks.settle
	if w.at == nil {
		if s.now < w.next {
			return
		}
		w.at = s.table.Iterator(0)
	}
	if !w.at.Next(&s.walks.some, s.Sizes.Walk) { // again in a while: some had to wait
		w.at, w.next = nil, s.now.Add(settlePause)
	}
	var changes []lease.Change
	for l := range s.walked {
		if l.Limbo() && l.Status != lease.PendingFree && !s.promised(l) {
			before, after := l.Clone(), l.Clone()
			s.Changed(before, after, 0)
			changes = append(changes, lease.Change{Before: before, After: after})
		}
	}
	s.change(changes)
}

// walked yields the records of a part of a walk as they are now: the walk may have begun
// long ago, and a change of the plan may have put other records in their place since.
func (s *Server) walked(yield func(*lease.Lease) bool) {
	for l := range s.walks.some.Leases {
		if !s.Off[8] {
			if l = s.table.Get(l.Prefix); l == nil {
				continue
			}
		}
		if !yield(l) {
			return
		}
	}
}

// claimSome takes addresses of a partner that is down, each once everything has
// passed that it could have promised (rule 4).
func (s *Server) claimSome(now lease.Time) {
	down, lead := s.rec.Down, s.set.Wait()
	if s.Off[4] {
		down, lead = 0, 0
	}
	if s.link.agreed || now < Others(down, nil, lead) {
		return // or it is back, and learns what was taken from it
	}
	s.table.Claim(true)
	s.rec.Unsure = false // whatever the partner gave that this server never heard of is over
	own := s.set.Side.Free()
	var changes []lease.Change
	w := &s.walks.claim
	if w.at == nil {
		w.at = s.table.Iterator(0)
		for _, k := range s.unclaimed() {
			before := s.table.Get(k)
			after := &lease.Lease{Prefix: k, Status: own, Changed: now, Expires: now}
			s.mark(before, after)
			after.Told, after.Acked = 0, 0
			changes = append(changes, lease.Change{Before: before, After: after})
		}
	}
	if !w.at.Next(&s.walks.some, s.Sizes.Walk) {
		w.at = nil
	}
	for l := range s.walked {
		if l.Over() && l.Status != own && now >= Others(down, l, lead) {
			before, after := l.Clone(), l.Clone()
			s.mark(before, after)
			after.Status, after.Told, after.Acked = own, 0, 0
			changes = append(changes, lease.Change{Before: before, After: after})
		}
	}
	for _, c := range changes {
		s.outbox.claimed[c.After.Prefix] = true
	}
	s.change(changes)
}

// unclaimed are shares of what nobody ever had that are not this server's.
func (s *Server) unclaimed() (out []netip.Prefix) {
	own := s.set.Side.Free()
	for l := range s.table.Blocks {
		if l.Status != own {
			out = append(out, l.Prefix)
		}
	}
	if s.set.Side == lease.Secondary { // what no block tells of is the primary's
		for _, v := range s.table.Plan().Scopes() {
			if v.Family() == option.V4 && s.table.Get(v.Subnet) == nil && !v.Subnet.IsSingleIP() {
				out = append(out, v.Subnet)
			}
		}
	}
	return out
}

// balance gives the partner of what this server has, where that has too little.
func (s *Server) balance(now lease.Time) {
	if s.state == Normal && s.next == nil {
		s.change(s.gifts(now, func(_ *plan.View, has, others uint64) bool { return s.short(s.set.Side.Other(), has, others) }))
	}
}

// lend gives the partner of what this server has where that asks for it: to the last
// address where it says that a client waits and nothing is left. Elsewhere the last stays
// here, or two servers that both hear newcomers would take each other's to and fro.
func (s *Server) lend(m message.Message, now lease.Time) {
	if s.state != Normal || s.next != nil {
		return
	}
	dry, named := m.Options.Get(dryOption)
	waits := strings.Fields(string(dry))
	s.change(s.gifts(now, func(v *plan.View, has, others uint64) bool {
		return s.short(s.set.Side.Other(), has, others) || has == 0 && (!named || slices.Contains(waits, v.Subnet.String()))
	}))
}

// Rebalance gives the partner what it should have, wherever it has less, and asks
// for the same. It tells how many addresses it gives.
func (s *Server) Rebalance(now lease.Time) (lists []effect.List, changed int, err error) {
	if s.state != Normal || s.next != nil {
		return nil, 0, fmt.Errorf("the servers do not work together now: this one is in %s", s.state)
	}
	gifts := s.gifts(now, func(_ *plan.View, has, others uint64) bool { return has < s.share(s.set.Side.Other(), has+others) })
	for _, c := range gifts {
		if k := c.After.Prefix; k.Addr().Is6() {
			changed++
		} else {
			changed += 1 << (32 - k.Bits())
		}
	}
	s.change(gifts)
	s.send(message.Message{Type: message.PoolReq}, now)
	return s.take(), changed, nil
}

// gifts are shares that become the partner's, in scopes where it has too little.
func (s *Server) gifts(now lease.Time, little func(v *plan.View, has, others uint64) bool) (changes []lease.Change) {
	for _, v := range s.table.Plan().Scopes() {
		s.portions(v, func(part int, n lease.Counts) {
			if n.Headroom == 0 || !little(v, n.Partner, n.Headroom) {
				return
			}
			want := max(1, s.share(s.set.Side.Other(), n.Headroom+n.Partner)) - n.Partner
			if v.Family() == option.V6 {
				changes = append(changes, s.hand(v, part, want, now)...)
			} else {
				changes = append(changes, s.give(v, want, now)...)
			}
		})
	}
	return changes
}

// hand makes some of this server's free addresses or prefixes of an IPv6 pool the partner's.
func (s *Server) hand(v *plan.View, part int, want uint64, now lease.Time) (changes []lease.Change) {
	for _, k := range s.table.Spare(v.ID, part, int(min(want, giveMost))) {
		before, after := s.table.Get(k), &lease.Lease{Prefix: k, Changed: now, Expires: now}
		if before != nil {
			*after = *before
		}
		s.mark(before, after)
		after.Status = s.set.Side.Other().Free()
		changes = append(changes, lease.Change{Before: before, After: after})
	}
	return changes
}

// Limits of what is given in a scope at a time.
const (
	giveBlocks = 32
	giveMost   = 256 // single addresses
)

// give makes some of this server's free addresses the partner's: first of those
// that nobody ever had, by blocks, from the end of each pool.
func (s *Server) give(v *plan.View, want uint64, now lease.Time) (changes []lease.Change) {
	to := s.set.Side.Other().Free()
	note := func(before, after *lease.Lease) {
		s.mark(before, after)
		after.Status = to
		changes = append(changes, lease.Change{Before: before, After: after})
	}
	fresh := s.table.Fresh(v.ID)
	for i := len(fresh) - 1; i >= 0 && want > 0; i-- {
		r := fresh[i]
		for want > 0 && r.Valid() && len(changes) < giveBlocks {
			k := lastBlock(r, want)
			before := s.table.Get(k)
			if !k.IsSingleIP() && s.table.OffersIn(k) || k.IsSingleIP() && (before != nil || !s.free(k.Addr())) {
				k = lease.Host(r.To) // around what is promised
			} else {
				note(before, &lease.Lease{Prefix: k, Changed: now, Expires: now})
				want -= min(want, addr.OfPrefix(k).Size())
			}
			if k.Addr() == r.From {
				break
			}
			r.To = k.Addr().Prev()
		}
	}
	if want > 0 {
		for _, l := range s.table.Returned(v.ID, int(min(want, giveMost))) {
			after := *l
			note(l, &after)
		}
	}
	return changes
}

// free reports whether an address that nobody ever had can be given away.
func (s *Server) free(a netip.Addr) bool {
	_, offered := s.table.OfferOf(lease.Host(a))
	return !offered && s.table.Plan().ReservationAt(a) == nil
}

// lastBlock is the greatest block at the end of a range that has no more addresses
// than are wanted.
func lastBlock(r addr.Range, want uint64) netip.Prefix {
	end := uint64(addr.Uint32(r.To)) + 1
	size := uint64(1)
	for size*2 <= want && size*2 <= r.Size() && end%(size*2) == 0 {
		size *= 2
	}
	bits := 32
	for n := size; n > 1; n /= 2 {
		bits--
	}
	var b [4]byte
	first := uint32(end - size)
	b[0], b[1], b[2], b[3] = byte(first>>24), byte(first>>16), byte(first>>8), byte(first)
	return netip.PrefixFrom(netip.AddrFrom4(b), bits)
}

// dryOption of a POOLREQ names the subnets, with blanks between them, in which a client
// waits and the server that asks has nothing left; its code is one that no registry gave
// away. Without it every scope is meant.
const dryOption = 65004

const dryMost = 64 // subnets that are named

// request asks the partner for addresses, where this server's share runs low, or is
// used up by a client that asks (RFC 8156 section 6.3.1).
func (s *Server) request(now lease.Time) {
	if s.state != Normal || !s.link.agreed || now.Sub(s.walks.asked) < time.Second {
		return
	}
	low := false
	var dry []string
	for _, v := range s.table.Plan().Scopes() {
		s.portions(v, func(_ int, n lease.Counts) {
			low = low || n.Partner > 0 && s.short(s.set.Side, n.Headroom, n.Partner)
			if n.Partner > 0 && n.Headroom == 0 && s.walks.dry[v.ID] && len(dry) < dryMost {
				dry = append(dry, v.Subnet.String())
			}
		})
	}
	if !low && dry == nil {
		return
	}
	s.walks.asked, s.walks.dry = now, nil
	m := message.Message{Type: message.PoolReq}
	m.Options.Put(dryOption, []byte(strings.Join(dry, " ")))
	s.send(m, now)
}

// Hungry says that a client goes without since what is left in its scopes is the
// partner's: it is asked at once, or with the next look.
func (s *Server) Hungry(scopes []*plan.View, now lease.Time) []effect.List {
	dry := false
	for _, v := range scopes {
		s.portions(v, func(_ int, n lease.Counts) {
			if n.Headroom > 0 || n.Partner == 0 {
				return // it can be given, or nobody has it
			}
			if s.walks.dry == nil {
				s.walks.dry = map[plan.ID]bool{}
			}
			s.walks.dry[v.ID], dry = true, true
		})
	}
	if dry { // looking through all scopes is too much for each packet
		s.request(now)
	}
	return s.take()
}

// feed queues records for a partner that asked for all, as it takes them in.
func (s *Server) feed() {
	for s.walks.all != nil && len(s.outbox.queue) < s.Sizes.Window*s.Sizes.Together {
		more := s.walks.all.Next(&s.walks.some, s.Sizes.Window*s.Sizes.Together)
		for l := range s.walks.some.Leases {
			s.outbox.anyway(l.Prefix)
		}
		if !more { // shares last, since they say of the rest that nobody ever had it
			for l := range s.table.Blocks {
				s.outbox.anyway(l.Prefix)
			}
			s.walks.all = nil
		}
	}
}

// Short reports whether a side has too few of a scope's free addresses.
func (s *Server) Short(side lease.Side, n lease.Counts) bool {
	if side == s.set.Side {
		return s.short(side, n.Headroom, n.Partner)
	}
	return s.short(side, n.Partner, n.Headroom)
}
