package httpd

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/netip"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/service/observe"
	"yarnpost/service/permit"
)

func TestSearch(t *testing.T) {
	l := &lease.Lease{Prefix: lease.Host(netip.MustParseAddr("10.77.0.110")), Status: lease.Active, Hardware: "\x02\x00\x5e\x00\x00\xaa",
		Hostname: "Card-Room", Vendor: "loomctl/2.7",
		Circuit: "sw1/0/7", Client: lease.ByIdentifier([]byte{0xff, 0x01, 0xbe, 0xef})}
	for search, want := range map[string]bool{
		"": true, "77.0.11": true, "card": true, "CARD-room": true, "02:00:5e": true, "02-00-5E": true, "0200.5e00.00aa": true,
		"02005e0000aa": true,
		"loomctl":      true, "sw1/0": true, "be:ef": true, "10.78": false, "02:00:5f": false, "spinner": false,
	} {
		if got := newSearch(&leaseQuery{Search: search}).fits(l); got != want {
			t.Errorf("search %q: %v", search, got)
		}
	}
	if newSearch(&leaseQuery{Status: []string{"expired", "released"}}).fits(l) ||
		!newSearch(&leaseQuery{Status: []string{"abandoned", "active"}}).fits(l) {
		t.Error("the status filter is off")
	}
}

// A part of a text is found in any case, wherever it stands.
func TestContainsFold(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 2))
	letters := []rune("aAbB1[{-äÄÿŸ")
	word := func(n int) string {
		out := make([]rune, n)
		for i := range out {
			out[i] = letters[random.IntN(len(letters))]
		}
		return string(out)
	}
	found := 0
	for range 100_000 {
		text, lower := word(random.IntN(8)), strings.ToLower(word(1+random.IntN(3)))
		want := false
		for i := 0; i+len(lower) <= len(text); i++ {
			want = want || strings.EqualFold(text[i:i+len(lower)], lower)
		}
		if got := containsFold(text, lower); got != want {
			t.Fatalf("%q in %q: %v", lower, text, got)
		}
		if want {
			found++
		}
	}
	if found < 1000 {
		t.Errorf("only %d were found", found)
	}
}

// servedOtherwise are reasons that leave no client unserved: it is another server's, was not
// to be answered, or finds its way by itself.
var servedOtherwise = []reason.Reason{reason.BadRequest, reason.ForeignSource, reason.V6Only, reason.Listening, reason.NotServed,
	reason.OtherServer, reason.PartnerServes, reason.Recovering, reason.StandsAside}

// Every reason that leaves a client unserved has words and something to do.
func TestWords(t *testing.T) {
	for _, why := range reason.All() {
		if slices.Contains(servedOtherwise, why) {
			continue
		}
		text, mend := reasonText(observe.Unserved{Reason: why, Scope: "looms", Link: "looms"})
		if text == string(why) || text == "" || mend == "" {
			t.Errorf("%s: %q, %q", why, text, mend)
		}
	}
	u := observe.Unserved{Reason: reason.NoScope, Relay: netip.MustParseAddr("127.0.0.1"), Selected: netip.MustParseAddr("10.40.99.1")}
	if _, mend := reasonText(u); !strings.Contains(mend, "10.40.99.0/24") {
		t.Errorf("no guess at the missing scope: %s", mend)
	}
}

// The rows of a page sort as they should, whatever they are sorted by.
func TestSortRows(t *testing.T) {
	p := plan.New()
	a := &lease.Lease{Prefix: lease.Host(netip.MustParseAddr("10.0.0.9")), Hostname: "b", Hardware: "\x03", Expires: 5,
		Status: lease.Abandoned}
	b := &lease.Lease{Prefix: lease.Host(netip.MustParseAddr("10.0.0.10")), Hostname: "A", Hardware: "\x02", Expires: lease.Never,
		Status: lease.Active}
	for by, first := range map[string]*lease.Lease{"address": a, "hostname": b, "hardware": b, "expires": a, "status": b, "since": a} {
		rows := []row{sortRow(p, b, by), sortRow(p, a, by)}
		slices.SortFunc(rows, row.compare)
		if rows[0].lease != first {
			t.Errorf("by %s, %s comes first", by, rows[0].lease.Address())
		}
	}
}

