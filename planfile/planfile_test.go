package planfile

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/edit"
)

// mill is a file that has everything, as a person would write it.
const mill = `# Fellgate Mill, as we write it down.

plan-file: 1
covers: whole

# What the floors have in common.
shared:
  floor: # each workshop
    mode: serving
    lease: 12h
    options: {domain-name: works.fellgate.example, mill/shift-plan: http://plan.fellgate.example/}
  sensors: {probe: false, warn-days: never}

fields:
  hall: {type: choice, choices: [north, south], on: [scope, supernet]}
  ticket: {type: link}

defaults:
  lease: 8h
  options:
    domain-server: [10.40.0.5, 10.40.0.6]
    ntp-servers: 10.40.0.42

codebooks:
  mill:
    place: message
    options:
    - {code: 224, name: shift-plan, type: text, meaning: where the looms look}

lists:
  lent: {entries: [02:40:10:00:00:07, 0240.1000.0008], note: "no"}

supernets:
  mill: {prefix: 10.40.0.0/16}
  public: {prefix: 10.40.64.0/18, lease: 10m, options: {ntp-servers: none}, warn-used: 80}

links:
  looms: {relays: [10.40.8.1, 127.40.3.1]} # both hear the looms
  gate: {listening: true, interfaces: ens7}

scopes:
  # The looms, upstairs.
  looms: {like: floor, subnet: 10.40.8.0/22, pools: 10.40.8.100-10.40.11.200, options: {router: 10.40.8.1}}
  loom-lab: {like: [floor, sensors], link: looms, subnet: 10.40.12.0/26, pools: all, lease: 1h}
  gatehouse:
    link: gate
    subnet: "10.40.56.0 255.255.255.0"
    exclusions:
    - 10.40.56.9
    - {range: 10.40.56.120-10.40.56.129, user: barriers}
    mode: draining
    drain-until: 2027-01-31T12:00:00Z
    per-circuit: any
    note: |
      Two lines:
      of a note.
  stores: {subnet: 10.40.2.0/26, fields: {hall: North, ticket: https://t.example/7}, bootp: ignore, identity: hardware,
	authoritative: true, offer-delay: 2s}

rules:
  toys: {when: 'hw.startsWith("02:4c:00:")', action: ignore, order: 10}
  lent: {scope: looms, order: 20, when: 'hw in lists["lent"]', lease: 30m}
  public: {supernet: public, order: 10, when: "true", lease: infinite, off: true}

reservations:
  loom-1: {address: 10.40.8.9, hardware: 02-40-18-00-00-00, hostname: loom-1}
  crane: {address: 10.40.2.7, circuit: sw9/0/12, insist: true, options: {header/boot-file: crane.bin}}
  scale: {address: 10.40.2.8, identifier: "01:02:40:18:00:00:09"}

trials:
  looms: {scope: looms, vendor: loomctl/2.7, every: 5m}
`

// made is the plan that a file makes of another one.
func made(t *testing.T, before *plan.Plan, text string) *plan.Plan {
	t.Helper()
	f, faults := Read([]byte(text))
	if len(faults) > 0 {
		t.Fatalf("%v\n%s", faults, text)
	}
	d := before.Draft()
	if faults := f.Place(edit.Together(edit.Nowhere, d, f.Edits, f.Covers == Whole)); len(faults) > 0 {
		t.Fatalf("%v\n%s", faults, text)
	}
	next, _ := d.Finish()
	return next
}

