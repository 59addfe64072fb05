package node

import (
	"context"
	"time"

	"yarnpost/core/lease"
	"yarnpost/service/clock"
	"yarnpost/service/store"
)

// adoptClock sees whether the host's clock was set while the service was away: if
// so, the leases move along, so that each lasts as long as its client believes.
func (n *Node) adoptClock(ctx context.Context) error {
	m, err := n.Store.LoadClock(ctx)
	if err != nil {
		return err
	}
	now := n.mark()
	by := n.Clock.Shift(clock.Mark(m))
	if by == 0 {
		return n.Store.SaveClock(ctx, now)
	}
	n.log.Warn("the host's clock was set; the leases move along", "by", by.Round(time.Second))
	return n.Store.ShiftLeases(ctx, by, now)
}

func (n *Node) mark() store.ClockMark { return store.ClockMark(n.Clock.Mark()) }

func (n *Node) keepClock() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := n.Store.SaveClock(ctx, n.mark()); err != nil {
		n.log.Warn("the clock's mark could not be kept", "err", err)
	}
}

// watchClock notices steps of the host's clock. Leases go by the time that
// passes; a restart goes by the host's clock again.
func (n *Node) watchClock() {
	if step, stepped := n.Clock.Watch(); stepped {
		n.log.Error("the host's clock stepped; leases go by the time that really passes", "by", step.By.Round(time.Millisecond))
		n.keepClock()
	}
}

// sane is a record as it can be: one that was made under a clock that was ahead
// lasts no longer than its client believes.
func sane(l *lease.Lease, now lease.Time) *lease.Lease {
	const slack = 60
	if l.Heard > now+slack && l.Expires != lease.Never && l.Status == lease.Active {
		l.Heard, l.Since, l.Changed = now, min(l.Since, now), min(l.Changed, now)
		l.Expires = min(l.Expires, now.Add(l.Granted))
	}
	return l
}
