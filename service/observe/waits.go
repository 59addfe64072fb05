package observe

import (
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/request"
	"yarnpost/service/lru"
)

// Waits watches, while this server leaves its clients to the other one of a pair,
// how long each of them waits.
type Waits struct {
	asking *lru.Map[lease.Client, Wait] // nil: nobody watches
	served *lru.Map[lease.Client, Wait]
}

// Wait is a client that was left to the other server.
type Wait struct {
	Client   lease.Client
	Hardware addr.Hardware
	Hostname string
	Address  netip.Addr    // that it was given; invalid as long as it waits
	First    time.Time     // when this server heard it ask; zero if it never did
	Last     time.Time     // when it was last heard asking
	Count    int           // how often
	Holds    bool          // it renews, so it waits with a lease in its hands
	Took     time.Duration // from First until this server learned that it was served
	Told     time.Time     // when that was
}

// overtaken is for how long what a client asked is taken for what it was served for:
// the other server's word may be here before the client's own.
const overtaken = 2 * time.Second

// waitsMost bounds how many clients are watched.
const waitsMost = 10000

// Watch begins anew, or ends.
func (w *Waits) Watch(on bool) {
	w.asking, w.served = nil, nil
	if on {
		w.asking, w.served = lru.New[lease.Client, Wait](waitsMost), lru.New[lease.Client, Wait](waitsMost)
	}
}

// left takes in that a client was left to the other server.
func (w *Waits) left(c Case, at time.Time) {
	if w.asking == nil || c.Kind == request.Inform {
		return
	}
	if x := w.served.Get(c.Client); at.Sub(x.Told) < overtaken {
		if x.First.IsZero() {
			x.First = at
			w.served.Put(c.Client, x)
		}
		return
	}
	x := w.asking.Get(c.Client)
	if x.Count == 0 {
		x = Wait{Client: c.Client, Hardware: c.Hardware, Hostname: c.Message.Hostname(), First: at,
			Holds: c.Kind == request.Renew || c.Kind == request.Rebind}
	}
	x.Last = at
	x.Count++
	w.asking.Put(c.Client, x)
}

// given takes in that the other server gave a lease.
func (w *Waits) given(l *lease.Lease, at time.Time) {
	if w.asking == nil {
		return
	}
	x := w.asking.Get(l.Client)
	if x.Count == 0 {
		if old := w.served.Get(l.Client); old.Address == l.Address() {
			return // it renewed, or is told once more
		}
		x = Wait{Client: l.Client, Hardware: l.Hardware, Hostname: l.Hostname}
	} else {
		x.Took = at.Sub(x.First)
	}
	x.Address, x.Told = l.Address(), at
	w.asking.Drop(l.Client)
	w.served.Put(l.Client, x)
}

// All gives who was served, and who still waits.
func (w *Waits) All() (served, asking []Wait) {
	if w.asking == nil {
		return nil, nil
	}
	for _, x := range w.served.All() {
		served = append(served, x)
	}
	for _, x := range w.asking.All() {
		asking = append(asking, x)
	}
	return served, asking
}
