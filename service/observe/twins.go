package observe

import (
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/service/lru"
)

// twin is an address that two hosts with one client identifier ask for. By the
// standard's rule both have it; it is seen, and said once it is sure: the first
// answers a probe while the second asks, or they take turns.
type twin struct {
	one, two addr.Hardware
	turn     addr.Hardware // whose it was last
	turns    int           // how often it went from one to the other
	last     lease.Time
	asked    lease.Time // when the address was probed because of it
	told     unservedKey
	client   Unserved
}

// Limits of noticing twins: turns without a probe that tell enough, and seconds
// between two probes because of one address.
const (
	twinTurns = 3
	twinPause = 60
)

// Twins are the pairs of hosts that were seen.
type Twins struct {
	seen     *lru.Map[netip.Addr, *twin]
	unserved *UnservedList
}

func newTwins(u *UnservedList) *Twins { return &Twins{lru.New[netip.Addr, *twin](1000), u} }

// Note notes that another hardware address asks for a lease that is held. The
// probe function asks whether the first is there still, if it can.
func (t *Twins) Note(c Case, now lease.Time, probe func(netip.Addr) bool) {
	a := c.Twin.Address()
	w := t.seen.Get(a)
	if w == nil || now-w.last > 3600 {
		w = &twin{}
	}
	t.seen.Put(a, w)
	if w.turn != c.Hardware {
		w.turns++
	}
	w.one, w.two, w.turn, w.last = c.Twin.Hardware, c.Hardware, c.Hardware, now
	w.told, w.client = troubleKey(c.Client, a), describe(c)
	w.client.Asked = a
	switch {
	case w.turns >= twinTurns:
		t.tell(w, "they take turns with "+a.String(), now)
	case now-w.asked > twinPause && probe(a):
		w.asked = now
	}
}

// Back takes in that the first of two was answered again: the second's next message is another
// turn.
func (t *Twins) Back(a netip.Addr, who addr.Hardware) {
	if t.seen.Size() == 0 {
		return
	}
	if w := t.seen.Get(a); w != nil && who == w.one {
		w.turn = who
	}
}

// Meet takes in that somebody answers for an address that is leased: if it is the
// first of two, there are two. Beyond a relay an answer does not say whose it is: it may be
// the second's, who has the address by then, so only that they take turns counts.
func (t *Twins) Meet(a netip.Addr, who addr.Hardware, now lease.Time) {
	w := t.seen.Get(a)
	if w == nil || now-w.asked > twinPause || who != w.one {
		return
	}
	t.tell(w, w.one.String()+" answers for "+a.String()+" at the same time", now)
}

func (t *Twins) tell(w *twin, evidence string, now lease.Time) {
	u := w.client
	what := "client identifier"
	if u.Client.DUID() != "" {
		what = "DUID"
	}
	u.Trail = append(append([]string{}, u.Trail...), w.one.String()+" and "+w.two.String()+" have the same "+what, evidence)
	t.unserved.tell(w.told, u, reason.SharedIdentifier, now)
}

// scopeNamed is the name of a scope that may be nil.
func scopeNamed(v *plan.View) (scope, link string) {
	if v == nil {
		return "", ""
	}
	return v.Name, v.LinkName
}
