// Package lease is the lease table: who holds which address, what
// is free, and which address to give next. Leases go in as values and come out
// as values; the table opens no file and holds no lock. Its owner lets one
// goroutine at a time in. A *Lease that the table gave never changes, so whoever
// holds one may read it at leisure; those of a Part are good for a moment (Leases).
package lease

import (
	"math"
	"net/netip"
	"time"

	"yarnpost/core/addr"
)

// Status is the binding state of an address (RFC 8156 section 7.2). Free has no
// record of a former client.
type Status uint8

// The statuses, with the numbers under which they are on record. Offered is ours
// alone and never recorded. The last two are of pairs: an address that is free
// once the partner agrees, and one that is free for the secondary to give.
const (
	Free        Status = 0
	Offered     Status = 1
	Active      Status = 2
	Released    Status = 3
	Expired     Status = 4
	Abandoned   Status = 5 // declined by a client, or found in use
	PendingFree Status = 6
	FreeBackup  Status = 7
	statuses           = 8
)

var statusNames = [statuses]string{"free", "offered", "active", "released", "expired", "abandoned", "pending-free", "free-backup"}

func (s Status) String() string { return statusNames[s] }

// ParseStatus is the inverse of String; ok is false for an unknown word.
func ParseStatus(word string) (s Status, ok bool) {
	for i, name := range statusNames {
		if name == word {
			return Status(i), true
		}
	}
	return 0, false
}

// Time is a moment in whole seconds since 1970-01-01 UTC.
type Time int64

// Never is the expiry of an infinite lease.
const Never Time = math.MaxInt64

// At is the second a moment falls into.
func At(t time.Time) Time { return Time(t.Unix()) }

// Add moves by a duration, rounded down to seconds. It stays at Never.
func (t Time) Add(d time.Duration) Time {
	if t == Never {
		return Never
	}
	return t + Time(d/time.Second)
}

// Sub is the span from u to t; it is meaningless for Never.
func (t Time) Sub(u Time) time.Duration { return time.Duration(t-u) * time.Second }

// Std is the moment as a time.Time in UTC; zero and Never have none.
func (t Time) Std() time.Time {
	if t == 0 || t == Never {
		return time.Time{}
	}
	return time.Unix(int64(t), 0).UTC()
}

// Until says in words when a promise ends.
func (t Time) Until() string {
	if t == Never {
		return "for ever"
	}
	return "until " + t.Std().Format("2006-01-02 15:04:05") + " UTC at the latest"
}

// Lease is the record of one address, or of one prefix: a binding (RFC 8156
// section 2).
type Lease struct {
	// What each decision looks at stands first: two lines of memory.
	Prefix   netip.Prefix // its key; an IPv4 address is a /32
	Status   Status
	Reserved bool // given by a reservation
	Owed     bool // the partner has not acknowledged this record yet
	By       Side // which server of a pair gave it
	Version  VersionVector
	Acked    Moment // until when both servers know that it may be held
	Told     Moment // until when the partner may believe that it is held
	Client   Client
	// Expires is the end of the lease, or Never. Of a released address it is until
	// when it is kept from others (see Kept), of an abandoned one when it is
	// looked at again.
	Expires  Time
	Heard    Time          // when the client was last answered
	Granted  time.Duration // lease time last granted
	Revision int64         // plan revision of the options last given
	Hardware addr.Hardware
	Nudge    string // what a FORCERENEW to the client needs, as answer makes it; "" if the client knows none
	Since    Time   // start of the binding
	Changed  Time   // when the status became what it is
	Given    uint64 // digest of what it asked for and was given; 0 if not known
	Relay    netip.Addr
	Hostname string // as the client says, or as its reservation says
	Vendor   string // vendor class (option 60)
	Circuit  string // option 82.1, raw octets
	Agent    string // what else rules ask for of the client's way here, as last heard through its relay; as answer makes it
}

// Host is the key of a single address.
func Host(a netip.Addr) netip.Prefix { return netip.PrefixFrom(a, a.BitLen()) }

// Address is the address, or the first of the prefix.
func (l *Lease) Address() netip.Addr { return l.Prefix.Addr() }

