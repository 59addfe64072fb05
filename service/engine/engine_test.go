package engine

import (
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/service/clock"
	"yarnpost/service/journal"
	"yarnpost/service/observe"
	"yarnpost/service/probe"
	"yarnpost/service/wire"
)

// paper is a recorder that a test makes fail, wait, or lose what it wrote.
type paper struct {
	lock    sync.Mutex
	owner   journal.Owner
	down    error
	queue   []journal.Entry
	durable map[netip.Addr]*lease.Lease // what is durable
	broken  string                      // which rule of a recorder it breaks, on purpose
}

func (p *paper) Add(entries ...journal.Entry) bool {
	p.lock.Lock()
	defer p.lock.Unlock()
	if p.down != nil || len(p.queue)+len(entries) > 16384 {
		return false
	}
	p.queue = append(p.queue, entries...)
	if p.broken == "replies leave before the record is durable" {
		for _, e := range entries {
			early := waiting{reply: e.Note.(waiting).reply, at: e.Note.(waiting).at}
			early.reply.Data = append([]byte(nil), early.reply.Data...)
			p.owner.Recorded([]journal.Entry{{Note: early}})
		}
	}
	return true
}

func (p *paper) Down() error                    { return p.down }
func (p *paper) Snapshot() (journal.Stats, int) { return journal.Stats{}, len(p.queue) }
func (p *paper) Forget([]uint64)                {}
func (p *paper) Pending(k netip.Prefix) bool {
	p.lock.Lock()
	defer p.lock.Unlock()
	for _, e := range p.queue {
		if e.After != nil && e.After.Prefix == k {
			return true
		}
	}
	return false
}

// take is what waits.
func (p *paper) take() []journal.Entry {
	p.lock.Lock()
	defer p.lock.Unlock()
	batch := p.queue
	p.queue = nil
	return batch
}

// commit makes what waits durable.
func (p *paper) commit() {
	batch := p.take()
	for i, e := range batch {
		if e.After != nil && !(p.broken == "a record is lost in silence" && i%5 == 4) {
			p.durable[e.After.Address()] = e.After
		}
	}
	if len(batch) > 0 {
		p.owner.Recorded(batch)
	}
}

// fail loses what waits.
func (p *paper) fail() {
	if p.broken == "what failed is not undone" {
		p.queue = nil
		return
	}
	p.owner.Undo(p.take)
}

// bench is an engine over a recorder, a clock and a network of a test's.
type bench struct {
	*Engine
	testing.TB
	*paper
	host    clock.Reading
	ticking *clock.Clock
	mu      sync.Mutex
	sent    []*dhcp4.Message
}

func newBench(tb testing.TB, pools ...string) *bench {
	d := plan.New().Draft()
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving,
		Settings: plan.Settings{Lease: plan.Duration(time.Hour)}}
	for _, p := range pools {
		r, err := addr.ParseRange(p)
		if err != nil {
			tb.Fatal(err)
		}
		s.Pools = append(s.Pools, r)
	}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		tb.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		tb.Fatal(err)
	}
	p, _ := d.Finish()
	b := &bench{TB: tb, host: clock.Reading{Wall: time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)}}
	c := clock.With(func() clock.Reading { return b.host }, func() time.Duration { return b.host.Mono })
	b.ticking = c
	b.Engine = New(Parts{Table: lease.New(p, lease.At(c.Now())), Events: &Events{}, Metrics: NewMetrics(), Send: b.hear, Clock: c,
		Log: slog.New(slog.DiscardHandler)})
	b.paper = &paper{owner: b.Engine, durable: map[netip.Addr]*lease.Lease{}}
	b.RecordTo(b.paper)
	b.SetOwn(map[netip.Addr]bool{netip.MustParseAddr("127.0.0.1"): true})
	return b
}

// pass lets time pass.
func (b *bench) pass(d time.Duration) {
	b.host.Wall, b.host.Mono, b.host.Boot = b.host.Wall.Add(d), b.host.Mono+d, b.host.Boot+d
	b.ticking.Watch()
	b.Tick()
}

// step sets the host's clock.
func (b *bench) step(d time.Duration) {
	b.host.Wall = b.host.Wall.Add(d)
	b.ticking.Watch()
	b.Tick()
}

func (b *bench) hear(replies []wire.Reply) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, r := range replies {
		m := &dhcp4.Message{}
		if err := dhcp4.Decode(m, append([]byte(nil), r.Data...)); err != nil {
			b.Error(err)
		}
		b.sent = append(b.sent, m)
	}
}

// hush forgets what was sent.
func (b *bench) hush() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.sent = nil
}

