package failover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/service/journal"
	"yarnpost/service/partner"
	"yarnpost/service/store"
)

// What two servers tell each other beside the messages of the pair.

// PeerView is what a server says of itself to its partner.
type PeerView struct {
	Name     string        `json:"name"`
	State    string        `json:"state"`
	Since    time.Time     `json:"since"`
	Started  time.Time     `json:"started"` // when the service did
	Owed     int           `json:"owed"`
	Revision int64         `json:"revision"`
	Unserved int           `json:"unserved"`          // clients that ask and get nothing
	Trouble  string        `json:"trouble,omitempty"` // why it could not serve, if so
	Relays   []PeerRelay   `json:"relays"`
	Server   netip.Addr    `json:"server"` // by which it names itself to clients, if it has but one
	Own      []netip.Addr  `json:"own"`    // the host's addresses
	DUID     []byte        `json:"duid"`   // of the server
	Access   store.Access  `json:"access,omitzero"`
	Settings pair.Settings `json:"settings,omitzero"` // of the pair
	Heard    time.Time     `json:"-"`                 // when it said this
}

// PeerRelay is a relay that a server hears.
type PeerRelay struct {
	Address netip.Addr `json:"address"`
	Last    time.Time  `json:"last"`
	Link    string     `json:"link"`
}

// AccessKeeper keeps accounts and tokens in memory.
type AccessKeeper interface {
	// Copy gives them all.
	Copy() store.Access
	// Take takes in what the partner knows of them.
	Take(context.Context, store.Access) error
	// Reload reads them anew.
	Reload(context.Context) error
}

// Forwarder carries out a request of the API on behalf of an account that signed in
// at the partner.
type Forwarder func(ctx context.Context, r Forwarded) ForwardedReply

// Forwarded is a request that the partner passed on.
type Forwarded struct {
	Method  string `json:"method"`
	Path    string `json:"path"` // with its query
	Account string `json:"account"`
	Body    []byte `json:"body"`
	From    string `json:"from"` // name of the server that it was made at
}

// ForwardedReply is what came of it.
type ForwardedReply struct {
	Status int    `json:"status"`
	Type   string `json:"type"`
	Body   []byte `json:"body"`
}

// KeepAccess names who keeps accounts, and who carries out what is passed on.
func (p *Pair) KeepAccess(a AccessKeeper, f Forwarder) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.access, p.forwards = a, f
}

// answer answers a question of the partner's; that this server's database gave no sign is
// said in words.
func (p *Pair) answer(ctx context.Context, method string, in json.RawMessage) (any, error) {
	answer := p.answers[method]
	if answer == nil {
		return nil, fmt.Errorf("%s is not known here; this server may be of an older version", method)
	}
	out, err := answer(ctx, in)
	if errors.Is(err, context.Canceled) && ctx.Err() == nil {
		err = fmt.Errorf("%s: %w", p.Name(), journal.ErrStuck)
	}
	return out, err
}

// ownAnswers answer what the partner asks of the pair itself.
func (p *Pair) ownAnswers() map[string]partner.Answer {
	return map[string]partner.Answer{
		"plan.head": partner.Answers(func(_ context.Context, h pair.Head) (heads, error) { return p.headFor(h), nil }),
		"plan.take": partner.Answers(p.takePlan),
		"plan.line": partner.Answers(func(ctx context.Context, above int64) ([]store.Carried, error) {
			return p.Store.Carry(ctx, above, 1000)
		}),
		"plan.aside":    partner.Gives(p.asideHere),
		"plan.settle":   partner.Takes(p.Settle),
		"peer":          partner.Gives(func(context.Context) (PeerView, error) { return p.peerView(), nil }),
		"unserved":      partner.Gives(func(context.Context) ([]byte, error) { return p.unservedHere() }),
		"trail":         partner.Answers(p.trailHere),
		"pair.settings": partner.Takes(p.beSet),
		"pair.states":   partner.Answers(p.states),
		"pair.left":     partner.Takes(func(context.Context, struct{}) error { go p.left(); return nil }),
		"http":          partner.Answers(p.carryOut),
	}
}

