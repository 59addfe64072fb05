package pair

import (
	"encoding/binary"

	"yarnpost/core/lease"
)

// Two tables are compared by digests: of all records whose address falls into one of
// some thousand buckets, then of the parts of buckets that differ. So equal tables
// of any size take a few ten thousand octets, and each difference some hundred.

// DigestBuckets is how many there are, and Parts how many parts each has.
const (
	DigestBuckets = 4096
	Parts         = 64
)

// DigestBucket is where a record is looked for: by its key alone, evenly spread.
func DigestBucket(l *lease.Lease) (bucket, part int) {
	a := l.Address().As16()
	h := mix(binary.BigEndian.Uint64(a[:])*3 + binary.BigEndian.Uint64(a[8:]) + uint64(l.Prefix.Bits())<<56)
	return int(h % DigestBuckets), int(h / DigestBuckets % Parts)
}

// Digest is the digest of what both servers should know of a record. It is zero for
// one that says nothing, or may be gone by now, so that it does not matter whether there is one.
// Time ends leases on each server by itself, so that does not count.
func Digest(l *lease.Lease, now lease.Time) uint64 {
	status := l.Status
	switch {
	case status == lease.Free && !l.Client.Known() && l.Version == (lease.VersionVector{}), l.Past(now):
		return 0
	case status == lease.PendingFree:
		status = lease.Free
	case status == lease.Expired:
		status = lease.Active
	}
	h := mix(uint64(status)<<32 ^ uint64(l.Version.Primary)<<16 ^ uint64(l.Version.Secondary))
	for i := 0; i < len(l.Client.ID); i++ {
		h = (h ^ uint64(l.Client.ID[i])) * 1099511628211
	}
	d, p := DigestBucket(l)
	a := l.Address().As16()
	return mix(h ^ uint64(d)<<40 ^ uint64(p)<<52 ^ binary.BigEndian.Uint64(a[8:]))
}

// mix spreads a number (the finish of SplitMix64).
func mix(x uint64) uint64 {
	x ^= x >> 30
	x *= 0xbf58476d1ce4e5b9
	x ^= x >> 27
	x *= 0x94d049bb133111eb
	return x ^ x>>31
}
