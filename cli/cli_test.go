package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/api"
)

// fake is a server that answers every path from a table and notes what it was
// asked.
type fake struct {
	answers map[string]any // by method and path
	asked   []string
	bodies  []api.ChangeRequest
}

func (f *fake) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	key := r.Method + " " + r.URL.Path
	f.asked = append(f.asked, key+"?"+r.URL.RawQuery)
	if r.URL.Path == "/api/plan/changes" {
		var c api.ChangeRequest
		json.NewDecoder(r.Body).Decode(&c)
		f.bodies = append(f.bodies, c)
	}
	v, ok := f.answers[key]
	if !ok || r.Header.Get("Authorization") != "Bearer secret" {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusNotFound)
		io.WriteString(w, `{"title":"Not Found","status":404,"detail":"no such thing; look again","errors":[{"message":"odd","location":"body.x"}]}`)
		return
	}
	json.NewEncoder(w).Encode(v)
}

// run runs a command line against a fake server.
func (f *fake) run(t *testing.T, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	server := httptest.NewServer(f)
	defer server.Close()
	token := filepath.Join(t.TempDir(), "token")
	os.WriteFile(token, []byte("secret\n"), 0o600)
	var out, errs bytes.Buffer
	code = Run(context.Background(), append(args, "--server", server.URL, "--token-file="+token), &out, &errs)
	return out.String(), errs.String(), code
}

func TestFlagsStandAnywhere(t *testing.T) {
	f := &fake{answers: map[string]any{"GET /api/leases": api.Page[api.Lease]{Items: []api.Lease{{Address: "10.0.0.1", Status: "active",
		Hostname: "=x"}}, Total: 1}}}
	for _, args := range [][]string{
		{"lease", "list", "card", "--scope", "looms", "--csv"}, {"lease", "list", "--scope=looms", "card", "--csv"},
		{"--csv", "lease", "list", "--scope", "looms", "card"},
	} {
		f.asked = nil
		out, errs, code := f.run(t, args...)
		if code != 0 || len(f.asked) != 1 || !strings.Contains(f.asked[0], "scope=looms") || !strings.Contains(f.asked[0], "search=card") {
			t.Errorf("%v: exit %d, asked %v\n%s", args, code, f.asked, errs)
		}
		if !strings.HasPrefix(out, "address,status,") || !strings.Contains(out, "'=x") || !strings.Contains(out, "\r\n") {
			t.Errorf("%v printed %q", args, out)
		}
	}
}

// Nothing that a client calls itself reaches a spreadsheet as a formula, and a list of
// nothing is a list.
func TestListsForPrograms(t *testing.T) {
	for name, want := range map[string]string{"=cmd|calc": "'=cmd|calc", "＝cmd": "'＝cmd", " @x": "' @x", "loom": ",loom,"} {
		page := api.Page[api.Lease]{Items: []api.Lease{{Address: "10.0.0.1", Hostname: name}}, Total: 1}
		f := &fake{answers: map[string]any{"GET /api/leases": page}}
		if out, errs, _ := f.run(t, "lease", "list", "--csv"); !strings.Contains(out, want) {
			t.Errorf("%q: %s%s", name, out, errs)
		}
	}
	f := &fake{answers: map[string]any{"GET /api/leases": api.Page[api.Lease]{}, "GET /api/plan/revisions": api.Page[api.Revision]{}}}
	for _, args := range [][]string{{"lease", "list", "--json"}, {"plan", "history", "--json"}} {
		if out, errs, code := f.run(t, args...); code != 0 || strings.TrimSpace(out) != "[]" {
			t.Errorf("%v: exit %d, %q %s", args, code, out, errs)
		}
	}
}

func TestPagesAreFollowed(t *testing.T) {
	page := 0
	server := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		page++
		p := api.Page[api.Lease]{Items: []api.Lease{{Address: "10.0.0." + string(rune('0'+page))}}}
		if page < 3 {
			p.Next = "more"
		}
		json.NewEncoder(w).Encode(p)
	})
	s := httptest.NewServer(server)
	defer s.Close()
	t.Setenv("YARNPOST_SERVER", s.URL)
	t.Setenv("YARNPOST_TOKEN", "x")
	var out, errs bytes.Buffer
	if code := Run(context.Background(), []string{"lease", "list", "--json"}, &out, &errs); code != 0 {
		t.Fatal(errs.String())
	}
	var list []api.Lease
	if err := json.Unmarshal(out.Bytes(), &list); err != nil || len(list) != 3 {
		t.Errorf("%d leases of three pages, %v", len(list), err)
	}
}

