// Package rehearsal plays recorded demand against a plan: who came
// when and stayed until when goes in, the code that serves decides each message in
// virtual time, and out goes how full the pools would have been, who would have been
// refused, and how many messages there would have been.
package rehearsal

import (
	"cmp"
	"container/heap"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// Stay is one client that came and stayed.
type Stay struct {
	Client     lease.Client
	Hardware   addr.Hardware
	Hostname   string
	Vendor     string
	Circuit    string
	Relay      netip.Addr   // or not valid
	Key        netip.Prefix // address, or delegated prefix, that it had
	Begin, End lease.Time
	Released   bool // it said that it left
}

// Gone says that one server of a pair dies at the beginning: until the other may
// take its addresses, half of what was free is out of reach, and no promise goes beyond
// the lead time.
type Gone struct {
	MCLT time.Duration
	Wait time.Duration // until the survivor may take the other's addresses
}

// Input is what is rehearsed.
type Input struct {
	Plan       *plan.Plan
	Stays      []Stay // of the clients
	From, To   lease.Time
	Gone       *Gone
	Progress   func(done float64) // called now and then; nil: never
	Cancelled  func() bool        // nil: never
	ScopesOnly map[plan.ID]bool   // whose use is told; nil: of all
}

// Refused is a client that would have been refused.
type Refused struct {
	Hardware addr.Hardware
	Hostname string
	Scope    string // of its link, by the address that it had
	At       lease.Time
	Why      reason.Reason
	Waited   time.Duration // until it was served; negative: it never was
}

// Use is how full a scope would have been: its addresses, or the prefixes that it delegates.
type Use struct {
	Scope     string
	Delegated bool
	Size      uint64
	Peak      uint64
	PeakAt    lease.Time
	FullAt    lease.Time // when it was first full; 0: never
	Hours     []uint64   // the most in each hour
}

// Output is what would have come of it.
type Output struct {
	Clients      int // that came
	Decisions    int
	Messages     int
	BusiestHour  float64 // messages a second
	Renewals     float64 // a second, on the average
	Refused      []Refused
	RefusedCount int // clients that waited, those who were served later among them
	Never        int // clients that never got an address
	FirstRefused lease.Time
	Uses         []Use
}

// refusedMost is how many refused clients are named.
const refusedMost = 200

// player is one client at play.
type player struct {
	Stay
	has     netip.Prefix  // the zero prefix: nothing
	granted time.Duration // twice the time after which it renews
	tries   int
	since   lease.Time // when it first went without; 0: it did not
	refused int        // its number among the refused, 1 for the first; 0: none
}

// event is a client's turn.
type event struct {
	at  lease.Time
	who *player
}

type events []event

func (e events) Len() int           { return len(e) }
func (e events) Less(i, j int) bool { return e[i].at < e[j].at }
func (e events) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)        { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}

// stage is a rehearsal at work.
type stage struct {
	Input
	out      Output
	table    *lease.Table
	due      lease.Part
	decision *answer.Decision
	queue    events
	now      lease.Time
	hours    []int // messages
	uses     map[usesOf]*Use
	theirs   map[netip.Addr]bool // with a server gone: which free addresses are out of reach
	renewals int
}

// usesOf is what of a scope is counted by itself.
type usesOf struct {
	scope     plan.ID
	delegated bool
}

// The rehearsing server's names.
var server = netip.AddrFrom4([4]byte{192, 0, 2, 1})

const serverDUID = "\x00\x03\x00\x01\x02\x00\x00\x00\x00\x01"

// Play rehearses.
func Play(in Input) Output {
	s := &stage{Input: in, table: lease.New(in.Plan, in.From), now: in.From, uses: map[usesOf]*Use{}, hours: make([]int,
		max(int(in.To.Sub(in.From)/time.Hour)+1, 1))}
	for _, v := range in.Plan.Scopes() {
		if in.ScopesOnly == nil || in.ScopesOnly[v.ID] {
			s.uses[usesOf{v.ID, false}] = &Use{Scope: v.Name, Size: v.Size, Hours: make([]uint64, len(s.hours))}
			if n := prefixes(v); n > 0 {
				s.uses[usesOf{v.ID, true}] = &Use{Scope: v.Name, Delegated: true, Size: n, Hours: make([]uint64, len(s.hours))}
			}
		}
	}
	for i := range in.Stays {
		p := &player{Stay: in.Stays[i]}
		at := max(p.Begin, in.From)
		if p.Begin <= in.From {
			at = s.seat(p, i)
		}
		s.queue = append(s.queue, event{at, p})
	}
	if s.Gone != nil {
		s.theirs = s.halve()
	}
	heap.Init(&s.queue)
	s.run()
	return s.result()
}

