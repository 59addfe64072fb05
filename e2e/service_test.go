package e2e

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/client"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/demo"
	"yarnpost/service/trial"
)

// usual is what a client asks for.
var usual = []byte{1, 3, 6, 12, 15, 28, 42, 119, 121}

// The commands that checks rely on, as they are written, and a client served
// by what they define.
func TestCommands(t *testing.T) {
	t.Parallel()
	s := startService(t)
	add := []string{"scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.200", "--exclude",
		"10.77.0.100-10.77.0.109",
		"--option", "router=10.77.0.1", "--option", "domain-name-server=10.77.0.53", "--lease", "1h", "--serve"}
	if out := s.must(append(add, "--dry-run")...); !strings.Contains(out, "Would change") ||
		strings.Contains(s.must("scope", "list"), "looms") {
		t.Errorf("a dry run changed something:\n%s", out)
	}
	if out := s.must(add...); !strings.Contains(out, "revision 1") {
		t.Errorf("scope add says:\n%s", out)
	}
	if out := s.must(add...); !strings.Contains(out, "Nothing to change") {
		t.Errorf("the same command again says:\n%s", out)
	}
	s.must("reservation", "add", "loom-17", "--scope", "looms", "--hw", "0200.0000.0017", "--address", "10.77.0.17")
	if out := s.must("lease", "list", "--json"); strings.TrimSpace(out) != "[]" {
		t.Errorf("an empty lease table prints %q", out)
	}
	r := s.relay("127.77.0.1", "10.77.0.1")
	ctx := context.Background()
	c := &demo.Client{Relay: r, Hardware: hw(0xaa), Hostname: "=card-room", Wants: usual, Circuit: "sw1/0/7"}
	if err := c.Get(ctx); err != nil || c.Address.String() != "10.77.0.110" || c.Lease != time.Hour {
		t.Fatalf("got %v for %v, %v", c.Address, c.Lease, err)
	}
	reserved := &demo.Client{Relay: r, Hardware: "\x02\x00\x00\x00\x00\x17"}
	if err := reserved.Get(ctx); err != nil || reserved.Address.String() != "10.77.0.17" {
		t.Fatalf("the reserved client got %v, %v", reserved.Address, err)
	}
	for _, c := range []struct {
		args []string
		says []string
	}{
		{[]string{"status"}, []string{"running; ", "2 active"}},
		{[]string{"lease", "list", "--scope", "looms"}, []string{"10.77.0.17", "10.77.0.110", "reserved", "sw1/0/7"}},
		{[]string{"lease", "list", "--csv"}, []string{"address,status", "'=card-room"}}, // no formula reaches a spreadsheet
		{[]string{"lease", "list", "02-00-00-00-00-aa", "--json"}, []string{`"address": "10.77.0.110"`}},
		{[]string{"lease", "show", "10.77.0.110"}, []string{"02:00:00:00:00:aa", "in 60 min"}},
		{[]string{"lease", "history", "10.77.0.110"}, []string{"active", "02:00:00:00:00:aa"}},
		{[]string{"scope", "show", "looms"}, []string{"91 addresses, 10 more excluded", "2 active"}},
		{[]string{"option", "explain", "02:00:00:00:00:17"}, []string{"loom-17", "router", "scope", "0a4d0001"}},
		{[]string{"option", "set", "--scope", "looms", "ntp-servers=10.77.0.42"}, []string{"revision 3", "keep the old settings"}},
		{[]string{"option", "unset", "42", "--scope=looms"}, []string{"not set"}},
		{[]string{"option", "codes", "captive"}, []string{"114", "dhcp-captive-portal"}},
		{[]string{"option", "list"}, []string{"domain-server", "10.77.0.53"}},
		{[]string{"scope", "edit", "looms", "--exclude", "10.77.0.150,plotter", "--lease", "2h"}, []string{"plotter", "1h → 2h"}},
		{[]string{"scope", "drain", "looms", "--until", "2d", "--yes"}, []string{"nowhere to move", "newcomers go without"}},
		{[]string{"scope", "serve", "looms"}, []string{"draining → serving"}},
		{[]string{"scope", "hold", "looms", "--yes"}, []string{"would not be able to renew"}},
		{[]string{"plan", "show", "1"}, []string{"Revision 1 by admin", "pool 10.77.0.100-10.77.0.200"}},
		{[]string{"plan", "history"}, []string{"reservation loom-17 added"}},
		{[]string{"link", "list"}, []string{"looms"}},
		{[]string{"completion", "bash"}, []string{"complete -F _yarnpost yarnpost"}},
		{[]string{"lease", "end", "10.77.0.110", "--yes"}, []string{"ended"}},
		{[]string{"reservation", "remove", "loom-17", "--yes"}, []string{"removed"}},
	} {
		out := s.must(c.args...)
		for _, want := range c.says {
			if !strings.Contains(out, want) {
				t.Errorf("yarnpost %s does not say %q:\n%s", strings.Join(c.args, " "), want, out)
			}
		}
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"scope", "add", "dyers", "--subnet", "10.77.0.128/25"}, 1, "overlaps scope looms"},
		{[]string{"scope", "add", "dyers"}, 2, "--subnet"},
		{[]string{"scope", "ad", "dyers"}, 2, "yarnpost help"},
		{[]string{"scope", "list", "--colour"}, 2, "colour"},
		{[]string{"scope", "remove", "looms"}, 3, "--yes"},
		{[]string{"option", "set", "rooter=10.0.0.1"}, 1, "rooter"},
		{[]string{"lease", "end", "10.77.0.9"}, 1, "not active"},
		{[]string{"status", "--server", "http://127.0.0.1:1"}, 4, "cannot reach the server"},
	} {
		out, errs, code := s.cli(c.args...)
		if code != c.code || !strings.Contains(errs, c.says) {
			t.Errorf("yarnpost %s: exit %d and %q, want %d and %q\n%s", strings.Join(c.args, " "), code, errs, c.code, c.says, out)
		}
	}
	if !strings.Contains(s.must("scope", "list"), "looms") {
		t.Error("a preview removed the scope")
	}
}

