package lease

import (
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/lease/internal/ilist"
)

// pool is what one pool of a scope has to give, addresses or prefixes: those that nobody ever
// had, which cost no memory, then those that were offered in vain, then those that
// were given back.
type pool struct {
	fresh    fresh
	lapsed   ilist.List // offered and not taken; they were next before
	returned ilist.List // given back, in order of time
	counts
}

// fills reports whether this is a pool of IPv6 that is small enough to fill up. Of such the
// servers of a pair share out what is free, as of IPv4, key by key.
func (p *pool) fills() bool {
	h, ok := p.fresh.(*hashed)
	return ok && h.rest != nil
}

// fresh is where a pool takes addresses from that nobody ever had. A cursor walks ranges; a
// pool that is too large to be walked chooses in another way. Whatever has a record already is
// the pool's own to give back.
type fresh interface {
	// each yields what nobody ever had, the one to give next to a client first, and reports
	// whether yield wanted more. After most that were yielded in vain it ends.
	each(j judge, who string, most int, yield func(netip.Prefix) bool) bool
	// passed reports whether a key will not be given any more, unless the pool gives it
	// back.
	passed(k netip.Prefix) bool
	// advance looks at n addresses at most that are taken already, so that each has less to
	// do, and gives what is left of n.
	advance(j judge, n int) int
	// reshaped is the same over other ranges.
	reshaped(ranges []addr.Range) fresh
	// ranges are those it was made of; left is what of them nobody ever had, but for single
	// addresses.
	ranges() []addr.Range
	left() []addr.Range
}

// span is a range of a pool: everything before next has a record, or is reserved.
type span struct {
	addr.Range
	next netip.Addr
}

// judge reports whether a key has no record and is not taken otherwise.
type judge func(netip.Prefix) bool

// cursor stands in the spans of a pool that is small enough to be walked. All before at are used
// up.
type cursor struct {
	spans  []span
	length int // of the prefixes that it gives
	at     int
}

func cursorOver(ranges []addr.Range, length int) *cursor {
	c := &cursor{spans: make([]span, len(ranges)), length: length}
	for i, r := range ranges {
		c.spans[i] = span{r, r.From}
	}
	return c
}

// reshaped is the cursor over other ranges: it stands where it stood, as far as
// they are the same.
func (c *cursor) reshaped(ranges []addr.Range) fresh {
	out := cursorOver(ranges, c.length)
	for i := range out.spans {
		s := &out.spans[i]
		for _, old := range c.spans {
			if old.Contains(s.From) && s.From.Less(old.next) {
				s.next = old.next
			}
		}
	}
	return out
}

func (c *cursor) ranges() (out []addr.Range) {
	for _, n := range c.spans {
		out = append(out, n.Range)
	}
	return out
}

func (c *cursor) left() (out []addr.Range) {
	for _, n := range c.spans[min(c.at, len(c.spans)):] {
		if n.Contains(n.next) {
			out = append(out, addr.Range{From: n.next, To: n.To})
		}
	}
	return out
}

// step moves a span on by one key.
func (c *cursor) step(s *span) {
	if c.length == s.next.BitLen() {
		s.next = s.next.Next()
		return
	}
	next, ok := addr.Plus(netip.PrefixFrom(s.next, c.length), 1)
	if s.next = next.Addr(); !ok {
		s.next = netip.Addr{}
	}
}

// passed reports whether the cursor has gone by the key.
func (c *cursor) passed(k netip.Prefix) bool {
	a := k.Addr()
	for i := range c.spans {
		if s := &c.spans[i]; s.Contains(a) {
			return i < c.at || a.Less(s.next)
		}
	}
	return true
}

// advance moves the cursor past what is not untouched, n addresses at most, and
// gives what is left of n.
func (c *cursor) advance(j judge, n int) int {
	for n > 0 && c.at < len(c.spans) {
		s := &c.spans[c.at]
		if !s.Contains(s.next) {
			c.at++
			continue
		}
		if j(netip.PrefixFrom(s.next, c.length)) {
			break
		}
		c.step(s)
		n--
	}
	return n
}

// each yields what nobody ever had; it reports whether yield wanted
// more. After most that were yielded in vain it ends. The cursor stays before
// those: they may be of use to others.
func (c *cursor) each(j judge, _ string, most int, yield func(netip.Prefix) bool) bool {
	skipped := 0
	for at := c.at; at < len(c.spans); at++ {
		s := &c.spans[at]
		for look := *s; s.Contains(look.next); {
			k := netip.PrefixFrom(look.next, c.length)
			if j(k) {
				if !yield(k) {
					return false
				}
				if skipped++; skipped > most {
					return true
				}
			}
			if c.step(&look); skipped == 0 {
				s.next = look.next
			}
		}
		if skipped == 0 {
			c.at = at + 1
		}
	}
	return true
}
