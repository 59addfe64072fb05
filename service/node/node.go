// Package node is the room where the rooms are wired together: it starts the
// store, the sockets and the engine in order, keeps their clocks, and stops them
// so that nothing is lost.
package node

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/alert"
	"yarnpost/service/auditor"
	"yarnpost/service/clock"
	"yarnpost/service/engine"
	"yarnpost/service/forgetful"
	"yarnpost/service/probe"
	"yarnpost/service/samples"
	"yarnpost/service/store"
	"yarnpost/service/trail"
	"yarnpost/service/wire"
)

// Config says what to serve and where.
type Config struct {
	Data       string         // folder of everything that is kept
	Database   string         // DSN; "" for a private cluster under Data
	DHCP4      netip.AddrPort // where relayed and renewing clients are heard
	Interfaces []string       // where broadcast clients are served
	Partner    string         // where the other server of a pair is heard, or one that joins
	Name       string         // of this server; "" for the host's
	AlertsTo   []netip.Prefix // addresses that alerts may go to
	// UnusedAfter is after how long an item of the plan that nobody used is found; 0: 30 days.
	UnusedAfter time.Duration
	TimeZone    *time.Location // of the site, where a scope names none; nil for the host's
	Log         *slog.Logger
}

// Node is a running service without its HTTP side.
type Node struct {
	Started time.Time

	log     *slog.Logger
	clock   *clock.Clock
	cluster *store.Cluster
	store   *store.Store
	journal *store.Journal
	wire    *wire.Server
	engine  *engine.Engine
	events  *engine.Events
	metrics *engine.Metrics
	theirs  theirList
	beat    beat
	setBack atomic.Pointer[store.SetBack] // what is known of a database that was set back, or nil
	planMu  sync.Mutex                    // one change of the plan at a time
	doubted *doubted                      // a change of the plan that may be on record; under planMu
	changed changes                       // the last changes of the plan; under planMu
	pinger  *wire.Pinger
	trials  trials
	config  Config
	pair    pairing
	samples *samples.Room
	audits  auditing
	watched watched // of lookForAlerts
	plays   plays
	alerts  *alert.Room
	trail   *trail.Room

	hostMu    sync.Mutex
	preflight lastPreflight                                    // the last preflight
	servers   map[string]*forgetful.Map[netip.Addr, time.Time] // DHCP servers heard, by interface

	running context.Context // ends when the node stops
	stop    context.CancelFunc
	workers sync.WaitGroup
}

// Start brings the service up. It answers once Start returns.
func Start(ctx context.Context, c Config) (_ *Node, err error) {
	at := clock.New()
	n := &Node{log: c.Log, clock: at, Started: at.Now(), events: &engine.Events{}, metrics: engine.NewMetrics(), config: c,
		trials:  trials{results: map[string][]TrialResult{}},
		servers: map[string]*forgetful.Map[netip.Addr, time.Time]{}}
	n.running, n.stop = context.WithCancel(context.Background())
	ok := false
	defer func() {
		if !ok {
			n.Stop()
		}
	}()
	if err := os.MkdirAll(c.Data, 0o711); err != nil {
		return nil, fmt.Errorf("make the data folder: %w", err)
	}
	if err := n.openStore(ctx, c); err != nil {
		return nil, err
	}
	if n.pair.on, err = n.store.LoadPairing(ctx); err != nil {
		return nil, err
	}
	table, err := n.loadTable(ctx)
	if err != nil {
		return nil, err
	}
	if err := n.lookBack(ctx, c, table); err != nil {
		return nil, err
	}
	if n.wire, err = wire.Listen(c.DHCP4, c.Interfaces, c.Log); err != nil {
		return nil, err
	}
	sets, err := n.store.LoadSets(ctx)
	if err != nil {
		return nil, err
	}
	n.engine = engine.New(engine.Parts{Table: table, Sets: sets, Events: n.events, Metrics: n.metrics, Send: n.wire.Send, Clock: n.clock,
		Log: c.Log})
	n.wire.Unsent = n.engine.Unsent
	n.noteInterfaces()
	if n.journal, err = n.store.NewJournal(ctx, c.Log, n.engine, n.clock.Now); err != nil {
		return nil, err
	}
	n.engine.RecordTo(n.journal)
	n.engine.OnLost(n.wasSetBack, n.recordsLost)
	if err := n.loadRecall(ctx); err != nil {
		return nil, err
	}
	if err := n.startPair(); err != nil {
		return nil, err
	}
	n.trail = trail.New(n.store, c.Log)
	n.samples = samples.New(n.engine, n.store, n.clock, cmp.Or(c.TimeZone, time.Local), c.Log)
	n.audits.room = auditor.New(facts{n}, n.engine, n.store, n.clock, c.Log)
	n.alerts = n.newAlerts()
	n.watch()
	run := n.running
	n.openProbes()
	n.workers.Go(func() {
		if err := n.wire.Serve(n.engine.Handle); err != nil {
			c.Log.Error("the DHCPv4 socket failed", "err", err)
		}
	})
	n.keepGoing(run)
	for _, name := range c.Interfaces {
		c.Log.Info("serving broadcast clients", "interface", name)
	}
	c.Log.Info("serving DHCPv4", "address", n.wire.Addr(), "revision", table.Plan().Revision)
	ok = true
	return n, nil
}

