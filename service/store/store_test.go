package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/journal"
)

var quiet = slog.New(slog.DiscardHandler)

// cluster is one private PostgreSQL for all tests of this package.
var cluster *Cluster

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "yarnpost-store-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Chmod(dir, 0o711)
	if cluster, err = StartCluster(context.Background(), dir, quiet); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	cluster.Stop()
	os.RemoveAll(dir)
	os.Exit(code)
}

// fresh makes a database of its own and gives its DSN.
func fresh(t *testing.T) string {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, cluster.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	name := strings.ToLower("t_" + strings.ReplaceAll(t.Name(), "/", "_"))
	if _, err := conn.Exec(ctx, "create database "+name); err != nil {
		t.Fatal(err)
	}
	return strings.Replace(cluster.DSN, "/postgres?", "/"+name+"?", 1)
}

func open(t *testing.T, dsn string) *Store {
	t.Helper()
	s, err := Open(context.Background(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	if err := s.KeepHistory(context.Background(), time.Now()); err != nil {
		t.Fatal(err)
	}
	return s
}

// owner notes what the journal tells.
type owner struct {
	mu       sync.Mutex
	recorded []journal.Entry
	undone   []journal.Entry
	setBack  []string
}

func (o *owner) Recorded(e []journal.Entry) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.recorded = append(o.recorded, e...)
}

func (o *owner) Undo(take func() []journal.Entry) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.undone = append(o.undone, take()...)
}

// Everything gives what was recorded.
func (o *owner) Everything(leases func([]journal.Entry) error) (map[uint64][]byte, []byte, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	newest := map[netip.Prefix]journal.Entry{}
	for _, e := range o.recorded {
		if e.After != nil {
			newest[e.After.Prefix] = e
		}
	}
	var all []journal.Entry
	for _, e := range newest {
		all = append(all, e)
	}
	return map[uint64][]byte{7: []byte("set")}, nil, leases(all)
}

func (o *owner) WasSetBack(cause error, leases int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.setBack = append(o.setBack, fmt.Sprint(leases, " leases: ", cause))
}

func (o *owner) counts() (recorded, undone int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.recorded), len(o.undone)
}

func (o *owner) await(t *testing.T, recorded, undone int) {
	t.Helper()
	for range 1500 {
		if r, u := o.counts(); r == recorded && u == undone {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	r, u := o.counts()
	t.Fatalf("%d entries recorded and %d undone, want %d and %d", r, u, recorded, undone)
}

func started(t *testing.T, s *Store) (*journal.Journal, *owner) {
	t.Helper()
	o := &owner{}
	j, err := s.StartJournal(context.Background(), quiet, o, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(j.Close)
	return j, o
}

func sample(n int) *lease.Lease {
	hw := addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)})
	return &lease.Lease{Prefix: lease.Host(netip.AddrFrom4([4]byte{10, 77, byte(n >> 8), byte(n)})), Status: lease.Active,
		Client: lease.ByIdentifier([]byte("\x01" + hw)), Hardware: hw,
		Hostname: fmt.Sprint("loom-", n), Vendor: "loomctl", Circuit: "\x00\xffsw1", Relay: netip.MustParseAddr("10.77.0.2"), Since: 1000,
		Changed: 1001, Heard: 1002,
		Expires: 5000, Granted: 4000 * time.Second, Revision: 3, Reserved: n%2 == 0}
}

func stored(t *testing.T, s *Store) map[netip.Addr]*lease.Lease {
	t.Helper()
	out := map[netip.Addr]*lease.Lease{}
	if err := s.LoadLeases(context.Background(), func(l *lease.Lease) { out[l.Address()] = l }, func(int) {}); err != nil {
		t.Fatal(err)
	}
	return out
}

// Records of former clients go, and not those of who came back meanwhile, nor at the word of a
// process that lost the database.
func TestForgetLeases(t *testing.T) {
	s := open(t, fresh(t))
	j, o := started(t, s)
	var keys []netip.Prefix
	for n := range 4 {
		l := sample(n)
		l.Prefix = netip.MustParsePrefix(fmt.Sprintf("2001:db8:40:%x::/64", n))
		if keys = append(keys, l.Prefix); n == 0 {
			l.Expires = 9000
		}
		if !j.Add(journal.Entry{After: l}) {
			t.Fatal("the journal took no entry")
		}
	}
	o.await(t, 4, 0)
	s.epoch++
	if err := s.ForgetLeases(context.Background(), keys, 6000); err != nil || len(stored(t, s)) != 4 {
		t.Fatalf("%d are left: %v", len(stored(t, s)), err)
	}
	s.epoch--
	if err := s.ForgetLeases(context.Background(), keys[:3], 6000); err != nil {
		t.Fatal(err)
	}
	if left := stored(t, s); len(left) != 2 || left[keys[0].Addr()] == nil || left[keys[3].Addr()] == nil {
		t.Errorf("left are %v", left)
	}
}