// beSet takes over settings that the partner was given.
func (p *Pair) beSet(ctx context.Context, set pair.Settings) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil {
		return ErrAlone
	}
	return p.takeSettings(ctx, set)
}

// carryOut carries out a request of the API that the partner passed on.
func (p *Pair) carryOut(ctx context.Context, r Forwarded) (ForwardedReply, error) {
	_, forward := p.keepers()
	if forward == nil {
		return ForwardedReply{}, errors.New("this server is still starting")
	}
	return forward(ctx, r), nil
}

func (p *Pair) keepers() (AccessKeeper, Forwarder) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.access, p.forwards
}

// left takes in that the partner left the pair: this server goes on without it.
func (p *Pair) left() {
	on, _ := p.paired()
	if on == nil {
		return
	}
	ctx, cancel := context.WithTimeout(p.Work.Context(), 30*time.Second)
	defer cancel()
	if err := p.partWith(ctx, fmt.Sprintf("%s left the pair; %s serves on", on.Partner.Name, on.Partner.Own)); err != nil {
		p.Log.Error("the partner left the pair, and that could not be recorded", "err", err)
	}
}

// peerView is what this server says of itself.
func (p *Pair) peerView() PeerView {
	v := PeerView{Name: p.Name(), Started: p.Started, Revision: p.Engine.Plan().Revision, Unserved: p.Engine.UnservedCount()}
	if err := p.Health(); err != nil {
		v.Trouble = err.Error()
	}
	if at := p.Server.Addr(); !at.IsUnspecified() {
		v.Server = at
	}
	v.Own, v.DUID = p.Engine.Own(), []byte(p.Engine.DUID())
	// Without a pair there is nobody to ask.
	_ = p.withPair(func(s *pair.Server) ([]effect.List, error) {
		v.State, v.Since, v.Owed = s.State().String(), s.Record().Since.Std(), s.Owed()
		return nil, nil
	})
	for _, r := range p.Engine.Relays() {
		v.Relays = append(v.Relays, PeerRelay{r.Address, r.Last.Std(), r.Link})
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on != nil {
		v.Settings = p.on.Settings
	}
	if p.access != nil && p.on != nil {
		v.Access = p.access.Copy()
	}
	return v
}

// askPeer asks the partner for what it says of itself, and takes its accounts over.
func (p *Pair) askPeer(ctx context.Context, c *partner.Channel) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var v PeerView
	if err := c.Ask(ctx, "peer", struct{}{}, &v); err != nil {
		return err
	}
	v.Heard = p.Clock.Now()
	copied := v.Access
	v.Access = store.Access{}
	p.setPeer(v)
	p.Engine.SetPartner(v.Server, v.Own, addr.DUID(v.DUID))
	if err := p.settleSettings(ctx, v.Settings); err != nil {
		p.Log.Warn("settings of the pair that the partner has could not be taken over", "err", err)
	}
	if access, _ := p.keepers(); access != nil {
		if err := access.Take(ctx, copied); err != nil {
			p.Log.Warn("the partner's accounts could not be taken over", "err", err)
		}
	}
	return nil
}

func (p *Pair) setPeer(v PeerView) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.peer = v
}

// Forward passes a request of the API on to the primary; ok is false if it is to be
// carried out here.
func (p *Pair) Forward(ctx context.Context, r Forwarded) (reply ForwardedReply, ok bool, err error) {
	on, c := p.paired()
	if c == nil || on == nil || on.Settings.Side != lease.Secondary {
		return reply, false, nil
	}
	state, connected := pair.State(0), false
	if err := p.withPair(func(s *pair.Server) ([]effect.List, error) {
		state = s.State()
		_, connected = s.Partner()
		return nil, nil
	}); err != nil || state == pair.PartnerDown {
		return reply, false, nil
	}
	if !connected {
		return reply, true,
			fmt.Errorf("%w: %s is the plan's one writer; change the plan there, or say that it is down (yarnpost pair down)",
				ErrApart, on.Partner.Name)
	}
	r.From = on.Partner.Own
	return reply, true, c.Ask(ctx, "http", r, &reply)
}