func exported(t *testing.T, p *plan.Plan) string {
	t.Helper()
	text, err := Export(p)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// What a file says is in the plan; exported, it changes nothing, and makes the same plan elsewhere, byte
// for byte.
func TestRoundTrip(t *testing.T) {
	p := made(t, plan.New(), mill)
	looms, lab := p.ScopeNamed("looms"), p.ScopeNamed("loom-lab")
	if looms.Scope.Lease != plan.Duration(12*time.Hour) || lab.Scope.Lease != plan.Duration(time.Hour) || lab.Link != looms.Link ||
		!lab.NoProbe ||
		lab.Thresholds.Days != -1 || len(looms.Scope.Options) != 3 ||
		lab.Pools[0] != addr.OfPrefix(netip.MustParsePrefix("10.40.12.0/26")) {
		t.Errorf("shared settings: %+v, %+v", looms.Scope, lab.Scope)
	}
	if v := looms.Scope.Options[option.Std(224)]; v != "http://plan.fellgate.example/" {
		t.Errorf("an option of one's own: %q", v)
	}
	gate := p.ScopeNamed("gatehouse")
	if gate.Note != "Two lines:\nof a note.\n" || gate.Exclusions[1].User != "barriers" || gate.Limits.PerCircuit != -1 ||
		gate.LinkName != "gate" {
		t.Errorf("%+v", gate.Scope)
	}
	if f := p.ScopeNamed("stores").Fields; f["hall"] != "north" || f["ticket"] != "https://t.example/7" {
		t.Errorf("fields of one's own: %v", f)
	}
	if n, _ := p.Names(plan.KindRule); len(n) != 3 || p.RuleNamed("public").Of() != p.SupernetNamed("public").ID {
		t.Errorf("rules: %v", n)
	}
	text := exported(t, p)
	if again := made(t, p, text); again != p {
		t.Errorf("the plan of its own export is another one:\n%s", text)
	}
	elsewhere := made(t, plan.New(), text)
	if second := exported(t, elsewhere); second != text {
		t.Errorf("exported again, it is another file:\n%s\n%s", text, second)
	}
	for _, want := range []string{"lent:\n    entries: [02:40:10:00:00:07, 02:40:10:00:00:08]\n    note: no\n",
		"loom-1: {hardware: 02:40:18:00:00:00, address: 10.40.8.9, hostname: loom-1}"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	if part, err := Export(p, plan.KindList); err != nil || strings.Contains(string(part), "scopes:") || !strings.Contains(string(part),
		"covers: part") {
		t.Errorf("a part: %v\n%s", err, part)
	}
}

// A whole file removes what it does not have; what is the same thing under another name is renamed, and
// whoever refers to it still does. A part leaves the rest as it is.
func TestWholeAndPart(t *testing.T) {
	p := made(t, plan.New(), mill)
	text := exported(t, p)
	without := func(from, to string) string {
		if !strings.Contains(text, from) {
			t.Fatalf("no %q in\n%s", from, text)
		}
		return strings.ReplaceAll(text, from, to)
	}
	renamed := made(t, p, without("  stores:\n", "  storerooms:\n"))
	if a, b := renamed.ScopeNamed("storerooms"), p.ScopeNamed("stores"); a == nil || a.ID != b.ID ||
		len(renamed.Reservations(a.ID)) != 2 {
		t.Errorf("the scope under another name is %+v", a)
	}
	swapped := strings.NewReplacer("address: 10.40.8.9,", "address: 10.40.2.8,", "address: 10.40.2.8}",
		"address: 10.40.8.9}").Replace(text)
	next := made(t, p, swapped)
	if a, b := next.ReservationNamed("loom-1"), next.ReservationNamed("scale"); a.Address.String() != "10.40.2.8" ||
		b.Address.String() != "10.40.8.9" ||
		a.ID != p.ReservationNamed("loom-1").ID {
		t.Errorf("two that changed places: %+v, %+v", a, b)
	}
	start := strings.Index(text, "  stores:\n")
	gone := text[:start] + text[strings.Index(text, "  looms:\n    subnet"):]
	gone = gone[:strings.Index(gone, "reservations:")] + "reservations:\n  # none\n"
	next = made(t, p, gone)
	if next.ScopeNamed("stores") != nil || next.LinkNamed("stores") != nil || next.ReservationNamed("loom-1") != nil ||
		next.TrialNamed("looms") != nil {
		t.Errorf("something is left:\n%s", exported(t, next))
	}
	part := "plan-file: 1\nscopes:\n  stores: {subnet: 10.40.2.0/26, note: smaller}\n"
	next = made(t, p, part)
	if s := next.ScopeNamed("stores"); s.Note != "smaller" || s.Authoritative || s.ID != p.ScopeNamed("stores").ID ||
		next.ScopeNamed("looms") == nil {
		t.Errorf("a part: %+v", s)
	}
	// A subnet that one gives up is another's in the same file, whichever stands first.
	next = made(t, p, "plan-file: 1\nscopes:\n  annex: {subnet: 10.40.2.0/27}\n  stores: {subnet: 10.40.3.0/26}\n"+
		"reservations:\n  crane: {address: 10.40.3.7, circuit: sw9/0/12}\n  scale: {address: 10.40.3.8, identifier: 01:02:40:18:00:00:09}\n")
	if next.ScopeNamed("annex") == nil {
		t.Error("the annex is not there")
	}
}

// become has a plan become others, one after the other.
func become(p *plan.Plan, others ...*plan.Plan) (*plan.Plan, error) {
	for _, o := range others {
		d := p.Draft()
		if err := d.Become(o); err != nil {
			return nil, err
		}
		p, _ = d.Finish()
	}
	return p, nil
}

// Scopes that change places in one file, of both families and three in a ring, do; and so does what is
// reserved in them. One that moves to where another stays is refused.
func TestScopesChangePlaces(t *testing.T) {
	const head = "plan-file: 1\nscopes:\n"
	p := made(t, plan.New(), head+"  a: {subnet: 10.40.1.0/24, pools: 10.40.1.5-10.40.1.9}\n  b: {subnet: 10.40.2.0/24}\n  c: {subnet: 10.40.3.0/24}\n"+
		"  d: {subnet: '2001:db8:1::/64', prefix-pools: '2001:db8:8000::/40 in /56'}\n  e: {subnet: '2001:db8:2::/64', prefix-pools: '2001:db8:8100::/40 in /56'}\n"+
		"reservations:\n  crane: {address: 10.40.1.7, circuit: sw9/0/12}\n")
	next := made(t, p, head+"  a: {subnet: 10.40.2.0/24, pools: 10.40.2.5-10.40.2.9}\n  b: {subnet: 10.40.3.0/24}\n  c: {subnet: 10.40.1.0/24}\n"+
		"  d: {subnet: '2001:db8:2::/64', prefix-pools: '2001:db8:8100::/40 in /56'}\n  e: {subnet: '2001:db8:1::/64', prefix-pools: '2001:db8:8000::/40 in /56'}\n"+
		"reservations:\n  crane: {address: 10.40.2.7, circuit: sw9/0/12}\n")
	for name, a := range map[string]string{"a": "10.40.2.7", "b": "10.40.3.7", "c": "10.40.1.7", "d": "2001:db8:2::7",
		"e": "2001:db8:1::7"} {
		v := next.ScopeAt(netip.MustParseAddr(a))
		if v == nil || v.Name != name || v.ID != p.ScopeNamed(name).ID {
			t.Errorf("%s is of %v, not of %s", a, v, name)
		}
	}
	if v := next.ScopeAt(netip.MustParseAddr("2001:db8:8000::7")); v == nil || v.Name != "e" {
		t.Errorf("the prefixes of d are of %v now", v)
	}
	if r := next.ReservationNamed("crane"); r.Address.String() != "10.40.2.7" || r.Scope != p.ScopeNamed("a").ID {
		t.Errorf("what is reserved is %+v", r)
	}
	for what, make := range map[string]func() (*plan.Plan, error){
		"as the partner makes it":  func() (*plan.Plan, error) { return p.Replay(2, plan.Between(p, next)) },
		"undone, and made by name": func() (*plan.Plan, error) { return become(next, p, next) },
	} {
		if again, err := make(); err != nil || len(plan.Between(again, next)) > 0 {
			t.Errorf("%s: %v", what, err)
		}
	}
	f, faults := Read([]byte(head + "  a: {subnet: 10.40.2.0/24}\n  b: {subnet: 10.40.3.0/24}\n  c: {note: stays}\n"))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	if faults := edit.Together(edit.Nowhere, p.Draft(), f.Edits, false); len(faults) == 0 || !strings.Contains(faults[0].Err.Error(),
		"overlaps") &&
		!strings.Contains(faults[0].Err.Error(), "subnet") {
		t.Errorf("one that moves to where another stays: %v", faults)
	}
}

// Each fault is named with its line and column, as many as there are; nothing half is taken in.
func TestFaults(t *testing.T) {
	const head = "plan-file: 1\ncovers: whole\n"
	for _, c := range []struct{ text, want string }{
		{"", "the file is empty"},
		{"# nothing\n\n", "the file is empty"},
		{"- a\n- b\n", "line 1, column 1: a plan file has keys"},
		{head + "scopes: [\n", "no YAML"},
		{head + "\tscopes:\n", "line 3"},
		{"scopes:\n", "does not say plan-file: 1"},
		{"plan-file: 2\n", `line 1, column 12: plan-file: "2" is not the version`},
		{"plan-file: 1\ncovers: all\n", `line 2, column 9: covers: "all" is neither`},
		{head + "scope:\n", `line 3, column 1: there is no section "scope"; is "scopes" meant?`},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24}\n  A: {subnet: 10.1.0.0/24}\n",
			"line 5, column 3: A stands here a second time; the first is in line 4"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, leese: 8h}\n",
			`line 4, column 28: there is no key "leese" for a scope; is "lease" meant?`},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, lease: }\n", "lease has no value"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, lease: soon}\n", "line 4, column 35: lease: \"soon\" is not a duration"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, probe: yes}\n", "line 4, column 35: probe is true or false"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, mode: on}\n", `line 4, column 34: mode: "on" is none of held, serving, draining`},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, warn-used: often}\n", "is a number or never"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, warn-used: 300}\n", "warning above 300 %"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, pools: [10.0.0.9-10.0.0.3, x]}\n", "line 4, column 35: pool of scope a"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, options: {gateway: 1.2.3.4}}\n", `line 4, column 47: no option is called "gateway"`},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, options: {router: gate.example}}\n", "line 4, column 46: option router"},
		{head + "scopes:\n  a: {like: b, subnet: 10.0.0.0/24}\n", `line 4, column 13: nothing is shared as "b"`},
		{head + "scopes:\n  a: {link: far, subnet: 10.0.0.0/24}\n", `line 4, column 13: not in the plan: no link is called "far"`},
		{head + "shared:\n  a: {leas: 8h}\n", `line 4, column 7: no kind of item has a key "leas"; is "lease" meant?`},
		{head + "scopes:\n  a: &x {subnet: 10.0.0.0/24}\n  b: *x\n", "line 4, column 6: anchors and aliases are not for plan files"},
		{head + "scopes:\n  a: {subnet: !!str 10.0.0.0/24}\n", "tag !!str"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, note: \"\\e[31m\"}\n", "not for reading"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24}\n  b: {subnet: 10.0.0.0/25}\n",
			"line 5, column 3: scope b (10.0.0.0/25) overlaps scope a"},
		{head + "reservations:\n  a: {hardware: 02:00:00:00:00:01}\n", "needs a scope or an address"},
		{head + "reservations:\n  a: {hardware: 02:00:00:00:00:01, address: 10.9.9.9}\n", "no scope holds 10.9.9.9"},
		{head + "codebooks:\n  c:\n    place: message\n    options:\n    - {code: x, name: a, type: text}\n",
			"line 7, column 14: code is a number"},
		{head + "scopes:\n  a: {subnet: 10.0.0.0/24, fields: {owner: me}}\n",
			`line 4, column 3: scope a: not in the plan: no field is called "owner"`},
		{head + "revision: last\n", "not the number of a revision"},
	} {
		done := Check([]byte(c.text), nil)
		var all []string
		for _, f := range done.Faults {
			all = append(all, f.String())
		}
		if !slices.ContainsFunc(all, func(f string) bool { return strings.Contains(f, c.want) }) {
			t.Errorf("%q: %q, want %q", c.text, all, c.want)
		}
	}
	many := Check([]byte(head+"scopes:\n  a: {subnet: 10.0.0.0/24, lease: soon, pools: x}\n  b: {sub: 10.0.0.0/25}\n  c: {probe: 1}\n"),
		nil).Faults
	if len(many) < 2 || many[0].Line > many[len(many)-1].Line {
		t.Errorf("not all faults, or not in order: %v", many)
	}
}

