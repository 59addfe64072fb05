package lease

import "yarnpost/core/lease/internal/ilist"

// Link implements ilist.Links.
func (s *shard) Link(slot int) *ilist.Link { return &s.at(slot).link }

// listed reports whether a slot stands in a list of a pool, which is that of its address.
func (s *shard) listed(i int, in *pool) bool {
	link := s.Link(i)
	return in.lapsed.Holds(i, link) || in.returned.Holds(i, link)
}

// unlist takes a slot out of the list that it stands in, if it does.
func (s *shard) unlist(i int, in *pool) { ilist.Remove(s, i, &in.lapsed, &in.returned) }

// queued yields the slots of what can be given of a list, most of it; what cannot, since it is
// on offer or reserved, leaves the list, and comes back when that is over. It
// reports whether yield wanted more.
func (s *shard) queued(in *pool, c *ilist.List, most int, yield func(slot int) bool) bool {
	for at := c.First(); at >= 0 && most > 0; {
		i := at
		at = ilist.Behind(s, i)
		if k := s.at(i).key.prefix(); !s.gives(k) || s.standing(k) != ours {
			s.unlist(i, in)
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
	if first := in.returned.First(); first >= 0 {
		return s.at(first).changed
	}
	return Never
}
