package node

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/service/observe"
)

// Drill is a rehearsal of this server's death: it leaves all clients to the partner
// for a while, watched, and serves again at once if clients suffer.
type Drill struct {
	Out          string // the server that is taken out
	Began, Until time.Time
	Running      bool
	Served       int
	Without      int
	Waiting      int           // clients that were heard asking here, and have nothing yet
	Longest      time.Duration // that a client waited until it was served
	Clients      []DrillClient // those that waited longest, then those that were served first
	Verdict      string
}

// DrillClient is a client that the other server served during a drill.
type DrillClient struct {
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

// StartDrill begins a drill.
func (n *Node) StartDrill(span time.Duration) (Drill, error) {
	n.pair.mu.Lock()
	running := n.pair.drill != nil && n.pair.drill.Running
	n.pair.mu.Unlock()
	if running {
		return Drill{}, errors.New("a drill runs already")
	}
	if err := n.PairPause(true); err != nil {
		return Drill{}, err
	}
	now := n.clock.Now()
	d := &Drill{Out: n.Name(), Began: now, Until: now.Add(span), Running: true, Verdict: "it runs"}
	// Whoever goes without now is not made to by the drill; it may be heard by the
	// other from now on.
	before, _ := n.Unserved(n.running)
	without := map[lease.Client]bool{}
	for _, u := range before {
		without[u.Client] = true
	}
	n.engine.WatchWaits(true)
	n.pair.mu.Lock()
	n.pair.drill = d
	n.pair.mu.Unlock()
	n.workers.Go(func() { n.guarded("a drill", func() { n.watchDrill(*d, without) })() })
	return *d, nil
}

// DrillReport is the drill that runs, or the last one, or nil.
func (n *Node) DrillReport() *Drill {
	n.pair.mu.Lock()
	defer n.pair.mu.Unlock()
	if n.pair.drill == nil {
		return nil
	}
	d := *n.pair.drill
	return &d
}

// watchDrill looks every second whether clients suffer, until the time is over.
func (n *Node) watchDrill(d Drill, without map[lease.Client]bool) {
	defer n.engine.WatchWaits(false)
	stopped := ""
	for stopped == "" && n.clock.Now().Before(d.Until) && n.running.Err() == nil {
		time.Sleep(time.Second)
		n.nudgePair()
		v, ok := n.Pair()
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
		who := n.reportDrill(&d, without)
		if stopped == "" && d.Without > 0 {
			stopped = clients(d.Without) + " went without: " + who
		}
	}
	if err := n.PairPause(false); err != nil {
		n.log.Error("the drill is over, and this server could not be put back", "err", err)
	}
	n.reportDrill(&d, without)
	d.Running, d.Until = false, n.clock.Now()
	d.Verdict = fmt.Sprintf("%s served alone for %s, and nobody went without", n.partnerName(), d.Until.Sub(d.Began).Round(time.Second))
	if stopped != "" {
		d.Verdict = "it was ended at once: " + stopped
	}
	n.noteEvent("drill: " + d.Verdict)
	n.pair.mu.Lock()
	n.pair.drill = &d
	n.pair.mu.Unlock()
}

func (n *Node) partnerName() string {
	if on, _ := n.paired(); on != nil {
		return on.Partner.Name
	}
	return "the partner"
}

// reportDrill says whom the partner served since the drill began and how long each
// waited, and counts those that suffer: it names one of them.
func (n *Node) reportDrill(d *Drill, before map[lease.Client]bool) (who string) {
	served, asking := n.engine.Waits()
	now := n.clock.Now()
	without := map[lease.Client]bool{}
	list, _ := n.Unserved(n.running)
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
			d.Clients = append(d.Clients, DrillClient{cmp.Or(w.Hostname, w.Hardware.String()), w.Address, !w.First.IsZero(), w.Took})
		}
	}
	d.Served, d.Without = len(served), len(without)
	c := *d
	n.pair.mu.Lock()
	n.pair.drill = &c
	n.pair.mu.Unlock()
	return who
}
