// Package failover keeps this server and another one a pair: it forms the pair and ends it,
// answers what the partner asks, keeps one plan on both, and says how both stand. What
// either owes the other, and whose a free address is, core/pair decides.
package failover

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/pair/message"
	"yarnpost/core/plan"
	"yarnpost/service/change"
	"yarnpost/service/engine"
	"yarnpost/service/observe"
	"yarnpost/service/partner"
	"yarnpost/service/store"
	"yarnpost/service/work"
)

// Engine serves, and tells the pair what it decides.
type Engine interface {
	Plan() *plan.Plan
	With(func(*lease.Table))
	EachLease(scope plan.ID, share ...func(*lease.Lease))
	// Pair makes the table one of a pair, or of none; it is called within With.
	Pair(*engine.Pairing)
	// WithPair runs f with the pair, or nil, while nothing else is decided, and carries out
	// what that gives.
	WithPair(f func(*pair.Server, *lease.Table) []effect.List)
	Opened()
	Closed()
	FromPartner(message.Message) error
	TickPair()
	// Emptied forgets what is known beside a table that was given up.
	Emptied()
	Own() []netip.Addr
	SetPartner(server netip.Addr, own []netip.Addr, duid addr.DUID)
	DUID() addr.DUID
	Relays() []observe.Relay
	Unserved() []observe.Unserved
	UnservedCount() int
}

// Parts are what a Pair needs.
type Parts struct {
	Engine  Engine
	Store   *store.Store
	Plans   *change.Planner
	Work    *work.Group
	Clock   interface{ Now() time.Time }
	Log     *slog.Logger
	Started time.Time      // when the service did
	Named   string         // how this server is called; "" as its host
	Listen  string         // where a partner is heard
	Server  netip.AddrPort // where DHCPv4 is served
	Health  func() error   // why this server could not serve, if so
	Alive   func() bool    // whether this server decides
	Emptied func()         // is told that the table was given up for the partner's
	Changed func()         // is told that something happened to the pair
}

// Pair is the pair that this server is in, if any.
type Pair struct {
	Parts
	mu       sync.Mutex
	on       *store.Pairing // nil: this server is alone
	channel  *partner.Channel
	invited  *invited
	admitted *admitted
	joining  []byte // identity with which this server asked to join, and got no answer
	events   chan store.PairEvent
	poke     chan struct{}
	came     atomic.Int64 // nanosecond at which anything last came from the partner
	headMu   sync.Mutex   // of plans
	plans    plans
	peer     PeerView  // what the partner last said of itself
	theirs   theirList // what it last said of clients that go without
	access   AccessKeeper
	forwards Forwarder
	answers  map[string]partner.Answer
	along    []func(context.Context) // what else is caught up with
}

// New makes a Pair of what is on record; nil: this server is alone. Start takes it up.
func New(p Parts, on *store.Pairing) *Pair {
	n := &Pair{Parts: p, on: on, events: make(chan store.PairEvent, 256), poke: make(chan struct{}, 1)}
	n.answers = n.ownAnswers()
	return n
}

// AnswerWith adds answers to questions of the partner's, by method. It is called before
// Start.
func (p *Pair) AnswerWith(more map[string]partner.Answer) { maps.Copy(p.answers, more) }

// AlongWith names what else is caught up with when this server and its partner compare what
// they know. It is called before Start.
func (p *Pair) AlongWith(f func(context.Context)) { p.along = append(p.along, f) }

// WritesPlan reports whether this server is the one that changes the plan now: the primary
// does, and the secondary while its partner is down.
func (p *Pair) WritesPlan() bool {
	on, _ := p.paired()
	if on == nil || on.Settings.Side != lease.Secondary {
		return true
	}
	down := false
	err := p.withPair(func(s *pair.Server) ([]effect.List, error) {
		down = s.State() == pair.PartnerDown
		return nil, nil
	})
	return err == nil && down
}

// Stop ends the channel to the partner.
func (p *Pair) Stop() {
	_, channel := p.paired()
	if channel != nil {
		channel.Stop()
		p.noteStopped()
	}
}

// Ask puts a question to the partner. The error is ErrAlone if there is none, and in the
// partner's words if it cannot answer.
func (p *Pair) Ask(ctx context.Context, method string, in, out any) error {
	_, c := p.paired()
	if c == nil {
		return ErrAlone
	}
	return c.Ask(ctx, method, in, out)
}

