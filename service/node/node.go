// Package node wires the packages of the service together: it starts store, sockets and
// engine in order, keeps them going, and stops them so that nothing is lost.
package node

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/service/alert"
	"yarnpost/service/auditor"
	"yarnpost/service/backup"
	"yarnpost/service/change"
	"yarnpost/service/clock"
	"yarnpost/service/compare"
	"yarnpost/service/drill"
	"yarnpost/service/engine"
	"yarnpost/service/facts"
	"yarnpost/service/failover"
	"yarnpost/service/host"
	"yarnpost/service/journal"
	"yarnpost/service/leaseadmin"
	"yarnpost/service/metrics"
	"yarnpost/service/permit"
	"yarnpost/service/prepare"
	"yarnpost/service/probe"
	"yarnpost/service/rehearse"
	"yarnpost/service/report"
	"yarnpost/service/samples"
	"yarnpost/service/scheduled"
	"yarnpost/service/setback"
	"yarnpost/service/store"
	"yarnpost/service/trail"
	"yarnpost/service/trials"
	"yarnpost/service/wire"
	"yarnpost/service/work"
)

// Config says what to serve and where.
type Config struct {
	Data       string         // folder of everything that is kept
	Database   string         // DSN; "" for a private cluster under Data
	DHCP4      netip.AddrPort // where relayed and renewing clients are heard
	DHCP6      netip.AddrPort // the same for DHCPv6; invalid: it is not served
	Interfaces []string       // where clients of local links are served
	Partner    string         // where the other server of a pair is heard, or one that joins
	Name       string         // of this server; "" for the host's
	AlertsTo   []netip.Prefix // addresses that alerts may go to
	Version    string         // of the service, for backups
	Backup     backup.Config
	// UnusedAfter is after how long an item of the plan that nobody used is found; 0: 30 days.
	UnusedAfter time.Duration
	TimeZone    *time.Location // of the site, where a scope names none; nil for the host's
	Log         *slog.Logger
}

// Node is a running service without its HTTP side. Its parts are for whoever wires that.
type Node struct {
	Permits    permit.Permits // who may do what
	Started    time.Time
	Clock      *clock.Clock
	Store      *store.Store
	Engine     *engine.Engine
	Events     *engine.Events
	Reports    *report.Reporter
	Metrics    *engine.Metrics
	Plans      *change.Planner
	Prepared   *prepare.Keeper
	Pair       *failover.Pair
	Compare    *compare.Comparer
	Drills     *drill.Drills
	Host       *host.Host
	Trials     *trials.Runner
	Leases     *leaseadmin.Admin
	Samples    *samples.Sampler
	Facts      *facts.Gatherer
	Audits     *auditor.Auditor
	Alerts     *alert.Manager
	Rehearsals *rehearse.Rehearsals
	Trail      *trail.Trail
	Backups    *backup.Keeper
	Scheduled  *scheduled.Keeper
	SetBack    *setback.Keeper

	log             *slog.Logger
	config          Config
	cluster         *store.Cluster
	journal         *journal.Journal
	wire            *wire.Server
	pinger, pinger6 *wire.Pinger
	beat            beat
	work            *work.Group
}

// Start brings the service up. It answers once Start returns.
func Start(ctx context.Context, c Config) (_ *Node, err error) {
	at := clock.New()
	n := &Node{log: c.Log, Permits: permit.Everything{}, Clock: at, Started: at.Now(), Events: &engine.Events{},
		Metrics: engine.NewMetrics(), config: c}
	n.work = work.New(func(what string, fault any) { n.Engine.Caught(what, fault) })
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
	on, err := n.Store.LoadPairing(ctx)
	if err != nil {
		return nil, err
	}
	table, err := n.loadTable(ctx, on)
	if err != nil {
		return nil, err
	}
	if err := n.serve(ctx, table, on); err != nil {
		return nil, err
	}
	n.keepGoing()
	for _, name := range c.Interfaces {
		c.Log.Info("serving broadcast clients", "interface", name)
	}
	c.Log.Info("serving DHCPv4", "address", n.wire.Addr(), "revision", table.Plan().Revision)
	if at := n.wire.Addr6(); at.IsValid() {
		c.Log.Info("serving DHCPv6", "address", at, "duid", n.Engine.DUID())
	}
	ok = true
	return n, nil
}

