package node

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/service/store"
)

// One plan on two servers: the primary writes it, and has each revision on both disks
// before it is in force. A revision is known by its number and by the hash of all
// before it.

// plans are how this server's plan stands to the partner's. They are written under
// planMu and headMu, so either is enough to read them; nobody who answers the partner
// waits for planMu but to take a plan, since both ask each other at once.
type plans struct {
	line      map[int64]uint64 // hash of each revision
	head      pair.Head        // on disk here
	theirs    int64            // by which the partner serves, as far as is known
	theirPlan *plan.Plan       // the same; nil: this server's own
	standing  pair.Standing
	compared  bool // standing is of this connection
}

// Errors of changes of the plan in a pair.
var (
	// ErrApart is wrapped when a change would be on one server alone.
	ErrApart = errors.New("the two servers of the pair cannot reach each other")
	// ErrParted is wrapped when both servers have changed the plan.
	ErrParted = errors.New("both servers of the pair have changed the plan while they were apart")
)

// plansOnRecord reads the line of revisions. It may be called without planMu before
// anything else runs.
func (n *Node) plansOnRecord() error {
	ctx, cancel := context.WithTimeout(n.running, 30*time.Second)
	defer cancel()
	chain, err := n.store.Chain(ctx)
	if err != nil {
		return err
	}
	p := plans{line: map[int64]uint64{}, theirs: n.pair.on.Theirs}
	for _, h := range chain {
		p.line[h.Number], p.head = h.Hash, h
	}
	n.pair.headMu.Lock()
	n.pair.plans = p
	n.pair.headMu.Unlock()
	return n.seePartnersPlan(ctx)
}

// seePartnersPlan finds the plan by which the partner serves.
func (n *Node) seePartnersPlan(ctx context.Context) error {
	p := &n.pair.plans
	now := n.engine.Plan()
	if p.theirs == now.Revision || p.theirs == 0 {
		p.theirPlan = nil
		return nil
	}
	if p.theirPlan != nil && p.theirPlan.Revision == p.theirs {
		return nil
	}
	if p.theirs > now.Revision {
		return nil // it is told by what comes
	}
	list, err := n.store.Carry(ctx, p.theirs, 100_000)
	if err != nil {
		return err
	}
	var changes []plan.Change
	for i := len(list) - 1; i >= 0; i-- {
		_, items, err := list[i].Open()
		if err != nil {
			return err
		}
		for k := len(items) - 1; k >= 0; k-- {
			changes = append(changes, items[k])
		}
	}
	p.theirPlan, err = now.Before(p.theirs, changes)
	return err
}

// setTheirs notes by which revision the partner serves. The caller holds planMu.
func (n *Node) setTheirs(ctx context.Context, number int64) error {
	p := &n.pair.plans
	if p.theirs != number {
		if err := n.store.SaveTheirs(ctx, number); err != nil {
			return err
		}
		n.pair.headMu.Lock()
		p.theirs = number
		n.pair.headMu.Unlock()
	}
	if err := n.seePartnersPlan(ctx); err != nil {
		return err
	}
	return n.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.TheirPlan = p.theirPlan
		return nil, nil
	})
}

// parts notes that this server is about to serve by another plan than the partner.
// The caller holds planMu.
func (n *Node) parts(old *plan.Plan, r store.Revision) {
	p := &n.pair.plans
	n.recorded(r)
	if p.theirPlan == nil {
		p.theirPlan = old
	}
	// It cannot fail: there is a pair.
	_ = n.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.TheirPlan = p.theirPlan
		return nil, nil
	})
}

// recorded notes that a revision is on disk here. The caller holds planMu.
func (n *Node) recorded(r store.Revision) {
	n.pair.headMu.Lock()
	defer n.pair.headMu.Unlock()
	p := &n.pair.plans
	p.head = pair.Head{Number: r.Number, Hash: r.Hash(p.head.Hash)}
	p.line[r.Number] = p.head.Hash
}

// mayChange reports why the plan cannot be changed here now, if it cannot; both says
// that the partner must have the change before it is in force. The caller holds
// planMu.
func (n *Node) mayChange(alone bool) (both bool, err error) {
	p := &n.pair
	on, _ := n.paired()
	if on == nil {
		return false, nil
	}
	var state, partner pair.State
	var connected bool
	if err := n.withPair(func(s *pair.Server) ([]effect.List, error) {
		state = s.State()
		partner, connected = s.Partner()
		return nil, nil
	}); err != nil {
		return false, nil
	}
	who := on.Partner.Name
	switch {
	case connected && p.plans.compared && p.plans.standing == pair.Parted:
		return false, fmt.Errorf("%w; \"yarnpost pair settle\" shows both, and one is chosen", ErrParted)
	case state == pair.PartnerDown:
		return false, nil
	case on.Settings.Side == lease.Secondary:
		return false, fmt.Errorf("%w: %s is the plan's one writer, and cannot be reached from here; change the plan there, or say that it is down (yarnpost pair down)",
			ErrApart, who)
	case connected && (state == pair.Normal || partner == pair.Recover || partner == pair.RecoverWait || partner == pair.RecoverDone):
		return true, nil
	case alone:
		return false, nil
	}
	return false, fmt.Errorf("%w, so %s would go on serving by the old plan; with --alone the change is made here all the same, and %s takes it when it is back",
		ErrApart, who, who)
}

// heads is what two servers say of their plans.
type heads struct {
	Head   pair.Head `json:"head"`   // on disk
	Active int64     `json:"active"` // in force
	Known  bool      `json:"known"`  // it has the head that it was asked about in its line
}

// keepTogether compares both plans, and what else travels, whenever there is reason.
func (n *Node) keepTogether() {
	t := time.NewTicker(3 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-n.running.Done():
			return
		case <-n.pair.poke:
		case <-t.C:
		}
		n.guarded("what both servers of the pair know", n.catchUp)()
	}
}

