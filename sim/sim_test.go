package main

import (
	"strings"
	"testing"
)

// Many seeds, a short while each: no promise is broken, and in the end all agree.
func TestSeeds(t *testing.T) {
	sum := counts{}
	for seed := range uint64(12) {
		w := NewWorld(Options{Seed: seed + 1, Events: 150_000})
		if err := w.Run(); err != nil {
			t.Fatal(err)
		}
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

// A seed tells the same story each time.
func TestRepeat(t *testing.T) {
	story := func() string {
		w := NewWorld(Options{Seed: 5, Events: 60_000})
		if err := w.Run(); err != nil {
			t.Fatal(err)
		}
		return w.story()
	}
	if a, b := story(), story(); a != b {
		t.Errorf("one seed, two stories:\n%s\n\n%s", a, b)
	}
}

// Without any one of the rules, something goes wrong: so each is needed, and the
// simulation would notice if it were broken.
func TestEachRuleIsNeeded(t *testing.T) {
	for _, rule := range []struct {
		number int
		seed   uint64 // that finds it soon
	}{{1, 1}, {2, 1}, {3, 1}, {4, 3}, {5, 1}, {6, 47}, {7, 3}} {
		found := false
		for seed := rule.seed; seed < rule.seed+40 && !found; seed++ {
			err := NewWorld(Options{Seed: seed, Events: 300_000, Off: rule.number}).Run()
			if found = err != nil; found && (!strings.Contains(err.Error(), "make sim SEED=") || !strings.Contains(err.Error(), "OFF=")) {
				t.Errorf("rule %d: it does not say how to repeat it: %v", rule.number, err)
			}
		}
		if !found {
			t.Errorf("without rule %d nothing goes wrong", rule.number)
		}
	}
}