// prefixes is how many prefixes a scope delegates.
func prefixes(v *plan.View) (n uint64) {
	for i := range v.Parts {
		if p := &v.Parts[i]; p.Length > 0 {
			n += min(p.Size(), vast)
		}
	}
	return n
}

// vast is from how many on nobody counts what is left.
const vast = 1 << 40

// seat gives a client that was there before the beginning the address that it had,
// if the plan still has it, and says when it renews. The renewals of many are spread.
func (s *stage) seat(p *player, n int) lease.Time {
	v := s.Plan.ScopeAt(p.Key.Addr())
	r := s.Plan.ReservationOf(p.Key)
	if v == nil || v.Mode == plan.Held || s.table.Get(p.Key) != nil || r == nil && !v.Gives(p.Key) {
		return s.From
	}
	s.out.Clients++
	p.has, p.granted, p.tries = p.Key, v.LeaseFor(r), 1
	valid := p.granted
	if v.Family() == option.V6 {
		valid = v.ValidFor(r, valid)
	}
	s.table.Put(&lease.Lease{Prefix: p.has, Status: lease.Active, Reserved: r != nil, Client: p.Client,
		Hardware: p.Hardware,
		Hostname: p.Hostname, Vendor: p.Vendor, Circuit: p.Circuit, Relay: p.Relay, Since: s.From, Changed: s.From, Heard: s.From,
		Granted: valid,
		Expires: s.From.Add(valid)})
	s.note(p.has)
	return min(s.From.Add(p.granted/2*time.Duration(n%16+1)/16), max(p.End, s.From))
}

const ticks = 4096 // turns between two looks at the progress

func (s *stage) run() {
	span := float64(s.To - s.From)
	for n := 0; len(s.queue) > 0; n++ {
		e := heap.Pop(&s.queue).(event)
		if e.at > s.To {
			return
		}
		if n%ticks == 0 {
			if s.Cancelled != nil && s.Cancelled() {
				return
			}
			if s.Progress != nil && span > 0 {
				s.Progress(float64(e.at-s.From) / span)
			}
		}
		s.advance(e.at)
		s.turn(e.who)
	}
	s.advance(s.To)
}

// advance moves the time on: leases end, offers lapse, hours are noted.
func (s *stage) advance(to lease.Time) {
	if to <= s.now {
		return
	}
	s.now = to
	for more := true; more; {
		more = s.table.Due(&s.due, s.now, 1024)
		for l := range s.due.Leases {
			s.table.Put(l.Ended(lease.Expired, l.Expires))
		}
	}
	for s.table.Lapse(s.now) {
	}
}

func (s *stage) hour() int {
	return min(max(int(s.now.Sub(s.From)/time.Hour), 0), len(s.hours)-1)
}

// note notes how full the scope of an address or a prefix is.
func (s *stage) note(k netip.Prefix) {
	v := s.table.Plan().ScopeAt(k.Addr())
	if v == nil {
		return
	}
	u, n := s.uses[usesOf{v.ID, !k.IsSingleIP()}], s.table.Count(v.ID)
	if u == nil || u.Size == 0 {
		return
	}
	if u.Delegated {
		n = s.table.CountDelegated(v.ID)
	}
	used := u.Size - min(u.Size, n.Headroom)
	if u.Size >= vast {
		used = uint64(n.Active)
	}
	h := s.hour()
	u.Hours[h] = max(u.Hours[h], used)
	if used > u.Peak {
		u.Peak, u.PeakAt = used, s.now
	}
	if used >= u.Size && u.FullAt == 0 {
		u.FullAt = s.now
	}
}

// Times of clients.
const (
	retryFirst = 8 * time.Second
	retryMost  = 5 * time.Minute
)

