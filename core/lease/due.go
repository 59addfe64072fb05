package lease

import "slices"

// dueTimes are addresses by the second in which something has to happen to
// their record, one entry a lease. An entry stands at the record's time or before;
// when its second comes and the record was prolonged meanwhile, it moves on. Those
// of a second are chained through the entries, so that there is no pointer among a
// million of them.
type dueTimes struct {
	at      map[Time]dueChain
	entries blocks[dueEntry]
	free    uint32      // chain of entries that can be used again
	swept   Time        // all seconds up to here were taken out
	late    []dueSecond // taken out, and not looked at yet
}

// dueChain is where the first and the last of a chain stand, as number + 1.
type dueChain struct{ first, last uint32 }

type dueEntry struct {
	key  key
	next uint32 // in the chain, as number + 1
}

type dueSecond struct {
	at   Time
	next uint32 // entry to be looked at; never 0
}

func (d *dueTimes) entry(number uint32) *dueEntry { return d.entries.at(int(number - 1)) }

// add puts a key behind the others of a second.
func (d *dueTimes) add(at Time, k key) {
	n := d.free
	if n == 0 {
		d.entries.add(dueEntry{key: k})
		n = uint32(d.entries.size())
	} else {
		e := d.entry(n)
		d.free = e.next
		*e = dueEntry{key: k}
	}
	c := d.at[at]
	if c.last == 0 {
		c.first = n
	} else {
		d.entry(c.last).next = n
	}
	c.last = n
	d.at[at] = c
}

// next takes out the first key of what is late; there must be one.
func (d *dueTimes) next() (k key, at Time) {
	second := &d.late[0]
	n := second.next
	e := d.entry(n)
	k, at, second.next = e.key, second.at, e.next
	if e.next, d.free = d.free, n; second.next == 0 {
		d.late = d.late[1:]
	}
	return k, at
}

func newDueTimes(now Time) dueTimes { return dueTimes{at: map[Time]dueChain{}, swept: now} }

// expect makes sure that the record of a slot is looked at when its time comes.
func (t *Table) expect(s *shard, i int) {
	r := s.at(i)
	l := r.brief()
	at := l.due()
	if at == Never {
		return // an entry that stands is ignored when it comes up
	}
	// What is late already is due with the next sweep.
	if at = max(at, t.due.swept+1); r.due == 0 || at < r.due {
		r.due = at
		t.due.add(at, r.key)
	}
}

// Due fills a part with leases whose time has come: active ones that ended by now,
// kept and abandoned ones that are to be looked at. It looks at no more than most
// entries and reports whether there are more.
func (t *Table) Due(p *Part, now Time, most int) (more bool) {
	p.records, p.octets = p.records[:0], p.octets[:0]
	d := &t.due
	for range most {
		if len(d.late) == 0 && !d.sweep(now) {
			return false
		}
		k, at := d.next()
		s := t.shardAt(k.address())
		i := s.slot(k)
		if i < 0 || s.at(i).due != at {
			continue // another entry stands for it
		}
		r := s.at(i)
		r.due = 0
		if l := r.brief(); l.due() <= now {
			p.take(&s.bindings, r)
		} else {
			t.expect(s, i)
		}
		t.turn.expected(k, s.at(i).due)
	}
	return true
}

// sweep takes out a second whose time has come, and reports whether there was one.
func (d *dueTimes) sweep(now Time) bool {
	if now-d.swept > Time(len(d.at))+60 { // after a long sleep, look at what there is
		var past []Time
		for at := range d.at {
			if at <= now {
				past = append(past, at)
			}
		}
		slices.Sort(past)
		for _, at := range past {
			d.take(at)
		}
		d.swept = now
		return len(d.late) > 0
	}
	for d.swept < now {
		d.swept++
		if d.take(d.swept); len(d.late) > 0 {
			return true
		}
	}
	return false
}

func (d *dueTimes) take(at Time) {
	if c, any := d.at[at]; any {
		d.late = append(d.late, dueSecond{at, c.first})
		delete(d.at, at)
	}
}
