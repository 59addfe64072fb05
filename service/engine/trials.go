package engine

import (
	"net/netip"
	"sync"
)

// trialSeats are the sockets of trials under way: what comes from one of them is
// known to be this service's own.
type trialSeats struct {
	mu sync.Mutex
	at map[netip.AddrPort]bool
}

func (t *trialSeats) has(a netip.AddrPort) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.at[a]
}

// BeginTrial makes what comes from a socket of this service's that of a trial: its
// relay is taken for the link's own. Call end when the trial is over.
func (e *Engine) BeginTrial(from netip.AddrPort) (end func()) {
	t := &e.trials
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.at == nil {
		t.at = map[netip.AddrPort]bool{}
	}
	t.at[from] = true
	return func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		delete(t.at, from)
	}
}
