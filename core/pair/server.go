// Package pair decides what one of the two servers of a pair does (RFC 8156): which state it
// is in, what it owes the other, whose a free address is, and how long a promise may be.
// Messages and records come in as values and go out as values; there is no connection here.
package pair

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair/message"
	"yarnpost/core/plan"
)

// Settings are what both servers of a pair agreed on.
type Settings struct {
	Number    int           `json:"number,omitempty"` // how often they were changed: of two, the later ones count
	Side      lease.Side    `json:"side"`
	Name      string        `json:"name"`
	MCLT      time.Duration `json:"lead"`     // maximum client lead time (MCLT)
	Most      time.Duration `json:"most"`     // the longest lead time that the pair ever had
	Split     int           `json:"split"`    // of 100 clients, how many are the primary's to answer; 100: hot standby
	After     time.Duration `json:"after"`    // a client that tries so long is answered by either
	Contact   time.Duration `json:"contact"`  // between two signs of life; three that are missed are one too many
	Patience  time.Duration `json:"patience"` // how long a start waits for the partner
	AutoDown  time.Duration `json:"autoDown"` // after which a partner that is not heard is taken to be down; 0: never
	MaxSkewed time.Duration `json:"maxSkewed"`
}

// Defaults fills in what is not set.
func (s Settings) Defaults() Settings {
	or := func(d *time.Duration, v time.Duration) {
		if *d == 0 {
			*d = v
		}
	}
	or(&s.MCLT, time.Hour)
	or(&s.After, 4*time.Second)
	or(&s.Contact, 2*time.Second)
	or(&s.Patience, 10*time.Second)
	or(&s.MaxSkewed, time.Minute)
	return s
}

// Changed are other settings of the same pair, made from these.
func (s Settings) Changed(to Settings) Settings {
	to.Side, to.Name, to.Most = s.Side, s.Name, s.Wait()
	return to.Defaults()
}

// Wait is for how long the partner may have promised something beyond what this
// server knows: by the lead time that was in force when it did.
func (s Settings) Wait() time.Duration { return max(s.MCLT, s.Most) }

// Record is what a server of a pair keeps on disk of where it stands.
type Record struct {
	State     State      `json:"state"`             // 0: it was never in a pair
	Since     lease.Time `json:"since"`             // of State
	Contact   lease.Time `json:"contact"`           // when the partner was last heard
	Down      lease.Time `json:"down,omitempty"`    // since when the partner is taken to be down
	Partner   State      `json:"partner,omitempty"` // that it last said
	Empty     bool       `json:"empty,omitempty"`   // the table was lost, or never was: the partner is asked for all of it
	Unsure    bool       `json:"unsure,omitempty"`  // the partner was declared down before this server knew what it did
	Wait      lease.Time `json:"wait,omitempty"`    // when this server failed, from which the lead time counts
	Lost      lease.Time `json:"lost,omitempty"`    // when this server's table was lost: what it promised until then, the partner may not know
	Conflicts []Conflict `json:"conflicts,omitempty"`
}

// Conflict is an address that was found to be active for two clients. They are kept by
// address.
type Conflict struct {
	Address netip.Addr `json:"address"`
	Kept    string     `json:"kept"` // whose it stays, hexadecimal key
	Other   string     `json:"other"`
	At      lease.Time `json:"at"`
	Until   lease.Time `json:"until,omitempty"`  // when what the other was told ends; 0: that is not known, or never
	Length  int        `json:"length,omitempty"` // of a delegated prefix; 0: it is an address
	Told    bool       `json:"told,omitempty"`   // the partner knows
}

// key is by what the table knows the address, or the delegated prefix.
func (c *Conflict) key() netip.Prefix {
	if c.Length > 0 {
		return netip.PrefixFrom(c.Address, c.Length)
	}
	return lease.Host(c.Address)
}

const conflictsMost = 1000

// Body is the record as it is kept.
func (r *Record) Body() []byte {
	b, _ := json.Marshal(r) // it has nothing that cannot be
	return b
}

