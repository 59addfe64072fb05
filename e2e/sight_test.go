package e2e

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/demo"
)

// account makes an account with a password of its own, and sends requests as it.
func (s *service) account(name string) (send func(method, path, body string) *http.Response) {
	s.t.Helper()
	cookie := ""
	send = func(method, path, body string) *http.Response {
		s.t.Helper()
		r, err := http.NewRequest(method, "http://"+s.http+path, strings.NewReader(body))
		if err != nil {
			s.t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		if cookie != "" {
			r.Header.Set("Cookie", cookie)
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			s.t.Fatal(err)
		}
		return resp
	}
	sign := func(password string) {
		resp := send("POST", "/api/session", fmt.Sprintf(`{"account":%q,"password":%q}`, name, password))
		defer resp.Body.Close()
		cookie, _, _ = strings.Cut(resp.Header.Get("Set-Cookie"), ";")
	}
	out := s.must("account", "add", name)
	var first string
	for _, word := range strings.Fields(out) {
		if len(word) >= len(first) && !strings.Contains(word, ".") {
			first = word
		}
	}
	sign(first)
	send("POST", "/api/password", fmt.Sprintf(`{"old":%q,"new":"warp and weft"}`, first)).Body.Close()
	sign("warp and weft")
	return send
}

// Who may see one scope alone sees nothing of others: in no list, search, stream, export or
// report, by no operation at all.
func TestWhoSeesOneScope(t *testing.T) {
	t.Parallel()
	s := startService(t, "--unused-after", "1us")
	s.bend()
	clients := twoScopes(s)
	send := s.account("heddle")
	read := func(method, path, body string) (int, string) {
		t.Helper()
		resp := send(method, path, body)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(b)
	}
	everyOperation(t, clients, read)
	for path, says := range map[string]string{"/api/scopes": "looms", "/api/leases": "host-looms", "/api/leases?search=host": "host-looms",
		"/api/leases/sheet": "host-looms", "/api/reservations": "kept-looms", "/api/rules": "no-looms", "/api/trials": "try-looms",
		"/api/unserved": "bad-looms", "/api/exchanges": "bad-looms", "/api/exchanges/pcap": "bad-looms", "/api/history?who=host-looms": "looms",
		"/api/stale": "host-looms", "/api/capacity": "looms", "/api/audit": "looms", "/api/alerts": "looms", "/api/scopes/looms": "looms",
		"/api/scopes/looms/map": "host-looms", "/api/capacity/looms": "looms", "/api/capacity/looms/users": "active",
		"/api/leases/" + clients[0].Address.String():              "host-looms",
		"/api/leases/" + clients[0].Address.String() + "/options": "known",
	} {
		if status, answer := read("GET", path, ""); status != 200 || !strings.Contains(answer, says) || strings.Contains(answer, "dyehouse") {
			t.Errorf("GET %s: %d, without %q or with too much: %.600s", path, status, says, answer)
		}
	}
	eventsOfOne(t, clients, send)
}

// twoScopes has two scopes with the same in each, and a client of each.
func twoScopes(s *service) (clients []demo.Client) {
	s.t.Helper()
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.109", "--router", "10.77.0.1",
		"--warn-used", "5", "--serve")
	s.must("scope", "add", "dyehouse", "--subnet", "10.78.0.0/24", "--pool", "10.78.0.100-10.78.0.109", "--router", "10.78.0.1",
		"--warn-used", "5", "--serve")
	for n, name := range []string{"looms", "dyehouse"} {
		s.must("reservation", "add", "kept-"+name, "--scope", name, "--hw", hw(70+n).String(), "--address", fmt.Sprintf("10.%d.0.9", 77+n))
		s.must("rule", "add", "no-"+name, "--scope", name, "--when", `vendor == "stranger"`, "--refuse", "--yes")
		s.must("trial", "add", "try-"+name, "--scope", name)
	}
	for n, name := range []string{"looms", "dyehouse"} {
		link := fmt.Sprintf("10.%d.0.1", 77+n)
		r := s.relay(fmt.Sprintf("127.77.0.%d", 1+n), link)
		c := demo.Client{Relay: r, Hardware: hw(1 + n), Hostname: "host-" + name}
		if err := c.Get(ctx); err != nil {
			s.t.Fatal(err)
		}
		clients = append(clients, c)
		bad := demo.Client{Relay: r, Hardware: hw(11 + n), Hostname: "bad-" + name, Vendor: "stranger", Patience: 300 * time.Millisecond}
		bad.Discover(ctx)
		s.must("option", "set", "ntp-servers=10.77.0.5", "--scope", name)
	}
	s.calm()
	s.cli("audit", "run")
	s.await(func() bool { out, _, _ := s.cli("alert", "list"); return strings.Contains(out, "dyehouse") }, "an alert of the other scope")
	return clients
}

