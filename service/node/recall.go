package node

import (
	"bytes"
	"context"
	"encoding/gob"
	"fmt"
	"maps"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// recalled is what a restart does not make the service forget. Leases are not of
// it: they are in the journal.
type recalled struct {
	Unserved   []recalledClient
	Relays     map[netip.Addr]Pulse
	Fits       map[plan.ID]Fits
	Agreements []Agreement
	Rivals     []recalledRival
	Trials     map[string][]TrialResult
}

type recalledClient struct {
	From   string
	Client Unserved
}

type recalledRival struct {
	Link  plan.ID
	Rival Rival
}

// recallPause is the time between two savings of what is remembered; a clean stop
// saves it, too.
const recallPause = 5 * time.Minute

// saveRecall keeps what is remembered.
func (n *Node) saveRecall(ctx context.Context) error {
	r := recalled{Relays: map[netip.Addr]Pulse{}, Fits: map[plan.ID]Fits{}, Trials: map[string][]TrialResult{}}
	e := n.engine
	e.mu.Lock()
	for k, c := range e.unserved.clients.all() { // what is listed never changes, it is replaced
		r.Unserved = append(r.Unserved, recalledClient{k.from, *c})
	}
	for a, p := range e.relays.all() {
		r.Relays[a] = *p
	}
	for id, f := range e.fits {
		r.Fits[id] = *f
	}
	for _, a := range e.shadow.clients.all() {
		r.Agreements = append(r.Agreements, *a)
	}
	for k, v := range e.shadow.rivals.all() {
		of := *v
		of.Chosen = maps.Clone(v.Chosen)
		r.Rivals = append(r.Rivals, recalledRival{k.link, of})
	}
	e.mu.Unlock()
	n.trials.mu.Lock()
	for name, list := range n.trials.results {
		r.Trials[name] = append([]TrialResult(nil), list...)
	}
	n.trials.mu.Unlock()
	var b bytes.Buffer
	if err := gob.NewEncoder(&b).Encode(r); err != nil {
		return fmt.Errorf("keep what is remembered: %w", err)
	}
	return n.store.SaveRecall(ctx, n.clock.Now(), b.Bytes())
}

// loadRecall brings back what is remembered. What cannot be read is forgotten:
// nothing depends on it.
func (n *Node) loadRecall(ctx context.Context) error {
	body, at, err := n.store.LoadRecall(ctx)
	if err != nil || body == nil {
		return err
	}
	var r recalled
	if err := gob.NewDecoder(bytes.NewReader(body)).Decode(&r); err != nil {
		n.log.Warn("what was remembered of unserved clients, relays and trials cannot be read and is forgotten", "err", err)
		return nil
	}
	e := n.engine
	e.mu.Lock()
	for _, c := range r.Unserved {
		e.unserved.clients.put(unservedKey{c.Client.Client, c.From}, &c.Client)
	}
	e.unserved.age(lease.At(n.clock.Now()))
	away := max(lease.Time(n.clock.Since(at)/time.Second), 0)
	for a, p := range r.Relays {
		p.Last += away // nobody was silent while nobody listened
		e.relays.put(a, &p)
	}
	for id, f := range r.Fits {
		e.fits[id] = &f
	}
	for _, a := range r.Agreements {
		e.shadow.clients.put(a.Client, &a)
	}
	for _, v := range r.Rivals {
		if v.Rival.Chosen == nil {
			v.Rival.Chosen = map[addr.Hardware]lease.Time{}
		}
		e.shadow.rivals.put(rivalKey{v.Link, v.Rival.Server}, &v.Rival)
	}
	e.mu.Unlock()
	n.trials.mu.Lock()
	n.trials.results = r.Trials
	if n.trials.results == nil {
		n.trials.results = map[string][]TrialResult{}
	}
	n.trials.mu.Unlock()
	return nil
}
