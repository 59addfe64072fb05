package audit

import (
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

const now lease.Time = 1_780_000_000

func scope(t *testing.T, change func(*plan.Scope)) (*plan.Plan, []plan.Change) {
	t.Helper()
	r, err := addr.ParseRange("10.77.0.100-10.77.0.199")
	if err != nil {
		t.Fatal(err)
	}
	d := plan.New().Draft()
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving, Pools: []addr.Range{r},
		Settings: plan.Settings{Lease: plan.Duration(8 * time.Hour), Options: map[option.Key]string{option.Std(option.Router): "10.77.0.1"}}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	change(&s)
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	return d.Finish()
}

func codesOf(list []Finding) string {
	var out []string
	for _, f := range list {
		out = append(out, f.ID)
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

func one(text string) addr.Range {
	r, err := addr.ParseRange(text)
	if err != nil {
		panic(err)
	}
	return r
}

// What is odd about a scope is said at the change, by the code that an audit runs.
func TestAdvice(t *testing.T) {
	host := []plan.Interface{{Name: "eth1", Prefixes: []netip.Prefix{netip.MustParsePrefix("10.77.0.120/24")}}}
	nobody := []plan.Interface(nil)
	for want, c := range map[string]struct {
		host   []plan.Interface
		change func(*plan.Scope)
	}{
		"":                       {nobody, func(s *plan.Scope) {}},
		"no-router":              {nobody, func(s *plan.Scope) { s.Options = nil }},
		"router-outside":         {nobody, func(s *plan.Scope) { s.Options[option.Std(option.Router)] = "10.78.0.1" }},
		"routes-without-default": {nobody, func(s *plan.Scope) { s.Options[option.Std(option.ClasslessStaticRoute)] = "10.9.0.0/16 10.77.0.2" }},
		"own-address":            {host, func(s *plan.Scope) {}},
		"infinite-lease":         {nobody, func(s *plan.Scope) { s.Lease = plan.Duration(option.Infinite) }},
		"idle-exclusion":         {nobody, func(s *plan.Scope) { s.Exclusions = []plan.Exclusion{{Range: one("10.77.0.5"), User: "x"}} }},
		"no-pool":                {nobody, func(s *plan.Scope) { s.Pools = nil }},
		"empty-pool": {nobody, func(s *plan.Scope) {
			s.Exclusions = []plan.Exclusion{{Range: one("10.77.0.100-10.77.0.199"), User: "x"}}
		}},
		"public-range": {nobody, func(s *plan.Scope) {
			s.Subnet, s.Pools = netip.MustParsePrefix("11.0.0.0/24"), []addr.Range{one("11.0.0.10")}
			s.Options[option.Std(option.Router)] = "11.0.0.1"
		}},
		"short-lease": {nobody, func(s *plan.Scope) {
			s.Subnet, s.Pools, s.Lease = netip.MustParsePrefix("10.77.0.0/16"), []addr.Range{one("10.77.0.100-10.77.200.0")},
				plan.Duration(time.Minute)
		}},
	} {
		p, changes := scope(t, c.change)
		if got := codesOf(OfChange(p, changes, c.host)); got != want {
			t.Errorf("advised %q, want %q", got, want)
		}
	}
}

// How full a scope is and will be.
func TestUse(t *testing.T) {
	day := func(n int) time.Time { return now.Std().AddDate(0, 0, n) }
	for _, c := range []struct {
		name  string
		count capacity.Count
		f     capacity.Forecast
		mode  plan.Mode
		want  string
	}{
		{"half full", capacity.Count{Size: 100, Headroom: 50, Active: 50}, capacity.Forecast{}, plan.Serving, ""},
		{"past 90 %", capacity.Count{Size: 100, Headroom: 9, Active: 91}, capacity.Forecast{}, plan.Serving, "pool-full"},
		{"the partner's count too", capacity.Count{Size: 100, Headroom: 9, Partner: 9, Active: 82}, capacity.Forecast{}, plan.Serving, ""},
		{"full", capacity.Count{Size: 100, Active: 100}, capacity.Forecast{Date: day(0)}, plan.Serving, "pool-out"},
		{"full and held", capacity.Count{Size: 100, Active: 100}, capacity.Forecast{}, plan.Held, ""},
		{"out in ten days", capacity.Count{Size: 100, Headroom: 40, Active: 60}, capacity.Forecast{Date: day(10)}, plan.Serving, "pool-runs-out"},
		{"out in twenty days", capacity.Count{Size: 100, Headroom: 40, Active: 60}, capacity.Forecast{Date: day(20)}, plan.Serving, ""},
		{"far too large", capacity.Count{Size: 5000, Headroom: 4990, Active: 10}, capacity.Forecast{Peak: 12, Days: 42},
			plan.Serving, "oversized-pool"},
		{"large, and too new to tell", capacity.Count{Size: 5000, Headroom: 4990, Active: 10}, capacity.Forecast{Peak: 12, Days: 10},
			plan.Serving, ""},
		{"never used", capacity.Count{Size: 100, Headroom: 100}, capacity.Forecast{}, plan.Serving, "scope-unused"},
	} {
		p, _ := scope(t, func(s *plan.Scope) { s.Mode = c.mode })
		key := capacity.Key{Scope: p.ScopeNamed("looms").ID}
		got := codesOf(OfUse(p, Facts{Now: now, Usage: map[capacity.Key]capacity.Count{key: c.count},
			Outlook: map[capacity.Key]capacity.Forecast{key: c.f}}))
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	p, _ := scope(t, func(s *plan.Scope) { s.Mode, s.DrainUntil = plan.Draining, now.Std().Add(-time.Hour) })
	if got := codesOf(OfUse(p, Facts{Now: now})); got != "drain-over" {
		t.Errorf("a drain that is over: %q", got)
	}
}

func TestSilentServers(t *testing.T) {
	p, _ := scope(t, func(s *plan.Scope) {
		s.Options[option.Std(option.DomainServer)] = "10.77.0.5,10.77.0.6"
		s.Options[option.Key{Book: option.HeaderBook, Code: option.NextServer}] = "10.77.0.7"
		s.Exclusions = []plan.Exclusion{{Range: one("10.77.0.150-10.77.0.151")}, {Range: one("10.77.0.160")}}
	})
	if n := len(Quiet(p, 100)); n != 7 { // a router, two DNS servers, a boot server, three excluded
		t.Errorf("%d hosts are to be looked at: %v", n, Quiet(p, 100))
	}
	silent := map[netip.Addr]bool{}
	for text, is := range map[string]bool{"10.77.0.1": false, "10.77.0.5": true, "10.77.0.6": false, "10.77.0.7": true, "10.77.0.150": true, "10.77.0.151": true,
		"10.77.0.160": false} {
		silent[netip.MustParseAddr(text)] = is
	}
	list := OfPlan(p, Facts{Now: now, Silent: silent})
	if got := codesOf(list); got != "exclusion-unused silent-server silent-server" {
		t.Errorf("%q: %+v", got, list)
	}
}

// Each fault of a pair and of a service is found, and nothing else with it.
func TestPairAndService(t *testing.T) {
	whole := Pair{Own: "bobbin", Partner: "shuttle", Connected: true, Shares: []Share{{Scope: "looms", Own: 50, Partner: 50}}}
	a := netip.MustParseAddr("10.77.0.9")
	for want, plant := range map[string]func(*Pair){
		"":              func(*Pair) {},
		"pair-differs":  func(p *Pair) { p.Wrong = []Difference{{a, "one names a holder that the other does not know"}} },
		"pair-conflict": func(p *Pair) { p.Conflicts = []Difference{{a, "two hold it"}} },
		"pair-owed":     func(p *Pair) { p.Owed, p.OwedSince = 12, 10*time.Minute },
		"pair-shares":   func(p *Pair) { p.Shares[0].Low = "bobbin" },
		"pair-nobodys":  func(p *Pair) { p.Waiting, p.Connected = 40, false },
		"pair-plan":     func(p *Pair) { p.Plan = "both changed it" },
		"pair-clock":    func(p *Pair) { p.Skew = -time.Minute },
		"pair-relay":    func(p *Pair) { p.Relays = []Said{{Subject: "relay 10.77.0.1", Text: "bobbin alone hears it"}} },
		"pair-takeover": func(p *Pair) { p.Reasons = []string{"shuttle is paused"} },
	} {
		p := whole
		p.Shares = slices.Clone(whole.Shares)
		plant(&p)
		if got := codesOf(OfPair(p)); got != want {
			t.Errorf("planted %q, found %q", want, got)
		}
	}
	if got := codesOf(OfPair(Pair{Owed: 5, OwedSince: time.Minute, Skew: time.Second, Waiting: 3})); got != "" {
		t.Errorf("what is usual is found: %q", got)
	}
	at := time.Date(2026, 5, 4, 0, 0, 0, 0, time.UTC)
	for want, plant := range map[string]func(*Service){
		"":                      func(*Service) {},
		"database-down":         func(s *Service) { s.Down = "connection refused" },
		"database-slow":         func(s *Service) { s.Commit = 300 * time.Millisecond },
		"disk-full":             func(s *Service) { s.DiskFree = 0.05 },
		"history-behind":        func(s *Service) { s.HistoryDays = 2 },
		"samples-behind":        func(s *Service) { s.Samples = "no room" },
		"conversations-dropped": func(s *Service) { s.Dropped = 7 },
		"certificate-ends":      func(s *Service) { s.Certificate = at.AddDate(0, 0, 5) },
		"clock-stepped":         func(s *Service) { s.ClockStep = time.Hour },
		"database-set-back":     func(s *Service) { s.SetBack = "it knows batch 7 and there were 9" },
		"backup-missing":        func(s *Service) { s.Backup = "there is none yet" },
		"change-failed":         func(s *Service) { s.Changes = []Said{{Subject: "change looms-move", Text: "it was undone"}} },
		"host-claims-addresses": func(s *Service) { s.Claims = []Said{{Subject: "hardware 02:00:00:00:00:66", Text: "it answers"}} },
		"other-server":          func(s *Service) { s.OtherServers = []Said{{Subject: "link looms", Text: "10.77.0.2 answers"}} },
		"relay-silent":          func(s *Service) { s.SilentRelays = []Said{{Subject: "relay 10.77.0.1", Text: "it is quiet"}} },
		"trial-failed":          func(s *Service) { s.Trials = []Failed{{"looms-served", "looms", "no offer"}} },
		"clients-unserved":      func(s *Service) { s.Unserved = map[string]int{"pool is empty": 3} },
		"fault":                 func(s *Service) { s.Panics = 1 },
		"host":                  func(s *Service) { s.Host = []Failed{{"clock", "", "nothing keeps it"}} },
	} {
		s := Service{Now: at, DiskFree: 0.5, Certificate: at.AddDate(1, 0, 0), Commit: 2 * time.Millisecond}
		plant(&s)
		if got := codesOf(OfService(s)); got != want {
			t.Errorf("planted %q, found %q", want, got)
		}
	}
	ended := OfService(Service{Now: at, DiskFree: 0.01, Certificate: at.AddDate(0, 0, -1)})
	severitiesSaid(t, ended)
	severitiesSaid(t, OfService(Service{Now: at, DiskFree: 1, OtherServers: []Said{{Subject: "link looms", Meant: true}}}))
	severitiesSaid(t, OfPair(Pair{Connected: true, Plan: "x", Parted: true}))
	if len(ended) != 2 || ended[0].Severity != Trouble || ended[1].Severity != Trouble {
		t.Errorf("what has come is trouble: %+v", ended)
	}
}

// severitiesSaid checks that a finding is as grave as its code, or as its code says that it may
// be: docs/findings.md has both.
func severitiesSaid(t *testing.T, list []Finding) {
	t.Helper()
	for _, f := range list {
		if f.Severity != f.Code.Severity && !strings.Contains(f.Means, "is a "+f.Severity.String()) {
			t.Errorf("%s is a %s, and its code says nothing of that", f.Key(), f.Severity)
		}
	}
}

// Every kind of finding says what it means, how it comes about and what to do, in
// docs/findings.md as in the code; and each that the code says is one.
func TestCodes(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range Codes() {
		if seen[c.ID] || c.Title == "" || len(c.Means) < 12 || len(c.Comes) < 10 || len(c.Do) < 10 || c.Area == "" {
			t.Errorf("%s says too little, or stands twice", c.ID)
		}
		if seen[c.ID] = true; CodeOf(c.ID) != c {
			t.Errorf("%s is not found", c.ID)
		}
	}
	told := map[string]bool{}
	said := regexp.MustCompile(`(?:say|\.say)\("([a-z-]+)"`)
	for _, name := range []string{"plan.go", "leases.go", "service.go"} {
		src, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range said.FindAllSubmatch(src, -1) {
			if !seen[string(m[1])] {
				t.Errorf("%s says %s, which is no kind of finding", name, m[1])
			}
			told[string(m[1])] = true
		}
	}
	for id := range seen {
		if !told[id] {
			t.Errorf("nothing says %s", id)
		}
	}
	var doc bytes.Buffer
	if err := WriteDoc(&doc); err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile("../../docs/findings.md")
	if err != nil || !bytes.Equal(kept, doc.Bytes()) {
		t.Errorf("docs/findings.md is old; run make generate (%v)", err)
	}
}

// Of one kind so many stand by themselves, and one tells of the rest.
func TestMost(t *testing.T) {
	var out findings
	for i := range Most + 50 {
		out.say("no-pool", "scope "+strings.Repeat("x", i), "there is none").in("x").of(3, nil).mend("", "do it")
	}
	out.say("abandoned", "address 10.0.0.1", "it is")
	list := out.all()
	if len(list) != Most+2 {
		t.Fatalf("%d are listed", len(list))
	}
	if at := slices.IndexFunc(list, func(f Finding) bool { return f.Count == 50 && len(f.Examples) == examplesMost }); at < 0 {
		t.Error("nothing tells of the rest")
	}
}

// A table of a million leases is looked at in a few seconds, without much memory.
func BenchmarkLeases(b *testing.B) {
	d := plan.New().Draft()
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.0.0.0/8"), Mode: plan.Serving,
		Pools: []addr.Range{one("10.0.0.100-10.200.0.0")}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		b.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		b.Fatal(err)
	}
	p, _ := d.Finish()
	list := make([]lease.Lease, 1_000_000)
	for i := range list {
		hw := addr.Hardware([]byte{2, 0x40, 0, byte(i >> 16), byte(i >> 8), byte(i)})
		list[i] = lease.Lease{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(1 + i>>16), byte(i >> 8), byte(i)}), 32),
			Status: lease.Active,
			Client: lease.ByHardware(1, hw), Hardware: hw, Hostname: "h" + hw.String(), Expires: now + 1000}
	}
	for b.Loop() {
		a := NewLeases(p, now)
		for i := range list {
			a.Add(&list[i])
		}
		if n := len(a.Findings(More{At: func(netip.Prefix) *lease.Lease { return nil }})); n != 0 {
			b.Fatal(n, " findings")
		}
	}
}

