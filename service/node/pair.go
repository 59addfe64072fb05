package node

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
	"net"
	"os"
	"sync"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/service/engine"
	"yarnpost/service/partner"
	"yarnpost/service/store"
)

// pairing is the pair that this server is in, if any.
type pairing struct {
	mu       sync.Mutex
	on       *store.Pairing // nil: this server is alone
	channel  *partner.Channel
	invited  *invited
	admitted *admitted
	joining  []byte // identity with which this server asked to join, and got no answer
	events   chan store.PairEvent
	poke     chan struct{}
	came     beat       // when anything last came from the partner
	headMu   sync.Mutex // of plans
	plans    plans
	peer     PeerView // what the partner last said of itself
	access   AccessKeeper
	forwards Forwarder
	drill    *Drill // that runs, or ran last
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
func (n *Node) paired() (*store.Pairing, *partner.Channel) {
	n.pair.mu.Lock()
	defer n.pair.mu.Unlock()
	return n.pair.on, n.pair.channel
}

func hostname() string {
	name, err := os.Hostname()
	if err != nil || name == "" {
		return "server"
	}
	return name
}

// Name is how this server is called in its pair.
func (n *Node) Name() string {
	n.pair.mu.Lock()
	defer n.pair.mu.Unlock()
	if n.pair.on != nil {
		return n.pair.on.Partner.Own
	}
	return cmp.Or(n.config.Name, hostname())
}

// startPair takes up the pair that is on record.
func (n *Node) startPair() error {
	p := &n.pair
	p.events, p.poke = make(chan store.PairEvent, 256), make(chan struct{}, 1)
	n.workers.Go(func() { n.notePairEvents() })
	n.workers.Go(func() { n.every(n.running, time.Second, n.guarded("the pair", n.engine.TickPair)) })
	n.workers.Go(func() { n.keepTogether() })
	n.workers.Go(func() { n.every(n.running, 5*time.Second, n.guarded("a partner that left", n.forgetPartner)) })
	if p.on == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(n.running, askTime)
	defer cancel()
	if err := n.store.NoteStopped(ctx, p.on.Partner.Own+" was last seen at work", StoppedState); err != nil {
		n.log.Warn("when this server ended is not in the history of the pair", "err", err)
	}
	return n.bePair(false)
}

// bePair makes this server the one of the pair that p.on says. One that was just
// formed goes on serving without a start.
func (n *Node) bePair(formed bool) error {
	p := &n.pair
	set := p.on.Settings
	if err := n.plansOnRecord(); err != nil {
		return err
	}
	if p.channel == nil {
		c, err := partner.New(n.log, p.on.Identity, n.handler())
		if err != nil {
			return err
		}
		p.channel = c
	}
	p.channel.Know(p.on.Partner.Certificate)
	n.engine.With(func(t *lease.Table) {
		if t.Side() != set.Side {
			t.Pair(set.Side)
		}
		s := pair.New(set, t, p.on.Record, lease.At(n.clock.Now()))
		if formed {
			s.Formed()
		}
		s.TheirPlan = p.plans.theirPlan
		n.engine.Pair(&engine.Pairing{Server: s, Send: p.channel.Send, Hangup: p.channel.Hangup, Heard: p.came.at, State: n.pairState})
	})
	if p.on.Partner.Left != 0 { // nobody is to be heard any more
		p.channel.Close()
	} else if p.on.Partner.Address != "" {
		p.channel.Dial(p.on.Partner.Address)
	} else if p.channel.Address() == nil {
		if err := p.channel.Listen(n.config.Partner); err != nil {
			return err
		}
	}
	n.log.Info("one of a pair", "name", p.on.Partner.Own, "partner", p.on.Partner.Name, "side", set.Side)
	if !formed {
		_ = n.withPair(func(s *pair.Server) ([]effect.List, error) {
			n.noteState(p.on.Partner.Own+" started", s.State().String())
			return nil, nil
		})
	}
	return nil
}

// pairState notes that the state changed; it is called under the engine's lock.
func (n *Node) pairState(was, is pair.State) {
	n.log.Info("the pair", "was", was, "is", is)
	n.noteState(fmt.Sprintf("%s went from %s to %s", n.pair.on.Partner.Own, was, is), is.String())
	n.nudgePair()
}

// noteEvent puts a line into the history of the pair. It does not wait.
func (n *Node) noteEvent(text string) { n.noteState(text, "") }

// noteState is noteEvent with the state that this server is in from now on.
func (n *Node) noteState(text, state string) {
	select {
	case n.pair.events <- store.PairEvent{At: n.clock.Now(), Text: text, State: state}:
	default:
	}
}

// noteStopped puts into the history that this server stops.
func (n *Node) noteStopped() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if err := n.store.NotePair(ctx, store.PairEvent{At: n.clock.Now(), Text: n.Name() + " stopped", State: StoppedState}); err != nil {
		n.log.Warn("that this server stops is not in the history of the pair", "err", err)
	}
}

