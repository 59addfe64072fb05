// Package client is a typed client of the HTTP API.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"yarnpost/api"
)

// Client talks to one server. It is safe for concurrent use.
type Client struct {
	Reason string // why things are done, kept in the trail
	base   string
	token  string
	http   *http.Client
	allows func(method, path string, query url.Values, body []byte) bool // nil: everything
}

// New is a client of the server at base, such as http://127.0.0.1:8067.
func New(base, token string) *Client {
	return &Client{base: strings.TrimSuffix(base, "/"), token: strings.TrimSpace(token), http: &http.Client{Timeout: 60 * time.Second}}
}

// Problem is a refusal as the server words it (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, e := range p.Errors {
		s += "; " + e.Location + ": " + e.Message
	}
	return s
}

// raw is a body that is not JSON.
type raw struct {
	octets      []byte
	contentType string
}

// stream takes an answer as it comes.
type stream struct{ io.Writer }

// cookie takes the cookie of an answer.
type cookie string

// call does one request; in and out may be nil.
func (c *Client) call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body io.Reader
	var octets []byte
	contentType := "application/json"
	if file, ok := in.(raw); ok {
		octets, contentType = file.octets, file.contentType
	} else if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return fmt.Errorf("encode request: %w", err)
		}
		octets = b
	}
	if octets != nil {
		body = bytes.NewReader(octets)
	}
	if c.allows != nil && !c.allows(method, path, query, octets) {
		return ErrWrites
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	r, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return fmt.Errorf("%s %s: %w", method, path, err)
	}
	r.Header.Set("Authorization", "Bearer "+c.token)
	if c.Reason != "" && method != http.MethodGet {
		r.Header.Set(api.ReasonHeader, url.QueryEscape(c.Reason))
	}
	if in != nil {
		r.Header.Set("Content-Type", contentType)
	}
	resp, err := c.http.Do(r)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return fmt.Errorf("cannot reach the server at %s: %w", c.base, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		p := &Problem{Status: resp.StatusCode, Title: resp.Status}
		b, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		if json.Unmarshal(b, p) != nil {
			return fmt.Errorf("%s %s: the server says %s", method, path, resp.Status)
		}
		return p
	}
	if out == nil {
		return nil
	}
	if s, ok := out.(stream); ok {
		_, err := io.Copy(s, resp.Body)
		return err
	}
	if session, ok := out.(*cookie); ok {
		for _, c := range resp.Cookies() {
			*session = cookie(c.Value)
		}
		return nil
	}
	if raw, ok := out.(*[]byte); ok {
		*raw, err = io.ReadAll(resp.Body)
		return err
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("%s %s: the answer cannot be read: %w", method, path, err)
	}
	return nil
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	var out T
	err := c.call(ctx, http.MethodGet, path, query, nil, &out)
	return out, err
}

// items reads a list, all its pages. A limit among the query bounds it.
func items[T any](ctx context.Context, c *Client, path string, query url.Values) (out []T, err error) {
	for {
		page, err := get[api.Page[T]](ctx, c, path, query)
		if err != nil {
			return nil, err
		}
		out = append(out, page.Items...)
		if page.Next == "" || query.Has("limit") {
			return out, nil
		}
		if query == nil {
			query = url.Values{}
		}
		query.Set("after", page.Next)
	}
}

// Status is the state of the service.
func (c *Client) Status(ctx context.Context) (api.Status, error) {
	return get[api.Status](ctx, c, "/api/status", nil)
}

// Change previews or applies edits of the plan.
func (c *Client) Change(ctx context.Context, r api.ChangeRequest) (out api.ChangeResult, err error) {
	err = c.call(ctx, http.MethodPost, "/api/plan/changes", nil, r, &out)
	return out, err
}

// Again previews or applies a revision that was kept aside.
func (c *Client) Again(ctx context.Context, key string, r api.Revert) (out api.ChangeResult, err error) {
	err = c.call(ctx, http.MethodPost, "/api/plan/aside/"+url.PathEscape(key)+"/apply", nil, r, &out)
	return out, err
}

// Revert previews or applies the undoing of a revision.
func (c *Client) Revert(ctx context.Context, number int64, r api.Revert) (out api.ChangeResult, err error) {
	err = c.call(ctx, http.MethodPost, fmt.Sprintf("/api/plan/revisions/%d/revert", number), nil, r, &out)
	return out, err
}

