package plan

import (
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"go4.org/netipx"

	"yarnpost/core/option"
)

// Each id in an item is declared, so that it is translated where the item goes elsewhere, and
// what it says it is.
func TestEveryIDIsDeclared(t *testing.T) {
	for _, k := range kinds {
		empty, err := k.decode([]byte("{}"))
		if err != nil {
			t.Fatal(err)
		}
		there := 0
		for _, f := range reflect.VisibleFields(reflect.TypeOf(empty)) {
			if f.Type == reflect.TypeFor[ID]() {
				there++
			}
		}
		refs, now := k.open(empty)
		if len(refs) != there {
			t.Errorf("%s has %d ids, and %d of them are declared", k.name, there, len(refs))
		}
		for n, r := range refs {
			if (r.part == own) != (n == 0) || n == 0 && r.kind != k.name {
				t.Errorf("%s: its own id does not stand first, or is of kind %s", k.name, r.kind)
			}
			if _, err := kindOf(r.kind); err != nil {
				t.Errorf("%s refers to a %v", k.name, err)
			}
			before := now()
			if *r.id = ID(100 + n); Same(before, now()) {
				t.Errorf("%s: what is declared as id %d is none of it", k.name, n)
			}
		}
	}
}

func net(d *Draft, name, prefix string, s Settings) error {
	_, err := d.PutSupernet(Supernet{Name: name, Prefix: netip.MustParsePrefix(prefix), Settings: s})
	return err
}

// Levels are a chain: defaults, supernets from outer to inner, scope, rules, reservation. Each
// takes away, or sets anew, what is above it; so do the rules of each.
func TestChainOfLevels(t *testing.T) {
	d := define(t)
	opt := func(pairs ...any) map[option.Key]string {
		out := map[option.Key]string{}
		for i := 0; i < len(pairs); i += 2 {
			out[option.Std(uint16(pairs[i].(int)))] = pairs[i+1].(string)
		}
		return out
	}
	s := d.Plan().ScopeNamed("looms").Scope
	s.Lease, s.Options = 0, opt(3, "10.77.0.1")
	_, err := d.PutScope(s)
	for _, e := range []error{err,
		d.SetDefaults(Defaults{Settings: Settings{Lease: Duration(2 * time.Hour), Options: opt(6, "10.0.0.53", 42, "10.0.0.42", 15,
			"mill.example")}}),
		net(d, "inner", "10.77.0.0/20", Settings{Options: opt(15, "inner.example")}),
		net(d, "mill", "10.64.0.0/10", Settings{Lease: Duration(time.Hour), Options: opt(15, "outer.example", 42, NoValue, 28,
			"10.77.0.255")}),
		net(d, "elsewhere", "10.128.0.0/10", Settings{Lease: Duration(time.Minute)}),
	} {
		if e != nil {
			t.Fatal(e)
		}
	}
	mill, inner := d.Plan().SupernetNamed("mill"), d.Plan().SupernetNamed("Inner")
	for name, of := range map[string]Rule{"of-scope": {Scope: s.ID}, "of-inner": {Supernet: inner.ID}, "of-mill": {Supernet: mill.ID},
		"of-defaults": {}, "of-elsewhere": {Supernet: d.Plan().SupernetNamed("elsewhere").ID}} {
		of.Name, of.When, of.Lease = name, "true", Duration(time.Minute)
		if _, err := d.PutRule(of); err != nil {
			t.Fatal(err)
		}
	}
	p, changes := d.Finish()
	v := p.ScopeNamed("looms")
	show := func(v *View) (out string) {
		for _, x := range v.Values {
			out += fmt.Sprintf("%d=%s/%s %s ", x.Code, x.Text, x.Level, x.Name)
		}
		return out + fmt.Sprint(v.Lease, " of ", v.LeaseFrom.Level, " ", v.LeaseFrom.Name)
	}
	want := "3=10.77.0.1/scope looms 6=10.0.0.53/defaults  15=inner.example/supernet inner 28=10.77.0.255/supernet mill 1h0m0s of supernet mill"
	if got := show(v); got != want {
		t.Errorf("looms: %s", got)
	}
	var asked []string
	for _, of := range v.Levels {
		for _, r := range p.RulesOf(of) {
			asked = append(asked, r.Name)
		}
	}
	if got := strings.Join(asked, " "); got != "of-defaults of-mill of-inner of-scope" {
		t.Errorf("rules are asked as %s", got)
	}
	if !p.Within(s.ID, mill.ID) || !p.Within(inner.ID, mill.ID) || p.Within(mill.ID, inner.ID) || p.Within(s.ID,
		p.SupernetNamed("elsewhere").ID) {
		t.Error("what lies in what is judged wrongly")
	}
	// The same after a restart, from changes alone, and in any order.
	for what, make := range map[string]func() (*Plan, error){
		"restored": func() (*Plan, error) { return Restore(p.Revision, p.Items()) },
		"replayed": func() (*Plan, error) { return d.before.Replay(p.Revision, changes) },
	} {
		if again, err := make(); err != nil || show(again.ScopeNamed("looms")) != want {
			t.Errorf("%s: %v %v", what, again, err)
		}
	}
	chainMoves(t, p, inner, show, want)
}

