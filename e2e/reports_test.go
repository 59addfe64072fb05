package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/demo"
)

// Reports are made on schedule, kept, read, and sent where alerts go; two audits of any moments are
// compared.
func TestReports(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	s := startService(t, "--alerts-to", "127.0.0.0/8")
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte(deskSecret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s.must("alert", "target", "add", "desk", "--url", d.URL+"/hook", "--severity", "trouble", "--secret-file", secret)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.139", "--serve")
	s.cli("audit", "run")
	first := time.Now().Format(time.RFC3339Nano)
	s.must("scope", "edit", "looms", "--router", "10.77.0.1")
	s.must("scope", "add", "stores", "--subnet", "10.78.0.0/24", "--no-pools", "--router", "10.78.0.1", "--serve")
	s.cli("audit", "run")
	out := s.must("audit", "compare", first)
	for _, says := range []string{"went", "came", "scope looms", "scope stores", "From the audit of "} {
		if !strings.Contains(out, says) {
			t.Errorf("compared without %q:\n%s", says, out)
		}
	}
	if out := s.must("audit", "compare", "2020-01-01", "2020-01-02"); !strings.Contains(out, "Nothing changed") {
		t.Errorf("the first audit differs from itself: %s", out)
	}

	if out := s.must("audit", "schedule"); !strings.Contains(out, "No report is made") {
		t.Errorf("nothing is set: %s", out)
	}
	if _, errs, code := s.cli("audit", "schedule", "--every", "1m"); code != 1 || !strings.Contains(errs, "each hour at most") {
		t.Errorf("every minute: %d %s", code, errs)
	}
	if out := s.must("audit", "schedule", "--every", "1h", "--keep", "2"); !strings.Contains(out, "every 1h, next") {
		t.Errorf("set: %s", out)
	}
	s.await(func() bool { return d.has("yarnpost.report report") }, "the report to be sent")
	s.await(func() bool { return strings.Contains(s.must("audit", "reports"), "warning") }, "the report to be listed")
	file := filepath.Join(t.TempDir(), "report.html")
	s.must("audit", "report", "--number", "1", "--out", file)
	b, err := os.ReadFile(file)
	if err != nil || !strings.Contains(string(b), "a scheduled report") {
		t.Errorf("the report is %d octets, %v", len(b), err)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.pages) != 1 || d.pages[0] != string(b) || len(d.faults) > 0 {
		t.Errorf("%d pages were sent; faults %q", len(d.pages), d.faults)
	}
	if out := s.must("trail"); !strings.Contains(out, "set when reports are made") {
		t.Errorf("the trail does not have it:\n%s", out)
	}
	s.must("audit", "schedule", "--off")
}

// Plan and lease table as they were at a moment.
func TestAsItWas(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.139", "--router", "10.77.0.1", "--serve",
		"--lease", "1h")
	r := s.relay("127.77.0.1", "10.77.0.1")
	first, second := demo.Client{Relay: r, Hardware: hw(1), Hostname: "loom-1"}, demo.Client{Relay: r, Hardware: hw(2)}
	if err := first.Get(t.Context()); err != nil {
		t.Fatal(err)
	}
	a := first.Address.String()
	time.Sleep(1100 * time.Millisecond)
	then := time.Now().Format(time.RFC3339Nano)
	time.Sleep(1100 * time.Millisecond)
	first.Release()
	s.await(func() bool { return s.leases()[a].Status == "released" }, "the release")
	if err := second.Get(t.Context()); err != nil {
		t.Fatal(err)
	}
	s.must("scope", "edit", "looms", "--name", "weaving", "--router", "10.77.0.2")
	out := s.must("lease", "list", "--at", then)
	if !strings.Contains(out, a) || !strings.Contains(out, "active") || !strings.Contains(out, "loom-1") || !strings.Contains(out,
		"looms") ||
		strings.Contains(out, second.Address.String()) {
		t.Errorf("the table of then:\n%s", out)
	}
	six := startService6(t)
	address, prefix := six.relay6("2001:db8:40:1::1").get(1)
	time.Sleep(1100 * time.Millisecond)
	six.says([]string{address.Addr().String(), prefix.String()}, "lease", "list", "--scope", "offices6", "--at",
		time.Now().Format(time.RFC3339Nano))
	if out := s.must("lease", "list", "loom-9", "--at", then); strings.Contains(out, a) {
		t.Errorf("what does not fit is listed:\n%s", out)
	}
	if _, errs, code := s.cli("lease", "list", "--scope", "weaving", "--at", then); code != 1 || !strings.Contains(errs, "weaving") {
		t.Errorf("a scope that was called otherwise: %d, %s", code, errs)
	}
	if out := s.must("plan", "export", "--at", then); !strings.Contains(out, "looms:") || !strings.Contains(out, "10.77.0.1") {
		t.Errorf("the plan of then:\n%s", out)
	}
	if out := s.must("plan", "export", "--revision", "1"); !strings.Contains(out, "looms:") || strings.Contains(out, "weaving") {
		t.Errorf("the plan of revision 1:\n%s", out)
	}
	for says, args := range map[string][]string{
		"there was no plan yet": {"plan", "export", "--at", "2020-01-01"}, "no revision 99": {"plan", "export", "--revision", "99"},
		"is not yet": {"lease", "list", "--at", "2199-01-01"}, "not both": {"plan", "export", "--at", then, "--revision", "1"},
	} {
		if _, errs, code := s.cli(args...); code != 1 || !strings.Contains(errs, says) {
			t.Errorf("%v: %d, %s", args, code, errs)
		}
	}
}