// A scope of IPv6 is not blamed for what is right there: no router, a vast pool, a public range;
// its prefix pools are looked at like pools of addresses.
func TestOfSix(t *testing.T) {
	d := plan.New().Draft()
	link, err := d.PutLink(plan.Link{Name: "yard"})
	if err != nil {
		t.Fatal(err)
	}
	subnet := netip.MustParsePrefix("2001:db8:40:1::/64")
	id, err := d.PutScope(plan.Scope{Name: "yard6", Link: link, Subnet: subnet, Mode: plan.Serving, Pools: []addr.Range{addr.OfPrefix(subnet)},
		PrefixPools: []plan.PrefixPool{{Prefix: netip.MustParsePrefix("2001:db8:40:8000::/54"), Length: 56}}})
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	pool := p.Scope(id).Parts[1].Pool
	for _, c := range []struct {
		used uint64
		want string
	}{{0, ""}, {4, "pool-out"}} {
		f := Facts{Usage: map[capacity.Key]capacity.Count{{Scope: id, Pool: pool}: {Size: 4, Headroom: 4 - c.used, Active: c.used}}}
		var got []string
		for _, x := range OfPlan(p, f) {
			got = append(got, x.ID)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("with %d of four prefixes used it finds %q, want %q", c.used, got, c.want)
		}
	}
}