func (n *Node) notePairEvents() {
	for {
		select {
		case <-n.running.Done():
			return
		case e := <-n.pair.events:
			ctx, cancel := context.WithTimeout(n.running, 30*time.Second)
			if err := n.store.NotePair(ctx, e); err != nil {
				n.log.Warn("a change of the pair could not be noted", "what", e.Text, "err", err)
			}
			cancel()
			n.events.Publish(engine.Event{Pair: true})
		}
	}
}

// nudgePair has both servers compare what they know of each other soon.
func (n *Node) nudgePair() {
	select {
	case n.pair.poke <- struct{}{}:
	default:
	}
}

// handler is what the channel calls.
func (n *Node) handler() partner.Handler {
	return partner.Handler{
		Opened:  func() { n.engine.Opened(); n.nudgePair() },
		Message: n.engine.FromPartner,
		Closed:  n.engine.Closed,
		Ask:     n.answer,
		Join:    n.admit,
		Came:    func() { n.pair.came.take(n.clock.Now()) },
		Alive:   func() bool { return n.clock.Now().Sub(n.beat.at()) < beatLate },
	}
}

// Invitation is what Invite gives.
type Invitation struct {
	Code  string
	Until time.Time
}

// Invite opens this server to one that joins it, and gives the line to paste there.
func (n *Node) Invite(at string, set pair.Settings) (Invitation, error) {
	p := &n.pair
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on != nil && p.on.Partner.Left == 0 {
		return Invitation{}, ErrPaired
	}
	if p.on != nil && p.on.Settings.Side != lease.Primary {
		return Invitation{}, fmt.Errorf("the former partner may have promised addresses until %s; invite another one then, or have it invite this server",
			p.on.Partner.Left.Std().Format("15:04 UTC on 2 Jan"))
	}
	if err := checkSettings(set); err != nil {
		return Invitation{}, err
	}
	if _, _, err := net.SplitHostPort(at); err != nil {
		_, port, bad := net.SplitHostPort(n.config.Partner)
		if bad != nil {
			return Invitation{}, fmt.Errorf("--partner %s: write an address and a port", n.config.Partner)
		}
		at = net.JoinHostPort(at, port)
	}
	identity, err := partner.NewIdentity(cmp.Or(n.config.Name, hostname()), n.clock.Now())
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
	c, err := partner.New(n.log, identity, n.handler())
	if err != nil {
		return Invitation{}, err
	}
	if err := c.Listen(n.config.Partner); err != nil {
		return Invitation{}, err
	}
	set.Side = lease.Primary
	set.Name = rand.Text()
	p.channel = c
	p.invited = &invited{hash: sha256.Sum256(i.Secret[:]), until: n.clock.Now().Add(invitationTime), settings: set.Defaults(),
		identity: identity}
	return Invitation{i.Code(), p.invited.until}, nil
}

