// Package failover keeps this server and another one a pair: it forms the pair and ends it,
// answers what the partner asks, keeps one plan on both, and says how both stand. What
// either owes the other, and whose a free address is, core/pair decides.
package failover

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"time"

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
	SetPartner(server netip.Addr, own []netip.Addr)
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

// invited is an invitation that is open.
type invited struct {
	hash     [32]byte
	until    time.Time
	settings pair.Settings
	identity []byte
}

// admitted is what the partner was told when it joined by an invitation: it is told the
// same once more if it did not hear that.
type admitted struct {
	hash   [32]byte
	until  time.Time
	answer joinAnswer
}

// invitationTime is how long an invitation is good.
const invitationTime = 15 * time.Minute

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

// Invitation is what Invite gives.
type Invitation struct {
	Code  string
	Until time.Time
}

// Invite opens this server to one that joins it, and gives the line to paste there.
func (p *Pair) Invite(at string, set pair.Settings) (Invitation, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on != nil && p.on.Partner.Left == 0 {
		return Invitation{}, ErrPaired
	}
	if p.on != nil && p.on.Settings.Side != lease.Primary {
		return Invitation{},
			fmt.Errorf("the former partner may have promised addresses until %s; invite another one then, or have it invite this server",
				p.on.Partner.Left.Std().Format("15:04 UTC on 2 Jan"))
	}
	if err := checkSettings(set); err != nil {
		return Invitation{}, err
	}
	if _, _, err := net.SplitHostPort(at); err != nil {
		_, port, bad := net.SplitHostPort(p.Listen)
		if bad != nil {
			return Invitation{}, fmt.Errorf("--partner %s: write an address and a port", p.Listen)
		}
		at = net.JoinHostPort(at, port)
	}
	identity, err := partner.NewIdentity(cmp.Or(p.Named, hostname()), p.Clock.Now())
	if err != nil {
		return Invitation{}, err
	}
	i, err := partner.NewInvitation(at, identity)
	if err != nil {
		return Invitation{}, err
	}
	if p.channel != nil { // of an earlier invitation, whose handlers may wait for this very lock
		p.channel.Close()
		p.channel = nil
	}
	c, err := partner.New(p.Log, identity, p.handler())
	if err != nil {
		return Invitation{}, err
	}
	if err := c.Listen(p.Listen); err != nil {
		return Invitation{}, err
	}
	set.Side = lease.Primary
	set.Name = rand.Text()
	p.channel = c
	p.invited = &invited{hash: sha256.Sum256(i.Secret[:]), until: p.Clock.Now().Add(invitationTime), settings: set.Defaults(),
		identity: identity}
	return Invitation{i.Code(), p.invited.until}, nil
}

func checkSettings(set pair.Settings) error {
	switch {
	case set.Split < 0 || set.Split > 100:
		return fmt.Errorf("split %d: of a hundred clients the primary answers 0 to 100", set.Split)
	case set.MCLT != 0 && (set.MCLT < time.Minute || set.MCLT > 24*time.Hour):
		return fmt.Errorf("lead time %s: it is a minute to a day", set.MCLT)
	case set.AutoDown != 0 && set.AutoDown < time.Minute:
		return fmt.Errorf("auto-down %s: it is a minute at least, or 0 for never", set.AutoDown)
	}
	return nil
}

// joinRequest is what a server says that joins.
type joinRequest struct {
	Secret  []byte `json:"secret"`
	Name    string `json:"name"`
	Version int    `json:"version"`
}

type joinAnswer struct {
	Name     string        `json:"name"`
	Settings pair.Settings `json:"settings"`
	Wait     bool          `json:"wait"` // a partner before this one may have promised something
}

// joinVersion is the version of what is said when joining.
const joinVersion = 1