// RestorePlan previews or applies the return to the plan of a revision or of a moment.
func (c *Client) RestorePlan(ctx context.Context, r api.Restore) (out api.ChangeResult, err error) {
	err = c.call(ctx, http.MethodPost, "/api/plan/restore", nil, r, &out)
	return out, err
}

// preparedPath is where a change in preparation is, or a part of it.
func preparedPath(name, part string) string {
	return "/api/plan/prepared/" + url.PathEscape(name) + part
}

// AllPrepared lists the changes of the plan in preparation.
func (c *Client) AllPrepared(ctx context.Context) ([]api.Prepared, error) {
	return items[api.Prepared](ctx, c, "/api/plan/prepared", nil)
}

// Prepared is a change in preparation, held against the plan as it is.
func (c *Client) Prepared(ctx context.Context, name string) (api.Prepared, error) {
	return get[api.Prepared](ctx, c, preparedPath(name, ""), nil)
}

// BeginChange begins a change in preparation.
func (c *Client) BeginChange(ctx context.Context, b api.Begin) (out api.Prepared, err error) {
	err = c.call(ctx, http.MethodPost, "/api/plan/prepared", nil, b, &out)
	return out, err
}

// DropChange gives a change in preparation up.
func (c *Client) DropChange(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, preparedPath(name, ""), nil, nil, nil)
}

// TakeOutEdit takes an edit, by its number from 1, out of a change in preparation.
func (c *Client) TakeOutEdit(ctx context.Context, name string, number int) (out api.Prepared, err error) {
	err = c.call(ctx, http.MethodDelete, preparedPath(name, fmt.Sprintf("/edits/%d", number)), nil, nil, &out)
	return out, err
}

// ApproveChange approves a change in preparation that others made.
func (c *Client) ApproveChange(ctx context.Context, name string) (out api.Prepared, err error) {
	err = c.call(ctx, http.MethodPost, preparedPath(name, "/approval"), nil, nil, &out)
	return out, err
}

// ApplyChange previews or makes a change in preparation.
func (c *Client) ApplyChange(ctx context.Context, name string, r api.ApplyPrepared) (out api.ChangeResult, err error) {
	err = c.call(ctx, http.MethodPost, preparedPath(name, "/apply"), nil, r, &out)
	return out, err
}

// SetDue sets the moment at which a change in preparation is made by itself.
func (c *Client) SetDue(ctx context.Context, name string, d api.SetDue) (out api.Prepared, err error) {
	err = c.call(ctx, http.MethodPut, preparedPath(name, "/due"), nil, d, &out)
	return out, err
}

// CallOffChange takes away the moment at which a change in preparation is made.
func (c *Client) CallOffChange(ctx context.Context, name string) (out api.Prepared, err error) {
	err = c.call(ctx, http.MethodDelete, preparedPath(name, "/due"), nil, nil, &out)
	return out, err
}

// PlanQuery says which plan is wanted as a file.
type PlanQuery struct {
	Only     []string  // kinds of items; all, if there is none
	Revision int64     // as it left the plan, if not 0
	At       time.Time // or as the plan was then, if not zero
}

// setTime sets a moment of a query, unless it is zero.
func setTime(v url.Values, name string, at time.Time) {
	if !at.IsZero() {
		v.Set(name, at.Format(time.RFC3339Nano))
	}
}

// PlanFile is the plan as a plan file.
func (c *Client) PlanFile(ctx context.Context, q PlanQuery) (out []byte, err error) {
	query := values("only", strings.Join(q.Only, ","))
	if q.Revision > 0 {
		query.Set("revision", strconv.FormatInt(q.Revision, 10))
	}
	setTime(query, "at", q.At)
	err = c.call(ctx, http.MethodGet, "/api/plan/file", query, nil, &out)
	return out, err
}

// ApplyPlanFile previews or applies a plan file.
func (c *Client) ApplyPlanFile(ctx context.Context, text []byte, o api.FileOrder) (out api.ChangeResult, err error) {
	err = c.call(ctx, http.MethodPost, "/api/plan/file", ordered(o), raw{text, "application/yaml"}, &out)
	return out, err
}

// Sheet is the items of a kind as a sheet, or a template of one.
func (c *Client) Sheet(ctx context.Context, kind string, template bool) (out []byte, err error) {
	query := url.Values{}
	if template {
		query.Set("template", "true")
	}
	err = c.call(ctx, http.MethodGet, "/api/plan/sheets/"+url.PathEscape(kind), query, nil, &out)
	return out, err
}

