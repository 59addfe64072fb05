// Package logs keeps a flood of one kind of event from filling the log: of lines that say
// the same, some are written at once and then a few a minute, and the next that is written
// says how many were left out.
package logs

import (
	"context"
	"log/slog"
	"sync"

	"golang.org/x/time/rate"
)

// Limits of lines of one kind, which is a level and a message.
const (
	burst     = 30
	perSecond = 0.2
	kindsMost = 1000 // beyond that lines are written as they come: messages are few
)

// Limited is a handler that leaves lines out.
type Limited struct {
	slog.Handler
	kinds *kinds
}

type kinds struct {
	mu sync.Mutex
	of map[kind]*budget
}

type kind struct {
	level   slog.Level
	message string
}

type budget struct {
	*rate.Limiter
	left int // out
}

// Limit puts a limit in front of a handler.
func Limit(h slog.Handler) *Limited { return &Limited{h, &kinds{of: map[kind]*budget{}}} }

// Handle writes a line, unless there were too many of its kind.
func (l *Limited) Handle(ctx context.Context, r slog.Record) error {
	left, write := l.kinds.take(kind{r.Level, r.Message}, r)
	if !write {
		return nil
	}
	if left > 0 {
		r = r.Clone()
		r.AddAttrs(slog.Int("of the same left out", left))
	}
	return l.Handler.Handle(ctx, r)
}

func (k *kinds) take(of kind, r slog.Record) (left int, write bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	b := k.of[of]
	if b == nil {
		if len(k.of) >= kindsMost {
			return 0, true
		}
		b = &budget{Limiter: rate.NewLimiter(perSecond, burst)}
		k.of[of] = b
	}
	if !b.AllowN(r.Time, 1) {
		b.left++
		return 0, false
	}
	left, b.left = b.left, 0
	return left, true
}

// WithAttrs is the handler with attributes; the limit is shared.
func (l *Limited) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &Limited{l.Handler.WithAttrs(attrs), l.kinds}
}

// WithGroup is the handler with a group; the limit is shared.
func (l *Limited) WithGroup(name string) slog.Handler {
	return &Limited{l.Handler.WithGroup(name), l.kinds}
}
