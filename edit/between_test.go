package edit

import (
	"testing"

	"yarnpost/api"
	"yarnpost/core/plan"
)

// What turns one plan into another, made on a third, changes what differed and nothing else.
func TestBetween(t *testing.T) {
	text := func(s string) *string { return &s }
	start := func(t *testing.T) *plan.Plan {
		d := plan.New().Draft()
		edits := []api.Edit{
			{Op: Add, Kind: "field", Name: "hall", Field: &api.FieldEdit{Type: text("text")}},
			{Op: Add, Kind: "scope", Name: "looms", Scope: &api.ScopeEdit{Subnet: text("10.77.8.0/24"),
				Pools: &[]string{"10.77.8.10-10.77.8.99"},
				Lease: text("8h"), Options: map[string]string{"router": "10.77.8.1", "domain-name": "mill.example"},
				Exclusions: &[]api.Exclusion{{Range: "10.77.8.20", User: "plotter"}}, Fields: map[string]string{"hall": "Hall 1"}}},
			{Op: Add, Kind: "scope", Name: "dyes", Scope: &api.ScopeEdit{Subnet: text("10.77.9.0/24")}},
			{Op: Add, Kind: "reservation", Name: "crane",
				Reservation: &api.ReservationEdit{Hardware: text("02:00:00:00:00:17"), Address: text("10.77.8.5")}},
		}
		if faults := Together(Nowhere, d, edits, false); len(faults) > 0 {
			t.Fatal(faults[0].Err)
		}
		p, _ := d.Finish()
		return p
	}
	apply := func(t *testing.T, p *plan.Plan, edits ...api.Edit) (*plan.Plan, []plan.Change) {
		t.Helper()
		d := p.Draft()
		if faults := Together(Nowhere, d, edits, false); len(faults) > 0 {
			t.Fatal(faults[0].Err)
		}
		return d.Finish()
	}
	scope := func(name string, e *api.ScopeEdit) api.Edit {
		return api.Edit{Op: Edit, Kind: "scope", Name: name, Scope: e}
	}
	on := true
	for name, c := range map[string][]api.Edit{
		"a setting":         {scope("looms", &api.ScopeEdit{Lease: text("4h")})},
		"inherited again":   {scope("looms", &api.ScopeEdit{Lease: text("")})},
		"an option more":    {scope("looms", &api.ScopeEdit{Options: map[string]string{"domain-server": "10.77.8.2"}})},
		"an option less":    {scope("looms", &api.ScopeEdit{Options: map[string]string{"router": ""}})},
		"no options at all": {scope("looms", &api.ScopeEdit{Options: map[string]string{"router": "", "domain-name": ""}})},
		"no field":          {scope("looms", &api.ScopeEdit{Fields: map[string]string{"hall": ""}})},
		"no pools":          {scope("looms", &api.ScopeEdit{Pools: &[]string{}})},
		"no exclusions":     {scope("looms", &api.ScopeEdit{Exclusions: &[]api.Exclusion{}})},
		"a name":            {scope("looms", &api.ScopeEdit{Name: text("weaving")})},
		"a switch":          {scope("looms", &api.ScopeEdit{Approval: &on, RunDown: text("2026-12-05T02:00:00Z")})},
		"something gone":    {{Op: Remove, Kind: "reservation", Name: "crane"}},
		"a scope gone":      {{Op: Remove, Kind: "scope", Name: "looms"}},
		"a scope and what is in": {{Op: Add, Kind: "scope", Name: "inks", Scope: &api.ScopeEdit{Subnet: text("10.77.10.0/24")}},
			{Op: Add, Kind: "reservation", Name: "press",
				Reservation: &api.ReservationEdit{Hardware: text("02:00:00:00:00:18"), Address: text("10.77.10.5")}}},
		"the defaults":        {{Op: Edit, Kind: "defaults", Defaults: &api.DefaultsEdit{Lease: text("2h")}}},
		"a reservation moved": {{Op: Edit, Kind: "reservation", Name: "crane", Reservation: &api.ReservationEdit{Address: text("10.77.9.5")}}},
	} {
		t.Run(name, func(t *testing.T) {
			old := start(t)
			next, changes := apply(t, old, c...)
			edits, err := Between(old, next, changes)
			if err != nil {
				t.Fatal(err)
			}
			made, _ := apply(t, old, edits...)
			if differ := plan.Between(next, made); len(differ) != 0 {
				t.Fatalf("made from %+v, it differs: %v", edits, differ)
			}
			if name == "a scope gone" {
				return
			}
			// A colleague changed a note meanwhile.
			theirs, _ := apply(t, old, scope("looms", &api.ScopeEdit{Note: text("mara's")}))
			both, _ := apply(t, theirs, edits...)
			v := both.ScopeNamed("looms")
			if v == nil {
				v = both.ScopeNamed("weaving")
			}
			if v.Note != "mara's" {
				t.Errorf("their note is %q", v.Note)
			}
		})
	}
}