// A part is checked by itself, or within the rest.
func TestCheckPart(t *testing.T) {
	part := []byte("plan-file: 1\nscopes:\n  attic: {link: gate, subnet: 10.40.90.0/24, pools: all}\n")
	if c := Check(part, nil); len(c.Faults) > 0 || !c.Alone || c.Covers != Part {
		t.Errorf("%+v", c)
	}
	if c := Check(part, []byte(mill)); len(c.Faults) > 0 || c.Alone || !strings.Contains(fmt.Sprint(c.Advice), "no-router") {
		t.Errorf("%+v", c)
	}
	bad := []byte("plan-file: 1\nscopes:\n  attic: {subnet: 10.40.2.0/25}\n")
	if c := Check(bad, nil); len(c.Faults) > 0 {
		t.Errorf("%+v", c)
	}
	if c := Check(bad, []byte(mill)); len(c.Faults) != 1 || !strings.Contains(c.Faults[0].Text, "overlaps scope stores") {
		t.Errorf("%+v", c)
	}
}

// In order, a file says the same, keeps its comments, and is in order.
func TestFormat(t *testing.T) {
	out, faults := Format([]byte(mill))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	for _, l := range strings.Split(mill, "\n") {
		if _, comment, found := strings.Cut(l, "#"); found && !strings.Contains(string(out), "#"+comment) {
			t.Errorf("the comment %q is gone", comment)
		}
	}
	if again, _ := Format(out); string(again) != string(out) {
		t.Errorf("in order, it is not in order:\n%s\n%s", out, again)
	}
	if a, b := exported(t, made(t, plan.New(), mill)), exported(t, made(t, plan.New(), string(out))); a != b {
		t.Errorf("it says something else:\n%s", out)
	}
	if i, j := strings.Index(string(out), "\n\ndefaults:"), strings.Index(string(out), "\n\nscopes:"); i < 0 || j < i {
		t.Errorf("sections are not apart, or not in their order:\n%s", out)
	}
}