// Shift moves all that is a time along with the host's clock.
func (r *Record) Shift(by time.Duration) {
	for _, at := range []*lease.Time{&r.Since, &r.Contact, &r.Down, &r.Wait, &r.Lost} {
		if *at != 0 {
			*at = at.Add(by)
		}
	}
	for i := range r.Conflicts {
		c := &r.Conflicts[i]
		if c.At = c.At.Add(by); c.Until != 0 {
			c.Until = c.Until.Add(by)
		}
	}
}

// ParseRecord reads what Body gave.
func ParseRecord(b []byte) (r Record, err error) {
	if err := json.Unmarshal(b, &r); err != nil {
		return r, fmt.Errorf("record of the pair: %w", err)
	}
	slices.SortFunc(r.Conflicts, func(a, b Conflict) int { return a.Address.Compare(b.Address) })
	return r, nil
}

// Server is one of the two. It has no lock and no connection: whoever owns the
// table calls it, and carries out what it gives.
type Server struct {
	set    Settings
	table  *lease.Table
	rec    Record
	state  State
	next   *Record // that is on its way to the disk; nil: none
	boot   lease.Time
	now    lease.Time // of the last call
	ticked lease.Time // of the last tick
	link   link
	outbox outbox
	walks  walks

	updated bool // the partner sent all it was asked for
	asked   bool // for updates, on this connection
	down    bool // somebody says that the partner is down
	paused  bool // a person has this server leave all clients to the partner
	unable  bool // it does so by itself: nothing can be recorded here

	// Pending tells keys whose records are not durable yet.
	Pending func(netip.Prefix) bool
	// TheirPlan is the plan that the partner was last known to serve by; nil: this
	// server's own.
	TheirPlan *plan.Plan
	// Off switches rules off, so that a simulation can show what they are for.
	Off [11]bool
	// Sizes are how much is done at a time.
	Sizes Sizes

	out   []effect.List // each for itself: if one cannot be carried out, the others can
	stats Stats
}

// Sizes are how much is done at a time; a simulation draws others.
type Sizes struct {
	Walk     int // records that a walk looks at in one step
	Together int // bindings in one message
	Window   int // messages that are not acknowledged yet (F_MAX_UNACKED_BNDUPD)
}

// usualSizes are those that serve.
var usualSizes = Sizes{Walk: 2000, Together: 32, Window: 16}

// Stats count what a pair did.
type Stats struct {
	Wait                                                             time.Duration // until an update was acknowledged, on average, lately
	Sent, Acknowledged, Rejected, Learned, Merged, Conflicts, Unread uint64
}

// link is the connection to the partner.
type link struct {
	open     bool
	agreed   bool  // CONNECT was answered well
	partner  State // that it said; 0: nothing yet
	starting bool
	resting  bool       // it leaves all clients to this server
	heard    lease.Time // when anything last came
	said     lease.Time // when anything last went
	ahead    int64      // seconds by which its clock is ahead
	measured bool
	number   uint32 // of the last message sent
	refused  string // why it was not agreed
}

// New is a server that starts up. The table holds what is on record, and is of the
// side that the settings say.
func New(set Settings, table *lease.Table, rec Record, now lease.Time) *Server {
	s := &Server{set: set, table: table, rec: rec, state: Startup, boot: now, now: now, Sizes: usualSizes,
		Pending: func(netip.Prefix) bool { return false }}
	s.outbox.init()
	last := rec.Contact
	var some lease.Part
	for w := table.Iterator(0); w.Next(&some, 1000); {
		for l := range some.Leases {
			last = max(last, l.Heard)
			s.owes(l)
		}
	}
	for l := range table.Blocks {
		s.owes(l)
	}
	if rec.State != 0 && rec.Wait == 0 {
		s.rec.Wait = last
	}
	return s
}

// owes takes up a debt that is on record.
func (s *Server) owes(l *lease.Lease) {
	if !l.Owed {
		return
	}
	s.outbox.add(l.Prefix)
	if s.rec.State == PartnerDown { // perhaps of an address that was taken from the partner
		s.outbox.claimed[l.Prefix] = true
	}
}

// Formed begins in the state on record, without a start: the pair has just been
// formed, and this server served until now.
func (s *Server) Formed() { s.state = s.rec.State }

// take gives what is to be done: lists that do not depend on each other, in their
// order.
func (s *Server) take() []effect.List {
	out := s.out
	s.out = nil
	return out
}