// keepGoing starts what is done now and then.
func (n *Node) keepGoing(run context.Context) {
	n.workers.Go(func() { n.every(run, 100*time.Millisecond, n.engine.Tick) })
	n.takeBeat()
	n.workers.Go(func() { n.every(run, 500*time.Millisecond, n.guarded("a look whether it goes on", n.takeBeat)) })
	n.workers.Go(func() { n.every(run, 5*time.Second, n.guarded("a look at the interfaces", n.noteInterfaces)) })
	tuneMemory()
	n.workers.Go(func() { n.every(run, 5*time.Second, tuneMemory) })
	n.workers.Go(func() {
		keep := n.guarded("the keeping of history", n.keepHistory)
		keep()
		n.every(run, time.Hour, keep)
	})
	n.workers.Go(func() { n.every(run, 5*time.Second, n.guarded("the trail", func() { n.trail.Flush(run) })) })
	n.workers.Go(func() { n.every(run, time.Second, n.guarded("a look at the clock", n.watchClock)) })
	n.workers.Go(func() { n.every(run, time.Second, n.guarded("a change in doubt", n.settleDoubt)) })
	n.workers.Go(func() { n.every(run, time.Minute, n.guarded("a sweep", n.engine.SweepSets)) })
	n.workers.Go(func() { n.every(run, recallPause, n.guarded("what is remembered", func() { n.keepRecall(run) })) })
	n.workers.Go(func() { n.every(run, 5*time.Second, n.guarded("trials", n.runDue)) })
	n.workers.Go(func() { n.keepSamples(run) })
	n.workers.Go(func() { n.keepAudits(run) })
	n.workers.Go(func() { n.alerts.Deliver(run) })
	n.workers.Go(func() { n.every(run, alertPause, n.guarded("a look for alerts", func() { n.lookForAlerts(run) })) })
	n.workers.Go(func() { n.every(run, 30*time.Second, n.guarded("a look for other servers", n.lookForRivals)) })
	n.workers.Go(func() {
		n.guarded("a look at the host", func() { n.Preflight(run) })()
		n.every(run, time.Second, n.guarded("a look at the host", func() { n.repeatPreflight(run) }))
	})
}

// openProbes opens what probing and overhearing need. Where raw sockets are not
// permitted the service goes without, and says so.
func (n *Node) openProbes() {
	e := n.engine
	local := func(v *plan.View) *wire.Interface {
		for _, i := range n.wire.Interfaces() {
			for _, at := range i.Prefixes {
				if i.Served && v.Subnet.Contains(at.Addr()) {
					return i
				}
			}
		}
		return nil
	}
	err := n.wire.Overhear(func(o wire.Overheard) {
		if o.Data != nil {
			n.noteServer(o)
			e.Overheard(o.Interface, o.From, o.Data)
			return
		}
		e.Heard(o.Address, o.Speaker)
	})
	e.Probing(func(p *probe.Probes) {
		p.Local = func(v *plan.View) bool { return local(v) != nil }
		if err == nil && len(n.config.Interfaces) > 0 {
			p.ARP = func(v *plan.View, a netip.Addr) error {
				if i := local(v); i != nil {
					return n.wire.ProbeARP(i, a)
				}
				return errors.New("no served interface reaches it")
			}
		}
	})
	if err != nil {
		n.log.Warn("addresses on local links are offered without a probe, and other servers are not heard", "err", err)
	}
	if n.wire.Addr().Addr().IsLoopback() {
		n.log.Info("the server is on loopback, so nothing beyond relays is probed")
		return
	}
	if n.pinger, err = wire.NewPinger(uint16(os.Getpid()), func(a netip.Addr) { e.Heard(a, nil) }); err != nil {
		n.log.Warn("addresses beyond relays are offered without a probe", "err", err)
		return
	}
	e.Probing(func(p *probe.Probes) { p.Ping = n.pinger.Ping })
}

