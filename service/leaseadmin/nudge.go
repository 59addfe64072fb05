package leaseadmin

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/service/report"
	"yarnpost/service/wire"
)

// nudgePause is the time between two nudges of many.
const nudgePause = 50 * time.Millisecond

// Nudge makes the holder of a lease renew at once: by FORCERENEW, or by RECONFIGURE.
func (d *Admin) Nudge(l *lease.Lease) error {
	to, from, i, err := d.reach(l)
	if err != nil {
		return err
	}
	var b [4]byte
	rand.Read(b[:])
	replay := uint64(d.Clock.Now().Unix())<<32 | uint64(binary.BigEndian.Uint32(b[:])>>1)
	port := uint16(wire.ClientPort)
	var data []byte
	if to.Is6() {
		port = wire.ClientPort6
		data, err = answer.Reconfigure(l, string(d.Engine.DUID()), replay)
	} else {
		data, err = answer.Nudge(l, from, replay)
	}
	if err != nil {
		return err
	}
	d.Wire.Send([]wire.Reply{{Data: data, From: from, To: netip.AddrPortFrom(to, port), Interface: i}})
	d.Nudged()
	d.Log.Info("nudged", "address", addr.FormatKey(l.Prefix))
	return nil
}

// MayNudge reports why a client cannot be nudged: it offered no key, or this server
// has no address by which it is reached.
func (d *Admin) MayNudge(l *lease.Lease) error {
	_, _, _, err := d.reach(l)
	return err
}

// reach is where a client can be reached to be nudged, and from where.
func (d *Admin) reach(l *lease.Lease) (to, from netip.Addr, i *wire.Interface, err error) {
	name, how := addr.FormatKey(l.Prefix), "FORCERENEW with a nonce (option 145)"
	if l.Address().Is6() {
		how = "to be reconfigured (option 20)"
	}
	if l.Nudge == "" {
		return to, from, nil, fmt.Errorf("%s cannot be nudged: its client does not offer %s. It renews by itself", name, how)
	}
	if to = l.Address(); !l.Prefix.IsSingleIP() {
		if to = d.addressOf(l.Client); !to.IsValid() {
			return to, from, nil, fmt.Errorf("%s cannot be nudged: its router has no address by which it is reached. It renews by itself", name)
		}
	}
	from, i = d.Host.From(to)
	if to.Is4() && !from.IsValid() || from.IsLoopback() {
		return to, from, i, fmt.Errorf("%s cannot be nudged: this server only has an address on loopback, and reaches no client", name)
	}
	return to, from, i, nil
}

// addressOf is an address that the DUID of a router holds, or not valid.
func (d *Admin) addressOf(c lease.Client) (found netip.Addr) {
	d.Engine.With(func(t *lease.Table) {
		for _, v := range t.Plan().Scopes() {
			t.Bindings(v, lease.Client{Kind: lease.Addresses, Number: c.Number, ID: c.ID}, func(l *lease.Lease) bool {
				if l.Status == lease.Active {
					found = l.Address()
				}
				return !found.IsValid()
			})
		}
	})
	return found
}

// NudgeAll nudges many, paced, until the service stops.
func (d *Admin) NudgeAll(list []report.Stale) {
	d.Work.Go("nudging", func(ctx context.Context) {
		for _, s := range list {
			if !s.Nudge {
				continue
			}
			if err := d.Nudge(s.Lease); err != nil {
				d.Log.Warn("a client could not be nudged", "address", addr.FormatKey(s.Lease.Prefix), "err", err)
			}
			d.Work.Pause(nudgePause)
			if ctx.Err() != nil {
				return
			}
		}
	})
}
