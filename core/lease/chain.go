package lease

// chain is a queue of slots of a shard, each of which stands in one chain at most.
// It is linked through the slots, so that a record can leave from anywhere at once:
// nothing is copied, searched or tidied, however many addresses become free and are
// given again.
type chain struct{ first, last int32 } // slots + 1; 0 for none

// link is what stands before and behind a slot in its chain, as slots + 1.
type link struct{ before, behind int32 }

// chained reports whether a slot stands in a chain; in is the pool of its address.
func (s *shard) chained(i int, in *pool) bool {
	n := int32(i + 1)
	return s.at(i).link != link{} || in.lapsed.first == n || in.returned.first == n
}

// push puts a slot that stands in no chain behind all others.
func (s *shard) push(c *chain, i int) {
	n := int32(i + 1)
	if s.at(i).link.before = c.last; c.last > 0 {
		s.at(int(c.last - 1)).link.behind = n
	} else {
		c.first = n
	}
	c.last = n
}

// pushFront puts a slot that stands in no chain before all others.
func (s *shard) pushFront(c *chain, i int) {
	n := int32(i + 1)
	if s.at(i).link.behind = c.first; c.first > 0 {
		s.at(int(c.first - 1)).link.before = n
	} else {
		c.last = n
	}
	c.first = n
}

// unchain takes a slot out of the chain that it stands in, if it does.
func (s *shard) unchain(i int, in *pool) {
	n, l := int32(i+1), s.at(i).link
	for _, c := range []*chain{&in.lapsed, &in.returned} {
		if c.first == n {
			c.first = l.behind
		}
		if c.last == n {
			c.last = l.before
		}
	}
	if l.before > 0 {
		s.at(int(l.before - 1)).link.behind = l.behind
	}
	if l.behind > 0 {
		s.at(int(l.behind - 1)).link.before = l.before
	}
	s.at(i).link = link{}
}

// queued yields the slots of what can be given of a chain, most of it; what cannot, since it is
// on offer or reserved, leaves the chain, and comes back when that is over. It
// reports whether yield wanted more.
func (s *shard) queued(in *pool, c *chain, most int, yield func(slot int) bool) bool {
	for at := c.first; at > 0 && most > 0; {
		i := int(at - 1)
		at = s.at(i).link.behind
		if a := s.at(i).key.address(); !s.gives(a) || s.standing(a) != ours {
			s.unchain(i, in)
			continue
		}
		if !yield(i) {
			return false
		}
		most--
	}
	return true
}

// longest is since when the first of the returned addresses is free, or Never.
func (s *shard) longest(in *pool) Time {
	if in.returned.first > 0 {
		return s.at(int(in.returned.first - 1)).changed
	}
	return Never
}
