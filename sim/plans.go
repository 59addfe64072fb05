package main

import (
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
)

// revision is one revision of the plan, with the one before it.
type revision struct {
	pair.Head
	parent  *revision
	plan    *plan.Plan
	changes []plan.Change // since the one before
}

func (r *revision) String() string { return fmt.Sprintf("%d/%04x", r.Number, r.Hash&0xffff) }

// follows reports whether a revision is this one, or one before it.
func (r *revision) follows(o *revision) bool {
	for r.Number > o.Number {
		r = r.parent
	}
	return r == o
}

// scopesOf are the scopes, by name: one that is nearly full, one with room, one that is wide; of
// IPv6 one whose pool nobody counts, one whose pool fills up, and one that delegates prefixes.
var scopesOf = []struct {
	name, subnet, pool string
	clients            int
	length             int // of prefixes that it delegates
}{
	{"cameras", "10.40.36.0/25", "10.40.36.10-10.40.36.49", 30, 0},
	{"looms", "10.40.8.0/23", "10.40.8.20-10.40.9.219", 90, 0},
	{"visitors", "10.40.64.0/20", "10.40.64.10-10.40.79.249", 60, 0},
	{"visitors6", "2001:db8:40:64::/64", "2001:db8:40:64::/64", 16, 0},
	{"weavers6", "2001:db8:40:8::/64", "2001:db8:40:8::100/123", 24, 0},
	{"workshops", "2001:db8:40:60::/64", "2001:db8:40:8000::/49", 26, 56},
}

func firstPlan() *revision {
	d := plan.New().Draft()
	for _, sc := range scopesOf {
		pool, err := addr.ParseRange(sc.pool)
		if err != nil {
			panic(err)
		}
		subnet := netip.MustParsePrefix(sc.subnet)
		s := plan.Scope{Name: sc.name, Subnet: subnet, Mode: plan.Serving, Authoritative: subnet.Addr().Is4(),
			Settings: plan.Settings{Lease: plan.Duration(20 * time.Minute)}}
		switch {
		case sc.length > 0:
			s.PrefixPools = []plan.PrefixPool{{Prefix: netip.MustParsePrefix(sc.pool), Length: sc.length}}
		default:
			s.Pools = []addr.Range{pool}
		}
		if subnet.Addr().Is6() { // of which a client is told the valid lifetime
			s.Valid = s.Lease
		} else {
			s.Options = map[option.Key]string{option.Std(option.Router): subnet.Addr().Next().String()}
		}
		s.Limits.NewPerMinute = -1
		if err := d.PlaceScope(&s, "", nil); err != nil {
			panic(err)
		}
		if _, err := d.PutScope(s); err != nil {
			panic(err)
		}
	}
	p, changes := d.Finish()
	return &revision{Head: pair.Head{Number: p.Revision, Hash: pair.Chain(0, nil)}, plan: p, changes: changes}
}

func (s *server) head() *revision { return s.disk.line[len(s.disk.line)-1] }

// planMessage is what two servers say of their plans: the newest on disk, and the
// one that they serve by.
type planMessage struct {
	head, active *revision
	take         bool // the other is to take it
}

func (s *server) sayPlan(take bool) {
	s.w.wires.sendPlan(s, planMessage{s.head(), s.active, take})
}

// hearPlan takes in what the partner says of its plan.
func (s *server) hearPlan(m planMessage) {
	s.theirs = m.active
	s.pair.TheirPlan = m.active.plan
	known := func(number int64) (uint64, bool) {
		for _, r := range s.disk.line {
			if r.Number == number {
				return r.Hash, true
			}
		}
		return 0, false
	}
	switch pair.Compare(s.head().Head, m.head.Head, known, m.head.follows(s.head())) {
	case pair.Together:
		s.parted = false
		if s.active != s.head() {
			s.activate(s.head())
			s.sayPlan(false)
		}
	case pair.Ahead:
		s.parted = false
		s.sayPlan(true)
	case pair.Behind:
		s.parted = false
		if !m.take {
			s.sayPlan(false)
			return
		}
		if s.broken {
			return
		}
		s.add(entry{line: m.head.line(), theirs: s.theirs, then: func() {
			s.activate(s.head())
			s.sayPlan(false)
		}})
	case pair.Parted:
		if !s.parted {
			s.w.note("%s: the plans have parted: %s here, %s there", s.name, s.head(), m.head)
		}
		s.parted = true
		if s.active != s.head() {
			s.activate(s.head())
		}
	}
}

// line is a revision with all before it.
func (r *revision) line() (out []*revision) {
	for ; r != nil; r = r.parent {
		out = append([]*revision{r}, out...)
	}
	return out
}

