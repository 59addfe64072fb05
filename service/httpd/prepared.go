package httpd

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/change"
	"yarnpost/service/permit"
	"yarnpost/service/prepare"
)

// This file serves changes of the plan in preparation.

// change makes a change, or gathers it in a change in preparation.
func (s *Server) change(ctx context.Context, into string, o change.Order, do func(*plan.Draft) error) (*change.Change, error) {
	o.Author = who(ctx).Name
	if into == "" {
		return s.Plans.Change(ctx, o, do)
	}
	return s.Prepared.Gather(ctx, into, o, do)
}

// gathered is a change, and in which change in preparation it was gathered, if in one.
func (s *Server) gathered(c *change.Change, into string) api.ChangeResult {
	out := s.changeView(c)
	out.Into = into
	return out
}

func (s *Server) registerPrepared(a huma.API) {
	const at = "/api/plan/prepared/{name}"
	huma.Register(a, op("list-prepared", http.MethodGet, "/api/plan/prepared", "Changes of the plan in preparation", "plan", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.Prepared]], error) {
			out := []api.Prepared{}
			for _, p := range s.Prepared.List() {
				v := preparedView(prepare.Checked{Preparation: p})
				v.Edits = []api.PreparedEdit{}
				out = append(out, v)
			}
			return listed(s, out)
		})
	huma.Register(a, op("show-prepared", http.MethodGet, at, "A change in preparation, held against the plan as it is", "plan", permit.See),
		func(ctx context.Context, in *named) (*body[api.Prepared], error) { return s.prepared(ctx, in.Name) })
	huma.Register(a, op("begin-change", http.MethodPost, "/api/plan/prepared", "Begin a change in preparation", "plan", permit.Plan),
		func(ctx context.Context, in *body[api.Begin]) (*body[api.Prepared], error) {
			p, err := s.Prepared.Begin(ctx, in.Body.Name, in.Body.Note, who(ctx).Name)
			return respond(preparedView(prepare.Checked{Preparation: p}), err)
		})
	huma.Register(a, op("drop-change", http.MethodDelete, at, "Give up a change in preparation", "plan", permit.Plan),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, failure(s.Prepared.Drop(ctx, in.Name, change.Order{Author: who(ctx).Name}))
		})
	huma.Register(a, op("take-out-edit", http.MethodDelete, at+"/edits/{number}", "Take an edit out of a change in preparation", "plan", permit.Plan),
		func(ctx context.Context, in *struct {
			Name   string `path:"name"`
			Number int    `path:"number" minimum:"1" doc:"From 1, as they are listed"`
		}) (*body[api.Prepared], error) {
			if err := s.Prepared.TakeOut(ctx, in.Name, in.Number); err != nil {
				return nil, failure(err)
			}
			return s.prepared(ctx, in.Name)
		})
	huma.Register(a, op("approve-change", http.MethodPost, at+"/approval", "Approve a change in preparation that others made", "plan", permit.Plan),
		func(ctx context.Context, in *named) (*body[api.Prepared], error) {
			if err := s.Prepared.Approve(ctx, in.Name, who(ctx).Name); err != nil {
				return nil, failure(err)
			}
			return s.prepared(ctx, in.Name)
		})
	huma.Register(a, op("apply-change", http.MethodPost, at+"/apply", "Preview or make a change in preparation, as one revision or not at all",
		"plan", permit.Plan), s.applyPrepared)
	huma.Register(a, op("set-due", http.MethodPut, at+"/due", "Set the moment at which a change in preparation is made", "plan", permit.Plan),
		s.setDue)
	huma.Register(a, op("call-off", http.MethodDelete, at+"/due", "Take away the moment at which a change in preparation is made", "plan",
		permit.Plan), func(ctx context.Context, in *named) (*body[api.Prepared], error) {
		if err := s.Prepared.CallOff(ctx, in.Name, change.Order{Author: who(ctx).Name}); err != nil {
			return nil, failure(err)
		}
		return s.prepared(ctx, in.Name)
	})
}

