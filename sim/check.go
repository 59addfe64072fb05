package main

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

type addrKey = netip.Addr

// holder is who believes to have an address, and until when.
type holder struct {
	c     *client
	until tick
}

// holds notes what a client makes of an acknowledgement: nobody else may have the
// address.
func (w *World) holds(c *client, h heard) {
	if o, ok := w.holders[h.address]; ok && o.c != c && o.until > w.now {
		w.found("client %d was given %s by %s, which client %d holds for another %d s", c.n, h.address, w.servers[h.from].name, o.c.n,
			(o.until-w.now)/second)
	}
	w.watched(h.address, "client %d holds it for %d s, by %s", c.n, (c.until-w.now)/second, w.servers[h.from].name)
	w.holders[h.address] = holder{c, c.until}
}

// found is a violation, unless somebody said that a server was down which was not.
func (w *World) found(format string, args ...any) {
	if w.excused {
		w.counts.conflicts++
		return
	}
	w.fail(format, args...)
}

// judge notes whether a server that was declared dead serves all the same: then two
// clients can have one address, until both servers compared what they did and the
// leases of that time are over.
func (w *World) judge() {
	for i, s := range w.servers {
		o := w.servers[1-i]
		if o.up && s.disk.record.State == pair.PartnerDown && o.pair.Serving() == answer.Everybody {
			if !w.excused {
				w.note("from now on both may give the same address")
				w.counts.wrongDowns++
			}
			w.excused, w.excusedAt = true, w.now
		}
	}
	a, b := w.servers[0], w.servers[1]
	if w.excused && !(a.up && b.up && a.pair.State() == pair.Normal && b.pair.State() == pair.Normal) {
		w.excusedAt = w.now
	}
	if w.excused && w.now-w.excusedAt > 40*minute {
		w.excused = false
		w.note("what both gave is over")
	}
}

// gone says that a client does not use its address any more.
func (w *World) gone(c *client) {
	if o, ok := w.holders[c.address]; ok && o.c == c {
		w.watched(c.address, "client %d does not hold it any more", c.n)
		delete(w.holders, c.address)
	}
	c.until = 0
}

// refused looks at a NAK: nobody who holds a lease is refused, but for a change of
// the plan.
func (w *World) refused(c *client, h heard) {
	o, ok := w.holders[c.address]
	if !ok || o.c != c || o.until <= w.now || w.servers[c.from].lost > c.served { // or it went with the disk
		return
	}
	switch h.why {
	case reason.NoRecord, reason.HeldByAnother, reason.PartnersShare, reason.NotOffered:
		w.found("client %d holds %s for another %d s, and %s refused it: %s", c.n, c.address, (o.until-w.now)/second,
			w.servers[h.from].name, h.why)
	}
}

// checkReply looks at what a server is about to say: it is on record, and the
// partner could know it soon enough.
func (w *World) checkReply(s *server, c *client, h heard, state pair.State) {
	if h.xid>>10 < c.first || h.sort == refused && h.xid>>10 != c.xid {
		return // it asks for something else by now, or another device does
	}
	if h.sort == refused {
		w.refused(c, h)
		w.gone(c) // a client that is refused gives up what it had, whether or not it hears that
		return
	}
	if h.sort != given || h.lease == 0 {
		return
	}
	now := s.clock()
	l := s.disk.leases[keyOf(h.address)]
	switch {
	case l == nil || l.Status != lease.Active || l.Hardware != c.hardware:
		w.fail("%s acknowledges %s to client %d, and has %s on disk", s.name, h.address, c.n, show(l))
		return
	case l.Expires < now.Add(time.Duration(h.lease)*time.Millisecond)-25:
		w.fail("%s acknowledges %s until %d, and has %d on disk", s.name, h.address, now+lease.Time(h.lease/second), l.Expires)
	}
	// Until when the partner knows that the address is held, by its disk, in this
	// server's clock.
	o := s.other()
	known := now
	if p := o.disk.leases[keyOf(h.address)]; p != nil {
		known = max(known, max(p.Told.Time(), p.Acked.Time(), p.Expires)+s.clock()-o.clock())
	}
	if most := known.Add(w.set.MCLT) + 40; now+lease.Time(h.lease/second) > most && !w.excused && !o.disk.record.Empty {
		w.fail("%s promises %s to client %d for %d s: %d s more than the lead time allows", s.name, h.address, c.n, h.lease/second,
			now+lease.Time(h.lease/second)-most)
	}
	// Once all is well for long, and all is told, a renewal is for the full time again.
	if w.now-w.calm > 45*minute && s.pair.Owed() < 20 && state == pair.Normal && c.state == renewing && h.address == c.address &&
		w.now-c.since > 20*minute && h.lease < 20*minute-second {
		w.fail("all is well for long, and %s prolongs the lease of client %d for %d s only", s.name, c.n, h.lease/second)
	}
}

