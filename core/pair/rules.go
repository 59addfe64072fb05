package pair

import (
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
)

// The rules that keep a pair safe (RFC 8156 sections 4.2 and 7), each in one place:
// 1 Longest, 2 Desired, 3 Server.sendable, 4 Others and Server.Gives, 5 Server.settle
// and Server.acknowledged, 6 Server.enter, 7 Next. What is promised to a client
// beyond them could be given to another client by the partner.

// Longest is until when a client may be promised an address: what both servers know
// of, and the lead time beyond it. The first lease to a new client is therefore as
// long as the lead time at most (rule 1, RFC 8156 section 4.2.1). What was known of
// a binding that is over does not count: the partner may have forgotten it.
func Longest(now lease.Time, before *lease.Lease, lead time.Duration) lease.Time {
	known := now
	if before != nil && before.Status == lease.Active {
		known = max(now, before.Acked.Time())
	}
	return known.Add(lead)
}

// Promise is for how long a client gets an address that it would be given for a
// time, under rule 1.
func Promise(now lease.Time, before *lease.Lease, wanted, lead time.Duration) time.Duration {
	if most := Longest(now, before, lead); most != lease.Never {
		return min(wanted, most.Sub(now))
	}
	return wanted
}

// Desired is the time that the partner is asked to acknowledge for a lease that was
// given until a moment to a client that would like to have it for a time: beyond
// what it has by half of that, so that a renewal at half time can be for the full
// time again (rule 2, RFC 8156 section 4.2.1).
func Desired(given lease.Time, wanted time.Duration) lease.Time {
	if wanted >= option.Infinite {
		return lease.Never
	}
	return given.Add(wanted + wanted/2)
}

// clockSlack is by how much moments of two clocks may be misjudged: a message takes
// its time, and clocks drift.
const clockSlack = 30 * time.Second

// Others is when an address that the partner may have given, or may give, is free
// for another client here once the partner is down: after everything that it could
// have promised, and the lead time (rule 4, RFC 8156 section 8.5.1). The record is
// nil for an address without one.
func Others(down lease.Time, l *lease.Lease, lead time.Duration) lease.Time {
	known := down
	if l != nil {
		known = max(down, l.Told.Time(), l.Acked.Time())
	}
	return known.Add(lead + clockSlack)
}
