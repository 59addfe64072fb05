package httpd

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/audit"
	"yarnpost/core/plan"
	"yarnpost/service/auditor"
	"yarnpost/service/permit"
	"yarnpost/service/store"
)

func (s *Server) registerAudit(a huma.API) {
	huma.Register(a, op("run-audit", http.MethodPost, "/api/audit/runs", "Make an audit now", "audit", permit.Audit),
		func(ctx context.Context, in *body[api.AuditOrder]) (*body[api.AuditReport], error) {
			list, err := neighboursOf(in.Body.Neighbours)
			if err != nil {
				return nil, failure(err)
			}
			routes, err := routesOf(in.Body.Routes)
			if err != nil {
				return nil, failure(err)
			}
			if in.Body.Named || len(list) > 0 {
				s.Facts.Name(list)
			}
			if in.Body.Routed || len(routes) > 0 {
				s.Facts.NameRoutes(routes)
			}
			r, err := s.Audits.Run(ctx, "a request by "+who(ctx).Name, true)
			return respond(s.reportView(r), err)
		})
	huma.Register(a, op("show-audit", http.MethodGet, "/api/audit", "What the last audit found; the worst first", "audit", permit.See),
		func(ctx context.Context, in *struct {
			Severity string `query:"severity" enum:"note,warning,trouble" doc:"Only that and worse"`
			Area     string `query:"area" enum:"plan,leases,pair,service"`
			Code     string `query:"code"`
			Scope    string `query:"scope"`
			Search   string `query:"search" doc:"Part of code, subject or text"`
			Known    bool   `query:"known" default:"true" doc:"With those that are acknowledged"`
		}) (*body[api.AuditReport], error) {
			r, ok := s.Audits.Last(ctx)
			if !ok {
				return nil, huma.Error404NotFound("no audit was made since the start; yarnpost audit run makes one")
			}
			v := s.reportView(r)
			least, err := audit.ParseSeverity(in.Severity)
			if err != nil {
				least = audit.Note
			}
			kept := []api.Finding{}
			for _, f := range v.Findings {
				sev, _ := audit.ParseSeverity(f.Severity)
				if sev >= least && (in.Area == "" || f.Area == in.Area) && (in.Code == "" || f.Code == in.Code) && (in.Scope == "" ||
					f.Scope == in.Scope) &&
					(in.Known || f.Known == nil) && fits(in.Search, f.Code, f.Subject, f.Text, f.Title) {
					kept = append(kept, f)
				}
			}
			v.Findings = kept
			return respond(v, nil)
		})
	huma.Register(a, op("past-findings", http.MethodGet, "/api/audit/past", "What audits found and is gone; the last to go first",
		"audit", permit.See),
		func(ctx context.Context, in *struct {
			Days int `query:"days" default:"30" minimum:"1" maximum:"366"`
		}) (*body[api.Page[api.Finding]], error) {
			list, err := s.Audits.Past(ctx, s.Clock.Now().AddDate(0, 0, -in.Days))
			if err != nil {
				return nil, failure(err)
			}
			return listed(s, findingViews(list))
		})
	huma.Register(a, op("list-audits", http.MethodGet, "/api/audit/runs", "Audits that were made, newest first", "audit", permit.See),
		func(ctx context.Context, in *struct {
			Limit int `query:"limit" default:"50" minimum:"1" maximum:"1000"`
		}) (*body[api.Page[api.AuditRun]], error) {
			list, err := s.Store.AuditRuns(ctx, in.Limit)
			if err != nil {
				return nil, failure(err)
			}
			out := []api.AuditRun{}
			for _, r := range list {
				out = append(out, runView(r))
			}
			return listed(s, out)
		})
	s.registerFindings(a)
	s.registerReports(a)
}

func runView(r store.AuditRun) api.AuditRun {
	return api.AuditRun{ID: r.ID, At: r.At.UTC(), Why: r.Why, Took: r.Took.Seconds(), Leases: r.Counts["leases"],
		Troubles: r.Counts["trouble"], Warnings: r.Counts["warning"], Notes: r.Counts["note"]}
}

