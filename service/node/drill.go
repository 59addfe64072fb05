package node

import (
	"errors"
	"fmt"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/pair"
)

// Drill is a rehearsal of this server's death: it leaves all clients to the partner
// for a while, watched, and serves again at once if clients suffer.
type Drill struct {
	Out          string // the server that is taken out
	Began, Until time.Time
	Running      bool
	Served       int
	Without      int
	Clients      []string
	Verdict      string
}

// drillNames is how many clients a drill names.
const drillNames = 100

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
	n.pair.mu.Lock()
	n.pair.drill = d
	// Whoever goes without now may be heard by the other from now on.
	without := n.pair.peer.Unserved + n.engine.UnservedCount()
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
func (n *Node) watchDrill(d Drill, without int) {
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
		n.pair.mu.Lock()
		d.Without = max(0, n.pair.peer.Unserved-without)
		n.pair.mu.Unlock()
		if stopped == "" && d.Without > 0 {
			stopped = clients(d.Without) + " went without"
		}
		n.reportDrill(&d)
	}
	if err := n.PairPause(false); err != nil {
		n.log.Error("the drill is over, and this server could not be put back", "err", err)
	}
	d.Running, d.Until = false, n.clock.Now()
	n.reportDrill(&d)
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

// reportDrill counts whom the partner served since the drill began.
func (n *Node) reportDrill(d *Drill) {
	var side lease.Side
	n.engine.With(func(t *lease.Table) { side = t.Side().Other() })
	since := lease.At(d.Began)
	d.Served, d.Clients = 0, nil
	n.EachLease(0, func(l *lease.Lease) {
		if l.By != side || l.Heard < since || l.Status != lease.Active {
			return
		}
		if d.Served++; len(d.Clients) < drillNames {
			name := l.Hostname
			if name == "" {
				name = l.Hardware.String()
			}
			d.Clients = append(d.Clients, fmt.Sprintf("%s has %s", name, l.Address()))
		}
	})
	c := *d
	n.pair.mu.Lock()
	n.pair.drill = &c
	n.pair.mu.Unlock()
}