// begin begins a list of its own with what is done next.
func (s *Server) begin() { s.out = append(s.out, nil) }

func (s *Server) do(list ...effect.Effect) {
	if len(s.out) == 0 {
		s.begin()
	}
	n := len(s.out) - 1
	s.out[n] = append(s.out[n], list...)
}

// send lets a message go.
func (s *Server) send(m message.Message, now lease.Time) {
	if m.Transaction == 0 {
		s.link.number = s.link.number%message.TransactionMost + 1
		m.Transaction = s.link.number
	}
	m.Sent = message.Stamp(now, now)
	b, err := message.Append(nil, &m)
	if err != nil {
		return // no message that is made here is too long
	}
	s.link.said = now
	s.do(effect.Effect{Do: effect.Send, Body: b})
}

// Settings are what was agreed on.
func (s *Server) Settings() Settings { return s.set }

// Record is where the server stands.
func (s *Server) Record() Record { return s.rec }

// State is the state that is acted on.
func (s *Server) State() State { return s.state }

// Stats are counts since the start.
func (s *Server) Stats() Stats { return s.stats }

// Partner is what the partner last said, on this connection.
func (s *Server) Partner() (state State, connected bool) { return s.link.partner, s.link.agreed }

// Skew is by how many seconds the partner's clock is ahead.
func (s *Server) Skew() (ahead int64, known bool) { return s.link.ahead, s.link.measured }

// Refused is why the partner does not agree to be one of a pair with this server,
// or "".
func (s *Server) Refused() string { return s.link.refused }

// Heard is when the partner was last heard.
func (s *Server) Heard() lease.Time { return max(s.link.heard, s.rec.Contact) }

// Owed is how many updates the partner has not acknowledged.
func (s *Server) Owed() int { return s.outbox.count() }

// Serving says whom this server answers (answer.Pair).
func (s *Server) Serving() answer.Serving {
	if s.rests() && s.link.agreed && s.link.partner == Normal && !s.link.resting {
		if s.paused {
			return min(s.state.Serving(), answer.Resting)
		}
		return min(s.state.Serving(), answer.Holders) // a record is good for what is left of it
	}
	if s.rec.Unsure {
		return min(s.state.Serving(), answer.Renewals)
	}
	return s.state.Serving()
}

// Responsible reports whether a client that speaks to both is this server's to
// answer, which tries for some time already (RFC 3074 section 4).
func (s *Server) Responsible(c lease.Client, tried time.Duration) bool {
	if s.state != Normal || !s.link.agreed || s.link.resting || s.link.starting || s.link.partner != Normal {
		return true
	}
	return s.homeOf(c) == s.set.Side || tried >= s.set.After
}

// homeOf is which server answers a client while all is well.
func (s *Server) homeOf(c lease.Client) lease.Side {
	if int(Bucket(c))*100 < s.set.Split*256 {
		return lease.Primary
	}
	return lease.Secondary
}

// Promise is for how long a client gets an address (answer.Pair).
func (s *Server) Promise(now lease.Time, before *lease.Lease, wanted time.Duration) time.Duration {
	s.now = now
	if s.Off[1] {
		return wanted
	}
	return Promise(now, before, wanted, s.set.MCLT)
}

// Gives reports whether a free address or prefix is this server's to give to anybody: it is
// of its own share (rule 4), and the partner does not think it somebody's by
// reservation (answer.Pair).
func (s *Server) Gives(k netip.Prefix, l *lease.Lease) bool {
	if s.Off[4] {
		return l == nil || l.Over()
	}
	return s.table.Gives(k, l) && (s.samePlan() || s.TheirPlan.ReservationOf(k) == nil)
}

func (s *Server) samePlan() bool { return s.TheirPlan == nil || s.TheirPlan == s.table.Plan() }

// Returns reports whether the last client of an address that nobody holds may have
// it back: while neither server gave it up for others (rule 5; answer.Pair).
func (s *Server) Returns(l *lease.Lease) bool { return l.Limbo() || s.Gives(l.Prefix, l) }

