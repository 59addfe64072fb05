// Package clock is the service's one clock. It goes with the time
// that really passes, so that leases that stand are not ended, nor short ones
// kept, because somebody set the host's clock: it follows that clock through
// small corrections, and a step it only reports.
package clock

import (
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// Small is how far the host's clock may be off without being said to have
// stepped.
const Small = 2 * time.Second

// slew is how much of a small correction backwards is made at each look, so that
// the service's time never goes back.
const slew = 50 * time.Millisecond

// Reading is what the host's clocks say at one moment.
type Reading struct {
	Wall time.Time
	Mono time.Duration // since some moment; stands still while the host sleeps
	Boot time.Duration // since the host started, sleep included
}

// Clock tells the service's time. Make one with New; it is for any goroutine.
type Clock struct {
	read   func() Reading
	mono   func() time.Duration
	anchor atomic.Pointer[anchor]

	mu    sync.Mutex
	slept time.Duration // of Boot over Mono, as far as it is taken in
	step  Step
}

// anchor ties a moment of the service's time to the monotonic clock.
type anchor struct {
	at   time.Time
	mono time.Duration
}

// Step is how the host's clock stands to the service's time.
type Step struct {
	By time.Duration // the host's clock is ahead by that much; 0 while they agree
	At time.Time     // when that was noticed
}

var started = time.Now()

// host reads the clocks of the host.
func host() Reading {
	r := Reading{Wall: time.Now(), Mono: time.Since(started)}
	var ts unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts) == nil {
		r.Boot = time.Duration(ts.Nano())
	} else {
		r.Boot = r.Mono
	}
	return r
}

// New is a clock that begins with what the host's clock says.
func New() *Clock { return With(host, func() time.Duration { return time.Since(started) }) }

// With is a clock over other readings, for tests.
func With(read func() Reading, mono func() time.Duration) *Clock {
	c := &Clock{read: read, mono: mono}
	r := read()
	c.slept = r.Boot - r.Mono
	c.anchor.Store(&anchor{r.Wall.Round(0), r.Mono})
	return c
}

// Now is the service's time.
func (c *Clock) Now() time.Time {
	a := c.anchor.Load()
	return a.at.Add(c.mono() - a.mono)
}

// Deadline is a moment for the network's time limits, which go by the host's own
// clock.
func Deadline(d time.Duration) time.Time { return time.Now().Add(d) }

// Since is what passed since a moment of the service's time.
func (c *Clock) Since(t time.Time) time.Duration { return c.Now().Sub(t) }

// Watch looks at the host's clocks: call it about once a second. It reports
// whether a step was noticed just now.
func (c *Clock) Watch() (step Step, stepped bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	r := c.read()
	a := *c.anchor.Load()
	now := a.at.Add(r.Mono - a.mono)
	if slept := r.Boot - r.Mono - c.slept; slept > time.Second { // time went on while the host slept
		c.slept += slept
		now = now.Add(slept)
	}
	off := r.Wall.Sub(now)
	switch {
	case off >= 0 && off <= Small:
		now, c.step = now.Add(off), Step{}
	case off < 0 && off >= -Small:
		now, c.step = now.Add(max(off, -slew)), Step{}
	default:
		if stepped = (off - c.step.By).Abs() > Small; stepped {
			c.step = Step{off, now}
		} else {
			c.step.By = off
		}
	}
	c.anchor.Store(&anchor{now.Round(0), r.Mono})
	return c.step, stepped
}

// Step says how the host's clock stands to the service's time.
func (c *Clock) Step() Step {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.step
}

// Mark ties the service's time to the time since the host started, so that the
// next start of the service can tell how much time really passed.
type Mark struct {
	Host string        // of one start of the host
	Boot time.Duration // since then
	At   time.Time     // the service's time at that moment
}

// Mark is the present one.
func (c *Clock) Mark() Mark { return Mark{hostID(), c.read().Boot, c.Now()} }

// Shift is by how much the host's clock was set since a mark was made, beyond
// the time that passed; 0 if the host was started meanwhile, since then nothing
// tells.
func (c *Clock) Shift(m Mark) time.Duration {
	r := c.read()
	if m.Host == "" || m.Host != hostID() || m.At.IsZero() {
		return 0
	}
	off := c.Now().Sub(m.At.Add(r.Boot - m.Boot))
	if off.Abs() <= Small {
		return 0
	}
	return off
}

func hostID() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}
