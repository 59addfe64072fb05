package plan

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

func ranges(tb testing.TB, texts ...string) (out []addr.Range) {
	tb.Helper()
	for _, s := range texts {
		r, err := addr.ParseRange(s)
		if err != nil {
			tb.Fatal(err)
		}
		out = append(out, r)
	}
	return out
}

// define makes a draft with one scope, looms.
func define(tb testing.TB) *Draft {
	tb.Helper()
	d := New().Draft()
	s := Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Pools: ranges(tb, "10.77.0.100-10.77.0.200"),
		Exclusions: []Exclusion{{Range: ranges(tb, "10.77.0.100-10.77.0.109")[0]}}, Mode: Serving,
		Settings: Settings{Lease: Duration(time.Hour),
			Options: map[option.Key]string{option.Std(option.Router): "10.77.0.1", option.Std(option.DomainServer): "10.77.0.53"}}}
	if err := d.PlaceScope(&s, "", []Interface{{Name: "eth1", Prefixes: []netip.Prefix{netip.MustParsePrefix("10.77.0.1/24")}}}); err != nil {
		tb.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		tb.Fatal(err)
	}
	return d
}

func TestScopeArithmetic(t *testing.T) {
	p, changes := define(t).Finish()
	v := p.ScopeNamed("LOOMS")
	if v == nil || v.Size != 91 || v.Excluded != 10 || v.Reservable() != 153 || v.Lease != time.Hour {
		t.Fatalf("compiled to %+v", v)
	}
	if p.Revision != 1 || len(changes) != 2 || p.LinkOnInterface("eth1") != v.Link {
		t.Errorf("revision %d, changes %v; the scope is not on its interface's link", p.Revision, changes)
	}
	for a, in := range map[string]bool{"10.77.0.109": false, "10.77.0.110": true, "10.77.0.200": true, "10.77.0.201": false} {
		if v.Allocatable(netip.MustParseAddr(a)) != in {
			t.Errorf("Allocatable(%s) = %v", a, !in)
		}
	}
	d := p.Draft()
	whole := v.Scope
	whole.Pools, whole.Exclusions = ranges(t, "10.77.0.0/24"), nil
	if _, err := d.PutScope(whole); err != nil {
		t.Fatal(err)
	}
	if n := d.Plan().ScopeNamed("looms").Size; n != 253 { // less network, broadcast and router
		t.Errorf("the whole subnet gives %d addresses", n)
	}
	if p.ScopeNamed("looms").Size != 91 {
		t.Error("a draft changed the plan it came from")
	}
}

func TestRefusals(t *testing.T) {
	scope := func(name, subnet string, pools ...string) func(*Draft) error {
		return func(d *Draft) error {
			s := Scope{Name: name, Subnet: netip.MustParsePrefix(subnet), Pools: ranges(t, pools...)}
			if err := d.PlaceScope(&s, "", nil); err != nil {
				return err
			}
			_, err := d.PutScope(s)
			return err
		}
	}
	edit := func(f func(*Scope)) func(*Draft) error {
		return func(d *Draft) error {
			s := d.Plan().ScopeNamed("looms").Scope
			f(&s)
			_, err := d.PutScope(s)
			return err
		}
	}
	reserve := func(name, hw, a string) func(*Draft) error {
		return func(d *Draft) error {
			h, _ := addr.ParseHardware(hw)
			_, err := d.PutReservation(Reservation{Name: name, Scope: d.Plan().ScopeNamed("looms").ID, Hardware: h, Address: netip.MustParseAddr(a)})
			return err
		}
	}
	for name, c := range map[string]struct {
		do   func(*Draft) error
		says []string // both sides are named
	}{
		"overlap":              {scope("dyers", "10.77.0.128/25"), []string{"dyers (10.77.0.128/25)", "looms (10.77.0.0/24)"}},
		"overlap from outside": {scope("mill", "10.77.0.0/16"), []string{"mill", "looms (10.77.0.0/24)"}},
		"duplicate name":       {scope("Looms", "10.78.0.0/24"), []string{"Looms", "there already"}},
		"bad name":             {scope("my looms", "10.78.0.0/24"), []string{"my looms"}},
		"pool outside":         {scope("dyers", "10.78.0.0/24", "10.79.0.5-10.79.0.9"), []string{"10.79.0.5-10.79.0.9", "10.78.0.0/24"}},
		"pools overlap": {scope("dyers", "10.78.0.0/24", "10.78.0.5-10.78.0.9", "10.78.0.9-10.78.0.12"),
			[]string{"10.78.0.5-10.78.0.9", "10.78.0.9-10.78.0.12"}},
		"exclusion outside": {edit(func(s *Scope) { s.Exclusions = []Exclusion{{Range: ranges(t, "10.1.0.1")[0]}} }),
			[]string{"10.1.0.1", "looms"}},
		"managed option": {edit(func(s *Scope) { s.Options = map[option.Key]string{option.Std(option.AddressTime): "1h"} }),
			[]string{"51", "lease time"}},
		"bad value": {edit(func(s *Scope) { s.Options = map[option.Key]string{option.Std(option.Router): "gate"} }),
			[]string{"router", "gate"}},
		"short lease":           {edit(func(s *Scope) { s.Lease = Duration(time.Second) }), []string{"1s", "minute"}},
		"loopback":              {scope("lo", "127.0.0.0/24"), []string{"127.0.0.0/24"}},
		"reservation elsewhere": {reserve("x", "02:00:00:00:00:09", "10.78.0.9"), []string{"10.78.0.9", "10.77.0.0/24"}},
		"reservation broadcast": {reserve("x", "02:00:00:00:00:09", "10.77.0.255"), []string{"10.77.0.255"}},
		"address taken":         {reserve("x", "02:00:00:00:00:09", "10.77.0.17"), []string{"10.77.0.17", "loom-17"}},
		"hardware taken":        {reserve("x", "02:00:00:00:00:17", "10.77.0.18"), []string{"02:00:00:00:00:17", "loom-17"}},
		"subnet under a reservation": {edit(func(s *Scope) {
			s.Subnet, s.Pools, s.Exclusions = netip.MustParsePrefix("10.77.0.128/25"), nil, nil
		}), []string{"loom-17", "10.77.0.128/25"}},
		"link with a scope": {func(d *Draft) error { return d.RemoveLink("looms") }, []string{"looms"}},
	} {
		d := define(t)
		if err := reserve("loom-17", "02:00:00:00:00:17", "10.77.0.17")(d); err != nil {
			t.Fatal(err)
		}
		p, _ := d.Finish()
		err := c.do(p.Draft())
		if !errors.Is(err, ErrRefused) {
			t.Errorf("%s: %v, want a refusal", name, err)
			continue
		}
		for _, part := range c.says {
			if !strings.Contains(err.Error(), part) {
				t.Errorf("%s: %q does not name %q", name, err, part)
			}
		}
	}
	if err := define(t).RemoveScope("weavers"); !errors.Is(err, ErrNotFound) {
		t.Errorf("removing what is not there: %v", err)
	}
}

