// Package e2e tests Yarn Post from outside: real processes, a real database,
// real sockets and a real browser.
package e2e

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/client"
	"yarnpost/core/addr"
	"yarnpost/demo"
)

var binaries string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "yarnpost-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Chmod(dir, 0o755)
	binaries = dir
	if out, err := exec.Command("go", "build", "-o", dir+"/", "../cmd/...").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// service is a yarnpostd process.
type service struct {
	t     *testing.T
	dir   string
	netns string // run inside this namespace; "" for none
	args  []string
	later string // how far in the future it lives, such as "1h"; "" for not at all
	bent  bool   // it runs the program that tests can bend
	http  string
	dhcp4 netip.AddrPort
	cmd   *exec.Cmd
	log   lockedBuffer
}

// lockedBuffer collects what a process prints while a test reads it.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// dataDir is a folder that the postgres user can reach.
func dataDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "yarnpost-data-")
	if err != nil {
		t.Fatal(err)
	}
	os.Chmod(dir, 0o711)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// ports counts those that were handed out. They lie below those that the kernel gives to whoever
// asks for any, which would take one before the service that it is for comes up; and apart, since
// a demo takes those beside its own.
var ports atomic.Uint32

// freePort finds a port of loopback that nobody uses, and nobody else here gets.
func freePort(t *testing.T, network string) int {
	t.Helper()
	host := "127.0.0.1"
	if strings.HasSuffix(network, "6") {
		host = "::1"
	}
	for range 200 {
		const first, many, apart = 10_000, 20_000, 8
		port := first + (os.Getpid()*97+int(ports.Add(apart)))%many
		at := net.JoinHostPort(host, fmt.Sprint(port))
		var held io.Closer
		var err error
		if strings.HasPrefix(network, "udp") {
			held, err = net.ListenPacket(network, at)
		} else {
			held, err = net.Listen(network, at)
		}
		if err == nil {
			held.Close()
			return port
		}
	}
	t.Fatal("no port is free")
	return 0
}

// startService starts a service on loopback ports of its own.
func startService(t *testing.T, args ...string) *service {
	t.Helper()
	s := &service{t: t, dir: dataDir(t), args: args, http: freeHTTP(t),
		dhcp4: netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(freePort(t, "udp")))}
	s.start()
	t.Cleanup(s.stop)
	return s
}

func (s *service) start() {
	s.t.Helper()
	args := append([]string{s.daemon(), "serve", "--data", s.dir, "--http", s.http, "--dhcp4", s.dhcp4.String()},
		s.args...)
	if s.netns != "" {
		args = append([]string{"ip", "netns", "exec", s.netns}, args...)
	}
	s.cmd = exec.Command(args[0], args[1:]...)
	s.cmd.Stdout, s.cmd.Stderr = &s.log, &s.log
	s.cmd.Env = append(os.Environ(), "BENT_LATER="+s.later, "BENT_DIR="+s.dir)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	before := strings.Count(s.log.String(), "console ready")
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	s.await(func() bool { return strings.Count(s.log.String(), "console ready") > before }, "the service to come up")
}

// await waits until something is true, for a minute at most.
func (s *service) await(ready func() bool, what string) {
	s.t.Helper()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if ready() {
			return
		}
	}
	s.t.Fatalf("waited in vain for %s; the service says:\n%s", what, s.log.String())
}

// calm waits until the plan has not changed for a while.
func (s *service) calm() {
	s.t.Helper()
	last, since := int64(-1), time.Now()
	s.await(func() bool {
		status, err := s.api().Status(context.Background())
		if err != nil || status.Revision != last {
			last, since = status.Revision, time.Now()
		}
		return time.Since(since) > time.Second
	}, "the plan to stay as it is")
}

func (s *service) stop() {
	if s.cmd == nil {
		return
	}
	s.cmd.Process.Signal(syscall.SIGTERM)
	late := time.AfterFunc(time.Minute, func() { // what it is doing goes to its log
		s.cmd.Process.Signal(syscall.SIGQUIT)
	})
	s.cmd.Wait()
	if !late.Stop() {
		s.t.Errorf("the service did not stop within a minute:\n%s", s.log.String())
	}
	s.cmd = nil
}

