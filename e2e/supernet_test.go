package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"yarnpost/demo"
)

// What is set on a supernet reaches clients of the scopes in it, over levels, with its rules;
// it can be seen where each value comes from, moved, undone, and it outlives a restart.
func TestSupernets(t *testing.T) {
	s := startService(t)
	for _, line := range []string{
		"defaults edit --lease 8h",
		"scope add looms --subnet 10.77.10.0/24 --pool 10.77.10.10-10.77.10.200 --router 10.77.10.1 --serve",
		"scope add yard --subnet 192.0.2.0/24 --pool all --serve",
		"supernet add west --prefix 10.77.0.0/16 --option domain-name=west.example --lease 2h",
		"supernet add mill --prefix 10.64.0.0/10 --lease 1h --option domain-name=mill.example --option ntp-servers=10.64.0.9",
		"rule add phones --supernet mill --when vendor.startsWith(\"deskphone\") --lease 30m",
		"option set ntp-servers=none --supernet west",
	} {
		s.must(strings.Fields(line)...)
	}
	ctx := context.Background()
	relay := s.relay("127.77.10.1", "10.77.10.1")
	wants := []byte{1, 3, 15, 42, 51}
	get := func(n int, vendor string) *demo.Client {
		t.Helper()
		c := &demo.Client{Relay: relay, Hardware: hw(n), Vendor: vendor, Wants: wants}
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
		return c
	}
	says := func(c *demo.Client, lease time.Duration, domain string, ntp bool) {
		t.Helper()
		name, _ := c.Last.Options.Get(15)
		_, told := c.Last.Options.Get(42)
		if c.Lease != lease || string(name) != domain || told != ntp {
			t.Errorf("lease %v, domain %q, ntp %v; want %v, %q, %v", c.Lease, name, told, lease, domain, ntp)
		}
	}
	says(get(1, ""), 2*time.Hour, "west.example", false)
	says(get(2, "deskphone 7"), 30*time.Minute, "west.example", false)

	supernetsAreTold(t, s)
	supernetsAddUp(t, s)
	// The same edit twice changes nothing; a preview says whom it touches.
	out := s.must(strings.Fields("supernet edit west --lease 3h --dry-run")...)
	for _, part := range []string{"2 clients of 1 scope keep the old settings", "Inherited differently (1 of 1)",
		"scope looms: lease time: 2h (supernet west) → 3h (supernet west)"} {
		if !strings.Contains(out, part) {
			t.Errorf("the preview does not say %q:\n%s", part, out)
		}
	}
	s.must(strings.Fields("supernet edit west --prefix 10.78.0.0/16")...)
	says(get(3, ""), time.Hour, "mill.example", true)
	s.stop()
	s.start()
	says(get(4, "deskphone 7"), 30*time.Minute, "mill.example", true)
	s.must(strings.Fields("supernet remove mill --yes")...)
	says(get(5, "deskphone 7"), 8*time.Hour, "", false)
	c := s.api()
	revisions, err := c.Revisions(ctx, 0, 1)
	if err != nil || len(revisions) != 1 {
		t.Fatal(revisions, err)
	}
	s.must("plan", "revert", fmt.Sprint(revisions[0].Number), "--yes")
	says(get(6, "deskphone 7"), 30*time.Minute, "mill.example", true)
}

// supernetsAreTold reads what commands say of supernets, and how they refuse.
func supernetsAreTold(t *testing.T, s *service) {
	t.Helper()
	for command, wanted := range map[string][]string{
		"supernet list":                          {"mill", "  west", "10.77.0.0/16"},
		"supernet show west":                     {"lies in", "mill", "2 active"},
		"scope show looms":                       {"mill › west", "2h  (supernet west)"},
		"option explain --scope looms":           {"west.example", "supernet west"},
		"rule list":                              {"supernet mill"},
		"rule show phones":                       {"supernet mill"},
		"option list":                            {"supernet"},
		"supernet list --search no-such":         {"No supernet"},
		"capacity list --kind supernet":          {"supernet west", "supernet mill"},
		"capacity show --supernet west":          {"2 of 191"},
		"supernet space mill":                    {"10.77.0.0/16", "west", "free"},
		"supernet space west":                    {"10.77.10.0/24", "looms", "10.77.11.0/24"},
		"supernet next west --bits 23 --count 2": {"10.77.8.0/23\n10.77.12.0/23"},
	} {
		out := s.must(strings.Fields(command)...)
		for _, w := range wanted {
			if !strings.Contains(out, w) {
				t.Errorf("%s does not say %q:\n%s", command, w, out)
			}
		}
	}
	for command, want := range map[string]string{
		"supernet add half --prefix 10.77.10.0/25":            "would cut scope looms",
		"supernet add again --prefix 10.77.0.0/16":            "of supernet west",
		"supernet add west --prefix 10.79.0.0/16":             "is there already and differs",
		"scope add wide --subnet 10.76.0.0/15 --pool all":     "overlaps scope looms",
		"rule edit phones --scope looms":                      "of a scope and of a supernet",
		"rule edit phones --supernet nowhere":                 "no supernet is called",
		"supernet show nowhere":                               "supernet list shows all",
		"supernet space nowhere":                              "no supernet is called",
		"supernet next west --bits 8":                         "no /8 fits into supernet west",
		"supernet next west --bits 16":                        "no /16 is free",
		"capacity show looms --supernet west":                 "stands for itself",
		"capacity show --supernet nowhere":                    "no supernet is called",
		"supernet next west":                                  "needs --bits",
		"option set router=10.0.0.1 --supernet a --scope b":   "choose one of",
		"supernet edit west --identity shoe-size":             "identity",
		"supernet add x --prefix 10.200.0.0/16 --option 3=no": "option",
	} {
		if out, errs, code := s.cli(strings.Fields(command)...); code == 0 || !strings.Contains(out+errs, want) {
			t.Errorf("%s: %d, does not say %q:\n%s%s", command, code, want, out, errs)
		}
	}
}

