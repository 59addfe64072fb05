package e2e

import (
	"context"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"yarnpost/demo"
)

// promises are the leases that clients were ever acknowledged.
type promises struct {
	mu sync.Mutex
	of map[string]promise // by address
}

type promise struct {
	hw      string
	expires time.Time
}

// load keeps clients coming until the context ends, and notes what each was
// acknowledged.
func load(ctx context.Context, s *service, r *demo.Relay, first int, p *promises, wg *sync.WaitGroup) {
	for w := range 24 {
		wg.Go(func() {
			for n := first + w; ctx.Err() == nil; n += 24 {
				c := &demo.Client{Relay: r, Hardware: hw(n), Patience: 3 * time.Second}
				for range 3 { // as a client does, it tries again
					if c.Get(ctx) == nil {
						p.mu.Lock()
						if old, twice := p.of[c.Address.String()]; twice {
							s.t.Errorf("%s was given to %s and to %s", c.Address, old.hw, c.Hardware)
						}
						p.of[c.Address.String()] = promise{c.Hardware.String(), time.Now().Add(c.Lease)}
						p.mu.Unlock()
						break
					}
				}
			}
		})
	}
}

// kept checks that every promise is in the lease table.
func (p *promises) kept(s *service, when string) {
	s.t.Helper()
	table := s.leases()
	p.mu.Lock()
	defer p.mu.Unlock()
	lost := 0
	for a, want := range p.of {
		l, ok := table[a]
		if !ok || l.Status != "active" || l.Hardware != want.hw || l.Expires.Before(want.expires.Add(-5*time.Second)) {
			if lost++; lost <= 3 {
				s.t.Errorf("%s: %s was acknowledged to %s until %v; the table says %+v", when, a, want.hw, want.expires, l)
			}
		}
	}
	if lost > 3 {
		s.t.Errorf("%s: %d of %d acknowledged leases are lost", when, lost, len(p.of))
	}
}

func (p *promises) copied() map[string]promise {
	p.mu.Lock()
	defer p.mu.Unlock()
	return maps.Clone(p.of)
}

func (p *promises) count() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.of)
}

func crashRounds() int {
	if n, err := strconv.Atoi(os.Getenv("YARNPOST_CRASHES")); err == nil {
		return n
	}
	return 3
}

// kill -9 of the service under load, again and again: no acknowledged lease is
// forgotten, and no address is given twice.
func TestKilledService(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.64.0.0/12", "--pool", "all", "--lease", "8h", "--serve")
	p := &promises{of: map[string]promise{}}
	for round := range crashRounds() {
		r := s.relay("127.77.0.1", "10.64.0.1")
		ctx, stop := context.WithCancel(context.Background())
		var wg sync.WaitGroup
		load(ctx, s, r, 1+round*1_000_000, p, &wg)
		before := p.count()
		s.await(func() bool { return p.count() > before+300 }, "clients to be served")
		s.kill()
		stop()
		wg.Wait()
		s.start()
		p.kept(s, "after kill "+strconv.Itoa(round+1))
	}
	t.Logf("%d acknowledged leases, all there", p.count())
}

// A clean stop under load answers what it recorded, records what it answered,
// and leaves no database behind.
func TestStoppedService(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.64.0.0/12", "--pool", "all", "--lease", "8h", "--serve")
	p := &promises{of: map[string]promise{}}
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	load(ctx, s, s.relay("127.77.0.1", "10.64.0.1"), 1, p, &wg)
	s.await(func() bool { return p.count() > 300 }, "clients to be served")
	s.stop()
	cancel()
	wg.Wait()
	if !strings.Contains(s.log.String(), "stopped; everything is recorded") {
		t.Errorf("the service did not stop in good order:\n%s", s.log.String())
	}
	if _, err := os.Stat(filepath.Join(s.dir, "postgres", "postmaster.pid")); err == nil {
		t.Error("the database is still running")
	}
	s.start()
	p.kept(s, "after a clean stop")
}

// kill -9 of PostgreSQL under load: the service goes on, says what is wrong,
// serves nobody new meanwhile, and comes back by itself.
func TestKilledDatabase(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.64.0.0/12", "--pool", "all", "--lease", "8h", "--serve")
	p := &promises{of: map[string]promise{}}
	r := s.relay("127.77.0.1", "10.64.0.1")
	ctx, stop := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	load(ctx, s, r, 1, p, &wg)
	steady := &demo.Client{Relay: r, Hardware: hw(9_000_000), Patience: 2 * time.Second}
	if err := steady.Get(ctx); err != nil {
		t.Fatal(err)
	}
	for round := range crashRounds() {
		before := p.count()
		s.await(func() bool { return p.count() > before+200 }, "clients to be served")
		killPostgres(t, s)
		if err := steady.Renew(ctx); err != nil || steady.Lease > 8*time.Hour {
			t.Errorf("round %d: without a database the renewal got %v, %v", round+1, steady.Lease, err)
		}
	}
	before := p.count()
	s.await(func() bool { return p.count() > before+200 }, "clients to be served again")
	stop()
	wg.Wait()
	p.kept(s, "with the database back")
	s.stop()
	s.start()
	p.kept(s, "after a restart")
	t.Logf("%d acknowledged leases, all there", p.count())
}

// postmaster is the process of a private database's server.
func postmaster(t *testing.T, s *service) int {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(s.dir, "postgres", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	line, _, _ := strings.Cut(string(b), "\n")
	pid, err := strconv.Atoi(line)
	if err != nil {
		t.Fatal(err)
	}
	return pid
}

// killPostgres kills the private database's server and all its children.
func killPostgres(t *testing.T, s *service) {
	t.Helper()
	pid := postmaster(t, s)
	if err := syscall.Kill(-pid, syscall.SIGKILL); err != nil { // it leads a process group of its own
		syscall.Kill(pid, syscall.SIGKILL)
	}
}

// A second service on the same database is refused and changes nothing.
func TestSecondWriter(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "all", "--serve")
	dsn := "postgres:///postgres?user=yarnpost&host=" + filepath.Join(s.dir, "socket")
	other := &service{t: t, dir: dataDir(t), http: "127.0.0.1:0",
		dhcp4: netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(freePort(t, "udp"))),
		args:  []string{"--database", dsn, "--user", "postgres"}}
	out, code := other.tryStart()
	if code == 0 || !strings.Contains(out, "another service is using this database") {
		t.Errorf("the second service ended with %d and says:\n%s", code, out)
	}
	c := &demo.Client{Relay: s.relay("127.77.0.1", "10.77.0.1"), Hardware: hw(1)}
	if err := c.Get(context.Background()); err != nil {
		t.Errorf("the first service was disturbed: %v\n%s", err, s.log.String())
	}
}
