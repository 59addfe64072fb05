package node

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"net/netip"
	"sort"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/wire"
)

// Given is the set of what the holder of a lease asked with and was last given;
// ok is false if that is not known.
func (e *Engine) Given(digest uint64) (s answer.Set, ok bool) {
	e.mu.Lock()
	known := e.sets.known[digest]
	e.mu.Unlock()
	if known == nil {
		return s, false
	}
	s, err := answer.ParseSet(known.body)
	return s, err == nil
}

// Unmet is one option that clients ask for and are not given.
type Unmet struct {
	Code    uint8
	Clients int
	Scopes  map[string]int // clients by scope
	Vendors map[string]int // clients by vendor class
}

// Unmet counts what the holders of active leases ask for and nobody set.
func (e *Engine) Unmet() []Unmet {
	p := e.Plan()
	missing := map[uint64][]uint8{}
	counts := map[uint8]*Unmet{}
	e.eachLease(0, func(l *lease.Lease) {
		if l.Status != lease.Active || l.Given == 0 {
			return
		}
		codes, known := missing[l.Given]
		if !known {
			s, _ := e.Given(l.Given)
			codes = s.Unmet()
			missing[l.Given] = codes
		}
		for _, c := range codes {
			u := counts[c]
			if u == nil {
				u = &Unmet{Code: c, Scopes: map[string]int{}, Vendors: map[string]int{}}
				counts[c] = u
			}
			u.Clients++
			if v := p.ScopeAt(l.Address()); v != nil {
				u.Scopes[v.Name]++
			}
			u.Vendors[l.Vendor]++
		}
	})
	out := []Unmet{}
	for _, u := range counts {
		out = append(out, *u)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Clients != out[j].Clients {
			return out[i].Clients > out[j].Clients
		}
		return out[i].Code < out[j].Code
	})
	return out
}

// Stale is a client that still has other options than it would get now.
type Stale struct {
	Lease    *lease.Lease
	Renews   time.Time // when it should renew by itself
	Nudge    bool      // it can be nudged
	NotGiven bool      // it would not be given its address again
}

// Stale lists the holders of active leases, of one scope or of all for 0, whose
// options are not what they would be given now. The very code that serves
// decides what that is.
func (e *Engine) Stale(scope plan.ID) []Stale {
	var d answer.Decision
	var out []Stale
	e.eachLease(scope, func(l *lease.Lease) {
		if l.Status != lease.Active || l.Given == 0 {
			return
		}
		set, ok := e.Given(l.Given)
		if !ok {
			return
		}
		e.mu.Lock()
		w := e.world(e.clock.Now())
		_, digest, served := answer.Renewal(l, set.Asked, w, &d)
		e.mu.Unlock()
		if served && digest == l.Given {
			return
		}
		at := l.Expires
		if l.Expires != lease.Never {
			at = l.Heard.Add(l.Granted / 2)
		}
		out = append(out, Stale{l, at.Std(), l.Nudge != "", !served})
	})
	return out
}

// nudgePause is the time between two nudges of many.
const nudgePause = 50 * time.Millisecond

// Nudge makes the holder of a lease renew at once.
func (n *Node) Nudge(l *lease.Lease) error {
	from, i := n.facing(l.Address())
	if !from.IsValid() || from.IsLoopback() {
		return fmt.Errorf("nudge %s: this server only has an address on loopback, and reaches no client", l.Address())
	}
	var b [4]byte
	rand.Read(b[:])
	replay := uint64(n.clock.Now().Unix())<<32 | uint64(binary.BigEndian.Uint32(b[:])>>1)
	data, err := answer.Nudge(l, from, replay)
	if err != nil {
		return err
	}
	n.wire.Send([]wire.Reply{{Data: data, From: from, To: netip.AddrPortFrom(l.Address(), wire.ClientPort), Interface: i}})
	n.metrics.nudges.Inc()
	n.log.Info("nudged", "address", l.Address())
	return nil
}

// NudgeAll nudges many, paced, until the context ends.
func (n *Node) NudgeAll(ctx context.Context, list []Stale) {
	n.workers.Go(func() {
		for _, s := range list {
			if !s.Nudge {
				continue
			}
			if err := n.Nudge(s.Lease); err != nil {
				n.log.Warn("a client could not be nudged", "address", s.Lease.Address(), "err", err)
			}
			select {
			case <-ctx.Done():
				return
			case <-n.running.Done():
				return
			case <-time.After(nudgePause):
			}
		}
	})
}

// facing is the address by which clients of an address know this server: that
// of the interface in its subnet, or any that is not loopback.
func (n *Node) facing(a netip.Addr) (netip.Addr, *wire.Interface) {
	var other netip.Addr
	for _, i := range n.wire.Interfaces() {
		for _, p := range i.Prefixes {
			if p.Contains(a) {
				return p.Addr(), i
			}
			if !p.Addr().IsLoopback() && !other.IsValid() {
				other = p.Addr()
			}
		}
	}
	if at := n.wire.Addr().Addr(); !at.IsUnspecified() {
		other = at
	}
	return other, nil
}

// Facing is how this server names itself to clients behind a relay.
func (n *Node) Facing(relay netip.Addr) netip.Addr {
	if relay.IsLoopback() {
		return netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	at, _ := n.facing(relay)
	if !at.IsValid() {
		return netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	return at
}

// Where finds what a hardware address holds now, in the whole table.
func (e *Engine) Where(hw addr.Hardware) (out []*lease.Lease) {
	now := lease.At(e.clock.Now())
	e.eachLease(0, func(l *lease.Lease) {
		if l.Hardware == hw && l.HeldAt(now) {
			out = append(out, l)
		}
	})
	return out
}
