package main

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// Many seeds, a short while each: no promise is broken, and in the end all agree.
func TestSeeds(t *testing.T) {
	worlds := make([]*World, 12)
	t.Run("of", func(t *testing.T) {
		for n := range worlds {
			t.Run(fmt.Sprint(n+1), func(t *testing.T) {
				t.Parallel()
				worlds[n] = NewWorld(Options{Seed: uint64(n + 1), Events: 150_000})
				if err := worlds[n].Run(); err != nil {
					t.Error(err)
				}
			})
		}
	})
	sum := counts{}
	for _, w := range worlds {
		sum.add(w.counts)
	}
	// A simulation in which nothing happens would find nothing.
	for what, n := range map[string]int{"acknowledgements": sum.acks, "refusals": sum.naks, "crashes": sum.crashes, "lost disks": sum.losses,
		"cuts": sum.cuts, "partners declared down": sum.downs, "plans": sum.plans, "failed commits": sum.failures, "doubts": sum.doubts, "hangs": sum.hangs} {
		if n == 0 {
			t.Errorf("there were no %s", what)
		}
	}
}

// A seed tells the same story each time, in other processes too: there, maps and hashes go
// another way round.
func TestRepeat(t *testing.T) {
	const asked = "YARNPOST_SIM_STORY"
	if os.Getenv(asked) != "" {
		w := NewWorld(Options{Seed: 7, Events: 60_000, Trace: 2000})
		if err := w.Run(); err != nil {
			t.Fatal(err)
		}
		fmt.Println(w.story())
		return
	}
	story := func() string {
		c := exec.Command(os.Args[0], "-test.run=^TestRepeat$")
		c.Env = append(os.Environ(), asked+"=1")
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		text, _, _ := strings.Cut(string(out), "\nPASS")
		return text
	}
	first := story()
	for range 2 {
		if other := story(); other != first {
			t.Fatalf("one seed, two stories:\n%s\n\n%s", first, other)
		}
	}
}

// Without any one of the rules, something goes wrong: so each is needed, and the
// simulation would notice if it were broken.
func TestEachRuleIsNeeded(t *testing.T) {
	for _, rule := range []struct {
		number int
		seed   uint64 // that finds it soon
	}{{1, 1}, {2, 1}, {3, 1}, {4, 3}, {5, 1}, {6, 45}, {7, 3}, {8, 7}, {9, 16}, {10, 1}} {
		t.Run(fmt.Sprint(rule.number), func(t *testing.T) {
			t.Parallel()
			for seed := rule.seed; seed < rule.seed+40; seed++ {
				err := NewWorld(Options{Seed: seed, Events: 300_000, Off: rule.number}).Run()
				if err == nil {
					continue
				}
				if t.Logf("seed %d: %v", seed, err); !strings.Contains(err.Error(), "make sim SEED=") || !strings.Contains(err.Error(), "OFF=") {
					t.Errorf("it does not say how to repeat it: %v", err)
				}
				return
			}
			t.Errorf("without rule %d nothing goes wrong", rule.number)
		})
	}
}