// supernetsAddUp holds the use of each supernet to the use of the scopes in it.
func supernetsAddUp(t *testing.T, s *service) {
	t.Helper()
	ctx := context.Background()
	scopes, err := s.api().Capacity(ctx, "scope")
	if err != nil {
		t.Fatal(err)
	}
	supernets, err := s.api().Capacity(ctx, "supernet")
	if err != nil || len(supernets) != 2 {
		t.Fatal(supernets, err)
	}
	for _, n := range supernets {
		for _, c := range scopes {
			if c.Name == "looms" && (n.Size != c.Size || n.Used != c.Used || n.Active != c.Active || n.Headroom != c.Headroom ||
				n.Active != 2) {
				t.Errorf("supernet %s counts %+v, its one scope %+v", n.Name, n, c)
			}
		}
	}
}

// The plan of an earlier revision, or of a moment, comes back as a new revision, with the preview
// that any change has.
func TestRestorePlan(t *testing.T) {
	s := startService(t)
	for _, line := range []string{
		"scope add looms --subnet 10.77.10.0/24 --pool 10.77.10.10-10.77.10.200 --router 10.77.10.1 --serve",
		"reservation add press --scope looms --hw 02-00-00-00-00-99 --address 10.77.10.5",
	} {
		s.must(strings.Fields(line)...)
	}
	time.Sleep(1100 * time.Millisecond)
	then := time.Now().UTC()
	time.Sleep(1100 * time.Millisecond)
	for _, line := range []string{
		"supernet add west --prefix 10.77.0.0/16 --lease 2h",
		"scope edit looms --name weaving --pool 10.77.10.10-10.77.10.100",
		"reservation remove press --yes",
		"scope add yard --subnet 10.78.0.0/24 --pool all",
	} {
		s.must(strings.Fields(line)...)
	}
	if out := s.must("plan", "restore", "2", "--dry-run"); !strings.Contains(out, "name: weaving → looms") ||
		!strings.Contains(out, "supernet west") {
		t.Errorf("the preview says\n%s", out)
	}
	s.must("plan", "restore", "--at", then.Format(time.RFC3339), "--yes", "--reason", "too soon")
	ctx := context.Background()
	c := s.api()
	scopes, err := c.Scopes(ctx, "", "")
	if err != nil || len(scopes) != 1 || scopes[0].Name != "looms" || scopes[0].Lease != "8h" || scopes[0].Usage.Size != 191 {
		t.Errorf("scopes: %+v, %v", scopes, err)
	}
	if list, err := c.Reservations(ctx, "", ""); err != nil || len(list) != 1 || list[0].Address != "10.77.10.5" {
		t.Errorf("reservations: %+v, %v", list, err)
	}
	if out := s.must("plan", "restore", "2", "--yes"); !strings.Contains(out, "Nothing to change") {
		t.Errorf("a second time:\n%s", out)
	}
	s.must("plan", "restore", "6", "--yes") // and forward again
	if list, err := c.Supernets(ctx, ""); err != nil || len(list) != 1 {
		t.Errorf("supernets: %+v, %v", list, err)
	}
	s.stop()
	s.start()
	if scopes, err := s.api().Scopes(ctx, "", ""); err != nil || len(scopes) != 2 {
		t.Errorf("after a restart: %+v, %v", scopes, err)
	}
	for command, want := range map[string]string{
		"plan restore": "one of them",
		"plan restore 2 --at " + then.Format(time.RFC3339): "one of them",
		"plan restore 99 --yes":                            "there is no revision 99",
		"plan restore --at yesterday":                      "no time like",
		"plan restore --at 2001-01-01T00:00:00Z":           "no plan yet",
		"plan restore x":                                   "not a revision number",
	} {
		if out, errs, code := s.cli(strings.Fields(command)...); code == 0 || !strings.Contains(out+errs, want) {
			t.Errorf("%s: %d, does not say %q:\n%s%s", command, code, want, out, errs)
		}
	}
}
