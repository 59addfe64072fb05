package pair

import (
	"time"

	"yarnpost/core/lease"
)

// The rules that keep a pair safe (RFC 8156 section 4.2 and 7), each in one place.
// What is promised to a client beyond them could be given to another client by the
// partner.

// Known is what two servers know of one binding beyond the binding itself.
type Known struct {
	Acknowledged lease.Time // until when the partner has acknowledged that it may be held; 0: never
	Reported     lease.Time // until when the partner said that it gave it; 0: never
}

// Longest is until when a client may be promised an address: what both servers know
// of, and the lead time beyond it. The first lease to a new client is therefore as
// long as the lead time at most (rule 1, RFC 8156 section 4.2.1).
func Longest(now lease.Time, k Known, lead time.Duration) lease.Time {
	return max(now, k.Acknowledged, k.Reported).Add(lead)
}

// Promise is for how long a client gets an address that it would be given for a
// time, under rule 1.
func Promise(now lease.Time, k Known, wanted, lead time.Duration) time.Duration {
	if most := Longest(now, k, lead); most != lease.Never {
		return min(wanted, most.Sub(now))
	}
	return wanted
}

// Desired is the time that the partner is asked to acknowledge for a lease that was
// given until a moment to a client that would like to have it for a time: beyond
// what it has by half of that, so that a renewal at half time can be for the full
// time again (rule 2, RFC 8156 section 4.2.1).
func Desired(end lease.Time, wanted time.Duration) lease.Time { return end.Add(wanted / 2) }

// Others is when an address of the partner's may be given to another client once the
// partner is down: after everything that it could have promised, and the lead time
// (rule 4, RFC 8156 section 8.5.1).
func Others(down lease.Time, k Known, lead time.Duration) lease.Time {
	return max(down, k.Acknowledged, k.Reported).Add(lead)
}

// Skewed turns a moment of the partner's clock into one of this server's, given by
// how many seconds the partner's is ahead. Moments in messages count modulo 2^32
// from Epoch, so they are taken to be within 68 years of now.
func Skewed(at uint32, ahead int64, now lease.Time) lease.Time {
	mine := uint32(int64(now) - Epoch)
	return now + lease.Time(int32(at-mine)) - lease.Time(ahead)
}

// Stamp is a moment as it stands in a message. Never is as late as can be said.
func Stamp(t, now lease.Time) uint32 {
	const most = 1<<31 - 1
	if t == lease.Never || t-now > most {
		t = now + most
	}
	return uint32(int64(t) - Epoch)
}
