package httpd

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/rehearsal"
	"yarnpost/edit"
	"yarnpost/service/permit"
	"yarnpost/service/rehearse"
)

func (s *Server) registerRehearsals(a huma.API) {
	huma.Register(a, op("rehearse", http.MethodPost, "/api/rehearsals", "Begin to play what happened against a changed plan",
		"capacity", permit.Play),
		func(ctx context.Context, in *body[api.RehearsalOrder]) (*body[api.Rehearsal], error) {
			p, err := s.rehearse(ctx, in.Body)
			if errors.Is(err, rehearse.ErrBusy) {
				return nil, huma.Error409Conflict(err.Error())
			}
			if err != nil {
				return nil, failure(err)
			}
			return respond(s.rehearsalView(ctx, p), nil)
		})
	type numbered struct {
		ID int64 `path:"id"`
	}
	find := func(id int64) (*rehearse.Play, error) {
		if p := s.Rehearsals.Number(id); p != nil {
			return p, nil
		}
		return nil, huma.Error404NotFound("no such rehearsal is remembered; begin it again")
	}
	huma.Register(a, op("show-rehearsal", http.MethodGet, "/api/rehearsals/{id}", "How far a rehearsal is, or what came of it",
		"capacity", permit.See),
		func(ctx context.Context, in *numbered) (*body[api.Rehearsal], error) {
			p, err := find(in.ID)
			if err != nil {
				return nil, err
			}
			return respond(s.rehearsalView(ctx, p), nil)
		})
	huma.Register(a, op("end-rehearsal", http.MethodDelete, "/api/rehearsals/{id}", "End a rehearsal early", "capacity", permit.Play),
		func(_ context.Context, in *numbered) (*struct{}, error) {
			p, err := find(in.ID)
			if err != nil {
				return nil, err
			}
			p.Cancel()
			return nil, nil
		})
}

// spanMost is how far back a rehearsal reaches.
const spanMost = 60 * 24 * time.Hour

func (s *Server) rehearse(ctx context.Context, in api.RehearsalOrder) (*rehearse.Play, error) {
	span, err := option.ParseDuration(in.Since)
	if err != nil || span < time.Hour || span > spanMost {
		return nil, plan.Refused("%q is no span to rehearse; write 7d, an hour at the least and 60 days at the most", in.Since)
	}
	d := s.Engine.Plan().Draft()
	at := &around{Server: s, ctx: ctx}
	for _, e := range in.Edits {
		if err := edit.Apply(at, d, e); err != nil {
			return nil, err
		}
	}
	next, items := d.Finish()
	if len(items) == 0 && !in.Gone {
		return nil, plan.Refused("nothing would change; say what is to be rehearsed")
	}
	return s.Rehearsals.Start(span, next, items, plan.Diff(items, d.Label), in.Gone)
}

func (s *Server) rehearsalView(ctx context.Context, p *rehearse.Play) api.Rehearsal {
	done, step, over, err := p.Progress()
	out := api.Rehearsal{ID: p.ID, From: p.From.UTC(), To: p.To.UTC(), Diff: linesView(p.Lines), Gone: p.Gone, Done: done,
		Step: step, Over: over,
		Really: []api.ReallyUsed{}}
	if err != nil {
		out.Failed = err.Error()
	}
	if !over || err != nil {
		return out
	}
	out.Stays, out.Took = p.Stays, p.Took.Seconds()
	as, with := rehearsedView(p.As), rehearsedView(p.With)
	out.As, out.With = &as, &with
	for _, u := range p.With.Uses {
		v := s.Engine.Plan().ScopeNamed(u.Scope)
		if v == nil || u.Delegated || len(p.With.Uses) > reallyMost {
			continue
		}
		start, hours, err := s.Store.Hours(ctx, capacity.Key{Scope: v.ID}.String(), p.From)
		if err != nil {
			continue
		}
		peak := int64(0)
		for i, h := range hours {
			if at := start.Add(time.Duration(i) * time.Hour); !at.Before(p.From.Add(-time.Hour)) && at.Before(p.To) {
				peak = max(peak, int64(h[capacity.HourPeak]))
			}
		}
		out.Really = append(out.Really, api.ReallyUsed{Scope: u.Scope, Peak: peak})
	}
	return out
}

// reallyMost is of how many scopes it is told what really happened.
const reallyMost = 200

func rehearsedView(o rehearsal.Output) api.Rehearsed {
	at := func(t lease.Time) *time.Time { return moment(t.Std()) }
	out := api.Rehearsed{Clients: o.Clients, Messages: o.Messages, BusiestHour: o.BusiestHour, Renewals: o.Renewals,
		Refused: o.RefusedCount, Never: o.Never,
		FirstRefused: at(o.FirstRefused), Who: []api.RehearsedRefused{}, Scopes: []api.RehearsedScope{}}
	for _, r := range o.Refused {
		v := api.RehearsedRefused{Hardware: r.Hardware.String(), Hostname: r.Hostname, Scope: r.Scope, At: r.At.Std(),
			Why: r.Why.Words("")}
		if r.Waited >= 0 {
			v.Waited = r.Waited.String()
		}
		out.Who = append(out.Who, v)
	}
	for _, u := range o.Uses {
		v := api.RehearsedScope{Scope: u.Scope, Prefixes: u.Delegated, Size: api.Count(min(u.Size, uint64(api.MostCount))),
			Peak: api.Count(u.Peak), PeakAt: at(u.PeakAt),
			FullAt: at(u.FullAt), Hours: []int64{}}
		for _, n := range u.Hours {
			v.Hours = append(v.Hours, int64(n))
		}
		out.Scopes = append(out.Scopes, v)
	}
	return out
}