// A risky change is previewed and made only with --yes; an easy one is made at
// once, against the revision that was previewed.
func TestPreviewThenYes(t *testing.T) {
	risky := api.ChangeResult{Base: 4, Revision: 4, Diff: []api.DiffLine{{Kind: "scope", Name: "looms", Text: "mode: serving → held"}},
		Effects: []api.Effect{{Text: "3 clients would not be able to renew", Clients: 3, Strands: true}}}
	f := &fake{answers: map[string]any{"POST /api/plan/changes": risky, "GET /api/scopes/looms": api.Scope{Name: "looms", Mode: "held"}}}
	out, errs, code := f.run(t, "scope", "hold", "looms")
	if code != ExitPreview || !strings.Contains(out, "3 clients would not") || !strings.Contains(errs, "--yes") || len(f.bodies) != 1 ||
		!f.bodies[0].DryRun {
		t.Errorf("exit %d, %d requests\n%s%s", code, len(f.bodies), out, errs)
	}
	f.bodies = nil
	if _, _, code = f.run(t, "scope", "hold", "looms", "--yes"); code != 0 || len(f.bodies) != 1 || f.bodies[0].DryRun ||
		!f.bodies[0].Confirm {
		t.Errorf("with --yes: exit %d, %+v", code, f.bodies)
	}
	f.bodies = nil
	risky.Effects = nil
	f.answers["POST /api/plan/changes"] = risky
	if _, _, code = f.run(t, "scope", "hold", "looms"); code != 0 || len(f.bodies) != 2 || f.bodies[1].Base != 4 || f.bodies[1].DryRun {
		t.Errorf("without clients: exit %d, %+v", code, f.bodies)
	}
	f.bodies = nil
	if out, _, _ = f.run(t, "scope", "hold", "looms", "--dry-run"); len(f.bodies) != 1 || !f.bodies[0].DryRun ||
		!strings.Contains(out, "Would change revision 4") {
		t.Errorf("dry run: %+v\n%s", f.bodies, out)
	}
}

func TestScopeEditSendsWhatIsNamed(t *testing.T) {
	f := &fake{answers: map[string]any{"POST /api/plan/changes": api.ChangeResult{Applied: true, Revision: 2,
		Diff: []api.DiffLine{{Text: "x"}}}, "GET /api/scopes/looms": api.Scope{}}}
	f.run(t, "scope", "edit", "looms", "--exclude", "10.0.0.9,the plotter", "--router", "10.0.0.1", "--option", "66=a=b", "--unset",
		"ntp-servers", "--lease", "")
	e := f.bodies[len(f.bodies)-1].Edits[0].Scope
	if e.Subnet != nil || e.Pools != nil || e.Lease == nil || *e.Lease != "" ||
		e.AddExclusions[0] != (api.Exclusion{Range: "10.0.0.9", User: "the plotter"}) ||
		e.Options["router"] != "10.0.0.1" || e.Options["66"] != "a=b" || e.Options["ntp-servers"] != "" || len(e.Options) != 3 {
		t.Errorf("sent %+v", e)
	}
}

func TestErrorsSayWhatToDo(t *testing.T) {
	f := &fake{}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"scope", "show", "looms"}, ExitRefused, "no such thing; look again; body.x: odd"},
		{[]string{"scope", "show"}, ExitUsage, "needs NAME"},
		{[]string{"scope", "show", "a", "b"}, ExitUsage, `does not take "b"`},
		{[]string{"status", "--json", "--csv"}, ExitUsage, "choose one"},
		{[]string{"scope", "add", "x", "--subnet", "10.0.0.0/24", "--option", "router"}, ExitUsage, "NAME=VALUE"},
		{[]string{"scope", "drain", "x", "--until", "soon"}, ExitUsage, "nor a span"},
		{[]string{"plan", "show", "x"}, ExitUsage, "not a revision number"},
		{[]string{"completion", "tcsh"}, ExitUsage, "bash, zsh and fish"},
	} {
		_, errs, code := f.run(t, c.args...)
		if code != c.code || !strings.Contains(errs, c.says) {
			t.Errorf("%v: exit %d and %q, want %d and %q", c.args, code, errs, c.code, c.says)
		}
	}
	var out, errs bytes.Buffer
	if code := Run(context.Background(), []string{"status", "--token-file", "/nowhere/token"}, &out, &errs); code != ExitUsage ||
		!strings.Contains(errs.String(), "admin.token") {
		t.Errorf("without a token: exit %d, %s", code, errs.String())
	}
}

func TestRelative(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "now", 90 * time.Second: "in 90 s", -3 * time.Minute: "3 min ago",
		3 * time.Hour: "in 3 h", -72 * time.Hour: "3 d ago", 119 * time.Minute: "in 119 min", 8*time.Hour - time.Second: "in 8 h",
		-36*time.Hour - time.Minute: "36 h ago"} {
		if got := relative(d); got != want {
			t.Errorf("relative(%v) = %q, want %q", d, got, want)
		}
	}
	at, err := moment("2d12h")
	if d := time.Until(at); err != nil || d < 59*time.Hour || d > 61*time.Hour {
		t.Errorf("moment: %v, %v", d, err)
	}
	if at, err = moment("2026-12-24T18:00:00Z"); err != nil || at.Hour() != 18 {
		t.Errorf("moment: %v, %v", at, err)
	}
}