// everyOperation looks through what each operation says to somebody who may see scope looms
// alone, asked about either scope.
func everyOperation(t *testing.T, clients []demo.Client, read func(method, path, body string) (int, string)) {
	t.Helper()
	held := clients[1].Address.String()
	hidden := []string{"dyehouse", "10.78.", hw(2).String(), hw(12).String(), hw(71).String()}
	answered := map[string]bool{}
	for path, methods := range readOpenAPI(t).Paths {
		for method := range methods {
			if path == "/api/events" || path == "/api/session" || path == "/api/password" {
				continue
			}
			for _, of := range []struct{ name, address string }{{"looms", clients[0].Address.String()}, {"dyehouse", held}} {
				at := strings.NewReplacer("{name}", of.name, "{address}", of.address, "{number}", "1", "{kind}", "scope", "{id}", "1",
					"{key}", "1").Replace(path)
				switch path {
				case "/api/history":
					at += "?who=host-" + of.name
				case "/api/subnet":
					at += "?subnet=10.78.0.0/24"
				}
				status, answer := read(strings.ToUpper(method), at, "{}")
				answered[fmt.Sprint(strings.ToUpper(method), " ", path, " ", status)] = true
				ours := []string{}
				if strings.Contains(at, of.name) || strings.Contains(at, of.address) { // a refusal repeats what was asked for
					ours = []string{of.name, of.address[:6]}
				}
				for _, secret := range hidden {
					if strings.Contains(answer, secret) && !(status == 404 && slices.Contains(ours, secret)) {
						t.Errorf("%s %s: %d %.500s", method, at, status, answer)
						break
					}
				}
				if method != "get" && status < 400 && path != "/api/capacity/size" {
					t.Errorf("%s %s is carried out: %d %s", method, at, status, answer)
				}
				if status >= 500 {
					t.Errorf("%s %s: %d %s", method, at, status, answer)
				}
			}
		}
	}
	for _, refused := range []string{"GET /api/plan/file 403", "GET /api/audit/report 403", "GET /api/backup 403", "GET /api/trail 403",
		"POST /api/explain 403", "GET /api/scopes/{name} 404", "GET /api/leases/{address} 404", "POST /api/rehearsals 403"} {
		if !answered[refused] {
			t.Errorf("not so: %s", refused)
		}
	}
}

// eventsOfOne looks that events are of that scope alone, too.
func eventsOfOne(t *testing.T, clients []demo.Client, send func(method, path, body string) *http.Response) {
	t.Helper()
	stream := send("GET", "/api/events", "")
	defer stream.Body.Close()
	seen := make(chan string, 100)
	go func() {
		for lines := bufio.NewScanner(stream.Body); lines.Scan(); {
			seen <- lines.Text()
		}
		close(seen)
	}()
	for _, n := range []int{1, 0} {
		c := demo.Client{Relay: clients[n].Relay, Hardware: hw(31 + n), Hostname: fmt.Sprint("new-", n)}
		if err := c.Get(context.Background()); err != nil {
			t.Fatal(err)
		}
	}
	for end := time.After(10 * time.Second); ; {
		select {
		case line := <-seen:
			if strings.Contains(line, "new-1") || strings.Contains(line, "10.78.") {
				t.Fatalf("an event of the other scope: %s", line)
			} else if strings.Contains(line, "new-0") {
				return
			}
		case <-end:
			t.Fatal("no event of the scope that may be seen")
		}
	}
}
