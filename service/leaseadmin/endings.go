// Package leaseadmin does what a person does to leases and their clients: it ends and forgets
// them, clears addresses, asks who answers, wakes machines, and has clients renew at once.
package leaseadmin

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/engine"
	"yarnpost/service/probe"
	"yarnpost/service/wire"
	"yarnpost/service/work"
)

// Engine has the lease table.
type Engine interface {
	With(func(*lease.Table))
	// DUID is by what clients of DHCPv6 know this server.
	DUID() addr.DUID
	EachLease(scope plan.ID, share ...func(*lease.Lease))
	// ProbeNow asks whether somebody answers at an address; ok is false if no probe reaches it,
	// or it is a prefix.
	ProbeNow(k netip.Prefix) (r probe.Result, ok bool)
	ProbeAgain(k netip.Prefix)
	// NetworkAt says what of the network an address is, beside what the plan says; "" for nothing.
	NetworkAt(a netip.Addr) string
	// Bring puts many records into the table, those that may be.
	Bring(ctx context.Context, list []*lease.Lease, may func(t *lease.Table, before, next *lease.Lease) bool) (int, error)
	// Replace puts another record in the place of one, and returns when that is durable.
	Replace(ctx context.Context, k netip.Prefix, f func(*lease.Lease, lease.Time) (*lease.Lease, error)) (*lease.Lease, error)
}

// Wire is the host's network.
type Wire interface {
	Send([]wire.Reply)
	Wake(i *wire.Interface, hw net.HardwareAddr) error
	WakeBeyond(everybody netip.Addr, hw net.HardwareAddr) error
}

// Parts are what an Admin needs.
type Parts struct {
	Engine Engine
	Host   interface {
		// From is the address by which clients of an address know this server.
		From(netip.Addr) (netip.Addr, *wire.Interface)
	}
	Wire   Wire
	Nudged func() // counts clients that were made to renew
	Work   *work.Group
	Clock  interface{ Now() time.Time }
	Log    *slog.Logger
}

// Admin acts on leases for a person.
type Admin struct{ Parts }

// New makes an Admin.
func New(p Parts) *Admin { return &Admin{p} }

// ErrNoLease is wrapped when an address has nothing to end or to clear.
var ErrNoLease = errors.New("nothing to do")

// ErrInUse is wrapped when an address that is to be cleared still answers.
var ErrInUse = errors.New("still in use")

// Ending is what became, or would become, of a lease that a person ends or of an
// address that is cleared.
type Ending struct {
	Lease *lease.Lease // as it is afterwards; as it was, in a preview
	Text  string       // when others can have the address
}

// End ends an active lease. Its client may not know, so the address is kept
// from others until a probe meets silence or the promise has passed; it returns
// when that is durable.
func (d *Admin) End(ctx context.Context, k netip.Prefix, preview bool) (Ending, error) {
	if _, err := d.active(k); err != nil {
		return Ending{}, err
	}
	who, probed := d.Engine.ProbeNow(k)
	return d.end(ctx, k, who, probed, preview)
}

// active is the active lease of an address.
func (d *Admin) active(k netip.Prefix) (l *lease.Lease, err error) {
	d.Engine.With(func(t *lease.Table) { l = t.Get(k) })
	if l == nil || l.Status != lease.Active {
		return nil, fmt.Errorf("%w: %s is not active", ErrNoLease, addr.FormatKey(k))
	}
	return l, nil
}

