package change

import (
	"testing"

	"yarnpost/api"
	"yarnpost/core/plan"
	"yarnpost/edit"
)

// What asks for a second person's approval: whatever lies in what does, as the plan was before.
func TestNeedsApproval(t *testing.T) {
	text := func(s string) *string { return &s }
	on, off := true, false
	make := func(p *plan.Plan, edits ...api.Edit) (*plan.Plan, []plan.Change) {
		t.Helper()
		d := p.Draft()
		if faults := edit.Together(edit.Nowhere, d, edits, false); len(faults) > 0 {
			t.Fatal(faults[0].Err)
		}
		return d.Finish()
	}
	scope := func(op, name string, e *api.ScopeEdit) api.Edit {
		return api.Edit{Op: op, Kind: "scope", Name: name, Scope: e}
	}
	start, _ := make(plan.New(),
		api.Edit{Op: "add", Kind: "supernet", Name: "works", Supernet: &api.SupernetEdit{Prefix: text("10.77.0.0/16"), Approval: &on}},
		scope("add", "looms", &api.ScopeEdit{Subnet: text("10.77.8.0/24")}),
		scope("add", "vault", &api.ScopeEdit{Subnet: text("10.78.8.0/24"), Approval: &on}),
		scope("add", "yard", &api.ScopeEdit{Subnet: text("10.79.8.0/24")}),
		api.Edit{Op: "add", Kind: "reservation", Name: "crane", Reservation: &api.ReservationEdit{Hardware: text("02:00:00:00:00:17"),
			Address: text("10.79.8.5")}})
	for name, c := range map[string]struct {
		edit api.Edit
		of   string
	}{
		"a scope that asks":           {scope("edit", "vault", &api.ScopeEdit{Note: text("x")}), "scope vault"},
		"asking no more":              {scope("edit", "vault", &api.ScopeEdit{Approval: &off}), "scope vault"},
		"one that goes":               {scope("remove", "vault", nil), "scope vault"},
		"one in a supernet that asks": {scope("edit", "looms", &api.ScopeEdit{Note: text("x")}), "supernet works"},
		"a new one there":             {scope("add", "dyes", &api.ScopeEdit{Subnet: text("10.77.9.0/24")}), "supernet works"},
		"one that moves there":        {scope("edit", "yard", &api.ScopeEdit{Subnet: text("10.77.9.0/24")}), "supernet works"},
		"the supernet": {api.Edit{Op: "edit", Kind: "supernet", Name: "works",
			Supernet: &api.SupernetEdit{Approval: &off}}, "supernet works"},
		"a reservation that moves in": {api.Edit{Op: "edit", Kind: "reservation", Name: "crane",
			Reservation: &api.ReservationEdit{Address: text("10.78.8.5")}}, "scope vault"},
		"a rule of it": {api.Edit{Op: "add", Kind: "rule", Name: "r", Rule: &api.RuleEdit{Scope: text("vault"),
			When: text("true"), Action: text("ignore")}}, "scope vault"},
		"to ask from now on": {scope("edit", "yard", &api.ScopeEdit{Approval: &on}), ""},
		"a supernet that asks anew": {api.Edit{Op: "add", Kind: "supernet", Name: "yards",
			Supernet: &api.SupernetEdit{Prefix: text("10.79.0.0/16"), Approval: &on}}, ""},
		"one that does not ask":        {scope("edit", "yard", &api.ScopeEdit{Note: text("x")}), ""},
		"a scope beside what does ask": {scope("add", "attic", &api.ScopeEdit{Subnet: text("10.80.9.0/24")}), ""},
	} {
		edits := []api.Edit{c.edit}
		if name == "one that moves there" { // without what is reserved in it
			edits = append(edits, api.Edit{Op: "remove", Kind: "reservation", Name: "crane"})
		}
		_, items := make(start, edits...)
		if got := needsApproval(start, items); got != c.of {
			t.Errorf("%s: %q asks, not %q", name, got, c.of)
		}
	}
}
