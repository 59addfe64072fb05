package leaseadmin

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/service/report"
	"yarnpost/service/wire"
)

// nudgePause is the time between two nudges of many.
const nudgePause = 50 * time.Millisecond

// Nudge makes the holder of a lease renew at once.
func (d *Admin) Nudge(l *lease.Lease) error {
	if err := d.MayNudge(l); err != nil {
		return err
	}
	from, i := d.Host.From(l.Address())
	var b [4]byte
	rand.Read(b[:])
	replay := uint64(d.Clock.Now().Unix())<<32 | uint64(binary.BigEndian.Uint32(b[:])>>1)
	data, err := answer.Nudge(l, from, replay)
	if err != nil {
		return err
	}
	d.Wire.Send([]wire.Reply{{Data: data, From: from, To: netip.AddrPortFrom(l.Address(), wire.ClientPort), Interface: i}})
	d.Nudged()
	d.Log.Info("nudged", "address", l.Address())
	return nil
}

// MayNudge reports why a client cannot be nudged: it offered no nonce, or this server
// has no address by which it is reached.
func (d *Admin) MayNudge(l *lease.Lease) error {
	if l.Nudge == "" {
		return fmt.Errorf("%s cannot be nudged: its client does not offer FORCERENEW with a nonce (option 145). It renews by itself", l.Address())
	}
	if from, _ := d.Host.From(l.Address()); !from.IsValid() || from.IsLoopback() {
		return fmt.Errorf("%s cannot be nudged: this server only has an address on loopback, and reaches no client", l.Address())
	}
	return nil
}

// NudgeAll nudges many, paced, until the service stops.
func (d *Admin) NudgeAll(list []report.Stale) {
	d.Work.Go("nudging", func(ctx context.Context) {
		for _, s := range list {
			if !s.Nudge {
				continue
			}
			if err := d.Nudge(s.Lease); err != nil {
				d.Log.Warn("a client could not be nudged", "address", s.Lease.Address(), "err", err)
			}
			d.Work.Pause(nudgePause)
			if ctx.Err() != nil {
				return
			}
		}
	})
}
