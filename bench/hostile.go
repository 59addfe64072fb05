package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"syscall"
	"time"

	"yarnpost/api"
)

// flood sends what is no DHCP message, as fast as one process can with a short
// rest now and then, until it is killed.
func flood(at string) error {
	conn, err := net.Dial("udp4", at)
	if err != nil {
		return err
	}
	junk := make([][]byte, 64)
	for i := range junk {
		junk[i] = make([]byte, 200+rand.IntN(400))
		for k := range junk[i] {
			junk[i][k] = byte(rand.Uint32())
		}
		if i%2 == 0 && len(junk[i]) >= 260 { // some of it looks right at first
			copy(junk[i], []byte{1, 1, 6, 0})
			copy(junk[i][236:], []byte{99, 130, 83, 99, 53, 1, 1, 82, 250})
			junk[i] = junk[i][:260]
		}
	}
	for n := 0; ; n++ {
		_, _ = conn.Write(junk[n%len(junk)])
		if n%20 == 0 {
			time.Sleep(time.Millisecond)
		}
	}
}

// underGarbage shows what a flood does to good clients.
func underGarbage(self string, udp netip.AddrPort, load *generator, span time.Duration, half float64) error {
	rate := half / 2
	fmt.Printf("\nGood clients at %.0f/s beside a flood of garbage:\n", rate)
	var quiet, loud []float64
	for range 3 {
		a := load.open(span, rate)
		cmd, err := child(os.Stderr, self, "-garbage", udp.String())
		if err != nil {
			return err
		}
		time.Sleep(200 * time.Millisecond)
		b := load.open(span, rate)
		cmd.Process.Kill()
		cmd.Wait()
		quiet, loud = append(quiet, a.percentile(0.5)), append(loud, b.percentile(0.5))
		fmt.Printf("  without: p50 %5.2f ms, lost %d of %d    with: p50 %5.2f ms, lost %d of %d\n", a.percentile(0.5), a.lost, a.done+a.lost,
			b.percentile(0.5), b.lost, b.done+b.lost)
	}
	fmt.Printf("  latency with ÷ without, medians        %.2f\n", median(loud)/median(quiet))
	return nil
}

// besideProbing runs this program again inside a network namespace of its own,
// where a link without anybody on it answers no probe.
func besideProbing(self string, span time.Duration) error {
	if os.Getuid() != 0 {
		fmt.Println("\nProbing is measured in a network namespace, which needs root: skipped.")
		return nil
	}
	ns := fmt.Sprintf("ypbench%d", os.Getpid()%10000)
	sh := func(args ...string) error {
		if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
			return fmt.Errorf("ip %v: %w: %s", args, err, out)
		}
		return nil
	}
	if err := sh("netns", "add", ns); err != nil {
		return err
	}
	defer func() { _ = sh("netns", "del", ns) }()
	for _, args := range [][]string{{"link", "set", "lo", "up"}, {"link", "add", "wire0", "type", "veth", "peer", "name", "wire1"},
		{"link", "set", "wire0", "up"}, {"link", "set", "wire1", "up"},
		{"addr", "add", "10.255.0.1/8", "dev", "wire0"}} {
		if err := sh(append([]string{"-n", ns}, args...)...); err != nil {
			return err
		}
	}
	cmd := exec.Command("ip", "netns", "exec", ns, self, "-probing", "-span", span.String())
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	return cmd.Run()
}

// probed measures exchanges with probing on and off, alternating.
func probed(span time.Duration) error {
	s, err := newService("--interface", "wire0")
	if err != nil {
		return err
	}
	defer s.close()
	set := func(on bool) error {
		_, err := s.client.Change(context.Background(),
			api.ChangeRequest{Edits: []api.Edit{{Op: "edit", Kind: "scope", Name: "bench", Scope: &api.ScopeEdit{Probe: &on}}}})
		return err
	}
	load, err := newGenerator(s.udp, false)
	if err != nil {
		return err
	}
	if err := set(false); err != nil {
		return err
	}
	load.closed(2*time.Second, 64) // clients that come back and renew later
	load.mixed = true
	const rate = 3000
	fmt.Printf("\nExchanges at %d/s, 90 %% renew, 9 %% come back, 1 %% are new; those that begin with an offer:\n", rate)
	var off, on []float64
	for i := range 4 {
		for _, probe := range []bool{false, true} {
			if err := set(probe); err != nil {
				return err
			}
			load.open(span/2, rate) // until the addresses ahead are probed
			r := load.open(span, rate)
			p50, p99 := percentile(r.offers, 0.5), percentile(r.offers, 0.99)
			fmt.Printf("  probing %-5v  p50 %5.2f ms   p99 %6.2f ms   offers %d, lost %d\n", probe, p50, p99, len(r.offers), r.lost)
			if i == 0 {
				continue // both warm up
			}
			if probe {
				on = append(on, p50)
			} else {
				off = append(off, p50)
			}
		}
	}
	fmt.Printf("  offers with probing ÷ without, p50     %.2f ×   (bar 1.2 ×, goal 1.05 ×)\n", median(on)/median(off))
	return nil
}
