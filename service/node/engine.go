package node

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
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/clock"
	"yarnpost/service/store"
	"yarnpost/service/wire"
)

// Recorder makes entries durable, in the order in which they were added.
type Recorder interface {
	// Add queues entries that belong together and reports whether they were
	// taken.
	Add(...store.Entry) bool
	// Pending reports whether a key has a record that is not yet durable.
	Pending(netip.Prefix) bool
	// Down is why nothing can be recorded now, or nil.
	Down() error
	Snapshot() (store.Stats, int)
	Forget([]uint64)
}

// Engine carries out decisions: it lets one request at a time at the lease
// table, hands what must be durable to the journal, and lets the reply go when
// the journal says so.
type Engine struct {
	log     *slog.Logger
	clock   *clock.Clock
	events  *Events
	metrics *metrics
	send    func([]wire.Reply)
	journal Recorder // set once before the first request
	Talk    *Conversations

	own atomic.Pointer[map[netip.Addr]bool] // the host's addresses

	mu       sync.Mutex // orders decisions, plan changes and undoing
	table    *lease.Table
	decision *answer.Decision // of handle; its memory is used again
	unserved *unservedList
	served   *Window // acknowledgements, for Today
	sets     givenSets
	fits     map[plan.ID]*Fits
	probes   *probes
	shadow   *shadow
	relays   *forgetful[netip.Addr, *Pulse]
	twins    *forgetful[netip.Addr, *twin]

	buffers  buffers
	leaving  []wire.Reply // of Handle; used again
	recorded []wire.Reply // of Recorded; used again
}

// Fits counts how often a rule fitted since the start.
type Fits struct {
	Count uint64
	Last  lease.Time
}

// relaysMost bounds how many relays are remembered.
const relaysMost = 10_000

func newEngine(table *lease.Table, sets map[uint64][]byte, events *Events, m *metrics, send func([]wire.Reply), c *clock.Clock, log *slog.Logger) *Engine {
	e := &Engine{log: log, clock: c, events: events, metrics: m, send: send, table: table, Talk: &Conversations{}, unserved: newUnservedList(), served: &Window{},
		sets: newGivenSets(sets, lease.At(c.Now())), fits: map[plan.ID]*Fits{}, probes: newProbes(), shadow: newShadow(),
		relays: newForgetful[netip.Addr, *Pulse](relaysMost), twins: newForgetful[netip.Addr, *twin](1000)}
	e.own.Store(&map[netip.Addr]bool{})
	return e
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
	lease *lease.Lease
	talk  uint64        // number of the exchange
	kept  bool          // an entry has it
	done  chan struct{} // closed once it is durable; may be nil
}

// Handle decides a batch of datagrams and gives the replies that can go now.
// They hold until the next call. One goroutine calls it.
func (e *Engine) Handle(packets []wire.Packet) []wire.Reply {
	e.buffers.give(e.leaving)
	e.leaving = e.leaving[:0]
	var m dhcp4.Message
	now := e.clock.Now()
	for i := range packets {
		if reply, ok := e.handle(&packets[i], &m, now); ok {
			e.leaving = append(e.leaving, reply)
		}
	}
	return e.leaving
}

// handle decides one datagram that arrived at a moment, and gives the reply
// that can go at once, if there is one.
func (e *Engine) handle(p *wire.Packet, m *dhcp4.Message, arrived time.Time) (reply wire.Reply, send bool) {
	defer e.guard("a datagram", p.Data)
	if err := dhcp4.Decode(m, p.Data); err != nil {
		e.metrics.malformed(err)
		return wire.Reply{}, false
	}
	own := *e.own.Load()
	req := answer.Request{Message: m, Unicast: own[p.To] || p.To.IsLoopback(), Server: p.To}
	if b, ok := m.Options.Get(option.RelayAgent); ok {
		req.Relay = dhcp4.ParseRelay(b)
	}
	if p.Interface != nil && p.Interface.Served {
		req.Interface, req.Prefixes = p.Interface.Name, p.Interface.Prefixes
	}
	if !req.Unicast || !req.Server.Is4() { // heard by broadcast: answer as the interface's address
		if p.Interface == nil || len(p.Interface.Prefixes) == 0 {
			e.metrics.drop("no-address-on-interface")
			return wire.Reply{}, false
		}
		req.Server = p.Interface.Prefixes[0].Addr()
	}
	if req.Interface == "" && m.GIAddr.IsUnspecified() && (!req.Unicast || m.CIAddr.IsUnspecified()) {
		e.metrics.drop("interface-not-served")
		return wire.Reply{}, false
	}

	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.clock.Now()
	w := e.world(now)
	e.decision = answer.Decide(req, w, e.decision)
	d := e.decision
	if d.Outcome == answer.Waiting && d.Withheld == "" {
		if e.probes.hold(p, d.Probe, arrived) {
			e.askNow(d.Scope, d.Probe, w.Now)
			return wire.Reply{}, false
		}
		e.metrics.drop("too-many-probes")
		e.lost(p, &req, d, answer.Overload, "too many requests wait for probes", now, arrived)
		return wire.Reply{}, false
	}
	e.metrics.decided(m.Type, d)
	if d.Why == answer.BadRelay {
		e.metrics.drop("bad-relay")
	} else {
		e.pulse(m.GIAddr, d.Scope, w.Now)
	}
	return e.carryOut(p, &req, d, now, arrived)
}

