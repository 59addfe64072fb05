// Package work runs what a service does by itself: goroutines that end together, and work
// that is repeated. A panic in a piece of it ends that piece alone.
package work

import (
	"context"
	"fmt"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"
)

// Group is the work of one service.
type Group struct {
	ctx    context.Context
	cancel context.CancelFunc
	wait   sync.WaitGroup
	caught func(what string, fault any)
}

// New makes a group. What is caught is told of each panic, and of what it was about.
func New(caught func(what string, fault any)) *Group {
	g := &Group{caught: caught}
	g.ctx, g.cancel = context.WithCancel(context.Background())
	return g
}

// Context ends when the group stops.
func (g *Group) Context() context.Context { return g.ctx }

// Stopping reports whether the group was told to stop.
func (g *Group) Stopping() bool { return g.ctx.Err() != nil }

// Do runs f and comes back when that is done, or panicked.
func (g *Group) Do(what string, f func()) {
	defer func() {
		if fault := recover(); fault != nil {
			g.caught(what, fault)
		}
	}()
	f()
}

// Go runs f in a goroutine of its own. It should end soon after its context does.
func (g *Group) Go(what string, f func(ctx context.Context)) {
	g.wait.Go(func() { g.Do(what, func() { f(g.ctx) }) })
}

// Every runs f in a goroutine of its own each time that d has passed, until the group stops.
func (g *Group) Every(d time.Duration, what string, f func(ctx context.Context)) {
	g.Go(what, func(ctx context.Context) {
		t := time.NewTicker(d)
		defer t.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-t.C:
				g.Do(what, func() { f(ctx) })
			}
		}
	})
}

// Pause waits for d, or until the group stops.
func (g *Group) Pause(d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-g.ctx.Done():
	case <-t.C:
	}
}

// Stop ends the context of all that runs. It does not wait.
func (g *Group) Stop() { g.cancel() }

// Wait comes back once all that ran has ended.
func (g *Group) Wait() { g.wait.Wait() }

// SideBySide does something for each number below n, so many at a time, and comes back when all is
// done. A panic in a goroutine ends a program; here it becomes one of the caller, who is guarded.
func SideBySide(n, most int, f func(i int)) {
	var running sync.WaitGroup
	var fault atomic.Value
	turns := make(chan struct{}, max(most, 1))
	for i := range n {
		turns <- struct{}{}
		running.Go(func() {
			defer func() {
				if r := recover(); r != nil {
					fault.Store(fmt.Sprintf("%v\n%s", r, debug.Stack()))
				}
				<-turns
			}()
			f(i)
		})
	}
	running.Wait()
	if text := fault.Load(); text != nil {
		panic(text)
	}
}
