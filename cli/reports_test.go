package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/api"
)

var (
	june  = time.Date(2026, 6, 1, 14, 30, 0, 0, time.UTC)
	later = june.Add(26 * time.Hour)
)

// says checks what a command line prints and how it ends.
func (f *fake) says(t *testing.T, line string, code int, texts ...string) string {
	t.Helper()
	out, errs, got := f.run(t, append(quoted(line), "--wide")...)
	if got != code {
		t.Errorf("%s ends with %d, want %d: %s%s", line, got, code, out, errs)
	}
	for _, text := range texts {
		if !strings.Contains(out+errs, text) {
			t.Errorf("%s does not say %q:\n%s%s", line, text, out, errs)
		}
	}
	return out + errs
}

// wasAsked reports whether the server was asked for something.
func (f *fake) wasAsked(what string) bool {
	for _, a := range f.asked {
		if strings.HasPrefix(a, what+"?") {
			return true
		}
	}
	return false
}

func aPair() api.Pair {
	return api.Pair{Formed: true, Own: api.PairServer{Name: "bobbin", Role: "primary", State: "normal", Since: &june, Owed: 3,
		Revision: 12},
		Partner: &api.PairServer{Name: "shuttle", Role: "secondary"}, Mode: "load-sharing", Split: 60, Lead: "1h",
		AutoDown: "10m", Contact: &june,
		Scopes:  []api.PairScope{{Scope: "looms", Active: 40, Own: 2, Partner: 30, OwnLow: true}},
		Reasons: []string{"shuttle is not heard"},
		Relays: []api.PairRelay{{Address: "10.40.36.1", Warning: "the cameras' relay forwards to bobbin alone"},
			{Address: "10.40.8.1"}},
		Conflicts: []api.PairConflict{{Address: "10.40.8.9", Kept: "0102", Other: "0103"}}}
}

// pair status says at a glance whether the other server would carry on, and ends so.
func TestPairStatusPrints(t *testing.T) {
	p := aPair()
	f := &fake{answers: map[string]any{"GET /api/pair": api.Pair{}}}
	f.says(t, "pair status", ExitNoTakeover, "This server is in no pair.", "pair invite")
	f.answers["GET /api/pair"] = &p
	f.says(t, "pair status", ExitNoTakeover, "bobbin (primary)", "shuttle (secondary)", "not heard", "revision 12", "not known",
		"Load-sharing 60:40, lead time 1h, partner down after 10m.", "Last contact", "2 (low)",
		"Note: The cameras' relay forwards to bobbin alone.",
		"Trouble: 10.40.8.9 was active for two clients; it stays with 0102.", "If bobbin died now, shuttle would not carry on:",
		"  - shuttle is not heard")
	skew := int64(-45)
	p.Takeover, p.Connected, p.Clock, p.Relays, p.Conflicts = true, true, &skew, nil, nil
	out := f.says(t, "pair status", 0, "Clocks are 45 s apart.", "If bobbin died now, shuttle would carry on.")
	if strings.Contains(out, "Last contact") || strings.Contains(out, "Note:") {
		t.Errorf("all is well, and it says\n%s", out)
	}
	p.Down, p.Claims = &june, &later
	f.says(t, "pair status", 0, "shuttle is taken to be down since", "its free addresses can be given here from")
	f.says(t, "pair status --json", 0, `"mode": "load-sharing"`)
}