// chainMoves takes supernets around looms away.
func chainMoves(t *testing.T, p *Plan, inner *Supernet, show func(*View) string, want string) {
	t.Helper()
	// What lies in a supernet that moves or goes inherits from what is around it then.
	d := p.Draft()
	moved := *inner
	moved.Prefix = netip.MustParsePrefix("10.78.0.0/20")
	if _, err := d.PutSupernet(moved); err != nil {
		t.Fatal(err)
	}
	if got := show(d.Plan().ScopeNamed("looms")); !strings.Contains(got, "15=outer.example/supernet mill") {
		t.Errorf("after inner moved away: %s", got)
	}
	if err := d.RemoveSupernet("mill"); err != nil || d.Plan().RuleNamed("of-mill") != nil {
		t.Errorf("mill goes: %v, and its rule is there: %v", err, d.Plan().RuleNamed("of-mill") != nil)
	}
	if got := show(d.Plan().ScopeNamed("looms")); !strings.Contains(got, "42=10.0.0.42/defaults") || !strings.HasSuffix(got,
		"2h0m0s of defaults ") {
		t.Errorf("after mill went: %s", got)
	}
	if got := show(p.ScopeNamed("looms")); got != want {
		t.Errorf("the plan before changed: %s", got)
	}
}

// Each refusal of supernets names both sides.
func TestSupernetRefusals(t *testing.T) {
	d := define(t)
	for name, prefix := range map[string]string{"mill": "10.64.0.0/10", "north": "10.200.0.0/20"} {
		if err := net(d, name, prefix, Settings{}); err != nil {
			t.Fatal(err)
		}
	}
	scope := func(name, subnet string) error {
		s := Scope{Name: name, Subnet: netip.MustParsePrefix(subnet)}
		err := d.PlaceScope(&s, "", nil)
		if err == nil {
			_, err = d.PutScope(s)
		}
		return err
	}
	looms := d.Plan().ScopeNamed("looms").ID
	mill := d.Plan().SupernetNamed("mill").ID
	for _, c := range []struct {
		err  error
		want string
	}{
		{net(d, "half", "10.77.0.0/25", Settings{}), "supernet half (10.77.0.0/25) would cut scope looms (10.77.0.0/24) in two"},
		{net(d, "again", "10.64.0.0/10", Settings{}), "supernet again has the prefix 10.64.0.0/10 of supernet mill"},
		{net(d, "odd", "10.64.0.1/10", Settings{}), "needs a prefix like"},
		{net(d, "mill", "10.0.0.0/16", Settings{}), "mill"},
		{scope("wide", "10.200.0.0/16"), "supernet north (10.200.0.0/20) would cut scope wide (10.200.0.0/16) in two"},
		{func() error {
			_, err := d.PutRule(Rule{Name: "r", When: "true", Scope: looms, Supernet: mill, Settings: Settings{Lease: Duration(time.Hour)}})
			return err
		}(), "of a scope and of a supernet"},
	} {
		if c.err == nil || !strings.Contains(c.err.Error(), c.want) {
			t.Errorf("%v, want %q", c.err, c.want)
		}
	}
}

