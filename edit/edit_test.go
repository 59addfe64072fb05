package edit

import (
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"

	"yarnpost/api"
	"yarnpost/core/plan"
)

import ()

func TestEdits(t *testing.T) {
	d := plan.New().Draft()
	link := plan.Link{Name: "far", Relays: []netip.Addr{netip.MustParseAddr("10.77.0.2")}}
	if _, err := d.PutLink(link); err != nil {
		t.Fatal(err)
	}
	text := func(v string) *string { return &v }
	make := func(e api.Edit) error { return Apply(Nowhere, d, e) }
	for _, c := range []struct {
		edit api.Edit
		says string
	}{
		{api.Edit{Op: "edit", Kind: "scope", Name: "looms", Scope: &api.ScopeEdit{}}, `no scope is called "looms"`},
		{api.Edit{Op: "add", Kind: "scope", Name: "looms"}, "not complete"},
		{api.Edit{Op: "add", Kind: "scope", Name: "looms", Scope: &api.ScopeEdit{Subnet: text("10.77.0.0"), Link: text("far")}}, "no mask"},
		{api.Edit{Op: "add", Kind: "scope", Name: "looms", Scope: &api.ScopeEdit{Subnet: text("10.77.0.0/24"), Link: text("near")}},
			`no link is called "near"`},
		{api.Edit{Op: "add", Kind: "scope", Name: "looms",
			Scope: &api.ScopeEdit{Subnet: text("10.77.0.0/24"), Link: text("far"), Pools: &[]string{"10.77.0.9-10.77.0.5"}}}, "runs backwards"},
		{api.Edit{Op: "add", Kind: "scope", Name: "looms",
			Scope: &api.ScopeEdit{Subnet: text("10.77.0.0/24"), Link: text("far"), Lease: text("soon")}}, "not a duration"},
		{api.Edit{Op: "edit", Kind: "link", Name: "far", Link: &api.LinkEdit{Relays: &[]string{"gate"}}}, "not an IP address"},
		{api.Edit{Op: "edit", Kind: "defaults", Defaults: &api.DefaultsEdit{Options: map[string]string{"gateway": "10.0.0.1"}}}, `"gateway"`},
		{api.Edit{Op: "edit", Kind: "reservation", Name: "r", Reservation: &api.ReservationEdit{}}, `no reservation is called "r"`},
		{api.Edit{Op: "remove", Kind: "link", Name: "near"}, `no link is called "near"`},
	} {
		if err := make(c.edit); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v, want %q", c.edit, err, c.says)
		}
	}
	scope := &api.ScopeEdit{Subnet: text("10.77.0.0 255.255.255.0"), Link: text("far"), Pools: &[]string{"all"},
		AddExclusions: []api.Exclusion{{Range: "10.77.0.9", User: "plotter"}},
		Options:       map[string]string{"domain-name-server": "10.77.0.53", "3": "10.77.0.1"}, Lease: text("2h")}
	if err := make(api.Edit{Op: "add", Kind: "scope", Name: "looms", Scope: scope}); err != nil {
		t.Fatal(err)
	}
	if err := make(api.Edit{Op: "add", Kind: "scope", Name: "looms", Scope: &api.ScopeEdit{Subnet: text("10.77.0.0/24")}}); err == nil ||
		!strings.Contains(err.Error(), "there already and differs") {
		t.Errorf("adding it again, otherwise: %v", err)
	}
	if err := make(api.Edit{Op: "edit", Kind: "scope", Name: "looms",
		Scope: &api.ScopeEdit{RemoveExclusions: []string{"10.77.0.8"}}}); err == nil {
		t.Error("an exclusion that is not there was removed")
	}
	if err := make(api.Edit{Op: "edit", Kind: "scope", Name: "looms",
		Scope: &api.ScopeEdit{RemoveExclusions: []string{"10.77.0.9"}, Options: map[string]string{"6": ""}, Lease: text("")}}); err != nil {
		t.Fatal(err)
	}
	v := d.Plan().ScopeNamed("looms")
	if v.Size != 252 || len(v.Exclusions) != 0 || len(v.Options) != 1 || v.Lease != plan.DefaultLease || v.Mode != plan.Held {
		t.Errorf("edited to %+v", v)
	}
	if err := make(api.Edit{Op: "add", Kind: "reservation", Name: "r",
		Reservation: &api.ReservationEdit{Hardware: text("0200.0000.0017"), Address: text("10.77.0.17")}}); err != nil {
		t.Errorf("the scope is not found by the address: %v", err)
	}
	if err := make(api.Edit{Op: "add", Kind: "reservation", Name: "q",
		Reservation: &api.ReservationEdit{Hardware: text("0200.0000.0018"), Address: text("10.9.0.17")}}); err == nil ||
		!strings.Contains(err.Error(), "no scope holds 10.9.0.17") {
		t.Errorf("an address nobody's: %v", err)
	}
}

// Each kind of item can be edited, its edit has a field in the API, and the API names it.
func TestEachKindIsEdited(t *testing.T) {
	of := reflect.TypeFor[api.Edit]()
	kinds, _ := of.FieldByName("Kind")
	named := strings.Split(kinds.Tag.Get("enum"), ",")
	if len(named) != len(plan.Kinds()) {
		t.Errorf("the API names %d kinds of %d", len(named), len(plan.Kinds()))
	}
	for _, k := range plan.Kinds() {
		if !slices.Contains(named, string(k)) {
			t.Errorf("%s is not among the kinds of api.Edit", k)
		}
		if editors[k].make == nil || editors[k].say == nil {
			t.Errorf("%s has no row in editors", k)
			continue
		}
		f, there := of.FieldByNameFunc(func(name string) bool {
			f, _ := of.FieldByName(name)
			return f.Tag.Get("json") == string(k)+",omitempty"
		})
		if !there {
			t.Errorf("api.Edit has no field %q", k)
			continue
		}
		// An edit that says nothing is not complete; one that says something is taken for it.
		e := api.Edit{Op: "edit", Kind: string(k), Name: "nobody"}
		complete := func() bool {
			d := plan.New().Draft()
			return editors[k].make(&pass{around: Nowhere, draft: d, plan: d.Plan()}, e, nil)
		}
		if complete() {
			t.Errorf("an empty edit of a %s is taken to be complete", k)
		}
		reflect.ValueOf(&e).Elem().FieldByIndex(f.Index).Set(reflect.New(f.Type.Elem()))
		if !complete() {
			t.Errorf("the edit of a %s is not taken", k)
		}
	}
}