// What is recorded comes back as it was, the newest record of an address wins,
// and history keeps every one.
func TestLeasesRoundTrip(t *testing.T) {
	s := open(t, fresh(t))
	j, o := started(t, s)
	direct := sample(7)
	direct.Relay, direct.Expires, direct.Client = netip.Addr{}, lease.Never, lease.ByHardware(1, direct.Hardware)
	renewed := *sample(1)
	renewed.Expires, renewed.Hostname, renewed.Relay = 9000, "ü", netip.MustParseAddr("2001:db8:40::2")
	for _, e := range []journal.Entry{{After: sample(1)}, {After: sample(2)}, {Before: sample(1), After: &renewed}, {After: direct}, {}} {
		if !j.Add(e) {
			t.Fatal("the journal took no entry")
		}
	}
	o.await(t, 5, 0)
	got := stored(t, s)
	for _, want := range []*lease.Lease{&renewed, sample(2), direct} {
		if !reflect.DeepEqual(got[want.Address()], want) {
			t.Errorf("%s came back as\n%+v, want\n%+v", want.Address(), got[want.Address()], want)
		}
	}
	events, err := s.History(context.Background(), Past{Key: lease.Host(renewed.Address()), Before: time.Now().Add(time.Minute), Limit: 10},
		time.Unix(8000, 0))
	if err != nil || len(events) != 2 || events[0].Hardware != renewed.Hardware || events[0].Circuit != renewed.Circuit {
		t.Errorf("history %+v, %v", events, err)
	}
	if j.Pending(renewed.Prefix) {
		t.Error("a durable address is pending")
	}
}