func TestLevels(t *testing.T) {
	d := define(t)
	if err := d.SetDefaults(Defaults{Settings: Settings{Lease: Duration(2 * time.Hour),
		Options: map[option.Key]string{option.Std(6): "10.0.0.53", option.Std(42): "10.0.0.42", option.Std(15): "mill.example"}}}); err != nil {
		t.Fatal(err)
	}
	s := d.Plan().ScopeNamed("looms").Scope
	s.Lease = 0
	s.Options[option.Std(42)] = NoValue
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutReservation(Reservation{Name: "r", Scope: s.ID, Hardware: "\x02\x00\x00\x00\x00\x01",
		Address: netip.MustParseAddr("10.77.0.9"),
		Settings: Settings{Lease: Duration(option.Infinite),
			Options: map[option.Key]string{option.Std(15): "own.example", option.Std(42): "10.0.0.43"}}})
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	v, r := p.ScopeNamed("looms"), p.ReservationNamed("r")
	show := func(values []Value) (out string) {
		for _, x := range values {
			out += fmt.Sprintf("%d=%s/%s ", x.Code, x.Text, x.Level)
		}
		return out
	}
	if got := show(v.Values); got != "3=10.77.0.1/scope 6=10.77.0.53/scope 15=mill.example/defaults " {
		t.Errorf("scope: %s", got)
	}
	if got := show(p.Reserved(v.Values,
		r)); got != "3=10.77.0.1/scope 6=10.77.0.53/scope 15=own.example/reservation 42=10.0.0.43/reservation " {
		t.Errorf("reservation: %s", got)
	}
	if v.LeaseFor(nil) != 2*time.Hour || v.LeaseFor(r) != option.Infinite || r.ID != id {
		t.Errorf("lease times %v and %v", v.LeaseFor(nil), v.LeaseFor(r))
	}
}

