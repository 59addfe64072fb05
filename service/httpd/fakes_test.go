package httpd

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/change"
	"yarnpost/service/failover"
	"yarnpost/service/leaseadmin"
	"yarnpost/service/permit"
	"yarnpost/service/store"
)

// Stand-ins for what the HTTP side talks to: each does one thing, and panics at another.
type (
	fakeEngine struct {
		Engine
		plan *plan.Plan
	}
	fakePlans struct {
		Plans
		err error
		got change.Order
	}
	fakeLeases struct {
		Leases
		err error
	}
	fakePair struct {
		Pair
		view   failover.View
		paired bool
		err    error
	}
	fixed time.Time
)

func (f fakeEngine) Plan() *plan.Plan { return f.plan }

func (f *fakePlans) Change(_ context.Context, o change.Order, edit func(*plan.Draft) error) (*change.Change, error) {
	f.got = o
	d := plan.New().Draft()
	if err := edit(d); err != nil {
		return nil, err
	}
	next, items := d.Finish()
	return &change.Change{Revision: next.Revision, Plan: next, Applied: !o.Preview, Lines: plan.Diff(items, d.Label)}, f.err
}

func (f *fakeLeases) End(_ context.Context, k netip.Prefix, _ bool) (leaseadmin.Ending, error) {
	return leaseadmin.Ending{Lease: &lease.Lease{Prefix: k, Status: lease.Released}, Text: "others can have it at once"}, f.err
}

func (f *fakePair) View() (failover.View, bool) { return f.view, f.paired }
func (f *fakePair) Name() string                { return "bobbin" }
func (f *fakePair) Down() error                 { return f.err }

func (f fixed) Now() time.Time { return time.Time(f) }

// The HTTP side answers by what its parts say, and each of their refusals has its status and
// its words.
func TestPartsAreFaked(t *testing.T) {
	plans, leases, pair := &fakePlans{}, &fakeLeases{}, &fakePair{}
	s := &Server{log: slog.New(slog.DiscardHandler), Parts: Parts{Engine: fakeEngine{plan: plan.New()}, Plans: plans, Leases: leases,
		Permits: permit.Everything{},
		Pair:    pair,
		Clock:   fixed(time.Unix(1_790_000_000, 0))}}
	mux := http.NewServeMux()
	NewAPI(mux, s)
	ask := func(method, path, body string) (int, string) {
		r := httptest.NewRequest(method, path, strings.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		r = r.WithContext(context.WithValue(r.Context(), accountKey{}, store.Account{Name: "heddle"}))
		w := httptest.NewRecorder()
		mux.ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	const add = `{"edits": [{"op": "add", "kind": "link", "name": "yard", "link": {"listening": true}}], "reason": "x", "dryRun": true}`
	for _, c := range []struct {
		what               string
		set                func()
		method, path, body string
		status             int
		says               string
	}{
		{"a change", func() {}, "POST", "/api/plan/changes", add, 200, `"link"`},
		{"one to confirm", func() { plans.err = fmt.Errorf("%w: 3 clients", change.ErrConfirm) }, "POST", "/api/plan/changes", add, 409,
			"3 clients"},
		{"a stale one", func() { plans.err = store.ErrStale }, "POST", "/api/plan/changes", add, 409, "changed meanwhile"},
		{"apart", func() { plans.err = failover.ErrApart }, "POST", "/api/plan/changes", add, 409, "cannot reach each other"},
		{"no database", func() { plans.err = context.Canceled }, "POST", "/api/plan/changes", add, 503, "does not answer"},
		{"a lease that ends", func() {}, "POST", "/api/leases/10.40.8.17/end", "", 200, "others can have it at once"},
		{"none to end", func() { leases.err = leaseadmin.ErrNoLease }, "POST", "/api/leases/10.40.8.17/end", "", 404, "nothing to do"},
		{"one in use", func() { leases.err = leaseadmin.ErrInUse }, "POST", "/api/leases/10.40.8.17/end", "", 409, "in use"},
		{"anything else", func() { leases.err = errors.New("the sky fell") }, "POST", "/api/leases/10.40.8.17/end", "", 503,
			"the sky fell"},
		{"alone", func() {}, "GET", "/api/pair", "", 200, `"formed":false`},
	} {
		plans.err, leases.err = nil, nil
		c.set()
		status, says := ask(c.method, c.path, c.body)
		if status != c.status || !strings.Contains(says, c.says) {
			t.Errorf("%s: %d %s\nwant %d with %q", c.what, status, says, c.status, c.says)
		}
	}
	if plans.got.Author != "heddle" || plans.got.Reason != "x" || !plans.got.Preview {
		t.Errorf("ordered was %+v", plans.got)
	}
}

// refusing permits nothing.
type refusing struct{ asked map[permit.Need]int }

func (r refusing) May(account string, need permit.Need) error {
	r.asked[need]++
	return fmt.Errorf("%w: %s may not %s; ask whoever keeps the roles", permit.ErrRefused, account, need)
}

func (r refusing) MayChange(string, plan.Change, *plan.Plan, *plan.Plan) error {
	return permit.ErrRefused
}

func (r refusing) SeesAll(string) bool { return false }

func (r refusing) MaySee(string, plan.ID, *plan.Plan) bool { return false }

// What operations show is said of operations that there are.
func TestShownOperations(t *testing.T) {
	ids := map[string]bool{}
	for _, item := range NewAPI(http.NewServeMux(), nil).OpenAPI().Paths {
		for _, o := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
			if o != nil {
				ids[o.OperationID] = true
			}
		}
	}
	for id := range shown {
		if !ids[id] {
			t.Errorf("there is no operation %s", id)
		}
	}
}

// No operation gets past the permits: neither at the door, nor passed on by the partner. The
// parts behind are not there, so one that got past would end the test.
func TestNothingGetsPastPermits(t *testing.T) {
	no := refusing{map[permit.Need]int{}}
	s := &Server{log: slog.New(slog.DiscardHandler), Parts: Parts{Permits: no}}
	s.mux = http.NewServeMux()
	doc := NewAPI(s.mux, s).OpenAPI()
	tried := 0
	for path, item := range doc.Paths {
		path = strings.NewReplacer("{number}", "1", "{kind}", "scope", "{name}", "looms", "{address}", "10.77.0.9", "{key}",
			"1").Replace(path)
		for method, o := range map[string]*huma.Operation{http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodPut: item.Put,
			http.MethodPatch: item.Patch, http.MethodDelete: item.Delete} {
			if o == nil {
				continue
			}
			need, declared := o.Extensions[needsKey].(permit.Need)
			if !declared {
				t.Errorf("%s %s does not say what it needs", method, path)
			}
			if need == permit.Nothing || need == permit.Self {
				continue
			}
			tried++
			r := httptest.NewRequest(method, path, strings.NewReader("{}"))
			r.Header.Set("Content-Type", "application/json")
			w := httptest.NewRecorder()
			s.mux.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), accountKey{}, store.Account{Name: "heddle"})))
			passed := s.carryOut(context.Background(), failover.Forwarded{Method: method, Path: path, Account: "heddle",
				Body: []byte("{}")})
			if w.Code != http.StatusForbidden || passed.Status != http.StatusForbidden || !strings.Contains(w.Body.String(),
				"ask whoever keeps") {
				t.Errorf("%s %s: %d at the door, %d from the partner: %s", method, path, w.Code, passed.Status, w.Body)
			}
		}
	}
	if tried < 80 || no.asked[permit.Plan] == 0 || no.asked[permit.See] == 0 {
		t.Errorf("%d operations were tried: %v", tried, no.asked)
	}
}

