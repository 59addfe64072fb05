package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/demo"
)

// typed runs a command line that asks for something, and gives what it prints.
func (s *service) typed(lines []string, args ...string) string {
	s.t.Helper()
	cmd := exec.Command(filepath.Join(binaries, "yarnpost"), args...)
	cmd.Env = append(os.Environ(), "YARNPOST_SERVER=http://"+s.http, "YARNPOST_TOKEN_FILE=")
	cmd.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		s.t.Fatalf("yarnpost %s: %v\n%s%s", strings.Join(args, " "), err, out, errs.String())
	}
	return string(out)
}

// person makes an account, whose owner chooses a password and makes a token, and gives the flags that
// act for them.
func (s *service) person(name string) []string {
	s.t.Helper()
	once := strings.TrimSpace(s.must("account", "add", name))
	const chosen = "a reed of grey threads"
	s.typed([]string{once, chosen, chosen}, "account", "password", "--account", name)
	token := s.typed([]string{chosen}, "token", "add", name+"-desk", "--account", name)
	file := written(s.t, name+".token", token)
	return []string{"--token-file", file}
}

func (s *service) leaseOf(scope string) string {
	s.t.Helper()
	var out api.Scope
	if err := json.Unmarshal([]byte(s.must("scope", "show", scope, "--json")), &out); err != nil {
		s.t.Fatal(err)
	}
	return out.Lease
}

// Two people prepare a change over days, while a third thing happens to the plan; one approves what
// the other made, and it is made as a whole. Who is gone can do nothing any more.
func TestPreparedChange(t *testing.T) {
	t.Parallel()
	s := startService(t)
	ben := s.person("ben")
	as := func(who []string, args ...string) []string { return append(args, who...) }
	s.must("scope", "add", "looms", "--subnet", "10.77.10.0/24", "--pool", "all", "--approval", "--serve")
	s.fails(1, "changes of scope looms do", "scope", "edit", "looms", "--lease", "4h")
	s.fails(1, "change list", "scope", "edit", "looms", "--lease", "4h", "--into", "looms-move")
	s.must("change", "begin", "looms-move", "--note", "hall 4")
	s.must("scope", "edit", "looms", "--lease", "4h", "--into", "looms-move")
	s.says([]string{"Would be gathered in looms-move"}, "scope", "edit", "looms", "--lease", "1h", "--into", "looms-move", "--dry-run")
	file := written(t, "looms.yaml", "plan-file: 1\ncovers: part\nscopes:\n  carding: {subnet: 10.77.11.0/24}\n")
	s.must(as(ben, "plan", "apply", file, "--into", "looms-move")...)
	s.must(as(ben, "reservation", "add", "crane", "--scope", "carding", "--hw", "02:00:00:00:00:17", "--into", "looms-move")...)
	s.fails(1, "made part of looms-move", as(ben, "change", "approve", "looms-move")...)
	if s.leaseOf("looms") != "8h" {
		t.Error("what is prepared is in force")
	}
	s.must("scope", "add", "dyes", "--subnet", "10.77.12.0/24")
	s.stop()
	s.start()
	s.says([]string{"1    edit scope looms       admin", "ben", "reservation crane", "need a second person's"}, "change", "show",
		"looms-move")
	s.fails(1, "change approve looms-move", "change", "apply", "looms-move", "--yes")
	cyd := s.person("cyd")
	s.must(as(cyd, "change", "approve", "looms-move")...)
	s.fails(3, "", "change", "apply", "looms-move")
	s.must("change", "apply", "looms-move", "--yes")
	if s.leaseOf("looms") != "4h" {
		t.Error("it is not in force")
	}
	s.says([]string{"change looms-move: hall 4 (approved by cyd)"}, "plan", "history")
	s.says([]string{"No change is in preparation"}, "change", "list")
	s.says([]string{"10.77.11."}, "reservation", "show", "crane")
	// An edit that does not fit any more is named, and left out; one of a revision that is undone fits.
	s.must("change", "begin", "undo")
	s.must("scope", "edit", "dyes", "--note", "vats", "--into", "undo")
	s.must("scope", "remove", "dyes", "--yes")
	s.says([]string{"Edit 1: does not fit the plan any more"}, "change", "show", "undo")
	s.fails(1, "change omit", "change", "apply", "undo", "--yes")
	s.must("change", "omit", "undo", "1")
	var history []api.Revision
	if err := json.Unmarshal([]byte(s.must("plan", "history", "--json")), &history); err != nil {
		t.Fatal(err)
	}
	s.must("plan", "revert", "5", "--into", "undo")
	s.must("change", "apply", "undo", "--yes")
	s.must("scope", "show", "dyes")
	// Whoever is gone is.
	s.must("account", "close", "ben", "--yes")
	s.fails(4, "", as(ben, "scope", "list")...)
	s.says([]string{"ben", "closed"}, "account", "list")
	s.fails(1, "your own", "account", "close", "admin", "--yes")
}