// Leases of IPv6 are looked at as those of IPv4 are, delegated prefixes by their key; what is right
// with IPv6 is not blamed.
func TestLeasesOfSix(t *testing.T) {
	d := plan.New().Draft()
	link, err := d.PutLink(plan.Link{Name: "yard"})
	if err != nil {
		t.Fatal(err)
	}
	subnet := netip.MustParsePrefix("2001:db8:40:1::/64")
	id, err := d.PutScope(plan.Scope{Name: "yard6", Link: link, Subnet: subnet, Mode: plan.Serving, Pools: []addr.Range{addr.OfPrefix(subnet)},
		PrefixPools: []plan.PrefixPool{{Prefix: netip.MustParsePrefix("2001:db8:40:8000::/54"), Length: 56}}})
	if err != nil {
		t.Fatal(err)
	}
	for name, key := range map[string]string{"router": "2001:db8:40:8000::/56", "press": "2001:db8:40:1::9/128"} {
		k := netip.MustParsePrefix(key)
		r := plan.Reservation{Name: name, Scope: id, Identifier: addr.Octets("\x00\x02" + name), Address: k.Addr()}
		if !k.IsSingleIP() {
			r.Length = k.Bits()
		}
		if _, err := d.PutReservation(r); err != nil {
			t.Fatal(err)
		}
	}
	p, _ := d.Finish()
	s := NewLeases(p, now)
	table := map[netip.Prefix]*lease.Lease{}
	give := func(key, duid string, kind lease.ClientKind, number uint32) {
		l := &lease.Lease{Prefix: netip.MustParsePrefix(key), Status: lease.Active, Client: lease.Client{Kind: kind, Number: number, ID: duid},
			Expires: now + 3600, Reserved: duid == "\x00\x02router"}
		table[l.Prefix] = l
		s.Add(l)
	}
	give("2001:db8:40:8000::/56", "\x00\x02router", lease.Prefixes, 1)
	for n := range 6 { // six prefixes of one router are its business, six addresses of one host are told
		give(fmt.Sprintf("2001:db8:40:80%x0::/60", n+1), "\x00\x02other", lease.Prefixes, uint32(n))
		give(fmt.Sprintf("2001:db8:40:1::%x/128", 0x100+n), "\x00\x02greedy", lease.Addresses, uint32(n))
	}
	give("2001:db8:40:1::500/128", "\x00\x02press", lease.Addresses, 1)
	var got []string
	for _, f := range s.Findings(More{At: func(k netip.Prefix) *lease.Lease { return table[k] },
		Twins: []Twin{{Address: netip.MustParseAddr("2001:db8:40:1::100"), Scope: "yard6"}}}) {
		got = append(got, f.ID+" "+f.Subject)
	}
	slices.Sort(got)
	want := "duid-twice address 2001:db8:40:1::100; many-addresses DUID 00:02:67:72:65:65:64:79; reserved-elsewhere reservation press"
	if text := strings.Join(got, "; "); text != want {
		t.Errorf("it finds %s; want %s", text, want)
	}
}