// heard is what was sent since.
func (b *bench) heard() []*dhcp4.Message {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.sent
}

func hwOf(n int) addr.Hardware { return addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)}) }

// say lets client n say something through a relay, and gives what is answered at
// once or, if commit, once it is recorded.
func (b *bench) say(commit bool, t dhcp4.Type, n int, edit func(*dhcp4.Message)) *dhcp4.Message {
	b.Helper()
	zero := netip.IPv4Unspecified()
	m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: uint32(n), CIAddr: zero, YIAddr: zero, SIAddr: zero,
		GIAddr: netip.MustParseAddr("10.77.0.2"), CHAddr: hwOf(n), Type: t}
	m.Options = dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(t)}}}
	if edit != nil {
		edit(m)
	}
	data, _, err := dhcp4.Append(nil, m, 0)
	if err != nil {
		b.Fatal(err)
	}
	b.hush()
	b.hear(b.Handle([]wire.Packet{{Data: data, From: netip.MustParseAddrPort("127.0.0.1:67"), To: netip.MustParseAddr("127.0.0.1")}}))
	if commit {
		b.paper.commit()
	}
	if sent := b.heard(); len(sent) > 0 {
		return sent[len(sent)-1]
	}
	return nil
}

func asks(a netip.Addr) func(*dhcp4.Message) {
	return func(m *dhcp4.Message) {
		m.Options = append(m.Options, dhcp4.Option{Code: option.AddressRequest, Data: a.AsSlice()},
			dhcp4.Option{Code: option.ServerID, Data: []byte{127, 0, 0, 1}})
	}
}

func renews(a netip.Addr) func(*dhcp4.Message) { return func(m *dhcp4.Message) { m.CIAddr = a } }

// get does the whole exchange.
func (b *bench) get(n int) (netip.Addr, bool) {
	b.Helper()
	o := b.say(true, dhcp4.Discover, n, nil)
	if o == nil || o.Type != dhcp4.Offer {
		return netip.Addr{}, false
	}
	k := b.say(true, dhcp4.Request, n, asks(o.YIAddr))
	if k == nil || k.Type != dhcp4.Ack {
		return netip.Addr{}, false
	}
	return k.YIAddr, true
}

// However the host's clock is set, at whatever moment of an exchange, leases
// that stand are not ended, and short ones and offers do not stand on.
func TestClockSteps(t *testing.T) {
	for _, by := range []time.Duration{time.Hour, -time.Hour, 7 * 24 * time.Hour, -7 * 24 * time.Hour} {
		for at := range 4 {
			t.Run(fmt.Sprint(by, " at ", at), func(t *testing.T) {
				b := newBench(t, "10.77.0.100-10.77.0.101")
				stepAt := func(n int) {
					if n == at {
						b.step(by)
					}
				}
				old, _ := b.get(1)
				stepAt(0)
				o := b.say(true, dhcp4.Discover, 2, nil)
				stepAt(1)
				k := b.say(false, dhcp4.Request, 2, asks(o.YIAddr))
				if k != nil {
					t.Fatal("an ACK leaves before it is recorded")
				}
				stepAt(2)
				b.paper.commit()
				stepAt(3)
				b.pass(30 * time.Minute)
				for n, a := range map[int]netip.Addr{1: old, 2: o.YIAddr} {
					if l := b.table.At(a); l == nil || !l.HeldAt(lease.At(b.Engine.clock.Now())) {
						t.Errorf("the lease of client %d is %+v", n, l)
					}
				}
				if r := b.say(true, dhcp4.Discover, 3, nil); r != nil {
					t.Errorf("an address that is held was offered: %s", r.YIAddr)
				}
				if k := b.say(true, dhcp4.Request, 1, renews(old)); k == nil || k.Type != dhcp4.Ack {
					t.Errorf("a renewal is answered with %+v", k)
				}
				b.pass(31 * time.Minute) // the second lease is over, the first was renewed
				b.paper.commit()
				if l := b.table.At(o.YIAddr); l.Status != lease.Expired {
					t.Errorf("a lease that is over is %s", l.Status)
				}
				if a, ok := b.get(3); !ok || a != o.YIAddr {
					t.Errorf("a newcomer gets %s, %v", a, ok)
				}
				if s := b.ticking.Step(); s.By != by {
					t.Errorf("the step is told as %s", s.By)
				}
			})
		}
	}
}

