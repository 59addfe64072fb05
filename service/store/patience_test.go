package store

import (
	"context"
	"testing"
	"time"
)

// What waits for a database ends once it gives no sign, what begins meanwhile ends at
// once, and what begins later is let alone.
func TestPatience(t *testing.T) {
	p := newPatience()
	over := func(ctx context.Context) bool {
		select {
		case <-ctx.Done():
			return true
		case <-time.After(50 * time.Millisecond):
			return false
		}
	}
	mine, cancel := context.WithCancel(context.Background())
	first, other := p.begin(context.Background()), p.begin(mine)
	if over(first) {
		t.Error("a use of the database ends by itself")
	}
	if cancel(); !over(other) || over(first) {
		t.Error("a use whose asker went goes on, or takes another with it")
	}
	p.end(other)
	done := p.begin(context.Background())
	p.end(done)
	p.set(true)
	if p.set(true); !over(first) {
		t.Error("a use goes on although the database gives no sign")
	}
	p.end(first)
	if meanwhile := p.begin(context.Background()); meanwhile.Err() == nil {
		t.Error("the database is asked although it gives no sign")
	}
	p.set(false)
	later := p.begin(context.Background())
	if p.set(false); over(later) {
		t.Error("with the database back, a use is given up")
	}
	p.end(later)
}