func checkSettings(set pair.Settings) error {
	switch {
	case set.Split < 0 || set.Split > 100:
		return fmt.Errorf("split %d: of a hundred clients the primary answers 0 to 100", set.Split)
	case set.Lead != 0 && (set.Lead < time.Minute || set.Lead > 24*time.Hour):
		return fmt.Errorf("lead time %s: it is a minute to a day", set.Lead)
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
func (n *Node) admit(ctx context.Context, in json.RawMessage, certificate []byte) (any, error) {
	var r joinRequest
	if err := json.Unmarshal(in, &r); err != nil {
		return nil, errors.New("what it says cannot be read")
	}
	p := &n.pair
	p.mu.Lock()
	defer p.mu.Unlock()
	i := p.invited
	hash := sha256.Sum256(r.Secret)
	if a := p.admitted; a != nil && p.on != nil && n.clock.Now().Before(a.until) && subtle.ConstantTimeCompare(hash[:], a.hash[:]) == 1 &&
		bytes.Equal(certificate, p.on.Partner.Certificate) {
		return a.answer, nil // it did not hear the answer
	}
	switch {
	case i == nil || p.on != nil && p.on.Partner.Left == 0 || n.clock.Now().After(i.until):
		return nil, errors.New("no invitation is open here; make a new one with \"yarnpost pair invite\"")
	case subtle.ConstantTimeCompare(hash[:], i.hash[:]) != 1:
		return nil, errors.New("this is not the invitation that is open here")
	case r.Version != joinVersion:
		return nil, fmt.Errorf("it speaks version %d of joining, this server %d; bring both to the same version", r.Version, joinVersion)
	}
	own := cmp.Or(n.config.Name, hostname())
	name := cmp.Or(r.Name, "partner")
	if name == own {
		name += "-2"
	}
	before := false // somebody was the partner before, and may have promised something
	n.engine.With(func(t *lease.Table) {
		for l := range t.Blocks {
			before = before || l.Prefix.IsValid()
		}
	})
	next := &store.Pairing{Settings: i.settings, Identity: i.identity,
		Partner: store.Partner{Name: name, Own: own, Certificate: certificate},
		Record:  pair.Record{State: pair.CommunicationsInterrupted, Since: lease.At(n.clock.Now())}}
	if p.on != nil { // what a former partner may have promised holds with a new one, too
		next.Record = pair.Record{State: pair.PartnerDown, Since: lease.At(n.clock.Now()), Down: lease.At(n.clock.Now())}
	}
	if err := n.store.SavePairing(ctx, next, false); err != nil {
		return nil, errors.New("the pair could not be recorded; the log of the inviting server says why")
	}
	p.on, p.invited = next, nil
	if err := n.bePair(true); err != nil {
		return nil, err
	}
	n.noteEvent(fmt.Sprintf("%s formed a pair with %s", own, name))
	set := i.settings
	set.Side = lease.Secondary
	p.admitted = &admitted{hash: hash, until: i.until, answer: joinAnswer{own, set, before}}
	return p.admitted.answer, nil
}

// Join makes this server the second of the pair that an invitation is to. What it
// has of a plan and of leases is given up, if that is said.
func (n *Node) Join(ctx context.Context, code string, giveUp bool) error {
	p := &n.pair
	n.planMu.Lock() // always before the pair's
	defer n.planMu.Unlock()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on != nil && p.on.Partner.Left == 0 {
		return ErrPaired
	}
	i, err := partner.ParseInvitation(code)
	if err != nil {
		return err
	}
	if text := n.whatItHas(); text != "" && !giveUp {
		return fmt.Errorf("%w: this server has %s of its own, which joining gives up for the other's", ErrConfirm, text)
	}
	own := cmp.Or(n.config.Name, hostname())
	// One that joins again, because it did not hear the answer, is known by the
	// certificate that it showed.
	if p.joining == nil {
		if p.joining, err = partner.NewIdentity(own, n.clock.Now()); err != nil {
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
	now := lease.At(n.clock.Now())
	next := &store.Pairing{Settings: out.Settings, Identity: identity,
		Partner: store.Partner{Name: out.Name, Own: own, Address: i.Address, Certificate: certificate},
		Record:  pair.Record{State: pair.Recover, Since: now, Empty: true, Wait: 1}}
	if out.Wait {
		next.Record.Wait = now
	}
	// From now on nobody is answered, so nothing is recorded any more.
	n.engine.With(func(t *lease.Table) {
		n.engine.Pair(&engine.Pairing{Server: pair.New(out.Settings, t, next.Record, now), Send: func([]byte) {}, Hangup: func() {}})
	})
	time.Sleep(100 * time.Millisecond)
	if err := n.store.SavePairing(context.WithoutCancel(ctx), next, true); err != nil {
		n.engine.With(func(*lease.Table) { n.engine.Pair(nil) })
		return err
	}
	if p.access != nil { // whose passwords are the other's from now on
		if err := p.access.Reload(context.WithoutCancel(ctx)); err != nil {
			n.log.Warn("accounts could not be read anew", "err", err)
		}
	}
	p.on, p.invited, p.joining = next, nil, nil
	if p.channel != nil {
		p.channel.Close()
		p.channel = nil
	}
	n.engine.With(func(t *lease.Table) { t.Reset(plan.New(), now) })
	n.engine.Emptied()
	n.samples.Emptied()
	n.changed = nil
	if err := n.bePair(false); err != nil {
		return err
	}
	n.noteEvent(fmt.Sprintf("%s joined %s", own, out.Name))
	return nil
}

// whatItHas says what would be lost, or "".
func (n *Node) whatItHas() string {
	held := 0
	now := lease.At(n.clock.Now())
	n.EachLease(0, func(l *lease.Lease) {
		if l.HeldAt(now) {
			held++
		}
	})
	switch scopes := len(n.engine.Plan().Scopes()); {
	case scopes > 0 && held > 0:
		return fmt.Sprintf("a plan (%d scopes) and leases of %s", scopes, clients(held))
	case scopes > 0:
		return fmt.Sprintf("a plan (%d scopes)", scopes)
	case held > 0:
		return "leases of " + clients(held)
	}
	return ""
}

// Leave takes this server out of its pair. A partner that can be heard goes on with what
// both had, and this server listens until a person has it serve again: both serve the
// same clients otherwise. If it cannot be heard, leaving is declaring it down: what it
// promised holds until it is over.
func (n *Node) Leave(ctx context.Context) error {
	on, channel := n.paired()
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
		return n.partWith(ctx, fmt.Sprintf("%s left the pair with %s, which could not be heard", on.Partner.Own, on.Partner.Name))
	}
	n.planMu.Lock() // always before the pair's
	defer n.planMu.Unlock()
	n.pair.mu.Lock()
	defer n.pair.mu.Unlock()
	if n.pair.on == nil {
		return ErrAlone
	}
	// From now on nobody is answered here.
	n.engine.With(func(t *lease.Table) {
		s := pair.New(on.Settings, t, pair.Record{State: pair.Recover, Empty: true, Wait: 1}, lease.At(n.clock.Now()))
		n.engine.Pair(&engine.Pairing{Server: s, Send: func([]byte) {}, Hangup: func() {}})
	})
	if err := n.listen(ctx, on.Partner.Name); err != nil {
		n.log.Error("this server left the pair and could not be made to listen; it answers nobody until it is started again", "err", err)
	}
	if err := n.store.SavePairing(context.WithoutCancel(ctx), nil, false); err != nil {
		return err
	}
	n.noteEvent(fmt.Sprintf("%s left the pair with %s, which serves on; %s listens", on.Partner.Own, on.Partner.Name, on.Partner.Own))
	n.becomeAlone()
	return nil
}

// listen has the whole server listen. The caller holds planMu.
func (n *Node) listen(ctx context.Context, partner string) error {
	old := n.engine.Plan()
	if old.Defaults.Listening {
		return nil
	}
	d := old.Draft()
	of := old.Defaults
	of.Listening = true
	if err := d.SetDefaults(of); err != nil {
		return err
	}
	next, items := d.Finish()
	r := store.Revision{Number: next.Revision, At: n.clock.Now().Truncate(time.Microsecond), Author: "yarnpost",
		Reason: "left the pair; " + partner + " serves its clients. \"yarnpost defaults edit --listening=false\" serves here again"}
	lines := plan.Diff(items, d.Label)
	if err := n.store.SavePlan(context.WithoutCancel(ctx), r, items, func(plan.Change) []plan.Line { return lines }); err != nil {
		return err
	}
	n.adopt(r, next, items, lines)
	return nil
}

// partWith goes on without the partner, which is no partner any more: its addresses are
// kept as long as it may have promised them.
func (n *Node) partWith(ctx context.Context, event string) error {
	p := &n.pair
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
	if err := n.withPair(func(s *pair.Server) (lists []effect.List, err error) {
		lists, until = s.Left(lease.At(n.clock.Now()))
		return lists, nil
	}); err != nil {
		return err
	}
	next := *p.on
	next.Partner.Left = until
	if err := n.store.SavePartner(context.WithoutCancel(ctx), next.Partner); err != nil {
		return err
	}
	p.on = &next
	n.noteEvent(event)
	return nil
}

// forgetPartner makes a server alone whose partner left, once all is over that it may have
// promised, and its addresses were taken.
func (n *Node) forgetPartner() {
	const margin = 2 * 60 // seconds in which a walk takes them
	p := &n.pair
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil || p.on.Partner.Left == 0 || lease.At(n.clock.Now()) < p.on.Partner.Left+margin {
		return
	}
	ctx, cancel := context.WithTimeout(n.running, 30*time.Second)
	defer cancel()
	if err := n.store.SavePairing(ctx, nil, false); err != nil {
		n.log.Warn("that the pair is over could not be recorded yet", "err", err)
		return
	}
	n.noteEvent(p.on.Partner.Own + " is alone: all is over that the former partner may have promised")
	n.becomeAlone()
}

// becomeAlone ends the pair; it is off the record already. The caller holds p.mu.
func (n *Node) becomeAlone() {
	p := &n.pair
	p.on = nil
	n.engine.With(func(t *lease.Table) {
		n.engine.Pair(nil)
		t.Pair(lease.Alone)
	})
	if c := p.channel; c != nil {
		p.channel = nil
		go c.Stop() // it may be the channel itself that calls
	}
	n.events.Publish(engine.Event{Pair: true})
}

// withPair runs f with the pair under the engine's lock, or says that there is none.
func (n *Node) withPair(f func(*pair.Server) ([]effect.List, error)) (err error) {
	err = ErrAlone
	n.engine.WithPair(func(s *pair.Server, _ *lease.Table) (lists []effect.List) {
		if s != nil {
			lists, err = f(s)
		}
		return lists
	})
	return err
}

// PartnerDown says that the partner is down: this server serves alone, and takes
// its addresses over once everything has passed that it may have promised.
func (n *Node) PartnerDown() error {
	if err := n.withPair(func(s *pair.Server) ([]effect.List, error) { return s.Down(lease.At(n.clock.Now())) }); err != nil {
		return err
	}
	n.noteEvent("somebody said that the partner is down")
	n.awaitState(pair.PartnerDown)
	return nil
}

// awaitState waits until a state that was asked for is on record and entered, so that
// what a person does next finds it; not for long, since the database may be away.
func (n *Node) awaitState(want pair.State) {
	for range 50 {
		is := pair.State(0)
		_ = n.withPair(func(s *pair.Server) ([]effect.List, error) { // without a pair there is none
			is = s.State()
			return nil, nil
		})
		if is == want {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// PairPause leaves all clients to the partner, or shares them with it again.
func (n *Node) PairPause(on bool) error {
	err := n.withPair(func(s *pair.Server) ([]effect.List, error) {
		if on {
			if partner, connected := s.Partner(); s.State() != pair.Normal || !connected || partner != pair.Normal || s.Resting() {
				return nil, errors.New("the partner does not stand by: this server is the only one that serves, so it goes on")
			}
		}
		return s.Pause(on, lease.At(n.clock.Now())), nil
	})
	if err == nil {
		n.noteEvent(fmt.Sprintf("%s %s", n.Name(), map[bool]string{true: "leaves all clients to the partner", false: "serves again"}[on]))
	}
	return err
}

// EditPair changes settings of the pair on both servers.
func (n *Node) EditPair(ctx context.Context, edit func(*pair.Settings)) error {
	p := &n.pair
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
	return n.takeSettings(ctx, set)
}

// settleSettings takes over settings that the partner has and this server missed, because it
// could not record them, or did not hear of them.
func (n *Node) settleSettings(ctx context.Context, theirs pair.Settings) error {
	p := &n.pair
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil || theirs.Number <= p.on.Settings.Number {
		return nil
	}
	return n.takeSettings(ctx, p.on.Settings.Changed(theirs))
}

// takeSettings puts other settings in force: the pair begins anew with them. The
// caller holds p.mu.
func (n *Node) takeSettings(ctx context.Context, set pair.Settings) error {
	p := &n.pair
	if err := n.store.SaveSettings(ctx, set); err != nil {
		return err
	}
	p.on.Settings = set
	return n.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.Use(set)
		return nil, nil
	})
}

// Rebalance splits free addresses anew, and tells how many this server gives away; the
// partner is asked for the same.
func (n *Node) Rebalance() (changed int, err error) {
	err = n.withPair(func(s *pair.Server) (lists []effect.List, err error) {
		lists, changed, err = s.Rebalance(lease.At(n.clock.Now()))
		return lists, err
	})
	return changed, err
}
