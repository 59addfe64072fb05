package change

import (
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/clock"
	"yarnpost/service/engine"
)

// Where the clients of a draining scope go.
func TestDrainText(t *testing.T) {
	d := plan.New().Draft()
	link := ""
	put := func(name, subnet string, mode plan.Mode, end time.Time) {
		t.Helper()
		s := plan.Scope{Name: name, Subnet: netip.MustParsePrefix(subnet), Mode: mode, DrainUntil: end}
		if err := d.PlaceScope(&s, link, nil); err != nil {
			t.Fatal(err)
		}
		if _, err := d.PutScope(s); err != nil {
			t.Fatal(err)
		}
	}
	end := time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC)
	put("old", "10.77.0.0/24", plan.Draining, time.Time{})
	p, _ := d.Finish()
	v := p.ScopeNamed("old")
	link = v.LinkName
	says := func(v *plan.View, active int, nowhere bool, parts ...string) {
		t.Helper()
		got, no := drainText(v, p, active)
		for _, part := range parts {
			if no != nowhere || !strings.Contains(got, part) {
				t.Errorf("%q (%v), wanted %q", got, no, part)
			}
		}
	}
	says(v, 3, true, "newcomers go without", "nowhere to move for 3 clients of scope old", "no end is set")
	says(v, 0, true, "newcomers go without")
	d = p.Draft()
	s := v.Scope
	s.DrainUntil = end
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	put("held", "10.78.0.0/24", plan.Held, time.Time{})
	put("other", "2001:db8:78::/64", plan.Serving, time.Time{}) // where no client of IPv4 can go
	p, _ = d.Finish()
	says(p.ScopeNamed("old"), 1, true, "nowhere to move for 1 client of scope old",
		"until 2026-06-01 14:00 UTC, and then whoever has one goes without")
	d = p.Draft()
	put("new", "10.79.0.0/24", plan.Serving, time.Time{})
	p, _ = d.Finish()
	says(p.ScopeNamed("old"), 2, false, "2 clients of scope old will move to other scopes of link "+link+" as they renew")
}

// effects tells what a change does to clients before it is made.
func TestEffects(t *testing.T) {
	d := plan.New().Draft()
	r, _ := addr.ParseRange("10.77.0.10-10.77.0.20")
	v := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Pools: []addr.Range{r}, Mode: plan.Serving}
	if err := d.PlaceScope(&v, "", nil); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutScope(v)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	table := lease.New(p, 1000)
	for i := range 3 {
		hw := addr.Hardware([]byte{2, 0, 0, 0, 0, byte(i)})
		table.Put(&lease.Lease{Prefix: lease.Host(netip.AddrFrom4([4]byte{10, 77, 0, byte(10 + i)})), Status: lease.Active,
			Client: lease.ByHardware(1, hw), Hardware: hw, Expires: 5000})
	}
	n := New(Parts{Engine: engine.New(engine.Parts{Table: table, Events: &engine.Events{}, Metrics: engine.NewMetrics(), Clock: clock.New(),
		Log: slog.New(slog.DiscardHandler)})})
	for name, c := range map[string]struct {
		edit    func(*plan.Draft) error
		clients int
		strands bool
		says    string
	}{
		"remove": {func(d *plan.Draft) error { return d.RemoveScope("looms") }, 3, true, "would lose their address"},
		"hold":   {changed(id, func(s *plan.Scope) { s.Mode = plan.Held }), 3, true, "would not be able to renew"},
		"drain":  {changed(id, func(s *plan.Scope) { s.Mode = plan.Draining }), 3, true, "nowhere to move"},
		"shrink": {changed(id, func(s *plan.Scope) { s.Pools[0].From = netip.MustParseAddr("10.77.0.12") }), 2, false, "outside the new pools"},
		"lease":  {changed(id, func(s *plan.Scope) { s.Lease = plan.Duration(time.Hour) }), 3, false, "renewals go from 0.8 an hour to 6.0 an hour"},
		"note":   {changed(id, func(s *plan.Scope) { s.Note = "x" }), 0, false, ""},
		"reserve a held address": {func(d *plan.Draft) error {
			_, err := d.PutReservation(plan.Reservation{Name: "r", Scope: id, Hardware: "\x02\x00\x00\x00\x00\x09",
				Address: netip.MustParseAddr("10.77.0.11")})
			return err
		}, 1, false, "10.77.0.11"},
	} {
		d := p.Draft()
		if err := c.edit(d); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		next, changes := d.Finish()
		got := n.effects(p, next, changes, 2000)
		if c.clients == 0 {
			if len(got) != 0 {
				t.Errorf("%s: %+v", name, got)
			}
			continue
		}
		last := got[len(got)-1] // before it stands what becomes of the pools
		if last.Clients != c.clients || last.Strands != c.strands || !strings.Contains(last.Text, c.says) {
			t.Errorf("%s: %+v, want %d clients, stranded %v", name, got, c.clients, c.strands)
		}
	}
}

// Other pools say how much of them is used, and when they run out.
func TestSizeText(t *testing.T) {
	v := func(size uint64) *plan.View { return &plan.View{Scope: plan.Scope{ID: 7, Name: "looms"}, Size: size} }
	p := &Planner{Parts: Parts{Clock: clock.New()}}
	if got := p.sizeText(v(100), v(200), 90); got != "the pools of scope looms go from 100 to 200 addresses, from 90 % active to 45 % active" {
		t.Errorf("without an outlook: %s", got)
	}
	f := capacity.Forecast{Verdict: capacity.NotBefore, Until: time.Date(2027, 6, 1, 0, 0, 0, 0, time.UTC)}
	p.Outlook = func(id plan.ID) (capacity.Forecast, bool) { return f, id == 7 }
	if got := p.sizeText(v(100), v(0), 90); !strings.HasSuffix(got, "to nothing to give") {
		t.Errorf("to none: %s", got)
	}
	if got := p.sizeText(v(100), v(200), 90); strings.Contains(got, "when they") {
		t.Errorf("the same either way: %s", got)
	}
	if got := p.sizeText(v(100), v(80), 90); !strings.HasSuffix(got, "; when they run out: there is nothing left; as it is: not before 1 Jun 2027") {
		t.Errorf("too few: %s", got)
	}
}

func changed(id plan.ID, f func(*plan.Scope)) func(*plan.Draft) error {
	return func(d *plan.Draft) error {
		s := d.Plan().Scope(id).Scope
		s.Pools = append([]addr.Range(nil), s.Pools...)
		f(&s)
		_, err := d.PutScope(s)
		return err
	}
}
