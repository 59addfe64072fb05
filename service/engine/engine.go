// Package engine serves: it lets one request at a time at the lease table, carries out what was
// decided, hands what must be durable to the journal, and lets a reply go when that says so.
package engine

import (
	"crypto/rand"
	"errors"
	"log/slog"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
	"yarnpost/service/journal"
	"yarnpost/service/observe"
	"yarnpost/service/probe"
	"yarnpost/service/wire"
)

// Recorder makes entries durable, in the order in which they were added.
type Recorder interface {
	// Add queues entries that belong together and reports whether they were
	// taken.
	Add(...journal.Entry) bool
	// Pending reports whether a key has a record that is not yet durable.
	Pending(netip.Prefix) bool
	// Down is why nothing can be recorded now, or nil.
	Down() error
	Snapshot() (journal.Stats, int)
	Forget([]uint64)
}

// Clock tells the service's time.
type Clock interface{ Now() time.Time }

// Engine carries out decisions: it lets one request at a time at the lease
// table, hands what must be durable to the recorder, and lets the reply go when
// that says so.
type Engine struct {
	log     *slog.Logger
	clock   Clock
	events  *Events
	metrics *Metrics
	send    func([]wire.Reply)
	journal Recorder                            // set once before the first request
	own     atomic.Pointer[map[netip.Addr]bool] // the host's addresses
	theirs  atomic.Pointer[partnersAddresses]
	faults  atomic.Int64 // of the program, caught

	mu       sync.Mutex // orders decisions, plan changes and undoing
	table    *lease.Table
	due      lease.Part       // of end; its memory is used again
	decision *answer.Decision // of handle; its memory is used again
	pairing  *Pairing         // nil: this server is alone
	former   former
	sets     givenSets
	seen     *observe.Watcher
	carrier  carrier // of the decision that is carried out
	probes   *probe.Probes
	claims   claims

	duid     string // of this server, as raw octets
	trials   trialSeats
	setBack  func(cause error, leases int)
	behind   func(lease.Time) bool // whether records were lost that may still count
	buffers  buffers
	leaving  []wire.Reply // of Handle; used again
	leaving6 []wire.Reply // of Handle6
	recorded []wire.Reply // of Recorded; used again
}

// Parts are what an engine is made of.
type Parts struct {
	Table   *lease.Table
	DUID    string            // of the server, as raw octets
	Sets    map[uint64][]byte // that are on record
	Events  *Events
	Metrics *Metrics
	Send    func([]wire.Reply)
	Clock   Clock
	Log     *slog.Logger
}

// New makes an engine. It needs a recorder before the first request.
func New(p Parts) *Engine {
	e := &Engine{log: p.Log, clock: p.Clock, events: p.Events, metrics: p.Metrics, send: p.Send, table: p.Table, duid: p.DUID,
		sets: newGivenSets(p.Sets, lease.At(p.Clock.Now())), probes: probe.New(p.Log), claims: newClaims()}
	e.own.Store(&map[netip.Addr]bool{})
	e.theirs.Store(&partnersAddresses{})
	e.seen = observe.New(&observe.Host{Table: p.Table, Log: p.Log, Own: e.ours, World: e.world, Become: e.become, Probe: e.canAsk})
	e.probes.Over = func(a netip.Addr) { e.probeOver(a, probe.Result{}) }
	e.probes.Guard = e.Guard
	e.probes.Sent = func(err error) {
		if err != nil {
			e.metrics.drop("probe-not-sent")
		}
		e.metrics.probes.Inc()
	}
	return e
}

// RecordTo names who makes entries durable.
func (e *Engine) RecordTo(r Recorder) { e.journal = r }

// Talk gives the conversations.
func (e *Engine) Talk() *observe.Conversations { return e.seen.Talk }

// Probing sets how addresses are probed.
func (e *Engine) Probing(set func(*probe.Probes)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	set(e.probes)
}

// canAsk asks whether somebody is at an address, if there is a way to. The caller
// holds the lock.
func (e *Engine) canAsk(a netip.Addr) bool {
	v := e.table.Plan().ScopeAt(a)
	if v == nil || !e.probes.Can() || !e.probes.Reaches(v) || !e.probes.Spare() {
		return false
	}
	e.probes.Ask(v, a)
	return true
}

