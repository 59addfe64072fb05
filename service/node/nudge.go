package node

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/service/engine"
	"yarnpost/service/wire"
)

// nudgePause is the time between two nudges of many.
const nudgePause = 50 * time.Millisecond

// Nudge makes the holder of a lease renew at once.
func (n *Node) Nudge(l *lease.Lease) error {
	if err := n.MayNudge(l); err != nil {
		return err
	}
	from, i := n.facing(l.Address())
	var b [4]byte
	rand.Read(b[:])
	replay := uint64(n.clock.Now().Unix())<<32 | uint64(binary.BigEndian.Uint32(b[:])>>1)
	data, err := answer.Nudge(l, from, replay)
	if err != nil {
		return err
	}
	n.wire.Send([]wire.Reply{{Data: data, From: from, To: netip.AddrPortFrom(l.Address(), wire.ClientPort), Interface: i}})
	n.metrics.Nudges.Inc()
	n.log.Info("nudged", "address", l.Address())
	return nil
}

// MayNudge reports why a client cannot be nudged: it offered no nonce, or this server
// has no address by which it is reached.
func (n *Node) MayNudge(l *lease.Lease) error {
	if l.Nudge == "" {
		return fmt.Errorf("%s cannot be nudged: its client does not offer FORCERENEW with a nonce (option 145). It renews by itself", l.Address())
	}
	if from, _ := n.facing(l.Address()); !from.IsValid() || from.IsLoopback() {
		return fmt.Errorf("%s cannot be nudged: this server only has an address on loopback, and reaches no client", l.Address())
	}
	return nil
}

// NudgeAll nudges many, paced, until the context ends.
func (n *Node) NudgeAll(ctx context.Context, list []engine.Stale) {
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