// That a lease ended by time is told though it was never written, at the moment
// at which it did, and once.
func TestHistoryEnds(t *testing.T) {
	s := open(t, fresh(t))
	at := func(minutes int) time.Time {
		return time.Now().Add(time.Duration(minutes) * time.Minute).Truncate(time.Second)
	}
	var moment atomic.Pointer[time.Time]
	first := at(-60)
	moment.Store(&first)
	j, err := s.StartJournal(context.Background(), quiet, &owner{}, func() time.Time { return *moment.Load() })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(j.Close)
	write := func(when time.Time, n int, who string, status lease.Status, until time.Time) {
		t.Helper()
		l := sample(n)
		l.Hostname, l.Hardware, l.Client, l.Status, l.Expires = who, addr.Hardware(who), lease.ByIdentifier([]byte(who)), status,
			lease.At(until)
		moment.Store(&when)
		j.Add(journal.Entry{After: l})
		for j.Pending(l.Prefix) {
			time.Sleep(time.Millisecond)
		}
	}
	write(at(-60), 1, "one", lease.Active, at(-50))   // ends, and then another has it
	write(at(-45), 1, "two", lease.Active, at(-35))   // renewed in time
	write(at(-40), 1, "two", lease.Active, at(-30))   // given back
	write(at(-32), 1, "two", lease.Released, at(-32)) //
	write(at(-31), 1, "six", lease.Active, at(-25))   // says another name before it ends
	write(at(-28), 1, "ten", lease.Active, at(-20))   // ends, and nobody comes
	write(at(-19), 2, "ten", lease.Active, at(+20))   // still there
	write(at(-18), 3, "old", lease.Active, at(-10))   // of an older service, that wrote endings
	write(at(-9), 3, "old", lease.Expired, at(-10))
	for j.Pending(sample(3).Prefix) {
		time.Sleep(time.Millisecond)
	}
	for _, c := range []struct {
		q    Past
		want string
	}{
		{Past{Key: lease.Host(sample(1).Address())},
			"ten expired, ten active, six active, two released, two active, two active, one expired, one active"},
		{Past{Key: lease.Host(sample(1).Address()), Before: at(-20).Add(-time.Second), Limit: 1}, "ten active"},
		{Past{Key: lease.Host(sample(1).Address()), Limit: 1}, "ten expired"},
		{Past{Hostname: "six"}, "six active"}, // it lives on under its other name
		{Past{Hardware: "ten"}, "ten active, ten expired, ten active"},
		{Past{Key: lease.Host(sample(3).Address())}, "old expired, old active"},
	} {
		if c.q.Limit == 0 {
			c.q.Limit = 50
		}
		if c.q.Before.IsZero() {
			c.q.Before = time.Now().Add(time.Minute)
		}
		events, err := s.History(context.Background(), c.q, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		for _, e := range events {
			lines = append(lines, e.Hostname+" "+e.Status.String())
		}
		if got := strings.Join(lines, ", "); got != c.want {
			t.Errorf("%+v: %s; want %s", c.q, got, c.want)
		}
	}
}

// Sets that nobody refers to any more go, but not those that come back.
func TestForgottenSets(t *testing.T) {
	s := open(t, fresh(t))
	j, o := started(t, s)
	put := func(n int, digest uint64, set string) {
		l := sample(n)
		l.Given = digest
		j.Add(journal.Entry{After: l, Set: []byte(set)})
	}
	put(1, 11, "eleven")
	put(2, 1<<63+12, "twelve") // digests use every bit
	put(3, 13, "thirteen")
	o.await(t, 3, 0)
	j.Forget([]uint64{11, 1<<63 + 12, 13})
	put(4, 13, "thirteen")
	o.await(t, 4, 0)
	put(5, 14, "fourteen")
	o.await(t, 5, 0)
	got, err := s.LoadSets(context.Background())
	if err != nil || len(got) != 2 || string(got[13]) != "thirteen" || string(got[14]) != "fourteen" {
		t.Errorf("the sets are %v, %v", got, err)
	}
}

// A batch that the server refuses is undone together with what gathered behind
// it, and the journal goes on.
// Whatever octets a text has, it is stored.
func TestAnyTextIsStored(t *testing.T) {
	s := open(t, fresh(t))
	j, o := started(t, s)
	l := sample(1)
	l.Hostname, l.Vendor = "nul\x00 cut \xe2\x82", "\xff\xfe"
	j.Add(journal.Entry{After: l})
	o.await(t, 1, 0)
	got := stored(t, s)[l.Address()]
	if got == nil || got.Hostname != "nul? cut ?" || got.Vendor != "?" {
		t.Errorf("stored is %+v", got)
	}
}

// What the database refuses of a batch costs that alone, and what builds on it.
func TestRefusedRow(t *testing.T) {
	s := open(t, fresh(t))
	if _, err := s.pool.Exec(context.Background(), "alter table lease add constraint fit check (hostname <> 'unfit')"); err != nil {
		t.Fatal(err)
	}
	j, o := started(t, s)
	unfit := func(n int) *lease.Lease {
		l := sample(n)
		l.Hostname = "unfit"
		return l
	}
	j.Add(journal.Entry{After: sample(0)})
	o.await(t, 1, 0)
	entries := []journal.Entry{{After: sample(1)}, {After: unfit(2)}, {After: sample(3)}, {On: sample(2).Prefix}, {On: sample(3).Prefix},
		{After: unfit(9)}, {After: sample(4)}}
	j.Add(entries[:5]...) // together: refused together, with nothing of it left
	o.await(t, 1, 5)
	for _, e := range entries {
		j.Add(e)
	}
	o.await(t, 5, 8) // 1, 3, what waits for 3, 4; not 2, what waits for it, and 9
	if err := j.Down(); err != nil {
		t.Errorf("a refused row takes the journal down: %v", err)
	}
	if got := stored(t, s); len(got) != 4 || got[sample(2).Address()] != nil || got[sample(4).Address()] == nil {
		t.Errorf("%d leases are recorded: %v", len(got), got)
	}
	if st, _ := j.Snapshot(); st.Refused == 0 {
		t.Error("nothing is counted as refused")
	}
	for n := range 10 {
		if j.Pending(sample(n).Prefix) {
			t.Errorf("%s is pending for ever", sample(n).Prefix)
		}
	}
}

// A database that refuses everything counts as away at once, until it does not any more.
func TestRefusingDatabase(t *testing.T) {
	s := open(t, fresh(t))
	j, o := started(t, s)
	ctx := context.Background()
	if _, err := s.pool.Exec(ctx,
		`create function no_room() returns trigger language plpgsql as $$ begin raise 'no space left' using errcode = '53100'; end $$;
		create trigger no_room before insert on lease execute function no_room()`); err != nil {
		t.Fatal(err)
	}
	j.Add(journal.Entry{After: sample(1)})
	o.await(t, 0, 1)
	until(t, "the journal says so", func() bool { return j.Down() != nil })
	if j.Add(journal.Entry{After: sample(2)}) {
		t.Error("more is taken while everything is refused")
	}
	time.Sleep(3 * signEvery)
	if j.Down() == nil {
		t.Error("it says that all is well while everything is refused")
	}
	if _, err := s.pool.Exec(ctx, "drop trigger no_room on lease"); err != nil {
		t.Fatal(err)
	}
	until(t, "the journal is well again", func() bool { return j.Down() == nil })
	if got := stored(t, s); len(got) != 0 {
		t.Errorf("%d leases were recorded by looking", len(got))
	}
	j.Add(journal.Entry{After: sample(2)})
	o.await(t, 1, 1)
}

// A database that is set back under a running journal has everything again before
// anything more is recorded.
func TestSetBackRunning(t *testing.T) {
	s := open(t, fresh(t))
	j, o := started(t, s)
	ctx := context.Background()
	for n := range 20 {
		j.Add(journal.Entry{After: sample(n)})
	}
	o.await(t, 20, 0)
	for name, back := range map[string]string{
		"rows are those of before":   "delete from lease; update server set last_batch = 0",
		"an epoch of before":         "delete from lease; update server set epoch = 0",
		"only the number is lowered": "update server set last_batch = last_batch - 1",
	} {
		if _, err := s.pool.Exec(ctx, back); err != nil {
			t.Fatal(err)
		}
		until(t, "it is noticed that "+name, func() bool {
			o.mu.Lock()
			defer o.mu.Unlock()
			return len(o.setBack) == 1 && strings.HasPrefix(o.setBack[0], "20 leases: ")
		})
		o.mu.Lock()
		o.setBack = nil
		o.mu.Unlock()
		until(t, "the journal goes on", func() bool { return j.Down() == nil })
		if got := stored(t, s); len(got) != 20 {
			t.Errorf("%s: %d leases are there again, want 20", name, len(got))
		}
	}
	j.Add(journal.Entry{After: sample(21)})
	o.await(t, 21, 0)
}

// A start tells whether the database is as the last run left it.
func TestSetBackBetweenRuns(t *testing.T) {
	dsn, folder, ctx := fresh(t), t.TempDir(), context.Background()
	run := func(leases int) string {
		t.Helper()
		s, err := Open(ctx, dsn)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if err := s.KeepHistory(ctx, time.Now()); err != nil {
			t.Fatal(err)
		}
		said, err := s.Watermark(ctx, folder, quiet)
		if err != nil {
			t.Fatal(err)
		}
		o := &owner{}
		j, err := s.StartJournal(ctx, quiet, o, time.Now)
		if err != nil {
			t.Fatal(err)
		}
		for n := range leases {
			j.Add(journal.Entry{After: sample(n)})
			o.await(t, n+1, 0)
		}
		j.Close()
		return said
	}
	change := func(statement string) {
		t.Helper()
		s, err := Open(ctx, dsn)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if _, err := s.pool.Exec(ctx, "update server set epoch = epoch - 1; "+statement); err != nil {
			t.Fatal(err)
		}
	}
	for i, c := range []struct{ change, want string }{
		{"", ""}, {"", ""},
		{"update server set last_batch = last_batch - 1", "batches of leases were recorded"}, {"", ""},
		{"update server set epoch = epoch - 1", "runs of the service"}, {"", ""},
		{"update server set token = 'another'", "not the one that was used last"}, {"", ""},
	} {
		if c.change != "" {
			change(c.change)
		}
		if got := run(3); (got == "") != (c.want == "") || !strings.Contains(got, c.want) {
			t.Errorf("run %d, after %q: %q, want %q", i, c.change, got, c.want)
		}
	}
}

// proxy stands between the journal and the database and can cut the wire.
type proxy struct {
	listener net.Listener
	target   string
	mu       sync.Mutex
	cut      string // "request": drop what is sent; "reply": drop what comes back
	when     string // only from a request with this text on; "" for at once
	refuse   bool
	conns    []net.Conn
}

func startProxy(t *testing.T, socket string) *proxy {
	t.Helper()
	dir := t.TempDir()
	l, err := net.Listen("unix", filepath.Join(dir, ".s.PGSQL.5432"))
	if err != nil {
		t.Fatal(err)
	}
	p := &proxy{listener: l, target: filepath.Join(socket, ".s.PGSQL.5432")}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			p.mu.Lock()
			refuse := p.refuse
			p.mu.Unlock()
			up, err := net.Dial("unix", p.target)
			if err != nil || refuse {
				c.Close()
				continue
			}
			p.mu.Lock()
			p.conns = append(p.conns, c, up)
			p.mu.Unlock()
			go p.pump(up, c, "request")
			go p.pump(c, up, "reply")
		}
	}()
	return p
}