func TestSummary(t *testing.T) {
	line := func(kind, name, text string) api.DiffLine { return api.DiffLine{Kind: kind, Name: name, Text: text} }
	for want, r := range map[string]api.Revision{
		"": {},
		"scope looms added, and 1 more": {Items: 2, Lines: 3,
			Diff: []api.DiffLine{line("link", "looms", "added"), line("scope", "looms", "added"), line("scope", "looms", "mode: held")}},
		"scope looms: lease time: 1h → 2h, and 1 more setting": {Items: 1, Lines: 2,
			Diff: []api.DiffLine{line("scope", "looms", "lease time: 1h → 2h"), line("scope", "looms", "note: x")}},
		"scope looms: lease time: 1h → 2h, and 40 more settings": {Items: 1, Lines: 41,
			Diff: []api.DiffLine{line("scope", "looms", "lease time: 1h → 2h")}},
		"reservation r removed": {Items: 1, Lines: 1, Diff: []api.DiffLine{line("reservation", "r", "removed")}},
	} {
		if got := summary(r); got != want {
			t.Errorf("summary %q, want %q", got, want)
		}
	}
}

// Every command explains itself, and completion knows all of them.
func TestHelpAndCompletion(t *testing.T) {
	var all bytes.Buffer
	for _, g := range groups {
		if isNoun(commands(), g.name) || !help(&all, g.name) {
			t.Errorf("group %s has the name of a noun, or nothing in it", g.name)
		}
	}
	if help(io.Discard, "nosuch") {
		t.Error("there is help about nothing")
	}
	var first, errs bytes.Buffer
	if code := Run(context.Background(), nil, &first, &errs); code != 0 || strings.Count(first.String(), "\n") > 45 {
		t.Errorf("the first help has %d lines", strings.Count(first.String(), "\n"))
	}
	bash, fish := bashCompletion(), fishCompletion()
	for _, c := range commands() {
		if c.short == "" || !strings.Contains(all.String(), "yarnpost "+c.name) {
			t.Errorf("%s is not in the help", c.name)
		}
		var out, errs bytes.Buffer
		if code := Run(context.Background(), append(strings.Fields(c.name), "-h"), &out, &errs); code != 0 ||
			!strings.Contains(out.String(), "--json") {
			t.Errorf("%s -h: exit %d\n%s", c.name, code, out.String())
		}
		if c.write != strings.Contains(out.String(), "--dry-run") {
			t.Errorf("%s: a write has --dry-run, and nothing else has", c.name)
		}
		verb := c.name[strings.LastIndex(c.name, " ")+1:]
		if !strings.Contains(bash, verb) || !strings.Contains(fish, verb) {
			t.Errorf("completion does not know %s", c.name)
		}
		f := flag.NewFlagSet("x", flag.ContinueOnError)
		c.flags(f)
		f.VisitAll(func(fl *flag.Flag) {
			if fl.Usage == "" {
				t.Errorf("%s --%s says nothing of itself", c.name, fl.Name)
			}
		})
	}
}

// What mends a client has a name that the plan takes, whatever the client calls
// itself, and a scope for its link leaves its relay out of the pools.
func TestMendingNames(t *testing.T) {
	for hostname, want := range map[string]string{"loom-3.mill": "loom-3-mill", "..": "client-020000000001", "<b>Ünter</b>": "b-nter-b",
		"": "client-020000000001", strings.Repeat("a", 59) + ".b": strings.Repeat("a", 59)} {
		e, _ := mending(api.Unserved{Reason: "pool-empty", Scope: "looms", Hardware: "02:00:00:00:00:01", Hostname: hostname}, "")
		if e == nil || e.Name != want {
			t.Errorf("for %q: %+v", hostname, e)
		}
	}
	e, _ := mending(api.Unserved{Reason: "no-scope", Guess: "10.9.0.0/24", Relay: "10.9.0.1"}, "")
	if e == nil || len(e.Scope.AddExclusions) != 1 || e.Scope.AddExclusions[0].Range != "10.9.0.1" {
		t.Errorf("a scope is proposed as %+v", e)
	}
	if e, _ := mending(api.Unserved{Reason: "no-scope", Guess: "10.9.0.0/24", Relay: "192.0.2.1"}, ""); len(e.Scope.AddExclusions) != 0 {
		t.Errorf("a scope is proposed as %+v", e.Scope)
	}
}
