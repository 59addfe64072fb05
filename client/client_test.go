package client

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

func TestProblems(t *testing.T) {
	status, body := 0, ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(status)
		io.WriteString(w, body)
	}))
	defer s.Close()
	c := New(s.URL+"/", " token\n")
	for _, x := range []struct {
		status int
		body   string
		says   string
		typed  bool
	}{
		{409, `{"title":"Conflict","status":409,"detail":"look again"}`, "look again", true},
		{422, `{"title":"Unprocessable","status":422,"detail":"validation failed","errors":[{"message":"expected string","location":"body.name"}]}`, "body.name: expected string", true},
		{404, `{"title":"Not Found","status":404}`, "Not Found", true},
		{502, "<html>proxy</html>", "502", false},
		{200, "{", "cannot be read", false},
	} {
		status, body = x.status, x.body
		_, err := c.Status(context.Background())
		var p *Problem
		if err == nil || !strings.Contains(err.Error(), x.says) || errors.As(err, &p) != x.typed || x.typed && p.Status != x.status {
			t.Errorf("%d %s: %v", x.status, x.body, err)
		}
	}
	if _, err := New("http://127.0.0.1:1", "x").Status(context.Background()); err == nil ||
		!strings.HasPrefix(err.Error(), "cannot reach the server at http://127.0.0.1:1") {
		t.Errorf("no server: %v", err)
	}
}

func TestQueries(t *testing.T) {
	var got string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r.Method + " " + r.URL.RequestURI() + " " + r.Header.Get("Authorization")
		io.WriteString(w, "{}")
	}))
	defer s.Close()
	c := New(s.URL, "secret")
	ctx := context.Background()
	for want, do := range map[string]func() error{
		"GET /api/leases?desc=true&limit=7&search=a%26b&sort=expires&status=active%2Cexpired Bearer secret": func() error {
			_, err := c.Leases(ctx, LeaseQuery{Search: "a&b", Sort: "expires", Desc: true, Limit: 7, Status: []string{"active", "expired"}})
			return err
		},
		"GET /api/scopes/a%2Fb Bearer secret":                        func() error { _, err := c.Scope(ctx, "a/b"); return err },
		"POST /api/leases/10.0.0.1/end?dryRun=true Bearer secret":    func() error { _, err := c.EndLease(ctx, "10.0.0.1", true); return err },
		"POST /api/leases/10.0.0.1/clear?dryRun=false Bearer secret": func() error { _, err := c.ClearLease(ctx, "10.0.0.1", false); return err },
		"GET /api/exchanges?after=7&outcome=refused Bearer secret": func() error {
			_,
				err := c.Exchanges(ctx, ExchangeQuery{After: "7", Outcome: "refused"})
			return err
		},
		"GET /api/plan/revisions/3 Bearer secret": func() error { _, err := c.Revision(ctx, 3); return err },
	} {
		if err := do(); err != nil || got != want {
			t.Errorf("asked %q, %v; want %q", got, err, want)
		}
	}
}