// checkChange looks that no holder is replaced by another without a word.
func (w *World) checkChange(s *server, c lease.Change) {
	if c.Before == nil || !c.Before.HeldAt(s.clock()-30) || !c.After.HeldAt(s.clock()) || c.Before.Client == c.After.Client ||
		c.Before.Hardware == c.After.Hardware {
		return
	}
	for _, known := range s.pair.Record().Conflicts {
		if known.Address == c.After.Address() {
			return
		}
	}
	w.fail("%s: %s becomes %s, and nothing says that two had it", s.name, show(c.Before), show(c.After))
}

func show(l *lease.Lease) string {
	if l == nil {
		return "nothing"
	}
	owed := ""
	if l.Owed {
		owed = ", owed"
	}
	return fmt.Sprintf("%s %s of %s at %d/%d%s", l.Prefix, l.Status, l.Hardware, l.Version.Primary, l.Version.Secondary, owed)
}

// compareFindings looks that what one server knows of addresses that two clients had, the
// other knows, too, once they have worked together for a while.
func (w *World) compareFindings() {
	a, b := w.servers[0], w.servers[1]
	if !a.up || !b.up || w.now-w.calm < 5*minute || a.pair.State() != pair.Normal || b.pair.State() != pair.Normal {
		w.alone = nil
		return
	}
	alone := map[netip.Addr]tick{}
	for _, s := range w.servers {
		known := s.other().pair.Record().Conflicts
		for _, c := range s.pair.Record().Conflicts {
			if slices.ContainsFunc(known, func(o pair.Conflict) bool { return o.Address == c.Address }) {
				continue
			}
			since, was := w.alone[c.Address]
			if !was { // one of the two may only be quicker to see that it is over
				since = w.now
			}
			if alone[c.Address] = since; w.now-since > 5*minute {
				w.fail("%s knows since %d s that two clients had %s, and %s does not", s.name, s.clock()-c.At, c.Address, s.other().name)
				return
			}
		}
	}
	w.alone = alone
}

// compareShares looks that no free address is both servers' to give.
func (w *World) compareShares() {
	a, b := w.servers[0], w.servers[1]
	if !a.up || !b.up || w.excused || a.pair.State() == pair.PartnerDown || b.pair.State() == pair.PartnerDown {
		return
	}
	if min(a.pair.Serving(), b.pair.Serving()) < answer.Renewals {
		return
	}
	for i, v := range a.active.plan.Scopes() {
		step := uint64(1)
		if i == 2 {
			step = 7
		}
		for k := range keysOf(v, step) {
			ka, kb := a.table.Get(k), b.table.Get(k)
			if (ka == nil || ka.Over()) && (kb == nil || kb.Over()) && a.table.Gives(k, ka) && b.table.Gives(k, kb) {
				w.found("%s is free, and both servers would give it: %+v and %+v", k, ka, kb)
				return
			}
		}
	}
}

// keysOf yields what the pools of a scope give, each so many steps from the one before; of a
// vast one only what comes first.
func keysOf(v *plan.View, step uint64) iter.Seq[netip.Prefix] {
	return func(yield func(netip.Prefix) bool) {
		for _, part := range v.Parts {
			for _, r := range part.Ranges {
				k, ok := keyOf(r.From), true
				for n := 0; ok && r.Contains(k.Addr()) && n < 5000; n++ {
					if !yield(k) {
						return
					}
					k, ok = addr.Plus(k, step)
				}
			}
		}
	}
}