func (p *proxy) pump(to, from net.Conn, kind string) {
	buf := make([]byte, 1<<16)
	for {
		n, err := from.Read(buf)
		p.mu.Lock()
		if kind == "request" && p.when != "" && bytes.Contains(buf[:n], []byte(p.when)) {
			p.when, p.refuse = "", true
		}
		cut := p.cut == kind && p.when == ""
		p.mu.Unlock()
		if cut {
			if kind == "reply" { // the commit happened; nobody hears of it
				time.Sleep(50 * time.Millisecond)
			}
			to.Close()
			from.Close()
			return
		}
		if n > 0 {
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			to.Close()
			if err != io.EOF {
				from.Close()
			}
			return
		}
	}
}

func (p *proxy) set(cut string, refuse bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cut, p.refuse = cut, refuse
}

// The connection dies after a commit was sent. Whether it happened is found
// out: if so the leases stand, if not they are undone; meanwhile they are
// pending and nothing new is taken.
func TestUnknownOutcome(t *testing.T) {
	for _, c := range []struct {
		cut              string
		recorded, undone int
	}{{"reply", 2, 0}, {"request", 1, 1}} {
		t.Run(c.cut, func(t *testing.T) {
			dsn := fresh(t)
			p := startProxy(t, filepath.Join(filepath.Dir(cluster.data), "socket"))
			through := strings.Replace(dsn, "host=", "host="+filepath.Dir(p.listener.Addr().String())+"&was=", 1)
			through = strings.Replace(through, "&was=", "&application_name=", 1)
			s := open(t, through)
			j, o := started(t, s)
			j.Add(journal.Entry{After: sample(1)})
			o.await(t, 1, 0)
			p.set(c.cut, true)
			j.Add(journal.Entry{After: sample(2)})
			for range 500 {
				if j.Down() != nil {
					break
				}
				time.Sleep(10 * time.Millisecond)
			}
			if j.Down() == nil || !j.Pending(sample(2).Prefix) {
				t.Fatalf("down: %v, pending: %v", j.Down(), j.Pending(sample(2).Prefix))
			}
			if j.Add(journal.Entry{After: sample(3)}) {
				t.Error("an entry was taken while the database is away")
			}
			p.set("", false)
			o.await(t, c.recorded, c.undone)
			if j.Pending(sample(2).Prefix) {
				t.Error("the lease is frozen for good")
			}
			for range 500 {
				if j.Down() == nil {
					break
				}
				time.Sleep(10 * time.Millisecond)
			}
			if !j.Add(journal.Entry{After: sample(4)}) {
				t.Fatal("the journal did not come back")
			}
			o.await(t, c.recorded+1, c.undone)
			got := stored(t, s)
			if _, there := got[sample(2).Address()]; there != (c.cut == "reply") {
				t.Errorf("the lease is recorded: %v", there)
			}
		})
	}
}