// catchUp asks the partner where it stands, and sends what it has not got.
func (n *Node) catchUp() {
	on, c := n.paired()
	if c == nil || on == nil {
		return
	}
	ctx, cancel := context.WithTimeout(n.running, time.Minute)
	defer cancel()
	if err := n.askPeer(ctx, c); err != nil {
		return // it is away
	}
	n.planMu.Lock()
	defer n.planMu.Unlock()
	if on, _ := n.paired(); on == nil {
		return
	}
	for n.running.Err() == nil {
		more, err := n.bringPlan(ctx)
		if err != nil {
			if !errors.Is(err, ErrParted) {
				n.log.Warn("the plan is not on both servers", "err", err)
			}
			return
		}
		if !more {
			return
		}
	}
}

// bringPlan compares the plans once, sends revisions that the partner has not got,
// and reports whether there is more to do. The caller holds planMu.
func (n *Node) bringPlan(ctx context.Context) (more bool, err error) {
	p := &n.pair.plans
	_, c := n.paired()
	if c == nil {
		return false, ErrAlone
	}
	var theirs heads
	if err := c.Ask(ctx, "plan.head", p.head, &theirs); err != nil {
		return false, err
	}
	was := p.standing
	standing := pair.Compare(p.head, theirs.Head, func(number int64) (uint64, bool) {
		if number == 0 {
			return 0, true
		}
		h, ok := p.line[number]
		return h, ok
	}, theirs.Known)
	n.pair.headMu.Lock()
	p.standing, p.compared = standing, true
	n.pair.headMu.Unlock()
	if p.standing == pair.Parted {
		if was != pair.Parted {
			n.log.Error("both servers of the pair have changed the plan; a person has to choose (yarnpost pair settle)")
			n.noteEvent(fmt.Sprintf("the plans have parted: revision %d here, %d there", p.head.Number, theirs.Head.Number))
		}
		return false, ErrParted
	}
	if err := n.setTheirs(ctx, theirs.Active); err != nil {
		return false, err
	}
	if p.standing != pair.Ahead {
		if p.standing == pair.Together && n.engine.Plan().Revision < p.head.Number {
			return false, n.adoptHead(ctx)
		}
		return false, nil
	}
	list, err := n.store.Carry(ctx, theirs.Head.Number, 25)
	if err != nil || len(list) == 0 {
		return false, err
	}
	if err := c.Ask(ctx, "plan.take", taken{p.line[theirs.Head.Number], list}, &theirs); err != nil {
		return false, err
	}
	if err := n.setTheirs(ctx, theirs.Active); err != nil {
		return false, err
	}
	if theirs.Head == p.head && n.engine.Plan().Revision < p.head.Number {
		return false, n.adoptHead(ctx)
	}
	return true, nil
}

// taken are revisions on their way to the partner, with the hash of the one before.
type taken struct {
	After uint64          `json:"after"`
	List  []store.Carried `json:"list"`
}

// adoptHead puts in force what is on both disks. The caller holds planMu.
func (n *Node) adoptHead(ctx context.Context) error {
	p := &n.pair.plans
	list, err := n.store.Carry(ctx, n.engine.Plan().Revision, 1000)
	if err != nil {
		return err
	}
	for i := range list {
		if err := n.force(&list[i]); err != nil {
			return err
		}
	}
	return n.setTheirs(ctx, p.theirs)
}

// force puts a recorded revision in force. The caller holds planMu.
func (n *Node) force(c *store.Carried) error {
	r, items, err := c.Open()
	if err != nil {
		return err
	}
	old := n.engine.Plan()
	next, err := old.Replay(r.Number, items)
	if err != nil {
		return err
	}
	if n.pair.plans.theirPlan == nil {
		n.pair.plans.theirPlan = old
	}
	var lines []plan.Line
	for _, i := range items {
		lines = append(lines, c.LinesOf(i)...)
	}
	if err := n.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.TheirPlan = n.pair.plans.theirPlan
		return nil, nil
	}); err != nil {
		return err
	}
	n.adopt(r, next, items, lines)
	return nil
}

// takePlan records revisions that the partner made, and puts them in force.
func (n *Node) takePlan(ctx context.Context, t taken) (heads, error) {
	n.planMu.Lock()
	defer n.planMu.Unlock()
	p := &n.pair.plans
	for i := range t.List {
		c := &t.List[i]
		if c.Number <= p.head.Number {
			continue
		}
		if i == 0 && p.head.Hash != t.After {
			return heads{}, fmt.Errorf("revision %d does not follow revision %d here", c.Number, p.head.Number)
		}
		r, items, err := c.Open()
		if err != nil {
			return heads{}, err
		}
		err = n.store.SavePlan(ctx, r, items, c.LinesOf)
		if errors.Is(err, store.ErrUnknown) || errors.Is(err, store.ErrStale) { // it may be there, from the time before
			if there, asked := n.store.PlanRecorded(ctx, r); asked == nil && there {
				err = nil
			}
		}
		if err != nil {
			return heads{}, err
		}
		n.recorded(r)
		if err := n.force(c); err != nil {
			return heads{}, err
		}
	}
	n.nudgePair()
	return heads{Head: p.head, Active: n.engine.Plan().Revision, Known: true}, nil
}

// headFor says where this server's plan stands.
func (n *Node) headFor(theirs pair.Head) heads {
	n.pair.headMu.Lock()
	defer n.pair.headMu.Unlock()
	p := &n.pair.plans
	known := theirs.Number == 0 || p.line[theirs.Number] == theirs.Hash
	return heads{p.head, n.engine.Plan().Revision, known}
}
