package main

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"yarnpost/core/answer"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// disk is what survives a crash.
type disk struct {
	leases map[netip.Prefix]*lease.Lease
	record pair.Record
	line   []*revision // revisions of the plan, the newest last
	theirs *revision   // by which the partner was known to serve
	left   bool        // the partner is none any more
}

// entry is a part of a batch, with what is to be done once it is durable.
type entry struct {
	changes []lease.Change
	body    []byte
	line    []*revision
	theirs  *revision
	then    func()
	undone  func()
}

// server is one of the two.
type server struct {
	w       *World
	name    string
	index   int
	address netip.Addr
	disk    disk
	side    lease.Side
	life    int // counts starts; what was planned in another life does not happen
	up      bool
	gone    bool    // it left the pair, or was declared gone for good
	lost    tick    // when its disk was
	offset  float64 // of its clock, in seconds
	drift   float64 // seconds a second

	table  *lease.Table
	due    lease.Part
	pair   *pair.Server
	active *revision
	turn   *lease.Rebuild // a revision on its way into the table, or nil
	theirs *revision      // by which the partner serves, as far as is known
	parted bool
	ticks  int

	gathered []entry
	flying   []entry
	began    tick // when the commit of those began
	broken   bool // the database is away
	pending  map[netip.Prefix]int
	decision *answer.Decision
}

func newServer(w *World, i int) *server {
	s := &server{w: w, index: i, side: lease.Side(1 + i), name: [...]string{"bobbin", "shuttle"}[i],
		address: netip.AddrFrom4([4]byte{10, 99, 0, byte(1 + i)})}
	s.disk = disk{leases: map[netip.Prefix]*lease.Lease{}, line: []*revision{w.first}, theirs: w.first}
	s.offset = float64(w.random.IntN(21) - 10)
	s.drift = float64(w.random.IntN(201)-100) / 1e6
	return s
}

// duid is by what clients of DHCPv6 know the server.
func (s *server) duid() []byte { return append([]byte{0, 3, 0, 1, 2, 0x40}, s.address.AsSlice()...) }

func (s *server) other() *server { return s.w.servers[1-s.index] }

// clock is what the server's clock says.
func (s *server) clock() lease.Time {
	t := float64(s.w.now) / 1000
	return began + lease.Time(t+s.offset+t*s.drift)
}

// alive makes what is planned happen only while the server runs on.
func (s *server) alive(do func()) func() {
	life := s.life
	return func() {
		if s.up && s.life == life {
			do()
		}
	}
}

// start reads the disk and begins.
func (s *server) start() {
	now := s.clock()
	s.up = true
	s.life++
	s.gathered, s.flying, s.broken, s.pending = nil, nil, false, map[netip.Prefix]int{}
	s.active, s.theirs, s.parted = s.head(), s.disk.theirs, false
	s.table = lease.New(s.active.plan, now)
	s.table.Pair(s.side)
	for _, k := range slices.SortedFunc(maps.Keys(s.disk.leases), netip.Prefix.Compare) {
		s.table.Put(s.disk.leases[k])
	}
	s.turn, s.decision = nil, nil
	s.form(now)
	s.w.note("%s starts, with %d records, %s on record", s.name, len(s.disk.leases), s.disk.record.State)
	s.w.in(s.w.between(0, second), s.alive(s.tick))
}

// form makes it the one of a pair that its disk says.
func (s *server) form(now lease.Time) {
	set := s.w.set
	set.Side = s.side
	s.pair = pair.New(set, s.table, s.disk.record, now)
	s.pair.Sizes = s.w.sizes.Sizes
	s.pair.Pending = func(k netip.Prefix) bool { return s.pending[k] > 0 }
	if s.w.Off != 0 {
		s.pair.Off[s.w.Off] = true
	}
	s.pair.TheirPlan = s.theirs.plan
}

// crash ends it: what is not on disk is gone.
func (s *server) crash() {
	if !s.up {
		return
	}
	s.w.note("%s crashes, with %d entries not on disk", s.name, len(s.gathered)+len(s.flying))
	if len(s.flying) > 0 && s.w.chance(2) { // the commit may have happened all the same
		s.store(s.flying)
	}
	s.up = false
	s.w.wires.hangup(s.w)
}

