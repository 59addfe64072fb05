package message

import "yarnpost/core/lease"

// Skewed turns a moment of the partner's clock into one of this server's, given by
// how many seconds the partner's is ahead. Moments in messages count modulo 2^32
// from Epoch, so they are taken to be within 68 years of now.
func Skewed(at uint32, ahead int64, now lease.Time) lease.Time {
	if at == 0 {
		return 0
	}
	mine := uint32(now - Epoch)
	return now + lease.Time(int32(at-mine)) - lease.Time(ahead)
}

// Stamp is a moment as it stands in a message. Never is as late as can be said.
func Stamp(t, now lease.Time) uint32 {
	const most = 1<<31 - 1
	if t == 0 {
		return 0
	}
	if t == lease.Never || t-now > most {
		t = now + most
	}
	return uint32(t - Epoch)
}
