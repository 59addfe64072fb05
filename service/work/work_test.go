package work

import (
	"context"
	"fmt"
	"slices"
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
