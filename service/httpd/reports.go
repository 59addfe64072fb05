package httpd

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/audit"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/auditor"
	"yarnpost/service/permit"
	"yarnpost/service/scheduled"
	"yarnpost/service/store"
)

// registerReports has what is told of audits over time, and to those who do not look by themselves.
func (s *Server) registerReports(a huma.API) {
	huma.Register(a, op("compare-audits", http.MethodGet, "/api/audit/between", "What changed between two audits of any dates", "audit", permit.See),
		func(ctx context.Context, in *struct {
			From time.Time `query:"from" required:"true" doc:"The last audit up to this moment"`
			To   time.Time `query:"to" doc:"And the last up to this one; now, if left out"`
		}) (*body[api.AuditDifference], error) {
			if in.To.IsZero() {
				in.To = s.Clock.Now()
			}
			d, err := s.Audits.Between(ctx, in.From, in.To)
			if errors.Is(err, auditor.ErrUnknown) {
				return nil, huma.Error404NotFound(err.Error())
			} else if err != nil {
				return nil, failure(err)
			}
			return respond(api.AuditDifference{From: runView(d.From), To: runView(d.To), Came: findingViews(d.Came), Went: findingViews(d.Went),
				Stayed: d.Stayed, Text: fmt.Sprintf("%d came, %d went, %d stayed", len(d.Came), len(d.Went), d.Stayed)}, nil)
		})
	huma.Register(a, op("list-reports", http.MethodGet, "/api/audit/reports", "Reports that were made on schedule, newest first", "audit", permit.See),
		func(ctx context.Context, _ *struct{}) (*body[api.Page[api.Report]], error) {
			list, err := s.Store.Reports(ctx)
			if err != nil {
				return nil, failure(err)
			}
			out := []api.Report{}
			for _, r := range list {
				out = append(out, api.Report{Number: r.ID, At: r.At.UTC(), Severity: r.Severity, Text: r.Text, Size: r.Size})
			}
			return listed(s, out)
		})
	huma.Register(a, op("show-report", http.MethodGet, "/api/audit/reports/{number}", "A report that was made on schedule: one file of HTML", "audit", permit.See),
		func(ctx context.Context, in *struct {
			Number int64 `path:"number"`
		}) (*page, error) {
			b, ok, err := s.Store.ReportPage(ctx, in.Number)
			if err == nil && !ok {
				return nil, huma.Error404NotFound(fmt.Sprintf("report %d is not kept; yarnpost audit reports lists those that are", in.Number))
			}
			return &page{"text/html; charset=utf-8", fmt.Sprintf(`attachment; filename="yarnpost-report-%d.html"`, in.Number), b}, failure(err)
		})
	huma.Register(a, op("show-report-schedule", http.MethodGet, "/api/audit/schedule", "When reports are made", "audit", permit.See),
		func(ctx context.Context, _ *struct{}) (*body[api.ReportSchedule], error) {
			c, err := s.Store.Schedule(ctx)
			return respond(s.scheduleView(c), err)
		})
	huma.Register(a, op("set-report-schedule", http.MethodPut, "/api/audit/schedule", "Set when reports are made, kept, and sent where alerts go", "audit",
		permit.Alerts), func(ctx context.Context, in *body[api.ReportSchedule]) (*body[api.ReportSchedule], error) {
		return respond(s.setSchedule(ctx, in.Body))
	})
}

// keepDefault is how many scheduled reports are kept if nobody says another number.
const keepDefault = 12

func (s *Server) setSchedule(ctx context.Context, in api.ReportSchedule) (out api.ReportSchedule, err error) {
	c := store.Schedule{Begins: in.Begins, Keep: cmp.Or(in.Keep, keepDefault)}
	if in.Every != "" {
		if c.Every, err = option.ParseDuration(in.Every); err != nil {
			return out, plan.Refused("every: %v", err)
		}
	}
	was, err := s.Store.Schedule(ctx)
	if err == nil {
		err = s.Scheduled.Set(ctx, c)
	}
	if errors.Is(err, scheduled.ErrSchedule) {
		return out, huma.Error422UnprocessableEntity(err.Error())
	} else if err != nil {
		return out, err
	}
	tell(ctx, [3]string{"every", s.scheduleView(was).Every, cmp.Or(in.Every, "never")},
		[3]string{"keep", fmt.Sprint(was.Keep), fmt.Sprint(c.Keep)})
	now, err := s.Store.Schedule(ctx)
	return s.scheduleView(now), err
}

func (s *Server) scheduleView(c store.Schedule) api.ReportSchedule {
	out := api.ReportSchedule{Begins: c.Begins, Keep: c.Keep, Next: moment(c.Next(s.Clock.Now()))}
	if c.Every > 0 {
		out.Every = option.FormatDuration(c.Every)
	}
	return out
}

// scheduledReport makes a report of an audit that is made for it, and says in one line what it
// says.
func (s *Server) scheduledReport(ctx context.Context, since time.Time) (m scheduled.Made, err error) {
	r, err := s.Audits.Run(ctx, "a scheduled report", true)
	if err != nil {
		return m, err
	}
	if worst, ok := r.Worst(); ok {
		m.Severity = worst.String()
	}
	v := s.reportView(r)
	m.Text = fmt.Sprintf("%s, %s, %s", plural(v.Troubles, "trouble", "troubles"), plural(v.Warnings, "warning", "warnings"),
		plural(v.Notes, "note", "notes"))
	if d, err := s.Audits.Between(ctx, since, r.At); err == nil {
		m.Text += fmt.Sprintf("; since %s %d came and %d went", d.From.At.UTC().Format("2 Jan 15:04 UTC"), len(d.Came), len(d.Went))
	}
	if list, _ := s.unserved(ctx, "", ""); len(list) > 0 {
		m.Text += "; " + plural(len(list), "client goes", "clients go") + " without an address"
	}
	for _, e := range r.Entries { // what runs out is what people want to know first
		if e.Known == nil && e.Severity == audit.Trouble {
			m.Text += "; worst: " + e.Subject + ": " + e.Title
			break
		}
	}
	m.Page, err = s.htmlReport(ctx)
	return m, err
}