// Messages over real sockets, in ways a command line does not show: what is
// malformed is counted and dropped, an independent decoder reads each reply.
func TestMessages(t *testing.T) {
	t.Parallel()
	tshark := needTool(t, "tshark", "tshark")
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.109", "--router", "10.77.0.1", "--dns",
		"10.77.0.53", "--domain", "mill.example",
		"--option", "domain-search=mill.example,dye.mill.example", "--option",
		"classless-static-route-option=10.9.0.0/16 10.77.0.2,0.0.0.0/0 10.77.0.1",
		"--option", "ntp-servers=10.77.0.42,10.77.0.43", "--option", "tcode=Europe/London", "--option", "vendor-specific=01:02:03:04", "--serve")
	r := s.relay("127.77.0.1", "10.77.0.1")
	ctx := context.Background()
	var replies [][]byte
	ask := func(what string, c *demo.Client, m dhcp4.Message, want dhcp4.Type) *dhcp4.Message {
		t.Helper()
		reply, raw, err := r.Exchange(ctx, m, "sw1/0/1", 2*time.Second)
		if want == dhcp4.None {
			if !errors.Is(err, trial.ErrSilence) {
				t.Errorf("%s: %v instead of silence", what, reply)
			}
			return nil
		}
		if err != nil || reply.Type != want {
			t.Fatalf("%s: %v, %v; want %s", what, reply, err, want)
		}
		replies = append(replies, raw)
		return reply
	}
	c := &demo.Client{Relay: r, Hardware: hw(1), ID: []byte("\x00loom"), Wants: append([]byte{101, 43}, usual...), Hostname: "loom-1"}
	offer := ask("discover", c, c.Message(dhcp4.Discover), dhcp4.Offer)
	server, _ := offer.Options.Addr(option.ServerID)
	take := c.Message(dhcp4.Request, demo.AddrOption(option.AddressRequest, offer.YIAddr), demo.AddrOption(option.ServerID, server))
	ask("request", c, take, dhcp4.Ack)
	ask("the same request again", c, take, dhcp4.Ack)
	inform := c.Message(dhcp4.Inform)
	inform.CIAddr = netip.MustParseAddr("10.77.0.77")
	ask("inform", c, inform, dhcp4.Ack)
	ask("wrong network", c, c.Message(dhcp4.Request, demo.AddrOption(option.AddressRequest, netip.MustParseAddr("192.168.0.9"))), dhcp4.Nak)
	stranger := &demo.Client{Relay: r, Hardware: hw(9)}
	ask("init-reboot without a record", stranger,
		stranger.Message(dhcp4.Request, demo.AddrOption(option.AddressRequest, netip.MustParseAddr("10.77.0.105"))), dhcp4.None)
	if circuit := dhcp4.ParseRelay(optionOf(offer, 82)).Circuit; string(circuit) != "sw1/0/1" {
		t.Errorf("option 82 came back with circuit %q", circuit)
	}

	// A small client that takes no more than 576 octets gets all it asked for,
	// by overload; option 57 can say more.
	many := c.Message(dhcp4.Discover)
	s.must("option", "set", "--scope", "looms", "root-path="+strings.Repeat("r", 200), "merit-dump-file="+strings.Repeat("m", 100))
	many.Options = slices.DeleteFunc(many.Options, func(o dhcp4.Option) bool { return o.Code == option.ParameterList })
	many.XID++
	big := ask("overload", c, many, dhcp4.Offer)
	for _, code := range []uint8{3, 6, 14, 15, 17, 42, 43, 101, 119, 121} {
		if _, ok := big.Options.Get(code); !ok {
			t.Errorf("option %d is missing in the overloaded reply", code)
		}
	}
	decode(t, tshark, replies)

	before := metric(t, s, `yarnpost_dropped_total{reason="malformed-short"}`)
	conn, err := net.Dial("udp4", s.dhcp4.String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	for _, junk := range [][]byte{{1}, {1, 2, 3}, bytes.Repeat([]byte{0xff}, 100), bytes.Repeat([]byte{1}, 1500)} {
		conn.Write(junk)
	}
	s.await(func() bool { return metric(t, s, `yarnpost_dropped_total{reason="malformed-short"}`) >= before+3 },
		"malformed datagrams to be counted")
	ask("still serving", c, func() dhcp4.Message { m := c.Message(dhcp4.Discover); return m }(), dhcp4.Offer)
}

