package alert

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"yarnpost/core/audit"
	"yarnpost/service/clock"
	"yarnpost/service/store"
	"yarnpost/service/work"
)

// Limits of sending.
const (
	sendTime   = 10 * time.Second
	retryFirst = 5 * time.Second
	retryMost  = time.Hour
	giveUp     = 72 * time.Hour
)

// Check looks whether a target makes sense, and whether alerts may go there.
func (r *Manager) Check(ctx context.Context, t store.Target) error {
	if err := plainName(t.Name); err != nil {
		return err
	}
	if _, err := audit.ParseSeverity(t.Severity); err != nil {
		return fmt.Errorf("%w: %w", ErrAlert, err)
	}
	u, err := parseTarget(t.URL)
	if err != nil {
		return err
	}
	if t.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(t.CA)) {
		return fmt.Errorf("%w: the certificates to trust are not PEM", ErrAlert)
	}
	_, err = r.resolve(ctx, u.Hostname())
	return err
}

func plainName(name string) error {
	if name == "" || len(name) > 63 || strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789-_.") != "" {
		return fmt.Errorf("%w: %q cannot be the name of a target; use letters, digits, - and _", ErrAlert, name)
	}
	return nil
}

// ports are those that a kind of target has by itself.
var ports = map[string]string{"https": "443", "http": "80", "syslog+udp": "514", "syslog+tcp": "601", "syslog+tls": "6514"}

func parseTarget(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Hostname() == "" || u.User != nil || ports[u.Scheme] == "" {
		return nil, fmt.Errorf("%w: %q is no target; write https://host/path, or syslog+udp://host, syslog+tcp://host, syslog+tls://host",
			ErrAlert, text)
	}
	return u, nil
}

// resolve finds the addresses of a host that alerts may go to.
func (r *Manager) resolve(ctx context.Context, host string) ([]netip.Addr, error) {
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	list, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrAlert, host, err)
	}
	var ok []netip.Addr
	for _, a := range list {
		if a = a.Unmap(); slices.ContainsFunc(r.allowed, func(p netip.Prefix) bool { return p.Contains(a) }) {
			ok = append(ok, a)
		}
	}
	if len(ok) == 0 {
		return nil, fmt.Errorf("%w: %s is not where alerts may go; whoever runs the service allows it: yarnpostd serve --alerts-to %v",
			ErrAlert, host,
			netip.PrefixFrom(list[0].Unmap(), list[0].Unmap().BitLen()))
	}
	return ok, nil
}

// dial connects to a target, at an address that is allowed, whatever its name says by
// now.
func (r *Manager) dial(ctx context.Context, network string, u *url.URL) (net.Conn, error) {
	list, err := r.resolve(ctx, u.Hostname())
	if err != nil {
		return nil, err
	}
	port := u.Port()
	if port == "" {
		port = ports[u.Scheme]
	}
	d := net.Dialer{Timeout: sendTime}
	for _, a := range list {
		var conn net.Conn
		if conn, err = d.DialContext(ctx, network, net.JoinHostPort(a.String(), port)); err == nil {
			return conn, conn.SetDeadline(clock.Deadline(sendTime))
		}
	}
	return nil, err
}

// Deliver sends what is queued until the context ends.
func (r *Manager) Deliver(ctx context.Context) {
	for ctx.Err() == nil {
		next := r.deliver(ctx)
		select {
		case <-ctx.Done():
		case <-r.wake:
		case <-time.After(next):
		}
	}
}

// queueMost is how many messages to one target may wait.
const queueMost = 1000

