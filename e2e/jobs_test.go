package e2e

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/demo"
)

// jobs are those of the guide, with a folder for the files that they mention and clients that come
// and go.
type jobs struct {
	*service
	folder  string
	ben     []string
	old     *service // that another server is
	relays  map[string]*demo.Relay
	relayAt map[string]string
	clients map[string][]*demo.Client // by scope
}

// The guide's six jobs, followed to the letter.
func TestJobsOfTheGuide(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/guide.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := regexp.MustCompile("(?s)<!-- job ([a-z-]+) -->\\s*```\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	if len(blocks) < 6 {
		t.Fatalf("the guide has %d jobs only", len(blocks))
	}
	j := &jobs{service: startService(t), folder: t.TempDir(), relays: map[string]*demo.Relay{}, relayAt: map[string]string{},
		clients: map[string][]*demo.Client{}}
	j.ben = j.person("ben")
	j.captured()
	for _, b := range blocks {
		t.Run(b[1], func(t *testing.T) {
			j.t, j.old.t = t, t
			j.follow(t, strings.Split(strings.TrimSpace(b[2]), "\n"))
		})
	}
	j.t, j.old.t = t, t
}

// follow does what the lines of a job say.
func (j *jobs) follow(t *testing.T, lines []string) {
	out, asked := "", ""
	for i, line := range lines {
		switch {
		case strings.HasPrefix(line, "# → "):
			for _, part := range strings.Split(strings.TrimPrefix(line, "# → "), " … ") {
				says := func() bool { return strings.Contains(strings.Join(strings.Fields(out), " "), strings.TrimSpace(part)) }
				for n := 0; n < 20 && !says() && reads.MatchString(asked); n++ { // as a person looks again
					time.Sleep(200 * time.Millisecond)
					out = j.command(asked, line)
				}
				if !says() {
					t.Errorf("the guide promises %q; the command says:\n%s", part, out)
				}
			}
		case strings.HasPrefix(line, "# "):
			j.happens(strings.TrimPrefix(line, "# "))
		case strings.HasPrefix(line, "yarnpost "):
			promised := ""
			if i+1 < len(lines) {
				promised = lines[i+1]
			}
			asked, out = line, j.command(line, promised)
		default:
			t.Errorf("%q is nothing that the guide can say", line)
		}
	}
}

// reads are commands that only look.
var reads = regexp.MustCompile(`^yarnpost ([a-z]+ )?(list|show|listening)\b`)

// command runs a command line, with its files in the folder.
func (j *jobs) command(line, promised string) string {
	j.t.Helper()
	line, into, redirected := strings.Cut(line, " > ")
	args := words(j.t, line)[1:]
	for i, a := range args {
		switch ext := filepath.Ext(a); {
		case a == "ben.token":
			args[i] = j.ben[len(j.ben)-1]
		case i > 0 && args[i-1] == "--relay": // those of the tests are on loopback
			j.joins("packing")
			args[i] = j.relayAt["packing"]
		case ext == ".csv" || ext == ".yaml" || ext == ".pcap":
			args[i] = filepath.Join(j.folder, a)
		}
	}
	out, errs, code := j.cli(args...)
	switch refused, preview := strings.HasPrefix(promised, "# → the plan has changed"), code == 3 && args[1] == "preview"; {
	case refused != (code == 1), code != 0 && !refused && !preview:
		j.t.Fatalf("%s: exit %d\n%s%s", line, code, out, errs)
	}
	if redirected {
		if err := os.WriteFile(filepath.Join(j.folder, into), []byte(out), 0o600); err != nil {
			j.t.Fatal(err)
		}
	}
	return out + errs
}

// subnets of the scopes that clients come from.
var subnetOf = map[string]string{"packing": "10.40.44.1", "spinning": "10.40.12.1", "annex": "10.40.60.1", "carding": "10.40.48.1"}

// captured has another server serve spinning, and a capture of that.
func (j *jobs) captured() {
	j.t.Helper()
	j.old = startService(j.t)
	j.old.must("scope", "add", "spinning", "--subnet", "10.40.12.0/24", "--pool", "10.40.12.100-10.40.12.149", "--router",
		"10.40.12.1", "--dns",
		"10.40.0.5", "--lease", "2h", "--serve", "--new-per-minute", "-1")
	r, err := demo.NewRelay(netip.MustParseAddr("127.78.0.1"), netip.MustParseAddr(subnetOf["spinning"]), j.old.dhcp4, j.dhcp4)
	if err != nil {
		j.t.Fatal(err)
	}
	j.t.Cleanup(r.Close)
	j.relays["spinning"] = r
	for n := range 3 {
		j.comes("spinning", n)
	}
	j.old.must("trace", "--pcap", filepath.Join(j.folder, "day.pcap"), "--limit", "100")
}

