package node

import (
	"crypto/rand"
	"log/slog"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/store"
	"yarnpost/service/wire"
)

// Engine carries out decisions: it lets one request at a time at the lease
// table, hands what must be durable to the journal, and lets the reply go when
// the journal says so.
type Engine struct {
	log     *slog.Logger
	events  *Events
	metrics *metrics
	send    func([]wire.Reply)
	journal *store.Journal // set once before the first request
	Talk    *Conversations

	own atomic.Pointer[map[netip.Addr]bool] // the host's addresses

	mu       sync.Mutex // orders decisions, plan changes and undoing
	table    *lease.Table
	decider  answer.Decider
	unserved *unservedList
	served   *Window // acknowledgements, for Today
	sets     givenSets
	fits     map[plan.ID]*Fits
	probes   *probes
	shadow   *shadow
	relays   map[netip.Addr]*Pulse

	buffers  buffers
	leaving  []wire.Reply // of Handle; used again
	recorded []wire.Reply // of Recorded; used again
}

// Fits counts how often a rule fitted since the start.
type Fits struct {
	Count uint64
	Last  lease.Time
}

func newEngine(table *lease.Table, sets map[uint64][]byte, events *Events, m *metrics, send func([]wire.Reply), log *slog.Logger) *Engine {
	e := &Engine{log: log, events: events, metrics: m, send: send, table: table, Talk: &Conversations{}, unserved: newUnservedList(), served: &Window{},
		sets: newGivenSets(sets, lease.At(time.Now())), fits: map[plan.ID]*Fits{}, probes: newProbes(), shadow: newShadow(), relays: map[netip.Addr]*Pulse{}}
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
	done  chan struct{} // closed once it is durable; may be nil
}

// Handle decides a batch of datagrams and gives the replies that can go now.
// They hold until the next call. One goroutine calls it.
func (e *Engine) Handle(packets []wire.Packet) []wire.Reply {
	e.buffers.give(e.leaving)
	e.leaving = e.leaving[:0]
	var m dhcp4.Message
	now := time.Now()
	for i := range packets {
		if reply, ok := e.handle(&packets[i], &m, now); ok {
			e.leaving = append(e.leaving, reply)
		}
	}
	return e.leaving
}

// handle decides one datagram that arrived at a moment, and gives the reply
// that can go at once, if there is one.
func (e *Engine) handle(p *wire.Packet, m *dhcp4.Message, arrived time.Time) (wire.Reply, bool) {
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
	w := e.world(time.Now())
	d := e.decider.Decide(req, w)
	if d.Outcome == answer.Waiting && d.Withheld == "" {
		if e.probes.hold(p, d.Probe, arrived) {
			e.askNow(d.Scope, d.Probe, w.Now)
			return wire.Reply{}, false
		}
		e.metrics.drop("too-many-probes")
		return wire.Reply{}, false
	}
	e.metrics.decided(m.Type, d)
	e.pulse(m.GIAddr, d.Scope, w.Now)
	return e.carryOut(p, &req, d, w.Now, arrived)
}

// world is what decisions are based on now. The caller holds the lock.
func (e *Engine) world(at time.Time) answer.World {
	now := lease.At(at)
	w := answer.World{Table: e.table, Now: now, Ours: e.isOwn, Writable: e.journal.Down() == nil, Nonce: nonce,
		Rival: func(link plan.ID) bool { return e.shadow.rivalOn(link, now) }}
	if e.probes.can() {
		w.Ready = func(a netip.Addr) bool { return e.ready(a, now) }
	}
	return w
}

func nonce() string {
	var b [16]byte
	rand.Read(b[:])
	return string(b[:])
}