// Octets counts what questions and answers sent and received.
func (p *Pair) Octets() int {
	if _, c := p.paired(); c != nil {
		return int(c.Octets.Load())
	}
	return 0
}

// Paired reports whether this server is in a pair.
func (p *Pair) Paired() bool {
	on, _ := p.paired()
	return on != nil
}

// PartnerName is how the other server is called.
func (p *Pair) PartnerName() string {
	if on, _ := p.paired(); on != nil {
		return on.Partner.Name
	}
	return "the partner"
}

// ErrAlone is wrapped when there is no pair.
var ErrAlone = errors.New("this server is in no pair")

// ErrPaired is wrapped when there is one already.
var ErrPaired = errors.New("this server is in a pair already; \"yarnpost pair leave\" ends that")

// askTime is how long the partner may take to answer what a person waits for.
const askTime = 5 * time.Second

// paired is the pair that this server is in, with its channel; nil if it is in none.
func (p *Pair) paired() (*store.Pairing, *partner.Channel) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.on, p.channel
}

func hostname() string {
	name, err := os.Hostname()
	if err != nil || name == "" {
		return "server"
	}
	return name
}

// Name is how this server is called in its pair.
func (p *Pair) Name() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on != nil {
		return p.on.Partner.Own
	}
	return cmp.Or(p.Named, hostname())
}

// Start takes up the pair that is on record, and begins to keep both servers together.
func (p *Pair) Start() error {
	p.Work.Go("the history of the pair", p.notePairEvents)
	p.Work.Every(time.Second, "the pair", func(context.Context) { p.Engine.TickPair() })
	p.Work.Go("what both servers of the pair know", p.keepTogether)
	p.Work.Every(5*time.Second, "a partner that left", p.forgetPartner)
	if p.on == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(p.Work.Context(), askTime)
	defer cancel()
	if err := p.Store.NoteStopped(ctx, p.on.Partner.Own+" was last seen at work", StoppedState); err != nil {
		p.Log.Warn("when this server ended is not in the history of the pair", "err", err)
	}
	return p.bePair(false)
}

// bePair makes this server the one of the pair that p.on says. One that was just
// formed goes on serving without a start.
func (p *Pair) bePair(formed bool) error {
	set := p.on.Settings
	if err := p.plansOnRecord(); err != nil {
		return err
	}
	if p.channel == nil {
		c, err := partner.New(p.Log, p.on.Identity, p.handler())
		if err != nil {
			return err
		}
		p.channel = c
	}
	p.channel.Know(p.on.Partner.Certificate)
	p.Engine.With(func(t *lease.Table) {
		if t.Side() != set.Side {
			t.Pair(set.Side)
		}
		s := pair.New(set, t, p.on.Record, lease.At(p.Clock.Now()))
		if formed {
			s.Formed()
		}
		s.TheirPlan = p.plans.theirPlan
		p.Engine.Pair(&engine.Pairing{Server: s, Send: p.channel.Send, Hangup: p.channel.Hangup, Heard: p.lastHeard, State: p.pairState})
	})
	if p.on.Partner.Left != 0 { // nobody is to be heard any more
		p.channel.Close()
	} else if p.on.Partner.Address != "" {
		p.channel.Dial(p.on.Partner.Address)
	} else if p.channel.Address() == nil {
		if err := p.channel.Listen(p.Listen); err != nil {
			return err
		}
	}
	p.Log.Info("one of a pair", "name", p.on.Partner.Own, "partner", p.on.Partner.Name, "side", set.Side)
	if !formed {
		_ = p.withPair(func(s *pair.Server) ([]effect.List, error) {
			p.noteState(p.on.Partner.Own+" started", s.State().String())
			return nil, nil
		})
	}
	return nil
}

// lastHeard is when anything last came from the partner.
func (p *Pair) lastHeard() time.Time { return time.Unix(0, p.came.Load()) }

// pairState notes that the state changed; it is called under the engine's lock.
func (p *Pair) pairState(was, is pair.State) {
	p.Log.Info("the pair", "was", was, "is", is)
	p.noteState(fmt.Sprintf("%s went from %s to %s", p.on.Partner.Own, was, is), is.String())
	p.Nudge()
}

// Note puts a line into the history of the pair. It does not wait.
func (p *Pair) Note(text string) { p.noteState(text, "") }

