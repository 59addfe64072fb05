// Command sim runs two servers of a pair against clients, networks, disks and clocks
// that do all that real ones do, by a seed: core/pair, core/lease and core/answer as
// they serve, without a socket. After each step it looks whether a promise was
// broken. A run that finds something prints the command that repeats it.
package main

import (
	"container/heap"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/pair"
)

// tick is the simulation's true time, in milliseconds.
type tick int64

const (
	ms     tick = 1
	second      = 1000 * ms
	minute      = 60 * second
)

// began is when simulations begin, by a clock that is right.
const began = lease.Time(1_790_000_000)

// event is something that happens at a time.
type event struct {
	at  tick
	seq uint64 // events of one time happen in the order in which they were planned
	do  func()
}

type events []event

func (e events) Len() int { return len(e) }
func (e events) Less(i, j int) bool {
	return e[i].at < e[j].at || e[i].at == e[j].at && e[i].seq < e[j].seq
}
func (e events) Swap(i, j int) { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)   { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	old := *e
	x := old[len(old)-1]
	old[len(old)-1] = event{}
	*e = old[:len(old)-1]
	return x
}

// Options say what is simulated.
type Options struct {
	Seed   uint64
	Events int
	Off    int        // number of a rule that is switched off; 0: none
	Trace  int        // how many of the last events a failure shows
	Watch  netip.Addr // of which everything is told, if valid
}

// World is everything.
type World struct {
	Options
	random    *rand.Rand
	now       tick
	queue     events
	seq       uint64
	done      int
	servers   [2]*server
	clients   []*client
	wires     wires
	set       pair.Settings
	sizes     sizes
	first     *revision
	holders   map[addrKey]holder
	wrong     string
	log       []string // the last that happened
	logAt     int
	calm      tick                // since when nothing was disturbed
	alone     map[netip.Addr]tick // conflicts that one server alone knows, and since when
	excused   bool                // somebody was wrongly declared dead: two clients may have one address until they compare
	excusedAt tick
	healed    bool // nothing goes wrong any more
	silent    bool // no client asks for anything
	counts    counts
}

// sizes are how much is done at a time. A table that fits into one part hides what happens
// between two, so they are drawn by the seed.
type sizes struct {
	pair.Sizes
	turn int           // leases that move to a new revision in one step
	due  int           // leases that end in one step
	past time.Duration // for how long former clients are remembered
}

func (w *World) drawSizes() {
	of := func(sizes ...int) int { return sizes[w.random.IntN(len(sizes))] }
	w.sizes = sizes{Sizes: pair.Sizes{Walk: of(1, 2, 3, 5, 20, 150, 2000), Together: of(1, 3, 32), Window: of(1, 3, 16)},
		turn: of(1, 5, 40, 256), due: of(1, 4, 32),
		past: time.Duration(of(1, 4, 20, 60)) * time.Minute}
}

type counts struct {
	acks, naks, offers, renewals, crashes, losses, cuts, downs, wrongDowns, plans, failures, doubts, hangs, conflicts, forgotten, left int
}

func (c *counts) add(o counts) {
	for _, p := range []struct{ to, from *int }{{&c.acks, &o.acks}, {&c.naks, &o.naks}, {&c.offers, &o.offers}, {&c.renewals, &o.renewals},
		{&c.crashes, &o.crashes}, {&c.losses, &o.losses}, {&c.cuts, &o.cuts}, {&c.downs, &o.downs}, {&c.wrongDowns, &o.wrongDowns},
		{&c.plans, &o.plans}, {&c.failures, &o.failures}, {&c.doubts, &o.doubts}, {&c.hangs, &o.hangs}, {&c.conflicts, &o.conflicts},
		{&c.forgotten, &o.forgotten}, {&c.left, &o.left}} {
		*p.to += *p.from
	}
}

// NewWorld makes a world by a seed.
func NewWorld(o Options) *World {
	if o.Trace == 0 {
		o.Trace = 60
	}
	w := &World{Options: o, random: rand.New(rand.NewPCG(o.Seed, 8156)), holders: map[addrKey]holder{}, log: make([]string, o.Trace)}
	split := []int{100, 50, 50, 30, 0}[w.random.IntN(5)]
	w.set = pair.Settings{Name: "mill", MCLT: 5 * time.Minute, Split: split}.Defaults()
	w.drawSizes()
	w.first = firstPlan()
	for i := range w.servers {
		w.servers[i] = newServer(w, i)
	}
	w.servers[0].disk.record = pair.Record{State: pair.Normal}
	w.servers[1].disk.record = pair.Record{State: pair.Normal}
	for _, s := range w.servers {
		s.start()
	}
	w.makeClients()
	w.disturb()
	w.administer()
	return w
}

// at has something happen at a time.
func (w *World) at(t tick, do func()) {
	w.seq++
	heap.Push(&w.queue, event{max(t, w.now), w.seq, do})
}

// in has something happen after a while.
func (w *World) in(d tick, do func()) { w.at(w.now+d, do) }

// between draws a time.
func (w *World) between(least, most tick) tick {
	return least + tick(w.random.Int64N(int64(most-least)+1))
}

// chance is true once in n times.
func (w *World) chance(n int) bool { return w.random.IntN(n) == 0 }

// note keeps what happened, for whoever reads a failure. Its words are put together
// only if somebody reads them.
func (w *World) note(format string, args ...any) {
	if w.Trace < 0 {
		return
	}
	w.log[w.logAt%len(w.log)] = fmt.Sprintf("%12.3f s  %s", float64(w.now)/1000, fmt.Sprintf(format, args...))
	w.logAt++
}

// watched notes what happened to the address that is watched.
func (w *World) watched(a netip.Addr, format string, args ...any) {
	if a == w.Watch {
		w.note("%s: %s", a, fmt.Sprintf(format, args...))
	}
}

// fail keeps the first thing that was found wrong.
func (w *World) fail(format string, args ...any) {
	if w.wrong == "" {
		w.wrong = fmt.Sprintf(format, args...)
		w.note("WRONG: %s", w.wrong)
	}
}

// Run goes on until the events are used up, then lets the network heal, and looks
// whether all comes to rest well.
func (w *World) Run() error {
	for w.done < w.Events && w.wrong == "" && w.step() {
	}
	if w.wrong == "" {
		w.heal()
	}
	if w.wrong == "" {
		return nil
	}
	return fmt.Errorf("seed %d: after %d events: %s\n%s\nrepeat it: make sim SEED=%d EVENTS=%d%s", w.Seed, w.done, w.wrong, w.story(),
		w.Seed,
		w.Events, map[bool]string{true: fmt.Sprintf(" OFF=%d", w.Off)}[w.Off != 0])
}

func (w *World) step() bool {
	if len(w.queue) == 0 {
		return false
	}
	e := heap.Pop(&w.queue).(event)
	w.now = e.at
	w.done++
	e.do()
	if w.done%256 == 0 {
		w.judge()
	}
	if w.done%1024 == 0 {
		w.lookAtHolders()
	}
	if w.done%4096 == 0 {
		w.compareShares()
		w.compareFindings()
	}
	return true
}

// story is what happened last.
func (w *World) story() string {
	var b strings.Builder
	for i := max(0, w.logAt-len(w.log)); i < w.logAt; i++ {
		b.WriteString("  " + w.log[i%len(w.log)] + "\n")
	}
	for _, s := range w.servers {
		fmt.Fprintf(&b, "  %s: %s\n", s.name, s.describe())
	}
	return strings.TrimRight(b.String(), "\n")
}