// registerFindings has what is done about findings.
func (s *Server) registerFindings(a huma.API) {
	huma.Register(a, op("list-codes-of-findings", http.MethodGet, "/api/audit/codes", "Every kind of finding, with what it means",
		"audit", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.FindingCode]], error) {
			out := []api.FindingCode{}
			for _, c := range audit.Codes() {
				out = append(out, api.FindingCode{Code: c.ID, Area: string(c.Area), Severity: c.Severity.String(), Title: c.Title,
					Means: c.Means, Comes: c.Comes, Do: c.Do})
			}
			return listed(s, out)
		})
	huma.Register(a, op("acknowledge-findings", http.MethodPost, "/api/audit/acknowledge",
		"Say that findings are known and may stay, until a date", "audit", permit.Audit),
		func(ctx context.Context, in *body[api.Acknowledge]) (*body[api.Page[api.Finding]], error) {
			list, err := s.Audits.Acknowledge(ctx, in.Body.Keys, who(ctx).Name, in.Body.Reason, in.Body.Until)
			if errors.Is(err, auditor.ErrUnknown) {
				return nil, huma.Error404NotFound(err.Error())
			} else if err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			return listed(s, findingViews(list))
		})
	huma.Register(a, op("audit-report", http.MethodGet, "/api/audit/report",
		"A report in one file of HTML, for a reader without access", "audit", permit.See),
		func(ctx context.Context, _ *struct{}) (*page, error) {
			b, err := s.htmlReport(ctx)
			if err != nil {
				return nil, failure(err)
			}
			return &page{"text/html; charset=utf-8", `attachment; filename="yarnpost-audit.html"`, b}, nil
		})
	huma.Register(a, op("sweep", http.MethodPost, "/api/sweep",
		"What could be cleared: abandoned addresses, unclaimed reservations, stale records; or clear it",
		"audit", permit.Clients), func(ctx context.Context, in *body[api.SweepOrder]) (*body[api.Swept], error) {
		return respond(s.sweep(ctx, in.Body))
	})
}

// page is a file that is given away.
type page struct {
	Type        string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func neighboursOf(in []api.Neighbour) (out []audit.Neighbour, err error) {
	for _, n := range in {
		a, err := addr.ParseAddr(n.Address)
		if err != nil {
			return nil, plan.Refused("%v", err)
		}
		hw, err := addr.ParseHardware(n.Hardware)
		if err != nil {
			return nil, plan.Refused("%v", err)
		}
		source := n.Source
		if source == "" {
			source = "given with the audit"
		}
		out = append(out, audit.Neighbour{Address: a, Hardware: hw, Source: source})
	}
	return out, nil
}

func routesOf(in []api.Route) (out []audit.Route, err error) {
	for _, r := range in {
		k, err := addr.ParseKey(r.Prefix)
		if err != nil {
			return nil, plan.Refused("%v", err)
		}
		out = append(out, audit.Route{Prefix: k, Via: r.Via, Source: cmp.Or(r.Source, "given with the audit")})
	}
	return out, nil
}

func findingView(e auditor.Entry) api.Finding {
	out := api.Finding{Key: e.Key(), Code: e.ID, Area: string(e.Area), Severity: e.Severity.String(), Title: e.Title,
		Subject: e.Subject, Scope: e.Scope,
		Text: e.Text, Mend: e.Mend, Command: e.Command, Count: e.Count, Examples: append([]string{}, e.Examples...), First: e.First.UTC(),
		Last: e.Last.UTC(), Gone: moment(e.Gone), New: e.New}
	if k := e.Known; k != nil {
		out.Known = &api.Acknowledged{By: k.By, At: k.At.UTC(), Until: k.Until.UTC(), Reason: k.Reason}
	}
	return out
}

func findingViews(list []auditor.Entry) []api.Finding {
	out := []api.Finding{}
	for _, e := range list {
		out = append(out, findingView(e))
	}
	return out
}

func (s *Server) reportView(r auditor.Report) api.AuditReport {
	v, paired := s.Pair.View()
	out := api.AuditReport{ID: r.ID, Server: v.Own.Name, At: r.At.UTC(), Why: r.Why, Took: r.Took.Seconds(), Leases: r.Leases,
		Revision: s.Engine.Plan().Revision, Findings: findingViews(r.Entries), Gone: findingViews(r.Gone)}
	if paired {
		out.Partner = v.Partner.Name
	}
	if r.Lost != nil {
		out.Lost = databaseAway
	}
	for _, e := range r.Entries {
		if e.New {
			out.Fresh++
		}
		switch {
		case e.Known != nil:
			out.Known++
		case e.Severity == audit.Trouble:
			out.Troubles++
		case e.Severity == audit.Warning:
			out.Warnings++
		default:
			out.Notes++
		}
	}
	return out
}

// certificateEnds is when the certificate in use ends, or zero.
func (s *Server) certificateEnds() time.Time {
	if c := s.certificate.Load(); c != nil && c.Leaf != nil {
		return c.Leaf.NotAfter
	}
	return time.Time{}
}