func (n *Node) openStore(ctx context.Context, c Config) (err error) {
	dsn := c.Database
	if dsn == "" {
		if n.cluster, err = store.StartCluster(ctx, c.Data, c.Log); err != nil {
			return err
		}
		dsn = n.cluster.DSN
	}
	if n.store, err = store.Open(ctx, dsn); err != nil {
		return err
	}
	if err := n.store.OpenHistory(ctx, n.clock.Now()); err != nil {
		n.log.Error("history could not be kept in order; it is tried again within the hour", "err", err)
	}
	return n.adoptClock(ctx)
}

func (n *Node) loadTable(ctx context.Context) (*lease.Table, error) {
	tuneMemory()
	begin, total := n.clock.Now(), 0
	table := sync.OnceValues(func() (*lease.Table, error) {
		p, err := n.store.LoadPlan(ctx)
		if err != nil {
			return nil, err
		}
		t := lease.New(p, lease.At(begin))
		if n.pair.on != nil {
			t.Pair(n.pair.on.Settings.Side)
		}
		return t, nil
	})
	go func() { _, _ = table() }() // beside the reading of leases
	err := n.store.LoadLeases(ctx, func(l *lease.Lease) {
		if t, err := table(); err == nil {
			t.Put(sane(l, lease.At(begin)))
			total++
		}
	}, func(done int) {
		tuneMemory()
		n.log.Info("reading the lease table", "leases", done)
	})
	t, failed := table()
	if err := cmp.Or(failed, err); err != nil {
		return nil, err
	}
	t.Settle()
	runtime.GC() // what reading left behind, before there are clients to wait for it
	n.log.Info("lease table ready", "leases", total, "took", n.clock.Since(begin).Round(time.Millisecond))
	return t, nil
}

func (n *Node) every(ctx context.Context, d time.Duration, f func()) {
	t := time.NewTicker(d)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			f()
		}
	}
}

func (n *Node) noteInterfaces() {
	if err := n.wire.Refresh(); err != nil {
		n.log.Warn("cannot look at the interfaces", "err", err)
		return
	}
	own := map[netip.Addr]bool{}
	for _, i := range n.wire.Interfaces() {
		for _, p := range i.Prefixes {
			own[p.Addr()] = true
		}
	}
	if at := n.wire.Addr().Addr(); !at.IsUnspecified() {
		own[at] = true // one of loopback's many, perhaps
	}
	n.engine.SetOwn(own)
}

func (n *Node) keepRecall(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if err := n.saveRecall(ctx); err != nil {
		n.log.Warn("unserved clients, relays and trials would be forgotten at a restart", "err", err)
	}
}

// sampleAgain is how long after a sample could not be recorded it is tried again.
const sampleAgain = 5 * time.Second

// keepSamples counts each minute, on the minute, and looks ahead each hour.
func (n *Node) keepSamples(ctx context.Context) {
	sample := n.guarded("a sample of use", func() { n.samples.Sample(ctx) })
	look := n.guarded("a forecast", func() { n.samples.Refresh(ctx) })
	sample()
	n.workers.Go(func() {
		n.pause(ctx, 10*time.Second)
		look()
		n.every(ctx, time.Hour, look)
	})
	for ctx.Err() == nil {
		wait := time.Minute - time.Duration(n.clock.Now().UnixNano())%time.Minute
		if n.samples.Failed() != nil {
			wait = min(wait, sampleAgain)
		}
		n.pause(ctx, wait)
		sample()
	}
}

// pause waits, or until the context ends.
func (n *Node) pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Samples gives use over time.
func (n *Node) Samples() *samples.Room { return n.samples }