// Port is where a client is plugged in, as far as its relay tells.
type Port struct {
	Relay   netip.Addr
	Circuit string
}

// Port is the client's port; ok is false if its relay named no circuit.
func (l *Lease) Port() (p Port, ok bool) { return Port{l.Relay, l.Circuit}, l.Circuit != "" }

// Found reports whether the address is abandoned because something answered a
// probe there, and not because a client declined it. Hardware then says who
// answered, if that is known.
func (l *Lease) Found() bool { return l.Status == Abandoned && !l.Client.Known() }

// HeldAt reports whether a client may be using the address.
func (l *Lease) HeldAt(now Time) bool { return l.Status == Active && now < l.Expires }

// Kept reports whether the address was taken from its client, who may not know:
// others do not get it before a probe met silence or the promise has passed. The
// client itself may have it back at any time.
func (l *Lease) Kept() bool { return l.Status == Released && l.Expires > l.Changed }

// Ended is the record of the lease once it ended in a status at a moment, and
// its client knows.
func (l *Lease) Ended(to Status, at Time) *Lease {
	n := *l
	n.Status, n.Changed, n.Expires = to, at, at
	return &n
}

// Former reports whether a client had the address, and its record only remembers that.
func (l *Lease) Former() bool {
	switch l.Status {
	case Expired, Free, FreeBackup:
		return l.Client.Known()
	case Released:
		return l.Client.Known() && !l.Kept()
	}
	return false
}

// KeptUntil is the record of the lease once it ended at a moment, while its
// client may go on using the address until another.
func (l *Lease) KeptUntil(at, until Time) *Lease {
	n := l.Ended(Released, at)
	n.Expires = max(at, until)
	return n
}

// GivenUp is the record of the lease once its client gave it up, or was refused it, at
// a moment. A message says so, and not the client itself: until the end that the
// client was last told the address is kept from others, unless a probe meets silence.
func (l *Lease) GivenUp(at Time) *Lease { return l.KeptUntil(at, l.Expires) }

// AbandonRest is how long an abandoned address rests before it is looked at
// again.
const AbandonRest = time.Hour

// Abandon is the record of an address that is in use by somebody who was not
// given it, or that its client declined.
func (l *Lease) Abandon(at Time) *Lease {
	n := l.Ended(Abandoned, at)
	n.Expires = at.Add(AbandonRest)
	return n
}

// busy reports whether the record keeps the address from other clients.
func (l *Lease) busy() bool { return l.Status == Active || l.Status == Abandoned || l.Kept() }

// Grace is for how many seconds an address is nobody else's once its lease is over. A
// client counts from when the answer left, which may be in the second after that in
// which it was decided, and moments here are whole seconds.
const Grace = 2

// due is when something has to happen to the record by itself: it ends, or is
// looked at again. Never, if nothing has to.
func (l *Lease) due() Time {
	if l.busy() && l.Expires != Never {
		return l.Expires + Grace
	}
	return Never
}

// before reports whether of two leases of one client this is the one it has: the
// one that it holds, or else one that is kept for it, or else where it was heard
// last.
func (l *Lease) before(o *Lease) bool {
	if a, b := l.rank(), o.rank(); a != b {
		return a > b
	}
	return l.Heard >= o.Heard
}

// live reports whether the client has it, or may still use it.
func (l *Lease) live() bool { return l.rank() > 0 }

func (l *Lease) rank() int {
	switch {
	case l.Status == Active:
		return 2
	case l.Kept():
		return 1
	}
	return 0
}

// Offer is a promise kept in memory only, until the client takes it or it lapses.
type Offer struct {
	Prefix netip.Prefix // its key
	Client Client
	Until  Time
	Brief  bool // it stands for a shorter time than others
	Port   Port // its Circuit is "" if the relay named none
}

// Address is the address, or the first of the prefix.
func (o Offer) Address() netip.Addr { return o.Prefix.Addr() }

// Change is what becomes of one record. Before is nil if there was none; both are
// of one key. A quiet one is for the record alone: the history gets no line of it.
type Change struct {
	Before, After *Lease
	Quiet         bool
}