func TestViews(t *testing.T) {
	l := &lease.Lease{Prefix: lease.Host(netip.MustParseAddr("10.77.0.9")), Status: lease.Active, Client: lease.ByIdentifier([]byte{1, 2}),
		Hardware: addr.Hardware("\x02\x00\x00\x00\x00\x01"),
		Expires:  lease.Never, Since: 1_700_000_000, Granted: time.Hour, Circuit: "\x00\x01"}
	v := leaseView(plan.New(), l)
	if v.Expires != nil || v.Identifier != "01:02" || v.Circuit != "00:01" || v.Relay != "" ||
		v.Since.Format(time.RFC3339) != "2023-11-14T22:13:20Z" || v.Granted != "1h" {
		t.Errorf("a lease shows as %+v", v)
	}
	text, err := json.Marshal(v)
	if err != nil || !strings.Contains(string(text), `"expires":null`) {
		t.Errorf("in JSON: %s %v", text, err)
	}
}

// The committed OpenAPI document is the one the code gives, and every operation
// has a summary and an id of its own.
func TestOpenAPIDocument(t *testing.T) {
	doc := NewAPI(http.NewServeMux(), &Server{}).OpenAPI()
	seen := map[string]bool{}
	for path, item := range doc.Paths {
		for _, o := range []any{item.Get, item.Post, item.Delete, item.Put, item.Patch} {
			b, _ := json.Marshal(o)
			var op struct {
				OperationID, Summary string
				Needs                permit.Need `json:"x-needs"`
			}
			if string(b) == "null" || json.Unmarshal(b, &op) != nil {
				continue
			}
			if op.OperationID == "" || op.Summary == "" || seen[op.OperationID] || op.Needs == "" {
				t.Errorf("%s: id %q, summary %q, needs %q", path, op.OperationID, op.Summary, op.Needs)
			}
			seen[op.OperationID] = true
		}
	}
	var out strings.Builder
	if err := WriteOpenAPI(&out); err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile("../../api/openapi.json")
	if err != nil || string(kept) != out.String() {
		t.Errorf("api/openapi.json is old; run make generate (%v)", err)
	}
}

// Pages put one behind the other are the sorted table, however it is sorted.
func TestLeasePages(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	var table []*lease.Lease
	for n := range 200 {
		table = append(table, &lease.Lease{Prefix: lease.Host(netip.AddrFrom4([4]byte{10, 0, 0, byte(n)})), Status: lease.Active,
			Client:   lease.ByIdentifier([]byte{1, byte(n)}),
			Hostname: fmt.Sprintf("host-%d", random.IntN(30)), Heard: lease.Time(random.IntN(50))})
	}
	for _, sort := range []string{"address", "hostname", "heard"} {
		for _, desc := range []bool{false, true} {
			q := &leaseQuery{Sort: sort, Desc: desc, Limit: 7, Search: "host-1"}
			var all []row
			for more, after := true, (*row)(nil); more; {
				g := leasePage{plan: plan.New(), query: q, match: newSearch(q), after: after}
				for _, n := range random.Perm(len(table)) {
					g.add(table[n])
				}
				g.trim()
				if more = len(g.best) > q.Limit; more {
					after = &g.best[q.Limit-1]
				}
				all = append(all, g.best[:min(len(g.best), q.Limit)]...)
			}
			seen, found := map[netip.Addr]bool{}, 0
			for n, r := range all {
				seen[r.lease.Address()] = true
				if n > 0 && (r.compare(all[n-1]) < 0) != desc {
					t.Fatalf("by %s, descending %v: %s comes behind %s", sort, desc, r.lease.Address(), all[n-1].lease.Address())
				}
			}
			for _, l := range table {
				if strings.Contains(l.Hostname, "host-1") {
					found++
				}
			}
			if len(all) != found || len(seen) != found || found < 20 {
				t.Errorf("by %s, descending %v: %d rows of %d addresses, want %d", sort, desc, len(all), len(seen), found)
			}
		}
	}
}

// Lists come in pages, and no number travels that a reader of JSON would round.
func TestPages(t *testing.T) {
	list := []int{1, 2, 3, 4, 5}
	var got []int
	after := ""
	for range 10 {
		p, err := pageOf(list, after, 2)
		if err != nil || p.Total != 5 {
			t.Fatal(p, err)
		}
		got = append(got, p.Items...)
		if after = p.Next; after == "" {
			break
		}
	}
	if !slices.Equal(got, list) {
		t.Errorf("the pages are %v", got)
	}
	for _, bad := range []string{"x", "-1", "99999999999999999999"} {
		if _, err := pageOf(list, bad, 2); err == nil {
			t.Errorf("after %q gives a page", bad)
		}
	}
	if p, err := pageOf(list, "77", 2); err != nil || len(p.Items) != 0 || p.Next != "" {
		t.Errorf("beyond the end there is %+v, %v", p, err)
	}
	b, _ := json.Marshal([]api.Count{0, 5, api.MostCount, api.MostCount + 1, 1<<64 - 1})
	if string(b) != "[0,5,9007199254740991,9007199254740991,9007199254740991]" {
		t.Errorf("counts travel as %s", b)
	}
}