// With runs f while nothing else touches the table. Long walks must take it
// for a part at a time.
func (e *Engine) With(f func(*lease.Table)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	f(e.table)
}

// Plan is the revision in force.
func (e *Engine) Plan() (p *plan.Plan) {
	e.With(func(t *lease.Table) { p = t.Plan() })
	return p
}

// waiting is a reply that the journal holds back, with what to tell afterwards.
type waiting struct {
	reply wire.Reply // without Data: nothing to send
	at    lease.Time // when that was decided
	lease *lease.Lease
	talk  uint64        // number of the exchange
	kept  bool          // an entry has it
	done  chan struct{} // closed once it is durable; may be nil
	then  effect.List   // what is done once it is durable
	quiet bool          // nobody is told of it
}

// Handle decides a batch of DHCPv4 datagrams and gives the replies that can go now.
// They hold until the next call. One goroutine calls it.
func (e *Engine) Handle(packets []wire.Packet) []wire.Reply {
	var m dhcp4.Message
	return e.batch(packets, &e.leaving, func(p *wire.Packet, now time.Time) (wire.Reply, bool) { return e.handle(p, &m, now) })
}

// Handle6 is Handle for DHCPv6.
func (e *Engine) Handle6(packets []wire.Packet) []wire.Reply {
	var m dhcp6.Message
	return e.batch(packets, &e.leaving6, func(p *wire.Packet, now time.Time) (wire.Reply, bool) { return e.handle6(p, &m, now) })
}

func (e *Engine) batch(packets []wire.Packet, leaving *[]wire.Reply,
	handle func(*wire.Packet, time.Time) (wire.Reply, bool)) []wire.Reply {
	e.buffers.give(*leaving)
	*leaving = (*leaving)[:0]
	now := e.clock.Now()
	for i := range packets {
		if reply, ok := handle(&packets[i], now); ok {
			*leaving = append(*leaving, reply)
		}
	}
	return *leaving
}

// handle6 is handle for DHCPv6.
func (e *Engine) handle6(p *wire.Packet, m *dhcp6.Message, arrived time.Time) (reply wire.Reply, send bool) {
	defer e.Guard("a datagram", p.Data)
	if err := dhcp6.Decode(m, p.Data); err != nil {
		e.metrics.malformed(err)
		return wire.Reply{}, false
	}
	path := request.Path{Unicast: !p.To.IsMulticast(), From: p.From.Addr(), Trial: e.trials.has(p.From)}
	if p.Interface != nil && p.Interface.Served {
		path.Interface, path.Prefixes = p.Interface.Name, p.Interface.Prefixes6
	}
	if path.Interface == "" && !m.Relayed() {
		e.metrics.drop("interface-not-served")
		return wire.Reply{}, false
	}
	req := m.Request(path)
	return e.decide(p, &req, arrived)
}

// handle decides one datagram that arrived at a moment, and gives the reply
// that can go at once, if there is one.
func (e *Engine) handle(p *wire.Packet, m *dhcp4.Message, arrived time.Time) (reply wire.Reply, send bool) {
	defer e.Guard("a datagram", p.Data)
	if err := dhcp4.Decode(m, p.Data); err != nil {
		e.metrics.malformed(err)
		return wire.Reply{}, false
	}
	own := *e.own.Load()
	path := request.Path{Unicast: own[p.To] || p.To.IsLoopback(), Server: p.To, From: p.From.Addr(), Trial: e.trials.has(p.From)}
	if p.Interface != nil && p.Interface.Served {
		path.Interface, path.Prefixes = p.Interface.Name, p.Interface.Prefixes
	}
	if !path.Unicast || !path.Server.Is4() { // heard by broadcast: answer as the interface's address
		if p.Interface == nil || len(p.Interface.Prefixes) == 0 {
			e.metrics.drop("no-address-on-interface")
			return wire.Reply{}, false
		}
		path.Server = p.Interface.Prefixes[0].Addr()
	}
	if path.Interface == "" && m.GIAddr.IsUnspecified() && (!path.Unicast || m.CIAddr.IsUnspecified()) {
		e.metrics.drop("interface-not-served")
		return wire.Reply{}, false
	}

	req := m.Request(path)
	return e.decide(p, &req, arrived)
}

