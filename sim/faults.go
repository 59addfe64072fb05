package main

import (
	"net/netip"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
)

// quiet reports whether nothing is to go wrong.
func (w *World) quiet() bool { return w.healed }

// disturb plans the next thing to go wrong.
func (w *World) disturb() {
	pause := w.between(10*second, 10*minute)
	if w.chance(25) {
		pause = w.between(60*minute, 3*60*minute) // and for a while all is well
	}
	w.in(pause, func() {
		if w.healed {
			return
		}
		w.fault()
		w.disturb()
	})
}

// administer has the plan changed now and then, whatever else happens.
func (w *World) administer() {
	w.in(w.between(10*second, 8*minute), func() {
		if !w.healed {
			w.servers[w.random.IntN(2)].changePlan()
			w.administer()
		}
	})
}

// for a while something is so, then not any more; all is disturbed until then.
func (w *World) forWhile(d tick, undo func()) {
	w.in(d, func() {
		if !w.healed {
			undo()
		}
	})
}

func (w *World) fault() {
	w.calm = w.now
	i := w.random.IntN(2)
	s := w.servers[i]
	long := w.between(second, 2*minute)
	if w.chance(4) {
		long = w.between(5*minute, 40*minute)
	}
	w.calm = w.now + long
	switch w.random.IntN(14) {
	case 0, 1:
		w.crash(s, long)
	case 2: // both at once
		w.crash(s, long)
		w.crash(s.other(), w.between(second, minute))
	case 3, 4, 5:
		w.counts.cuts++
		one := w.random.IntN(3)
		for k := range w.wires.cut {
			w.wires.cut[k] = w.wires.cut[k] || one != k
		}
		w.note("the wire between them is cut (%v) for %d s", w.wires.cut, long/second)
		w.forWhile(long, func() {
			for k := range w.wires.cut {
				w.wires.mend(w, k)
			}
			w.note("the wire is whole")
		})
		w.maybeDown(s, long)
	case 6:
		w.wires.clients[i] = true
		w.note("no client reaches %s for %d s", s.name, long/second)
		w.forWhile(long, func() { w.wires.clients[i] = false })
	case 7:
		w.wires.lossy = 2 + w.random.IntN(20)
		w.forWhile(long, func() { w.wires.lossy = 0 })
	case 8:
		if s.up && !s.broken {
			s.broken = true
			w.note("the database of %s is away for %d s", s.name, long/second)
			s.undo()
			life := s.life
			w.in(long, func() {
				if s.life == life {
					s.broken = false
				}
			})
		}
	case 9:
		if s.up {
			w.crash(s, long)
			s.offset = float64(w.random.IntN(21) - 10)
			w.note("the clock of %s is set anew", s.name)
		}
	case 11:
		w.outage(s)
	case 12:
		w.wander(i)
	case 13:
		w.takeover(s)
	case 10:
		if o := w.servers[1-i]; s.up && o.up && o.pair.Serving() == answer.Everybody && !o.disk.record.Empty && w.chance(3) { // one copy is left
			w.lose(s, long)
		}
	}
	if w.chance(6) {
		w.outage(s)
	}
	if w.chance(5) { // what a server claims as the other comes back is what most rules are about
		w.takeover(s)
	}
	if w.chance(25) { // seldom: a server that is alone for long breaks little
		w.leave(s)
	}
	for range 3 {
		w.in(w.between(0, 5*minute), func() { w.servers[w.random.IntN(2)].changePlan() })
	}
}

// outage takes the clients of a scope away until their leases are over, while the servers
// cannot hear each other, or one of them is down and is said to be. They come back all
// together, while somebody widens the pool.
func (w *World) outage(s *server) {
	v := w.random.IntN(len(scopesOf))
	long := w.between(22*minute, 45*minute)
	w.calm = w.now + long
	w.note("the clients of %s lose power for %d s", scopesOf[v].name, long/second)
	w.drawSizes()
	for _, o := range w.servers {
		if o.up {
			o.pair.Sizes = w.sizes.Sizes
		}
	}
	if w.chance(2) {
		w.counts.cuts++
		for k := range w.wires.cut {
			w.wires.cut[k] = true
		}
		w.forWhile(long, func() {
			for k := range w.wires.cut {
				w.wires.mend(w, k)
			}
		})
	} else if s.up {
		w.crash(s, long)
		w.in(minute, func() {
			o := s.other()
			if !o.up || s.up || w.healed {
				return
			}
			if list, err := o.pair.Down(o.clock()); err == nil {
				w.counts.downs++
				o.runAll(list)
			}
		})
	}
	for _, c := range w.clients {
		if c.scope != v {
			continue
		}
		w.in(w.between(0, 2*minute), func() {
			if c.state == off {
				return
			}
			w.gone(c)
			c.become(off)
			c.later(long-w.between(0, 5*minute)+w.between(0, 3*minute), c.switchOn)
		})
	}
	for range 40 {
		w.in(long-5*minute+w.between(0, 9*minute), func() {
			if !w.healed {
				w.servers[w.random.IntN(2)].widen(v)
			}
		})
	}
}

