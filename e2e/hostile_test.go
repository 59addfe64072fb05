package e2e

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/client"
	"yarnpost/demo"
)

// ask does one request to the API with the administrator's token.
func (s *service) ask(method, path, body string) (status int, answer string) {
	s.t.Helper()
	r, err := http.NewRequest(method, "http://"+s.http+path, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+s.token())
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		s.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(b)
}

// Started as root, the service is another user with three rights, and its
// database has none; its sockets can be opened again all the same.
func TestRootIsGivenUp(t *testing.T) {
	t.Parallel()
	needRoot(t)
	s := startService(t)
	field := func(pid int, name string) string {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil {
			t.Fatal(err)
		}
		m := regexp.MustCompile(`(?m)^` + name + `:\s*(\S+)`).FindStringSubmatch(string(b))
		if m == nil {
			t.Fatalf("no %s in %s", name, b)
		}
		return m[1]
	}
	pid := s.cmd.Process.Pid
	const three = "0000000000003400" // CAP_NET_BIND_SERVICE, CAP_NET_ADMIN, CAP_NET_RAW
	if uid := field(pid, "Uid"); uid == "0" {
		t.Error("the service is root")
	}
	for _, set := range []string{"CapEff", "CapPrm"} {
		if got := field(pid, set); got != three {
			t.Errorf("%s is %s, want %s", set, got, three)
		}
	}
	for _, task := range globs(t, fmt.Sprintf("/proc/%d/task/*/status", pid)) { // every thread
		if b, err := os.ReadFile(task); err == nil && strings.Contains(string(b), "Uid:\t0") {
			t.Errorf("%s is root's:\n%s", task, b)
		}
	}
	b, err := os.ReadFile(filepath.Join(s.dir, "postgres", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	var db int
	fmt.Sscan(string(b), &db)
	if got := field(db, "CapEff"); got != "0000000000000000" {
		t.Errorf("the database has rights: %s", got)
	}
	if info, err := os.Stat(s.tokenFile()); err != nil || info.Mode().Perm()&0o077 != 0 {
		t.Errorf("the token's file: %v, %v", info.Mode(), err)
	}
}

func globs(t *testing.T, pattern string) []string {
	t.Helper()
	list, err := filepath.Glob(pattern)
	if err != nil || len(list) == 0 {
		t.Fatalf("%s: %v, %v", pattern, list, err)
	}
	return list
}

// certificate writes a certificate for loopback, which signs itself, and its key.
func certificate(t *testing.T, dir, name string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for file, block := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: der},
		"key.pem": {Type: "PRIVATE KEY", Bytes: private}} {
		if err := os.WriteFile(filepath.Join(dir, file), pem.EncodeToMemory(block), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// Over TLS the client trusts who it is told to trust, browsers are told to stay
// with TLS, and a new certificate needs no restart.
func TestTLS(t *testing.T) {
	t.Parallel()
	dir := dataDir(t)
	certificate(t, dir, "first")
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	lone := &service{t: t, dir: dataDir(t), http: freeHTTP(t), args: []string{"--tls-key", key},
		dhcp4: netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(freePort(t, "udp")))}
	if out, code := lone.tryStart(); code == 0 || !strings.Contains(out, "belong together") {
		t.Errorf("a lone key: exit %d, %s", code, out)
	}
	s := startService(t, "--tls-cert", cert, "--tls-key", key)
	out, errs, code := s.cli("status", "--server", "https://"+s.http)
	if code != 4 || !strings.Contains(errs, "certificate") {
		t.Errorf("an unknown authority: exit %d %s%s", code, out, errs)
	}
	if out, errs, code := s.cli("status", "--server", "https://"+s.http, "--ca", cert); code != 0 {
		t.Errorf("with --ca: exit %d %s%s", code, out, errs)
	}
	if out, errs, code := s.cli("audit", "run", "--code", "certificate-ends", "--server", "https://"+s.http, "--ca", cert); code != 5 ||
		!strings.Contains(out, "the certificate ends at") {
		t.Errorf("an audit with a certificate of an hour: exit %d %s%s", code, out, errs)
	}
	name := func() (string, http.Header) {
		http1 := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
		resp, err := http1.Get("https://" + s.http + "/")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		return resp.TLS.PeerCertificates[0].Subject.CommonName, resp.Header
	}
	if who, head := name(); who != "first" || !strings.Contains(head.Get("Strict-Transport-Security"), "max-age=") {
		t.Errorf("certificate %s, %v", who, head)
	}
	os.WriteFile(cert, []byte("nonsense"), 0o644)
	s.cmd.Process.Signal(syscall.SIGHUP)
	s.await(func() bool { return strings.Contains(s.log.String(), "certificate in force stays") }, "the complaint about a bad certificate")
	if who, _ := name(); who != "first" {
		t.Errorf("after a bad certificate: %s", who)
	}
	certificate(t, dir, "second")
	s.cmd.Process.Signal(syscall.SIGHUP)
	s.await(func() bool { who, _ := name(); return who == "second" }, "the new certificate")
}

// Live events end with the session that listens to them.
func TestStreamEndsWithSession(t *testing.T) {
	t.Parallel()
	s := startService(t)
	password, err := os.ReadFile(filepath.Join(s.dir, "admin.password"))
	if err != nil {
		t.Fatal(err)
	}
	send := func(method, path, body, cookie string) *http.Response {
		r, _ := http.NewRequest(method, "http://"+s.http+path, strings.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		if cookie != "" {
			r.Header.Set("Cookie", cookie)
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		return resp
	}
	sign := func(with string) string {
		resp := send("POST", "/api/session", fmt.Sprintf(`{"account":"admin","password":%q}`, with), "")
		defer resp.Body.Close()
		cookie, _, _ := strings.Cut(resp.Header.Get("Set-Cookie"), ";")
		return cookie
	}
	send("POST", "/api/password", fmt.Sprintf(`{"old":%q,"new":"warp and weft"}`, strings.TrimSpace(string(password))),
		sign(strings.TrimSpace(string(password)))).Body.Close()
	cookie, other := sign("warp and weft"), sign("warp and weft")
	ended := func(stream *http.Response) chan bool {
		over := make(chan bool)
		go func() {
			for lines := bufio.NewScanner(stream.Body); lines.Scan(); {
			}
			close(over)
		}()
		return over
	}
	mine, theirs := ended(send("GET", "/api/events", "", cookie)), ended(send("GET", "/api/events", "", other))
	send("DELETE", "/api/session", "", cookie).Body.Close()
	select {
	case <-mine:
	case <-time.After(3 * time.Second):
		t.Error("the stream goes on after its session ended")
	}
	select {
	case <-theirs:
		t.Error("another's stream ended, too")
	case <-time.After(300 * time.Millisecond):
	}
	send("POST", "/api/password", `{"old":"warp and weft","new":"woof and weave"}`, other).Body.Close()
	select {
	case <-theirs:
	case <-time.After(3 * time.Second):
		t.Error("the stream goes on after the password was replaced")
	}
}

// A client of the API that hangs up at any moment leaves nothing half done.
func TestHangUps(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--serve")
	var wg sync.WaitGroup
	for n := range 80 {
		wg.Go(func() {
			ctx, cancel := context.WithTimeout(context.Background(), time.Duration(n*n%23)*700*time.Microsecond)
			defer cancel()
			note := fmt.Sprint("note ", n)
			s.api().Change(ctx, api.ChangeRequest{Edits: []api.Edit{{Op: "edit", Kind: "scope", Name: "looms", Scope: &api.ScopeEdit{Note: &note}}}})
		})
	}
	wg.Wait()
	s.calm() // what was sent goes on, though nobody waits for it
	s.must("scope", "edit", "looms", "--note", "the last word")
	status, _ := s.api().Status(context.Background())
	list, err := s.api().Revisions(context.Background(), 0, 1)
	if err != nil || list[0].Number != status.Revision {
		t.Errorf("in force is revision %d, on record %+v, %v", status.Revision, list, err)
	}
	s.stop()
	s.start()
	if again, _ := s.api().Status(context.Background()); again.Revision != status.Revision {
		t.Errorf("after a restart revision %d, before %d", again.Revision, status.Revision)
	}
	s.must("scope", "edit", "looms", "--note", "and one more")
}

// The database dies while the plan is being changed: afterwards it can be changed
// again, and what is in force is what is on record.
func TestPlanUnderKills(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--serve")
	for round := range 3 {
		ctx, stop := context.WithCancel(context.Background())
		var wg sync.WaitGroup
		for w := range 4 {
			wg.Go(func() {
				for n := 0; ctx.Err() == nil; n++ {
					note := fmt.Sprint("note ", round, w, n)
					s.api().Change(ctx, api.ChangeRequest{Edits: []api.Edit{{Op: "edit", Kind: "scope", Name: "looms",
						Scope: &api.ScopeEdit{Note: &note}}}})
				}
			})
		}
		time.Sleep(time.Duration(200+70*round) * time.Millisecond)
		killPostgres(t, s)
		time.Sleep(300 * time.Millisecond)
		stop()
		wg.Wait()
		s.await(func() bool {
			_, _, code := s.cli("scope", "edit", "looms", "--note", fmt.Sprint("after round ", round))
			return code == 0
		}, "the plan to be changed again")
		status, err := s.api().Status(context.Background())
		list, err2 := s.api().Revisions(context.Background(), 0, 1)
		if err != nil || err2 != nil || list[0].Number != status.Revision {
			t.Errorf("in force is revision %d, on record %+v; %v, %v", status.Revision, list, err, err2)
		}
	}
}

// Two administrators with the same form open: what one changed meanwhile is
// shown to the other and not undone; what does not touch it goes through.
func TestTwoAdministrators(t *testing.T) {
	t.Parallel()
	s := startService(t)
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--serve")
	s.must("scope", "add", "yard", "--subnet", "10.78.0.0/24", "--serve")
	opened, _ := s.api().Status(ctx)
	s.must("scope", "edit", "looms", "--lease", "2h")
	note := "from the form"
	edit := func(scope string) error {
		_, err := s.api().Change(ctx,
			api.ChangeRequest{Base: opened.Revision,
				Edits: []api.Edit{{Op: "edit", Kind: "scope", Name: scope, Scope: &api.ScopeEdit{Note: &note}}}})
		return err
	}
	var problem *client.Problem
	if err := edit("looms"); !errors.As(err, &problem) || problem.Status != 409 ||
		!strings.Contains(problem.Detail, "admin changed scope looms") || !strings.Contains(problem.Detail, "lease time: 2h") {
		t.Errorf("over a colleague's change: %v", err)
	}
	if err := edit("yard"); err != nil {
		t.Errorf("beside a colleague's change: %v", err)
	}
}

// Ten thousand edits are one change; what is longer than any change can be is
// refused with words, and the connection it came on is not used again.
func TestLargeChange(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "mill", "--subnet", "10.64.0.0/14", "--pool", "10.67.0.1-10.67.255.254", "--serve")
	scope := "mill"
	edits := make([]api.Edit, 10_000)
	for n := range edits {
		hw, at := fmt.Sprintf("02:00:00:00:%02x:%02x", n>>8, n&255), fmt.Sprintf("10.64.%d.%d", 1+n/200, 1+n%200)
		edits[n] = api.Edit{Op: "add", Kind: "reservation", Name: fmt.Sprintf("client-%05d", n),
			Reservation: &api.ReservationEdit{Scope: &scope, Hardware: &hw, Address: &at}}
	}
	out, err := s.api().Change(context.Background(), api.ChangeRequest{Edits: edits})
	if err != nil || !out.Applied {
		t.Fatalf("ten thousand edits: %v", err)
	}
	if got, err := s.api().Scope(context.Background(), "mill"); err != nil || got.Usage.Reserved != 10_000 {
		t.Errorf("%d are reserved, %v", got.Usage.Reserved, err)
	}
	c := s.api()
	for range 3 { // one client, one connection as long as it lasts
		var problem *client.Problem
		_, err := c.Change(context.Background(), api.ChangeRequest{Reason: strings.Repeat("a", 20<<20), Edits: edits[:1]})
		if err != nil && !errors.As(err, &problem) && !strings.Contains(err.Error(), "cannot reach") || errors.As(err, &problem) &&
			problem.Status != 413 || err == nil {
			t.Errorf("twenty megabytes: %v", err)
		}
		if _, err := c.Status(context.Background()); err != nil {
			t.Errorf("after that: %v", err)
		}
	}
}

// No change silences clients without saying so, and each says what it does
// itself, once.
func TestSilencingChanges(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--serve")
	s.must("link", "edit", "looms", "--relay", "127.0.0.2")
	c := &demo.Client{Relay: s.relay("127.0.0.2", "10.77.0.1"), Hardware: hw(1), Vendor: "loom 1"}
	if err := c.Get(context.Background()); err != nil {
		t.Fatal(err)
	}
	s.must("scope", "add", "yard", "--subnet", "10.78.0.0/24", "--pool", "10.78.0.100-10.78.0.200", "--serve")
	for line, says := range map[string]string{
		"defaults edit --listening":                        "would hear and answer nobody",
		"rule add all --when true --ignore":                "would be turned away",
		"rule add vendor --when vendor=='loom·1' --refuse": "would be turned away",
		"rule add reserved --when true --reserved-only":    "would be turned away",
		"scope edit looms --link yard":                     "would not find their scope",
		"link edit looms --relay 127.0.0.9":                "would lead to no scope",
		"link edit looms --listening":                      "would not be able to renew here",
		"scope hold looms":                                 "would not be able to renew",
		"scope remove looms":                               "would lose their address",
	} {
		var args []string
		for _, a := range strings.Fields(line) {
			args = append(args, strings.ReplaceAll(a, "·", " "))
		}
		out, errs, code := s.cli(args...)
		if code != 3 || !strings.Contains(out, says) {
			t.Errorf("yarnpost %s: exit %d\n%s%s", line, code, out, errs)
		}
	}
	s.must("scope", "edit", "looms", "--pool", "10.77.0.150-10.77.0.200") // its client has .100
	if out := s.must("scope", "edit", "looms", "--note", "x"); strings.Contains(out, "outside the new pools") {
		t.Errorf("an effect of an earlier change is told again:\n%s", out)
	}
	if out, _, code := s.cli("scope", "drain", "looms", "--until", "2020-01-01T00:00:00Z"); code == 0 {
		t.Errorf("a drain that ended long ago:\n%s", out)
	}
}

// An address whose client may still use it is kept from others, and the preview
// says until when; whoever knows better clears it.
func TestEndedLeaseIsKept(t *testing.T) {
	t.Parallel()
	s := startService(t)
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.100", "--serve")
	relay := s.relay("127.0.0.2", "10.77.0.1")
	first, second := &demo.Client{Relay: relay, Hardware: hw(1)}, &demo.Client{Relay: relay, Hardware: hw(2), Patience: time.Second}
	if err := first.Get(ctx); err != nil {
		t.Fatal(err)
	}
	out, _, code := s.cli("lease", "end", "10.77.0.100")
	if code != 3 || !strings.Contains(out, "kept from others until") || !strings.Contains(out, "can have it back") {
		t.Errorf("the preview: exit %d\n%s", code, out)
	}
	s.must("lease", "end", "10.77.0.100", "--yes")
	if err := second.Get(ctx); err == nil {
		t.Fatalf("a newcomer has %s, which its client may still use", second.Address)
	}
	s.says([]string{"pool is empty"}, "unserved", "list")
	s.says([]string{"scope looms has no address left"}, "status")
	s.stop()
	s.start()
	if err := second.Get(ctx); err == nil {
		t.Error("after a restart the promise is forgotten")
	}
	if err := first.Renew(ctx); err != nil {
		t.Errorf("its own client does not get it back: %v", err)
	}
	s.must("lease", "end", "10.77.0.100", "--yes")
	s.must("lease", "clear", "10.77.0.100", "--yes")
	if err := second.Get(ctx); err != nil {
		t.Errorf("after it was cleared: %v", err)
	}
}

// Whatever texts come in are refused with the field named, or harmless.
func TestHostileTexts(t *testing.T) {
	t.Parallel()
	s := startService(t)
	for _, c := range []struct {
		method, path, body, says string
		status                   int
	}{
		{"GET", "/api/leases?search=a%00b", "", "U+0000", 422},
		{"GET", "/api/history?hostname=a%00b", "", "U+0000", 422},
		{"GET", "/api/exchanges?after=18446744073709551615", "", `"items":[]`, 200},
		{"POST", "/api/plan/changes", `{"edits":[{"op":"add","kind":"list","name":"a","name":"b","list":{}}]}`, "given twice", 422},
		{"POST", "/api/plan/changes", `{"edits":[{"op":"add","kind":"list","name":"a","list":{"note":"\u0000"}}]}`, "edits.0.list.note", 422},
		{"POST", "/api/plan/changes", `{"edits":[{"op":"add","kind":"list","name":"<b>","list":{}}]}`, "cannot be a name", 422},
		{"POST", "/api/plan/changes", `{"edits":[{"op":"add","kind":"list","name":"..","list":{}}]}`, "cannot be a name", 422},
		{"POST", "/api/session", `{"account":"` + strings.Repeat("a", 100) + `","password":"x"}`, "", 422},
		{"POST", "/api/tokens", `{"name":"../x"}`, "", 422},
	} {
		status, body := s.ask(c.method, c.path, c.body)
		if (status != c.status && !(c.status == 422 && status == 400)) || !strings.Contains(body, c.says) ||
			strings.Contains(strings.ToLower(body), "select ") {
			t.Errorf("%s %s %s: %d %s", c.method, c.path, c.body, status, body)
		}
	}
	for host, status := range map[string]int{"": 200, "evil.example": 401} {
		r, _ := http.NewRequest("GET", "http://"+s.http+"/metrics", nil)
		r.Host = host
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != status {
			t.Errorf("/metrics for host %q: %d", host, resp.StatusCode)
		}
	}
}

// The commands that people missed.
func TestMoreCommands(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--exclude", "10.77.0.120,plotter",
		"--router", "10.77.0.1", "--lease", "2h", "--serve")
	c := &demo.Client{Relay: s.relay("127.0.0.2", "10.77.0.1"), Hardware: hw(1), Hostname: "Card-Room"}
	if err := c.Get(context.Background()); err != nil {
		t.Fatal(err)
	}
	s.must("reservation", "add", "loom-1", "--scope", "looms", "--hw", hw(1).String(), "--address", "10.77.0.9")
	s.says([]string{"host name: loom-one", "yes"}, "reservation", "edit", "loom-1", "--hostname", "loom-one", "--insist", "--option",
		"ntp-servers=10.77.0.42")
	s.says([]string{"10.77.0.9", "loom-one", "10.77.0.42", "another host answers"}, "reservation", "show", "loom-1")
	s.fails(1, "no reservation is called", "reservation", "show", "loom-2")
	s.fails(1, "a router", "reservation", "add", "router", "--scope", "looms", "--hw", hw(9).String(), "--address", "10.77.0.1")
	s.says([]string{"10.78.1.100-10.78.1.200", "10.78.1.120", "plotter", "10.78.1.1"}, "scope", "copy", "looms", "looms-2", "--subnet",
		"10.78.1.0/24")
	s.fails(1, "no place in the smaller subnet", "scope", "copy", "looms", "small", "--subnet", "10.79.0.0/28")
	s.must("scope", "edit", "looms-2", "--no-pools")
	s.says([]string{"0 addresses"}, "scope", "show", "looms-2")
	status, _ := s.api().Status(context.Background())
	out, _, code := s.cli("plan", "revert", fmt.Sprint(status.Revision))
	if code != 3 || !strings.Contains(out, "pool 10.78.1.100-10.78.1.200") {
		t.Errorf("the preview of undoing: exit %d\n%s", code, out)
	}
	s.must("plan", "revert", fmt.Sprint(status.Revision), "--yes")
	s.says([]string{"10.78.1.100-10.78.1.200"}, "scope", "show", "looms-2")
	s.says([]string{"undoes revision"}, "plan", "history")
	s.fails(1, "no revision 999", "plan", "revert", "999", "--yes")

	secret := strings.TrimSpace(s.must("token", "add", "script"))
	if _, err := client.New("http://"+s.http, secret).Status(context.Background()); err != nil {
		t.Errorf("a new token: %v", err)
	}
	s.fails(1, "there already", "token", "add", "script")
	s.says([]string{"script", "admin.token"}, "token", "list")
	s.must("token", "revoke", "script", "--yes")
	if _, err := client.New("http://"+s.http, secret).Status(context.Background()); err == nil {
		t.Error("a revoked token opens the API")
	}
	s.says([]string{"yarnpost", "yarnpostd", "0.1.0"}, "version")
	s.says([]string{"10.77.0.100", hw(1).String()}, "lease", "history", "card-room")
	s.says([]string{"--subnet SUBNET", "--no-pools"}, "help", "scope", "add")
	s.says([]string{"looms\nlooms-2"}, "completion", "words", "--", "scope", "show")
	s.says([]string{"ntp-servers="}, "completion", "words", "--", "option", "set")
	s.says([]string{"looms"}, "completion", "words", "--", "lease", "list", "--scope")
	var rows []map[string]any
	if err := json.Unmarshal([]byte(s.must("scope", "list", "--json")), &rows); err != nil || len(rows) != 2 {
		t.Errorf("%v %v", rows, err)
	}
	head, _, _ := strings.Cut(s.must("reservation", "list", "--csv"), "\r\n")
	for _, column := range []string{"insist", "options", "note", "identifier"} {
		if !strings.Contains(head, column) {
			t.Errorf("CSV of reservations leaves out %s: %s", column, head)
		}
	}
	late := &demo.Client{Relay: c.Relay, Hardware: hw(7), Patience: 200 * time.Millisecond}
	s.must("scope", "hold", "looms", "--yes")
	for range 3 {
		late.Discover(context.Background())
	}
	s.says([]string{"Clients  Why", "scope is held", "yarnpost scope serve looms"}, "unserved", "list")
}