// A change that is set for a moment is made then, over a crash; one that leaves clients without an
// address is undone by itself, and says why.
func TestChangeIsDue(t *testing.T) {
	t.Parallel()
	s := startService(t)
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.10.0/24", "--pool", "10.77.10.100-10.77.10.199", "--option", "router=10.77.10.1",
		"--serve", "--new-per-minute", "-1")
	s.must("change", "begin", "shorter")
	s.must("scope", "edit", "looms", "--lease", "2h", "--into", "shorter")
	s.fails(1, "is past", "change", "apply", "shorter", "--yes", "--at", "2026-01-01T00:00:00Z")
	at := time.Now().Add(20 * time.Second).UTC().Truncate(time.Second)
	s.says([]string{"due", "looms", "8h"}, "change", "apply", "shorter", "--yes", "--at", at.Format(time.RFC3339))
	c := demo.Client{Relay: s.relay("127.77.0.1", "10.77.10.1"), Hardware: hw(1), Patience: time.Second}
	if err := c.Get(ctx); err != nil || c.Lease > 11*time.Minute {
		t.Errorf("a lease of %s, %v", c.Lease, err)
	}
	s.kill()
	s.start()
	if s.leaseOf("looms") != "8h" && time.Now().Before(at) {
		t.Error("it is made before its time")
	}
	s.await(func() bool { return s.leaseOf("looms") == "2h" }, "the change to be made")
	if time.Now().Before(at) {
		t.Error("it was made before its time")
	}
	s.says([]string{"No change is in preparation"}, "change", "list")
	// No pool, so newcomers go without.
	s.must("change", "begin", "no-pool")
	s.must("scope", "edit", "looms", "--no-pools", "--into", "no-pool")
	s.must("change", "apply", "no-pool", "--yes", "--undo-within", "10m", "--undo-above", "2")
	s.says([]string{"watched until"}, "change", "list")
	for n := range 3 {
		other := demo.Client{Relay: c.Relay, Hardware: hw(10 + n), Patience: 200 * time.Millisecond}
		_ = other.Get(ctx)
	}
	s.await(func() bool {
		return strings.Contains(s.must("change", "show", "no-pool"), "undone by itself: 3 clients go unserved")
	},
		"it to be undone")
	const found = "change-failed change no-pool"
	s.await(func() bool { return s.findings()[found].Code != "" }, "that to be found")
	if err := c.Renew(ctx); err != nil {
		t.Error(err)
	}
	other := demo.Client{Relay: c.Relay, Hardware: hw(30), Patience: time.Second}
	if err := other.Get(ctx); err != nil {
		t.Error(err)
	}
	s.must("change", "drop", "no-pool", "--yes")
}

// Both servers of a pair have what is prepared, whichever is asked; the one that is left makes it
// when it is due, once.
func TestPairPrepares(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	w.b.must("change", "begin", "shorter")
	w.b.must("scope", "edit", "looms", "--lease", "2h", "--into", "shorter")
	for _, s := range []*service{w.a, w.b} {
		s.await(func() bool { return strings.Contains(s.must("change", "list"), "shorter") }, "both to have it")
	}
	w.together("before it is due")
	w.a.must("change", "apply", "shorter", "--yes", "--at", "10s")
	w.together("after leases began to run down")
	w.b.await(func() bool { return strings.Contains(w.b.must("change", "list"), "due") }, "the other to know when")
	w.a.kill()
	w.b.await(func() bool { _, _, code := w.b.cli("pair", "down", "--yes"); return code == 0 }, "the other to be declared down")
	w.b.await(func() bool { return w.b.leaseOf("looms") == "2h" }, "the one that is left to make it")
	w.a.start()
	w.a.await(func() bool { return pairSeen(w.a).Own.Revision == pairSeen(w.b).Own.Revision }, "both to have one plan")
	for _, s := range []*service{w.a, w.b} {
		s.await(func() bool { return strings.Contains(s.must("change", "list"), "No change is in preparation") }, "both to be done")
		if n := strings.Count(s.must("plan", "history", "--wide"), "change shorter"); n != 2 {
			t.Errorf("%d revisions were made for it:\n%s", n, s.must("plan", "history", "--wide"))
		}
	}
}