// A panic costs one datagram; the service goes on, and it is counted.
func TestPanicCostsOneDatagram(t *testing.T) {
	b := newBench(t, "10.77.0.100-10.77.0.101")
	bad := true
	b.SetOwn(map[netip.Addr]bool{netip.MustParseAddr("127.0.0.1"): true})
	b.probes.Local = func(*plan.View) bool {
		if bad {
			panic("a fault")
		}
		return false
	}
	b.probes.ARP = func(*plan.View, netip.Addr) error { return nil }
	if r := b.say(true, dhcp4.Discover, 1, nil); r != nil {
		t.Error("a message that panics is answered")
	}
	b.Tick()
	b.Heard(netip.MustParseAddr("10.77.0.100"), nil)
	bad = false
	if _, ok := b.get(1); !ok {
		t.Error("after a panic nobody is served")
	}
	func() {
		defer func() {
			if recover() == nil {
				t.Error("the panic of a walk does not reach who asked")
			}
		}()
		walk := func(*lease.Lease) { panic("in a walk") }
		b.EachLease(0, walk, walk)
	}()
}

// Two entries of one decision are recorded together or not at all, and what is
// undone is as if it had never been.
func TestUndoneTogether(t *testing.T) {
	b := newBench(t, "10.77.0.100-10.77.0.109")
	old, _ := b.get(1)
	d := b.Plan().Draft()
	if _, err := d.PutReservation(plan.Reservation{Name: "r", Scope: b.Plan().ScopeNamed("looms").ID, Hardware: hwOf(1),
		Address: netip.MustParseAddr("10.77.0.9")}); err != nil {
		t.Fatal(err)
	}
	next, items := d.Finish()
	b.Engine.Take(next, items)
	o := b.say(true, dhcp4.Discover, 1, nil)
	b.say(false, dhcp4.Request, 1, asks(o.YIAddr))
	if n := len(b.queue); n != 2 {
		t.Fatalf("%d entries for an address taken and one left", n)
	}
	b.paper.fail()
	if l := b.table.At(old); l.Status != lease.Active {
		t.Errorf("undone, the old lease is %s", l.Status)
	}
	if l := b.table.At(o.YIAddr); l != nil && l.Status != lease.Free {
		t.Errorf("undone, the new lease is %s", l.Status)
	}
	b.say(true, dhcp4.Request, 1, asks(o.YIAddr))
	if b.durable[old].Status != lease.Released || b.durable[o.YIAddr].Status != lease.Active {
		t.Errorf("recorded as %s and %s", b.durable[old].Status, b.durable[o.YIAddr].Status)
	}
}

// Without the records nobody is refused; once fenced, nobody hears anything.
func TestWithoutRecords(t *testing.T) {
	b := newBench(t, "10.77.0.100-10.77.0.109")
	a, _ := b.get(1)
	b.down = errors.New("gone")
	if k := b.say(false, dhcp4.Request, 1, renews(a)); k == nil || k.Type != dhcp4.Ack {
		t.Errorf("a renewal without the database: %+v", k)
	}
	if r := b.say(false, dhcp4.Request, 2, renews(a)); r != nil {
		t.Errorf("a stranger is answered %s from a record that may be old", r.Type)
	}
	b.pass(2 * time.Hour)
	if len(b.queue) != 0 {
		t.Error("leases end without the database")
	}
	b.down = fmt.Errorf("leases: %w", journal.ErrFenced)
	if k := b.say(false, dhcp4.Request, 1, renews(a)); k != nil {
		t.Errorf("once fenced it says %s", k.Type)
	}
}

// What keeps a reply from leaving shows: in the conversation and in the list of
// clients that go without.
func TestLostReplies(t *testing.T) {
	b := newBench(t, "10.77.0.100-10.77.0.109")
	big := func(m *dhcp4.Message) {
		m.Options = append(m.Options, dhcp4.Option{Code: option.RelayAgent, Data: make([]byte, 230)},
			dhcp4.Option{Code: option.ClientID, Data: []byte("abc")})
	}
	if r := b.say(true, dhcp4.Discover, 1, big); r == nil {
		t.Error("a long option 82 is not answered")
	}
	o := b.say(true, dhcp4.Discover, 2, nil)
	b.say(false, dhcp4.Request, 2, asks(o.YIAddr))
	reply := b.queue[0].Note.(waiting).reply
	b.Unsent(reply, errors.New("network is unreachable"))
	b.paper.commit()
	list, _ := b.Talk().Since(0, 10, func(x *observe.Exchange) bool { return x.Fate == observe.Dropped })
	if len(list) != 1 || list[0].Trail[len(list[0].Trail)-1].String() != "it could not be sent: network is unreachable" {
		t.Errorf("the conversation says %+v", list)
	}
	if u := b.Unserved(); len(u) != 1 || u[0].Reason != reason.NoWayBack || u[0].Hardware != hwOf(2) {
		t.Errorf("unserved: %+v", u)
	}
}