// heal makes all that is broken whole, and looks whether everything comes to rest:
// both tables agree, and every client is served.
func (w *World) heal() {
	w.note("from now on nothing goes wrong")
	w.healed = true
	x := &w.wires
	x.lossy, x.clients = 0, [2]bool{}
	for i := range x.cut {
		x.mend(w, i)
	}
	for _, s := range w.servers {
		if !s.up && !s.gone {
			s.start()
		}
	}
	for _, s := range w.servers {
		w.join(s)
	}
	x.connect(w)
	for end := w.now + 60*minute; w.now < end && w.wrong == "" && w.step(); {
	}
	if w.wrong != "" {
		return
	}
	for _, s := range w.servers {
		if s.parted { // a person chooses
			w.settle()
			break
		}
	}
	for end := w.now + 10*minute; w.now < end && w.wrong == "" && w.step(); {
	}
	a, b := w.servers[0], w.servers[1]
	if a.pair.State() != pair.Normal || b.pair.State() != pair.Normal {
		w.fail("the network is whole for an hour, and they are in %s and %s", a.pair.State(), b.pair.State())
		return
	}
	if a.active != b.active {
		w.fail("the network is whole for an hour, and they serve by plans %s and %s", a.active, b.active)
		return
	}
	for _, c := range w.clients {
		if c.state != off && c.until <= w.now && w.now-max(c.began, c.served) > 5*minute {
			w.fail("client %d goes without for %d s: it is %s", c.n, (w.now-c.began)/second, stateNames[c.state])
			return
		}
	}
	// Let what is on its way arrive: nobody asks for anything.
	w.silent = true
	for end := w.now + 2*minute; w.now < end && w.wrong == "" && w.step(); {
	}
	for end := w.now + 2*minute; w.now < end && a.pair.Owed()+b.pair.Owed()+len(a.pending)+len(b.pending) > 0 && w.wrong == "" &&
		w.step(); {
	}
	w.compareTables()
}

// compareTables looks that both know the same of each address.
func (w *World) compareTables() {
	a, b := w.servers[0], w.servers[1]
	for k := range a.disk.leases {
		w.compareRecords(k, a.table.Get(k), b.table.Get(k))
	}
	for k := range b.disk.leases {
		if a.disk.leases[k] == nil {
			w.compareRecords(k, a.table.Get(k), b.table.Get(k))
		}
	}
	if a.pair.Owed()+b.pair.Owed() > 0 {
		w.fail("nothing happens any more, and they owe each other %d and %d updates", a.pair.Owed(), b.pair.Owed())
	}
}

func (w *World) compareRecords(k netip.Prefix, x, y *lease.Lease) {
	over := func(l *lease.Lease) bool { return l == nil || l.Over() }
	switch {
	case x == nil || y == nil:
		if !over(x) || !over(y) {
			w.fail("%s is %s here and %s there", k, show(x), show(y))
		}
	case w.ending(x, y) || w.ending(y, x): // time ends it, and one of them looks at it a moment later
	case x.Status != y.Status || x.Client != y.Client || x.Version != y.Version:
		w.fail("%s is %s at %v here, and %s at %v there", k, show(x), x.Version, show(y), y.Version)
	}
}

// ending reports whether of one record time ended the first form, and ends the
// second in these moments.
func (w *World) ending(x, y *lease.Lease) bool {
	return x.Status == lease.Expired && (y.Status != lease.Active || y.Expires < w.servers[0].clock()+60)
}

// settle has a person choose the plan of one of the two.
func (w *World) settle() {
	keep, lose := w.servers[0], w.servers[1]
	w.note("a person chooses the plan of %s: %s, not %s", keep.name, keep.head(), lose.head())
	lose.add(entry{line: keep.head().line(), theirs: keep.active, then: func() {
		lose.parted, keep.parted = false, false
		lose.activate(lose.head())
		lose.sayPlan(false)
		keep.sayPlan(false)
	}})
}

// checkBefore looks that a change is made of the record as it is, and not of what was
// seen of it once.
func (w *World) checkBefore(s *server, c lease.Change) {
	is := s.table.Get(c.After.Prefix)
	if c.Before != nil && is != nil && (c.Before.Version != is.Version || c.Before.Status != is.Status || c.Before.Client != is.Client ||
		c.Before.Expires != is.Expires) {
		w.fail("%s changes %s as if it were %s, and it is %s", s.name, c.After.Prefix, show(c.Before), show(is))
	}
}

// lookAtHolders looks that the lease of each client is known to the server that
// acknowledged it last.
func (w *World) lookAtHolders() {
	if w.excused {
		return
	}
	for _, c := range w.clients {
		o, ok := w.holders[c.address]
		if !ok || o.c != c || o.until < w.now+10*second {
			continue
		}
		s := w.servers[c.from]
		if !s.up || s.lost > c.served || s.disk.record.Empty {
			continue
		}
		l := s.table.Get(keyOf(c.address))
		if l != nil && l.Hardware == c.hardware && (l.Status == lease.Active || l.Kept()) {
			continue
		}
		w.fail("client %d holds %s for another %d s, which %s acknowledged, and which is %s there", c.n, c.address,
			(o.until-w.now)/second, s.name, show(l))
		return
	}
}