func (n *Node) keepHistory() {
	ctx, cancel := context.WithTimeout(n.running, 30*time.Minute)
	defer cancel()
	if err := n.store.KeepHistory(ctx, n.clock.Now()); err != nil && n.running.Err() == nil {
		n.log.Error("history could not be kept in order", "err", err)
	}
}

// PlanInterfaces are the host's interfaces as a plan sees them: those that
// broadcast clients are served on.
func (n *Node) PlanInterfaces() []plan.Interface {
	var out []plan.Interface
	for _, i := range n.wire.Interfaces() {
		if i.Served {
			out = append(out, plan.Interface{Name: i.Name, Prefixes: i.Prefixes})
		}
	}
	return out
}

// Stop ends the service in good order: no new requests, what was decided is
// recorded and answered, and then the database goes.
func (n *Node) Stop() {
	n.stop()
	n.pair.mu.Lock()
	channel := n.pair.channel
	n.pair.mu.Unlock()
	if channel != nil {
		channel.Stop()
		n.noteStopped()
	}
	if n.journal != nil {
		n.journal.Close() // while the socket still sends the last replies
	}
	if n.wire != nil {
		n.wire.Close()
	}
	if n.pinger != nil {
		n.pinger.Close()
	}
	n.workers.Wait()
	if n.journal != nil {
		n.keepRecall(context.Background())
		n.keepClock()
	}
	if n.store != nil {
		n.store.Close()
	}
	if n.cluster != nil {
		n.cluster.Stop()
	}
}

// Health is what stands between the service and its work, or nil.
func (n *Node) Health() error {
	if err := n.journal.Down(); err != nil {
		return fmt.Errorf("leases cannot be recorded: %w", err)
	}
	if idle := n.clock.Now().Sub(n.beat.at()); idle > beatLate {
		return fmt.Errorf("the service has decided nothing for %s; restart it, and report it with its log", idle.Round(time.Second))
	}
	return nil
}

// beat is when the lock that orders decisions was last had, so that a service that hangs
// does not say that it serves.
type beat struct{ nanos atomic.Int64 }

const beatLate = 5 * time.Second

func (b *beat) at() time.Time { return time.Unix(0, b.nanos.Load()) }

func (n *Node) takeBeat() {
	n.engine.With(func(*lease.Table) {})
	n.beat.take(n.clock.Now())
}

func (b *beat) take(at time.Time) { b.nanos.Store(at.UnixNano()) }

// Store gives the records, for accounts, revisions and history.
func (n *Node) Store() *store.Store { return n.store }

// Engine gives the lease table.
func (n *Node) Engine() *engine.Engine { return n.engine }

// Events gives what happens as it happens.
func (n *Node) Events() *engine.Events { return n.events }

// Clock gives the service's time.
func (n *Node) Clock() *clock.Clock { return n.clock }

// CountSignIn counts an attempt to sign in.
func (n *Node) CountSignIn(result string) { n.metrics.SignIns.WithLabelValues(result).Inc() }

// Registry gives the metrics.
func (n *Node) Registry() *prometheus.Registry { return n.metrics.Registry }

// DHCP4 is where the service hears relays.
func (n *Node) DHCP4() netip.AddrPort { return n.wire.Addr() }

// Served counts acknowledgements over the last span, up to a day.
func (n *Node) Served(span time.Duration) int { return n.engine.Served(span) }

// WriteSecret writes a file that only its owner can read.
func WriteSecret(dir, name, text string) error {
	path := filepath.Join(dir, name)
	if info, err := os.Stat(path); err == nil && info.Size() == 0 && info.Mode().Perm()&0o007 == 0 {
		if err := os.WriteFile(path, []byte(text+"\n"), 0o600); err == nil { // it was made for this
			return nil
		}
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("write %s: %w", path, err)
	}
	if err := os.WriteFile(path, []byte(text+"\n"), 0o600); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}

// Recorded counts what was made durable since the start: entries, and the
// commits they took.
func (n *Node) Recorded() (entries, commits uint64) {
	s, _ := n.journal.Snapshot()
	return s.Entries, s.Batches
}

// guarded wraps work that runs by itself.
func (n *Node) guarded(what string, f func()) func() {
	return func() {
		defer n.engine.Guard(what, nil)
		f()
	}
}