// noteState is Note with the state that this server is in from now on.
func (p *Pair) noteState(text, state string) {
	select {
	case p.events <- store.PairEvent{At: p.Clock.Now(), Text: text, State: state}:
	default:
	}
}

// noteStopped puts into the history that this server stops.
func (p *Pair) noteStopped() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if err := p.Store.NotePair(ctx, store.PairEvent{At: p.Clock.Now(), Text: p.Name() + " stopped", State: StoppedState}); err != nil {
		p.Log.Warn("that this server stops is not in the history of the pair", "err", err)
	}
}

func (p *Pair) notePairEvents(running context.Context) {
	for {
		select {
		case <-running.Done():
			return
		case e := <-p.events:
			p.notePairEvent(running, e)
		}
	}
}

func (p *Pair) notePairEvent(ctx context.Context, e store.PairEvent) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if err := p.Store.NotePair(ctx, e); err != nil {
		p.Log.Warn("a change of the pair could not be noted", "what", e.Text, "err", err)
	}
	p.Changed()
}

// Nudge has both servers compare what they know of each other soon.
func (p *Pair) Nudge() {
	select {
	case p.poke <- struct{}{}:
	default:
	}
}

// handler is what the channel calls.
func (p *Pair) handler() partner.Handler {
	return partner.Handler{
		Opened:  func() { p.Engine.Opened(); p.Nudge() },
		Message: p.Engine.FromPartner,
		Closed:  p.Engine.Closed,
		Ask:     p.answer,
		Join:    p.admit,
		Came:    func() { p.came.Store(p.Clock.Now().UnixNano()) },
		Alive:   p.Alive,
	}
}

// withPair runs f with the pair under the engine's lock, or says that there is none.
func (p *Pair) withPair(f func(*pair.Server) ([]effect.List, error)) (err error) {
	err = ErrAlone
	p.Engine.WithPair(func(s *pair.Server, _ *lease.Table) (lists []effect.List) {
		if s != nil {
			lists, err = f(s)
		}
		return lists
	})
	return err
}

// Down says that the partner is down: this server serves alone, and takes
// its addresses over once everything has passed that it may have promised.
func (p *Pair) Down() error {
	if err := p.withPair(func(s *pair.Server) ([]effect.List, error) { return s.Down(lease.At(p.Clock.Now())) }); err != nil {
		return err
	}
	p.Note("somebody said that the partner is down")
	p.awaitState(pair.PartnerDown)
	return nil
}

// awaitState waits until a state that was asked for is on record and entered, so that
// what a person does next finds it; not for long, since the database may be away.
func (p *Pair) awaitState(want pair.State) {
	for range 50 {
		is := pair.State(0)
		_ = p.withPair(func(s *pair.Server) ([]effect.List, error) { // without a pair there is none
			is = s.State()
			return nil, nil
		})
		if is == want {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// Pause leaves all clients to the partner, or shares them with it again.
func (p *Pair) Pause(on bool) error {
	err := p.withPair(func(s *pair.Server) ([]effect.List, error) {
		if on {
			if partner, connected := s.Partner(); s.State() != pair.Normal || !connected || partner != pair.Normal || s.Resting() {
				return nil, errors.New("the partner does not stand by: this server is the only one that serves, so it goes on")
			}
		}
		return s.Pause(on, lease.At(p.Clock.Now())), nil
	})
	if err == nil {
		p.Note(fmt.Sprintf("%s %s", p.Name(), map[bool]string{true: "leaves all clients to the partner", false: "serves again"}[on]))
	}
	return err
}

// Rebalance splits free addresses anew, and tells how many this server gives away; the
// partner is asked for the same.
func (p *Pair) Rebalance() (changed int, err error) {
	err = p.withPair(func(s *pair.Server) (lists []effect.List, err error) {
		lists, changed, err = s.Rebalance(lease.At(p.Clock.Now()))
		return lists, err
	})
	return changed, err
}

// TellAgain has both servers tell each other again what they know of addresses of which
// they know different things; the newer, by what each knew of the other, stays.
func (p *Pair) TellAgain(list []netip.Prefix) error {
	if len(list) == 0 {
		return errors.New("name the addresses to mend")
	}
	return p.withPair(func(s *pair.Server) ([]effect.List, error) { return s.TellAgain(list, lease.At(p.Clock.Now())) })
}