// kill ends the service without warning.
func (s *service) kill() {
	s.cmd.Process.Kill()
	s.cmd.Wait()
	s.cmd = nil
}

func (s *service) tokenFile() string { return filepath.Join(s.dir, "admin.token") }

func (s *service) token() string {
	s.t.Helper()
	token, err := os.ReadFile(s.tokenFile())
	if err != nil {
		s.t.Fatal(err)
	}
	return strings.TrimSpace(string(token))
}

func (s *service) api() *client.Client {
	s.t.Helper()
	token, err := os.ReadFile(s.tokenFile())
	if err != nil {
		s.t.Fatal(err)
	}
	return client.New("http://"+s.http, string(token))
}

// cli runs a yarnpost command line and gives what it prints and its exit code.
func (s *service) cli(args ...string) (stdout, stderr string, code int) {
	s.t.Helper()
	argv := append([]string{filepath.Join(binaries, "yarnpost")}, args...)
	if s.netns != "" {
		argv = append([]string{"ip", "netns", "exec", s.netns}, argv...)
	}
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Env = append(os.Environ(), "YARNPOST_SERVER=http://"+s.http, "YARNPOST_TOKEN_FILE="+s.tokenFile(), "COLUMNS=400")
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if _, isExit := err.(*exec.ExitError); err != nil && !isExit {
		s.t.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// must runs a yarnpost command line that has to succeed.
func (s *service) must(args ...string) string {
	s.t.Helper()
	out, errs, code := s.cli(args...)
	if code != 0 {
		s.t.Fatalf("yarnpost %s: exit %d\n%s%s", strings.Join(args, " "), code, out, errs)
	}
	return out
}

// relay opens a simulated relay for the link of an address.
func (s *service) relay(at, link string) *demo.Relay {
	s.t.Helper()
	r, err := demo.NewRelay(netip.MustParseAddr(at), netip.MustParseAddr(link), s.dhcp4)
	if err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(r.Close)
	return r
}

// hw makes a locally administered hardware address of a number.
func hw(n int) addr.Hardware {
	return addr.Hardware([]byte{0x02, 0, byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
}

// leases lists the lease table by address, as the command line prints it.
func (s *service) leases() map[string]api.Lease {
	s.t.Helper()
	var list []api.Lease
	if err := json.Unmarshal([]byte(s.must("lease", "list", "--json")), &list); err != nil {
		s.t.Fatal(err)
	}
	out := map[string]api.Lease{}
	for _, l := range list {
		out[l.Address] = l
	}
	return out
}

// needRoot skips a test that needs root; on CI, which is root, that is a failure.
func needRoot(t *testing.T) {
	t.Helper()
	if os.Getuid() == 0 {
		return
	}
	if os.Getenv("CI") != "" {
		t.Fatal("this test needs root, and CI has to run as root")
	}
	t.Skip("this test needs root (network namespaces)")
}

// needTool skips a test without a program; on CI that is a failure.
func needTool(t *testing.T, name, debian string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatalf("%s is missing; apt-get install %s", name, debian)
		}
		t.Skipf("%s is missing; apt-get install %s", name, debian)
	}
	return path
}

// tryStart starts a service that is expected to give up.
func (s *service) tryStart() (output string, code int) {
	s.t.Helper()
	args := append([]string{"serve", "--data", s.dir, "--http", s.http, "--dhcp4", s.dhcp4.String()}, s.args...)
	cmd := exec.Command(filepath.Join(binaries, "yarnpostd"), args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	timer := time.AfterFunc(30*time.Second, func() { cmd.Process.Kill() })
	defer timer.Stop()
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

// freeHTTP is an address of loopback that nobody listens on.
func freeHTTP(t *testing.T) string {
	t.Helper()
	return fmt.Sprintf("127.0.0.1:%d", freePort(t, "tcp"))
}

// clientWith is a client of a service with some token.
func clientWith(s *service, token string) *client.Client { return client.New("http://"+s.http, token) }

// strangersCertificate is a certificate that nobody knows.
func strangersCertificate(t *testing.T) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}
