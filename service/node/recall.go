package node

import (
	"bytes"
	"context"
	"encoding/gob"
	"fmt"
	"time"

	"yarnpost/core/audit"
	"yarnpost/core/lease"
	"yarnpost/service/observe"
	"yarnpost/service/trials"
)

// recalled is what a restart does not make the service forget. Leases are not of
// it: they are in the journal.
type recalled struct {
	Seen   observe.Memory
	Trials map[string][]trials.Result
	Named  []audit.Neighbour
}

// recallPause is the time between two savings of what is remembered; a clean stop
// saves it, too.
const recallPause = 5 * time.Minute

// saveRecall keeps what is remembered.
func (n *Node) saveRecall(ctx context.Context) error {
	r := recalled{Seen: n.Engine.Memory(), Trials: n.Trials.All(), Named: n.Facts.Named()}
	var b bytes.Buffer
	if err := gob.NewEncoder(&b).Encode(r); err != nil {
		return fmt.Errorf("keep what is remembered: %w", err)
	}
	return n.Store.SaveRecall(ctx, n.Clock.Now(), b.Bytes())
}

// loadRecall brings back what is remembered. What cannot be read is forgotten:
// nothing depends on it.
func (n *Node) loadRecall(ctx context.Context) error {
	body, at, err := n.Store.LoadRecall(ctx)
	if err != nil || body == nil {
		return err
	}
	var r recalled
	if err := gob.NewDecoder(bytes.NewReader(body)).Decode(&r); err != nil {
		n.log.Warn("what was remembered of unserved clients, relays and trials cannot be read and is forgotten", "err", err)
		return nil
	}
	n.Engine.Recall(r.Seen, lease.Time(n.Clock.Since(at)/time.Second))
	n.Trials.Restore(r.Trials)
	n.Facts.Name(r.Named)
	return nil
}
