package work

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// A panic ends a piece of work alone: what is repeated goes on, and stopping waits for all.
func TestPanicsAreCaught(t *testing.T) {
	caught := make(chan string, 10)
	g := New(func(what string, fault any) { caught <- fmt.Sprint(what, ": ", fault) })
	runs := make(chan int, 10)
	n := 0
	g.Every(time.Millisecond, "a look", func(context.Context) {
		if n++; n == 2 {
			panic("no luck")
		}
		if n <= 3 {
			runs <- n
		}
	})
	for _, want := range []int{1, 3} {
		if got := <-runs; got != want {
			t.Errorf("run %d, want %d", got, want)
		}
	}
	g.Go("a job", func(context.Context) { panic("worse") })
	var said []string
	for range 2 {
		said = append(said, <-caught)
	}
	slices.Sort(said)
	if !slices.Equal(said, []string{"a job: worse", "a look: no luck"}) {
		t.Errorf("caught %q", said)
	}
	ended := false
	g.Go("what takes its time", func(ctx context.Context) {
		<-ctx.Done()
		time.Sleep(5 * time.Millisecond)
		ended = true
	})
	g.Stop()
	g.Wait()
	if !ended || !g.Stopping() {
		t.Error("stopping did not wait")
	}
	g.Pause(time.Hour) // of a group that stopped is none
}

// What is done side by side is done once each, so many at a time, and a panic is the caller's.
func TestSideBySide(t *testing.T) {
	var done [50]atomic.Int32
	var now, most atomic.Int32
	SideBySide(len(done), 4, func(i int) {
		most.Store(max(most.Load(), now.Add(1)))
		time.Sleep(time.Millisecond)
		done[i].Add(1)
		now.Add(-1)
	})
	for i := range done {
		if n := done[i].Load(); n != 1 {
			t.Errorf("number %d was done %d times", i, n)
		}
	}
	if n := most.Load(); n > 4 {
		t.Errorf("%d at a time", n)
	}
	SideBySide(0, 4, func(int) { t.Error("nothing is to be done") })
	var after atomic.Int32
	func() {
		defer func() {
			if fault := recover(); fault == nil || !strings.Contains(fmt.Sprint(fault), "the seventh") {
				t.Errorf("the caller caught %v", fault)
			}
		}()
		SideBySide(20, 2, func(i int) {
			if i == 7 {
				panic("the seventh")
			}
			after.Add(1)
		})
	}()
	if after.Load() != 19 {
		t.Errorf("beside the one that panicked %d were done", after.Load())
	}
}
