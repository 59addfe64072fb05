package lease

import "slices"

// dueTimes are addresses by the second in which something has to happen to
// their record: numbers alone, one entry a lease. An entry stands at the
// record's time or before; when its second comes and the record was prolonged
// meanwhile, it moves on.
type dueTimes struct {
	at    map[Time]*fifo[key]
	swept Time        // all seconds up to here were taken out
	late  []dueSecond // taken out, and not looked at yet
}

type dueSecond struct {
	at   Time
	keys *fifo[key] // never empty
}

func newDueTimes(now Time) dueTimes { return dueTimes{at: map[Time]*fifo[key]{}, swept: now} }

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
		q := t.due.at[at]
		if q == nil {
			q = &fifo[key]{}
			t.due.at[at] = q
		}
		q.add(r.key)
	}
}

// Due takes leases whose time has come: active ones that ended by now, kept and
// abandoned ones that are to be looked at. It looks at no more than most entries
// and says whether there are more.
func (t *Table) Due(now Time, most int) (out []*Lease, more bool) {
	d := &t.due
	for range most {
		if len(d.late) == 0 && !d.sweep(now) {
			return out, false
		}
		second := d.late[0]
		k, at := *second.keys.first(), second.at
		if second.keys.drop(); second.keys.first() == nil {
			d.late = d.late[1:]
		}
		s := t.shardAt(k.address())
		i := s.slot(k)
		if i < 0 || s.at(i).due != at {
			continue // another entry stands for it
		}
		s.at(i).due = 0
		if l := s.get(i); l.due() <= now {
			out = append(out, l)
		} else {
			t.expect(s, i)
		}
		t.turn.expected(k, s.at(i).due)
	}
	return out, true
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
	if keys := d.at[at]; keys != nil {
		d.late = append(d.late, dueSecond{at, keys})
		delete(d.at, at)
	}
}