// wander has clients give their leases up at one server and come back at the other, which cannot
// know: the wire between the two is cut, and the first one hears no client any more.
func (w *World) wander(from int) {
	long := w.between(2*minute, 6*minute)
	w.calm = w.now + long
	w.counts.cuts++
	w.note("clients of %s leave it, and come back at the other, for %d s", w.servers[from].name, long/second)
	w.in(12*second, func() {
		for k := range w.wires.cut {
			w.wires.cut[k] = !w.healed
		}
	})
	w.in(22*second, func() { w.wires.clients[from] = !w.healed })
	w.forWhile(long, func() {
		w.wires.clients[from] = false
		for k := range w.wires.cut {
			w.wires.mend(w, k)
		}
	})
	for _, n := range w.random.Perm(len(w.clients))[:60] {
		c := w.clients[n]
		w.in(w.between(0, 5*second), func() { // what they have is fresh, and known to both, so it is answered from the record
			if c.state == bound && c.from == from && w.now-c.served > 150*second {
				c.renew()
			}
		})
		w.in(w.between(13*second, 20*second), func() {
			if w.healed || c.state != bound || c.from != from {
				return
			}
			c.release()
			c.later(w.between(9*second, 40*second), c.switchOn)
		})
	}
}

// takeover has a server give what the other had, which is down and said to be, and die itself just
// as the other comes back, while the wire between the two is cut for a moment.
func (w *World) takeover(s *server) {
	o := s.other()
	if !s.up || !o.up {
		return
	}
	long := w.between(8*minute, 20*minute)
	w.calm = w.now + long
	w.note("%s takes over from %s for %d s, and dies", o.name, s.name, long/second)
	w.counts.crashes += 2
	s.crash()
	again := func(s *server) func() {
		life := s.life
		return func() {
			if !s.up && s.life == life {
				s.start()
				w.wires.connect(w)
			}
		}
	}
	w.forWhile(long, again(s))
	w.in(w.between(10*second, minute), func() {
		if !o.up || s.up || w.healed {
			return
		}
		if list, err := o.pair.Down(o.clock()); err == nil {
			w.counts.downs++
			o.runAll(list)
		}
	})
	arrive := func(within, after tick) {
		c := w.clients[w.random.IntN(len(w.clients))]
		w.in(after+w.between(0, within), func() {
			if !w.healed {
				c.replaced()
			}
		})
	}
	for range 40 {
		arrive(long-minute, minute)
	}
	w.in(long-w.between(0, 2*second), func() {
		if w.healed || !o.up {
			return
		}
		o.crash()
		w.forWhile(w.between(second, 20*second), again(o))
	})
	for range 15 {
		arrive(20*second, long)
	}
}

// leave takes a server out of the pair: it says so and stops, or it dies after it was cut off,
// with promises that nobody else knows, and somebody says that it comes back no more. The other
// goes on without a partner, until one joins it that knows nothing; who is joined is the
// primary from then on.
func (w *World) leave(s *server) {
	if o := s.other(); !s.up || !o.up || w.chance(2) {
		w.depart(s)
		return
	}
	long := w.between(minute, 10*minute)
	w.calm = w.now + long
	w.counts.cuts++
	w.note("%s is cut off for %d s, and dies", s.name, long/second)
	for k := range w.wires.cut {
		w.wires.cut[k] = true
	}
	for range 40 {
		c := w.clients[w.random.IntN(len(w.clients))]
		w.in(w.between(0, long), func() {
			if !w.healed {
				c.replaced()
			}
		})
	}
	w.forWhile(long, func() {
		s.crash()
		for k := range w.wires.cut {
			w.wires.mend(w, k)
		}
		w.in(w.between(0, 30*second), func() { w.depart(s) })
	})
}

