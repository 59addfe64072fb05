package main

import (
	"flag"
	"fmt"
	"net/netip"
	"os"
	"time"
)

func main() {
	seed := flag.Uint64("seed", 1, "the first seed")
	seeds := flag.Int("seeds", 1, "how many seeds, one after the other")
	n := flag.Int("events", 300_000, "events of each seed")
	off := flag.Int("off", 0, "rule to switch off, 1 to 7")
	trace := flag.Int("trace", 60, "how much of what happened last a failure tells")
	watch := flag.String("watch", "", "an address of which everything is told")
	flag.Parse()
	watched, _ := netip.ParseAddr(*watch)
	began, all := time.Now(), 0
	var sum counts
	for i := range *seeds {
		w := NewWorld(Options{Seed: *seed + uint64(i), Events: *n, Off: *off, Watch: watched, Trace: *trace})
		err := w.Run()
		all += w.done
		sum.add(w.counts)
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
	}
	took := time.Since(began)
	fmt.Printf("%d seeds, %d events in %.1f s: %.0f a second\n%+v\n", *seeds, all, took.Seconds(), float64(all)/took.Seconds(), sum)
}
