// Package drill rehearses this server's death: its partner serves alone for a while, watched.
package drill

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/service/change"
	"yarnpost/service/failover"
	"yarnpost/service/observe"
	"yarnpost/service/work"
)

// Report is of a rehearsal of this server's death: it leaves all clients to the partner
// for a while, watched, and serves again at once if clients suffer.
type Report struct {
	Out          string // the server that is taken out
	Began, Until time.Time
	Running      bool
	Served       int
	Without      int
	Waiting      int           // clients that were heard asking here, and have nothing yet
	Longest      time.Duration // that a client waited until it was served
	Clients      []Client      // those that waited longest, then those that were served first
	Verdict      string
}

// Client is a client that the other server served during a drill.
type Client struct {
	Name    string // its host name, or else its hardware address
	Address netip.Addr
	Asked   bool          // this server heard it ask, too
	Waited  time.Duration // from then until this server learned that it was served
}

// drillNames is how many clients a drill names.
const drillNames = 100

// A client suffers if it was heard asking so often, over so long a time, and still
// has nothing.
const (
	suffersAsks  = 3
	suffersAfter = 8 * time.Second
)

// Pair is the pair of which one server is taken out.
type Pair interface {
	Name() string
	PartnerName() string
	View() (v failover.View, ok bool)
	// Pause leaves all clients to the partner, or shares them with it again.
	Pause(on bool) error
	Unserved(context.Context) (list []failover.Unserved, silent string)
	Nudge()
	Note(text string)
}

// Engine hears clients.
type Engine interface {
	// WatchWaits notes how long clients wait until either server serves them.
	WatchWaits(on bool)
	Waits() (served, asking []observe.Wait)
}

// Parts are what drills need.
type Parts struct {
	Pair   Pair
	Engine Engine
	Work   *work.Group
	Clock  interface{ Now() time.Time }
	Log    *slog.Logger
}

// Drills are the drills of a server, one at a time.
type Drills struct {
	Parts
	mu   sync.Mutex
	last *Report // of the drill that runs, or ran last
}

// New makes the drills of a server.
func New(p Parts) *Drills { return &Drills{Parts: p} }

// Start begins a drill.
func (r *Drills) Start(span time.Duration) (Report, error) {
	if last := r.Report(); last != nil && last.Running {
		return Report{}, errors.New("a drill runs already")
	}
	if err := r.Pair.Pause(true); err != nil {
		return Report{}, err
	}
	now := r.Clock.Now()
	d := Report{Out: r.Pair.Name(), Began: now, Until: now.Add(span), Running: true, Verdict: "it runs"}
	// Whoever goes without now is not made to by the drill; it may be heard by the
	// other from now on.
	before, _ := r.Pair.Unserved(r.Work.Context())
	without := map[lease.Client]bool{}
	for _, u := range before {
		without[u.Client] = true
	}
	r.Engine.WatchWaits(true)
	r.set(d)
	r.Work.Go("a drill", func(context.Context) { r.watch(d, without) })
	return d, nil
}

// Report is of the drill that runs, or of the last one; nil if there was none.
func (r *Drills) Report() *Report {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.last == nil {
		return nil
	}
	d := *r.last
	return &d
}

func (r *Drills) set(d Report) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.last = &d
}

// watch looks every second whether clients suffer, until the time is over.
func (r *Drills) watch(d Report, without map[lease.Client]bool) {
	defer r.Engine.WatchWaits(false)
	stopped := ""
	for stopped == "" && r.Clock.Now().Before(d.Until) && !r.Work.Stopping() {
		r.Work.Pause(time.Second)
		r.Pair.Nudge()
		v, ok := r.Pair.View()
		switch {
		case !ok:
			stopped = "the pair is no more"
		case !v.Connected:
			stopped = v.Partner.Name + " could not be heard any more"
		case v.Own.State != pair.Normal.String() || v.Partner.State != pair.Normal.String():
			stopped = fmt.Sprintf("%s was in %s, %s in %s", v.Own.Name, v.Own.State, v.Partner.Name, v.Partner.State)
		case v.Partner.Trouble != "":
			stopped = fmt.Sprintf("%s said: %s", v.Partner.Name, v.Partner.Trouble)
		}
		who := r.report(&d, without)
		if stopped == "" && d.Without > 0 {
			stopped = change.Clients(d.Without) + " went without: " + who
		}
	}
	if err := r.Pair.Pause(false); err != nil {
		r.Log.Error("the drill is over, and this server could not be put back", "err", err)
	}
	r.report(&d, without)
	d.Running, d.Until = false, r.Clock.Now()
	d.Verdict = fmt.Sprintf("%s served alone for %s, and nobody went without", r.Pair.PartnerName(), d.Until.Sub(d.Began).Round(time.Second))
	if stopped != "" {
		d.Verdict = "it was ended at once: " + stopped
	}
	r.Pair.Note("drill: " + d.Verdict)
	r.set(d)
}

// report says whom the partner served since the drill began and how long each
// waited, and counts those that suffer: it names one of them.
func (r *Drills) report(d *Report, before map[lease.Client]bool) (who string) {
	served, asking := r.Engine.Waits()
	now := r.Clock.Now()
	without := map[lease.Client]bool{}
	list, _ := r.Pair.Unserved(r.Work.Context())
	for _, u := range list {
		if !before[u.Client] {
			without[u.Client], who = true, cmp.Or(u.Hostname, u.Hardware.String())
		}
	}
	d.Waiting, d.Longest, d.Clients = 0, 0, nil
	for _, w := range asking {
		if before[w.Client] {
			continue
		}
		d.Waiting++
		if !w.Holds && w.Count >= suffersAsks && now.Sub(w.First) >= suffersAfter && now.Sub(w.Last) < 2*suffersAfter {
			without[w.Client], who = true, cmp.Or(w.Hostname, w.Hardware.String())
		}
	}
	slices.SortStableFunc(served, func(a, b observe.Wait) int { return cmp.Compare(b.Took, a.Took) })
	for _, w := range served {
		d.Longest = max(d.Longest, w.Took)
		if len(d.Clients) < drillNames {
			d.Clients = append(d.Clients, Client{cmp.Or(w.Hostname, w.Hardware.String()), w.Address, !w.First.IsZero(), w.Took})
		}
	}
	d.Served, d.Without = len(served), len(without)
	r.set(*d)
	return who
}
