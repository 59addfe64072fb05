package engine

import (
	"encoding/hex"
	"fmt"
	"runtime/debug"
)

// Guard ends a panic where it is deferred: it is counted and logged with what it
// was about, and the service goes on. What is about may be nil.
func (e *Engine) Guard(what string, about []byte) {
	if fault := recover(); fault != nil {
		e.panicked(what, about, fault)
	}
}

// Caught notes a panic that was caught in work beside the engine.
func (e *Engine) Caught(what string, fault any) { e.panicked(what, nil, fault) }

// guarded runs f; a panic ends f alone.
func (e *Engine) guarded(what string, f func()) {
	defer e.Guard(what, nil)
	f()
}

func (e *Engine) panicked(what string, about []byte, fault any) {
	e.metrics.panics.Inc()
	e.faults.Add(1)
	e.log.Error("a fault of the program was caught; please report it", "in", what, "fault", fmt.Sprint(fault), "about",
		hex.EncodeToString(about), "stack", string(debug.Stack()))
}

// Panics counts the faults of the program that were caught since the start.
func (e *Engine) Panics() int { return int(e.faults.Load()) }
