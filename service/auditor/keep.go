package auditor

import (
	"context"
	"time"

	"yarnpost/service/engine"
	"yarnpost/service/work"
)

const (
	auditPause  = 15 * time.Minute
	auditSettle = 5 * time.Second // after a change of the plan
)

// Keep makes an audit now and then, and after each change of the plan.
func (r *Auditor) Keep(ctx context.Context, g *work.Group, events *engine.Events) {
	changes := events.Subscribe()
	defer events.Cancel(changes)
	g.Pause(20 * time.Second)
	run := func(why string, slow bool) {
		g.Do("an audit", func() {
			_, _ = r.Run(ctx, why, slow) // it says itself what went wrong
		})
	}
	run("the start", true)
	next := time.NewTimer(auditPause)
	defer next.Stop()
	var settle <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-changes.C:
			if e.Revision != 0 && settle == nil {
				settle = time.After(auditSettle)
			}
		case <-settle:
			settle = nil
			run("a change of the plan", false)
		case <-next.C:
			run("the quarter of an hour", true)
			next.Reset(auditPause)
		}
	}
}