func optionOf(m *dhcp4.Message, code uint8) []byte {
	b, _ := m.Options.Get(code)
	return b
}

// known are what the decoder marks although it is right: sub-option 19 of
// option 82 (RFC 8357) has no value, and the decoder does not know it.
var known = []string{"option 82", "suboption 19", "length isn't", "Unknown"}

// decode has replies read by an independent decoder, which must not find a
// malformed field.
func decode(t *testing.T, tshark string, replies [][]byte) {
	t.Helper()
	var pcap bytes.Buffer
	w := func(v any) { binary.Write(&pcap, binary.LittleEndian, v) }
	w([]uint32{0xa1b2c3d4, 4<<16 | 2, 0, 0, 65535, 228}) // raw IPv4
	for _, r := range replies {
		n := len(r) + 28
		w([]uint32{0, 0, uint32(n), uint32(n)})
		pcap.Write([]byte{0x45, 0, byte(n >> 8), byte(n), 0, 0, 0, 0, 64, 17, 0, 0, 127, 0, 0, 1, 127, 0, 0, 2, 0, 67, 0, 67, byte((n - 20) >> 8),
			byte(n - 20), 0, 0})
		pcap.Write(r)
	}
	file := filepath.Join(t.TempDir(), "replies.pcap")
	if err := os.WriteFile(file, pcap.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(tshark, "-r", file, "-T", "fields", "-e", "frame.number", "-e", "dhcp.option.dhcp", "-e", "_ws.malformed", "-e",
		"_ws.expert.message").Output()
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	if len(lines) != len(replies) {
		t.Fatalf("the decoder saw %d of %d replies", len(lines), len(replies))
	}
	for _, line := range lines {
		f := append(strings.Split(line, "\t"), "", "", "")
		if f[1] == "" || f[2] != "" {
			t.Errorf("reply %s is not well formed: %s", f[0], line)
		}
		if f[3] != "" && !slices.ContainsFunc(known, func(k string) bool { return strings.Contains(f[3], k) }) {
			t.Errorf("reply %s: the decoder says %q", f[0], f[3])
		}
	}
}

func metric(t *testing.T, s *service, name string) float64 {
	t.Helper()
	resp, err := http.Get("http://" + s.http + "/metrics")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	body, _ := io.ReadAll(resp.Body)
	for _, line := range strings.Split(string(body), "\n") {
		if rest, ok := strings.CutPrefix(line, name+" "); ok {
			var v float64
			fmt.Sscan(rest, &v)
			return v
		}
	}
	return 0
}

// Nobody without a session or a token reaches any path of the API, whatever
// its method; refusals are problem documents.
func TestAccess(t *testing.T) {
	t.Parallel()
	s := startService(t)
	token, _ := os.ReadFile(s.tokenFile())
	request := func(method, path, body string, header ...string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequest(method, "http://"+s.http+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		if body != "" {
			r.Header.Set("Content-Type", "application/json")
		}
		for i := 0; i < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp, string(b)
	}
	bearer := "Bearer " + strings.TrimSpace(string(token))
	_, doc := request("GET", "/api/openapi.json", "", "Authorization", bearer)
	var openapi struct {
		OpenAPI string
		Paths   map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal([]byte(doc), &openapi); err != nil || !strings.HasPrefix(openapi.OpenAPI, "3.1") || len(openapi.Paths) < 15 {
		t.Fatalf("the OpenAPI document is not one: %v %.200s", err, doc)
	}
	each := func(do func(needs, method, path string)) {
		for path, methods := range openapi.Paths {
			path = strings.NewReplacer("{address}", "10.0.0.1", "{name}", "x", "{number}", "1").Replace(path)
			for method, about := range methods {
				var o struct {
					Needs string `json:"x-needs"`
				}
				if err := json.Unmarshal(about, &o); err != nil || o.Needs == "" {
					t.Errorf("%s %s does not say what it needs of its caller (%v)", method, path, err)
				}
				do(o.Needs, strings.ToUpper(method), path)
			}
		}
	}
	each(func(needs, method, path string) {
		for _, h := range [][]string{{}, {"Authorization", "Bearer yp_wrong"}, {"Cookie", "yarnpost_session=wrong"}} {
			resp, body := request(method, path, "", h...)
			if open := resp.StatusCode != 401; open != (needs == "nothing") || resp.StatusCode != 200 &&
				resp.Header.Get("Content-Type") != "application/problem+json" {
				t.Errorf("%s %s, which needs %s, with %v: %d %s", method, path, needs, h, resp.StatusCode, body)
			}
		}
	})
	for path, status := range map[string]int{"/api/nothing": 404, "/api/scopes/none": 404, "/api/leases?sort=colour": 422,
		"/api/leases?after=junk": 422, "/api/status": 200} {
		if resp, body := request("GET", path, "", "Authorization", bearer); resp.StatusCode != status || status != 200 &&
			!strings.Contains(body, "detail") {
			t.Errorf("GET %s: %d %s", path, resp.StatusCode, body)
		}
	}
	if resp, body := request("POST", "/api/plan/changes",
		`{"edits":[{"op":"add","kind":"scope","name":"x","scope":{"subnet":"10.0.0.0/24","colour":"red"}}]}`, "Authorization",
		bearer); resp.StatusCode != 422 || !strings.Contains(body, "colour") {
		t.Errorf("an unknown field: %d %s", resp.StatusCode, body)
	}

	// The one-time password opens nothing but the way to one's own.
	password, err := os.ReadFile(filepath.Join(s.dir, "admin.password"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"admin.password", "admin.token"} {
		if info, err := os.Stat(filepath.Join(s.dir, name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", name, info.Mode(), err)
		}
	}
	if log := s.log.String(); strings.Contains(log, strings.TrimSpace(string(password))) || strings.Contains(log, bearer[7:]) {
		t.Error("a secret reached the log")
	}
	sign := func(password string) (*http.Response, string) {
		return request("POST", "/api/session", fmt.Sprintf(`{"account":"admin","password":%q}`, password))
	}
	resp, _ := sign(strings.TrimSpace(string(password)))
	cookie := resp.Header.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict"} {
		if resp.StatusCode != 200 || !strings.Contains(cookie, want) {
			t.Fatalf("sign-in: %d, cookie %q", resp.StatusCode, cookie)
		}
	}
	cookie, _, _ = strings.Cut(cookie, ";")
	each(func(needs, method, path string) {
		if needs == "self" && method == "DELETE" || needs == "nothing" {
			return
		}
		if resp, body := request(method, path, "", "Cookie", cookie); (resp.StatusCode == 403) == (needs == "self") {
			t.Errorf("with the one-time password, %s %s, which needs %s: %d %s", method, path, needs, resp.StatusCode, body)
		}
	})
	change := fmt.Sprintf(`{"old":%q,"new":"a better one"}`, strings.TrimSpace(string(password)))
	if resp, _ := request("POST", "/api/password", change, "Cookie", cookie, "Sec-Fetch-Site", "cross-site"); resp.StatusCode != 403 {
		t.Errorf("another site may change the password: %d", resp.StatusCode)
	}
	if resp, body := request("POST", "/api/password", change, "Cookie", cookie); resp.StatusCode != 204 {
		t.Errorf("change of password: %d %s", resp.StatusCode, body)
	}
	resp, _ = sign("a better one")
	cookie, _, _ = strings.Cut(resp.Header.Get("Set-Cookie"), ";")
	if resp, _ := request("GET", "/api/status", "", "Cookie", cookie); resp.StatusCode != 200 {
		t.Errorf("signed in with one's own password: %d", resp.StatusCode)
	}
	request("DELETE", "/api/session", "", "Cookie", cookie)
	if resp, _ := request("GET", "/api/status", "", "Cookie", cookie); resp.StatusCode != 401 {
		t.Errorf("signed out: %d", resp.StatusCode)
	}
	if _, err := os.Stat(filepath.Join(s.dir, "admin.password")); !os.IsNotExist(err) {
		t.Errorf("the one-time password lies about after it was used: %v", err)
	}
	// Guesses are paced, and the right password comes through all the same.
	var refused, wrong atomic.Int32
	var guesses sync.WaitGroup
	for n := range 60 {
		guesses.Go(func() {
			resp, body := request("POST", "/api/session", fmt.Sprintf(`{"account":"admin","password":"guess %d"}`, n))
			switch resp.StatusCode {
			case 429:
				refused.Add(1)
			case 401:
				wrong.Add(1)
			default:
				t.Errorf("a guess: %d %s", resp.StatusCode, body)
			}
			if strings.Contains(body, "guess") {
				t.Errorf("an error repeats the password: %s", body)
			}
		})
	}
	guesses.Wait()
	if refused.Load() == 0 || wrong.Load() > 40 {
		t.Errorf("of 60 guesses at once %d were checked and %d refused", wrong.Load(), refused.Load())
	}
	if resp, _ := sign("a better one"); resp.StatusCode != 200 {
		t.Errorf("after guesses the right password: %d", resp.StatusCode)
	}
	for _, weak := range []string{"short", "a better one", "aaaaaaaaaaaaaa", "password1234", "admin-admin-1"} {
		resp, body := request("POST", "/api/password", fmt.Sprintf(`{"old":"a better one","new":%q}`, weak), "Authorization", "Bearer "+s.token())
		if resp.StatusCode != 422 || strings.Contains(body, weak) {
			t.Errorf("the password %q: %d %s", weak, resp.StatusCode, body)
		}
	}
}

// Edits made against an old revision are refused, sets of edits apply as a
// whole or not at all, and the lease table pages through every order.
func TestChangesAndPages(t *testing.T) {
	t.Parallel()
	s := startService(t)
	ctx := context.Background()
	c := s.api()
	scope := func(name, subnet string) api.Edit {
		pools, mode := []string{"all"}, "serving"
		return api.Edit{Op: "add", Kind: "scope", Name: name, Scope: &api.ScopeEdit{Subnet: &subnet, Pools: &pools, Mode: &mode}}
	}
	if _, err := c.Change(ctx, api.ChangeRequest{Edits: []api.Edit{scope("a", "10.1.0.0/24"), scope("b", "10.1.0.128/25")}}); err == nil {
		t.Error("two overlapping scopes were accepted")
	}
	if list, _ := c.Scopes(ctx, "", ""); len(list) != 0 {
		t.Errorf("half of a refused set was applied: %v", list)
	}
	done, err := c.Change(ctx,
		api.ChangeRequest{Edits: []api.Edit{scope("a", "10.1.0.0/24"), scope("b", "10.2.0.0/24")}, Reason: "both at once"})
	if err != nil || done.Revision != 1 {
		t.Fatalf("%+v, %v", done, err)
	}
	_, err = c.Change(ctx, api.ChangeRequest{Base: 7, Edits: []api.Edit{scope("c", "10.3.0.0/24")}})
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Status != 409 || !strings.Contains(problem.Detail, "revision 1") {
		t.Errorf("a stale base: %v", err)
	}
	ra, rb := s.relay("127.77.1.1", "10.1.0.1"), s.relay("127.77.2.1", "10.2.0.1")
	for i := range 60 {
		r := []*demo.Relay{ra, rb}[i%2]
		if err := (&demo.Client{Relay: r, Hardware: hw(i), Hostname: fmt.Sprintf("h%d", i%7)}).Get(ctx); err != nil {
			t.Fatal(err)
		}
	}
	for _, order := range []string{"address", "hardware", "hostname", "scope", "status", "since", "expires"} {
		for _, desc := range []bool{false, true} {
			seen := map[string]bool{}
			q := client.LeaseQuery{Sort: order, Desc: desc, Limit: 7}
			for {
				page, err := c.Leases(ctx, q)
				if err != nil || page.Total != 60 {
					t.Fatalf("%s: total %d, %v", order, page.Total, err)
				}
				for _, l := range page.Items {
					if seen[l.Address] {
						t.Fatalf("sorted by %s, %s comes twice", order, l.Address)
					}
					seen[l.Address] = true
				}
				if q.After = page.Next; q.After == "" {
					break
				}
			}
			if len(seen) != 60 {
				t.Errorf("sorted by %s (desc %v), pages show %d of 60 leases", order, desc, len(seen))
			}
		}
	}
	if page, _ := c.Leases(ctx, client.LeaseQuery{Search: "H3", Scope: "b", Status: []string{"active"}}); page.Total == 0 || page.Total >= 30 {
		t.Errorf("filtered by search, scope and status: %d", page.Total)
	}
}