// depart has a server be one of the pair no more, if it, or the other, can say so.
func (w *World) depart(s *server) {
	o := s.other()
	switch heard := s.up && o.up && w.wires.open == [2]bool{true, true} && w.wires.cut == [2]bool{}; {
	case s.up && !o.up: // then it is the other one
		s, o = o, s
	case s.up && !heard, !o.up:
		return
	}
	if w.healed || s.gone || o.gone || o.disk.left || o.disk.record.Empty || o.broken {
		return
	}
	long := w.between(minute, 15*minute)
	w.calm = w.now + long + 5*minute
	w.counts.left++
	w.note("%s is one of the pair no more", s.name)
	s.crash()
	s.life++
	s.gone, s.lost = true, w.now
	s.disk.record.Empty = true
	w.wires.open, w.wires.number = [2]bool{}, w.wires.number+1
	lists, _ := o.pair.Left(o.clock())
	o.disk.left = true
	o.runAll(lists)
	w.in(long, func() { w.join(s) })
}

// join has a server that knows nothing join the one that is left.
func (w *World) join(s *server) {
	o := s.other()
	if !s.gone {
		return
	}
	if !o.up || o.broken {
		w.in(20*second, func() { w.join(s) })
		return
	}
	w.note("%s joins %s", s.name, o.name)
	now := o.clock()
	before := false
	for range o.table.Blocks {
		before = true
	}
	o.side, s.side = lease.Primary, lease.Secondary
	o.disk.record, o.disk.left = pair.Record{State: pair.PartnerDown, Since: now, Down: now}, false
	if o.table.Side() != o.side {
		o.table.Pair(o.side)
	}
	o.form(now)
	o.pair.Formed()
	s.disk = disk{leases: map[netip.Prefix]*lease.Lease{}, line: o.disk.line, theirs: o.active,
		record: pair.Record{State: pair.Recover, Since: s.clock(), Empty: true, Wait: 1}}
	if before {
		s.disk.record.Wait = s.clock()
	}
	s.gone, s.lost = false, w.now
	s.start()
	w.wires.connect(w)
}

// crash stops a server for a while.
func (w *World) crash(s *server, long tick) {
	if !s.up {
		return
	}
	w.counts.crashes++
	s.crash()
	life := s.life
	w.forWhile(long, func() {
		if !s.up && s.life == life {
			s.start()
			w.wires.connect(w)
			w.newcomers()
		}
	})
	if o := s.other(); o.up {
		w.maybeDown(o, long)
	}
}

// newcomers has devices that nobody knows come in the very seconds in which a server is
// back, and has not heard yet what the other did.
func (w *World) newcomers() {
	if !w.chance(3) {
		return
	}
	for range 15 {
		c := w.clients[w.random.IntN(len(w.clients))]
		w.in(w.between(0, 15*second), func() {
			if !w.healed {
				c.replaced()
			}
		})
	}
}

// lose replaces a server's disk.
func (w *World) lose(s *server, long tick) {
	w.counts.losses++
	w.note("the disk of %s is lost", s.name)
	s.crash()
	s.lost = w.now
	life := s.life
	o := s.other()
	w.forWhile(long, func() {
		if s.up || s.life != life {
			return
		}
		s.disk = disk{leases: map[netip.Prefix]*lease.Lease{}, line: o.disk.line, theirs: o.active,
			record: pair.Record{State: pair.Recover, Empty: true, Wait: s.clock()}}
		s.start()
		w.wires.connect(w)
	})
}

// maybeDown has a person say that a server's partner is down: rightly, if it is.
func (w *World) maybeDown(s *server, long tick) {
	if !w.chance(3) {
		return
	}
	back := w.now + long // when the other one is back
	w.in(w.between(10*second, long+20*second), func() {
		if !s.up || w.healed {
			return
		}
		wrong := s.other().up
		if wrong && !w.chance(4) {
			return
		}
		list, err := s.pair.Down(s.clock())
		if err != nil {
			return
		}
		w.counts.downs++
		w.note("somebody says that %s is down, and it is (%v)", s.other().name, !wrong)
		s.runAll(list)
		if !wrong && w.chance(2) { // the survivor dies, too, just as the other comes back: what it knew of itself is on disk, or lost
			w.at(back-w.between(0, 5*second), func() {
				if !w.healed {
					w.crash(s, w.between(second, 10*second))
				}
			})
		}
	})
}