// The connection dies at the commit of a plan change. Whether it happened can be
// asked afterwards, and nothing is held up by it.
func TestPlanInDoubt(t *testing.T) {
	for _, cut := range []string{"reply", "request"} {
		t.Run(cut, func(t *testing.T) {
			ctx := context.Background()
			p := startProxy(t, filepath.Join(filepath.Dir(cluster.data), "socket"))
			s := open(t, strings.Replace(fresh(t), "host=", "host="+filepath.Dir(p.listener.Addr().String())+"&application_name=", 1))
			d := plan.New().Draft()
			d.SetDefaults(plan.Defaults{Note: "x"})
			next, changes := d.Finish()
			r := Revision{Number: next.Revision, At: time.Now().Truncate(time.Microsecond), Author: "ada"}
			p.mu.Lock()
			p.cut, p.when = cut, "commit"
			p.mu.Unlock()
			if err := s.SavePlan(ctx, r, changes, noLines); !errors.Is(err, ErrUnknown) {
				t.Fatalf("a change cut off at its commit: %v", err)
			}
			if _, err := s.PlanRecorded(ctx, r); err == nil {
				t.Error("without the database it is known what became of it")
			}
			p.set("", false)
			there, err := s.PlanRecorded(ctx, r)
			if err != nil || there != (cut == "reply") {
				t.Errorf("recorded: %v, %v", there, err)
			}
			other := r
			other.Author = "bram"
			if there, _ := s.PlanRecorded(ctx, other); there {
				t.Error("another's change is taken for it")
			}
			if !there {
				if err := s.SavePlan(ctx, r, changes, noLines); err != nil {
					t.Errorf("once more: %v", err)
				}
			} else if err := s.SavePlan(ctx, r, changes, noLines); !errors.Is(err, ErrStale) {
				t.Errorf("twice: %v", err)
			}
		})
	}
}