// tick is what happens once a second.
func (s *server) tick() {
	now := s.clock()
	for s.table.Lapse(now) {
	}
	for more := true; more; {
		more = s.table.Due(&s.due, now, s.w.sizes.due)
		for l := range s.due.Leases {
			s.end(l.Clone(), now)
		}
	}
	s.runAll(s.pair.Unable(s.unable(), now))
	list, hangup := s.pair.Tick(now)
	s.runAll(list)
	if hangup {
		s.w.wires.hangup(s.w)
	}
	if s.active != s.theirs || s.head() != s.active { // what did not arrive is said again
		if s.ticks++; s.ticks%8 == 0 {
			s.sayPlan(false)
		}
	}
	if s.w.chance(30) {
		s.forget(now)
	}
	s.w.in(second, s.alive(s.tick))
}

// forget takes out records that only say who had an address of IPv6, and a moment later takes them
// off the disk, if it can be reached then.
func (s *server) forget(now lease.Time) {
	var keys []netip.Prefix
	var part lease.Part
	for at, more := s.table.Iterator(0), true; more; {
		more = at.Next(&part, 100)
		for l := range part.Leases {
			if k := l.Prefix; l.PastFor(s.w.sizes.past, now) && s.pending[k] == 0 && s.table.Forget(k) {
				keys = append(keys, k)
				s.w.watched(k.Addr(), "%s forgets %s", s.name, show(l))
			}
		}
	}
	s.w.counts.forgotten += len(keys)
	s.w.in(s.w.between(0, 2*second), s.alive(func() {
		for _, k := range keys {
			if l := s.disk.leases[k]; !s.broken && l != nil && l.PastFor(s.w.sizes.past, now) {
				delete(s.disk.leases, k)
			}
		}
	}))
}

// end ends a lease whose time has come.
func (s *server) end(l *lease.Lease, now lease.Time) {
	if l.Status == lease.Abandoned {
		after := l.Ended(lease.Released, now)
		s.pair.Changed(l, after, 0)
		s.change(l, after)
		return
	}
	after, journaled := s.pair.Ended(l)
	if !journaled {
		s.table.Put(after)
		return
	}
	s.change(l, after)
}

func (s *server) change(before, after *lease.Lease) {
	list := []lease.Change{{Before: before, After: after}}
	s.run(effect.List{{Do: effect.Record, Changes: list}, {Do: effect.Await}, {Do: effect.Tell, Changes: list}}, nil)
}

// hear decides about a request of a client, and answers by reply.
func (s *server) hear(req request.Request, c *client, reply func(heard)) {
	if !s.up {
		return
	}
	now := s.clock()
	world := answer.World{Table: s.table, Now: now, Ours: func(a netip.Addr) bool { return a == s.address }, Writable: !s.unable(),
		Pending: s.pair.Pending, Pair: s.pair, DUID: string(s.duid())}
	s.decision = answer.Decide(req, world, s.decision)
	d := s.decision
	first := d.First()
	if first.Why == reason.PartnersShare {
		s.runAll(s.pair.Hungry(s.table.Plan().OnLink(first.Scope.Link), now))
	}
	var say func()
	if d.Reply != nil {
		h := heardOf(d.Reply, s)
		state := s.pair.State()
		if first.Outcome == answer.Refused {
			h.why = first.Why
		}
		decided := s.w.now
		say = func() {
			if late := (s.w.now - decided) / second; late >= 2 && h.lease > 0 { // as Age of the codecs does it
				h.lease -= late * second
			}
			if h.sort == given && h.lease < 0 {
				return
			}
			s.w.checkReply(s, c, h, state)
			reply(h)
		}
	}
	s.carryOut(d, say)
}

// carryOut does what a decision says, in its order.
func (s *server) carryOut(d *answer.Decision, reply func()) {
	list := append(effect.List(nil), d.Effects...)
	for i := range list { // a decision's memory is used again
		list[i].Changes = append([]lease.Change(nil), list[i].Changes...)
		if n := list[i].Note; n != nil {
			o := *n
			list[i].Note = &o
		}
	}
	s.run(list, reply)
}

func (s *server) runAll(lists []effect.List) {
	for _, list := range lists {
		s.run(list, nil)
	}
}

// run carries out a list of effects; what stands behind Await once the records so far are
// durable.
func (s *server) run(list effect.List, reply func()) { list.CarryOut(&carrier{s: s, reply: reply}) }

func (s *server) entered(was pair.State) {
	is := s.pair.State()
	if is == was {
		return
	}
	s.w.note("%s goes from %s to %s", s.name, was, is)
	s.w.judge()
}

// unable reports whether nothing can be recorded now, or is for too long already.
func (s *server) unable() bool {
	return s.broken || len(s.flying) > 0 && s.w.now-s.began > 3*second
}

// add hands an entry to the journal.
func (s *server) add(e entry) {
	s.gathered = append(s.gathered, e)
	if len(s.flying) == 0 {
		s.w.in(0, s.alive(s.commit))
	}
}