// ApplySheet previews or applies a sheet.
func (c *Client) ApplySheet(ctx context.Context, kind string, text []byte, o api.FileOrder) (out api.ChangeResult, err error) {
	err = c.call(ctx, http.MethodPost, "/api/plan/sheets/"+url.PathEscape(kind), ordered(o), raw{text, "text/csv"}, &out)
	return out, err
}

// ordered is how a file is to be applied, as a query.
func ordered(o api.FileOrder) url.Values {
	query := url.Values{}
	for name, set := range map[string]bool{"overwrite": o.Overwrite, "dryRun": o.DryRun, "confirm": o.Confirm, "alone": o.Alone} {
		if set {
			query.Set(name, "true")
		}
	}
	if o.Reason != "" {
		query.Set("reason", o.Reason)
	}
	if o.Base != 0 {
		query.Set("base", strconv.FormatInt(o.Base, 10))
	}
	return query
}

// LeaseSheet is the lease table as a sheet: of a scope, or of all; or a template.
func (c *Client) LeaseSheet(ctx context.Context, scope string, template bool) (out []byte, err error) {
	query := values("scope", scope)
	if template {
		query.Set("template", "true")
	}
	err = c.call(ctx, http.MethodGet, "/api/leases/sheet", query, nil, &out)
	return out, err
}

// BringLeases takes leases that another server gave into the table, or only says what would become
// of them.
func (c *Client) BringLeases(ctx context.Context, text []byte, dryRun bool) (out api.LeasesBrought, err error) {
	query := url.Values{}
	if dryRun {
		query.Set("dryRun", "true")
	}
	err = c.call(ctx, http.MethodPost, "/api/leases/sheet", query, raw{text, "text/csv"}, &out)
	return out, err
}

// Move proposes the edits that move everybody from one scope to another.
func (c *Client) Move(ctx context.Context, from, to string) (api.Move, error) {
	return get[api.Move](ctx, c, "/api/scopes/"+url.PathEscape(from)+"/move", values("to", to))
}

// ReachClients asks whether clients answer now.
func (c *Client) ReachClients(ctx context.Context, r api.ActRequest) (api.ActedOn, error) {
	return post[api.ActedOn](ctx, c, "/api/clients/reach", r)
}

// WakeClients sends clients magic packets, or only says which.
func (c *Client) WakeClients(ctx context.Context, r api.ActRequest) (api.ActedOn, error) {
	return post[api.ActedOn](ctx, c, "/api/clients/wake", r)
}

// NudgeClients has clients renew at once, or only says which.
func (c *Client) NudgeClients(ctx context.Context, r api.ActRequest) (api.ActedOn, error) {
	return post[api.ActedOn](ctx, c, "/api/clients/nudge", r)
}

// EndLeases ends the leases of clients, or only says what would happen.
func (c *Client) EndLeases(ctx context.Context, r api.ActRequest) (api.ActedOn, error) {
	return post[api.ActedOn](ctx, c, "/api/clients/end", r)
}

// ClearLeases clears many abandoned addresses.
func (c *Client) ClearLeases(ctx context.Context, r api.ClearRequest) (out api.Cleared, err error) {
	err = c.call(ctx, http.MethodPost, "/api/leases/clear", nil, r, &out)
	return out, err
}

// SignIn is a client of the same server that acts for an account, by its password.
func (c *Client) SignIn(ctx context.Context, account, password string) (*Client, error) {
	var session cookie
	if err := c.call(ctx, http.MethodPost, "/api/session", nil, api.SignIn{Account: account, Password: password}, &session); err != nil {
		return nil, err
	}
	if session == "" {
		return nil, errors.New("the server gave no session; is it a Yarn Post server?")
	}
	n := *c
	n.token = string(session)
	return &n, nil
}

// Backup writes a backup of the whole server, with the history of leases or without. The file is
// whole if it ends as a backup does, which whoever reads it sees.
func (c *Client) Backup(ctx context.Context, w io.Writer, history bool) error {
	query := url.Values{}
	if history {
		query.Set("history", "true")
	}
	n := *c
	n.http = &http.Client{Transport: c.http.Transport} // it takes its time
	return n.call(ctx, http.MethodGet, "/api/backup", query, nil, stream{w})
}

// Accounts lists who may sign in.
func (c *Client) Accounts(ctx context.Context) ([]api.Account, error) {
	return items[api.Account](ctx, c, "/api/accounts", nil)
}