// Orders to a pair say what they would do, and are carried out when they are meant.
func TestPairOrders(t *testing.T) {
	p := aPair()
	p.Drill = &api.PairDrill{Out: "bobbin", Served: 2, Longest: 1.25, Verdict: "No client went without",
		Clients: []api.Waited{{Name: "loom-1", Address: "10.40.8.9", Seconds: new(float64)}, {Name: "loom-2", Address: "10.40.8.10"}}}
	preview, done := api.PairDone{Text: "this server would serve alone"}, api.PairDone{Done: true, Text: "this server serves alone"}
	f := &fake{answers: map[string]any{"GET /api/pair": &p, "POST /api/pair/down": preview, "POST /api/pair/leave": done,
		"POST /api/pair/pause":     done,
		"POST /api/pair/rebalance": api.PairDone{Done: true}, "POST /api/pair/drill": done, "POST /api/pair/edit": &p,
		"POST /api/pair/invite": api.PairInvitation{Code: "yarnpair1-abc", Until: june}, "POST /api/pair/join": done}}
	f.says(t, "pair down", ExitPreview, "This server would serve alone.")
	f.says(t, "pair down --dry-run", 0, "This server would serve alone.")
	f.says(t, "pair leave --yes", 0, "This server serves alone.")
	f.says(t, "pair leave --yes --json", 0, `"done": true`)
	f.says(t, "pair rebalance", 0)
	f.says(t, "pair pause", 0, "serves alone")
	f.asked = nil
	f.says(t, "pair pause --dry-run", 0, "The partner would answer all clients.")
	f.says(t, "pair up --dry-run", 0, "Both would share the clients again.")
	f.says(t, "pair rebalance --dry-run", 0, "would be split anew")
	f.says(t, "pair drill --for 30s", ExitPreview, "would leave all clients to the partner for 30s")
	f.says(t, "pair drill --dry-run", 0, "for 1m0s")
	f.says(t, "pair join yarnpair1-abc --dry-run", 0, "would take over the other's plan")
	f.says(t, "pair invite --at bobbin --dry-run", 0, "would be open for 15 minutes")
	f.says(t, "pair edit --split 30 --dry-run", 0, "would be changed on both")
	if len(f.asked) > 0 {
		t.Errorf("what was only looked at asked for %q", f.asked)
	}
	f.says(t, "pair drill --yes", 0,
		"No client went without. 2 clients were served meanwhile; the longest that one waited was 1.2 s.", "loom-1  10.40.8.9   1 ms",
		"loom-2  10.40.8.10  asked the other server alone")
	f.says(t, "pair edit --mode load-sharing", 0, "In force on both: load-sharing 60:40")
	if _, errs, _ := f.run(t, "pair", "edit", "--auto-down", "10m"); !strings.Contains(errs, "both may come to hand out the same address") {
		t.Errorf("automatic partner-down without a warning: %q", errs)
	}
	f.says(t, "pair invite --at bobbin", 0, "yarnpost pair join yarnpair1-abc", "good once")
	f.says(t, "pair join yarnpair1-abc", 0, "serves alone")
	for line, want := range map[string]string{"pair invite": "--at says where", "pair edit": "say what is to change",
		"pair edit --mode odd": "hot-standby or load-sharing",
		"pair drill --for 1s":  "ten seconds to an hour", "pair drill --for 2h": "ten seconds to an hour", "pair join": "CODE"} {
		f.says(t, line, ExitUsage, want)
	}
}

// Where the two servers differ, each is shown with what it knows; what is mended is what
// differs wrongly, once it is meant.
func TestPairComparesAndSettles(t *testing.T) {
	p := aPair()
	c := api.PairComparison{Leases: 120, Differences: []api.PairDifference{
		{Address: "10.40.8.9", Class: "wrong", Text: "the other does not know it", Own: &api.PairKnown{Status: "active",
			Hardware: "02:40:00:00:00:09", Since: june}},
		{Address: "10.40.8.10", Class: "allowed", Text: "within the lead time"}}}
	f := &fake{answers: map[string]any{"GET /api/pair": &p, "GET /api/pair/compare": &c,
		"POST /api/pair/mend": api.PairDone{Text: "1 record would be told again"}}}
	f.says(t, "pair compare", 0, "10.40.8.9   wrong", "active 02:40:00:00:00:09 since", "nothing", "within the lead time")
	if f.wasAsked("POST /api/pair/mend") {
		t.Error("it mends without being asked to")
	}
	f.says(t, "pair compare --mend", ExitPreview, "1 record would be told again.")
	f.answers["POST /api/pair/mend"] = api.PairDone{Done: true, Text: "1 record is told again"}
	f.says(t, "pair compare --mend --yes", 0, "1 record is told again.")
	c.Differences = c.Differences[1:]
	f.says(t, "pair compare --mend --yes", 0, "there is nothing to mend")
	c.Differences = nil
	f.says(t, "pair compare", 0, "Both know the same of all 120 records.")

	lines := api.PairLines{}
	f.answers["GET /api/pair/lines"], f.answers["POST /api/pair/settle"] = &lines, api.PairDone{Text: "bobbin's plan would hold"}
	f.says(t, "pair settle", 0, "nothing to choose")
	lines = api.PairLines{Parted: true, Own: []api.PairRevision{{Number: 13, At: june, Author: "ada",
		Lines: []string{"scope attic added", "option 3 set"}}},
		Partner: []api.PairRevision{{Number: 13, At: june, Author: "bram", Lines: []string{"scope cellar added"}}},
		Aside:   []api.PairRevision{{Key: "bobbin-1", Number: 9, At: june, Author: "ada"}}}
	f.says(t, "pair settle", 0, "scope attic added; option 3 set", "bram", "bobbin-1", "yarnpost plan again bobbin-1")
	if f.wasAsked("POST /api/pair/settle") {
		t.Error("it settles without being asked to")
	}
	f.says(t, "pair settle bobbin", ExitPreview, "scope cellar added", "Bobbin's plan would hold.")
	f.answers["POST /api/pair/settle"] = api.PairDone{Done: true, Text: "bobbin's plan holds"}
	f.says(t, "pair settle bobbin --yes", 0, "Bobbin's plan holds.")
	f.answers["GET /api/pair/history"] = api.Page[api.PairEvent]{Items: []api.PairEvent{{At: june, Text: "formed a pair"}}}
	f.says(t, "pair history", 0, "formed a pair")
}