// turn is what a client does next.
func (s *stage) turn(p *player) {
	if s.now >= p.End {
		if p.has.IsValid() && p.Released {
			s.release(p)
		}
		return
	}
	if p.has.IsValid() && s.renew(p) || !p.has.IsValid() && s.get(p) {
		next := s.now.Add(max(p.granted/2, time.Second))
		if next >= p.End {
			next = p.End
			if !p.Released {
				return // it leaves and says nothing
			}
		}
		heap.Push(&s.queue, event{next, p})
		return
	}
	p.tries++
	wait := min(retryFirst<<min(p.tries, 10), retryMost)
	heap.Push(&s.queue, event{s.now.Add(wait), p})
}

// get does the exchange of four messages.
func (s *stage) get(p *player) bool {
	s.out.Clients += map[bool]int{true: 1}[p.tries == 0 && p.since == 0]
	d := s.decide(p, request.Solicit, p.Key)
	if d.Outcome != answer.Offered || d.Offer == nil {
		s.without(p, d.Why)
		return false
	}
	return s.taken(p, s.decide(p, request.Select, d.Key))
}

func (s *stage) renew(p *player) bool {
	s.renewals++
	if d := s.decide(p, request.Rebind, p.has); d.Outcome == answer.Acknowledged {
		return s.taken(p, d)
	}
	p.has = netip.Prefix{}
	return s.get(p)
}

func (s *stage) release(p *player) {
	s.decide(p, request.Release, p.has)
	p.has = netip.Prefix{}
}

func (s *stage) taken(p *player, d *answer.Answer) bool {
	if d.Outcome != answer.Acknowledged {
		s.without(p, d.Why)
		return false
	}
	p.has, p.granted = d.Key, d.Time
	if v := d.Scope; v != nil && v.Family() == option.V6 { // it renews at half of what is preferred
		p.granted = min(p.granted, v.LeaseFor(s.Plan.ReservationOf(d.Key)))
	}
	if p.refused > 0 && p.refused <= len(s.out.Refused) && s.out.Refused[p.refused-1].Waited < 0 {
		s.out.Refused[p.refused-1].Waited = s.now.Sub(p.since)
	}
	if p.since != 0 {
		s.out.Never--
		p.since = 0
	}
	p.tries = 0
	s.note(p.has)
	return true
}

// without notes that a client goes without, for a reason.
func (s *stage) without(p *player, why reason.Reason) {
	if p.since != 0 {
		return
	}
	p.since = s.now
	s.out.Never++
	if p.refused > 0 {
		return
	}
	s.out.RefusedCount++
	if s.out.FirstRefused == 0 {
		s.out.FirstRefused = s.now
	}
	if len(s.out.Refused) < refusedMost {
		scope := ""
		if v := s.table.Plan().ScopeAt(p.Key.Addr()); v != nil {
			scope = v.Name
		} else if v := s.decision.First().Scope; v != nil { // what it had is in no scope with the change
			scope = v.Name
		}
		s.out.Refused = append(s.out.Refused, Refused{p.Hardware, p.Hostname, scope, s.now, why, -1})
		p.refused = len(s.out.Refused)
	} else {
		p.refused = refusedMost + 1
	}
}

// decide has the code that serves decide what a client asks, with its usual options, and
// does what it says.
func (s *stage) decide(p *player, k request.Kind, about netip.Prefix) *answer.Answer {
	draft := answer.DraftOf(&lease.Lease{Prefix: about, Client: p.Client, Hardware: p.Hardware, Hostname: p.Hostname, Vendor: p.Vendor})
	draft.Kind, draft.Address, draft.ServerDUID = k, about.Addr(), []byte(serverDUID)
	path := request.Path{Server: server}
	if k == request.Select || k == request.Release {
		draft.Server = server
	}
	if p.Relay.IsValid() {
		draft.Agent = request.Agent{Relay: p.Relay, Link: p.Key.Addr(), Circuit: []byte(p.Circuit)}
	} else {
		path.Interface, path.Prefixes = "rehearsal", []netip.Prefix{s.onLink(p.Key)}
	}
	w := answer.World{Table: s.table, Now: s.now, Ours: func(a netip.Addr) bool { return a == server }, DUID: serverDUID, Writable: true}
	if s.Gone != nil && s.now < s.From.Add(s.Gone.Wait) {
		w.Pair = survivor{s.Gone.MCLT, s.theirs}
	}
	s.decision = answer.Decide(answer.Hypothetical(draft, path), w, s.decision)
	d := s.decision
	s.out.Decisions++
	s.hours[s.hour()]++
	s.out.Messages++
	if d.Reply != nil {
		s.hours[s.hour()]++
		s.out.Messages++
	}
	d.Effects.CarryOut(&carrier{stage: s})
	return d.First()
}

