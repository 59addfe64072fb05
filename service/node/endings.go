package node

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"yarnpost/core/lease"
	"yarnpost/service/engine"
	"yarnpost/service/probe"
)

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

// EndLease ends an active lease. Its client may not know, so the address is kept
// from others until a probe meets silence or the promise has passed; it returns
// when that is durable.
func (n *Node) EndLease(ctx context.Context, a netip.Addr, preview bool) (Ending, error) {
	var l *lease.Lease
	n.engine.With(func(t *lease.Table) { l = t.At(a) })
	if l == nil || l.Status != lease.Active {
		return Ending{}, fmt.Errorf("%w: %s is not active", ErrNoLease, a)
	}
	who, probed := n.engine.ProbeNow(a)
	unused := probed && !who.Answered
	end := until(l.Expires)
	out := Ending{Lease: l, Text: "no probe reaches it, so it is kept from others " + end}
	switch {
	case unused:
		out.Text = "nobody answers there, so others can have it at once"
	case probed:
		out.Text = joined("a client answers there", from(who)) + ", so it is kept from others while that goes on, " + end
	}
	out.Text += "; the client itself can have it back"
	if preview {
		return out, nil
	}
	next, err := n.engine.Replace(ctx, a, func(l *lease.Lease, now lease.Time) (*lease.Lease, error) {
		switch {
		case l == nil || l.Status != lease.Active:
			return nil, fmt.Errorf("%w: %s is not active", ErrNoLease, a)
		case unused:
			return l.Ended(lease.Released, now), nil
		}
		return l.KeptUntil(now, l.Expires), nil
	})
	if err == nil && next.Kept() {
		n.engine.ProbeAgain(a)
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

func clearable(a netip.Addr, l *lease.Lease) error {
	if l == nil || l.Status != lease.Abandoned && !l.Kept() {
		return fmt.Errorf("%w: %s is neither abandoned nor kept from others", ErrNoLease, a)
	}
	return nil
}

// ClearAddress gives an abandoned or kept address back, so that it can be handed
// out again, unless somebody answers there; it returns when that is durable.
func (n *Node) ClearAddress(ctx context.Context, a netip.Addr, preview bool) (Ending, error) {
	var l *lease.Lease
	n.engine.With(func(t *lease.Table) { l = t.At(a) })
	if err := clearable(a, l); err != nil {
		return Ending{}, err
	}
	who, probed := n.engine.ProbeNow(a)
	if who.Answered {
		return Ending{Lease: l}, fmt.Errorf("%w: %s; find that device, or exclude the address", ErrInUse,
			joined(a.String(), "answered a probe just now", from(who)))
	}
	out := Ending{Lease: l, Text: "nobody answers there, so others can have it at once"}
	if !probed {
		out.Text = "no probe reaches it, so make sure that nobody uses it: others can have it at once"
	}
	if preview {
		return out, nil
	}
	next, err := n.engine.Replace(ctx, a, func(l *lease.Lease, now lease.Time) (*lease.Lease, error) {
		if l != nil && (l.Status == lease.Expired || l.Status == lease.Free || l.Status == lease.Released && !l.Kept()) {
			return l, nil // the probe did it
		}
		if err := clearable(a, l); err != nil {
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

// ForgetRecord forgets who had an address, once it ended; it returns when that is
// durable.
func (n *Node) ForgetRecord(ctx context.Context, a netip.Addr) error {
	_, err := n.engine.Replace(ctx, a, func(l *lease.Lease, _ lease.Time) (*lease.Lease, error) {
		if l == nil || !l.Former() {
			return nil, fmt.Errorf("%w: %s has not ended", ErrNoLease, a)
		}
		return engine.Forgotten(l), nil
	})
	return err
}
