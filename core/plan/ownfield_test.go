package plan

import (
	"maps"
	"net/netip"
	"strings"
	"testing"
)

// A field is defined once; items have values that fit it, kept in one form; what would make a value
// wrong is refused, and a field that goes takes its values along.
func TestOwnFields(t *testing.T) {
	d := New().Draft()
	good := func(_ ID, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	good(d.PutOwnField(OwnField{Name: "hall", Type: FieldChoice, Choices: []string{"north", "south"}, On: []Kind{KindScope, KindLink}}))
	for name, of := range map[string]FieldType{"owner": FieldText, "seats": FieldNumber, "until": FieldDate, "switch": FieldAddress,
		"ticket": FieldLink} {
		good(d.PutOwnField(OwnField{Name: name, Type: of}))
	}
	link, err := d.PutLink(Link{Name: "floor", Fields: Fields{"HALL": "NORTH"}})
	good(link, err)
	scope := Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Link: link}
	for _, c := range []struct {
		name, value, kept, says string
	}{
		{"hall", "South", "south", ""}, {"Hall", "west", "", "one of north, south"}, {"owner", " weavers ", "weavers", ""},
		{"owner", strings.Repeat("x", 1001), "", "1000 octets"}, {"seats", "12.5", "12.5", ""}, {"seats", "many", "", "not a number"},
		{"seats", "Inf", "", "not a number"}, {"until", "2026-12-24", "2026-12-24", ""}, {"until", "24.12.2026", "", "a date like"},
		{"switch", "2001:DB8::1", "2001:db8::1", ""}, {"switch", "sw9", "", "not an address"},
		{"ticket", "https://tickets.example/4711", "https://tickets.example/4711", ""}, {"ticket", "javascript:alert(1)", "", "a link like"},
		{"colour", "red", "", `no field is called "colour"`},
	} {
		s := scope
		s.Fields = Fields{c.name: c.value}
		given := maps.Clone(s.Fields)
		id, err := d.PutScope(s)
		if c.says != "" {
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s=%q: %v, want %q", c.name, c.value, err, c.says)
			}
			continue
		}
		good(id, err)
		scope.ID = id
		if got := d.Plan().ScopeNamed("looms").Fields; len(got) != 1 || got[strings.ToLower(c.name)] != c.kept || !maps.Equal(given, s.Fields) {
			t.Errorf("%s=%q is kept as %v", c.name, c.value, got)
		}
	}
	if _, err := d.PutList(List{Name: "lent", Fields: Fields{"hall": "north"}}); err == nil ||
		!strings.Contains(err.Error(), "is not for a list") {
		t.Errorf("a field on what it is not for: %v", err)
	}
	scope.Fields = Fields{"hall": "south", "owner": "weavers"}
	good(d.PutScope(scope))
	hall := *d.Plan().OwnFieldNamed("hall")
	for says, change := range map[string]func(*OwnField){"one of north": func(f *OwnField) { f.Choices = []string{"north"} },
		"keeps its name": func(f *OwnField) { f.Name = "building" }, "has a value of it": func(f *OwnField) { f.On = []Kind{KindLink} },
		"and not \"colour\"": func(f *OwnField) { f.Type = "colour" }, "and with no other": func(f *OwnField) { f.Type = FieldText }} {
		f := hall
		change(&f)
		if _, err := d.PutOwnField(f); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, want %q", err, says)
		}
	}
	if used := d.Plan().FieldsUsed(); used["hall"] != 2 || used["owner"] != 1 || used["seats"] != 0 {
		t.Errorf("%v", used)
	}
	before, _ := d.Finish()
	ownFieldGoes(t, before)
}

// ownFieldGoes takes a field away, and brings it back.
func ownFieldGoes(t *testing.T, before *Plan) {
	t.Helper()
	d := before.Draft()
	if err := d.RemoveOwnField("Hall"); err != nil {
		t.Fatal(err)
	}
	after, items := d.Finish()
	if len(items) != 3 || len(after.ScopeNamed("looms").Fields) != 1 || len(after.LinkNamed("floor").Fields) != 0 ||
		len(before.ScopeNamed("looms").Fields) != 2 {
		t.Errorf("%+v", items)
	}
	// What is undone comes back whole.
	d = after.Draft()
	if err := d.Revert(items); err != nil {
		t.Fatal(err)
	}
	if back, _ := d.Finish(); len(Between(before, back)) != 0 {
		t.Errorf("%+v", Between(before, back))
	}
	if restored, err := Restore(7, before.Items()); err != nil || len(Between(before, restored)) != 0 {
		t.Errorf("%v", err)
	}
}
