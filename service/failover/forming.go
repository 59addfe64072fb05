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
	"net"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/service/change"
	"yarnpost/service/engine"
	"yarnpost/service/partner"
	"yarnpost/service/store"
)

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

// RestoredAlone leaves the pair that a backup was made in: what the partner may have promised is kept.
func (p *Pair) RestoredAlone(ctx context.Context) error {
	err := p.partWith(ctx, "restored from a backup, to serve alone")
	if errors.Is(err, ErrAlone) {
		return nil
	}
	return err
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