// How full everything is, by whom, and until when, as it is printed.
func TestCapacityPrints(t *testing.T) {
	forecast := &api.Forecast{Text: "around 20 June", Level: 300, PerDay: 10.5, Peak: 380, Size: 500, Days: 42, Step: &june,
		Events: []time.Time{later}}
	looms := api.Capacity{Kind: "scope", Name: "looms", Size: 500, Used: 400, Headroom: 60, Partner: 40, Active: 390, Excluded: 5,
		Forecast: forecast,
		Trend:    []int{-1, 0, 250, 500}}
	list := []api.Capacity{looms, {Kind: "pool", Name: "looms", Pool: "10.0.0.1-10.0.0.9", Size: 9}, {Kind: "link", Name: "mill"},
		{Kind: "all", Size: 9}}
	d := api.CapacityDetail{Capacity: looms, Points: []api.CapacityPoint{{New: 3, Returned: 2, Left: 1}, {New: 4}},
		Busy: [][]int{{1, 2}, {0, 9, 3}}, Zone: "Europe/Berlin",
		Marks: []api.CapacityMark{{At: june, Revision: 7, Text: "pool widened"}, {At: later, Revision: 8, Text: "lease 4h"}},
		Helps: []api.CapacityHelp{{Text: "shorten the lease to 2h", Addresses: 90, Days: 12,
			Command: "yarnpost scope edit looms --lease 2h"}, {Text: "widen it", Addresses: 50}}}
	u := api.CapacityUsers{Active: 390, Gone: 12, Records: 800, Once: 31, ManyTotal: 1,
		Vendors: []api.CapacityGroup{{Name: "phone-os", Clients: 200}, {Name: "desk-os", Clients: 100}},
		Many:    []api.CapacityMany{{Hardware: "02:40:00:00:00:01", Hostname: "a\x1b[31mb", Addresses: []string{"10.0.0.1", "10.0.0.2"}}},
		WinBack: api.CapacityWinBack{Text: "win back 37 addresses", Days: 19}}
	f := &fake{answers: map[string]any{"GET /api/capacity": api.Page[api.Capacity]{Items: list}, "GET /api/capacity/looms": &d,
		"GET /api/capacity/looms/users": u}}
	f.says(t, "capacity list", 0, "looms ", "80 %", "▁▅█", "around 20 June", "looms 10.0.0.1-10.0.0.9", "not looked at yet",
		"link mill", "no pool", "all ")
	f.says(t, "capacity show looms", 0, "400 of 500 (80 %); 60 left here", "40 more are the other server's to give", "390 active",
		"around 20 June",
		"380 in the last week, 300 on its average; the peak changes by +10.5 a day", "another level since 1 Jun", "left out: 2 Jun",
		"Tuesday, 1:00 to 2:00 (Europe/Berlin), with 9",
		"7 new, 2 returned, 1 left since 28d", "revision 7  pool widened", "shorten the lease to 2h (+90 addresses, 12 days)",
		"yarnpost scope edit looms --lease 2h",
		"widen it (+50 addresses)")
	if out := f.says(t, "capacity show looms --csv", 0); !strings.HasPrefix(out, "at,low,mean,peak,") || strings.Count(out, "\n") != 3 {
		t.Errorf("as CSV:\n%s", out)
	}
	out := f.says(t, "capacity users looms", 0, "Clients that hold an address: 390, of which 12 should have renewed",
		"vendor class  phone-os  200", "desk-os   100",
		"Clients that hold several addresses: 1", "10.0.0.1 10.0.0.2", "One could win back 37 addresses; that is 19 days.")
	if strings.Contains(out, "\x1b") {
		t.Error("an escape of a client's reaches the terminal")
	}
	f.says(t, "capacity forecast looms", 0, "around 20 June", "42 days of history")
	d.Forecast = nil
	f.says(t, "capacity forecast looms", ExitRefused, "scope looms has no pool")
	d.Capacity, d.Busy = api.Capacity{}, nil
	f.says(t, "capacity show looms", 0, "no pool", "not known yet")
	f.says(t, "capacity forecast", ExitUsage, "name a scope, or a file")
	f.says(t, "capacity forecast looms --from x", ExitUsage, "name a scope, or a file")
	f.says(t, "capacity forecast --from x", ExitUsage, "--size says")
	f.says(t, "capacity forecast --from /nowhere --size 9", ExitRefused, "/nowhere: no such file")
	file := filepath.Join(t.TempDir(), "used.csv")
	if err := os.WriteFile(file, []byte("time,used\n2026-06-01T00:00:00Z,x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	f.says(t, "capacity forecast --from "+file+" --size 9", ExitRefused, "line 2", "is no number of addresses")
	f.says(t, "capacity subnet 10.40.64.0/20 --split 24", 0, "10.40.79.255", "10.40.65.0/24")
	f.says(t, "capacity subnet 10.40.64.0/33", ExitUsage)
	f.says(t, "capacity size --arrivals 900 --stay 40m --lease 30m", 0, "addresses", "renewals", "M/G/")
	f.says(t, "capacity size --stay soon", ExitUsage, "--stay")
	f.says(t, "capacity size --seats 9 --stay 1h --lease 0s", ExitUsage, "--lease 0 is no time")
	f.says(t, "capacity size --seats 9 --stay 1h --lease 1h --pool 0", ExitUsage, "--pool 0 is no pool")
	f.says(t, "capacity size --arrivals 900 --stay 40m --lease 30m --csv", 0, "pool,lease,", ",30m,")
	f.says(t, "capacity subnet 10.40.64.0/20 --csv", 0, "subnet,network,", "10.40.64.0/20,10.40.64.0,")
}

// What an audit found, what of it is known, and what could be swept, as it is printed.
func TestAuditPrints(t *testing.T) {
	known := &api.Acknowledged{By: "ada", Until: later, Reason: "it is being rebuilt"}
	full := api.Finding{Key: "pool-out scope looms", Code: "pool-out", Severity: "trouble", Subject: "scope looms",
		Text: "all are used", Mend: "Widen it.",
		Command: "yarnpost capacity show looms", First: june, New: true, Examples: []string{"10.0.0.1"}}
	old := api.Finding{Key: "no-router scope yard", Code: "no-router", Severity: "warning", Subject: "scope yard",
		Text: "no router", First: june, Known: known}
	r := api.AuditReport{At: june, Took: 0.4, Leases: 12, Troubles: 1, Known: 1, Fresh: 1, Findings: []api.Finding{full, old}}
	gone := old
	gone.Gone = &later
	f := &fake{answers: map[string]any{"GET /api/audit": &r, "POST /api/audit/runs": &r,
		"GET /api/audit/past": api.Page[api.Finding]{Items: []api.Finding{gone}},
		"GET /api/audit/codes": api.Page[api.FindingCode]{Items: []api.FindingCode{{Code: "pool-out", Area: "plan",
			Severity: "trouble", Title: "Pool used up", Means: "nobody new gets one"}}},
		"POST /api/audit/acknowledge": api.Page[api.Finding]{Items: []api.Finding{old, full}}}}
	f.says(t, "audit list", ExitFindings, "trouble   pool-out scope looms  all are used", "new", "known to ada until 2026-06-02",
		"1 trouble, 0 warnings, 0 notes, 1 acknowledged; 1 new and 0 gone")
	r.Lost = "the database does not answer"
	f.says(t, "audit run", ExitFindings, "It is not on record: the database does not answer.")
	r.Findings, r.Lost = r.Findings[1:], ""
	f.says(t, "audit run", 0, "no router")
	r.Findings = nil
	f.says(t, "audit list", 0, "Nothing was found.")
	r.Findings = []api.Finding{full, old}
	f.says(t, "audit show looms", 0, "pool-out scope looms", "such as", "10.0.0.1", "nobody new gets one", "Widen it.",
		"  yarnpost capacity show looms")
	f.says(t, "audit show yard", 0, "by ada until 2026-06-02: it is being rebuilt")
	f.says(t, "audit show nothing-of-that", ExitRefused, "no finding of the last audit has")
	f.says(t, "audit acknowledge looms --reason soon --until 30d", 0, "no-router scope yard is acknowledged until 2026-06-02.",
		"pool-out scope looms is no longer acknowledged.")
	f.says(t, "audit acknowledge scope --reason soon --until 30d", ExitPreview, "pool-out scope looms", "no-router scope yard")
	f.says(t, "audit acknowledge looms --reason soon --until 30d --dry-run", 0, "Would be acknowledged: pool-out scope looms.")
	f.says(t, "audit acknowledge looms --until 30d", ExitUsage, "say why")
	f.says(t, "audit acknowledge looms --reason soon --until some-day", ExitUsage, "neither a date")
	f.says(t, "audit list --severity dreadful", ExitUsage, "note, warning or trouble")
	f.says(t, "audit codes", 0, "pool-out", "nobody new gets one")
	f.says(t, "audit codes pool-out", 0, "Pool used up")
	f.says(t, "audit codes pool-in", ExitRefused, `no finding has the code "pool-in"`)
	f.says(t, "audit list --gone 7", 0, "no router")

	f.answers["POST /api/sweep"] = api.Swept{Text: "1 item could be cleared", Kept: []string{"10.0.0.9 answers a probe"},
		Items: []api.SweptItem{{Kind: "abandoned", Subject: "10.0.0.7", Scope: "looms", Client: "02:40:00:00:00:07", Since: june,
			Text: "answered a probe"}}}
	f.says(t, "sweep list", 0, "10.0.0.7", "Not cleared: 10.0.0.9 answers a probe",
		"1 abandoned, 1 unclaimed, 1 stale would be cleared.")
	f.says(t, "sweep run --kind abandoned", ExitPreview, "10.0.0.7")
	f.says(t, "sweep run --kind abandoned --yes", 0, "10.0.0.7", "1 item could be cleared.")
	f.says(t, "sweep run --kind abandoned --csv", ExitPreview, "kind,subject,")
	f.says(t, "sweep run", ExitUsage, "--kind is abandoned, unclaimed or stale")
	f.says(t, "sweep list --kind dust", ExitUsage, "--kind is abandoned")
}

// A file of neighbours is read in whatever way programs print it; a line that has only
// half of it is named.
func TestReadNeighbours(t *testing.T) {
	read := func(text string) ([]api.Neighbour, error) {
		file := filepath.Join(t.TempDir(), "neighbours")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return readNeighbours(file)
	}
	list,
		err := read("\ufeff10.77.0.4 02:40:00:00:00:04\nfe80::40:ff:fe00:5 dev eth0 lladdr 02:40:00:00:00:05 router STALE\n" +
		"fe80::1234:5678%eth0 dev eth0 FAILED\n2001:db8::9\n# of the core switch\n\n10.77.0.5 dev eth0 lladdr 02:40:00:00:00:05 REACHABLE\n? (10.77.0.6) at 02-40-00-00-00-06 [ether] on eth0\n" +
		"10.77.0.7,0240.0000.0007\nAddress Hardware\n10.77.0.8 dev eth0 FAILED\n10.77.0.9 (incomplete) on eth0\n02:40:00:00:00:0a\t10.77.0.10/24 10.77.0.10\n")
	if err != nil || len(list) != 5 {
		t.Fatalf("%v: %+v", err, list)
	}
	for n, want := range []string{"10.77.0.4 02:40:00:00:00:04", "10.77.0.5 02:40:00:00:00:05", "10.77.0.6 02-40-00-00-00-06",
		"10.77.0.7 0240.0000.0007",
		"10.77.0.10 02:40:00:00:00:0a"} {
		if got := list[n].Address + " " + list[n].Hardware; got != want {
			t.Errorf("neighbour %d is %s, want %s", n, got, want)
		}
	}
	for text, want := range map[string]string{"10.77.0.5 REACHABLE": "line 1", "\n02:40:00:00:00:05 at eth0": "line 2"} {
		if _, err := read(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if list, err := readNeighbours(""); list != nil || err != nil {
		t.Errorf("no file: %v, %v", list, err)
	}
	if _, err := readNeighbours("/nowhere"); err == nil {
		t.Error("a file that is not there is read")
	}
}