// decide decides a request, and carries that out.
func (e *Engine) decide(p *wire.Packet, req *request.Request, arrived time.Time) (reply wire.Reply, send bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.clock.Now()
	w := e.world(now)
	e.decision = answer.Decide(*req, w, e.decision)
	d := e.decision
	if on := d.Waits(); on != nil && d.Withheld == "" {
		if e.probes.Hold(p, on.Probe, arrived) {
			e.probes.AskNow(on.Scope, on.Probe, w.Now)
			return wire.Reply{}, false
		}
		e.metrics.drop("too-many-probes")
		e.lost(p, req, d, reason.Overload, "too many requests wait for probes", now, arrived)
		return wire.Reply{}, false
	}
	e.metrics.decided(req.Message.Name(), d)
	if first := d.First(); first.Why == reason.BadRelay {
		e.metrics.drop("bad-relay")
	} else if req.Relay.IsValid() && !e.IsOwn(req.Relay) {
		e.relayHeard(req.Relay, first.Scope, w.Now)
	}
	return e.carryOut(p, req, d, now, arrived)
}

// world is what decisions are based on now. The caller holds the lock.
func (e *Engine) world(at time.Time) answer.World {
	now, down := lease.At(at), e.journal.Down()
	w := answer.World{Table: e.table, Now: now, Ours: e.IsOwn, Writable: down == nil, Fenced: down != nil && errors.Is(down,
		journal.ErrFenced),
		Nonce:   nonce,
		DUID:    e.duid,
		Network: e.isRelay, Pending: e.journal.Pending,
		OtherServer: func(link plan.ID, f option.Family) bool { return e.seen.Shadow.OtherServer(link, f, now) }}
	if e.pairing != nil {
		w.Pair = e.pairing.Server
	}
	w.RecordsLost = e.behind != nil && e.behind(now)
	if e.probes.Can() {
		w.Probed = func(a netip.Addr, client addr.Hardware) answer.Probe {
			return e.probes.Known(e.table.Plan().ScopeAt(a), a, client, now)
		}
	}
	return w
}

// isRelay reports whether an address is that of a relay that was heard and answered a
// probe, or one of the partner's. The caller holds the lock.
func (e *Engine) isRelay(a netip.Addr) bool { return e.seen.Relays.Found(a) || e.theirs.Load().own[a] }

// relayHeard notes that a message came through a relay. One that the plan does not name
// may be made up, so it is probed, if its address is one that clients could be given.
// The caller holds the lock.
func (e *Engine) relayHeard(relay netip.Addr, of *plan.View, now lease.Time) {
	p := e.table.Plan()
	named := p.LinkOfRelay(relay) != 0
	e.seen.Relays.Pulse(relay, named, of, now)
	if named || !e.probes.Can() || relay.Is6() {
		return
	}
	v := p.ScopeAt(relay)
	if v == nil || v.NoProbe || !e.probes.Reaches(v) || !e.probes.Spare() {
		return
	}
	if l := e.table.At(relay); l != nil && !l.Over() {
		return
	}
	if e.seen.Relays.Ask(relay, now) {
		e.probes.Ask(v, relay)
	}
}

// ForgetRelays forgets a relay that was heard, or with the zero address all that the plan
// does not name. It tells how many.
func (e *Engine) ForgetRelays(relay netip.Addr) int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Relays.Forget(relay)
}

// ofNetwork reports whether an address is this host's or a relay's. The caller
// holds the lock.
func (e *Engine) ofNetwork(a netip.Addr) bool { return e.IsOwn(a) || e.isRelay(a) }

// NetworkAt says in words what of the network an address belongs to that the plan
// does not know, or "".
func (e *Engine) NetworkAt(a netip.Addr) string {
	e.mu.Lock()
	defer e.mu.Unlock()
	switch {
	case e.IsOwn(a):
		return "this server's own address"
	case e.isRelay(a):
		return "a relay's that was heard and answered a probe (yarnpost relay forget takes that back)"
	}
	return ""
}