// A large change leaves the plan before it as it was, and itself is what many small
// ones would be, though it writes to tables of its own from some number of writes on.
func TestLargeChange(t *testing.T) {
	const many = 6 * manyWrites
	d := define(t)
	v := d.Plan().ScopeNamed("looms").Scope
	v.Subnet = netip.MustParsePrefix("10.77.0.0/16")
	if _, err := d.PutScope(v); err != nil {
		t.Fatal(err)
	}
	before, _ := d.Finish()
	at := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{10, 77, byte(1 + n>>8), byte(n)}) }
	put := func(d *Draft, n int) {
		t.Helper()
		hw := addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)})
		if _, err := d.PutReservation(Reservation{Name: fmt.Sprint("r", n), Scope: v.ID, Hardware: hw, Address: at(n)}); err != nil {
			t.Fatal(err)
		}
	}
	d = before.Draft()
	for n := range many {
		put(d, n)
	}
	for n := 0; n < many; n += 3 { // some are taken out of tables that are the draft's own
		if err := d.RemoveReservation(fmt.Sprint("r", n)); err != nil {
			t.Fatal(err)
		}
	}
	put(d, 3)
	large, _ := d.Finish()
	small := before
	for n := range many {
		if n%3 != 0 || n == 3 {
			d := small.Draft()
			put(d, n)
			small, _ = d.Finish()
		}
	}
	d = large.Draft()
	for n := range many { // and the next large one leaves this one alone
		if large.ReservationAt(at(n)) == nil {
			put(d, n)
		}
	}
	for n := range many {
		one, two := large.ReservationAt(at(n)), small.ReservationAt(at(n))
		if (one == nil) != (two == nil) || one != nil && one.Name != two.Name {
			t.Fatalf("%s is %+v, and in small changes %+v", at(n), one, two)
		}
		if before.ReservationAt(at(n)) != nil {
			t.Fatalf("%s is reserved in the plan before", at(n))
		}
	}
	if a, b := large.ReservationCount(v.ID), small.ReservationCount(v.ID); a != b {
		t.Errorf("%d reservations, and in small changes %d", a, b)
	}
}

// A plan that goes to rows and back is the same, and items of a removed scope
// go with it.
func TestRestoreAndRemove(t *testing.T) {
	d := define(t)
	s := d.Plan().ScopeNamed("looms")
	if _, err := d.PutReservation(Reservation{Name: "r", Scope: s.ID, Hardware: "\x02\x00\x00\x00\x00\x01",
		Address: netip.MustParseAddr("10.77.0.9")}); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	back, err := Restore(7, p.Items())
	if err != nil {
		t.Fatal(err)
	}
	if v := back.ScopeAt(netip.MustParseAddr("10.77.0.5")); back.Revision != 7 || v == nil || v.ID != s.ID ||
		back.ReservationFor(v, "\x02\x00\x00\x00\x00\x01", "", nil) == nil || back.ReservationCount(v.ID) != 1 {
		t.Error("the restored plan is another one")
	}
	d = back.Draft()
	if err := d.RemoveScope("looms"); err != nil {
		t.Fatal(err)
	}
	gone, changes := d.Finish()
	if len(changes) != 3 || len(gone.Scopes())+len(gone.Links())+len(gone.Reservations(0)) != 0 ||
		gone.ScopeAt(netip.MustParseAddr("10.77.0.5")) != nil {
		t.Errorf("after removal: %v", Diff(changes, d.Label))
	}
	if len(back.Scopes()) != 1 || back.ReservationNamed("r") == nil {
		t.Error("removal reached the plan before it")
	}
}

func TestDiffAndNoChange(t *testing.T) {
	p, _ := define(t).Finish()
	d := p.Draft()
	s := p.ScopeNamed("looms").Scope
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	if same, changes := d.Finish(); same != p || changes != nil {
		t.Errorf("putting the same again is a change: %v", changes)
	}
	d = p.Draft()
	s.Lease = Duration(4 * time.Hour)
	s.Options = map[option.Key]string{option.Std(option.Router): "10.77.0.2"}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	_, changes := d.Finish()
	var got []string
	for _, l := range Diff(changes, d.Label) {
		got = append(got, l.Text)
	}
	if want := "lease time: 1h → 4h; option router: 10.77.0.1 → 10.77.0.2; option domain-server: 10.77.0.53 → not set"; strings.Join(got,
		"; ") != want {
		t.Errorf("diff %q, want %q", strings.Join(got, "; "), want)
	}
}

func TestFreeForReservation(t *testing.T) {
	p, _ := define(t).Finish()
	v := p.ScopeNamed("looms")
	a, ok := FreeForReservation(p, v, netip.Addr{}, func(a netip.Addr) bool { return a.String() == "10.77.0.2" })
	if !ok || a.String() != "10.77.0.3" { // .1 is the router, .2 is taken
		t.Errorf("proposed %s", a)
	}
}

// Adding a reservation to a large plan copies a small part of it.
func BenchmarkAddReservation(b *testing.B) {
	d := New().Draft()
	s := Scope{Name: "big", Subnet: netip.MustParsePrefix("10.0.0.0/8")}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		b.Fatal(err)
	}
	id, err := d.PutScope(s)
	if err != nil {
		b.Fatal(err)
	}
	put := func(d *Draft, n int) {
		a := netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)})
		if _, err := d.PutReservation(Reservation{Name: fmt.Sprint("r", n), Scope: id, Address: a,
			Hardware: addr.Hardware([]byte{2, 0, 0, byte(n >> 16), byte(n >> 8), byte(n)})}); err != nil {
			b.Fatal(err)
		}
	}
	for n := 1; n <= 100_000; n++ {
		put(d, n)
	}
	p, _ := d.Finish()
	b.ReportAllocs()
	for b.Loop() {
		d := p.Draft()
		put(d, 200_000)
		if next, _ := d.Finish(); next.ReservationCount(id) != 100_001 {
			b.Fatal("lost reservations")
		}
	}
}