// serve opens the sockets, makes the parts, and begins to answer.
func (n *Node) serve(ctx context.Context, table *lease.Table, on *store.Pairing) (err error) {
	c := n.config
	n.SetBack = setback.New(setback.Parts{Store: n.Store, Work: n.work, Clock: n.Clock, Log: c.Log})
	alone, err := n.Store.Alone(ctx)
	if err != nil {
		return err
	}
	empty, err := n.SetBack.Look(ctx, c.Data, table, on != nil && !alone)
	if err != nil {
		return err
	}
	if empty { // what it promised last nobody knows: the partner is asked for all, and the lead time is waited for
		now := lease.At(n.Clock.Now())
		on.Record = pair.Record{State: pair.Recover, Since: now, Empty: true, Wait: now}
	}
	if n.wire, err = wire.Listen(c.DHCP4, c.DHCP6, c.Interfaces, c.Log); err != nil {
		return err
	}
	sets, err := n.Store.LoadSets(ctx)
	if err != nil {
		return err
	}
	is, err := n.identity(ctx)
	if err != nil {
		return err
	}
	table.ChooseBy(string(is.ChoiceKey))
	n.Engine = engine.New(engine.Parts{Table: table, DUID: string(is.DUID), Sets: sets, Events: n.Events, Metrics: n.Metrics,
		Send: n.wire.Send, Clock: n.Clock,
		Log: c.Log})
	n.wire.Unsent = n.Engine.Unsent
	n.Reports = &report.Reporter{Engine: n.Engine, Clock: n.Clock}
	n.Host = host.New(host.Parts{Engine: n.Engine, Wire: n.wire, Interfaces: c.Interfaces, Health: n.Health, Clock: n.Clock, Log: c.Log})
	n.Host.NoteInterfaces()
	n.wirePair(on)
	n.Engine.OnLost(n.SetBack.Happened, n.SetBack.Lost) // before the journal can tell of it
	if n.journal, err = n.Store.StartJournal(ctx, c.Log, n.Engine, n.Clock.Now); err != nil {
		return err
	}
	n.Engine.RecordTo(n.journal)
	n.wireAudits()
	if err := errors.Join(n.loadRecall(ctx), n.Prepared.Load(ctx)); err != nil {
		return err
	}
	if err := n.Pair.Start(); err != nil {
		return err
	}
	if alone {
		if err := errors.Join(n.Pair.RestoredAlone(ctx), n.Store.IsAlone(ctx)); err != nil {
			return err
		}
	}
	metrics.Register(n.Metrics.Registry, metrics.Sources{Engine: n.Engine, Journal: n.journal, SendErrors: n.wire.SendErrors.Load,
		Drops: n.wire.Drops, Clock: n.Clock, Pair: n.Pair, Alerts: n.Alerts})
	n.openProbes()
	n.work.Go("the DHCPv4 socket", func(context.Context) {
		if err := n.wire.Serve(n.Engine.Handle); err != nil {
			c.Log.Error("the DHCPv4 socket failed", "err", err)
		}
	})
	n.work.Go("the DHCPv6 socket", func(context.Context) {
		if err := n.wire.Serve6(n.Engine.Handle6); err != nil {
			c.Log.Error("the DHCPv6 socket failed", "err", err)
		}
	})
	return nil
}

// identity is what the server is known by; the first time it is made.
func (n *Node) identity(ctx context.Context) (store.Identity, error) {
	var id, key [16]byte
	rand.Read(id[:])
	rand.Read(key[:])
	return n.Store.Identity(ctx, store.Identity{DUID: []byte(addr.RandomDUID(id)), ChoiceKey: key[:]})
}

