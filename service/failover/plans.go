package failover

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
// the hold on the plan and headMu, so either is enough to read them; nobody who answers the partner
// waits for the plan but to take a plan, since both ask each other at once.
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

// plansOnRecord reads the line of revisions. It may be called without the plan being held before
// anything else runs.
func (p *Pair) plansOnRecord() error {
	ctx, cancel := context.WithTimeout(p.Work.Context(), 30*time.Second)
	defer cancel()
	chain, err := p.Store.Chain(ctx)
	if err != nil {
		return err
	}
	l := plans{line: map[int64]uint64{}, theirs: p.on.Theirs}
	for _, h := range chain {
		l.line[h.Number], l.head = h.Hash, h
	}
	p.setPlans(l)
	return p.seePartnersPlan(ctx)
}

func (p *Pair) setPlans(l plans) {
	p.headMu.Lock()
	defer p.headMu.Unlock()
	p.plans = l
}

// RecordedAgain reads the line of revisions anew after the plan was written into a database
// that was set back. The caller holds the plan.
func (p *Pair) RecordedAgain() error {
	if !p.Paired() {
		return nil
	}
	return p.plansOnRecord()
}

// seePartnersPlan finds the plan by which the partner serves.
func (p *Pair) seePartnersPlan(ctx context.Context) error {
	l := &p.plans
	now := p.Engine.Plan()
	if l.theirs == now.Revision || l.theirs == 0 {
		l.theirPlan = nil
		return nil
	}
	if l.theirPlan != nil && l.theirPlan.Revision == l.theirs {
		return nil
	}
	if l.theirs > now.Revision {
		return nil // it is told by what comes
	}
	list, err := p.Store.Carry(ctx, l.theirs, 100_000)
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
	l.theirPlan, err = now.Before(l.theirs, changes)
	return err
}

// setTheirs notes by which revision the partner serves. The caller holds the plan.
func (p *Pair) setTheirs(ctx context.Context, number int64) error {
	l := &p.plans
	if l.theirs != number {
		if err := p.Store.SaveTheirs(ctx, number); err != nil {
			return err
		}
		p.setServes(number)
	}
	if err := p.seePartnersPlan(ctx); err != nil {
		return err
	}
	return p.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.TheirPlan = l.theirPlan
		return nil, nil
	})
}

func (p *Pair) setServes(number int64) {
	p.headMu.Lock()
	defer p.headMu.Unlock()
	p.plans.theirs = number
}

func (p *Pair) setStanding(s pair.Standing) {
	p.headMu.Lock()
	defer p.headMu.Unlock()
	p.plans.standing, p.plans.compared = s, true
}

// parts notes that this server is about to serve by another plan than the partner.
// The caller holds the plan.
func (p *Pair) parts(old *plan.Plan, r store.Revision) {
	l := &p.plans
	p.recorded(r)
	if l.theirPlan == nil {
		l.theirPlan = old
	}
	// It cannot fail: there is a pair.
	_ = p.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.TheirPlan = l.theirPlan
		return nil, nil
	})
}

// recorded notes that a revision is on disk here. The caller holds the plan.
func (p *Pair) recorded(r store.Revision) {
	p.headMu.Lock()
	defer p.headMu.Unlock()
	l := &p.plans
	l.head = pair.Head{Number: r.Number, Hash: r.Hash(l.head.Hash)}
	l.line[r.Number] = l.head.Hash
}

// MayChange reports why the plan cannot be changed here now, if it cannot; both says
// that the partner must have the change before it is in force. The caller holds
// the plan.
func (p *Pair) MayChange(alone bool) (both bool, err error) {
	on, _ := p.paired()
	if on == nil {
		return false, nil
	}
	var state, partner pair.State
	var connected bool
	if err := p.withPair(func(s *pair.Server) ([]effect.List, error) {
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
		return false,
			fmt.Errorf("%w: %s is the plan's one writer, and cannot be reached from here; change the plan there, or say that it is down (yarnpost pair down)",
				ErrApart, who)
	case connected && (state == pair.Normal || partner == pair.Recover || partner == pair.RecoverWait || partner == pair.RecoverDone):
		return true, nil
	case alone:
		return false, nil
	}
	return false,
		fmt.Errorf("%w, so %s would go on serving by the old plan; with --alone the change is made here all the same, and %s takes it when it is back",
			ErrApart, who, who)
}

// heads is what two servers say of their plans.
type heads struct {
	Head   pair.Head `json:"head"`   // on disk
	Active int64     `json:"active"` // in force
	Known  bool      `json:"known"`  // it has the head that it was asked about in its line
}

// keepTogether compares both plans, and what else travels, whenever there is reason.
func (p *Pair) keepTogether(running context.Context) {
	t := time.NewTicker(3 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-running.Done():
			return
		case <-p.poke:
		case <-t.C:
		}
		p.Work.Do("what both servers of the pair know", p.catchUp)
	}
}

// catchUp asks the partner where it stands, and sends what it has not got.
func (p *Pair) catchUp() {
	on, c := p.paired()
	if c == nil || on == nil {
		return
	}
	ctx, cancel := context.WithTimeout(p.Work.Context(), time.Minute)
	defer cancel()
	if err := p.askPeer(ctx, c); err != nil {
		return // it is away
	}
	for _, f := range p.along {
		f(ctx)
	}
	defer p.Plans.Hold()()
	if on, _ := p.paired(); on == nil {
		return
	}
	for p.Work.Context().Err() == nil {
		more, err := p.bringPlan(ctx)
		if err != nil {
			if !errors.Is(err, ErrParted) {
				p.Log.Warn("the plan is not on both servers", "err", err)
			}
			return
		}
		if !more {
			return
		}
	}
}