func TestRebase(t *testing.T) {
	if got := string(Rebase([]byte("plan-file: 1\nrevision: 7 # ours\n"), 12)); got != "plan-file: 1\nrevision: 12 # ours\n" {
		t.Error(got)
	}
	if got := string(Rebase([]byte("plan-file: 1\n"), 12)); got != "plan-file: 1\n" {
		t.Error(got)
	}
}

// The schema has what a file may have, and docs/planfile.md the same.
func TestSchemaAndReference(t *testing.T) {
	var schema struct {
		Properties map[string]any `json:"properties"`
		Defs       map[string]struct {
			Properties map[string]any `json:"properties"`
		} `json:"$defs"`
	}
	if err := json.Unmarshal(Schema(), &schema); err != nil {
		t.Fatal(err)
	}
	if len(sections) != len(plan.Kinds()) {
		t.Errorf("%d sections of %d kinds", len(sections), len(plan.Kinds()))
	}
	for _, k := range plan.Kinds() {
		if schema.Properties[section(k)] == nil || about[k] == "" {
			t.Errorf("no section %s", section(k))
		}
		for _, f := range edit.FormOf(k).Fields {
			if schema.Defs[string(k)].Properties[f.Key] == nil || f.Doc == "" {
				t.Errorf("%s: %s is not in the schema, or nothing is said of it", k, f.Key)
			}
		}
	}
	kept, err := os.ReadFile("../docs/planfile.md")
	if err != nil || string(kept) != Document() {
		t.Errorf("docs/planfile.md is old; run make generate (%v)", err)
	}
}