// wirePair makes what changes the plan, and the pair, which has a say in that.
func (n *Node) wirePair(on *store.Pairing) {
	c := n.config
	n.Samples = samples.New(n.Engine, n.Store, n.Clock, cmp.Or(c.TimeZone, time.Local), c.Log)
	n.Plans = change.New(change.Parts{Engine: n.Engine, Store: n.Store, Host: n.Host, Permits: n.Permits, Clock: n.Clock, Log: c.Log,
		Adopted: func(revision int64) { n.Events.Publish(engine.Event{Revision: revision}) },
		Outlook: func(scope plan.ID) (f capacity.Forecast, ok bool) {
			all, _ := n.Samples.Outlooks()
			o, ok := all[capacity.Key{Scope: scope}]
			return o.Forecast, ok
		}})
	n.Pair = failover.New(failover.Parts{Engine: n.Engine, Store: n.Store, Plans: n.Plans, Work: n.work, Clock: n.Clock, Log: c.Log,
		Started: n.Started, Named: c.Name, Listen: c.Partner, Server: n.wire.Addr(), Health: n.Health,
		Alive: func() bool { return n.idle() < beatLate }, Emptied: n.Samples.Emptied,
		Changed: func() { n.Events.Publish(engine.Event{Pair: true}) }}, on)
	n.Plans.Partner = n.Pair
	n.SetBack.Plans, n.SetBack.Again = n.Plans, n.Pair.RecordedAgain
	n.Compare = &compare.Comparer{Engine: n.Engine, Partner: n.Pair, Clock: n.Clock}
	n.Drills = drill.New(drill.Parts{Pair: n.Pair, Engine: n.Engine, Work: n.work, Clock: n.Clock, Log: c.Log})
	n.Rehearsals = rehearse.New(rehearse.Parts{Engine: n.Engine, Store: n.Store, MCLT: n.Pair.MCLT, Work: n.work, Clock: n.Clock})
	n.Pair.AnswerWith(n.Compare.Answers())
	n.Prepared = prepare.New(prepare.Parts{Engine: n.Engine, Plans: n.Plans, Store: n.Store, Partner: n.Pair, Clock: n.Clock, Log: c.Log})
	n.Pair.AnswerWith(n.Prepared.Answers())
	n.Pair.AlongWith(n.Prepared.CatchUp)
}

// wireAudits makes what looks whether all is well, and what a person does about it.
func (n *Node) wireAudits() {
	c := n.config
	n.Trail = trail.New(n.Store, c.Log)
	n.Backups = backup.New(backup.Parts{Config: c.Backup, Store: n.Store, Name: n.Pair.Name, Version: c.Version, Clock: n.Clock,
		Log: c.Log})
	n.Trials = trials.New(trials.Parts{Engine: n.Engine, Reports: n.Reports, Wire: n.wire, Clock: n.Clock, Log: c.Log})
	n.Leases = leaseadmin.New(leaseadmin.Parts{Engine: n.Engine, Host: n.Host, Wire: n.wire, Nudged: n.Metrics.Nudges.Inc,
		Work: n.work, Clock: n.Clock, Log: c.Log})
	n.Alerts = alert.New(alert.Config{Server: n.Pair.Name, Sends: n.Pair.Sends, Allowed: c.AlertsTo, Tell: n.Pair.TellAlerts}, n.Store,
		n.Clock, c.Log)
	n.Scheduled = scheduled.New(scheduled.Parts{Store: n.Store, Sends: n.Pair.Sends, Share: n.Alerts.Share, Wake: n.Alerts.Wake,
		Server: n.Pair.Name, Clock: n.Clock, Log: c.Log})
	n.Facts = facts.New(facts.Parts{Engine: n.Engine, Host: n.Host, Pair: n.Pair, Store: n.Store, Compare: n.Compare, Samples: n.Samples,
		Trials: n.Trials, Reports: n.Reports, Journal: n.journal, Alerts: n.Alerts, Drops: n.wire.Drops, Health: n.Health,
		SetBack: n.SetBack.Text,
		Backup:  n.Backups.Text, Failed: n.Prepared.Failed,
		Data:        c.Data,
		UnusedAfter: c.UnusedAfter, Started: n.Started, Clock: n.Clock, Log: c.Log})
	n.Audits = auditor.New(n.Facts, n.Engine, n.Store, n.Clock, c.Log)
	n.Pair.AnswerWith(n.Alerts.Answers())
	n.Pair.AnswerWith(n.Facts.Answers())
}