func (s *Server) prepared(ctx context.Context, name string) (*body[api.Prepared], error) {
	c, err := s.Prepared.Check(ctx, name, who(ctx).Name)
	if err != nil {
		return nil, failure(err)
	}
	out := preparedView(c)
	if c.Change != nil {
		v := s.changeView(c.Change)
		out.Result = &v
	}
	return respond(out, nil)
}

func (s *Server) applyPrepared(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body api.ApplyPrepared
}) (*body[api.ChangeResult], error) {
	r := in.Body
	undo, err := undoRule(r.Undo)
	if err != nil {
		return nil, failure(err)
	}
	c, err := s.Prepared.Apply(ctx, in.Name, change.Order{Author: who(ctx).Name, Reason: r.Reason, Preview: r.DryRun, Confirm: r.Confirm,
		Alone: r.Alone}, undo)
	if err != nil {
		return nil, failure(err)
	}
	return respond(s.changeView(c), nil)
}

func (s *Server) setDue(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body api.SetDue
}) (*body[api.Prepared], error) {
	r := in.Body
	undo, err := undoRule(r.Undo)
	if err != nil {
		return nil, failure(err)
	}
	due := prepare.Due{At: r.At, By: who(ctx).Name, RunDown: r.RunDown == nil || *r.RunDown}
	if _, err := s.Prepared.Schedule(ctx, in.Name, due, undo, r.Alone); err != nil {
		return nil, failure(err)
	}
	return s.prepared(ctx, in.Name)
}

// undoRule reads when a change is undone by itself; nil is never.
func undoRule(r *api.UndoRule) (*prepare.Undo, error) {
	if r == nil {
		return nil, nil
	}
	d, err := option.ParseDuration(r.Within)
	if err != nil || d < time.Minute || d > 7*24*time.Hour {
		return nil, plan.Refused("%q is not how long a change can be looked at; write a time from 1m to 7d", r.Within)
	}
	return &prepare.Undo{Within: d, Above: r.Above}, nil
}

func preparedView(c prepare.Checked) api.Prepared {
	out := api.Prepared{Name: c.Name, Note: c.Note, By: c.By, Begun: c.Begun.UTC(), Edits: []api.PreparedEdit{}, Approvals: []api.Approval{},
		Failed: c.Failed, Makers: []string{c.By}, Count: len(c.Steps)}
	for i, s := range c.Steps {
		if !slices.Contains(out.Makers, s.By) {
			out.Makers = append(out.Makers, s.By)
		}
		e := api.PreparedEdit{Edit: s.Edit, Text: strings.TrimSpace(s.Edit.Op + " " + s.Edit.Kind + " " + s.Edit.Name), By: s.By, At: s.At,
			Revision: s.Revision, Meanwhile: []string{}}
		if e.Edit.Op == "put" {
			e.Text = "add " + strings.TrimSpace(s.Edit.Kind+" "+s.Edit.Name)
		}
		if i < len(c.Meanwhile) {
			e.Meanwhile = append(e.Meanwhile, c.Meanwhile[i]...)
		}
		for _, f := range c.Faults {
			if f.Index == i {
				e.Fault = f.Err.Error()
			}
		}
		out.Edits = append(out.Edits, e)
	}
	for _, a := range c.Approvals {
		out.Approvals = append(out.Approvals, api.Approval(a))
	}
	if c.Undo != nil {
		out.Undo = &api.UndoRule{Within: option.FormatDuration(c.Undo.Within), Above: c.Undo.Above}
	}
	if c.Watch != nil {
		out.Watched = &api.Watched{Revision: c.Watch.Revision, Before: c.Watch.Before, Until: c.Watch.Until}
	}
	if c.Due != nil {
		out.Due = &api.Due{At: c.Due.At, By: c.Due.By, RunDown: c.Due.RunDown}
	}
	for _, v := range c.RunDown {
		down := api.RunDown{Scope: v.Name, Lease: plan.Duration(v.Lease).String()}
		if c.Due != nil && c.Due.RunDown {
			from, settled := c.Due.Down(v)
			down.From, down.Settled = &from, &settled
		}
		out.RunDown = append(out.RunDown, down)
	}
	return out
}
