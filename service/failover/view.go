package failover

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"yarnpost/core/audit"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/service/partner"
	"yarnpost/service/store"
)

// View is a pair as one of its servers sees it.
type View struct {
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

// View shows the pair that this server is in; ok is false if there is none.
func (p *Pair) View() (v View, ok bool) {
	on, channel, peer, invited := p.seen()
	v.Invited = invited
	if on == nil || on.Partner.Left != 0 {
		v.Own.Name = p.Name()
		return v, false
	}
	if channel != nil {
		v.Strangers = channel.Refused.Load() + channel.Garbage.Load()
	}
	now := p.Clock.Now()
	v.Own.Name, v.Own.Role = on.Partner.Own, on.Settings.Side.String()
	v.Partner.Name, v.Partner.Role = on.Partner.Name, on.Settings.Side.Other().String()
	if err := p.Health(); err != nil {
		v.Own.Trouble = err.Error()
	}
	var partner pair.State
	p.Engine.WithPair(func(s *pair.Server, t *lease.Table) []effect.List {
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
	standing, compared, theirs := p.standing()
	if v.Standing, v.Compared = standing, compared; compared {
		v.Partner.Revision = theirs
	}
	v.Exposed = v.Own.Owed
	v.Relays = p.relaysOfBoth(peer, now)
	v.Reasons = takeover(&v, now)
	return v, true
}

// seen is what a view is of; invited is until when an invitation is open.
func (p *Pair) seen() (on *store.Pairing, channel *partner.Channel, peer PeerView, invited time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.invited != nil && p.Clock.Now().Before(p.invited.until) {
		invited = p.invited.until
	}
	return p.on, p.channel, p.peer, invited
}

// standing is how the plans stand to each other, and by which revision the partner serves.
func (p *Pair) standing() (s pair.Standing, compared bool, theirs int64) {
	p.headMu.Lock()
	defer p.headMu.Unlock()
	return p.plans.standing, p.plans.compared, p.plans.theirs
}

// takeover lists why the partner would not carry on if this server died now.
func takeover(v *View, now time.Time) (out []string) {
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
func (p *Pair) relaysOfBoth(peer PeerView, now time.Time) []RelayView {
	own := p.peerView()
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
		case peer.Heard.IsZero(), now.Sub(p.Started) < relayAlone, now.Sub(peer.Started) < relayAlone: // one has heard nobody yet
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

// History lists what happened to the pair, newest first.
func (p *Pair) History(ctx context.Context, limit int) ([]store.PairEvent, error) {
	return p.Store.PairHistory(ctx, limit)
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
func (p *Pair) states(ctx context.Context, since time.Time) (out []StateSpan, err error) {
	list, err := p.Store.PairStates(ctx, since)
	for i, e := range list {
		span := StateSpan{State: e.State, From: e.At}
		if i+1 < len(list) {
			span.Until = list[i+1].At
		}
		out = append(out, span)
	}
	return out, err
}

// States lists the states that both servers were in since a moment, by their own
// records; nothing of a partner that cannot be asked.
func (p *Pair) States(ctx context.Context, since time.Time) (own, theirs []StateSpan, err error) {
	_, c := p.paired()
	if c == nil {
		return nil, nil, ErrAlone
	}
	if own, err = p.states(ctx, since); err != nil {
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
func (p *Pair) PartedLines(ctx context.Context) (out Lines, err error) {
	_, c := p.paired()
	if c == nil {
		return out, ErrAlone
	}
	defer p.Plans.Hold()()
	var theirs []store.Carried
	above := max(0, p.plans.head.Number-500)
	if err := c.Ask(ctx, "plan.line", above, &theirs); err != nil {
		return out, err
	}
	own, err := p.Store.Carry(ctx, above, 1000)
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
func (p *Pair) Settle(ctx context.Context, keep string) error {
	lines, err := p.PartedLines(ctx)
	if err != nil {
		return err
	}
	on, c := p.paired()
	switch {
	case on == nil:
		return ErrAlone
	case keep == on.Partner.Own:
		return c.Ask(ctx, "plan.settle", keep, nil)
	case keep != on.Partner.Name:
		return fmt.Errorf("%q is neither %s nor %s", keep, on.Partner.Own, on.Partner.Name)
	}
	defer p.Plans.Hold()()
	if err := p.Store.Rewind(ctx, lines.Own, lines.Partner); err != nil {
		return err
	}
	next, err := p.Store.LoadPlan(ctx)
	if err != nil {
		return err
	}
	p.Plans.Replace(next)
	p.Note(fmt.Sprintf("the plan of %s was chosen; %d revisions of %s are kept aside", keep, len(lines.Own), on.Partner.Own))
	if err := p.plansOnRecord(); err != nil {
		return err
	}
	p.Nudge()
	return nil
}

// Sends reports whether this server of a pair sends alerts of an area: what both see is the
// primary's to tell, while it can be heard.
func (p *Pair) Sends(area audit.Area) bool {
	v, paired := p.View()
	return !paired || area == audit.InService || v.Settings.Side == lease.Primary || !v.Connected || v.Own.State != pair.Normal.String()
}

// MCLT is the lead time (MCLT) of the pair, if there is one.
func (p *Pair) MCLT() (lead time.Duration, paired bool) {
	v, paired := p.View()
	return v.Settings.MCLT, paired
}

// TellAlerts tells the partner, if there is one, where alerts go.
func (p *Pair) TellAlerts(ctx context.Context, all store.AlertSettings) error {
	if !p.Paired() {
		return nil
	}
	return p.Ask(ctx, "alerts.take", all, nil)
}