// comes has a client get an address in a scope.
func (j *jobs) comes(scope string, n int) {
	j.t.Helper()
	j.joins(scope)
	c := &demo.Client{Relay: j.relays[scope], Hardware: hw(0x7800 + len(scope)<<8 + n), Patience: 2 * time.Second}
	if err := c.Get(j.t.Context()); err != nil {
		j.t.Fatalf("client %d of %s: %v", n, scope, err)
	}
	j.clients[scope] = append(j.clients[scope], c)
}

// joins puts a relay before a scope, unless there is one.
func (j *jobs) joins(scope string) {
	j.t.Helper()
	if j.relays[scope] == nil {
		j.relayAt[scope] = fmt.Sprintf("127.78.0.%d", 2+len(j.relays))
		j.relays[scope] = j.relay(j.relayAt[scope], subnetOf[scope])
	}
}

// happens does what the guide says in between.
func (j *jobs) happens(what string) {
	j.t.Helper()
	scope := ""
	for name := range subnetOf {
		if strings.Contains(what, name) {
			scope = name
		}
	}
	if scope != "" {
		what = strings.Replace(what, scope, "SCOPE", 1)
	}
	switch what {
	case "a client of SCOPE comes":
		j.comes(scope, 0)
	case "the clients of SCOPE leave":
		for _, c := range j.clients[scope] {
			c.Release()
		}
		j.await(func() bool { return strings.Contains(j.must("scope", "show", scope), "nobody") }, "the clients to leave")
	case "the clients of SCOPE renew":
		for _, c := range j.clients[scope] {
			if c.Renew(j.t.Context()) == nil {
				j.t.Errorf("%s may stay at %s", c.Hardware, c.Address)
			} else if err := c.Get(j.t.Context()); err != nil {
				j.t.Fatal(err)
			}
		}
	case "the clients of SCOPE start anew, answered by the old server":
		// On loopback both servers go by one address, so what the old one says is played.
		for _, c := range j.clients[scope] {
			c.Relay.Send(c.Message(dhcp4.Discover), "")
			c.Relay.Send(c.Message(dhcp4.Request, demo.AddrOption(option.AddressRequest, c.Address),
				demo.AddrOption(option.ServerID, netip.MustParseAddr("10.40.12.2"))), "")
		}
	case "the old server is off, and the clients of SCOPE start anew":
		j.old.stop()
		j.anew(scope)
	case "wing.csv gets a row for each of a hundred floors":
		rows := "name,subnet,pools,option router\r\n"
		for n := 1; n <= 100; n++ {
			rows += fmt.Sprintf("floor-%03d,10.44.%d.0/24,10.44.%d.20-10.44.%d.250,10.44.%d.1\r\n", n, n, n, n, n)
		}
		j.write("wing.csv", rows)
	case "mine.yaml gives dyeing a lease time of 2h":
		b, err := os.ReadFile(filepath.Join(j.folder, "mine.yaml"))
		text := regexp.MustCompile(`(?m)^( +)subnet: 10\.40\.16\.0/24$`).ReplaceAllString(string(b),
			"${1}subnet: 10.40.16.0/24\n${1}lease: 2h")
		if err != nil || text == string(b) {
			j.t.Fatalf("dyeing is not in the file: %v\n%s", err, b)
		}
		j.write("mine.yaml", text)
	default:
		j.t.Errorf("the guide says %q, and nobody knows how", what)
	}
}

// anew has the clients of a scope ask as after they were switched off; each keeps its address.
func (j *jobs) anew(scope string) {
	j.t.Helper()
	for _, c := range j.clients[scope] {
		had := c.Address
		c.Address = netip.Addr{}
		if err := c.Get(j.t.Context()); err != nil || c.Address != had {
			j.t.Errorf("%s had %s, and gets %s (%v)", c.Hardware, had, c.Address, err)
		}
	}
}

func (j *jobs) write(name, text string) {
	j.t.Helper()
	if err := os.WriteFile(filepath.Join(j.folder, name), []byte(text), 0o600); err != nil {
		j.t.Fatal(err)
	}
}
