package httpd

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/audit"
	"yarnpost/service/alert"
	"yarnpost/service/permit"
	"yarnpost/service/store"
)

func (s *Server) registerAlerts(a huma.API) {
	huma.Register(a, op("list-alerts", http.MethodGet, "/api/alerts", "Alerts that stand, the worst first; or those that ended", "alerts",
		permit.See),
		func(ctx context.Context, in *struct {
			Past bool `query:"past" doc:"Those that ended in the last 90 days"`
		}) (*body[api.Page[api.Alert]], error) {
			list := s.Alerts.Standing()
			if in.Past {
				var err error
				if list, err = s.Alerts.Past(ctx); err != nil {
					return nil, failure(err)
				}
			}
			out := []api.Alert{}
			for _, x := range list {
				out = append(out, alertView(x))
			}
			return listed(s, out)
		})
	huma.Register(a, op("list-silences", http.MethodGet, "/api/alerts/silences", "What is silenced, and until when", "alerts", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.Silence]], error) {
			out := []api.Silence{}
			for _, x := range s.Alerts.Silences() {
				out = append(out, api.Silence{Key: x.Key, Until: x.Until.UTC(), By: x.By, Reason: x.Reason})
			}
			return listed(s, out)
		})
	huma.Register(a, op("silence-alerts", http.MethodPost, "/api/alerts/silences", "Keep alerts from being sent until a moment", "alerts",
		permit.Audit),
		func(ctx context.Context, in *body[api.Silence]) (*body[api.Silence], error) {
			x := store.Silence{Key: in.Body.Key, Until: in.Body.Until.UTC(), By: who(ctx).Name, Reason: in.Body.Reason}
			if err := s.Alerts.Silence(ctx, x); err != nil {
				return nil, wrongAlert(err)
			}
			s.Alerts.Share(ctx)
			return respond(api.Silence{Key: x.Key, Until: x.Until, By: x.By, Reason: x.Reason}, nil)
		})
	huma.Register(a, op("list-targets", http.MethodGet, "/api/alerts/targets", "Where alerts go", "alerts", permit.See), s.targets)
	huma.Register(a, op("put-target", http.MethodPost, "/api/alerts/targets", "Have alerts go somewhere, or change that", "alerts",
		permit.Alerts),
		func(ctx context.Context, in *body[api.AlertTarget]) (*body[api.AlertTarget], error) {
			t := store.Target{Name: in.Body.Name, URL: in.Body.URL, Severity: in.Body.Severity, CA: in.Body.CA,
				Secret: []byte(in.Body.Secret)}
			if err := s.Alerts.Check(ctx, t); err != nil {
				return nil, wrongAlert(err)
			}
			was, err := s.targetNamed(ctx, t.Name)
			if err != nil {
				return nil, failure(err)
			}
			if err := s.Store.SaveTarget(ctx, t, s.Clock.Now()); err != nil {
				return nil, failure(err)
			}
			tell(ctx, [3]string{"url", was.URL, t.URL}, [3]string{"severity", was.Severity, t.Severity})
			s.log.Info("alerts go to another target", "target", t.Name, "by", who(ctx).Name)
			s.Alerts.Share(ctx)
			return respond(api.AlertTarget{Name: t.Name, URL: t.URL, Severity: t.Severity, CA: t.CA, Signed: len(t.Secret) > 0}, nil)
		})
	huma.Register(a, op("remove-target", http.MethodDelete, "/api/alerts/targets/{name}", "Have alerts go there no more", "alerts",
		permit.Alerts),
		func(ctx context.Context, in *named) (*struct{}, error) {
			ok, err := s.Store.RemoveTarget(ctx, in.Name, s.Clock.Now())
			if err == nil && !ok {
				return nil, huma.Error404NotFound("no target is called " + in.Name)
			}
			s.Alerts.Share(ctx)
			return nil, failure(err)
		})
	huma.Register(a, op("try-target", http.MethodPost, "/api/alerts/targets/{name}/try", "Send a message there now, to try it", "alerts",
		permit.Alerts),
		func(ctx context.Context, in *named) (*body[api.AlertTried], error) {
			out, err := s.tryTarget(ctx, in.Name)
			return &body[api.AlertTried]{out}, err
		})
}

// wrongAlert is an error of alerts that the caller can do something about.
func wrongAlert(err error) error {
	if errors.Is(err, alert.ErrAlert) {
		return huma.Error422UnprocessableEntity(err.Error())
	}
	return failure(err)
}

func alertView(x alert.Alert) api.Alert {
	out := api.Alert{Key: x.Key(), Code: x.ID, Severity: x.Severity.String(), Subject: x.Subject, Scope: x.Scope, Text: x.Text,
		Mend:    x.Mend,
		Command: x.Command,
		Since:   x.Since.UTC(), Ended: moment(x.Ended)}
	if q := x.Silenced; q != nil {
		out.Silenced = &api.Silence{Key: q.Key, Until: q.Until.UTC(), By: q.By, Reason: q.Reason}
	}
	return out
}

func (s *Server) targets(ctx context.Context, _ *struct{}) (*body[api.Page[api.AlertTarget]], error) {
	list, err := s.Store.Targets(ctx)
	if err != nil {
		return nil, failure(err)
	}
	queue, err := s.Store.QueuedAlerts(ctx)
	if err != nil {
		return nil, failure(err)
	}
	out := []api.AlertTarget{}
	for _, t := range list {
		v := api.AlertTarget{Name: t.Name, URL: t.URL, Severity: t.Severity, CA: t.CA, Signed: len(t.Secret) > 0}
		for _, q := range queue {
			if q.Target.Name == t.Name {
				v.Waiting++
				v.Failed = cmp.Or(v.Failed, q.Failed) // the first holds up the others
			}
		}
		out = append(out, v)
	}
	return listed(s, out)
}

func (s *Server) tryTarget(ctx context.Context, name string) (out api.AlertTried, err error) {
	list, err := s.Store.Targets(ctx)
	if err != nil {
		return out, failure(err)
	}
	for _, t := range list {
		if t.Name != name {
			continue
		}
		now := s.Clock.Now()
		q := store.Queued{At: now, What: "test", Server: s.Pair.Name(), Alert: store.Alert{Key: "test", Since: now,
			Finding: audit.Finding{Code: &audit.Code{ID: "test"}, Severity: audit.Note, Subject: "test",
				Text: "a message to try target " + name,
				Mend: "nothing"}}}
		if err := s.Alerts.Send(ctx, t, q); err != nil {
			return out, huma.Error502BadGateway("it could not be sent: " + err.Error())
		}
		out.Text = name + " took a message"
		if strings.HasPrefix(t.URL, "syslog+udp:") {
			out.Text = "a message is sent to " + name + "; UDP cannot confirm that it arrived"
		}
		return out, nil
	}
	return out, huma.Error404NotFound("no target is called " + name)
}

// targetNamed is the target of a name, or an empty one.
func (s *Server) targetNamed(ctx context.Context, name string) (store.Target, error) {
	list, err := s.Store.Targets(ctx)
	for _, t := range list {
		if t.Name == name {
			return t, err
		}
	}
	return store.Target{}, err
}
