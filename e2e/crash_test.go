package e2e

import (
	"context"
	"fmt"
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

	"yarnpost/core/addr"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/demo"
	"yarnpost/service/trial"
)

// promises are the leases that clients were ever acknowledged.
type promises struct {
	mu sync.Mutex
	of map[string]promise // by address
}

type promise struct {
	who     string // hardware address, or DUID
	expires time.Time
}

// given is what a client was acknowledged.
type given struct {
	address, who string
	lease        time.Duration
}

// getter has client n served.
type getter func(ctx context.Context, n int) ([]given, error)

// over4 is how clients of IPv4 are served through a relay.
func over4(r *demo.Relay) getter {
	return func(ctx context.Context, n int) ([]given, error) {
		c := &demo.Client{Relay: r, Hardware: hw(n), Patience: 3 * time.Second}
		err := c.Get(ctx)
		return []given{{c.Address.String(), c.Hardware.String(), c.Lease}}, err
	}
}

// over6 is how clients of IPv6 are served, each with an address and a prefix.
func over6(r *relay6) getter {
	return func(ctx context.Context, n int) (out []given, err error) {
		c := &trial.Client6{Relay: r.Relay6, DUID: duid6(n), Patience: 3 * time.Second,
			Asks: []dhcp6.IA{{Code: option.IANA, ID: 1}, {Code: option.IAPD, ID: 2}}}
		err = c.Get(ctx)
		for _, ia := range c.Holds {
			for _, l := range ia.Leases {
				out = append(out, given{addr.FormatKey(l.Prefix), addr.DUID(c.DUID).String(), time.Duration(l.Valid) * time.Second})
			}
		}
		return out, err
	}
}

// load keeps clients coming until the context ends, and notes what each was
// acknowledged.
func load(ctx context.Context, s *service, get getter, first int, p *promises, wg *sync.WaitGroup) {
	for w := range 24 {
		wg.Go(func() {
			for n := first + w; ctx.Err() == nil; n += 24 {
				for range 3 { // as a client does, it tries again
					all, err := get(ctx, n)
					if err != nil {
						continue
					}
					p.mu.Lock()
					for _, g := range all {
						if old, twice := p.of[g.address]; twice {
							s.t.Errorf("%s was given to %s and to %s", g.address, old.who, g.who)
						}
						p.of[g.address] = promise{g.who, time.Now().Add(g.lease)}
					}
					p.mu.Unlock()
					break
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
		if !ok || l.Status != "active" || l.Hardware != want.who && l.DUID != want.who || l.Expires.Before(want.expires.Add(-5*time.Second)) {
			if lost++; lost <= 3 {
				s.t.Errorf("%s: %s was acknowledged to %s until %v; the table says %+v", when, a, want.who, want.expires, l)
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

// bothFamilies is a service with a large scope of each family, and a pool of prefixes.
func bothFamilies(t *testing.T) *service {
	t.Helper()
	s := startService(t, "--dhcp6", fmt.Sprintf("[::1]:%d", freePort6(t)))
	s.must("scope", "add", "looms", "--subnet", "10.64.0.0/12", "--pool", "all", "--lease", "8h", "--serve")
	s.must("scope", "add", "looms6", "--subnet", "2001:db8:1::/64", "--pool", "all", "--prefix-pool", "2001:db8:8000::/34 in /56", "--lease",
		"8h", "--serve")
	s.must("link", "edit", "looms6", "--relay", "2001:db8:1::1")
	return s
}

// kill -9 of the service under load, again and again: no acknowledged lease is
// forgotten, and no address is given twice.
func TestKilledService(t *testing.T) {
	t.Parallel()
	s := bothFamilies(t)
	p := &promises{of: map[string]promise{}}
	for round := range crashRounds() {
		ctx, stop := context.WithCancel(context.Background())
		var wg sync.WaitGroup
		load(ctx, s, over4(s.relay("127.77.0.1", "10.64.0.1")), 1+round*1_000_000, p, &wg)
		load(ctx, s, over6(s.relay6("2001:db8:1::1")), 1+round*1_000_000, p, &wg)
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
	s := bothFamilies(t)
	p := &promises{of: map[string]promise{}}
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	load(ctx, s, over4(s.relay("127.77.0.1", "10.64.0.1")), 1, p, &wg)
	load(ctx, s, over6(s.relay6("2001:db8:1::1")), 1, p, &wg)
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
	s := bothFamilies(t)
	p := &promises{of: map[string]promise{}}
	r, six := s.relay("127.77.0.1", "10.64.0.1"), s.relay6("2001:db8:1::1")
	ctx, stop := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	load(ctx, s, over4(r), 1, p, &wg)
	load(ctx, s, over6(six), 1, p, &wg)
	steady6 := &trial.Client6{Relay: six.Relay6, DUID: duid6(9_000_000), Patience: 2 * time.Second,
		Asks: []dhcp6.IA{{Code: option.IANA, ID: 1}, {Code: option.IAPD, ID: 2}}}
	if err := steady6.Get(ctx); err != nil {
		t.Fatal(err)
	}
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
		if err := steady6.Renew(ctx); err != nil || len(steady6.Holds) != 2 || steady6.Lease() > 8*time.Hour {
			t.Errorf("round %d: without a database the renewal of IPv6 got %+v, %v", round+1, steady6.Holds, err)
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