// A change of the plan and a commit of leases do not wait for each other, however
// large the change is.
func TestPlanAndJournalSideBySide(t *testing.T) {
	s := open(t, fresh(t))
	j, o := started(t, s)
	tx, err := s.pool.Begin(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(context.Background())
	// What SavePlan holds while its transaction is open.
	if _, err := tx.Exec(context.Background(), "select epoch from server, pg_advisory_xact_lock_shared($1)", planLock); err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(context.Background(),
		"insert into plan_revision (revision, at, author, reason, last_id) values (99, now(), '', '', 1)"); err != nil {
		t.Fatal(err)
	}
	j.Add(journal.Entry{After: sample(1)})
	o.await(t, 1, 0)
}

// A writer that was fenced off records nothing more, whatever it believes.
func TestFenced(t *testing.T) {
	dsn := fresh(t)
	s := open(t, dsn)
	j, o := started(t, s)
	conn, err := pgx.Connect(context.Background(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(context.Background(), "update server set epoch = epoch + 1"); err != nil {
		t.Fatal(err)
	}
	if j.Add(journal.Entry{After: sample(1)}) { // else it has noticed already
		o.await(t, 0, 1)
	}
	if got := stored(t, s); len(got) != 0 {
		t.Error("a fenced writer wrote")
	}
	for range 200 {
		if errors.Is(j.Down(), journal.ErrFenced) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if err := j.Down(); !errors.Is(err, journal.ErrFenced) {
		t.Errorf("a fenced journal says %v", err)
	}
	d := plan.New().Draft()
	d.SetDefaults(plan.Defaults{Note: "x"})
	p, changes := d.Finish()
	if err := s.SavePlan(context.Background(), Revision{Number: p.Revision, At: time.Now()}, changes, noLines); !errors.Is(err,
		journal.ErrFenced) {
		t.Errorf("a fenced service changed the plan: %v", err)
	}
}

// A change of more items than are recorded at once is on record as a whole, in its
// order, with what it took away.
func TestLargeChange(t *testing.T) {
	ctx := context.Background()
	s := open(t, fresh(t))
	p := plan.New()
	save := func(edit func(*plan.Draft)) int {
		d := p.Draft()
		edit(d)
		next, changes := d.Finish()
		if err := s.SavePlan(ctx, Revision{Number: next.Revision, At: time.Now(), Author: "ada"}, changes,
			func(c plan.Change) []plan.Line { return plan.Diff([]plan.Change{c}, d.Label) }); err != nil {
			t.Fatal(err)
		}
		p = next
		return len(changes)
	}
	var v plan.Scope
	put := func(d *plan.Draft, n int, note string) {
		_, err := d.PutReservation(plan.Reservation{Name: fmt.Sprint("r-", n), Scope: v.ID, Note: note,
			Hardware: addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)}), Address: netip.AddrFrom4([4]byte{10, 77, byte(n >> 8),
				byte(n)})})
		if err != nil {
			t.Fatal(err)
		}
	}
	const many = 3*planPart + 7
	save(func(d *plan.Draft) {
		v = plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/16"), Mode: plan.Serving}
		err := d.PlaceScope(&v, "", nil)
		if err == nil {
			v.ID, err = d.PutScope(v)
		}
		if err != nil {
			t.Fatal(err)
		}
		for n := 10; n < many; n++ {
			put(d, n, "")
		}
	})
	changed := save(func(d *plan.Draft) {
		for n := 10; n < many; n++ {
			if n%2 == 0 {
				r := *d.Plan().ReservationNamed(fmt.Sprint("r-", n))
				r.Note = "seen"
				if _, err := d.PutReservation(r); err != nil {
					t.Fatal(err)
				}
			} else if err := d.RemoveReservation(fmt.Sprint("r-", n)); err != nil {
				t.Fatal(err)
			}
		}
		put(d, many, "new")
	})
	back, err := s.LoadPlan(ctx)
	if err != nil || !reflect.DeepEqual(back.Items(), p.Items()) {
		t.Errorf("%d items came back, of %d: %v", len(back.Items()), len(p.Items()), err)
	}
	list, err := s.Revisions(ctx, 0, 1, 0)
	if err != nil || len(list) != 1 || list[0].Items != changed || changed != many-9 || list[0].Lines[0].Name != "r-10" {
		t.Errorf("%d items changed: %+v, %v", changed, list, err)
	}
}

func noLines(plan.Change) []plan.Line { return nil }

// A plan comes back from its rows, ids are never used again, and two changes of
// the same revision cannot both be kept.
func TestPlanRoundTrip(t *testing.T) {
	ctx := context.Background()
	s := open(t, fresh(t))
	p := plan.New()
	save := func(edit func(*plan.Draft) error) error {
		t.Helper()
		d := p.Draft()
		if err := edit(d); err != nil {
			t.Fatal(err)
		}
		next, changes := d.Finish()
		err := s.SavePlan(ctx, Revision{Number: next.Revision, At: time.Now(), Author: "ada", Reason: "why"}, changes,
			func(c plan.Change) []plan.Line { return plan.Diff([]plan.Change{c}, d.Label) })
		if err == nil {
			p = next
		}
		return err
	}
	must := func(edit func(*plan.Draft) error) {
		t.Helper()
		if err := save(edit); err != nil {
			t.Fatal(err)
		}
	}
	must(func(d *plan.Draft) error {
		return d.SetDefaults(plan.Defaults{Note: "mill",
			Settings: plan.Settings{Lease: plan.Duration(2 * time.Hour), Options: map[option.Key]string{option.Std(6): "10.0.0.53"}}})
	})
	var scope plan.ID
	must(func(d *plan.Draft) error {
		r, _ := addr.ParseRange("10.77.0.10-10.77.0.99")
		v := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Pools: []addr.Range{r},
			Exclusions: []plan.Exclusion{{Range: addr.Range{From: r.From, To: r.From}, User: "plotter"}},
			Mode:       plan.Draining, DrainUntil: time.Unix(2_000_000_000, 0).UTC(), Note: "n"}
		if err := d.PlaceScope(&v, "", nil); err != nil {
			return err
		}
		var err error
		scope, err = d.PutScope(v)
		return err
	})
	must(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: "loom-1", Scope: scope, Hardware: "\x02\x00\x00\x00\x00\x01",
			Address: netip.MustParseAddr("10.77.0.5")})
		return err
	})
	must(func(d *plan.Draft) error { return d.RemoveReservation("loom-1") })
	back, err := s.LoadPlan(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if back.Revision != 4 || !reflect.DeepEqual(back.ScopeNamed("looms").Scope, p.ScopeNamed("looms").Scope) ||
		!reflect.DeepEqual(back.Defaults, p.Defaults) || back.ReservationNamed("loom-1") != nil {
		t.Errorf("the plan came back as revision %d, %+v", back.Revision, back.ScopeNamed("looms"))
	}
	d := back.Draft()
	id, err := d.PutReservation(plan.Reservation{Name: "loom-2", Scope: scope, Hardware: "\x02\x00\x00\x00\x00\x02",
		Address: netip.MustParseAddr("10.77.0.6")})
	if err != nil || id <= 3 {
		t.Errorf("a new reservation got the id %d of one that is gone, %v", id, err)
	}
	p.Revision-- // as somebody who does not know of the last change
	if err := save(func(d *plan.Draft) error { return d.SetDefaults(plan.Defaults{}) }); !errors.Is(err, ErrStale) {
		t.Errorf("a second revision 4: %v", err)
	}
	list, err := s.Revisions(ctx, 0, 10, 0)
	if err != nil || len(list) != 4 || list[0].Number != 4 || list[0].Author != "ada" || len(list[2].Lines) != list[2].Length ||
		list[2].Items != 2 || list[2].Lines[0].Kind != plan.KindLink {
		t.Errorf("revisions %+v, %v", list, err)
	}
	if list, err = s.Revisions(ctx, 3, 1, 1); err != nil || len(list) != 1 || list[0].Number != 2 || len(list[0].Lines) != 1 ||
		list[0].Length < 2 {
		t.Errorf("a page of revisions: %+v, %v", list, err)
	}
}