// bringPlan compares the plans once, sends revisions that the partner has not got,
// and reports whether there is more to do. The caller holds the plan.
func (p *Pair) bringPlan(ctx context.Context) (more bool, err error) {
	l := &p.plans
	_, c := p.paired()
	if c == nil {
		return false, ErrAlone
	}
	var theirs heads
	if err := c.Ask(ctx, "plan.head", l.head, &theirs); err != nil {
		return false, err
	}
	was := l.standing
	standing := pair.Compare(l.head, theirs.Head, func(number int64) (uint64, bool) {
		if number == 0 {
			return 0, true
		}
		h, ok := l.line[number]
		return h, ok
	}, theirs.Known)
	p.setStanding(standing)
	if l.standing == pair.Parted {
		if was != pair.Parted {
			p.Log.Error("both servers of the pair have changed the plan; a person has to choose (yarnpost pair settle)")
			p.Note(fmt.Sprintf("the plans have parted: revision %d here, %d there", l.head.Number, theirs.Head.Number))
		}
		return false, ErrParted
	}
	if err := p.setTheirs(ctx, theirs.Active); err != nil {
		return false, err
	}
	if l.standing != pair.Ahead {
		if l.standing == pair.Together && p.Engine.Plan().Revision < l.head.Number {
			return false, p.adoptHead(ctx)
		}
		return false, nil
	}
	list, err := p.Store.Carry(ctx, theirs.Head.Number, 25)
	if err != nil || len(list) == 0 {
		return false, err
	}
	if err := c.Ask(ctx, "plan.take", taken{l.line[theirs.Head.Number], list}, &theirs); err != nil {
		return false, err
	}
	if err := p.setTheirs(ctx, theirs.Active); err != nil {
		return false, err
	}
	if theirs.Head == l.head && p.Engine.Plan().Revision < l.head.Number {
		return false, p.adoptHead(ctx)
	}
	return true, nil
}

// taken are revisions on their way to the partner, with the hash of the one before.
type taken struct {
	After uint64          `json:"after"`
	List  []store.Carried `json:"list"`
}

// adoptHead puts in force what is on both disks. The caller holds the plan.
func (p *Pair) adoptHead(ctx context.Context) error {
	l := &p.plans
	list, err := p.Store.Carry(ctx, p.Engine.Plan().Revision, 1000)
	if err != nil {
		return err
	}
	for i := range list {
		if err := p.force(&list[i]); err != nil {
			return err
		}
	}
	return p.setTheirs(ctx, l.theirs)
}

// force puts a recorded revision in force. The caller holds the plan.
func (p *Pair) force(c *store.Carried) error {
	r, items, err := c.Open()
	if err != nil {
		return err
	}
	old := p.Engine.Plan()
	next, err := old.Replay(r.Number, items)
	if err != nil {
		return err
	}
	if p.plans.theirPlan == nil {
		p.plans.theirPlan = old
	}
	var lines []plan.Line
	for _, i := range items {
		lines = append(lines, c.LinesOf(i)...)
	}
	if err := p.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.TheirPlan = p.plans.theirPlan
		return nil, nil
	}); err != nil {
		return err
	}
	p.Plans.Adopt(r, next, items, lines)
	return nil
}

// takePlan records revisions that the partner made, and puts them in force.
func (p *Pair) takePlan(ctx context.Context, t taken) (heads, error) {
	defer p.Plans.Hold()()
	l := &p.plans
	for i := range t.List {
		c := &t.List[i]
		if c.Number <= l.head.Number {
			continue
		}
		if i == 0 && l.head.Hash != t.After {
			return heads{}, fmt.Errorf("revision %d does not follow revision %d here", c.Number, l.head.Number)
		}
		r, items, err := c.Open()
		if err != nil {
			return heads{}, err
		}
		err = p.Store.SavePlan(ctx, r, items, c.LinesOf)
		if errors.Is(err, store.ErrUnknown) || errors.Is(err, store.ErrStale) { // it may be there, from the time before
			if there, asked := p.Store.PlanRecorded(ctx, r); asked == nil && there {
				err = nil
			}
		}
		if err != nil {
			return heads{}, err
		}
		p.recorded(r)
		if err := p.force(c); err != nil {
			return heads{}, err
		}
	}
	p.Nudge()
	return heads{Head: l.head, Active: p.Engine.Plan().Revision, Known: true}, nil
}

// headFor says where this server's plan stands.
func (p *Pair) headFor(theirs pair.Head) heads {
	p.headMu.Lock()
	defer p.headMu.Unlock()
	l := &p.plans
	known := theirs.Number == 0 || l.line[theirs.Number] == theirs.Hash
	return heads{l.head, p.Engine.Plan().Revision, known}
}

// Agree has adopt put a revision in force that is recorded here: in a pair once the partner
// has it on record, too, unless it is made here alone. The caller holds the plan.
func (p *Pair) Agree(ctx context.Context, r store.Revision, both bool, adopt func()) error {
	on, _ := p.paired()
	if on == nil {
		adopt()
		return nil
	}
	p.parts(p.Engine.Plan(), r)
	if !both {
		adopt()
		p.Nudge()
		return nil
	}
	for more := true; more; {
		var err error
		if more, err = p.bringPlan(ctx); err != nil {
			return fmt.Errorf("revision %d is recorded here, and comes into force once %s has it, too: %w", r.Number, on.Partner.Name, err)
		}
	}
	return nil
}
