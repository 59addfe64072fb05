package lease

// expect makes sure that the record of a slot is looked at when its time comes.
func (t *Table) expect(s *shard, i int) {
	r := s.at(i)
	l := r.brief()
	at := l.due()
	if at == Never {
		return // an entry that stands is ignored when it comes up
	}
	// What is late already is due with the next sweep.
	if at = max(at, Time(t.due.Swept())+1); r.due == 0 || at < r.due {
		r.due = at
		t.due.Add(int64(at), r.key)
	}
}

// Due fills a part with leases whose time has come: active ones that ended by now,
// kept and abandoned ones that are to be looked at. It looks at no more than most
// entries and reports whether there are more.
func (t *Table) Due(p *Part, now Time, most int) (more bool) {
	p.records, p.octets = p.records[:0], p.octets[:0]
	d := &t.due
	for range most {
		if !d.Late() && !d.Sweep(int64(now)) {
			return false
		}
		k, second := d.Next()
		s := t.shardAt(k.address())
		i := s.slot(k)
		if i < 0 || s.at(i).due != Time(second) {
			continue // another entry stands for it
		}
		r := s.at(i)
		r.due = 0
		if l := r.brief(); l.due() <= now {
			p.take(&s.bindings, r)
		} else {
			t.expect(s, i)
		}
		t.rebuild.expected(k, s.at(i).due)
	}
	return true
}