// lost notes that a reply, or what should have led to one, did not leave: in the
// conversation, and in the list of clients that go without. The caller holds
// the lock.
func (e *Engine) lost(p *wire.Packet, req *request.Request, d *answer.Decision, why reason.Reason, text string, now, arrived time.Time) {
	d.Trail = append(d.Trail, answer.Step{Text: "nothing is sent: {t}", Name: text})
	for i := range d.Answers {
		d.Answers[i].Why = why
		e.seen.Unserved.Note(observe.Case{Request: req, Decision: d, Answer: &d.Answers[i]}, why, lease.At(now))
	}
	e.seen.Talk.Begin(p, arrived, req, d, &wire.Reply{}, observe.Dropped, now)
}

func nonce() string {
	var b [16]byte
	rand.Read(b[:])
	return string(b[:])
}

// carryOut does what a decision says, in its order. The caller holds the lock.
func (e *Engine) carryOut(p *wire.Packet, req *request.Request, d *answer.Decision, at, arrived time.Time) (reply wire.Reply, send bool) {
	if d.Reply != nil {
		var ok bool
		if reply, ok = e.encode(p, req, d, at, arrived); !ok {
			return wire.Reply{}, false
		}
	}
	if d.Withheld != "" {
		e.seen.Talk.Begin(p, arrived, req, d, &reply, observe.Withheld, at)
		for i := range d.Answers {
			e.seen.Shadow.Request(observe.Case{Request: req, Decision: d, Answer: &d.Answers[i]}, at)
		}
		return wire.Reply{}, false
	}
	e.seen.Decided(req, d, at)
	for i := range d.Answers {
		if a := &d.Answers[i]; a.Why == reason.PartnersShare && e.pairing != nil {
			e.carry(e.pairing.Server.Hungry(e.table.Plan().OnLink(a.Scope.Link), lease.At(at)))
		}
	}
	fate := observe.Silent
	switch {
	case d.Effects.Has(effect.Await) || d.Reply != nil && d.Delay > 0:
		fate = observe.Recorded
	case d.Reply != nil:
		fate = observe.Sent
	}
	reply.Talk = e.seen.Talk.Begin(p, arrived, req, d, &reply, fate, at)
	return reply, e.run(req, d, reply, lease.At(at))
}

// encode makes the datagram of a reply; ok is false if there can be none.
func (e *Engine) encode(p *wire.Packet, req *request.Request, d *answer.Decision, at, arrived time.Time) (reply wire.Reply, ok bool) {
	data, omitted, err := d.Reply.AppendTo(e.buffers.take(), d.Limit)
	if err != nil {
		e.metrics.drop("not-encodable")
		e.lost(p, req, d, reason.TooLong, err.Error(), at, arrived)
		return reply, false
	}
	if len(omitted) > 0 {
		e.metrics.omitted.Add(float64(len(omitted)))
	}
	if reply, err = route(p, req, d, data, e.isHost); err != nil {
		e.metrics.drop("no-way-back")
		e.lost(p, req, d, reason.NoWayBack, err.Error(), at, arrived)
		return reply, false
	}
	return reply, true
}

// run carries out the effects of a decision: what stands behind Await is left to the
// recorder. It reports whether the reply can leave at once. The caller holds the lock.
func (e *Engine) run(req *request.Request, d *answer.Decision, reply wire.Reply, now lease.Time) (send bool) {
	w := &e.carrier
	*w = carrier{e: e, req: req, d: d, reply: reply, now: now, waits: waiting{talk: reply.Talk}}
	d.Effects.CarryOut(w)
	return w.send
}

// commit puts leases into the table and hands them to the journal, all or none.
// The table comes first: whatever goes wrong there, nobody is told of a lease
// that it does not have. The caller holds the lock.
func (e *Engine) commit(entries ...journal.Entry) bool {
	e.together(entries, func() {
		for _, n := range entries {
			if n.After != nil {
				e.table.Put(n.After)
				e.probes.Taken(n.After.Address())
				if n.After.Kept() && n.After.Address().Is4() { // once it met silence, others may have it
					e.probes.Kept.Put(n.After.Address(), probe.Soon(e.now()))
				}
			}
		}
	})
	if e.journal.Add(entries...) {
		return true
	}
	e.together(entries, func() {
		for i := len(entries) - 1; i >= 0; i-- {
			if n := entries[i]; n.After != nil {
				e.table.Restore(n.After.Prefix, n.Before)
			}
		}
	})
	e.notRecorded(entries)
	return false
}