// commit makes what gathered durable: in a while, or not at all, or nobody knows.
func (s *server) commit() {
	if len(s.flying) > 0 || len(s.gathered) == 0 || s.broken {
		return
	}
	s.flying, s.gathered, s.began = s.gathered, nil, s.w.now
	if !s.w.quiet() && s.w.chance(4000) {
		s.hang()
		return
	}
	s.w.in(s.w.between(1, 15), s.alive(s.committed))
}

// hang keeps a commit longer than anybody waits for what depends on it.
func (s *server) hang() {
	long := s.w.between(5*second, 40*second)
	s.w.counts.hangs++
	s.w.calm = s.w.now + long
	s.w.note("%s: a commit hangs for %d s", s.name, long/second)
	s.w.in(long, s.alive(func() {
		switch s.w.random.IntN(3) {
		case 0:
			s.durable()
		case 1:
			s.fail()
		default:
			s.doubt()
		}
	}))
}

func (s *server) committed() {
	switch {
	case s.w.quiet() || !s.w.chance(4000):
		s.durable()
	case s.w.chance(2):
		s.fail()
	default:
		s.doubt()
	}
}

func (s *server) fail() {
	s.w.calm = s.w.now
	s.w.counts.failures++
	s.w.note("%s: a commit fails", s.name)
	s.undo()
}

// doubt leaves it open for a while whether a commit happened.
func (s *server) doubt() {
	s.w.counts.doubts++
	s.w.calm = s.w.now + 5*second
	happened := s.w.chance(2)
	s.w.note("%s: a commit of unknown outcome; it happened: %v", s.name, happened)
	s.broken = true
	behind := s.gathered
	s.gathered = nil
	s.undoAll(behind)
	s.w.in(s.w.between(100, 5*second), s.alive(func() {
		s.broken = false
		if happened {
			s.durable()
		} else {
			s.undo()
		}
	}))
}

func (s *server) durable() {
	batch := s.flying
	s.store(batch)
	s.flying = nil
	for _, e := range batch {
		s.unpend(e)
	}
	for _, e := range batch {
		if e.then != nil {
			e.then()
		}
	}
	s.runAll(s.pair.Pump(s.clock()))
	s.commit()
}

func (s *server) unpend(e entry) {
	for _, c := range e.changes {
		if s.pending[c.After.Prefix]--; s.pending[c.After.Prefix] == 0 {
			delete(s.pending, c.After.Prefix)
		}
	}
}

func (s *server) store(batch []entry) {
	for _, e := range batch {
		for _, c := range e.changes {
			s.disk.leases[c.After.Prefix] = c.After
		}
		if e.body != nil {
			rec, err := pair.ParseRecord(e.body)
			if err != nil {
				s.w.fail("%s cannot read its record: %v", s.name, err)
			}
			s.disk.record = rec
		}
		if e.line != nil {
			s.disk.line, s.disk.theirs = e.line, e.theirs
		}
	}
}

// undo puts back what was in the batch, and all that gathered behind it.
func (s *server) undo() {
	all := append(append([]entry(nil), s.flying...), s.gathered...)
	s.flying, s.gathered = nil, nil
	s.undoAll(all)
}

func (s *server) undoAll(all []entry) {
	for i := len(all) - 1; i >= 0; i-- {
		e := all[i]
		for n := len(e.changes) - 1; n >= 0; n-- {
			c := e.changes[n]
			s.w.watched(c.After.Address(), "%s: undone: %s", s.name, show(c.Before))
			s.table.Restore(c.After.Prefix, c.Before)
		}
		s.pair.Lost(e.changes)
		s.unpend(e)
		if e.undone != nil {
			e.undone()
		}
	}
}

func (s *server) describe() string {
	if !s.up {
		return "down"
	}
	p, connected := s.pair.Partner()
	return fmt.Sprintf("%s, partner %s (connected %v), plan %d, owes %d", s.pair.State(), p, connected, s.active.Number, s.pair.Owed())
}

// probeSoon has an address probed that is kept for whoever had it: if nobody is there,
// others may have it.
func (s *server) probeSoon(a netip.Addr) {
	s.w.in(s.w.between(second, 20*second), s.alive(func() {
		l := s.table.Get(keyOf(a))
		if o, held := s.w.holders[a]; l == nil || !l.Kept() || s.unable() || held && o.until > s.w.now {
			return
		}
		after := l.Ended(lease.Released, s.clock())
		s.pair.Changed(l, after, 0)
		s.change(l, after)
	}))
}