// deliver sends what is due, to all targets side by side, and says how long to wait for
// more.
func (r *Manager) deliver(ctx context.Context) time.Duration {
	const idle = 15 * time.Second
	if n, err := r.store.TrimAlerts(ctx, queueMost); err == nil && n > 0 {
		r.log.Error("alerts were given up, since too many wait to be sent", "alerts", n)
	}
	list, err := r.store.DueAlerts(ctx, r.clock.Now())
	if err != nil {
		return idle
	}
	var sent, sick atomic.Bool
	work.SideBySide(len(list), len(list), func(i int) { // one for each target
		q := list[i]
		err := r.Send(ctx, q.Target, q)
		if ctx.Err() != nil {
			return
		}
		switch age := r.clock.Now().Sub(q.At); {
		case err == nil:
			sent.Store(true)
			err = r.store.AlertSent(ctx, q.ID)
		case age > giveUp:
			r.log.Error("an alert could not be sent for three days and is given up", "target", q.Target.Name, "err", err)
			err = r.store.AlertSent(ctx, q.ID)
		default:
			wait := min(retryFirst<<min(q.Tries, 12), retryMost)
			r.log.Warn("an alert could not be sent; it is tried again", "target", q.Target.Name, "in", wait, "err", err)
			err = r.store.AlertFailed(ctx, q.ID, r.clock.Now().Add(wait), err.Error())
		}
		if err != nil {
			r.log.Warn("the queue of alerts is not on record", "err", err)
			sick.Store(true)
		}
	})
	switch {
	case sick.Load():
		return idle
	case sent.Load(): // there may be more behind it
		return 0
	}
	return min(idle, retryFirst)
}

// Send sends one message to a target now.
func (r *Manager) Send(ctx context.Context, t store.Target, q store.Queued) error {
	u, err := parseTarget(t.URL)
	if err != nil {
		return err
	}
	if strings.HasPrefix(u.Scheme, "syslog") {
		return r.syslog(ctx, t, u, q)
	}
	return r.webhook(ctx, t, u, q)
}

// event is a message in the form of CloudEvents 1.0 (structured, JSON).
type event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Time        time.Time `json:"time"`
	Subject     string    `json:"subject"`
	ContentType string    `json:"datacontenttype"`
	Data        data      `json:"data"`
}

type data struct {
	Server   string     `json:"server"`
	Code     string     `json:"code"`
	Severity string     `json:"severity"`
	Subject  string     `json:"subject"`
	Scope    string     `json:"scope,omitempty"`
	Text     string     `json:"text"`
	Mend     string     `json:"mend"`
	Command  string     `json:"command,omitempty"`
	Since    time.Time  `json:"since"`
	Ended    *time.Time `json:"ended,omitempty"`
	Report   int64      `json:"report,omitempty"` // its number
	Page     string     `json:"page,omitempty"`   // of a report, in HTML; empty once it is no longer kept
}

// SignatureHeader carries the HMAC of a body, with SHA-256 and the target's secret,
// in hexadecimal behind "sha256=".
const SignatureHeader = "Yarnpost-Signature"

// Sign is the value of SignatureHeader for a body.
func Sign(secret, body []byte) string {
	h := hmac.New(sha256.New, secret)
	h.Write(body)
	return "sha256=" + hex.EncodeToString(h.Sum(nil))
}

