package lease

import (
	"net/netip"
	"time"

	"yarnpost/core/plan"
)

// Of IPv4 there are as many records as addresses, at most. Of IPv6 there is no end of clients, so
// the records of those that went away go as well. That costs no client its address: whoever
// comes back is chosen the same one again, as long as nobody else has it (hashed).

// For how long the former clients of vast pools are remembered, and how many of a scope for as
// long as that; of more than these all are remembered for a shorter time.
const (
	FormerKept  = 7 * 24 * time.Hour
	FormerLeast = time.Hour
	FormerMost  = 1 << 18
)

// KeepFormer is for how long a scope that has so many former clients remembers them from now on,
// given for how long it did: half as long while they are too many, twice as long once they are
// few again.
func KeepFormer(n int, kept time.Duration) time.Duration {
	switch {
	case n > FormerMost:
		return max(FormerLeast, kept/2)
	case n < FormerMost/4:
		return min(FormerKept, 2*kept)
	}
	return kept
}

// Past reports whether a record says only who had an IPv6 address or prefix, an hour ago at the
// least. It may be gone at one server of a pair and not at the other.
func (l *Lease) Past(now Time) bool { return l.PastFor(FormerLeast, now) }

// PastFor reports whether a record has said nothing else for a time.
func (l *Lease) PastFor(d time.Duration, now Time) bool {
	return l.Prefix.Addr().Is6() && !l.busy() && max(l.Expires, l.Changed, l.Heard).Add(d) <= now
}

// Forget takes out the record of a key that is past, and reports whether it did: not where the
// pools find the key by its record alone, or it is reserved or on offer, or the partner has
// still to be told or asked, or the key would be another server's to give without it, or its scope
// is being built anew, in which the record may be needed.
func (t *Table) Forget(k netip.Prefix) bool {
	s := t.shardOf(k)
	i := s.slot(keyOf(k))
	if i < 0 || t.rebuild.target(k) != nil || !s.canForget(k, s.peek(i)) {
		return false
	}
	s.forget(k, i)
	return true
}

func (s *shard) canForget(k netip.Prefix, l *Lease) bool {
	if l.busy() || l.Owed || s.shares.side != Alone && l.Limbo() || s.plan.ReservationOf(k) != nil || s.moved[k] != nil {
		return false
	}
	if _, offered := s.offers.on(k); offered {
		return false
	}
	if s.shares.side != Alone && (l.Status != GivesFor(k).Free() || s.standingOf(k, l) != s.byShare(k)) {
		return false // also where no pool gives the key now: one may again
	}
	in := s.poolAt(k.Addr())
	return in == nil || !in.fresh.passed(k)
}

// forget takes the record in a slot out.
func (s *shard) forget(k netip.Prefix, i int) {
	old := s.peek(i)
	s.countsOf(k).add(old, -1)
	if p := s.poolAt(k.Addr()); p != nil {
		p.add(old, -1)
		s.unlist(i, p)
	}
	if was, is := s.standingOf(k, old), s.standingOf(k, nil); s.gives(k) {
		s.account(k, was, is)
	}
	s.drop(i, old)
}

// Former counts the records of a scope that say only who had what.
func (t *Table) Former(scope plan.ID) (n int) {
	if s := t.shards[scope]; s != nil {
		for _, c := range []*counts{&s.counts, &s.delegated} {
			n += c.tally[Released] + c.tally[Expired] + c.tally[Free] + c.tally[FreeBackup] - c.kept
		}
	}
	return n
}
