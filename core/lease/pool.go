package lease

import (
	"net/netip"
	"slices"

	"yarnpost/core/addr"
)

// pool is what one pool of a scope has to give: addresses that nobody ever had,
// which cost no memory, then those that were offered in vain, then those that
// were given back. What it is told may be old: whoever takes from it asks, by a
// judge, whether an address is still to be had.
type pool struct {
	fresh    cursor
	lapsed   []freed // offered and not taken; they were next before
	returned []freed // given back, in order of time
}

// freed is an address that can be given again, since when.
type freed struct {
	address netip.Addr
	since   Time // Changed of its record; 0 if it has none
}

// judge knows what became of addresses.
type judge interface {
	// untouched reports whether an address has no record and is not taken otherwise.
	untouched(netip.Addr) bool
	// stillFree reports whether what was queued is free, and was all the time.
	stillFree(freed) bool
}

// cursor stands in the ranges of a pool of IPv4 addresses: everything before it
// has a record, is reserved, or waits in a queue.
type cursor struct {
	at   int // number of the range
	next netip.Addr
}

// passed reports whether the cursor has gone by the address.
func (c *cursor) passed(ranges []addr.Range, a netip.Addr) bool {
	return c.at >= len(ranges) || c.next.IsValid() && a.Less(c.next)
}

// advance moves the cursor past what is not untouched, n addresses at most, and
// gives what is left of n.
func (c *cursor) advance(ranges []addr.Range, j judge, n int) int {
	for n > 0 && c.at < len(ranges) {
		r := ranges[c.at]
		if !c.next.IsValid() || c.next.Less(r.From) {
			c.next = r.From
		}
		if !r.Contains(c.next) {
			c.at++
			continue
		}
		if j.untouched(c.next) {
			break
		}
		c.next = c.next.Next()
		n--
	}
	return n
}

// each yields addresses that nobody ever had; it reports whether yield wanted
// more. After most that were yielded in vain it ends. The cursor stays before
// those: they may be of use to others.
func (c *cursor) each(ranges []addr.Range, j judge, most int, yield func(netip.Addr) bool) bool {
	skipped, next := 0, c.next
	for at := c.at; at < len(ranges); at++ {
		r := ranges[at]
		if !next.IsValid() || next.Less(r.From) {
			next = r.From
		}
		for ; r.Contains(next); next = next.Next() {
			if j.untouched(next) {
				if !yield(next) {
					return false
				}
				if skipped++; skipped > most {
					return true
				}
			}
			if skipped == 0 {
				c.next = next.Next()
			}
		}
		if skipped == 0 {
			c.at, c.next = at+1, next
		}
	}
	return true
}

// queued yields the free addresses of a queue, most of them; what was given
// meanwhile is dropped from it. It reports whether yield wanted more.
func queued(queue *[]freed, j judge, most int, yield func(netip.Addr) bool) bool {
	for n := 0; n < min(len(*queue), most); {
		f := (*queue)[n]
		switch {
		case j.stillFree(f):
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

// compact drops what was given again since it was queued, and doubles. Calls
// are so far apart that each entry pays for one look.
func compact(queue *[]freed, j judge) {
	seen := make(map[netip.Addr]bool, len(*queue)/2)
	*queue = slices.DeleteFunc(*queue, func(f freed) bool {
		if seen[f.address] || !j.stillFree(f) {
			return true
		}
		seen[f.address] = true
		return false
	})
}

// longest is since when the first of the returned addresses is free, or Never.
func (q *pool) longest() Time {
	if len(q.returned) > 0 {
		return q.returned[0].since
	}
	return Never
}