// AddAccount makes an account, with a one-time password.
func (c *Client) AddAccount(ctx context.Context, name string) (out api.Account, err error) {
	err = c.call(ctx, http.MethodPost, "/api/accounts", nil, api.NewAccount{Name: name}, &out)
	return out, err
}

// CloseAccount ends an account, with its sessions and tokens.
func (c *Client) CloseAccount(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/accounts/"+url.PathEscape(name), nil, nil, nil)
}

// Tokens lists API tokens.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	return items[api.Token](ctx, c, "/api/tokens", nil)
}

// AddToken makes an API token.
func (c *Client) AddToken(ctx context.Context, name string) (out api.Token, err error) {
	err = c.call(ctx, http.MethodPost, "/api/tokens", nil, api.NewToken{Name: name}, &out)
	return out, err
}

// RevokeToken ends an API token.
func (c *Client) RevokeToken(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/tokens/"+url.PathEscape(name), nil, nil, nil)
}

// ChangePassword replaces one's own password.
func (c *Client) ChangePassword(ctx context.Context, old, password string) error {
	return c.call(ctx, http.MethodPost, "/api/password", nil, api.NewPassword{Old: old, New: password}, nil)
}

// Trust makes the client accept servers whose certificate is signed by one of
// those in a PEM file.
func (c *Client) Trust(file string) error {
	pem, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("read the certificates to trust: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(pem) {
		return fmt.Errorf("read the certificates to trust: %s holds no PEM certificate", file)
	}
	c.http.Transport = &http.Transport{Proxy: http.ProxyFromEnvironment,
		TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}
	return nil
}

// Scopes lists scopes; search and sort may be empty.
func (c *Client) Scopes(ctx context.Context, search, sort string, fields ...string) ([]api.Scope, error) {
	return items[api.Scope](ctx, c, "/api/scopes", having(values("search", search, "sort", sort), fields))
}

// Scope is one scope.
func (c *Client) Scope(ctx context.Context, name string) (api.Scope, error) {
	return get[api.Scope](ctx, c, "/api/scopes/"+url.PathEscape(name), nil)
}

// Supernets lists supernets; search may be empty.
func (c *Client) Supernets(ctx context.Context, search string) ([]api.Supernet, error) {
	return items[api.Supernet](ctx, c, "/api/supernets", values("search", search))
}

// Space says what a supernet is made of, with free prefixes of a length, 0 for none.
func (c *Client) Space(ctx context.Context, name string, bits, count int) (api.Space, error) {
	return get[api.Space](ctx, c, "/api/supernets/"+url.PathEscape(name)+"/space", values("bits", strconv.Itoa(bits), "count",
		strconv.Itoa(max(count, 1))))
}

// Names lists the names of the items of a kind.
func (c *Client) Names(ctx context.Context, kind string) ([]string, error) {
	return items[string](ctx, c, "/api/names/"+url.PathEscape(kind), nil)
}

// Links lists links.
func (c *Client) Links(ctx context.Context) ([]api.Link, error) {
	return items[api.Link](ctx, c, "/api/links", nil)
}

// Reservations lists reservations; scope and search may be empty.
func (c *Client) Reservations(ctx context.Context, scope, search string, fields ...string) ([]api.Reservation, error) {
	return items[api.Reservation](ctx, c, "/api/reservations", having(values("scope", scope, "search", search), fields))
}

// having is a query for items with values of fields of one's own, each as name=value.
func having(query url.Values, fields []string) url.Values {
	if len(fields) > 0 && query == nil {
		query = url.Values{}
	}
	for _, f := range fields {
		query.Add("field", f)
	}
	return query
}

// OwnFields lists the fields of one's own.
func (c *Client) OwnFields(ctx context.Context) ([]api.OwnField, error) {
	return items[api.OwnField](ctx, c, "/api/fields", nil)
}

// Defaults are the plan's defaults.
func (c *Client) Defaults(ctx context.Context) (api.Defaults, error) {
	return get[api.Defaults](ctx, c, "/api/defaults", nil)
}

// Options lists the options that are set; scope may be empty.
func (c *Client) Options(ctx context.Context, scope string) ([]api.OptionAt, error) {
	return items[api.OptionAt](ctx, c, "/api/options", values("scope", scope))
}

// Codes searches the codebook.
func (c *Client) Codes(ctx context.Context, search string) ([]api.Code, error) {
	return items[api.Code](ctx, c, "/api/codes", values("search", search))
}

