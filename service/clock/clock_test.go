package clock

import (
	"testing"
	"time"
)

// fake is a host whose clocks a test sets.
type fake struct{ Reading }

func (f *fake) pass(d time.Duration) {
	f.Wall, f.Mono, f.Boot = f.Wall.Add(d), f.Mono+d, f.Boot+d
}

func newFake() (*fake, *Clock) {
	f := &fake{Reading{time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC), time.Hour, time.Hour}}
	return f, With(func() Reading { return f.Reading }, func() time.Duration { return f.Mono })
}

// However the host's clock is set, the service's time goes with what passes.
func TestSteps(t *testing.T) {
	for _, by := range []time.Duration{time.Hour, -time.Hour, 7 * 24 * time.Hour, -7 * 24 * time.Hour, 50 * 365 * 24 * time.Hour} {
		f, c := newFake()
		begun := c.Now()
		for range 10 {
			f.pass(time.Second)
			if _, stepped := c.Watch(); stepped {
				t.Fatal("a step is seen where there is none")
			}
		}
		f.Wall = f.Wall.Add(by)
		if s, stepped := c.Watch(); !stepped || s.By != by {
			t.Errorf("a step by %s is seen as %s, %v", by, s.By, stepped)
		}
		f.pass(time.Second)
		if _, stepped := c.Watch(); stepped {
			t.Error("one step is told twice")
		}
		if got := c.Since(begun); got != 11*time.Second {
			t.Errorf("after a step by %s, 11 s took %s", by, got)
		}
		f.Wall = f.Wall.Add(-by) // set right again
		f.pass(time.Second)
		c.Watch()
		if c.Step().By != 0 || c.Since(begun) != 12*time.Second {
			t.Errorf("after both steps by %s: %+v, %s", by, c.Step(), c.Since(begun))
		}
	}
}

// Small corrections are followed, and time never goes back.
func TestSmallCorrections(t *testing.T) {
	f, c := newFake()
	f.Wall = f.Wall.Add(time.Second)
	c.Watch()
	if !c.Now().Equal(f.Wall) {
		t.Errorf("a second ahead, the service says %s and the host %s", c.Now(), f.Wall)
	}
	f.Wall = f.Wall.Add(-time.Second)
	for range 30 {
		before := c.Now()
		f.pass(time.Second)
		c.Watch()
		if !c.Now().After(before) {
			t.Fatal("time went back")
		}
	}
	if !c.Now().Equal(f.Wall) {
		t.Errorf("half a minute later the service says %s and the host %s", c.Now(), f.Wall)
	}
}

// While the host sleeps, time passes for clients all the same.
func TestSleep(t *testing.T) {
	f, c := newFake()
	begun := c.Now()
	f.Wall, f.Boot = f.Wall.Add(3*time.Hour), f.Boot+3*time.Hour
	if _, stepped := c.Watch(); stepped || c.Since(begun) != 3*time.Hour {
		t.Errorf("after three hours of sleep %s have passed, a step: %v", c.Since(begun), stepped)
	}
}

// The next start of the service knows what passed while it was away, and by how
// much the host's clock was set.
func TestMark(t *testing.T) {
	f, c := newFake()
	m := c.Mark()
	if m.Host == "" {
		t.Skip("this host does not tell its starts apart")
	}
	f.pass(time.Minute)
	again := func() *Clock {
		return With(func() Reading { return f.Reading }, func() time.Duration { return f.Mono })
	}
	if d := again().Shift(m); d != 0 {
		t.Errorf("shift %s where nothing was set", d)
	}
	f.Wall = f.Wall.Add(-time.Hour)
	if d := again().Shift(m); d != -time.Hour {
		t.Errorf("shift %s, want -1h", d)
	}
	m.Host = "another start"
	if d := again().Shift(m); d != 0 {
		t.Errorf("shift %s across a start of the host", d)
	}
}