// What lies in a prefix and what is free make it up without a gap, and the next free prefixes
// leave large gaps whole.
func TestSpace(t *testing.T) {
	d := New().Draft()
	scope := func(name, subnet string) {
		t.Helper()
		s := Scope{Name: name, Subnet: netip.MustParsePrefix(subnet)}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			t.Fatal(err)
		}
		if _, err := d.PutScope(s); err != nil {
			t.Fatal(err)
		}
	}
	for name, prefix := range map[string]string{"mill": "10.40.0.0/16", "west": "10.40.0.0/20", "deep": "10.40.0.0/22"} {
		if err := net(d, name, prefix, Settings{}); err != nil {
			t.Fatal(err)
		}
	}
	scope("inside", "10.40.1.0/24")
	scope("beside", "10.40.16.0/24")
	scope("last", "10.40.255.0/24")
	scope("outside", "10.41.0.0/24")
	p, _ := d.Finish()
	mill := netip.MustParsePrefix("10.40.0.0/16")
	show := func(in netip.Prefix) (out string) {
		at := in.Addr()
		for _, s := range p.Stretches(in) {
			if s.Prefix.Addr() != at {
				t.Errorf("after %s comes %s", at, s.Prefix)
			}
			at = netipx.PrefixLastIP(s.Prefix).Next()
			switch {
			case s.Scope != nil:
				out += s.Scope.Name + " "
			case s.Supernet != nil:
				out += s.Supernet.Name + " "
			default:
				out += s.Prefix.String() + " "
			}
		}
		return out
	}
	if got, want := show(mill), "west beside 10.40.17.0/24 10.40.18.0/23 10.40.20.0/22 10.40.24.0/21 10.40.32.0/19 10.40.64.0/18 "+
		"10.40.128.0/18 10.40.192.0/19 10.40.224.0/20 10.40.240.0/21 10.40.248.0/22 10.40.252.0/23 10.40.254.0/24 last "; got != want {
		t.Errorf("mill is %s", got)
	}
	if got := show(netip.MustParsePrefix("10.40.0.0/20")); got != "deep 10.40.4.0/22 10.40.8.0/21 " {
		t.Errorf("west is %s", got)
	}
	if got := show(netip.MustParsePrefix("10.40.0.0/22")); got != "10.40.0.0/24 inside 10.40.2.0/23 " {
		t.Errorf("deep is %s", got)
	}
	for _, c := range []struct {
		bits, most int
		want       string
	}{{24, 3, "[10.40.17.0/24 10.40.254.0/24 10.40.18.0/24]"}, {18, 9, "[10.40.64.0/18 10.40.128.0/18]"}, {16, 1, "[]"}, {33, 1, "[]"},
		{32, 1, "[10.40.17.0/32]"}} {
		if got := fmt.Sprint(p.NextFree(mill, c.bits, c.most)); got != c.want {
			t.Errorf("next /%d: %s, want %s", c.bits, got, c.want)
		}
	}
	if all := p.NextFree(netip.MustParsePrefix("255.255.255.0/24"), 26, 9); len(all) != 4 {
		t.Errorf("at the end of all addresses: %v", all)
	}
}