// together makes several changes of the table; blocks of a pair among them are counted
// once for all. The caller holds the lock.
func (e *Engine) together(entries []journal.Entry, changes func()) {
	for _, n := range entries {
		if n.After != nil && n.After.Block() {
			e.table.Together(changes)
			return
		}
	}
	changes()
}

// become records that an address has another record from now on, without a
// client that waits for it. The caller holds the lock.
func (e *Engine) become(before, after *lease.Lease) bool {
	return e.commit(e.owned(before, after, waiting{lease: after}))
}

// lateReply is from how many seconds on a reply that waited for its record promises
// less because of it: a client that counts from when it gets the reply would hold the
// address longer than the record says.
const lateReply = 2

// Recorded lets the replies of durable entries go (store.Owner).
func (e *Engine) Recorded(entries []journal.Entry) {
	replies := e.recorded[:0]
	now := lease.At(e.clock.Now())
	for _, n := range entries { // one that panics costs nothing of the others
		e.guarded("what is recorded", func() {
			w := n.Note.(waiting)
			if w.reply.Data != nil && (now-w.at < lateReply || age(&w.reply, uint32(now-w.at))) {
				replies = append(replies, w.reply)
			}
			if w.lease != nil && !w.quiet {
				e.events.lease(w.lease)
			}
			if w.done != nil {
				close(w.done)
			}
		})
	}
	e.guarded("replies to what is recorded", func() {
		if len(replies) > 0 {
			e.send(replies)
		}
		for _, n := range entries {
			e.seen.Talk.Settle(n.Note.(waiting).talk, observe.Sent, e.clock.Now())
		}
		e.buffers.give(replies)
	})
	e.recorded = replies
	e.then(entries)
}

// age takes from what a reply promises the seconds that it waited; ok is false if nothing is
// left of it.
func age(r *wire.Reply, seconds uint32) (ok bool) {
	if r.To.Addr().Is6() {
		return dhcp6.Age(r.Data, seconds)
	}
	return dhcp4.Age(r.Data, seconds)
}

// Undo puts back what could not be recorded (store.Owner).
func (e *Engine) Undo(take func() []journal.Entry) {
	e.mu.Lock()
	defer e.mu.Unlock()
	entries := take()
	now := e.clock.Now()
	e.together(entries, func() {
		for i := len(entries) - 1; i >= 0; i-- {
			n := entries[i]
			if n.After != nil {
				e.table.Restore(n.After.Prefix, n.Before)
			}
			if n.Set != nil {
				delete(e.sets.known, n.After.Given) // recorded with the next lease that has it
			}
			e.seen.Talk.Settle(n.Note.(waiting).talk, observe.Undone, now)
		}
	})
	e.notRecorded(entries)
}