// world is what decisions are based on now. The caller holds the lock.
func (e *Engine) world(at time.Time) answer.World {
	now, down := lease.At(at), e.journal.Down()
	w := answer.World{Table: e.table, Now: now, Ours: e.isOwn, Writable: down == nil, Fenced: down != nil && errors.Is(down, store.ErrFenced), Nonce: nonce,
		Network: e.isRelay, Pending: e.journal.Pending, Rival: func(link plan.ID) bool { return e.shadow.rivalOn(link, now) }}
	if e.probes.can() {
		w.Probed = func(a netip.Addr, client addr.Hardware) answer.Probe { return e.probed(a, client, now) }
	}
	return w
}

// isRelay reports whether an address is that of a relay that was heard. The
// caller holds the lock.
func (e *Engine) isRelay(a netip.Addr) bool { return e.relays.get(a) != nil }

// NetworkAt says in words what of the network an address belongs to that the plan
// does not know, or "".
func (e *Engine) NetworkAt(a netip.Addr) string {
	e.mu.Lock()
	defer e.mu.Unlock()
	switch {
	case e.isOwn(a):
		return "this server's own address"
	case e.isRelay(a):
		return "a relay's, which was heard"
	}
	return ""
}

// lost notes that a reply, or what should have led to one, did not leave: in the
// conversation, and in the list of clients that go without. The caller holds
// the lock.
func (e *Engine) lost(p *wire.Packet, req *answer.Request, d *answer.Decision, why answer.Reason, text string, now, arrived time.Time) {
	d.Trail = append(d.Trail, answer.Step{Text: "nothing is sent: {t}", Name: text})
	d.Why = why
	e.Talk.begin(p, arrived, req, d, &wire.Reply{}, Dropped, now)
	e.unserved.note(req, d, why, lease.At(now))
}

func nonce() string {
	var b [16]byte
	rand.Read(b[:])
	return string(b[:])
}

// carryOut does what a decision says, in its order. The caller holds the lock.
func (e *Engine) carryOut(p *wire.Packet, req *answer.Request, d *answer.Decision, at, arrived time.Time) (reply wire.Reply, send bool) {
	if d.Reply != nil {
		var ok bool
		if reply, ok = e.encode(p, req, d, at, arrived); !ok {
			return wire.Reply{}, false
		}
	}
	if d.Withheld != "" {
		e.Talk.begin(p, arrived, req, d, &reply, Withheld, at)
		e.overhearRequest(req, d, at)
		return wire.Reply{}, false
	}
	e.countFits(d, lease.At(at))
	e.watch(req, d, at)
	fate := Silent
	switch {
	case d.Effects.Has(effect.Await) || d.Reply != nil && d.Delay > 0:
		fate = Recorded
	case d.Reply != nil:
		fate = Sent
	}
	reply.Talk = e.Talk.begin(p, arrived, req, d, &reply, fate, at)
	return reply, e.run(req, d, reply, lease.At(at))
}

// encode makes the datagram of a reply; ok is false if there can be none.
func (e *Engine) encode(p *wire.Packet, req *answer.Request, d *answer.Decision, at, arrived time.Time) (reply wire.Reply, ok bool) {
	data, omitted, err := dhcp4.Append(e.buffers.take(), d.Reply, d.Limit)
	if err != nil {
		e.metrics.drop("not-encodable")
		e.lost(p, req, d, answer.TooLong, err.Error(), at, arrived)
		return reply, false
	}
	if len(omitted) > 0 {
		e.metrics.omitted.Add(float64(len(omitted)))
	}
	if reply, err = route(p, req, d, data); err != nil {
		e.metrics.drop("no-way-back")
		e.lost(p, req, d, answer.NoWayBack, err.Error(), at, arrived)
		return reply, false
	}
	return reply, true
}

