package answer

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

func (f *fixture) rule(r plan.Rule) {
	f.Helper()
	f.change(func(d *plan.Draft) error {
		_, err := d.PutRule(r)
		return err
	})
}

func (f *fixture) scope() plan.ID { return f.plan.ScopeNamed("looms").ID }

// Rules of the defaults are asked before those of the scope; the first to set a
// value keeps it; a reservation has the last word.
func TestRules(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	std := func(code uint16, text string) map[option.Key]string {
		return map[option.Key]string{option.Std(code): text}
	}
	f.rule(plan.Rule{Name: "first", When: `vendor == "loom"`, Settings: plan.Settings{Options: std(15, "first.example")}})
	f.rule(plan.Rule{Name: "second", Scope: f.scope(), When: `vendor.startsWith("lo")`,
		Settings: plan.Settings{Lease: plan.Duration(10 * time.Minute),
			Options: map[option.Key]string{option.Std(15): "second.example", option.Std(42): "10.77.0.42", option.Std(6): plan.NoValue}}})
	f.rule(plan.Rule{Name: "off", Scope: f.scope(), When: `true`, Off: true, Action: plan.Ignore})
	class := dhcp4.Option{Code: option.ClassID, Data: []byte("loom")}
	d := f.do(f.message(dhcp4.Discover, 1, class))
	f.expect("a client that fits two rules", d, Offered, "", "10.77.0.100")
	value := func(d *Decision, code uint8) string {
		b, _ := said(d).Options.Get(code)
		return option.Standard4.ByCode(uint16(code)).Type.Format(b)
	}
	if got := fmt.Sprint(value(d, 15), " ", value(d, 42), " ", value(d, 6), " ", value(d, 51)); got != "first.example 10.77.0.42 hex: 10m" {
		t.Errorf("it gets %s", got)
	}
	if len(d.First().Fitted) != 2 || d.First().Fitted[0].Name != "first" {
		t.Errorf("fitted %v", d.First().Fitted)
	}
	i := slices.IndexFunc(d.Values, func(v plan.Value) bool { return v.Code == 15 })
	if v := d.Values[i]; v.Level != plan.AtRule || v.Name != "first" {
		t.Errorf("option 15 comes from %s %s", v.Level, v.Name)
	}
	d = f.do(f.message(dhcp4.Discover, 2))
	if got := fmt.Sprint(value(d, 15), " ", value(d, 6), " ", value(d, 51)); got != "mill.example 10.77.0.53 1h" {
		t.Errorf("a client that fits none gets %s", got)
	}
	f.change(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: "r", Scope: f.scope(), Hardware: hw(3), Address: netip.MustParseAddr("10.77.0.9"),
			Settings: plan.Settings{Lease: plan.Duration(2 * time.Hour), Options: std(15, "own.example")}})
		return err
	})
	d = f.do(f.message(dhcp4.Discover, 3, class))
	if got := fmt.Sprint(d.First().Address(), " ", value(d, 15), " ", value(d, 42), " ", value(d,
		51)); got != "10.77.0.9 own.example 10.77.0.42 2h" {
		t.Errorf("a reserved client gets %s", got)
	}
	// An option that is not there is no fault of the client's.
	f.rule(plan.Rule{Name: "asks", Scope: f.scope(), Order: 1, When: `options[200] == "x"`, Action: plan.Ignore})
	f.expect("a rule that cannot be asked", f.do(f.message(dhcp4.Discover, 4)), Offered, "", "")
}

func TestRulesTurnAway(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	a := f.get(1)
	f.rule(plan.Rule{Name: "out", Scope: f.scope(), When: `hw == "` + hw(1).String() + `"`, Action: plan.Refuse})
	d := f.do(f.message(dhcp4.Discover, 1))
	f.expect("its DISCOVER", d, Ignored, reason.ByRule, "")
	if d.First().Rule != "out" {
		t.Errorf("the rule is %q", d.First().Rule)
	}
	m := f.message(dhcp4.Request, 1)
	m.CIAddr = a
	f.expect("its renewal", f.do(m), Refused, reason.ByRule, a.String())
	if l := f.table.At(a); l.Status != lease.Released {
		t.Errorf("its lease is %s", l.Status)
	}
	f.rule(plan.Rule{Name: "reserved", Scope: f.scope(), When: `hw == "` + hw(2).String() + `"`, Action: plan.ReservedOnly})
	f.expect("one that needs a reservation", f.do(f.message(dhcp4.Discover, 2)), Ignored, reason.ReservedOnly, "")
	f.reserve("r", 2, "10.77.0.9")
	f.expect("with a reservation", f.do(f.message(dhcp4.Discover, 2)), Offered, "", "10.77.0.9")
	f.expect("everybody else", f.do(f.message(dhcp4.Discover, 3)), Offered, "", "")
}

// A pool that a rule names is for its clients alone, and they get no other.
func TestConfinedPools(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.101", "10.77.0.200-10.77.0.201")
	staff := dhcp4.Option{Code: option.UserClass, Data: []byte("\x05staff")}
	r, _ := addr.ParseRange("10.77.0.200-10.77.0.201")
	f.rule(plan.Rule{Name: "staff", Scope: f.scope(), When: `"staff" in userClass`, Pool: r})
	ask := func(n int, more ...dhcp4.Option) string {
		d := f.do(f.message(dhcp4.Discover, n, more...))
		if d.First().Outcome != Offered {
			return string(d.First().Why)
		}
		f.do(f.message(dhcp4.Request, n, append(more, at(option.AddressRequest, d.First().Address().String()), at(option.ServerID,
			server.String()))...))
		return d.First().Address().String()
	}
	got := []string{ask(1), ask(2), ask(3), ask(4, staff), ask(5, staff), ask(6, staff), ask(3, at(option.AddressRequest, "10.77.0.200"))}
	if want := "10.77.0.100 10.77.0.101 pool-empty 10.77.0.200 10.77.0.201 pool-empty pool-empty"; strings.Join(got, " ") != want {
		t.Errorf("clients got %v, want %s", got, want)
	}
	// One of the staff who is no longer moves at its next renewal, once there is room.
	m := f.message(dhcp4.Request, 4)
	m.CIAddr = netip.MustParseAddr("10.77.0.200")
	f.expect("while there is no room elsewhere", f.do(m), Acknowledged, "", "10.77.0.200")
	release := f.message(dhcp4.Release, 1)
	release.CIAddr = netip.MustParseAddr("10.77.0.100")
	f.do(release)
	m = f.message(dhcp4.Request, 4)
	m.CIAddr = netip.MustParseAddr("10.77.0.200")
	f.expect("once there is", f.do(m), Refused, reason.NotHandedOut, "10.77.0.200")
}