// Unsent notes that a reply could not leave.
func (e *Engine) Unsent(r wire.Reply, err error) {
	defer e.Guard("a reply that could not leave", nil)
	x, ok := e.seen.Talk.Fail(r.Talk, "it could not be sent: "+err.Error(), e.clock.Now())
	if !ok {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.seen.Unserved.NoteExchange(&x, reason.NoWayBack, lease.At(x.At))
	for _, r := range x.Results {
		if o, ok := e.table.OfferOf(r.Key); ok && o.Client == r.Client { // which it never heard of
			e.table.DropOffer(o.Prefix)
		}
	}
}

// Parts of the work that time asks for: how many leases end while the lock is
// held, what the processors have for clients between two parts, and how many of a
// kind a tick does.
const (
	duePart  = 32
	duePause = 2 * time.Millisecond
	dueParts = 50
)

// Tick does what time asks for: offers lapse, leases end, addresses are probed
// ahead.
func (e *Engine) Tick() {
	now := lease.At(e.clock.Now())
	e.parts("an offer that lapses", func() bool { return e.table.Lapse(now) })
	e.part("a tick", func() { e.seen.Unserved.Age(now); e.probes.Age(now) })
	e.part("a tick", func() { e.probes.Ahead(e.table, now, e.ofNetwork) })
	e.parts("a lease that ends", func() bool { return e.end(now) })
}

// parts does the parts of what time asks for until there are no more, with a pause
// after each.
func (e *Engine) parts(what string, f func() (more bool)) {
	for more, n := true, 0; more && n < dueParts; n++ {
		if n > 0 {
			time.Sleep(duePause)
		}
		more = false // if it panics
		e.part(what, func() { more = f() })
	}
}

// part does a part of some work under the lock; a panic ends that part alone.
func (e *Engine) part(what string, f func()) {
	defer e.Guard(what, nil)
	e.mu.Lock()
	defer e.mu.Unlock()
	f()
}

// end ends some of the leases whose time has come, and reports whether there are
// more. That a lease ended is not written: its record says when it does, so every
// start, and whoever reads the history, comes to the same by the time alone. The
// caller holds the lock.
func (e *Engine) end(now lease.Time) (more bool) {
	more = e.table.Due(&e.due, now, duePart)
	for l := range e.due.Leases {
		switch {
		case l.Status == lease.Abandoned:
			e.lookAgain(l.Clone(), now)
		case e.pairing != nil:
			e.endPaired(l.Clone())
		default:
			ended := *l // a million at once leave no garbage
			ended.Status, ended.Changed = lease.Expired, l.Expires
			e.ended(&ended)
		}
	}
	return more
}

// endPaired ends a lease whose partner may have to know.
func (e *Engine) endPaired(l *lease.Lease) {
	after, journaled := e.pairing.Server.Ended(l)
	if !journaled {
		e.ended(after)
		return
	}
	changes := []lease.Change{{Before: l, After: after}}
	e.carryList(effect.List{{Do: effect.Record, Changes: changes}, {Do: effect.Await}, {Do: effect.Tell, Changes: changes}})
}

// ended takes in that a lease is over, and keeps nothing of what it is given.
func (e *Engine) ended(l *lease.Lease) {
	e.table.Put(l)
	if e.events.listeners.Load() > 0 {
		e.events.lease(l.Clone())
	}
}

// isHost reports whether an address is one of this machine.
func (e *Engine) isHost(a netip.Addr) bool { return a.IsLoopback() || (*e.own.Load())[a] }

// DUID is by what clients of DHCPv6 know this server.
func (e *Engine) DUID() addr.DUID { return addr.DUID(e.duid) }

// SetOwn tells the engine the host's addresses.
func (e *Engine) SetOwn(own map[netip.Addr]bool) { e.own.Store(&own) }

// IsOwn reports whether an address is this host's.
func (e *Engine) IsOwn(a netip.Addr) bool { return (*e.own.Load())[a] && a != e.theirs.Load().server }

// ours reports whether a server is this one or the partner, which is no
// other server. While it is not known who that is, any may be.
func (e *Engine) ours(s request.Server) bool {
	t := e.theirs.Load()
	if s.DUID != "" {
		return string(s.DUID) == e.duid || s.DUID == t.duid || t.awaited
	}
	return (*e.own.Load())[s.Address] || s.Address == t.server || t.own[s.Address] || t.awaited
}

// partnersAddresses are those of the other server of a pair.
type partnersAddresses struct {
	awaited bool       // there is a partner, and it has not told them yet
	server  netip.Addr // by which it names itself, if it has but one; both may be on one host
	own     map[netip.Addr]bool
	duid    addr.DUID
}

// SetPartner tells the engine the addresses of the partner, which nobody is given
// either, and its DUID.
func (e *Engine) SetPartner(server netip.Addr, own []netip.Addr, duid addr.DUID) {
	t := &partnersAddresses{server: server, own: map[netip.Addr]bool{}, duid: duid}
	for _, a := range own {
		if !a.IsLoopback() {
			t.own[a] = true
		}
	}
	e.theirs.Store(t)
}

// Own lists the host's addresses.
func (e *Engine) Own() (out []netip.Addr) {
	for a := range *e.own.Load() {
		out = append(out, a)
	}
	return out
}
