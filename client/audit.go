package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"yarnpost/api"
)

// RunAudit makes an audit, with what else the network is known to have.
func (c *Client) RunAudit(ctx context.Context, neighbours []api.Neighbour) (out api.AuditReport, err error) {
	err = c.call(ctx, http.MethodPost, "/api/audit/runs", nil, api.AuditOrder{Neighbours: neighbours}, &out)
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

// Sweep says what could be cleared, or clears it.
func (c *Client) Sweep(ctx context.Context, in api.SweepOrder) (out api.Swept, err error) {
	err = c.call(ctx, http.MethodPost, "/api/sweep", nil, in, &out)
	return out, err
}