// What scopes inherit differently is told, with whose setting it is; what they set themselves is
// not, nor what does not change.
func TestInherited(t *testing.T) {
	d := define(t) // looms sets a lease time, and the options 3 and 6
	s := Scope{Name: "yard", Subnet: netip.MustParsePrefix("10.78.0.0/24")}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	if err := d.SetDefaults(Defaults{Settings: Settings{Options: map[option.Key]string{option.Std(15): "mill.example"}}}); err != nil {
		t.Fatal(err)
	}
	old, _ := d.Finish()
	d = old.Draft()
	if err := net(d, "mill", "10.64.0.0/10", Settings{Lease: Duration(time.Hour),
		Options: map[option.Key]string{option.Std(15): NoValue, option.Std(6): "10.0.0.9", option.Std(42): "10.0.0.42"}}); err != nil {
		t.Fatal(err)
	}
	next, _ := d.Finish()
	lines, all := Inherited(old, next, 4)
	var got []string
	for _, l := range lines {
		got = append(got, l.Name+" "+l.Text)
	}
	want := "looms inherits option domain-name: mill.example (defaults) → not set; " +
		"looms inherits option ntp-servers: not set → 10.0.0.42 (supernet mill); " +
		"yard inherits lease time: 8h (the usual one) → 1h (supernet mill); " +
		"yard inherits option domain-server: not set → 10.0.0.9 (supernet mill)"
	if text := strings.Join(got, "; "); text != want || all != 6 {
		t.Errorf("%d lines: %s", all, text)
	}
	if lines, all := Inherited(next, next, 9); len(lines)+all != 0 {
		t.Errorf("without a change: %v", lines)
	}
	if _, all := Inherited(next, old, 9); all != 6 {
		t.Errorf("the other way round: %d lines", all)
	}
}

// The scopes that a prefix touches are found without a walk, whichever is the larger one.
func TestOverlapping(t *testing.T) {
	d := New().Draft()
	for i, subnet := range []string{"10.0.0.0/24", "10.0.1.0/24", "10.0.2.0/23", "10.1.0.0/16", "192.0.2.0/25"} {
		s := Scope{Name: fmt.Sprint("s", i), Subnet: netip.MustParsePrefix(subnet)}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			t.Fatal(err)
		}
		if _, err := d.PutScope(s); err != nil {
			t.Fatal(err)
		}
	}
	p, _ := d.Finish()
	for _, k := range []string{"10.0.0.0/24", "10.0.0.128/25", "10.0.0.0/16", "10.0.2.0/24", "10.1.2.3/32", "0.0.0.0/0", "192.0.2.128/25", "11.0.0.0/8"} {
		prefix := netip.MustParsePrefix(k)
		got, want := map[ID]bool{}, map[ID]bool{}
		for v := range p.Overlapping(prefix) {
			if got[v.ID] {
				t.Errorf("%s: %s comes twice", k, v.Name)
			}
			got[v.ID] = true
		}
		for _, v := range p.Scopes() {
			if v.Subnet.Overlaps(prefix) {
				want[v.ID] = true
			}
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("%s touches %v, want %v", k, got, want)
		}
	}
}

// A router that a supernet names is no client's, whichever scope it lies in; one that it names no
// more may be a client's again.
func TestRoutersOfSupernets(t *testing.T) {
	d := define(t)
	looms := d.Plan().ScopeNamed("looms").ID
	router := netip.MustParseAddr("10.77.0.150")
	gives := func() bool { return d.Plan().Scope(looms).Allocatable(router) }
	if !gives() {
		t.Fatal("looms does not give the address to begin with")
	}
	if _, err := scoped(d, "away", "10.200.0.0/24"); err != nil {
		t.Fatal(err)
	}
	set := func(id ID, options map[option.Key]string) (ID, error) {
		return d.PutSupernet(Supernet{ID: id, Name: "north", Prefix: netip.MustParsePrefix("10.200.0.0/16"),
			Settings: Settings{Options: options}})
	}
	named := map[option.Key]string{option.Std(option.Router): router.String()}
	id, err := set(0, named)
	if err != nil || gives() {
		t.Errorf("a router that a supernet names is given to clients: %v", err)
	}
	if _, err := set(id, nil); err != nil || !gives() {
		t.Errorf("it is kept once it is no router any more: %v", err)
	}
	if _, err := set(id, named); err != nil || gives() {
		t.Errorf("named again: %v", err)
	}
	if err := d.RemoveSupernet("north"); err != nil || !gives() {
		t.Errorf("it is kept once its supernet is gone: %v", err)
	}
	// The same of the defaults, which away inherits and looms does not.
	for _, c := range []struct {
		options map[option.Key]string
		gives   bool
	}{{named, false}, {nil, true}} {
		if err := d.SetDefaults(Defaults{Settings: Settings{Options: c.options}}); err != nil || gives() != c.gives {
			t.Errorf("defaults with %v: looms gives the address %v, %v", c.options, gives(), err)
		}
	}
}
