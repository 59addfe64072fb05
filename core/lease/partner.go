package lease

import (
	"math"
	"time"
)

// What a server of a pair must know of a binding beyond the binding itself. A
// server that is alone leaves all of it at zero.

// Side is which server of a pair this is.
type Side uint8

// The sides. The primary is the one that decides whose an address is that nobody
// holds any more (RFC 8156 section 7.3), and the plan's one writer.
const (
	Alone Side = iota
	Primary
	Secondary
)

func (s Side) String() string { return [...]string{"alone", "primary", "secondary"}[s] }

// Other is the partner's side.
func (s Side) Other() Side { return [...]Side{Alone, Secondary, Primary}[s] }

// Free is the status of addresses that are this side's to give.
func (s Side) Free() Status {
	if s == Secondary {
		return FreeBackup
	}
	return Free
}

// VersionVector counts the changes that each server made to a record. So of two records
// of one address it can be told, without a clock, whether one was made in
// knowledge of the other.
type VersionVector struct{ Primary, Secondary uint32 }

// Next is the version of a record after a change that a side makes.
func (v VersionVector) Next(s Side) VersionVector {
	switch s {
	case Primary:
		v.Primary++
	case Secondary:
		v.Secondary++
	}
	return v
}

// Since is a version from which a side counts on that has no record at a moment, and may have had
// one before: whatever it counted then is less.
func (v VersionVector) Since(s Side, now Time) VersionVector {
	switch at := uint32(MomentOf(now)); s {
	case Primary:
		v.Primary = max(v.Primary, at)
	case Secondary:
		v.Secondary = max(v.Secondary, at)
	}
	return v
}

// Covers reports whether whoever made this version knew that one.
func (v VersionVector) Covers(o VersionVector) bool {
	return v.Primary >= o.Primary && v.Secondary >= o.Secondary
}

// Join is the version of what was made in knowledge of both.
func (v VersionVector) Join(o VersionVector) VersionVector {
	return VersionVector{max(v.Primary, o.Primary), max(v.Secondary, o.Secondary)}
}

// Moment is a second as messages of a pair count it: since 2000-01-01 UTC. Zero is
// none, the greatest is never; so it takes half the room of a Time.
type Moment uint32

// PairEpoch is the second from which moments count, since 1970.
const PairEpoch Time = 946_684_800

// MomentOf is a time as a moment.
func MomentOf(t Time) Moment {
	switch {
	case t <= PairEpoch:
		return 0
	case t == Never || t-PairEpoch >= math.MaxUint32:
		return math.MaxUint32
	}
	return Moment(t - PairEpoch)
}

// Time is the moment as a time.
func (m Moment) Time() Time {
	switch m {
	case 0:
		return 0
	case math.MaxUint32:
		return Never
	}
	return PairEpoch + Time(m)
}

// Block reports whether this is no binding but a share: of all addresses of the
// prefix that nobody ever had, it says whose they are to give. The most specific
// block counts; without one they are the primary's.
func (l *Lease) Block() bool { return l.Prefix.Addr().Is4() && !l.Prefix.IsSingleIP() }

// Over reports whether nobody holds the address, and who had it knows.
func (l *Lease) Over() bool { return !l.busy() }

// Limbo reports whether nobody holds the address, and it is not yet said which
// server it is to give: until then only its last client may have it back.
func (l *Lease) Limbo() bool {
	return !l.busy() && (l.Status == Released || l.Status == Expired || l.Status == PendingFree)
}

// tombstone reports whether the record says nothing at all: it was taken back, and only its
// slot is there still.
func (l *Lease) tombstone() bool {
	return l.Status == Free && !l.Client.Known() && l.Version == (VersionVector{})
}

// Wanted is the lease time that the client of an active lease would have been given,
// had the partner known of it in time; 0 if that is what it was given. What the
// partner is told reaches half as far again as that.
func (l *Lease) Wanted() time.Duration {
	if l.Status != Active || l.Told == 0 || l.Told.Time() == Never {
		return 0
	}
	wanted := l.Told.Time().Sub(l.Heard) / 3 * 2
	if wanted <= l.Granted+time.Minute {
		return 0
	}
	return wanted.Round(time.Minute)
}