// A file of a hundred thousand reservations is read and made in a time that grows with its length.
func TestLongFile(t *testing.T) {
	took := func(n int) time.Duration {
		var b strings.Builder
		b.WriteString("plan-file: 1\nscopes:\n  big: {subnet: 10.0.0.0/8}\nreservations:\n")
		for i := range n {
			a := i + 256
			fmt.Fprintf(&b, "  r%d: {address: 10.%d.%d.%d, hardware: 02:00:00:%02x:%02x:%02x}\n", i, a>>16, a>>8&255, a&255, i>>16,
				i>>8&255, i&255)
		}
		begun := time.Now()
		if c := Check([]byte(b.String()), []byte("plan-file: 1\n")); len(c.Faults) > 0 {
			t.Fatal(c.Faults[0])
		}
		return time.Since(begun)
	}
	few, many := took(10_000), took(100_000)
	t.Logf("10,000: %v; 100,000: %v", few, many)
	if many > 30*few {
		t.Errorf("ten times the file takes %.0f times as long", many.Seconds()/few.Seconds())
	}
}

// FuzzRead: whatever comes in, nothing panics; what is a file can be put in order, and then says the same.
func FuzzRead(f *testing.F) {
	f.Add(mill)
	for _, text := range []string{"plan-file: 1\nscopes:\n  a: {subnet: 10.0.0.0/24}\n", "plan-file: 1\n? a\n: b\n",
		"plan-file: 1\nscopes: {a: {note: |\n  x}}\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		file, faults := Read([]byte(text))
		if len(faults) > 0 {
			return
		}
		out, faults := Format([]byte(text))
		if len(faults) > 0 {
			t.Fatalf("%q cannot be put in order: %v", text, faults)
		}
		again, faults := Read(out)
		if len(faults) > 0 {
			t.Fatalf("%q in order is no file: %v\n%s", text, faults, out)
		}
		sorted := func(f *File) string {
			var list []string
			for _, e := range f.Edits {
				b, _ := json.Marshal(e)
				list = append(list, string(b))
			}
			slices.Sort(list)
			return strings.Join(list, "\n")
		}
		if a, b := sorted(file), sorted(again); a != b {
			t.Fatalf("%q in order says something else:\n%s\n%s", text, a, b)
		}
		d := plan.New().Draft()
		if len(edit.Together(edit.Nowhere, d, file.Edits, true)) > 0 {
			return
		}
		p, _ := d.Finish()
		first := exported(t, p)
		if next := made(t, p, first); next != p {
			t.Fatalf("the plan of its own export is another one:\n%s", first)
		}
	})
}