// How often it is looked whether an alert fires or clears.
const alertPause = 5 * time.Second

// keepGoing starts what is done now and then.
func (n *Node) keepGoing() {
	alone := func(f func()) func(context.Context) { return func(context.Context) { f() } }
	w := n.work
	w.Every(100*time.Millisecond, "a tick", alone(n.Engine.Tick))
	n.takeBeat()
	w.Every(500*time.Millisecond, "a look whether it goes on", alone(n.takeBeat))
	w.Every(5*time.Second, "a look at the interfaces", alone(n.Host.NoteInterfaces))
	tuneMemory()
	w.Every(5*time.Second, "the pace of collections", alone(tuneMemory))
	w.Go("the keeping of history", n.keepHistory)
	w.Every(time.Hour, "the keeping of history", n.keepHistory)
	w.Every(5*time.Second, "the trail", n.Trail.Flush)
	w.Every(time.Second, "a look at the clock", alone(n.watchClock))
	w.Every(time.Second, "a change in doubt", n.Plans.Settle)
	w.Every(time.Second, "changes in preparation", n.Prepared.Tick)
	w.Every(10*time.Second, "backups", n.Backups.Tick)
	w.Every(5*time.Second, "scheduled reports", n.Scheduled.Tick)
	w.Every(time.Minute, "a sweep", alone(n.Engine.SweepSets))
	w.Every(time.Minute, "the former clients", func(ctx context.Context) {
		n.Engine.SweepFormer(func(keys []netip.Prefix, before lease.Time) error { return n.Store.ForgetLeases(ctx, keys, before) })
	})
	w.Every(recallPause, "what is remembered", n.keepRecall)
	w.Every(5*time.Second, "trials", n.Trials.RunDue)
	w.Go("samples of use", func(ctx context.Context) { n.Samples.Keep(ctx, w) })
	w.Go("audits", func(ctx context.Context) { n.Audits.Keep(ctx, w, n.Events) })
	w.Go("alerts", n.Alerts.Deliver)
	w.Every(alertPause, "a look for alerts", func(ctx context.Context) {
		list, unknown := n.Facts.ForAlerts()
		n.Alerts.Look(ctx, list, unknown)
	})
	w.Every(30*time.Second, "a look for other servers", alone(n.Host.LookForOthers))
	w.Go("a look at the host", func(ctx context.Context) { // each calls for other servers, so one at a time
		n.Host.Preflight(ctx)
		w.Every(time.Second, "a look at the host", n.Host.RepeatPreflight)
	})
}