// run carries out the list of effects, from the first to the last: what stands
// behind Await is left to the recorder. It reports whether the reply can leave at
// once. The caller holds the lock.
func (e *Engine) run(req *answer.Request, d *answer.Decision, reply wire.Reply, now lease.Time) (send bool) {
	waits := waiting{talk: reply.Talk} // what is done once the record is durable
	behind := false
	for _, f := range d.Effects {
		behind = behind || f.Do == effect.Await
		if behind && f.Do == effect.Reply {
			waits.reply = reply
		}
	}
	for _, f := range d.Effects {
		switch f.Do {
		case effect.Forget:
			e.table.DropOffer(f.Key)
		case effect.Welcome:
			e.table.Welcome(d.Scope.ID, portOf(req), now)
		case effect.Blame:
			e.table.Declined(d.Scope.ID, d.Client, lease.Port{Relay: d.Lease().Relay, Circuit: d.Lease().Circuit}, now)
		case effect.Offer:
			old, again := e.table.OfferOf(f.Note.Address())
			if again && old.Client == d.Client && old.Until != f.Note.Until {
				e.unserved.note(req, d, answer.NotTaken, now)
			}
			e.table.PutOffer(*f.Note)
			e.probes.used(d.Scope.ID, f.Note.Address(), now)
		case effect.Record:
			if !e.record(req, d, f.Changes, waits, now) {
				return false
			}
			waits.kept = true
		case effect.Await:
			if !waits.kept { // it joins what is on its way
				e.journal.Add(store.Entry{Note: waits})
			}
			return false
		case effect.Reply:
			if d.Delay > 0 && d.Outcome == answer.Offered {
				e.later(reply, d.Delay)
				return false
			}
			return true
		}
	}
	return false
}

// later lets a reply go after a while.
func (e *Engine) later(reply wire.Reply, wait time.Duration) {
	time.AfterFunc(wait, func() {
		defer e.guard("a delayed offer", nil)
		e.send([]wire.Reply{reply})
		e.Talk.settle(reply.Talk, Sent, e.clock.Now())
	})
}

func portOf(req *answer.Request) lease.Port {
	return lease.Port{Relay: req.Message.GIAddr, Circuit: string(req.Relay.Circuit)}
}

// record puts leases into the table and hands them to the recorder, with what is
// to be done then. If that takes nothing, it is as if nothing had been decided.
// The caller holds the lock.
func (e *Engine) record(req *answer.Request, d *answer.Decision, changes []lease.Change, waits waiting, now lease.Time) bool {
	set := e.newSet(req, d, changes[0].Before, now)
	entries := make([]store.Entry, len(changes))
	for i, c := range changes {
		entries[i] = store.Entry{Before: c.Before, After: c.After, Note: waiting{lease: c.After}}
	}
	waits.lease = changes[0].After
	entries[0].Set, entries[0].Note = set, waits
	if e.commit(entries...) {
		return true
	}
	if set != nil {
		delete(e.sets.known, d.Lease().Given)
	}
	e.metrics.drop("overload")
	e.Talk.settle(waits.talk, Dropped, e.clock.Now())
	e.unserved.note(req, d, answer.Overload, now)
	return false
}

// commit puts leases into the table and hands them to the journal, all or none.
// The table comes first: whatever goes wrong there, nobody is told of a lease
// that it does not have. The caller holds the lock.
func (e *Engine) commit(entries ...store.Entry) bool {
	for _, n := range entries {
		e.table.Put(n.After)
		delete(e.probes.ready, n.After.Address())
	}
	if e.journal.Add(entries...) {
		return true
	}
	for i := len(entries) - 1; i >= 0; i-- {
		e.table.Restore(entries[i].After.Prefix, entries[i].Before)
	}
	return false
}

// become records that an address has another record from now on, without a
// client that waits for it. The caller holds the lock.
func (e *Engine) become(before, after *lease.Lease) bool {
	return e.commit(store.Entry{Before: before, After: after, Note: waiting{lease: after}})
}

func (e *Engine) countFits(d *answer.Decision, now lease.Time) {
	for _, r := range d.Fitted {
		f := e.fits[r.ID]
		if f == nil {
			f = &Fits{}
			e.fits[r.ID] = f
		}
		f.Count, f.Last = f.Count+1, now
	}
}

// FitsOf says how often a rule fitted since the start.
func (e *Engine) FitsOf(rule plan.ID) (f Fits) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if of := e.fits[rule]; of != nil {
		f = *of
	}
	return f
}

