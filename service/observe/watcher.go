// Package observe watches what the engine does, and keeps
// what people want to know of it: conversations, who goes without, which relays
// are heard, what other servers give, which rules fit. Nothing that serves depends
// on it. The engine calls it, and its readers, under its own lock; conversations
// have one of their own.
package observe

import (
	"log/slog"
	"net/netip"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// Host is what the watchers may ask of the engine, under its lock.
type Host struct {
	Table  *lease.Table
	Log    *slog.Logger
	Own    func(request.Server) bool             // tells whether a server is this one, or its partner
	World  func(time.Time) answer.World          // that decisions are based on
	Become func(before, after *lease.Lease) bool // records what was learned
	Probe  func(netip.Addr) bool                 // asks whether somebody is there, if it can
}

// Watcher is all that is kept.
type Watcher struct {
	Talk     *Conversations
	Unserved *UnservedList
	Served   *Window // acknowledgements
	Relays   *Relays
	Shadow   *Shadow
	Twins    *Twins
	Waits    *Waits
	fits     map[plan.ID]*Fits
	host     *Host
}

// New is a watcher that has seen nothing yet.
func New(h *Host) *Watcher {
	u := newUnserved()
	return &Watcher{Talk: &Conversations{}, Unserved: u, Served: &Window{}, Relays: newRelays(), Shadow: newShadow(h), Twins: newTwins(u),
		Waits: &Waits{}, fits: map[plan.ID]*Fits{}, host: h}
}

// Fits counts how often a rule fitted.
type Fits struct {
	Count uint64
	Last  lease.Time
}

// FitsOf says how often a rule fitted.
func (r *Watcher) FitsOf(rule plan.ID) (f Fits) {
	if of := r.fits[rule]; of != nil {
		f = *of
	}
	return f
}

// Decided takes in a decision that is carried out.
func (r *Watcher) Decided(req *request.Request, d *answer.Decision, at time.Time) {
	for i := range d.Answers {
		r.answered(Case{req, d, &d.Answers[i]}, at)
	}
}

// Case is one answer of a decision, with the request that it belongs to.
type Case struct {
	*request.Request
	Decision *answer.Decision
	*answer.Answer
}

func (r *Watcher) answered(c Case, at time.Time) {
	now := lease.At(at)
	for _, of := range c.Fitted {
		f := r.fits[of.ID]
		if f == nil {
			f = &Fits{}
			r.fits[of.ID] = f
		}
		f.Count, f.Last = f.Count+1, now
	}
	if c.Trouble != "" {
		r.Unserved.Trouble(c, c.Trouble, now)
	}
	if c.Twin != nil {
		r.Twins.Note(c, now, r.host.Probe)
	} else if c.Outcome == answer.Acknowledged {
		r.Twins.Back(c.Answer.Address(), c.Hardware)
	}
	switch c.Outcome {
	case answer.Acknowledged, answer.Informed, answer.Released:
		r.Unserved.Forget(c)
		r.Served.Add(now)
	case answer.Declined:
		if c.Why != "" {
			r.Unserved.Trouble(c, c.Why, now)
		}
	case answer.Offered:
		if c.Why == reason.V6Only {
			r.Unserved.Forget(c)
		}
	case answer.Refused:
		r.Unserved.Note(c, c.Why, now)
	case answer.Ignored:
		r.ignored(c, at)
	}
}

func (r *Watcher) ignored(c Case, at time.Time) {
	switch c.Why {
	case reason.OtherServer:
		if c.Kind == request.Select {
			r.Unserved.Forget(c)
			r.Shadow.Request(c, at)
		}
	case reason.NotServed, reason.BadRequest, reason.ForeignSource:
	case reason.PartnerServes, reason.Recovering: // the other server answers: nobody goes without because of it
		r.Waits.left(c, at)
	default:
		if !c.Kind.GivesUp() {
			r.Unserved.Note(c, c.Why, lease.At(at))
		}
	}
}

// Given takes in that the other server of a pair gave a lease.
func (r *Watcher) Given(l *lease.Lease, at time.Time) {
	r.Unserved.Served(l)
	r.Waits.given(l, at)
}

// Memory is what a restart should not make the service forget.
type Memory struct {
	Unserved     []Wanting
	Relays       map[netip.Addr]Pulse
	Fits         map[plan.ID]Fits
	Agreements   []Agreement
	OtherServers []Heard
}

// Wanting is an unserved client with where it was heard.
type Wanting struct {
	From   string
	Client Unserved
}

// Heard is another server with where it was heard.
type Heard struct {
	Link        plan.ID
	OtherServer OtherServer
}

// Memory is what there is to remember.
func (r *Watcher) Memory() Memory {
	m := Memory{Relays: map[netip.Addr]Pulse{}, Fits: map[plan.ID]Fits{}}
	for k, c := range r.Unserved.clients.All() {
		m.Unserved = append(m.Unserved, Wanting{k.from, *c})
	}
	for a, p := range r.Relays.heard.All() {
		m.Relays[a] = *p
	}
	for id, f := range r.fits {
		m.Fits[id] = *f
	}
	for _, a := range r.Shadow.clients.All() {
		m.Agreements = append(m.Agreements, *a)
	}
	for k, v := range r.Shadow.others.All() {
		m.OtherServers = append(m.OtherServers, Heard{k.link, *v})
	}
	return m
}

// Recall takes up what was remembered before a pause in which nobody listened.
func (r *Watcher) Recall(m Memory, now, pause lease.Time) {
	for _, c := range m.Unserved {
		k := unservedKey{c.Client.Client, c.From}
		r.Unserved.clients.Put(k, &c.Client)
		r.Unserved.heard(k, &c.Client)
	}
	r.Unserved.Age(now)
	for a, p := range m.Relays {
		p.Asked = 0
		p.Last += max(pause, 0) // nobody was silent while nobody listened
		r.Relays.heard.Put(a, &p)
	}
	for id, f := range m.Fits {
		r.fits[id] = &f
	}
	for _, a := range m.Agreements {
		r.Shadow.clients.Put(a.Client, &a)
	}
	for _, v := range m.OtherServers {
		r.Shadow.others.Put(otherKey{v.Link, v.OtherServer.Server}, &v.OtherServer)
	}
}
