package e2e

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"yarnpost/core/audit"
	"yarnpost/demo"
)

// A database that hangs is missed although nobody needs it just then, and holds up
// nobody who asks: what the service knows is given, and what it does not is refused
// with words that say why. What was under way when it began to hang is given up.
func TestDatabaseHangs(t *testing.T) {
	t.Parallel()
	s := startService(t)
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	s.must("trial", "add", "press", "--scope", "looms")
	c := &demo.Client{Relay: s.relay("127.77.0.1", "10.77.0.1"), Hardware: hw(1)}
	if err := c.Get(ctx); err != nil {
		t.Fatal(err)
	}
	s.calm()
	password, err := os.ReadFile(filepath.Join(s.dir, "admin.password"))
	if err != nil {
		t.Fatal(err)
	}
	thaw := freezePostgres(t, s)
	ask := func(method, path, body string) (status int, text string) {
		t.Helper()
		began := time.Now()
		status, answer := s.ask(method, path, body)
		if took := time.Since(began); took > 10*time.Second {
			t.Errorf("%s %s with a database that hangs takes %s", method, path, took)
		}
		return status, detail(answer)
	}
	past := "/api/history?address=" + c.Address.String()
	if status, text := ask("GET", past, ""); status != 503 || !strings.Contains(text, "the database does not answer") {
		t.Errorf("who had an address, asked as the database begins to hang: %d %q", status, text)
	}
	s.await(func() bool {
		status, err := s.api().Status(ctx)
		return err == nil && strings.Contains(status.Problem, "has not answered")
	}, "status to say that the database hangs, with nobody who needs it")
	known := map[string]bool{"/api/leases": true, "/api/scopes": true, "/api/status": true, "/api/unserved": true,
		"/api/capacity": true, "/api/audit/codes": true,
		"/api/session": true, "/api/leases/{address}": true, "/api/exchanges": true}
	for _, path := range gets(t) {
		at := plainPath(path)
		if at == "" {
			continue // it never ends
		}
		status, text := ask("GET", at, "")
		if status == 503 && !strings.Contains(text, "database") || status >= 500 && status != 503 {
			t.Errorf("GET %s with a database that hangs: %d %q", at, status, text)
		}
		if known[path] && status != 200 {
			t.Errorf("GET %s needs no database, and gives %d %q", at, status, text)
		}
	}
	for path, body := range map[string]string{
		"/api/plan/changes":      `{"edits":[{"scope":{"name":"stores","subnet":"10.78.0.0/24"}}]}`,
		"/api/tokens":            `{"name":"desk"}`,
		"/api/audit/runs":        `{}`,
		"/api/audit/acknowledge": `{"keys":["host clock"],"reason":"it may","until":"2999-01-01T00:00:00Z"}`,
		"/api/trials/run":        `{"name":"press"}`,
		"/api/pair/invite":       `{"at":"127.0.0.1:1"}`,
		"/api/session":           `{"account":"admin","password":"wrong"}`,
		"/api/rehearsals":        `{"since":"2026-01-01T00:00:00Z","edits":[]}`,
	} {
		if status, text := ask("POST", path, body); status >= 500 && !strings.Contains(text, "database") {
			t.Errorf("POST %s with a database that hangs: %d %q", path, status, text)
		}
	}
	if status, text := ask("POST", "/api/session",
		`{"account":"admin","password":"`+strings.TrimSpace(string(password))+`"}`); status != 200 {
		t.Errorf("nobody can sign in with a database that hangs: %d %q", status, text)
	}
	if err := c.Renew(ctx); err != nil {
		t.Errorf("a renewal with a database that hangs: %v", err)
	}
	thaw()
	s.await(func() bool {
		_, _, code := s.cli("scope", "add", "stores", "--subnet", "10.78.0.0/24")
		return code == 0
	}, "a change with the database back")
	if status, text := ask("GET", past, ""); status != 200 {
		t.Errorf("who had an address, with the database back: %d %q", status, text)
	}
}

// plainPath is a path with something that is there in each of its places, or "" for the
// stream of events.
func plainPath(path string) string {
	switch path {
	case "/api/events":
		return ""
	case "/api/subnet":
		return path + "?subnet=10.77.0.0/24"
	case "/api/trials/{name}/results":
		return "/api/trials/press/results"
	}
	return strings.NewReplacer("{name}", "looms", "{address}", "10.77.0.100", "{number}", "1", "{id}", "1").Replace(path)
}

// detail is what a problem document says.
func detail(answer string) string {
	var problem struct{ Detail string }
	_ = json.Unmarshal([]byte(answer), &problem) // only problems are asked what they say
	return problem.Detail
}

// gets are the paths that can be asked for.
func gets(t *testing.T) (paths []string) {
	t.Helper()
	for path, methods := range readOpenAPI(t).Paths {
		if methods["get"] != nil {
			paths = append(paths, path)
		}
	}
	return paths
}

// Every kind of finding is planted in a running service by some test here.
func TestEveryFindingIsPlanted(t *testing.T) {
	files, err := filepath.Glob("*_test.go")
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	var all []byte
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, text...)
	}
	for _, c := range audit.Codes() {
		if !regexp.MustCompile(`["\s]` + c.ID + `["\s]`).Match(all) {
			t.Errorf("no test plants %s", c.ID)
		}
	}
}