// activate serves by a revision.
func (s *server) activate(r *revision) {
	if s.active == r || s.turn != nil {
		return // what is on its way goes first; it is said again that there is more
	}
	u := s.table.NewRebuild(r.plan, plan.Between(s.active.plan, r.plan))
	s.turn = u
	u.Begin()
	phases := []func(n int) (more bool){u.Shape, u.Step, func(int) bool { u.Sort(); return false }, u.Queue}
	var step func()
	step = func() {
		if len(phases) > 0 {
			if !phases[0](s.w.sizes.turn) {
				phases = phases[1:]
			}
			s.w.in(s.w.between(0, 40), s.alive(step))
			return
		}
		u.End()
		for u.Rest(s.w.sizes.turn) {
		}
		s.w.note("%s serves by plan %s", s.name, r)
		s.active, s.turn = r, nil
		s.pair.TheirPlan = s.theirs.plan
		s.sayPlan(false)
	}
	step()
}

// changePlan has an administrator change the plan at a server: the primary while both
// are together, whoever is in partner-down, or the primary alone if told so.
func (s *server) changePlan() { s.edit(s.w.edit, s.w.random.IntN(len(scopesOf))) }

// widen has the pool of a scope changed.
func (s *server) widen(scope int) { s.edit(s.w.otherPool, scope) }

func (s *server) edit(edit func(*plan.Draft, *plan.View) error, scope int) {
	if !s.up || s.broken || s.parted || s.head() != s.active {
		return
	}
	_, connected := s.pair.Partner()
	together := s.side == lease.Primary && s.pair.State() == pair.Normal && connected && s.theirs == s.head()
	alone := s.pair.State() == pair.PartnerDown || s.side == lease.Primary && s.pair.State() == pair.CommunicationsInterrupted && s.w.chance(4)
	if !together && !alone {
		return
	}
	d := s.active.plan.Draft()
	v := s.active.plan.Scopes()[scope]
	if err := edit(d, v); err != nil {
		return // it cannot hold together
	}
	p, changes := d.Finish()
	if len(changes) == 0 {
		return
	}
	var body []byte
	for _, c := range changes {
		body = fmt.Append(body, c.Kind, c.ID, c.After)
	}
	r := &revision{Head: pair.Head{Number: p.Revision, Hash: pair.Chain(s.head().Hash, fmt.Append(body, s.w.now))}, parent: s.head(), plan: p,
		changes: changes}
	s.w.counts.plans++
	s.w.note("%s: plan %s: %s %v", s.name, r, v.Name, changes[0].After)
	s.add(entry{line: r.line(), theirs: s.theirs, then: func() {
		if alone {
			s.activate(r)
		}
		s.sayPlan(true)
	}})
}

// edit makes a change: a reservation that comes, moves or goes, or another pool.
func (w *World) edit(d *plan.Draft, v *plan.View) error {
	pool := poolOf(v)
	list := d.Plan().Reservations(v.ID)
	if len(list) > 0 && w.chance(3) {
		return d.RemoveReservation(list[w.random.IntN(len(list))].Name)
	}
	if w.chance(4) {
		return w.otherPool(d, v)
	}
	k, ok := addr.Plus(keyOf(pool.From), w.random.Uint64N(min(pool.Size(), 60)))
	if !ok {
		return fmt.Errorf("no such address")
	}
	r := plan.Reservation{Name: fmt.Sprintf("%s-%d", v.Name, w.random.IntN(12)), Scope: v.ID, Address: k.Addr(),
		Hardware: w.clients[w.random.IntN(len(w.clients))].hardware}
	if !k.IsSingleIP() {
		r.Length = k.Bits()
	}
	for _, old := range list {
		if old.Name == r.Name {
			r.ID = old.ID
		}
	}
	if len(list) > 5 && r.ID == 0 {
		return fmt.Errorf("there are enough")
	}
	_, err := d.PutReservation(r)
	return err
}

// poolOf is the pool that a scope has at first.
func poolOf(v *plan.View) (pool addr.Range) {
	for _, sc := range scopesOf {
		if sc.name == v.Name {
			pool, _ = addr.ParseRange(sc.pool)
		}
	}
	return pool
}

// otherPool makes a scope's pool a little larger or smaller.
func (w *World) otherPool(d *plan.Draft, v *plan.View) error {
	pool, s := poolOf(v), v.Scope
	n := w.random.Uint64N(4)
	if v.Family() == option.V6 && len(v.Pools) == 0 { // whole prefixes alone are delegated from
		return fmt.Errorf("it stays as it is")
	}
	first, _ := addr.Plus(lease.Host(pool.From), n)
	s.Pools = []addr.Range{{From: first.Addr(), To: pool.To}}
	_, err := d.PutScope(s)
	return err
}