// A path that names a server of the pair is the one without it; one that names another is
// refused before anything is done.
func TestAddressed(t *testing.T) {
	pair := &fakePair{paired: true}
	pair.view.Partner.Name = "shuttle"
	s := &Server{Parts: Parts{Pair: pair}}
	got := ""
	h := s.addressed(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got = r.URL.EscapedPath() + "?" + r.URL.RawQuery }))
	for path, want := range map[string]string{
		"/api/scopes?search=a":              "/api/scopes?search=a",
		"/api/at/bobbin/scopes?search=a":    "/api/scopes?search=a",
		"/api/at/shuttle/plan/revisions/12": "/api/plan/revisions/12?",
		"/api/at/bobbin/scopes/a%2Fb":       "/api/scopes/a%2Fb?",
		"/api/at/bobbin":                    "/api/?",
		"/api/at/heddle/scopes":             "",
		"/api/at//scopes":                   "",
	} {
		got = ""
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest("DELETE", path, nil))
		if got != want || want == "" && (w.Code != http.StatusMisdirectedRequest || !strings.Contains(w.Body.String(), "a pair with shuttle")) {
			t.Errorf("%s is %q, %d %s", path, got, w.Code, w.Body)
		}
	}
}

// past is a store with nothing but history.
type past struct {
	Store
	events []store.Event
}

func (p past) EachPast(_ context.Context, from, to time.Time, _ []netip.Prefix, each func(store.Event)) error {
	for _, e := range p.events {
		if !e.At.Before(from) && e.At.Before(to) {
			each(e)
		}
	}
	return nil
}

func (p past) EachBegun(ctx context.Context, from, to time.Time, of []netip.Prefix, each func(store.Event)) error {
	return p.EachPast(ctx, from, to, of, func(e store.Event) {
		if e.Since <= lease.At(from) {
			each(e)
		}
	})
}

func (fakeEngine) EachLease(plan.ID, ...func(*lease.Lease)) {}

// The table as it was has what was given long before, without an end, and has ended since; and it has
// prefixes. What was over by then, or came later, it has not.
func TestTableAt(t *testing.T) {
	at := time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)
	event := func(key string, days int, began int, status lease.Status) store.Event {
		k, err := addr.ParseKey(key)
		if err != nil {
			t.Fatal(err)
		}
		when := at.AddDate(0, 0, days)
		l := lease.Lease{Prefix: k, Status: status, Client: lease.ByIdentifier([]byte(key)), Since: lease.At(at.AddDate(0, 0, began)),
			Expires: lease.At(when)}
		if status == lease.Active {
			l.Expires = lease.Never
		}
		return store.Event{At: when, Lease: l}
	}
	s := &Server{Parts: Parts{Engine: fakeEngine{plan: plan.New()}, Clock: fixed(at.AddDate(0, 0, 60)), Store: past{events: []store.Event{
		event("10.77.0.1", -200, -200, lease.Active), event("10.77.0.1", 30, -200, lease.Released), // without an end
		event("10.77.0.2", -1, -1, lease.Active),
		event("2001:db8:40:8100::/56", -1, -1, lease.Active),
		event("10.77.0.3", 20, 20, lease.Active),                                             // later
		event("10.77.0.4", 20, -300, lease.Abandoned),                                        // over long ago
		event("10.77.0.5", -1, -2, lease.Released), event("10.77.0.5", 9, 8, lease.Released), // between two
	}}}}
	found, err := s.tableAt(t.Context(), plan.New(), nil, at)
	if err != nil {
		t.Fatal(err)
	}
	var active []string
	for k, l := range found {
		if l.Status == lease.Active {
			active = append(active, addr.FormatKey(k))
		}
	}
	slices.Sort(active)
	if got := strings.Join(active, " "); got != "10.77.0.1 10.77.0.2 2001:db8:40:8100::/56" {
		t.Errorf("active then: %s", got)
	}
}
