package plan

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

func typed(t *testing.T, shape string) option.Type {
	t.Helper()
	typ, err := option.ParseType(shape)
	if err != nil {
		t.Fatal(err)
	}
	return typ
}

// refusedWith checks that an edit is refused, and says why.
func refusedWith(t *testing.T, err error, says string) {
	t.Helper()
	if err == nil || !strings.Contains(err.Error(), says) {
		t.Errorf("%v, want a refusal with %q", err, says)
	}
}

func TestCodebooks(t *testing.T) {
	d := define(t)
	book := Codebook{Name: "accesspoint", Place: InVendor, Classes: []string{"accesspoint*"},
		Options: []Own{{Code: 241, Name: "controller", Type: typed(t, "address list")}}}
	id, err := d.PutCodebook(book)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutCodebook(Codebook{Name: "mill", Place: InMessage,
		Options: []Own{{Code: 224, Name: "shift-plan", Type: typed(t, "text")}}}); err != nil {
		t.Fatal(err)
	}
	set := func(key option.Key, text string) error {
		s := d.Plan().ScopeNamed("looms").Scope
		options := map[option.Key]string{key: text}
		for k, v := range s.Options {
			if _, replaced := options[k]; !replaced {
				options[k] = v
			}
		}
		s.Options = options
		_, err := d.PutScope(s)
		return err
	}
	key, def, err := d.Plan().Key("accesspoint/controller")
	if err != nil || key != (option.Key{Book: "accesspoint", Code: 241}) || def.Type.String() != "address list" {
		t.Fatalf("accesspoint/controller is %v, %v, %v", key, def, err)
	}
	if err := set(key, "10.77.0.31"); err != nil {
		t.Fatal(err)
	}
	own, _, err := d.Plan().Key("shift-plan")
	if err != nil || own != option.Std(224) {
		t.Fatalf("shift-plan is %v, %v", own, err)
	}
	if err := set(own, "http://plan"); err != nil {
		t.Fatal(err)
	}
	last := d.Plan().ScopeNamed("looms").Values
	if v := last[len(last)-1]; v.Key != key || string(v.Data) != "\x0a\x4d\x00\x1f" {
		t.Errorf("the vendor's value is %+v; it must come last", v)
	}
	// What is in use cannot be pulled away.
	p, _ := d.Finish()
	refusedWith(t, p.Draft().RemoveCodebook("accesspoint"), "scope looms sets option accesspoint/241")
	book.ID, book.Options = id, []Own{{Code: 241, Name: "controller", Type: typed(t, "u8")}}
	_, err = p.Draft().PutCodebook(book)
	refusedWith(t, err, "scope looms sets option accesspoint/241")
	book.Name = "ap"
	_, err = p.Draft().PutCodebook(book)
	refusedWith(t, err, "keeps its name")
	for _, c := range []struct {
		book Codebook
		says string
	}{
		{Codebook{Name: "x", Place: InVendor}, "need the vendor class"},
		{Codebook{Name: "x", Place: In125}, "need an enterprise number"},
		{Codebook{Name: "x", Place: InMessage, Classes: []string{"y"}}, "for every client"},
		{Codebook{Name: "x", Place: "44"}, "is none of these"},
		{Codebook{Name: "header", Place: InMessage}, "cannot be the name"},
		{Codebook{Name: "X y", Place: InMessage}, "cannot be a name"},
		{Codebook{Name: "x", Place: InMessage, Options: []Own{{Code: 224, Name: "a", Type: typed(t, "text")}}}, "codebook mill defines code 224"},
		{Codebook{Name: "x", Place: InMessage, Options: []Own{{Code: 51, Name: "a", Type: typed(t, "text")}}},
			"set or read by the service itself"},
		{Codebook{Name: "x", Place: InMessage, Options: []Own{{Code: 3, Name: "a", Type: typed(t, "text")}}}, "keeps its type"},
		{Codebook{Name: "x", Place: InMessage, Options: []Own{{Code: 230, Name: "a"}}}, "needs a type"},
		{Codebook{Name: "x", Place: InMessage, Options: []Own{{Code: 230, Name: "A b", Type: typed(t, "text")}}}, "cannot be the name"},
		{Codebook{Name: "x", Place: InMessage,
			Options: []Own{{Code: 230, Name: "a", Type: typed(t, "text")}, {Code: 230, Name: "b", Type: typed(t, "text")}}}, "twice"},
	} {
		_, err := p.Draft().PutCodebook(c.book)
		refusedWith(t, err, c.says)
	}
	for text, says := range map[string]string{"nobody/1": "there is no codebook", "accesspoint/speed": "no option is called",
		"header/9": "there is no header field"} {
		_, _, err := p.Key(text)
		refusedWith(t, err, says)
	}
	refusedWith(t, setOn(p.Draft(), option.Key{Book: option.HeaderBook, Code: option.BootFile}, strings.Repeat("x", 128)), "127 is the most")
}