// post sends a value and gives the answer.
func post[T any](ctx context.Context, c *Client, path string, in any) (T, error) {
	var out T
	err := c.call(ctx, http.MethodPost, path, nil, in, &out)
	return out, err
}

// Explain says what a hypothetical client would be answered.
func (c *Client) Explain(ctx context.Context, ask api.Ask) (api.Explanation, error) {
	return post[api.Explanation](ctx, c, "/api/explain", ask)
}

// ExchangeQuery filters recent messages; empty fields do not.
type ExchangeQuery struct {
	After                                  string // the Next of an earlier answer
	Client, Address, Scope, Relay, Outcome string
	Limit                                  int
}

func (q ExchangeQuery) values() url.Values {
	v := values("after", q.After, "client", q.Client, "address", q.Address, "scope", q.Scope, "relay", q.Relay, "outcome", q.Outcome)
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	return v
}

// Exchanges lists recent messages with what was decided about them.
func (c *Client) Exchanges(ctx context.Context, q ExchangeQuery) (api.Page[api.Exchange], error) {
	return get[api.Page[api.Exchange]](ctx, c, "/api/exchanges", q.values())
}

// Capture gives recent messages as a capture file.
func (c *Client) Capture(ctx context.Context, q ExchangeQuery) ([]byte, error) {
	var out []byte
	err := c.call(ctx, http.MethodGet, "/api/exchanges/pcap", q.values(), nil, &out)
	return out, err
}

// Given says what the holder of a lease asked with and was last given.
func (c *Client) Given(ctx context.Context, address string) (api.GivenOptions, error) {
	return get[api.GivenOptions](ctx, c, "/api/leases/"+url.PathEscape(address)+"/options", nil)
}

// Unmet lists options that clients ask for and nobody set.
func (c *Client) Unmet(ctx context.Context) ([]api.UnmetOption, error) {
	return items[api.UnmetOption](ctx, c, "/api/unmet", nil)
}

// Stale lists clients that hold old options; scope may be empty.
func (c *Client) Stale(ctx context.Context, scope string) (api.StaleLeases, error) {
	return get[api.StaleLeases](ctx, c, "/api/stale", values("scope", scope))
}

// Nudge makes clients renew at once.
func (c *Client) Nudge(ctx context.Context, r api.NudgeRequest) (api.Nudged, error) {
	return post[api.Nudged](ctx, c, "/api/nudge", r)
}

// Rules lists rules; scope may be empty.
func (c *Client) Rules(ctx context.Context, scope string) ([]api.Rule, error) {
	return items[api.Rule](ctx, c, "/api/rules", values("scope", scope))
}

// TryRule says whom a condition would fit.
func (c *Client) TryRule(ctx context.Context, r api.RuleTry) (api.RuleTried, error) {
	return post[api.RuleTried](ctx, c, "/api/rules/try", r)
}

// Variables lists what a condition can ask of a request.
func (c *Client) Variables(ctx context.Context) ([]api.RuleVariable, error) {
	return items[api.RuleVariable](ctx, c, "/api/rules/variables", nil)
}

// Lists lists the named sets.
func (c *Client) Lists(ctx context.Context) ([]api.List, error) {
	return items[api.List](ctx, c, "/api/lists", nil)
}

// Codebooks lists own codebooks and those of vendors.
func (c *Client) Codebooks(ctx context.Context) ([]api.Codebook, error) {
	return items[api.Codebook](ctx, c, "/api/codebooks", nil)
}

// Vendors lists the vendor classes seen.
func (c *Client) Vendors(ctx context.Context) ([]api.Vendor, error) {
	return items[api.Vendor](ctx, c, "/api/vendors", nil)
}

// Trials lists trials with their last results.
func (c *Client) Trials(ctx context.Context) ([]api.Trial, error) {
	return items[api.Trial](ctx, c, "/api/trials", nil)
}

// TrialResults lists the last results of a trial, newest first.
func (c *Client) TrialResults(ctx context.Context, name string) ([]api.TrialResult, error) {
	return items[api.TrialResult](ctx, c, "/api/trials/"+url.PathEscape(name)+"/results", nil)
}

// RunTrial makes one trial.
func (c *Client) RunTrial(ctx context.Context, r api.TrialRun) (api.TrialResult, error) {
	return post[api.TrialResult](ctx, c, "/api/trials/run", r)
}

// Listening says what listening beside another server showed.
func (c *Client) Listening(ctx context.Context) (api.Listening, error) {
	return get[api.Listening](ctx, c, "/api/listening", nil)
}