// end ends an active lease at an address that was probed just now.
func (d *Admin) end(ctx context.Context, k netip.Prefix, who probe.Result, probed, preview bool) (Ending, error) {
	l, err := d.active(k)
	if err != nil {
		return Ending{}, err
	}
	unused := probed && !who.Answered
	end := l.Expires.Until()
	out := Ending{Lease: l, Text: "no probe reaches it, so it is kept from others " + end}
	switch {
	case unused:
		out.Text = "nobody answers there, so others can have it at once"
	case probed:
		out.Text = joined("a client answers there", from(who)) + ", so it is kept from others while that goes on, " + end
	}
	if l.Client.Kind == lease.Registered {
		out.Text += "; its host made it itself, goes on using it, and will register it again"
	} else {
		out.Text += "; the client itself can have it back"
	}
	if preview {
		return out, nil
	}
	next, err := d.Engine.Replace(ctx, k, func(l *lease.Lease, now lease.Time) (*lease.Lease, error) {
		switch {
		case l == nil || l.Status != lease.Active:
			return nil, fmt.Errorf("%w: %s is not active", ErrNoLease, addr.FormatKey(k))
		case unused:
			return l.Ended(lease.Released, now), nil
		}
		return l.KeptUntil(now, l.Expires), nil
	})
	if err == nil && next.Kept() {
		d.Engine.ProbeAgain(k)
	}
	out.Lease = next
	return out, err
}

func from(who probe.Result) string {
	if who.Hardware == "" {
		return ""
	}
	return "from " + who.Hardware.String()
}

// joined joins texts that are not empty.
func joined(texts ...string) string {
	return strings.Join(strings.Fields(strings.Join(texts, " ")), " ")
}

func clearable(k netip.Prefix, l *lease.Lease) error {
	if l == nil || l.Status != lease.Abandoned && !l.Kept() {
		return fmt.Errorf("%w: %s is neither abandoned nor kept from others", ErrNoLease, addr.FormatKey(k))
	}
	return nil
}

// Clear gives an abandoned or kept address back, so that it can be handed
// out again, unless somebody answers there; it returns when that is durable.
func (d *Admin) Clear(ctx context.Context, k netip.Prefix, preview bool) (Ending, error) {
	var l *lease.Lease
	d.Engine.With(func(t *lease.Table) { l = t.Get(k) })
	if err := clearable(k, l); err != nil {
		return Ending{}, err
	}
	who, probed := d.Engine.ProbeNow(k)
	if who.Answered {
		return Ending{Lease: l}, fmt.Errorf("%w: %s; find that device, or exclude the address", ErrInUse,
			joined(addr.FormatKey(k), "answered a probe just now", from(who)))
	}
	out := Ending{Lease: l, Text: "nobody answers there, so others can have it at once"}
	if !probed {
		out.Text = "no probe reaches it, so make sure that nobody uses it: others can have it at once"
	}
	if preview {
		return out, nil
	}
	next, err := d.Engine.Replace(ctx, k, func(l *lease.Lease, now lease.Time) (*lease.Lease, error) {
		if l != nil && (l.Status == lease.Expired || l.Status == lease.Free || l.Status == lease.Released && !l.Kept()) {
			return l, nil // the probe did it
		}
		if err := clearable(k, l); err != nil {
			return nil, err
		}
		if l.Kept() {
			return l.Ended(lease.Released, now), nil
		}
		return engine.Cleared(l, now), nil
	})
	out.Lease = next
	return out, err
}

// Forget forgets who had an address, once it ended; it returns when that is
// durable.
func (d *Admin) Forget(ctx context.Context, k netip.Prefix) error {
	_, err := d.Engine.Replace(ctx, k, func(l *lease.Lease, _ lease.Time) (*lease.Lease, error) {
		if l == nil || !l.Former() {
			return nil, fmt.Errorf("%w: %s has not ended", ErrNoLease, addr.FormatKey(k))
		}
		return engine.Forgotten(l), nil
	})
	return err
}

// HeldBy is the address that a reservation's client holds in a scope now.
func (d *Admin) HeldBy(scope plan.ID, r *plan.Reservation) (found netip.Addr, ok bool) {
	now := lease.At(d.Clock.Now())
	d.Engine.EachLease(scope, func(l *lease.Lease) {
		if answer.Holds(r, l) && l.HeldAt(now) && l.Prefix.IsSingleIP() {
			found, ok = l.Address(), true
		}
	})
	return found, ok
}