// watch keeps the list of unserved clients.
func (e *Engine) watch(req *answer.Request, d *answer.Decision, at time.Time) {
	now := lease.At(at)
	if d.Trouble != "" {
		e.unserved.trouble(req, d, d.Trouble, now)
	}
	if d.Twin != nil {
		e.twin(req, d, now)
	}
	switch d.Outcome {
	case answer.Acknowledged, answer.Informed, answer.Released:
		e.unserved.forget(req, d)
		e.served.Add(now)
	case answer.Declined:
		if d.Why != "" {
			e.unserved.trouble(req, d, d.Why, now)
		}
	case answer.Offered:
		if d.Why == answer.V6Only {
			e.unserved.forget(req, d)
		}
	case answer.Refused:
		e.unserved.note(req, d, d.Why, now)
	case answer.Ignored:
		switch d.Why {
		case answer.OtherServer:
			if req.Message.Type == dhcp4.Request {
				e.unserved.forget(req, d)
				e.overhearRequest(req, d, at)
			}
		case answer.NotServed, answer.BadRequest, answer.BadRelay:
		default:
			if req.Message.Type != dhcp4.Release && req.Message.Type != dhcp4.Decline {
				e.unserved.note(req, d, d.Why, now)
			}
		}
	}
}

// Recorded lets the replies of durable entries go (store.Owner).
func (e *Engine) Recorded(entries []store.Entry) {
	defer e.guard("what is recorded", nil)
	replies := e.recorded[:0]
	for _, n := range entries {
		w := n.Note.(waiting)
		if w.reply.Data != nil {
			replies = append(replies, w.reply)
		}
		if w.lease != nil {
			e.events.lease(w.lease)
		}
		if w.done != nil {
			close(w.done)
		}
	}
	if len(replies) > 0 {
		e.send(replies)
	}
	now := e.clock.Now()
	for _, n := range entries {
		e.Talk.settle(n.Note.(waiting).talk, Sent, now)
	}
	e.buffers.give(replies)
	e.recorded = replies
}

// Undo puts back what could not be recorded (store.Owner).
func (e *Engine) Undo(take func() []store.Entry) {
	e.mu.Lock()
	defer e.mu.Unlock()
	entries := take()
	now := e.clock.Now()
	for i := len(entries) - 1; i >= 0; i-- {
		n := entries[i]
		if n.After != nil {
			e.table.Restore(n.After.Prefix, n.Before)
		}
		if n.Set != nil {
			delete(e.sets.known, n.After.Given) // recorded with the next lease that has it
		}
		e.Talk.settle(n.Note.(waiting).talk, Undone, now)
	}
}

// Unsent notes that a reply could not leave.
func (e *Engine) Unsent(r wire.Reply, err error) {
	defer e.guard("a reply that could not leave", nil)
	x, ok := e.Talk.fail(r.Talk, "it could not be sent: "+err.Error(), e.clock.Now())
	if !ok {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.unserved.noteExchange(&x, answer.NoWayBack, lease.At(x.At))
}

// Parts of the work that time asks for: how many leases end while the lock is
// held, what the processors have for clients between two of them, and how many a
// tick does.
const (
	duePart  = 32
	duePause = 2 * time.Millisecond
	dueParts = 50
)

// Tick does what time asks for: offers lapse, leases end, addresses are probed
// ahead.
func (e *Engine) Tick() {
	now := lease.At(e.clock.Now())
	e.part("a tick", func() { e.table.Lapse(now) })
	e.part("a tick", func() { e.unserved.age(now); e.probes.age(now) })
	e.part("a tick", func() { e.probeAhead(now) })
	for more, n := true, 0; more && n < dueParts; n++ {
		if n > 0 {
			time.Sleep(duePause)
		}
		e.part("a lease that ends", func() { more = e.end(now) })
	}
}

// part does a part of some work under the lock; a panic ends that part alone.
func (e *Engine) part(what string, f func()) {
	defer e.guard(what, nil)
	e.mu.Lock()
	defer e.mu.Unlock()
	f()
}

// end ends some of the leases whose time has come, and reports whether there are
// more. That a lease ended is not written: its record says when it does, so every
// start, and whoever reads the history, comes to the same by the time alone. The
// caller holds the lock.
func (e *Engine) end(now lease.Time) (more bool) {
	list, more := e.table.Due(now, duePart)
	for _, l := range list {
		if l.Status == lease.Abandoned {
			e.lookAgain(l, now)
			continue
		}
		ended := l.Ended(lease.Expired, l.Expires)
		e.table.Put(ended)
		e.events.lease(ended)
	}
	return more
}

// SetOwn tells the engine the host's addresses.
func (e *Engine) SetOwn(own map[netip.Addr]bool) { e.own.Store(&own) }

func (e *Engine) isOwn(a netip.Addr) bool { return (*e.own.Load())[a] }