// HeardProposal is a plan file of what the clients of another server would need to keep what they have.
func (c *Client) HeardProposal(ctx context.Context) (out []byte, err error) {
	err = c.call(ctx, http.MethodGet, "/api/listening/proposal", nil, nil, &out)
	return out, err
}

// ForgetRelays forgets a relay that was heard, or all that the plan does not name for "".
func (c *Client) ForgetRelays(ctx context.Context, address string) (api.Forgotten, error) {
	q := url.Values{}
	if address != "" {
		q.Set("address", address)
	}
	var out api.Forgotten
	err := c.call(ctx, http.MethodDelete, "/api/relays", q, nil, &out)
	return out, err
}

// Relays lists relays.
func (c *Client) Relays(ctx context.Context) ([]api.Relay, error) {
	return items[api.Relay](ctx, c, "/api/relays", nil)
}

// Preflight looks at the server's host again.
func (c *Client) Preflight(ctx context.Context) ([]api.Check, error) {
	page, err := post[api.Page[api.Check]](ctx, c, "/api/preflight", nil)
	return page.Items, err
}

// LeaseQuery says which leases to list, and how.
type LeaseQuery struct {
	At time.Time // as the table was then; as it is, if zero

	Search, Scope, Sort, After string
	Status                     []string
	Desc                       bool
	Limit                      int
}

// Leases gives one page of the lease table.
func (c *Client) Leases(ctx context.Context, q LeaseQuery) (api.Page[api.Lease], error) {
	v := values("search", q.Search, "scope", q.Scope, "sort", q.Sort, "after", q.After, "status", strings.Join(q.Status, ","))
	if q.Desc {
		v.Set("desc", "true")
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	setTime(v, "at", q.At)
	return get[api.Page[api.Lease]](ctx, c, "/api/leases", v)
}

// Lease is one lease.
func (c *Client) Lease(ctx context.Context, address string) (api.Lease, error) {
	return get[api.Lease](ctx, c, "/api/leases/"+url.PathEscape(address), nil)
}

// HistoryQuery asks who had an address, or where a client has been.
type HistoryQuery struct {
	Who   string    // address, delegated prefix, hardware address, DUID or host name
	At    time.Time // with an address: who had it at this moment
	Limit int
}

// History lists what happened, newest first.
func (c *Client) History(ctx context.Context, q HistoryQuery) ([]api.LeaseEvent, error) {
	v := values("who", q.Who)
	if !q.At.IsZero() {
		v.Set("at", q.At.Format(time.RFC3339))
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	return items[api.LeaseEvent](ctx, c, "/api/history", v)
}

// EndLease ends a lease, or only says what would happen.
func (c *Client) EndLease(ctx context.Context, address string, dryRun bool) (api.Ended, error) {
	return c.finish(ctx, address, "end", dryRun)
}

// ClearLease clears an abandoned address, or only says what would happen.
func (c *Client) ClearLease(ctx context.Context, address string, dryRun bool) (api.Ended, error) {
	return c.finish(ctx, address, "clear", dryRun)
}

func (c *Client) finish(ctx context.Context, address, how string, dryRun bool) (out api.Ended, err error) {
	err = c.call(ctx, http.MethodPost, "/api/leases/"+url.PathEscape(address)+"/"+how, values("dryRun", strconv.FormatBool(dryRun)), nil, &out)
	return out, err
}

// Unserved lists the clients that go without; its page is the only one.
func (c *Client) Unserved(ctx context.Context, search, reason string) (api.Page[api.Unserved], error) {
	return get[api.Page[api.Unserved]](ctx, c, "/api/unserved", values("search", search, "reason", reason))
}

// Revisions lists revisions of the plan, newest first.
func (c *Client) Revisions(ctx context.Context, before int64, limit int) ([]api.Revision, error) {
	return items[api.Revision](ctx, c, "/api/plan/revisions", values("after", strconv.FormatInt(before, 10), "limit", strconv.Itoa(limit)))
}

// Revision is one revision of the plan.
func (c *Client) Revision(ctx context.Context, number int64) (api.Revision, error) {
	return get[api.Revision](ctx, c, "/api/plan/revisions/"+strconv.FormatInt(number, 10), nil)
}

// values makes a query of names and values, without the empty ones.
func values(pairs ...string) url.Values {
	v := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			v.Set(pairs[i], pairs[i+1])
		}
	}
	return v
}