func (r *Manager) webhook(ctx context.Context, t store.Target, u *url.URL, q store.Queued) error {
	number := q.ID
	if number == 0 { // it never was in the queue
		number = q.At.UnixNano()
	}
	f := q.Alert.Finding
	kind := "yarnpost.alert." + q.What
	if q.Report != 0 {
		kind = "yarnpost.report"
	}
	e := event{SpecVersion: "1.0", ID: fmt.Sprintf("%s-%d", q.Server, number), Source: "/yarnpost/" + url.PathEscape(q.Server),
		Type: kind,
		Time: q.At.UTC(), Subject: q.Alert.Key, ContentType: "application/json", Data: data{Server: q.Server, Code: f.ID,
			Severity: f.Severity.String(), Subject: f.Subject, Scope: f.Scope, Text: said(q), Mend: f.Mend, Command: f.Command,
			Since: q.Alert.Since.UTC()}}
	if !q.Alert.Ended.IsZero() {
		end := q.Alert.Ended.UTC()
		e.Data.Ended = &end
	}
	if q.Report != 0 {
		page, _, err := r.store.ReportPage(ctx, q.Report)
		if err != nil {
			return err
		}
		e.Data.Report, e.Data.Page = q.Report, string(page)
	}
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	config, err := tlsOf(t, u)
	if err != nil {
		return err
	}
	transport := &http.Transport{TLSClientConfig: config, DisableKeepAlives: true, Proxy: nil,
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) { return r.dial(ctx, network, u) }}
	c := http.Client{Timeout: sendTime, Transport: transport, CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	}}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, u.String(), bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json")
	req.Header.Set("User-Agent", "yarnpost")
	if len(t.Secret) > 0 {
		req.Header.Set(SignatureHeader, Sign(t.Secret, body))
	}
	resp, err := c.Do(req)
	if err != nil {
		if with := (*url.Error)(nil); errors.As(err, &with) {
			err = with.Err // the address may be as good as a password
		}
		return err
	}
	defer resp.Body.Close()
	if _, err := io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10)); err != nil {
		return err
	}
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("%s says %s", u.Host, resp.Status)
	}
	return nil
}

// Syslog's numbers (RFC 5424 section 6.2.1): the facility of daemons, and severities.
const facility = 3

var levels = map[audit.Severity]int{audit.Trouble: 3, audit.Warning: 4, audit.Note: 5}

// said is what a message says; an alert that cleared tells what is so no more.
func said(q store.Queued) string {
	if q.What == "cleared" {
		return "no longer so: " + q.Alert.Finding.Text
	}
	return q.Alert.Finding.Text
}

// line is a message of RFC 5424. Its structured data stand under the enterprise
// number that is set aside for documents (RFC 5612).
func line(q store.Queued) []byte {
	level := levels[q.Alert.Finding.Severity]
	if q.What == "cleared" {
		level = 5
	}
	escaped := strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)
	host, _ := os.Hostname()
	if host == "" {
		host = "-"
	}
	return fmt.Appendf(nil,
		"<%d>1 %s %s yarnpost %d %s [alert@32473 what=\"%s\" server=\"%s\" severity=\"%s\" subject=\"%s\"] \xef\xbb\xbf%s: %s",
		facility*8+level,
		q.At.UTC().Format("2006-01-02T15:04:05.000000Z"), host, os.Getpid(), q.Alert.Finding.ID, q.What, escaped.Replace(q.Server),
		q.Alert.Finding.Severity,
		escaped.Replace(q.Alert.Finding.Subject), q.What, said(q))
}

// syslog sends a line: a datagram (RFC 5426), or counted octets in a stream (RFC
// 6587), which may be of TLS (RFC 5425).
func (r *Manager) syslog(ctx context.Context, t store.Target, u *url.URL, q store.Queued) error {
	network := "tcp"
	if u.Scheme == "syslog+udp" {
		network = "udp"
	}
	conn, err := r.dial(ctx, network, u)
	if err != nil {
		return err
	}
	defer conn.Close()
	b := line(q)
	if network == "tcp" {
		b = append(fmt.Appendf(nil, "%d ", len(b)), b...)
	}
	if u.Scheme == "syslog+tls" {
		config, err := tlsOf(t, u)
		if err != nil {
			return err
		}
		secured := tls.Client(conn, config)
		if err := secured.HandshakeContext(ctx); err != nil {
			return err
		}
		if _, err := secured.Write(b); err != nil {
			return err
		}
		return secured.Close()
	}
	_, err = conn.Write(b)
	return err
}

// tlsOf is how a target is trusted: by the system's authorities, or by those that
// were named with it.
func tlsOf(t store.Target, u *url.URL) (*tls.Config, error) {
	c := &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	if t.CA != "" {
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM([]byte(t.CA)) {
			return nil, fmt.Errorf("%w: the certificates to trust are not PEM", ErrAlert)
		}
	}
	return c, nil
}
