package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
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
func (n *Node) KeepAccess(a AccessKeeper, f Forwarder) {
	n.pair.mu.Lock()
	defer n.pair.mu.Unlock()
	n.pair.access, n.pair.forwards = a, f
}

// answer answers a question of the partner's; that this server's database gave no sign is
// said in words.
func (n *Node) answer(ctx context.Context, method string, in json.RawMessage) (any, error) {
	out, err := n.answerPartner(ctx, method, in)
	if errors.Is(err, context.Canceled) && ctx.Err() == nil {
		err = fmt.Errorf("%s: %w", n.Name(), store.ErrStuck)
	}
	return out, err
}

// answerPartner answers a question of the partner's.
func (n *Node) answerPartner(ctx context.Context, method string, in json.RawMessage) (any, error) {
	switch method {
	case "plan.head":
		return asked(in, func(h pair.Head) (heads, error) { return n.headFor(h), nil })
	case "plan.take":
		return asked(in, func(t taken) (heads, error) { return n.takePlan(ctx, t) })
	case "plan.line":
		return asked(in, func(above int64) ([]store.Carried, error) { return n.store.Carry(ctx, above, 1000) })
	case "plan.aside":
		return n.asideHere(ctx)
	case "plan.settle":
		return asked(in, func(keep string) (struct{}, error) { return struct{}{}, n.Settle(ctx, keep) })
	case "acknowledge":
		return asked(in, func(list []store.Acknowledged) (struct{}, error) { return struct{}{}, n.store.Acknowledge(ctx, list) })
	case "alerts.take":
		return asked(in, func(a store.AlertSettings) (struct{}, error) { return struct{}{}, n.takeAlerts(ctx, a) })
	case "alerts":
		return n.store.AlertSettings(ctx)
	case "acknowledged":
		return n.store.AllAcknowledged(ctx)
	case "peer":
		return n.peerView(), nil
	case "unserved":
		return n.unservedHere()
	case "digests":
		return asked(in, func(of []int) ([]byte, error) { return n.digests(of), nil })
	case "rows":
		return asked(in, func(of [][2]int) ([]byte, error) { return n.rowsOf(of), nil })
	case "records":
		return asked(in, func(of []netip.Prefix) ([]Known, error) { return n.knownOf(of), nil })
	case "trail":
		return asked(in, func(q store.TrailQuery) ([]store.Deed, error) { q.Own = true; return n.store.Trail(ctx, q) })
	case "pair.settings":
		return asked(in, func(set pair.Settings) (struct{}, error) {
			n.pair.mu.Lock()
			defer n.pair.mu.Unlock()
			if n.pair.on == nil {
				return struct{}{}, ErrAlone
			}
			return struct{}{}, n.takeSettings(ctx, set)
		})
	case "pair.states":
		return asked(in, func(since time.Time) ([]StateSpan, error) { return n.states(ctx, since) })
	case "pair.left":
		go n.left()
		return struct{}{}, nil
	case "http":
		n.pair.mu.Lock()
		forward := n.pair.forwards
		n.pair.mu.Unlock()
		if forward == nil {
			return nil, errors.New("this server is still starting")
		}
		return asked(in, func(r Forwarded) (ForwardedReply, error) { return forward(ctx, r), nil })
	}
	return nil, fmt.Errorf("%s is not known here; this server may be of an older version", method)
}

func asked[In, Out any](in json.RawMessage, f func(In) (Out, error)) (any, error) {
	var v In
	if err := json.Unmarshal(in, &v); err != nil {
		return nil, fmt.Errorf("the question cannot be read: %w", err)
	}
	return f(v)
}

// left takes in that the partner left the pair: this server goes on without it.
func (n *Node) left() {
	on, _ := n.paired()
	if on == nil {
		return
	}
	ctx, cancel := context.WithTimeout(n.running, 30*time.Second)
	defer cancel()
	if err := n.partWith(ctx, fmt.Sprintf("%s left the pair; %s serves on", on.Partner.Name, on.Partner.Own)); err != nil {
		n.log.Error("the partner left the pair, and that could not be recorded", "err", err)
	}
}

// peerView is what this server says of itself.
func (n *Node) peerView() PeerView {
	v := PeerView{Name: n.Name(), Started: n.Started, Revision: n.engine.Plan().Revision, Unserved: n.engine.UnservedCount()}
	if err := n.Health(); err != nil {
		v.Trouble = err.Error()
	}
	if at := n.wire.Addr().Addr(); !at.IsUnspecified() {
		v.Server = at
	}
	v.Own = n.engine.Own()
	// Without a pair there is nobody to ask.
	_ = n.withPair(func(s *pair.Server) ([]effect.List, error) {
		v.State, v.Since, v.Owed = s.State().String(), s.Record().Since.Std(), s.Owed()
		return nil, nil
	})
	for _, r := range n.engine.Relays() {
		v.Relays = append(v.Relays, PeerRelay{r.Address, r.Last.Std(), r.Link})
	}
	n.pair.mu.Lock()
	defer n.pair.mu.Unlock()
	if n.pair.on != nil {
		v.Settings = n.pair.on.Settings
	}
	if n.pair.access != nil && n.pair.on != nil {
		v.Access = n.pair.access.Copy()
	}
	return v
}

// askPeer asks the partner for what it says of itself, and takes its accounts over.
func (n *Node) askPeer(ctx context.Context, c *partner.Channel) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var v PeerView
	if err := c.Ask(ctx, "peer", struct{}{}, &v); err != nil {
		return err
	}
	v.Heard = n.clock.Now()
	n.pair.mu.Lock()
	access := n.pair.access
	copied := v.Access
	v.Access = store.Access{}
	n.pair.peer = v
	n.pair.mu.Unlock()
	n.engine.SetPartner(v.Server, v.Own)
	if err := n.settleSettings(ctx, v.Settings); err != nil {
		n.log.Warn("settings of the pair that the partner has could not be taken over", "err", err)
	}
	if access != nil {
		if err := access.Take(ctx, copied); err != nil {
			n.log.Warn("the partner's accounts could not be taken over", "err", err)
		}
	}
	return nil
}

// Forward passes a request of the API on to the primary; ok is false if it is to be
// carried out here.
func (n *Node) Forward(ctx context.Context, r Forwarded) (reply ForwardedReply, ok bool, err error) {
	on, c := n.paired()
	if c == nil || on == nil || on.Settings.Side != lease.Secondary {
		return reply, false, nil
	}
	state, connected := pair.State(0), false
	if err := n.withPair(func(s *pair.Server) ([]effect.List, error) {
		state = s.State()
		_, connected = s.Partner()
		return nil, nil
	}); err != nil || state == pair.PartnerDown {
		return reply, false, nil
	}
	if !connected {
		return reply, true, fmt.Errorf("%w: %s is the plan's one writer; change the plan there, or say that it is down (yarnpost pair down)",
			ErrApart, on.Partner.Name)
	}
	r.From = on.Partner.Own
	return reply, true, c.Ask(ctx, "http", r, &reply)
}
