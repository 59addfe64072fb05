package samples

import (
	"context"
	"time"

	"yarnpost/service/work"
)

// sampleAgain is how long after a sample could not be recorded it is tried again.
const sampleAgain = 5 * time.Second

// Keep counts each minute, on the minute, and looks ahead each hour.
func (r *Sampler) Keep(ctx context.Context, g *work.Group) {
	sample := func() { g.Do("a sample of use", func() { r.Sample(ctx) }) }
	sample()
	g.Go("a forecast", func(ctx context.Context) {
		g.Pause(10 * time.Second)
		if ctx.Err() == nil {
			r.Refresh(ctx)
		}
	})
	g.Every(time.Hour, "a forecast", r.Refresh)
	for ctx.Err() == nil {
		wait := time.Minute - time.Duration(r.clock.Now().UnixNano())%time.Minute
		if r.Failed() != nil {
			wait = min(wait, sampleAgain)
		}
		g.Pause(wait)
		sample()
	}
}