// carryOut does what a decision says. The caller holds the lock.
func (e *Engine) carryOut(p *wire.Packet, req *answer.Request, d *answer.Decision, now lease.Time, arrived time.Time) (reply wire.Reply, send bool) {
	if d.Reply != nil {
		data, omitted, err := dhcp4.Append(e.buffers.take(), d.Reply, d.Limit)
		if err != nil {
			e.log.Error("a reply could not be encoded", "client", d.Client, "err", err)
			return reply, false
		}
		if len(omitted) > 0 {
			e.metrics.omitted.Add(float64(len(omitted)))
		}
		if reply, err = route(p, req, d, data); err != nil {
			e.metrics.drop("no-way-back")
			e.Talk.begin(p, arrived, req, d, &wire.Reply{}, Dropped, time.Now())
			return wire.Reply{}, false
		}
	}
	if d.Withheld != "" {
		e.Talk.begin(p, arrived, req, d, &reply, Withheld, time.Now())
		e.overhearRequest(req, d, now)
		return wire.Reply{}, false
	}
	e.countFits(d, now)
	if d.Drop.IsValid() {
		e.table.DropOffer(d.Drop)
	}
	if d.New && d.Scope != nil {
		e.table.Welcome(d.Scope.ID, lease.Port{Relay: req.Message.GIAddr, Circuit: string(req.Relay.Circuit)}, now)
	}
	if d.Offer != nil {
		old, again := e.table.OfferOf(d.Offer.Address)
		if again && old.Client == d.Client && old.Until != d.Offer.Until {
			e.unserved.note(req, d, answer.NotTaken, now)
		}
		e.table.PutOffer(*d.Offer)
		e.probes.used(d.Scope.ID, d.Offer.Address, now)
	}
	e.watch(req, d, now)
	switch {
	case d.Lease != nil:
		before := e.table.Get(d.Lease.Address)
		seq := e.Talk.begin(p, arrived, req, d, &reply, Recorded, time.Now())
		set := e.newSet(req, d, before, now)
		if !e.journal.Add(store.Entry{Before: before, After: d.Lease, Set: set, Note: waiting{reply: reply, lease: d.Lease, talk: seq}}) {
			if set != nil {
				delete(e.sets.known, d.Lease.Given)
			}
			e.metrics.drop("overload")
			e.Talk.settle(seq, Dropped, time.Now())
			return reply, false
		}
		e.table.Put(d.Lease)
		e.table.DropOffer(d.Lease.Address)
		return reply, false
	case d.Outcome == answer.Acknowledged && e.journal.Pending(d.Address):
		// A repeated request joins the entry that waits.
		seq := e.Talk.begin(p, arrived, req, d, &reply, Recorded, time.Now())
		e.journal.Add(store.Entry{Note: waiting{reply: reply, talk: seq}})
		return reply, false
	case d.Reply == nil:
		e.Talk.begin(p, arrived, req, d, &reply, Silent, time.Now())
		return reply, false
	case d.Delay > 0 && d.Outcome == answer.Offered:
		seq := e.Talk.begin(p, arrived, req, d, &reply, Recorded, time.Now())
		later := []wire.Reply{reply}
		time.AfterFunc(d.Delay, func() {
			e.send(later)
			e.Talk.settle(seq, Sent, time.Now())
		})
		return reply, false
	}
	e.Talk.begin(p, arrived, req, d, &reply, Sent, time.Now())
	return reply, true
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
func (e *Engine) watch(req *answer.Request, d *answer.Decision, now lease.Time) {
	switch d.Outcome {
	case answer.Acknowledged, answer.Informed, answer.Released:
		e.unserved.forget(req, d)
		e.served.Add(now)
	case answer.Offered:
		if d.Why == answer.V6Only {
			e.unserved.forget(req, d)
		}
	case answer.Refused:
		e.unserved.note(req, d, d.Why, now)
	case answer.Ignored:
		switch d.Why {
		case answer.OtherServer:
			e.unserved.forget(req, d)
			e.overhearRequest(req, d, now)
		case answer.NotServed, answer.BadRequest:
		default:
			if req.Message.Type != dhcp4.Release && req.Message.Type != dhcp4.Decline {
				e.unserved.note(req, d, d.Why, now)
			}
		}
	}
}

// Recorded lets the replies of durable entries go (store.Owner).
func (e *Engine) Recorded(entries []store.Entry) {
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
	now := time.Now()
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
	now := time.Now()
	for i := len(entries) - 1; i >= 0; i-- {
		n := entries[i]
		if n.After != nil {
			e.table.Restore(n.After.Address, n.Before)
		}
		if n.Set != nil {
			delete(e.sets.known, n.After.Given) // recorded with the next lease that has it
		}
		e.Talk.settle(n.Note.(waiting).talk, Undone, now)
	}
}

// Tick does what time asks for: offers lapse, leases end, addresses are probed
// ahead.
func (e *Engine) Tick(at time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := lease.At(at)
	e.table.Lapse(now)
	e.unserved.age(now)
	e.probeAhead(now)
	for _, l := range e.table.Due(now) {
		n := l.Ended(lease.Expired, l.Expires)
		if e.journal.Add(store.Entry{Before: l, After: n, Note: waiting{lease: n}}) {
			e.table.Put(n)
		} else {
			e.table.Put(l) // due again with the next tick
		}
	}
}

// SetOwn tells the engine the host's addresses.
func (e *Engine) SetOwn(own map[netip.Addr]bool) { e.own.Store(&own) }

func (e *Engine) isOwn(a netip.Addr) bool { return (*e.own.Load())[a] }
