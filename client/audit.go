package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"yarnpost/api"
)

// RunAudit makes an audit now. What the order names takes the place of what was named before.
func (c *Client) RunAudit(ctx context.Context, o api.AuditOrder) (out api.AuditReport, err error) {
	err = c.call(ctx, http.MethodPost, "/api/audit/runs", nil, o, &out)
	return out, err
}

// FindingQuery narrows findings. Empty fields do not.
type FindingQuery struct {
	Severity, Area, Code, Scope, Search string
	Open                                bool // without what is acknowledged
}

// Audit is what the last audit found.
func (c *Client) Audit(ctx context.Context, q FindingQuery) (api.AuditReport, error) {
	v := values("severity", q.Severity, "area", q.Area, "code", q.Code, "scope", q.Scope, "search", q.Search)
	if q.Open {
		v.Set("known", "false")
	}
	return get[api.AuditReport](ctx, c, "/api/audit", v)
}

// PastFindings is what audits found in so many days and is gone.
func (c *Client) PastFindings(ctx context.Context, days int) ([]api.Finding, error) {
	return items[api.Finding](ctx, c, "/api/audit/past", url.Values{"days": {strconv.Itoa(days)}})
}

// Audits lists the audits that were made, newest first.
func (c *Client) Audits(ctx context.Context) ([]api.AuditRun, error) {
	return items[api.AuditRun](ctx, c, "/api/audit/runs", nil)
}

// FindingCodes lists every kind of finding.
func (c *Client) FindingCodes(ctx context.Context) ([]api.FindingCode, error) {
	return items[api.FindingCode](ctx, c, "/api/audit/codes", nil)
}

// Acknowledge says of findings that they are known and may stay, or takes that back.
func (c *Client) Acknowledge(ctx context.Context, in api.Acknowledge) ([]api.Finding, error) {
	var out api.Page[api.Finding]
	err := c.call(ctx, http.MethodPost, "/api/audit/acknowledge", nil, in, &out)
	return out.Items, err
}

// AuditReport is the report as one file of HTML.
func (c *Client) AuditReport(ctx context.Context) (out []byte, err error) {
	err = c.call(ctx, http.MethodGet, "/api/audit/report", nil, nil, &out)
	return out, err
}

// CompareAudits tells what changed between the last audits up to two moments.
func (c *Client) CompareAudits(ctx context.Context, from, to time.Time) (api.AuditDifference, error) {
	v := url.Values{}
	setTime(v, "from", from)
	setTime(v, "to", to)
	return get[api.AuditDifference](ctx, c, "/api/audit/between", v)
}

// Reports lists the reports that were made on schedule.
func (c *Client) Reports(ctx context.Context) ([]api.Report, error) {
	return items[api.Report](ctx, c, "/api/audit/reports", nil)
}

// ReportSchedule tells when reports are made.
func (c *Client) ReportSchedule(ctx context.Context) (api.ReportSchedule, error) {
	return get[api.ReportSchedule](ctx, c, "/api/audit/schedule", nil)
}

// SetReportSchedule sets when reports are made.
func (c *Client) SetReportSchedule(ctx context.Context, in api.ReportSchedule) (out api.ReportSchedule, err error) {
	err = c.call(ctx, http.MethodPut, "/api/audit/schedule", nil, in, &out)
	return out, err
}

// Report is a report that was made on schedule, as one file of HTML.
func (c *Client) Report(ctx context.Context, number int64) (out []byte, err error) {
	err = c.call(ctx, http.MethodGet, fmt.Sprintf("/api/audit/reports/%d", number), nil, nil, &out)
	return out, err
}

// Sweep says what could be cleared, or clears it.
func (c *Client) Sweep(ctx context.Context, in api.SweepOrder) (out api.Swept, err error) {
	err = c.call(ctx, http.MethodPost, "/api/sweep", nil, in, &out)
	return out, err
}

// Alerts lists the alerts that stand, or those that ended.
func (c *Client) Alerts(ctx context.Context, past bool) ([]api.Alert, error) {
	return items[api.Alert](ctx, c, "/api/alerts", url.Values{"past": {strconv.FormatBool(past)}})
}

// Silences lists what is silenced.
func (c *Client) Silences(ctx context.Context) ([]api.Silence, error) {
	return items[api.Silence](ctx, c, "/api/alerts/silences", nil)
}

// SilenceAlerts keeps alerts from being sent until a moment.
func (c *Client) SilenceAlerts(ctx context.Context, in api.Silence) (out api.Silence, err error) {
	err = c.call(ctx, http.MethodPost, "/api/alerts/silences", nil, in, &out)
	return out, err
}

// AlertTargets lists where alerts go.
func (c *Client) AlertTargets(ctx context.Context) ([]api.AlertTarget, error) {
	return items[api.AlertTarget](ctx, c, "/api/alerts/targets", nil)
}

// PutAlertTarget has alerts go somewhere, or changes that.
func (c *Client) PutAlertTarget(ctx context.Context, in api.AlertTarget) (out api.AlertTarget, err error) {
	err = c.call(ctx, http.MethodPost, "/api/alerts/targets", nil, in, &out)
	return out, err
}

// RemoveAlertTarget has alerts go there no more.
func (c *Client) RemoveAlertTarget(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/alerts/targets/"+url.PathEscape(name), nil, nil, nil)
}

// TryAlertTarget sends a message to a target now.
func (c *Client) TryAlertTarget(ctx context.Context, name string) (api.AlertTried, error) {
	return post[api.AlertTried](ctx, c, "/api/alerts/targets/"+url.PathEscape(name)+"/try", nil)
}