func TestKeepHistory(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	now := time.Now().UTC()
	if err := s.KeepHistory(ctx, now.AddDate(0, 0, -HistoryDays-2)); err != nil { // partitions long ago
		t.Fatal(err)
	}
	var before, after int
	count := "select count(*) from pg_inherits where inhparent = 'lease_history'::regclass"
	if err := s.pool.QueryRow(ctx, count).Scan(&before); err != nil {
		t.Fatal(err)
	}
	for range 2 { // twice is as good as once
		if err := s.KeepHistory(ctx, now); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.pool.QueryRow(ctx, count).Scan(&after); err != nil {
		t.Fatal(err)
	}
	if after >= before || after < 5 {
		t.Errorf("%d partitions before, %d after the old ones should be gone", before, after)
	}
	if err := s.KeepHistory(ctx, now.AddDate(0, 0, 1)); err != nil {
		t.Fatal(err)
	}
	var indexed bool
	name := "lease_history_" + now.Format("20060102") + "_address"
	if err := s.pool.QueryRow(ctx, "select to_regclass($1) is not null", name).Scan(&indexed); err != nil || !indexed {
		t.Errorf("yesterday has no index by address: %v", err)
	}
}

// Rows of a day that had no partition do not stop the keeping of history: they
// move into it when it is made.
func TestStrayHistory(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	now := time.Now().UTC()
	far, past := now.AddDate(0, 0, 20), now.AddDate(0, 0, -400)
	for _, at := range []time.Time{far, far.Add(time.Minute), past} {
		if _, err := s.pool.Exec(ctx,
			"insert into lease_history (at, address, status, client, hardware, hostname, circuit, since, expires) values ($1, '10.0.0.1', 1, '', '', '', '', 0, 0)", at); err != nil {
			t.Fatal(err)
		}
	}
	in := func(table string) (n int) {
		if err := s.pool.QueryRow(ctx, "select count(*) from "+table).Scan(&n); err != nil {
			t.Error(err)
		}
		return n
	}
	if n := in(restTable); n != 3 {
		t.Fatalf("%d rows are in no partition", n)
	}
	if err := s.OpenHistory(ctx, far); err != nil { // as a start does that day
		t.Fatal(err)
	}
	if n := in(dayTable(far)); n != 2 {
		t.Errorf("%d of two rows moved to their day", n)
	}
	if err := s.KeepHistory(ctx, now); err != nil {
		t.Fatal(err)
	}
	if n := in(restTable); n != 0 {
		t.Errorf("%d rows are still in no partition", n)
	}
	if n := in("lease_history"); n != 3 {
		t.Errorf("%d of three rows are left", n)
	}
}

// When the host's clock was set while the service was away, all leases move
// along.
func TestShiftLeases(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	if m, err := s.LoadClock(ctx); err != nil || m != (ClockMark{}) {
		t.Errorf("the first mark is %+v, %v", m, err)
	}
	j, o := started(t, s)
	l, never := sample(1), sample(2)
	never.Expires, never.Acked, never.Told = lease.Never, 0, lease.MomentOf(lease.Never)
	l.Acked, l.Told = 700_000_000, 700_009_000
	j.Add(journal.Entry{After: l}, journal.Entry{After: never})
	o.await(t, 2, 0)
	mark := ClockMark{"a", time.Hour, time.Now().UTC().Truncate(time.Microsecond)}
	if err := s.ShiftLeases(ctx, -time.Hour, mark); err != nil {
		t.Fatal(err)
	}
	got := stored(t, s)
	if a := got[l.Address()]; a.Expires != l.Expires-3600 || a.Since != l.Since-3600 || a.Heard != l.Heard-3600 ||
		a.Changed != l.Changed-3600 {
		t.Errorf("moved to %+v", a)
	}
	if a := got[l.Address()]; a.Acked != l.Acked-3600 || a.Told != l.Told-3600 {
		t.Errorf("what both servers know moved to %d and %d", a.Acked, a.Told)
	}
	if n := got[never.Address()]; n.Expires != lease.Never || n.Acked != 0 || n.Told != never.Told {
		t.Errorf("a lease for ever is %+v now", n)
	}
	if m, err := s.LoadClock(ctx); err != nil || m.Host != "a" || m.Boot != time.Hour || !m.At.Equal(mark.At) {
		t.Errorf("the mark reads %+v, %v", m, err)
	}
}

func TestAccessRows(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	if err := s.SaveAccount(ctx, Account{"ada", "hash", true, time.Time{}}); err != nil {
		t.Fatal(err)
	}
	hash := func(b byte) []byte { h := make([]byte, 32); h[0] = b; return h }
	for _, g := range []Grant{{hash(1), "ada", "", time.Now().Add(time.Hour), time.Time{}},
		{hash(2), "ada", "", time.Now().Add(-time.Hour), time.Time{}}, {hash(3), "ada", "robot", time.Time{}, time.Now()}} {
		if err := s.SaveGrant(ctx, g, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	accounts, grants, err := s.LoadAccess(ctx, time.Now())
	if err != nil || len(accounts) != 1 || !accounts[0].MustChange || len(grants) != 2 { // the ended session is gone
		t.Errorf("%+v %+v %v", accounts, grants, err)
	}
	if err := s.SaveAccount(ctx, Account{"ada", "other", false, time.Time{}}); err != nil {
		t.Fatal(err)
	}
	if _, grants, _ = s.LoadAccess(ctx, time.Now()); len(grants) != 1 || grants[0].Name != "robot" {
		t.Errorf("a new password leaves %+v", grants)
	}
}

func TestClusterRefusals(t *testing.T) {
	long := filepath.Join(t.TempDir(), strings.Repeat("x", 100))
	if _, err := StartCluster(context.Background(), long, quiet); err == nil || !strings.Contains(err.Error(), "too long") {
		t.Errorf("a path too long for a socket: %v", err)
	}
	if os.Getuid() == 0 {
		closed := filepath.Join(t.TempDir(), "closed")
		os.MkdirAll(filepath.Join(closed, "data"), 0o700)
		if _, err := StartCluster(context.Background(), filepath.Join(closed, "data"), quiet); err == nil ||
			!strings.Contains(err.Error(), "/var/lib/yarnpost") {
			t.Errorf("a folder that postgres cannot reach: %v", err)
		}
	}
}

// Sets of given options from before codes took two octets are read as they were.
func TestWideCodes(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	old := []byte("a\x37\x00\x02\x01\x03" + "g\x03\x00\x04\x0a\x4d\x00\x01" + "g\x0f\x00\x00")
	if _, err := s.pool.Exec(ctx, "insert into given_set (digest, body) values (7, $1), (8, '')", old); err != nil {
		t.Fatal(err)
	}
	step, err := migrations.ReadFile("migrations/006_wide_codes.sql")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.pool.Exec(ctx, string(step)); err != nil {
		t.Fatal(err)
	}
	sets, err := s.LoadSets(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if want := "a\x00\x37\x00\x02\x01\x03" + "g\x00\x03\x00\x04\x0a\x4d\x00\x01" + "g\x00\x0f\x00\x00"; string(sets[7]) != want ||
		len(sets[8]) != 0 {
		t.Errorf("sets become %x and %x", sets[7], sets[8])
	}
}