func setOn(d *Draft, key option.Key, text string) error {
	s := d.Plan().ScopeNamed("looms").Scope
	s.Options = map[option.Key]string{key: text}
	_, err := d.PutScope(s)
	return err
}

func TestRulesAndLists(t *testing.T) {
	d := define(t)
	looms := d.Plan().ScopeNamed("looms").ID
	_, err := d.PutRule(Rule{Name: "lent", When: `hw in lists.lent`, Settings: Settings{Lease: Duration(time.Hour)}})
	refusedWith(t, err, `looks into list "lent", which is not there`)
	if _, err := d.PutList(List{Name: "lent", Entries: []addr.Octets{"\x02\x02", "\x02\x01", "\x02\x01"}}); err != nil {
		t.Fatal(err)
	}
	if n := len(d.Plan().ListNamed("lent").Entries); n != 2 {
		t.Errorf("the list has %d entries, want 2", n)
	}
	if _, err := d.PutRule(Rule{Name: "lent", When: `hw in lists.lent`, Settings: Settings{Lease: Duration(time.Hour)}}); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutRule(Rule{Name: "late", Scope: looms, When: `true`, Action: Ignore}); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutRule(Rule{Name: "early", Scope: looms, Order: 5, When: `true`, Action: Ignore}); err != nil {
		t.Fatal(err)
	}
	p, changes := d.Finish()
	if of := p.RulesOf(looms); len(of) != 2 || of[0].Name != "early" || of[1].Order != 10 || len(p.RulesOf(0)) != 1 {
		t.Errorf("the scope's rules are %v", of)
	}
	if text := linesText(Diff(changes, p.Label)); !strings.Contains(text, "when: hw in lists.lent") || !strings.Contains(text, "entry 02:01") {
		t.Errorf("the diff does not tell:\n%s", text)
	}
	refusedWith(t, p.Draft().RemoveList("lent"), "rule lent looks into list lent")
	for _, c := range []struct {
		rule Rule
		says string
	}{
		{Rule{Name: "x", When: "hx"}, "line 1, column 1: undeclared reference"},
		{Rule{Name: "x", When: "true"}, "does nothing"},
		{Rule{Name: "x", When: "true", Action: "drop"}, "nothing a rule does"},
		{Rule{Name: "x", When: "true", Action: Refuse, Settings: Settings{Lease: Duration(time.Hour)}}, "gets no values"},
		{Rule{Name: "x", When: "true", Pool: ranges(t, "10.77.0.100-10.77.0.120")[0]}, "is no pool of any scope"},
		{Rule{Name: "x", When: "true", Scope: 999, Action: Ignore}, "not there"},
		{Rule{Name: "lent", When: "true", Action: Ignore}, "is there already"},
		{Rule{Name: "x", When: "true", Settings: Settings{Options: map[option.Key]string{option.Std(3): "gate"}}}, "not an IPv4 address"},
	} {
		_, err := p.Draft().PutRule(c.rule)
		refusedWith(t, err, c.says)
	}
	// A pool that a rule sends clients to is kept for them, and stays.
	d = p.Draft()
	if _, err := d.PutRule(Rule{Name: "own-pool", Scope: looms, When: "true", Pool: ranges(t, "10.77.0.100-10.77.0.200")[0]}); err != nil {
		t.Fatal(err)
	}
	v := d.Plan().ScopeNamed("looms")
	if !v.Parts[0].Confined {
		t.Error("the rule's pool is open to all")
	}
	s := v.Scope
	s.Pools = ranges(t, "10.77.0.100-10.77.0.150")
	_, err = d.PutScope(s)
	refusedWith(t, err, "rule own-pool sends clients to pool")
	d = p.Draft()
	if err := d.RemoveScope("looms"); err != nil {
		t.Fatal(err)
	}
	if rules := d.Plan().Rules(); len(rules) != 1 || rules[0].Name != "lent" {
		t.Errorf("after the scope went there are rules %v", rules)
	}
}

func linesText(lines []Line) (out string) {
	for _, l := range lines {
		out += string(l.Kind) + " " + l.Name + " " + l.Text + "\n"
	}
	return out
}