// admit makes the server that knows the secret of an invitation the partner.
func (p *Pair) admit(ctx context.Context, in json.RawMessage, certificate []byte) (any, error) {
	var r joinRequest
	if err := json.Unmarshal(in, &r); err != nil {
		return nil, errors.New("what it says cannot be read")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	i := p.invited
	hash := sha256.Sum256(r.Secret)
	if a := p.admitted; a != nil && p.on != nil && p.Clock.Now().Before(a.until) && subtle.ConstantTimeCompare(hash[:], a.hash[:]) == 1 &&
		bytes.Equal(certificate, p.on.Partner.Certificate) {
		return a.answer, nil // it did not hear the answer
	}
	switch {
	case i == nil || p.on != nil && p.on.Partner.Left == 0 || p.Clock.Now().After(i.until):
		return nil, errors.New("no invitation is open here; make a new one with \"yarnpost pair invite\"")
	case subtle.ConstantTimeCompare(hash[:], i.hash[:]) != 1:
		return nil, errors.New("this is not the invitation that is open here")
	case r.Version != joinVersion:
		return nil, fmt.Errorf("it speaks version %d of joining, this server %d; bring both to the same version", r.Version, joinVersion)
	}
	own := cmp.Or(p.Named, hostname())
	name := cmp.Or(r.Name, "partner")
	if name == own {
		name += "-2"
	}
	before := false // somebody was the partner before, and may have promised something
	p.Engine.With(func(t *lease.Table) {
		for l := range t.Blocks {
			before = before || l.Prefix.IsValid()
		}
	})
	next := &store.Pairing{Settings: i.settings, Identity: i.identity,
		Partner: store.Partner{Name: name, Own: own, Certificate: certificate},
		Record:  pair.Record{State: pair.CommunicationsInterrupted, Since: lease.At(p.Clock.Now())}}
	if p.on != nil { // what a former partner may have promised holds with a new one, too
		next.Record = pair.Record{State: pair.PartnerDown, Since: lease.At(p.Clock.Now()), Down: lease.At(p.Clock.Now())}
	}
	if err := p.Store.SavePairing(ctx, next, false); err != nil {
		return nil, errors.New("the pair could not be recorded; the log of the inviting server says why")
	}
	p.on, p.invited = next, nil
	if err := p.bePair(true); err != nil {
		return nil, err
	}
	p.Note(fmt.Sprintf("%s formed a pair with %s", own, name))
	set := i.settings
	set.Side = lease.Secondary
	p.admitted = &admitted{hash: hash, until: i.until, answer: joinAnswer{own, set, before}}
	return p.admitted.answer, nil
}

// Join makes this server the second of the pair that an invitation is to. What it
// has of a plan and of leases is given up, if that is said.
func (p *Pair) Join(ctx context.Context, code string, giveUp bool) error {
	defer p.Plans.Hold()() // always before the pair's lock
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on != nil && p.on.Partner.Left == 0 {
		return ErrPaired
	}
	i, err := partner.ParseInvitation(code)
	if err != nil {
		return err
	}
	if text := p.whatItHas(); text != "" && !giveUp {
		return fmt.Errorf("%w: this server has %s of its own, which joining gives up for the other's", change.ErrConfirm, text)
	}
	own := cmp.Or(p.Named, hostname())
	// One that joins again, because it did not hear the answer, is known by the
	// certificate that it showed.
	if p.joining == nil {
		if p.joining, err = partner.NewIdentity(own, p.Clock.Now()); err != nil {
			return err
		}
	}
	identity := p.joining
	var out joinAnswer
	certificate, err := partner.Join(ctx, i, identity, joinRequest{i.Secret[:], own, joinVersion}, &out)
	if err != nil {
		return err
	}
	if own == out.Name {
		own += "-2"
	}
	now := lease.At(p.Clock.Now())
	next := &store.Pairing{Settings: out.Settings, Identity: identity,
		Partner: store.Partner{Name: out.Name, Own: own, Address: i.Address, Certificate: certificate},
		Record:  pair.Record{State: pair.Recover, Since: now, Empty: true, Wait: 1}}
	if out.Wait {
		next.Record.Wait = now
	}
	// From now on nobody is answered, so nothing is recorded any more.
	p.Engine.With(func(t *lease.Table) {
		p.Engine.Pair(&engine.Pairing{Server: pair.New(out.Settings, t, next.Record, now), Send: func([]byte) {}, Hangup: func() {}})
	})
	time.Sleep(100 * time.Millisecond)
	if err := p.Store.SavePairing(context.WithoutCancel(ctx), next, true); err != nil {
		p.Engine.With(func(*lease.Table) { p.Engine.Pair(nil) })
		return err
	}
	if p.access != nil { // whose passwords are the other's from now on
		if err := p.access.Reload(context.WithoutCancel(ctx)); err != nil {
			p.Log.Warn("accounts could not be read anew", "err", err)
		}
	}
	p.on, p.invited, p.joining = next, nil, nil
	if p.channel != nil {
		p.channel.Close()
		p.channel = nil
	}
	p.Engine.With(func(t *lease.Table) { t.Reset(plan.New(), now) })
	p.Engine.Emptied()
	p.Emptied()
	p.Plans.Forget()
	if err := p.bePair(false); err != nil {
		return err
	}
	p.Note(fmt.Sprintf("%s joined %s", own, out.Name))
	return nil
}

// whatItHas says what would be lost, or "".
func (p *Pair) whatItHas() string {
	held := 0
	now := lease.At(p.Clock.Now())
	p.Engine.EachLease(0, func(l *lease.Lease) {
		if l.HeldAt(now) {
			held++
		}
	})
	switch scopes := len(p.Engine.Plan().Scopes()); {
	case scopes > 0 && held > 0:
		return fmt.Sprintf("a plan (%d scopes) and leases of %s", scopes, change.Clients(held))
	case scopes > 0:
		return fmt.Sprintf("a plan (%d scopes)", scopes)
	case held > 0:
		return "leases of " + change.Clients(held)
	}
	return ""
}

// Leave takes this server out of its pair. A partner that can be heard goes on with what
// both had, and this server listens until a person has it serve again: both serve the
// same clients otherwise. If it cannot be heard, leaving is declaring it down: what it
// promised holds until it is over.
func (p *Pair) Leave(ctx context.Context) error {
	on, channel := p.paired()
	if on == nil || on.Partner.Left != 0 {
		return ErrAlone
	}
	told := false
	if channel != nil { // the other one is told at once; it may be away, which is why one leaves
		soon, cancel := context.WithTimeout(ctx, askTime)
		told = channel.Ask(soon, "pair.left", struct{}{}, nil) == nil
		cancel()
	}
	if !told {
		return p.partWith(ctx, fmt.Sprintf("%s left the pair with %s, which could not be heard", on.Partner.Own, on.Partner.Name))
	}
	defer p.Plans.Hold()() // always before the pair's lock
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil {
		return ErrAlone
	}
	// From now on nobody is answered here.
	p.Engine.With(func(t *lease.Table) {
		s := pair.New(on.Settings, t, pair.Record{State: pair.Recover, Empty: true, Wait: 1}, lease.At(p.Clock.Now()))
		p.Engine.Pair(&engine.Pairing{Server: s, Send: func([]byte) {}, Hangup: func() {}})
	})
	if err := p.listen(ctx, on.Partner.Name); err != nil {
		p.Log.Error("this server left the pair and could not be made to listen; it answers nobody until it is started again", "err", err)
	}
	if err := p.Store.SavePairing(context.WithoutCancel(ctx), nil, false); err != nil {
		return err
	}
	p.Note(fmt.Sprintf("%s left the pair with %s, which serves on; %s listens", on.Partner.Own, on.Partner.Name, on.Partner.Own))
	p.becomeAlone()
	return nil
}

// listen has the whole server listen. The caller holds the plan.
func (p *Pair) listen(ctx context.Context, partner string) error {
	return p.Plans.ByItself(ctx,
		"left the pair; "+partner+" serves its clients. \"yarnpost defaults edit --listening=false\" serves here again",
		func(d *plan.Draft) error {
			of := d.Plan().Defaults
			of.Listening = true
			return d.SetDefaults(of)
		})
}

// partWith goes on without the partner, which is no partner any more: its addresses are
// kept as long as it may have promised them.
func (p *Pair) partWith(ctx context.Context, event string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil || p.on.Partner.Left != 0 {
		return ErrAlone
	}
	if c := p.channel; c != nil {
		c.Know(nil)
		c.Close()
	}
	var until lease.Time
	if err := p.withPair(func(s *pair.Server) (lists []effect.List, err error) {
		lists, until = s.Left(lease.At(p.Clock.Now()))
		return lists, nil
	}); err != nil {
		return err
	}
	next := *p.on
	next.Partner.Left = until
	if err := p.Store.SavePartner(context.WithoutCancel(ctx), next.Partner); err != nil {
		return err
	}
	p.on = &next
	p.Note(event)
	return nil
}

// forgetPartner makes a server alone whose partner left, once all is over that it may have
// promised, and its addresses were taken.
func (p *Pair) forgetPartner(ctx context.Context) {
	const margin = 2 * 60 // seconds in which a walk takes them
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil || p.on.Partner.Left == 0 || lease.At(p.Clock.Now()) < p.on.Partner.Left+margin {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if err := p.Store.SavePairing(ctx, nil, false); err != nil {
		p.Log.Warn("that the pair is over could not be recorded yet", "err", err)
		return
	}
	p.Note(p.on.Partner.Own + " is alone: all is over that the former partner may have promised")
	p.becomeAlone()
}

// becomeAlone ends the pair; it is off the record already. The caller holds p.mu.
func (p *Pair) becomeAlone() {
	p.on = nil
	p.Engine.With(func(t *lease.Table) {
		p.Engine.Pair(nil)
		t.Pair(lease.Alone)
	})
	if c := p.channel; c != nil {
		p.channel = nil
		go c.Stop() // it may be the channel itself that calls
	}
	p.Changed()
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

// Edit changes settings of the pair on both servers.
func (p *Pair) Edit(ctx context.Context, edit func(*pair.Settings)) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil {
		return ErrAlone
	}
	set := p.on.Settings
	edit(&set)
	set.Number++
	if err := checkSettings(set); err != nil {
		return err
	}
	set = p.on.Settings.Changed(set)
	theirs := set
	theirs.Side = set.Side.Other()
	ctx, cancel := context.WithTimeout(ctx, askTime) // the other may be doing the same
	defer cancel()
	if err := p.channel.Ask(ctx, "pair.settings", theirs, nil); err != nil {
		return fmt.Errorf("settings of a pair are changed on both servers, and this one cannot reach the other: %w", err)
	}
	return p.takeSettings(ctx, set)
}

// settleSettings takes over settings that the partner has and this server missed, because it
// could not record them, or did not hear of them.
func (p *Pair) settleSettings(ctx context.Context, theirs pair.Settings) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil || theirs.Number <= p.on.Settings.Number {
		return nil
	}
	return p.takeSettings(ctx, p.on.Settings.Changed(theirs))
}

// takeSettings puts other settings in force: the pair begins anew with them. The
// caller holds p.mu.
func (p *Pair) takeSettings(ctx context.Context, set pair.Settings) error {
	if err := p.Store.SaveSettings(ctx, set); err != nil {
		return err
	}
	p.on.Settings = set
	return p.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.Use(set)
		return nil, nil
	})
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