// openProbes opens what probing and overhearing need. Where raw sockets are not
// permitted the service goes without, and says so.
func (n *Node) openProbes() {
	e := n.Engine
	local := func(v *plan.View) *wire.Interface {
		for _, i := range n.wire.Interfaces() {
			for _, at := range append(slices.Clone(i.Prefixes), i.Prefixes6...) {
				if i.Served && v.Subnet.Contains(at.Addr()) {
					return i
				}
			}
		}
		return nil
	}
	err := n.wire.Overhear(func(o wire.Overheard) {
		if o.Router != nil {
			n.Host.NoteRouter(o)
			return
		}
		if o.Data != nil {
			n.Host.NoteServer(o.Interface.Name, e.Overheard(o.Interface, o.From, o.Data))
			return
		}
		e.Heard(o.Address, o.Speaker)
	})
	e.Probing(func(p *probe.Probes) {
		p.Local = func(v *plan.View) bool { return local(v) != nil }
		if err == nil && len(n.config.Interfaces) > 0 {
			p.ARP = func(v *plan.View, a netip.Addr) error {
				switch i := local(v); {
				case i != nil && a.Is6():
					return n.wire.ProbeNeighbour(i, a)
				case i != nil:
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
	if !n.wire.Addr6().IsValid() || n.wire.Addr6().Addr().IsLoopback() {
		return
	}
	if n.pinger6, err = wire.NewPinger6(uint16(os.Getpid()), func(a netip.Addr) { e.Heard(a, nil) }); err != nil {
		n.log.Warn("IPv6 addresses beyond relays are offered without a probe", "err", err)
		return
	}
	e.Probing(func(p *probe.Probes) { p.Ping6 = n.pinger6.Ping })
}

func (n *Node) openStore(ctx context.Context, c Config) (err error) {
	dsn := c.Database
	if dsn == "" {
		if n.cluster, err = store.StartCluster(ctx, c.Data, c.Log); err != nil {
			return err
		}
		dsn = n.cluster.DSN
	}
	if n.Store, err = store.Open(ctx, dsn); err != nil {
		return err
	}
	if err := n.Store.OpenHistory(ctx, n.Clock.Now()); err != nil {
		n.log.Error("history could not be kept in order; it is tried again within the hour", "err", err)
	}
	return n.adoptClock(ctx)
}

func (n *Node) loadTable(ctx context.Context, on *store.Pairing) (*lease.Table, error) {
	tuneMemory()
	begin, total := n.Clock.Now(), 0
	table := sync.OnceValues(func() (*lease.Table, error) {
		p, err := n.Store.LoadPlan(ctx)
		if err != nil {
			return nil, err
		}
		t := lease.New(p, lease.At(begin))
		if on != nil {
			t.Pair(on.Settings.Side)
		}
		return t, nil
	})
	go func() { _, _ = table() }() // beside the reading of leases
	err := n.Store.LoadLeases(ctx, func(l *lease.Lease) {
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
	n.log.Info("lease table ready", "leases", total, "took", n.Clock.Since(begin).Round(time.Millisecond))
	return t, nil
}

func (n *Node) keepRecall(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if err := n.saveRecall(ctx); err != nil {
		n.log.Warn("unserved clients, relays and trials would be forgotten at a restart", "err", err)
	}
}

func (n *Node) keepHistory(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Minute)
	defer cancel()
	if err := n.Store.KeepHistory(ctx, n.Clock.Now()); err != nil && !n.work.Stopping() {
		n.log.Error("history could not be kept in order", "err", err)
	}
}

// Stop ends the service in good order: no new requests, what was decided is recorded and
// answered, and then the database goes.
func (n *Node) Stop() {
	n.work.Stop()
	if n.Pair != nil {
		n.Pair.Stop()
	}
	if n.journal != nil {
		n.journal.Close() // while the socket still sends the last replies
	}
	if n.wire != nil {
		n.wire.Close()
	}
	if n.pinger6 != nil {
		n.pinger6.Close()
	}
	if n.pinger != nil {
		n.pinger.Close()
	}
	n.work.Wait()
	if n.Trials != nil {
		n.keepRecall(context.Background())
		n.keepClock()
	}
	if n.Store != nil {
		n.Store.Close()
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
	if idle := n.idle(); idle > beatLate {
		return fmt.Errorf("the service has decided nothing for %s; restart it, and report it with its log", idle.Round(time.Second))
	}
	return nil
}

// beat is when the lock that orders decisions was last had, in nanoseconds, so that a
// service that hangs does not say that it serves.
type beat struct{ atomic.Int64 }

const beatLate = 5 * time.Second

// idle is for how long nothing was decided.
func (n *Node) idle() time.Duration { return n.Clock.Now().Sub(time.Unix(0, n.beat.Load())) }

func (n *Node) takeBeat() {
	n.Engine.With(func(*lease.Table) {})
	n.beat.Store(n.Clock.Now().UnixNano())
}

// CountSignIn counts an attempt to sign in.
func (n *Node) CountSignIn(result string) { n.Metrics.SignIns.WithLabelValues(result).Inc() }

// DHCP4 is where the service hears relays.
func (n *Node) DHCP4() netip.AddrPort { return n.wire.Addr() }

// DHCP6 is the same for DHCPv6; invalid if it is not served.
func (n *Node) DHCP6() netip.AddrPort { return n.wire.Addr6() }

// Recorded counts what was made durable since the start: entries, and the commits they
// took.
func (n *Node) Recorded() (entries, commits uint64) {
	s, _ := n.journal.Snapshot()
	return s.Entries, s.Batches
}