func TestReservationsOfAllKinds(t *testing.T) {
	d := define(t)
	scope := d.Plan().ScopeNamed("looms").ID
	put := func(r Reservation, at string) error {
		r.Scope, r.Address = scope, netip.MustParseAddr(at)
		_, err := d.PutReservation(r)
		return err
	}
	for _, err := range []error{put(Reservation{Name: "hw", Hardware: "\x02\x00\x00\x00\x00\x01"}, "10.77.0.10"),
		put(Reservation{Name: "id", Identifier: "\x00loom"}, "10.77.0.11"), put(Reservation{Name: "port", Circuit: "sw1/0/7"}, "10.77.0.12")} {
		if err != nil {
			t.Fatal(err)
		}
	}
	refusedWith(t, put(Reservation{Name: "none"}, "10.77.0.13"), "needs one of")
	refusedWith(t, put(Reservation{Name: "two", Hardware: "\x02\x00\x00\x00\x00\x09", Circuit: "x"}, "10.77.0.13"), "needs one of")
	refusedWith(t, put(Reservation{Name: "again", Circuit: "sw1/0/7"}, "10.77.0.13"), "circuit sw1/0/7 has reservation port")
	p, _ := d.Finish()
	circuit := func() string { return "sw1/0/7" }
	for want, got := range map[string]*Reservation{
		"id":   p.ReservationFor(p.Scope(scope), "\x02\x00\x00\x00\x00\x01", "\x00loom", circuit),
		"hw":   p.ReservationFor(p.Scope(scope), "\x02\x00\x00\x00\x00\x01", "other", circuit),
		"port": p.ReservationFor(p.Scope(scope), "\x02\x00\x00\x00\x00\x02", "other", circuit),
	} {
		if got == nil || got.Name != want {
			t.Errorf("found %v, want %s", got, want)
		}
	}
	for range 3 { // whatever else changes, they are found
		d := p.Draft()
		if err := d.SetDefaults(Defaults{Note: p.Defaults.Note + "."}); err != nil {
			t.Fatal(err)
		}
		p, _ = d.Finish()
		if p.ReservationFor(p.Scope(scope), "\x02\x00\x00\x00\x00\x01", "", nil) == nil ||
			p.ReservationFor(p.Scope(scope), "", "", circuit) == nil || p.ReservationCount(scope) != 3 {
			t.Fatalf("revision %d has lost reservations", p.Revision)
		}
	}
	if r := p.ReservationFor(p.Scope(scope), "\x02\x00\x00\x00\x00\x02", "", nil); r != nil {
		t.Errorf("a stranger has reservation %s", r.Name)
	}
}

// All kinds of items go to rows and back.
func TestRestoreAllKinds(t *testing.T) {
	d := define(t)
	looms := d.Plan().ScopeNamed("looms").ID
	book := Codebook{Name: "header-like", Place: InMessage, Options: []Own{{Code: 224, Name: "shift-plan", Type: typed(t, "text")}}}
	for _, err := range []error{
		func() error { _, err := d.PutCodebook(book); return err }(),
		func() error { _, err := d.PutList(List{Name: "lent", Entries: []addr.Octets{"\x02\x01"}}); return err }(),
		d.SetDefaults(Defaults{Identity: ByHardware, Settings: Settings{Options: map[option.Key]string{option.Std(224): "http://plan"}}}),
		func() error {
			_, err := d.PutRule(Rule{Name: "r", Scope: looms, When: "hw in lists.lent", Pool: ranges(t, "10.77.0.100-10.77.0.200")[0],
				Settings: Settings{Lease: Duration(time.Hour)}})
			return err
		}(),
		func() error {
			_, err := d.PutTrial(Trial{Name: "t", Scope: looms, Hardware: "\x02\x00\x00\x00\x00\x01", Every: Duration(time.Minute)})
			return err
		}(),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	p, _ := d.Finish()
	back, err := Restore(p.Revision, p.Items())
	if err != nil {
		t.Fatal(err)
	}
	v := back.ScopeNamed("looms")
	if !v.ByHardware || !v.Parts[0].Confined || len(back.RulesOf(looms)) != 1 || back.TrialNamed("t") == nil ||
		v.Values[len(v.Values)-1].Text != "http://plan" {
		t.Errorf("the plan came back as %+v", v)
	}
	for _, bad := range []Trial{{Name: "x", Scope: looms, Hardware: "\x02"}, {Name: "x", Scope: 999, Hardware: "\x02\x00\x00\x00\x00\x01"},
		{Name: "x", Scope: looms, Hardware: "\x02\x00\x00\x00\x00\x01", Every: Duration(time.Second)}} {
		if _, err := back.Draft().PutTrial(bad); err == nil {
			t.Errorf("trial %+v is taken", bad)
		}
	}
}
