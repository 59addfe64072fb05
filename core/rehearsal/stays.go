package rehearsal

import (
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/lease"
)

// Line is one line of history: what became of an address at a moment.
type Line struct {
	At lease.Time
	*lease.Lease
}

// Stays puts lines of history, in the order of time, together to who came and stayed
// until when. Who is there at the end of the span is there until then. Lines from before
// the span tell who is there when it begins.
type Stays struct {
	from, to lease.Time
	open     map[key]*Stay
	last     map[key]lastLine
	done     []Stay
}

type key struct {
	client lease.Client
	of     netip.Prefix
}

type lastLine struct{ at, expires lease.Time }

// NewStays begins with a span.
func NewStays(from, to lease.Time) *Stays {
	return &Stays{from: from, to: to, open: map[key]*Stay{}, last: map[key]lastLine{}}
}

// Add takes in a line.
func (s *Stays) Add(n Line) {
	l := n.Lease
	if !l.Client.Known() || l.Client.Kind == lease.Registered { // which nobody gave
		return
	}
	k := key{l.Client, l.Prefix}
	o := s.open[k]
	switch {
	case l.Status == lease.Active && o != nil && n.At <= s.last[k].expires:
	case l.Status == lease.Active:
		s.close(k)
		begin := n.At
		if l.Since < begin && l.Since > 0 {
			begin = max(l.Since, s.from)
		}
		s.open[k] = &Stay{Client: l.Client, Hardware: l.Hardware, Hostname: l.Hostname, Vendor: l.Vendor, Circuit: l.Circuit, Relay: l.Relay,
			Key: l.Prefix, Begin: begin}
	case l.Status == lease.Released && o != nil:
		o.End, o.Released = n.At, true
		s.done = append(s.done, *o)
		delete(s.open, k)
		return
	default:
		s.close(k)
		return
	}
	s.last[k] = lastLine{n.At, l.Expires}
}

// close ends a stay of which nothing more was heard: a client that leaves between
// two renewals is gone, on the average, after half of the time between them.
func (s *Stays) close(k key) {
	o := s.open[k]
	if o == nil {
		return
	}
	last := s.last[k]
	rest := time.Hour
	if last.expires != lease.Never {
		rest = last.expires.Sub(last.at) / 4
	}
	o.End = last.at.Add(rest)
	if last.expires > s.to { // it is there still
		o.End = s.to + 1
	}
	s.done = append(s.done, *o)
	delete(s.open, k)
}

// All gives the stays.
func (s *Stays) All() []Stay {
	for k := range s.open {
		s.close(k)
	}
	return slices.DeleteFunc(s.done, func(x Stay) bool { return x.End < s.from }) // they left before
}