// BenchmarkLeasePage tells what finding a page of the lease table takes of a lease.
func BenchmarkLeasePage(b *testing.B) {
	const n = 200_000
	table := lease.New(plan.New(), 1000)
	for i := range n {
		a := netip.AddrFrom4([4]byte{100, byte(64 + i>>16), byte(i >> 8), byte(i)})
		hw := addr.Hardware([]byte{2, 0, 0, byte(i >> 16), byte(i >> 8), byte(i)})
		table.Put(&lease.Lease{Prefix: lease.Host(a), Status: lease.Active, Client: lease.ByIdentifier([]byte("\x01" + hw)), Hardware: hw,
			Hostname: fmt.Sprintf("client-%07d", i), Vendor: fmt.Sprintf("maker %d client", i%12), Circuit: fmt.Sprintf("sw%d/0/1", i%500),
			Since: lease.Time(900 - i%100), Expires: lease.Time(2000 + i%100), Relay: netip.AddrFrom4([4]byte{100, 64, 0, 1})})
	}
	for _, search := range []string{"", "client-00012", "02:00", "maker 7", "100.65.7.", "sw49"} {
		b.Run("search="+search, func(b *testing.B) {
			for b.Loop() {
				q := &leaseQuery{Sort: "since", Limit: 50, Search: search}
				g := leasePage{plan: table.Plan(), query: q, match: newSearch(q)}
				var part lease.Part
				for walk := table.Iterator(0); walk.Next(&part, 512); {
					for l := range part.Leases {
						g.add(l)
					}
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/n, "ns/lease")
		})
	}
}

// Whatever is asked for otherwise than by GET is in the trail, or is known to do nothing.
func TestEveryDeedHasItsWords(t *testing.T) {
	known := map[string]bool{}
	for _, o := range routes(NewAPI(http.NewServeMux(), &Server{}).OpenAPI()) {
		known[o.id] = true
		if harm := deeds[o.id] != ""; harm == slices.Contains(harmless, o.id) {
			t.Errorf("%s (%s %s): in the trail %v, harmless %v", o.id, o.method, o.path, harm, !harm)
		}
	}
	for id := range deeds {
		if !known[id] {
			t.Errorf("%s is no operation", id)
		}
	}
	s := &Server{operations: routes(NewAPI(http.NewServeMux(), &Server{}).OpenAPI())}
	for ask, want := range map[string][2]string{
		"POST /api/leases/10.40.8.31/end":      {"end-lease", "10.40.8.31"},
		"POST /api/leases/clear":               {"clear-leases", ""},
		"DELETE /api/alerts/targets/desk":      {"remove-target", "desk"},
		"POST /api/plan/revisions/12/revert":   {"revert-revision", "12"},
		"POST /api/pair/down":                  {"declare-down", ""},
		"GET /api/leases":                      {"", ""},
		"POST /api/leases/10.40.8.31/end/more": {"", ""},
	} {
		method, path, _ := strings.Cut(ask, " ")
		if id, subject := s.operation(method, path); id != want[0] || subject != want[1] {
			t.Errorf("%s is %q of %q, want %q", ask, id, subject, want)
		}
	}
}

// What the API says a value's level can be are the levels that there are.
func TestLevelsAreNamed(t *testing.T) {
	for _, of := range []reflect.Type{reflect.TypeFor[api.Setting](), reflect.TypeFor[api.OptionAt]()} {
		f, _ := of.FieldByName("Level")
		named := strings.Split(f.Tag.Get("enum"), ",")
		for l := plan.AtService; l <= plan.AtReservation; l++ {
			if l == plan.AtService && of == reflect.TypeFor[api.OptionAt]() {
				continue // nobody sets what the service does by itself
			}
			if !slices.Contains(named, l.String()) {
				t.Errorf("%s has no level %s", of, l)
			}
		}
	}
}
