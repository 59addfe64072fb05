package e2e

import (
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// The demo comes up with the whole mill, its clients are served, and it has at
// least one of every kind of trouble.
func TestDemo(t *testing.T) {
	t.Parallel()
	s := &service{t: t, dir: dataDir(t)}
	s.http = freeHTTP(t)
	s.cmd = exec.Command(filepath.Join(binaries, "yarnpostd"), "demo", "--data", s.dir, "--http", s.http, "--dhcp4", "127.0.0.1:0")
	s.cmd.Stdout, s.cmd.Stderr = &s.log, &s.log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.stop)
	s.await(func() bool { return strings.Contains(s.log.String(), "at work") }, "the mill to be at work")
	if !strings.Contains(s.log.String(), "account admin, password fellgate-mill") {
		t.Error("the demo does not say how to sign in")
	}
	want := []string{"no scope for this link", "scope is held", "pool is empty", "offered but never taken", "reserved for another client",
		"on another link", "reserved clients only"}
	s.await(func() bool {
		out := s.must("unserved", "list")
		for _, w := range want {
			if !strings.Contains(out, w) {
				return false
			}
		}
		return true
	}, "every kind of trouble")
	out := s.must("scope", "list", "--csv")
	for _, row := range []string{"offices,offices,10.40.0.0/24,", "carding-shed,carding-shed,10.40.48.0/24,",
		"finishing,finishing,10.40.52.0/24,", "visitors,visitors,10.40.64.0/20,"} {
		if !strings.Contains(out, row) {
			t.Errorf("scope list has no %q:\n%s", row, out)
		}
	}
	if n := strings.Count(s.must("lease", "list", "--status", "active", "--csv"), "\r\n") - 1; n < 4700 {
		t.Errorf("%d active leases, want some 4,700", n)
	}
	s.await(func() bool { return strings.Count(s.must("lease", "list", "--status", "abandoned"), "scan-bench") == 2 },
		"two declined addresses")
}
