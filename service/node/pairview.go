package node

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/service/store"
)

// PairView is a pair as one of its servers sees it.
type PairView struct {
	Own, Partner ServerView
	Settings     pair.Settings
	Connected    bool
	Refused      string    // why the partner does not agree to be one
	Contact      time.Time // when the partner was last heard
	Skew         int64     // seconds by which the partner's clock is ahead
	SkewKnown    bool
	Standing     pair.Standing // of the plans
	Compared     bool
	Down         time.Time // since when the partner is taken to be down
	Claims       time.Time // when its addresses can be given here
	Paused       bool      // this server leaves all clients to the partner
	Resting      bool      // the partner does
	Conflicts    []pair.Conflict
	Reasons      []string // why the partner would not carry on now; none: it would
	Scopes       []ShareView
	Exposed      int // leases that the partner does not know of yet, none of them promised beyond the lead time
	Relays       []RelayView
	Strangers    int64 // connections that were refused
	Stats        pair.Stats
	Invited      time.Time // until when an invitation is open
}

// ServerView is one of the two.
type ServerView struct {
	Name, Role, State string
	Since             time.Time
	Owed              int
	Revision          int64
	Trouble           string
}

// ShareView is what each has of a scope to give.
type ShareView struct {
	Scope            string
	Active           int
	Own, Partner     uint64
	OwnLow, TheirLow bool
}

// RelayView says which server hears a relay.
type RelayView struct {
	Address, Link string
	Own, Partner  time.Time // when each last heard it; zero: never
	Warning       string
}

// Pair shows the pair that this server is in; ok is false if there is none.
func (n *Node) Pair() (v PairView, ok bool) {
	p := &n.pair
	p.mu.Lock()
	on, channel, peer := p.on, p.channel, p.peer
	if p.invited != nil && n.clock.Now().Before(p.invited.until) {
		v.Invited = p.invited.until
	}
	p.mu.Unlock()
	if on == nil || on.Partner.Left != 0 {
		v.Own.Name = n.Name()
		return v, false
	}
	if channel != nil {
		v.Strangers = channel.Refused.Load() + channel.Garbage.Load()
	}
	now := n.clock.Now()
	v.Own.Name, v.Own.Role = on.Partner.Own, on.Settings.Side.String()
	v.Partner.Name, v.Partner.Role = on.Partner.Name, on.Settings.Side.Other().String()
	if err := n.Health(); err != nil {
		v.Own.Trouble = err.Error()
	}
	var partner pair.State
	n.engine.WithPair(func(s *pair.Server, t *lease.Table) []effect.List {
		if s == nil {
			return nil
		}
		ok = true
		v.Settings = s.Settings()
		rec := s.Record()
		v.Own.State, v.Own.Since, v.Own.Owed, v.Own.Revision = s.State().String(), rec.Since.Std(), s.Owed(), t.Plan().Revision
		partner, v.Connected = s.Partner()
		v.Refused, v.Contact, v.Paused, v.Resting = s.Refused(), s.Heard().Std(), s.Paused(), s.Resting()
		v.Skew, v.SkewKnown = s.Skew()
		v.Conflicts, v.Stats = rec.Conflicts, s.Stats()
		if rec.Down != 0 {
			v.Down = rec.Down.Std()
			v.Claims = pair.Others(rec.Down, nil, v.Settings.Wait()).Std()
		}
		for _, sc := range t.Plan().Scopes() {
			c, side := t.Count(sc.ID), v.Settings.Side
			if len(sc.Pools) > 0 {
				v.Scopes = append(v.Scopes, ShareView{sc.Name, c.Active, c.Headroom, c.Partner, s.Short(side, c), s.Short(side.Other(), c)})
			}
		}
		return nil
	})
	if !ok {
		return v, false
	}
	v.Partner.State, v.Partner.Since, v.Partner.Owed = peer.State, peer.Since, peer.Owed
	v.Partner.Revision, v.Partner.Trouble = peer.Revision, peer.Trouble
	switch {
	case !v.Connected:
		v.Partner.State, v.Partner.Since = "", time.Time{}
	case partner != 0:
		v.Partner.State = partner.String()
	}
	p.headMu.Lock()
	if v.Standing, v.Compared = p.plans.standing, p.plans.compared; v.Compared {
		v.Partner.Revision = p.plans.theirs
	}
	p.headMu.Unlock()
	v.Exposed = v.Own.Owed
	v.Relays = n.relaysOfBoth(peer, now)
	v.Reasons = takeover(&v, now)
	return v, true
}

// takeover lists why the partner would not carry on if this server died now.
func takeover(v *PairView, now time.Time) (out []string) {
	no := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	name := v.Partner.Name
	switch {
	case v.Refused != "":
		no("they cannot work together: %s", v.Refused)
	case !v.Connected:
		no("%s is not heard since %s", name, v.Contact.Format("15:04:05"))
	case v.Partner.State != pair.Normal.String():
		no("%s is in %s", name, v.Partner.State)
	}
	if v.Connected && v.Own.State != pair.Normal.String() {
		no("%s is in %s", v.Own.Name, v.Own.State)
	}
	if v.Resting && v.Partner.Trouble == "" {
		no("%s is paused", name)
	}
	if v.Connected && v.Partner.Trouble != "" {
		no("%s says: %s", name, v.Partner.Trouble)
	}
	if v.Compared && v.Standing == pair.Parted {
		no("both have changed the plan; a person has to choose (yarnpost pair settle)")
	} else if v.Connected && v.Partner.Revision != 0 && v.Partner.Revision != v.Own.Revision {
		no("%s serves by revision %d of the plan, this server by %d", name, v.Partner.Revision, v.Own.Revision)
	}
	if v.Own.Owed > 1000 {
		no("%d leases are not known to %s yet", v.Own.Owed, name)
	}
	for _, s := range v.Scopes {
		if s.Partner == 0 && s.Own > 1 {
			no("%s has no free address of scope %s", name, s.Scope)
		}
	}
	return out
}