// probing gives the bench hosts that answer probes.
func (b *bench) probing(hosts map[string]addr.Hardware) {
	b.probes.Local = func(*plan.View) bool { return true }
	b.probes.ARP = func(_ *plan.View, a netip.Addr) error {
		if hw, there := hosts[a.String()]; there {
			go b.Heard(a, net.HardwareAddr(hw))
		}
		return nil
	}
}

// settle waits until no probe is under way. It needs virtual time.
func (b *bench) settle() {
	time.Sleep(2 * probe.Wait)
	synctest.Wait()
	b.paper.commit()
}

// An address whose former client still answers is nobody else's, and not taken
// for a squatter's; a stranger's is abandoned, and given back when it falls
// silent.
func TestStillInUse(t *testing.T) { synctest.Test(t, testStillInUse) }

func testStillInUse(t *testing.T) {
	b := newBench(t, "10.77.0.100-10.77.0.101")
	hosts := map[string]addr.Hardware{}
	b.probing(hosts)
	ask := func(n int) netip.Addr {
		t.Helper()
		o := b.say(true, dhcp4.Discover, n, nil)
		b.settle()
		if o == nil { // it waited for a probe
			if o = b.say(true, dhcp4.Discover, n, nil); o == nil {
				return netip.Addr{}
			}
		}
		k := b.say(true, dhcp4.Request, n, asks(o.YIAddr))
		if k == nil || k.Type != dhcp4.Ack {
			t.Fatalf("client %d: %+v", n, k)
		}
		return k.YIAddr
	}
	a := ask(1)
	hosts[a.String()] = hwOf(1)
	b.pass(2 * time.Hour) // it sleeps through its renewal and goes on using the address
	b.paper.commit()
	if got := ask(2); got == a || !got.IsValid() {
		t.Errorf("client 2 gets %s", got)
	}
	b.say(true, dhcp4.Discover, 3, nil)
	b.settle()
	l := b.table.At(a)
	if !l.Kept() || l.Client != lease.ByHardware(1, hwOf(1)) {
		t.Errorf("the address in use is %s until %d", l.Status, l.Expires)
	}
	if k := b.say(true, dhcp4.Request, 1, renews(a)); k == nil || k.Type != dhcp4.Ack {
		t.Error("its own client does not get it back")
	}
	// A stranger.
	b.pass(2 * time.Hour)
	b.paper.commit()
	hosts[a.String()] = hwOf(99)
	b.say(true, dhcp4.Discover, 4, asks(a))
	b.settle()
	if l = b.table.At(a); l.Status != lease.Abandoned || l.Hardware != hwOf(99) {
		t.Errorf("a squatted address is %s of %s", l.Status, l.Hardware)
	}
	b.pass(90 * time.Minute)
	b.settle()
	if l = b.table.At(a); l.Status != lease.Abandoned {
		t.Errorf("while somebody answers it becomes %s", l.Status)
	}
	delete(hosts, a.String())
	b.pass(90 * time.Minute)
	b.settle()
	if l = b.table.At(a); l.Status != lease.Free {
		t.Errorf("once silent it is %s", l.Status)
	}
}

// A cloned identifier is told of once it is sure that there are two hosts.
func TestTwins(t *testing.T) { synctest.Test(t, testTwins) }

func testTwins(t *testing.T) {
	b := newBench(t, "10.77.0.100-10.77.0.101")
	hosts := map[string]addr.Hardware{}
	cloned := func(m *dhcp4.Message) {
		m.Options = append(m.Options, dhcp4.Option{Code: option.ClientID, Data: []byte("\x00clone")})
	}
	o := b.say(true, dhcp4.Discover, 1, cloned)
	b.say(true, dhcp4.Request, 1, func(m *dhcp4.Message) { cloned(m); asks(o.YIAddr)(m) })
	b.probing(hosts)
	hosts[o.YIAddr.String()] = hwOf(1)
	b.say(true, dhcp4.Discover, 2, cloned)
	b.settle()
	u := b.Unserved()
	if len(u) != 1 || u[0].Reason != reason.SharedIdentifier || u[0].Hardware != hwOf(2) || u[0].Asked != o.YIAddr {
		t.Errorf("told: %+v", u)
	}
	b.pass(2 * time.Hour)
	b.With(func(*lease.Table) { b.seen.Unserved.Age(lease.At(b.Engine.clock.Now())) })
	if len(b.Unserved()) != 0 {
		t.Error("it is told of for ever")
	}
}
