package e2e

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/demo"
)

// brought runs yarnpostd on a backup, and gives what it says and whether it went well.
func brought(t *testing.T, args ...string) (said string, well bool) {
	t.Helper()
	cmd := exec.Command(filepath.Join(binaries, "yarnpostd"), args...)
	out, err := cmd.CombinedOutput()
	return string(out), err == nil
}

// moved is a service as it was, with other data.
func (s *service) moved(dir string) *service {
	s.t.Helper()
	n := &service{t: s.t, dir: dir, http: s.http, dhcp4: s.dhcp4, args: s.args}
	token, err := os.ReadFile(s.tokenFile())
	if err == nil {
		err = os.WriteFile(n.tokenFile(), token, 0o600)
	}
	if err != nil {
		s.t.Fatal(err)
	}
	return n
}

// badBackups are refused before anything is touched.
func badBackups(t *testing.T, whole []byte, dir string) {
	t.Helper()
	bent := bytes.Clone(whole)
	bent[len(bent)/2] ^= 0x10
	for what, b := range map[string][]byte{"cut short": whole[:len(whole)*2/3], "none of Yarn Post's": []byte("no backup at all"),
		"": bent, "none": nil} {
		name := filepath.Join(t.TempDir(), "bad.backup")
		if err := os.WriteFile(name, b, 0o600); err != nil {
			t.Fatal(err)
		}
		if said, well := brought(t, "restore", name, "--data", dir); well || !strings.Contains(said, what) {
			t.Errorf("%q: %s", what, said)
		}
	}
	if left, _ := os.ReadDir(dir); len(left) > 0 {
		t.Errorf("a bad backup left %v", left)
	}
}

// A backup brings everything back into an empty server, and nothing into another; what is damaged or
// cut short is told before anything is touched. Whoever got an address since keeps it.
func TestBackup(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	to := dataDir(t)
	if err := os.Chmod(to, 0o777); err != nil { // the service is not root
		t.Fatal(err)
	}
	s := startService(t, "--backup-to", to)
	s.must("scope", "add", "looms", "--subnet", "10.77.10.0/24", "--pool", "10.77.10.100-10.77.10.199", "--router", "10.77.10.1",
		"--serve",
		"--new-per-minute", "-1")
	s.must("change", "begin", "later", "--note", "some day")
	s.person("ben")
	relay := s.relay("127.77.0.1", "10.77.10.1")
	client := func(n int) *demo.Client { return &demo.Client{Relay: relay, Hardware: hw(n), Patience: time.Second} }
	before, since := client(1), client(2)
	if err := before.Get(ctx); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "mill.backup")
	s.must("backup", file, "--history")
	s.fails(1, "is there already", "backup", file)
	s.says([]string{"took a backup"}, "trail")
	if err := since.Get(ctx); err != nil { // of which the backup knows nothing
		t.Fatal(err)
	}
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if said, well := brought(t, "backup", "check", file); !well || !strings.Contains(said,
		"1 revisions of the plan, 1 records of leases") {
		t.Errorf("%s", said)
	}
	s.await(func() bool { all, _ := filepath.Glob(filepath.Join(to, "*.backup")); return len(all) == 1 },
		"the first backup of the schedule")
	dir := dataDir(t)
	badBackups(t, whole, dir)
	if err := errors.Join(os.RemoveAll(to), os.WriteFile(to, nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	const found = "backup-missing backups"
	s.await(func() bool { return s.findings()[found].Code != "" }, "a folder that is none to be found")
	s.stop()
	if said, well := brought(t, "restore", file, "--data", s.dir); well || !strings.Contains(said, "has worked") {
		t.Errorf("into the server itself: %s", said)
	}
	if said, well := brought(t, "restore", file, "--data", dir); !well {
		t.Fatalf("%s", said)
	}
	n := s.moved(dir)
	n.start()
	defer n.stop()
	n.says([]string{"looms"}, "scope", "list")
	n.says([]string{"later"}, "change", "list")
	n.says([]string{"ben"}, "account", "list")
	n.says([]string{"restored from the backup"}, "status")
	if err := before.Renew(ctx); err != nil {
		t.Errorf("the client of before: %v", err)
	}
	other := client(3)
	if err := other.Get(ctx); err == nil && other.Address == since.Address {
		t.Error("an address that was given since the backup is another's")
	}
	if err := since.Renew(ctx); err != nil {
		t.Errorf("the client of since then: %v", err)
	}
	if len(n.leases()) < 2 {
		t.Errorf("%v", n.leases())
	}
	n.must("scope", "edit", "looms", "--note", "goes on")
	n.must("change", "begin", "another")
}

// One server of a pair is restored from an old backup beside its partner: it learns first what it
// does not know, and nobody loses an address.
func TestBackupInAPair(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	w := pairOf(t)
	client := func(n int) *demo.Client {
		return &demo.Client{Relay: w.relay, Hardware: hw(n), Patience: 12 * time.Second}
	}
	first := client(1)
	if err := first.Get(ctx); err != nil {
		t.Fatal(err)
	}
	w.together("before the backup")
	file := filepath.Join(t.TempDir(), "bobbin.backup")
	w.a.must("backup", file)
	var since []*demo.Client
	for n := 2; n < 12; n++ {
		c := client(n)
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
		since = append(since, c)
	}
	w.b.must("scope", "edit", "looms", "--note", "since the backup")
	w.together("before the server is lost")
	w.a.kill()
	dir := dataDir(t)
	if said, well := brought(t, "restore", file, "--data", dir); !well {
		t.Fatalf("%s", said)
	}
	w.a = w.a.moved(dir)
	w.a.start()
	t.Cleanup(w.a.stop)
	for _, c := range since {
		w.a.await(func() bool { _, known := w.a.leases()[c.Address.String()]; return known },
			"the restored server to know a lease since then")
	}
	w.a.await(func() bool { return strings.Contains(w.a.must("scope", "show", "looms"), "since the backup") },
		"it to have the plan since then")
	for _, c := range append(since, first) {
		if err := c.Renew(ctx); err != nil {
			t.Error(err)
		}
	}
}

// A server that is restored to serve alone keeps what its partner may have promised.
func TestBackupAlone(t *testing.T) {
	t.Parallel()
	w := pairOf(t)
	file := filepath.Join(t.TempDir(), "bobbin.backup")
	w.a.must("backup", file)
	w.a.stop()
	w.b.stop()
	dir := dataDir(t)
	if said, well := brought(t, "restore", "--alone", file, "--data", dir); !well {
		t.Fatalf("%s", said)
	}
	w.a = w.a.moved(dir)
	w.a.start()
	t.Cleanup(w.a.stop)
	if out, _, _ := w.a.cli("pair", "status"); !strings.Contains(out, "in no pair") {
		t.Errorf("pair status says %s", out)
	}
	w.a.says([]string{"restored from a backup, to serve alone"}, "pair", "history")
	if n := w.a.sql("select from pair where (partner->>'left')::bigint > 0"); n != 1 {
		t.Errorf("what the partner may have promised is forgotten")
	}
}
