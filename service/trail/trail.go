// Package trail keeps what people did: who, when, from where, and why. A database that is
// away holds up nobody: what was done meanwhile is kept until it is back.
package trail

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"yarnpost/service/store"
)

// Recorder is where deeds are recorded.
type Recorder interface {
	AddDeeds(ctx context.Context, list []store.Deed) error
}

// patience is for how long somebody who did something waits for it to be on record.
const patience = 2 * time.Second

// waitMost bounds what is kept while nothing can be recorded; the log has the rest.
const waitMost = 1000

// Trail keeps the trail of one service.
type Trail struct {
	to    Recorder
	log   *slog.Logger
	write sync.Mutex // one at a time, in order

	mu    sync.Mutex
	waits []store.Deed
}

// New makes the trail.
func New(to Recorder, log *slog.Logger) *Trail { return &Trail{to: to, log: log} }

// Add records a deed. It comes back once that is on record, or after a while: then it is
// recorded as soon as that can be done.
func (r *Trail) Add(ctx context.Context, d store.Deed) {
	if !r.keep(d) {
		r.log.Warn("what was done cannot be recorded, and too much waits for that", "who", d.Who, "from", d.Source, "deed", d.Deed,
			"subject", d.Subject, "reason", d.Reason)
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	r.Flush(ctx)
}

func (r *Trail) keep(d store.Deed) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.waits) >= waitMost {
		return false
	}
	r.waits = append(r.waits, d)
	return true
}

// Flush records what waits, if that can be done.
func (r *Trail) Flush(ctx context.Context) {
	r.write.Lock()
	defer r.write.Unlock()
	list := r.Waiting()
	if len(list) == 0 || r.to.AddDeeds(ctx, list) != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.waits = r.waits[len(list):]
}

// Waiting are deeds that are not on record yet.
func (r *Trail) Waiting() []store.Deed {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.waits[:len(r.waits):len(r.waits)]
}