// Reserved reports whether an address may be given to whom it is reserved for: both
// plans say so, and nobody else may still hold it (answer.Pair).
func (s *Server) Reserved(r *plan.Reservation, l *lease.Lease) bool {
	if s.Gives(r.Key(), l) {
		return true
	}
	if l != nil && (l.Limbo() || !l.Over()) {
		return false
	}
	if s.samePlan() {
		return true
	}
	theirs := s.TheirPlan.ReservationOf(r.Key())
	return theirs != nil && theirs.IAID == r.IAID && theirs.Hardware == r.Hardware && theirs.Identifier == r.Identifier &&
		theirs.Circuit == r.Circuit
}

// Forgetful reports whether what a client was told again is not told the partner
// (answer.Pair).
func (s *Server) Forgetful() bool { return s.Off[9] }

// Changed marks what becomes of a record as this server's change (answer.Pair).
func (s *Server) Changed(before, after *lease.Lease, wanted time.Duration) {
	s.mark(before, after)
	switch {
	case after.Status == lease.Active:
		if wanted > 0 {
			after.By = s.set.Side
		}
		if before == nil || before.Status != lease.Active {
			after.Acked = 0
		}
		desired := Desired(after.Heard, wanted)
		if s.Off[2] {
			desired = after.Heard
		}
		after.Told = max(after.Told, lease.MomentOf(desired))
	case after.Status == lease.Free: // whose it is has still to be said
		after.Status = lease.Released
	}
	s.settle(after)
}

// mark counts a change of this server's.
func (s *Server) mark(before, after *lease.Lease) {
	after.Version, after.Told, after.Acked = lease.VersionVector{}, 0, 0
	if before == nil && after.Prefix.Addr().Is6() && !s.Off[10] { // there may have been a record that went; the partner may have it still
		after.Version = lease.VersionVector{}.Since(s.set.Side, s.now)
	}
	if before != nil {
		after.Version, after.Told, after.Acked = before.Version, before.Told, before.Acked
	}
	after.Version = after.Version.Next(s.set.Side)
	after.Owed = true
}

// advance looks whether another state follows, and if so has it recorded; it is
// entered once that is durable (rule 6, RFC 8156 section 8.2).
func (s *Server) advance(now lease.Time) {
	for s.next == nil {
		in := Inputs{Side: s.set.Side, Before: s.rec.State, Connected: s.link.agreed && s.link.partner != 0, Partner: s.link.partner,
			Starting: s.link.starting, Updated: s.updated, WaitOver: now >= s.rec.Wait.Add(s.set.Wait()),
			BootOver: now >= s.boot.Add(s.set.Patience), Down: s.down, Claims: len(s.outbox.claimed) > 0}
		if s.Off[7] {
			in.Updated, in.WaitOver = true, true
		}
		next := Next(s.state, in)
		if next == s.state {
			return
		}
		rec := s.rec
		rec.State, rec.Since, rec.Partner, rec.Contact = next, now, s.link.partner, s.Heard()
		switch next {
		case PartnerDown:
			if s.rec.State != PartnerDown || s.rec.Down == 0 {
				rec.Down = now
			}
			rec.Unsure = rec.Unsure || s.state == Recover || s.state == RecoverWait
		case Normal:
			rec.Down, rec.Wait, rec.Unsure = 0, 0, false
		case RecoverWait:
			if rec.Empty {
				rec.Lost = rec.Wait
			}
			rec.Empty = false
		}
		s.next = &rec
		if s.Off[6] {
			s.enter(now)
			continue
		}
		s.begin()
		s.do(effect.Effect{Do: effect.Save, Body: rec.Body()}, effect.Effect{Do: effect.Await}, effect.Effect{Do: effect.Enter})
		s.begin()
	}
}

// latest is the newest record, which may be on its way to the disk: whatever is
// recorded behind it must not take it back.
func (s *Server) latest() Record {
	rec := s.rec
	if s.next != nil {
		rec = *s.next
		rec.Conflicts = s.rec.Conflicts
	}
	return rec
}

// Entered says that the state that was on its way is on record.
func (s *Server) Entered(now lease.Time) []effect.List {
	if s.next != nil {
		s.enter(now)
		s.advance(now)
		s.pump(now)
	}
	return s.take()
}

// Failed says that it could not be recorded.
func (s *Server) Failed() { s.next = nil }

