// Command bench measures a real service process with a real, durable database
// over real UDP on loopback, side by side with what bounds it, and prints
// ratios: machines differ, ratios in one run do not.
package main

import (
	"flag"
	"fmt"
	"net"
	"os"
	"runtime"
	"runtime/debug"
	"slices"
	"time"
)

func main() {
	echo := flag.String("echo", "", "be a bare UDP echo loop at this address")
	pairs := flag.Int("pairs", 5, "alternating pairs of echo and service")
	span := flag.Duration("span", 4*time.Second, "length of one measurement")
	garbage := flag.String("garbage", "", "flood this address with what is no DHCP message")
	scale := flag.Bool("scale", false, "measure a big network alone: start, changes, pages, what holds clients up")
	six := flag.Bool("six", false, "measure exchanges of both families alone")
	two := flag.Bool("pair", false, "measure a pair alone")
	ahead := flag.Bool("forecast", false, "score forecasts alone")
	probing := flag.Bool("probing", false, "measure probing alone, inside a network namespace made for it")
	flag.Parse()
	if *garbage != "" {
		fmt.Fprintln(os.Stderr, "bench:", flood(*garbage))
		os.Exit(1)
	}
	if *echo != "" {
		fmt.Fprintln(os.Stderr, "bench:", echoLoop(*echo))
		os.Exit(1)
	}
	debug.SetGCPercent(2000) // its collections would be measured as latency
	runtime.GOMAXPROCS(1)    // the generator is one loop; a second thread would only take time from what is measured
	do := func() error { return run(*pairs, *span, *six) }
	if *ahead {
		forecasts()
		return
	}
	if *scale {
		do = atScale
	}
	if *two {
		do = func() error { return asPair(*span) }
	}
	if *probing {
		do = func() error { return probed(*span) }
	}
	if err := do(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// echoLoop sends every datagram back to where it came from.
func echoLoop(at string) error {
	a, err := net.ResolveUDPAddr("udp", at)
	if err != nil {
		return err
	}
	conn, err := net.ListenUDP("udp", a)
	if err != nil {
		return err
	}
	_ = conn.SetReadBuffer(8 << 20)
	buf := make([]byte, 2048)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return err
		}
		if _, err := conn.WriteToUDPAddrPort(buf[:n], from); err != nil {
			return err
		}
	}
}

func run(pairs int, span time.Duration, brief bool) error {
	fmt.Println("Building and starting the service …")
	s, err := newService()
	if err != nil {
		return err
	}
	defer s.close()
	self, err := os.Executable()
	if err != nil {
		return err
	}
	echoAt, err := freePort("udp")
	if err != nil {
		return err
	}
	echo, err := child(os.Stderr, self, "-echo", echoAt.String())
	if err != nil {
		return err
	}
	defer func() { echo.Process.Kill(); echo.Wait() }()
	time.Sleep(200 * time.Millisecond)

	ceiling, err := newGenerator(echoAt, true)
	if err != nil {
		return err
	}
	load, err := newGenerator(s.udp, false)
	if err != nil {
		return err
	}
	fmt.Println("Warming up …")
	if err := s.settleLog(); err != nil {
		return err
	}
	load.closed(2*time.Second, outstanding)
	ceiling.closed(time.Second, outstanding)

	fmt.Printf("\nDurable exchanges of four messages, %d outstanding, every client new:\n", outstanding)
	var ratios, rates []float64
	for i := range pairs {
		e, d := ceiling.closed(span, outstanding), load.closed(span, outstanding)
		ratios, rates = append(ratios, d.rate()/e.rate()), append(rates, d.rate())
		fmt.Printf("  pair %d: echo %7.0f/s   service %7.0f/s   ratio %.3f   sent again %d\n", i+1, e.rate(), d.rate(), d.rate()/e.rate(),
			d.again)
	}
	fmt.Printf("  service ÷ echo, median                 %.3f   (bar 0.20, goal 0.40)\n", median(ratios))

	if err := s.throughSix(self, pairs, span); err != nil || brief {
		return err
	}

	logged, err := s.logged()
	if err != nil {
		return err
	}
	done := load.closed(span, outstanding).done
	end, err := s.logged()
	if err != nil {
		return err
	}
	each := int((end - logged) / int64(done))

	half := median(rates) / 2
	fmt.Printf("\nLatency of an exchange, open loop at %.0f/s (half of the maximum), and that of a bare loop that syncs as many octets, %d each:\n", half, each)
	var p50s, p99s, bare50s, bare99s []float64
	for range 3 {
		r := load.open(span, half)
		bare, err := syncing(s.dir, span, half, each)
		if err != nil {
			return err
		}
		p50, p99, bare50, bare99 := r.percentile(0.50), r.percentile(0.99), percentile(bare, 0.50), percentile(bare, 0.99)
		p50s, p99s, bare50s, bare99s = append(p50s, p50), append(p99s, p99), append(bare50s, bare50), append(bare99s, bare99)
		fmt.Printf("  p50 %6.2f ms   p99 %6.2f ms   done %d, lost %d      bare p50 %6.2f ms   p99 %6.2f ms\n", p50, p99, r.done, r.lost, bare50,
			bare99)
	}
	bare := ceiling.open(span, half)
	fmt.Printf("  (the echo loop at the same rate on this machine: p50 %.2f ms, p99 %.2f ms)\n", bare.percentile(0.50), bare.percentile(0.99))
	fmt.Printf("  median of three: p50 %.2f ms, p99 %.2f ms   (bar 2 / 10, goal 1 / 5)      bare p50 %.2f ms, p99 %.2f ms\n", median(p50s),
		median(p99s), median(bare50s), median(bare99s))

	if err := underGarbage(self, s.udp, load, span, half); err != nil {
		return err
	}
	if err := besideProbing(self, span); err != nil {
		return err
	}
	if err := atScale(); err != nil {
		return err
	}
	if err := asPair(span); err != nil {
		return err
	}
	forecasts()
	fmt.Println("\nThe database's work:")
	if err := s.databaseWork(load, span); err != nil {
		return err
	}
	single, err := s.oneByOne(span)
	if err != nil {
		return err
	}
	fmt.Printf("\nOne commit for each lease, same driver and schema, one connection: %.0f/s\n", single)
	fmt.Printf("  service ÷ one commit a lease           %.1f ×   (bar 5 ×, goal 8 ×)\n", median(rates)/single)
	return nil
}

func median(v []float64) float64 {
	s := slices.Sorted(slices.Values(v))
	return s[len(s)/2]
}