// relayAlone is how long a relay is heard by one server alone before that is worth a
// word: as a rule both hear the same.
const relayAlone = 2 * time.Minute

// relaysOfBoth says which of both servers hears which relay.
func (n *Node) relaysOfBoth(peer PeerView, now time.Time) []RelayView {
	own := n.peerView()
	all := map[string]*RelayView{}
	of := func(r PeerRelay) *RelayView {
		key := r.Address.String()
		if all[key] == nil {
			all[key] = &RelayView{Address: key}
		}
		all[key].Link = cmp.Or(all[key].Link, r.Link)
		return all[key]
	}
	for _, r := range own.Relays {
		of(r).Own = r.Last
	}
	for _, r := range peer.Relays {
		of(r).Partner = r.Last
	}
	out := []RelayView{}
	for _, r := range all {
		link := cmp.Or(r.Link, r.Address)
		switch mine, theirs := r.Own, r.Partner; {
		case peer.Heard.IsZero(), now.Sub(n.Started) < relayAlone, now.Sub(peer.Started) < relayAlone: // one has heard nobody yet
		case mine.Sub(theirs) > relayAlone:
			r.Warning = fmt.Sprintf("the relay of %s forwards to %s alone", link, own.Name)
		case theirs.Sub(mine) > relayAlone:
			r.Warning = fmt.Sprintf("the relay of %s forwards to %s alone", link, peer.Name)
		}
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b RelayView) int {
		return cmp.Or(cmp.Compare(a.Link, b.Link), cmp.Compare(a.Address, b.Address))
	})
	return out
}

// PairHistory lists what happened to the pair, newest first.
func (n *Node) PairHistory(ctx context.Context, limit int) ([]store.PairEvent, error) {
	return n.store.PairHistory(ctx, limit)
}

// StateSpan is a state that a server of a pair was in for a while; until is zero for
// the present one.
type StateSpan struct {
	State       string    `json:"state"`
	From, Until time.Time `json:",omitzero"`
}

// StoppedState stands for a server that was not running.
const StoppedState = "stopped"

// states lists the states that this server was in since a moment.
func (n *Node) states(ctx context.Context, since time.Time) (out []StateSpan, err error) {
	list, err := n.store.PairStates(ctx, since)
	for i, e := range list {
		span := StateSpan{State: e.State, From: e.At}
		if i+1 < len(list) {
			span.Until = list[i+1].At
		}
		out = append(out, span)
	}
	return out, err
}

// PairStates lists the states that both servers were in since a moment, by their own
// records; nothing of a partner that cannot be asked.
func (n *Node) PairStates(ctx context.Context, since time.Time) (own, theirs []StateSpan, err error) {
	_, c := n.paired()
	if c == nil {
		return nil, nil, ErrAlone
	}
	if own, err = n.states(ctx, since); err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	if c.Ask(ctx, "pair.states", since, &theirs) != nil {
		theirs = nil
	}
	return own, theirs, nil
}

// Lines are both lines of revisions since they parted.
type Lines struct{ Own, Partner []store.Carried }

// PartedLines shows what each server changed since the plans parted.
func (n *Node) PartedLines(ctx context.Context) (out Lines, err error) {
	_, c := n.paired()
	if c == nil {
		return out, ErrAlone
	}
	n.planMu.Lock()
	defer n.planMu.Unlock()
	var theirs []store.Carried
	above := max(0, n.pair.plans.head.Number-500)
	if err := c.Ask(ctx, "plan.line", above, &theirs); err != nil {
		return out, err
	}
	own, err := n.store.Carry(ctx, above, 1000)
	if err != nil {
		return out, err
	}
	for len(own) > 0 && len(theirs) > 0 && own[0].Number == theirs[0].Number && own[0].At == theirs[0].At {
		own, theirs = own[1:], theirs[1:]
	}
	return Lines{own, theirs}, nil
}

// Settle chooses one server's plan where both changed it: the other's revisions are
// kept, to be applied again. It takes the partner's plan here, or has the partner
// take this one's.
func (n *Node) Settle(ctx context.Context, keep string) error {
	lines, err := n.PartedLines(ctx)
	if err != nil {
		return err
	}
	on, c := n.paired()
	switch {
	case on == nil:
		return ErrAlone
	case keep == on.Partner.Own:
		return c.Ask(ctx, "plan.settle", keep, nil)
	case keep != on.Partner.Name:
		return fmt.Errorf("%q is neither %s nor %s", keep, on.Partner.Own, on.Partner.Name)
	}
	n.planMu.Lock()
	defer n.planMu.Unlock()
	if err := n.store.Rewind(ctx, lines.Own, lines.Partner); err != nil {
		return err
	}
	next, err := n.store.LoadPlan(ctx)
	if err != nil {
		return err
	}
	n.engine.Take(next, plan.Between(n.engine.Plan(), next))
	n.changed = nil // of revisions that are no more
	n.noteEvent(fmt.Sprintf("the plan of %s was chosen; %d revisions of %s are kept aside", keep, len(lines.Own), on.Partner.Own))
	if err := n.plansOnRecord(); err != nil {
		return err
	}
	n.nudgePair()
	return nil
}