func (s *Server) enter(now lease.Time) {
	was, conflicts := s.state, s.rec.Conflicts // some may have been found while it was on its way
	s.rec, s.next = *s.next, nil
	s.rec.Conflicts = conflicts
	s.state = s.rec.State
	if s.state != PartnerDown {
		s.table.Claim(false)
	}
	switch s.state {
	case Recover, PotentialConflict:
		s.asked, s.updated = false, false
	case PartnerDown:
		s.down = false
		s.walks.claim.again()
	case Normal:
		s.walks.settle.again()
		s.outbox.retry()
	}
	if was != s.state {
		s.sayState(now)
	}
	s.ask(now)
}

// ask asks the partner for its updates, where the state wants that.
func (s *Server) ask(now lease.Time) {
	if s.asked || !s.link.agreed {
		return
	}
	m := message.Message{Type: message.UpdReq}
	switch {
	case s.state == Recover && s.rec.Empty:
		m.Type = message.UpdReqAll
	case s.state == Recover:
	case s.state == PotentialConflict && (s.set.Side == lease.Primary || s.link.partner == ConflictDone):
	default:
		return
	}
	s.asked, s.updated = true, false
	s.send(m, now)
}

// Down says that the partner is down: a person does, or time.
func (s *Server) Down(now lease.Time) ([]effect.List, error) {
	switch {
	case s.link.agreed:
		return nil, fmt.Errorf("the partner can be heard; pause it instead")
	case s.rec.Empty:
		return nil, fmt.Errorf("this server has not got the lease table yet, so it knows nobody's lease")
	case s.state != CommunicationsInterrupted && s.state != ResolutionInterrupted && s.state != ConflictDone &&
		s.state != Recover && s.state != RecoverWait && s.state != RecoverDone:
		return nil, fmt.Errorf("this server is in %s", s.state)
	}
	s.down = true
	s.advance(now)
	return s.take(), nil
}

// Left says that the partner is no partner any more: this server serves alone, and takes
// the partner's addresses over as if it were down, since what it promised last may not be
// known here. It tells until when, at most, addresses are kept because of that.
func (s *Server) Left(now lease.Time) (lists []effect.List, until lease.Time) {
	s.now = now
	s.link = link{number: s.link.number, ahead: s.link.ahead}
	s.outbox.cut()
	s.walks.all, s.next = nil, nil
	rec := s.rec
	if rec.State != PartnerDown || rec.Down == 0 {
		rec.Down = now
	}
	rec.State, rec.Since, rec.Unsure, rec.Empty = PartnerDown, now, rec.Unsure || s.state == Recover || s.state == RecoverWait, false
	s.next = &rec
	s.begin()
	s.do(effect.Effect{Do: effect.Save, Body: rec.Body()}, effect.Effect{Do: effect.Await}, effect.Effect{Do: effect.Enter})
	s.begin()
	until = Others(rec.Down, nil, s.set.Wait())
	var some lease.Part
	for w, more := s.table.Iterator(0), true; more; {
		more = w.Next(&some, 1000)
		for l := range some.Leases {
			if end := Others(rec.Down, l, s.set.Wait()); end != lease.Never {
				until = max(until, end)
			}
		}
	}
	return s.take(), until
}

// Pause makes the partner answer all clients, or shares them again.
func (s *Server) Pause(on bool, now lease.Time) []effect.List {
	return s.rest(now, func() { s.paused = on })
}

// Unable says whether nothing can be recorded here: the partner answers all clients as
// long as that lasts. If it is unable, too, both do what they can.
func (s *Server) Unable(on bool, now lease.Time) []effect.List {
	return s.rest(now, func() { s.unable = on })
}

func (s *Server) rest(now lease.Time, change func()) []effect.List {
	was := s.rests()
	if change(); s.rests() != was {
		s.sayState(now)
	}
	return s.take()
}

func (s *Server) rests() bool { return s.paused || s.unable }

// Paused reports whether this server leaves all clients to the partner.
func (s *Server) Paused() bool { return s.paused }

// Use puts other settings in force; the partner does the same.
func (s *Server) Use(set Settings) { s.set = s.set.Changed(set) }

// Resting reports whether the partner leaves all clients to this server.
func (s *Server) Resting() bool { return s.link.resting }