// onLink is an address of the link of whoever had an address or a prefix.
func (s *stage) onLink(k netip.Prefix) netip.Prefix {
	if v := s.Plan.ScopeAt(k.Addr()); v != nil && !k.IsSingleIP() {
		return v.Subnet
	}
	return k
}

func (s *stage) result() Output {
	most := 0
	for _, n := range s.hours {
		most = max(most, n)
	}
	s.out.BusiestHour = float64(most) / 3600
	if span := s.To.Sub(s.From).Seconds(); span > 0 {
		s.out.Renewals = float64(s.renewals) / span
	}
	for _, u := range s.uses {
		s.out.Uses = append(s.out.Uses, *u)
	}
	slices.SortFunc(s.out.Uses, func(a, b Use) int { return cmp.Or(cmp.Compare(a.Scope, b.Scope), cmp.Compare(a.Size, b.Size)) })
	return s.out
}

// survivor is what a server may do whose partner just died: half of what was free is the
// other's, and nothing is promised beyond the lead time.
type survivor struct {
	lead   time.Duration
	theirs map[netip.Addr]bool
}

// theirsMost bounds how many free addresses of a scope are looked at one by one; of what
// lies behind them every other pair of addresses is the other's.
const theirsMost = 1 << 16

// halve says which of the addresses that are free now are the other server's to give:
// every other one.
func (s *stage) halve() map[netip.Addr]bool {
	out := map[netip.Addr]bool{}
	for _, v := range s.Plan.Scopes() {
		free := 0
		if v.Family() == option.V6 { // of which each has its half for good
			continue
		}
		for _, r := range v.Ranges {
			for a := r.From; free < theirsMost && a.IsValid() && r.Contains(a); a = a.Next() {
				if s.table.At(a) == nil && s.Plan.ReservationAt(a) == nil {
					out[a] = free%2 == 1
					free++
				}
			}
		}
	}
	return out
}

func (survivor) Forgetful() bool                               { return false }
func (survivor) Serving() answer.Serving                       { return answer.Everybody }
func (survivor) Responsible(lease.Client, time.Duration) bool  { return true }
func (survivor) Returns(*lease.Lease) bool                     { return true }
func (survivor) Reserved(*plan.Reservation, *lease.Lease) bool { return true }
func (survivor) Changed(_, _ *lease.Lease, _ time.Duration)    {}
func (v survivor) Gives(k netip.Prefix, _ *lease.Lease) bool {
	a := k.Addr()
	if a.Is6() {
		return lease.GivesFor(k) == lease.Primary
	}
	if theirs, known := v.theirs[a]; known {
		return !theirs
	}
	b := a.AsSlice()
	return b[len(b)-1]&2 == 0
}
func (v survivor) Promise(_ lease.Time, _ *lease.Lease, wanted time.Duration) time.Duration {
	return min(wanted, v.lead)
}

// carrier is the world in which effects are carried out on a stage: everything is durable at
// once.
type carrier struct {
	effect.Bystander
	stage *stage
}

// Forget implements effect.World.
func (w *carrier) Forget(k netip.Prefix) { w.stage.table.DropOffer(k) }

// Offer implements effect.World.
func (w *carrier) Offer(o *lease.Offer) { w.stage.table.PutOffer(*o) }

// Record implements effect.World.
func (w *carrier) Record(changes []lease.Change) bool {
	for _, c := range changes {
		if c.After.Kept() { // who gave it up does leave it, so a probe meets silence
			c.After = c.After.Ended(lease.Released, w.stage.now)
		}
		w.stage.table.Put(c.After)
	}
	return true
}

// Await implements effect.World.
func (w *carrier) Await(_ netip.Prefix, rest effect.List) { rest.CarryOut(w) }
