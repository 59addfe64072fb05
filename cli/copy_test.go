package cli

import (
	"reflect"
	"slices"
	"testing"

	"yarnpost/api"
)

// ofItsOwn are fields of a scope that a copy does not have from the other one: it gets a name,
// a link, and is held until it is said to serve.
var ofItsOwn = []string{"RunDown", "AddExclusions", "Name", "Link", "Mode", "DrainUntil", "RemoveExclusions",
	"PrefixPools"}

// A copy of a scope has everything that can be set on one: a field that is forgotten here
// fails.
func TestCopiesAreWhole(t *testing.T) {
	of := api.Scope{Name: "looms", Subnet: "10.77.0.0/24", Pools: []string{"10.77.0.10-10.77.0.99"}, Authoritative: true,
		IdentitySet: "hardware",
		Bootp:       "reserved", RapidCommit: true, OfferDelay: "2s", Probe: true, PerCircuit: 3, NewPerMinute: 50, LeaseSet: "2h",
		ValidSet: "3h",
		Note:     "east hall", Approval: true, Fields: map[string]string{"owner": "weavers"},
		Exclusions: []api.Exclusion{{Range: "10.77.0.20-10.77.0.21", User: "printer"}}, Thresholds: api.Thresholds{Used: 80, Headroom: 5,
			Days: 30},
		Options: []api.Setting{{Code: 3, Name: "router", Value: "10.77.0.1"}, {Code: 15, Name: "domain-name", Value: "mill.example"}}}
	e, err := copied(of, "10.78.0.0/24")
	if err != nil {
		t.Fatal(err)
	}
	v := reflect.ValueOf(*e)
	for i := range v.NumField() {
		name := v.Type().Field(i).Name
		if slices.Contains(ofItsOwn, name) {
			continue
		}
		f := v.Field(i)
		if f.IsZero() || f.Kind() == reflect.Pointer && f.Elem().IsZero() {
			t.Errorf("%s is not copied", name)
		}
	}
	if (*e.Pools)[0] != "10.78.0.10-10.78.0.99" || (*e.Exclusions)[0].Range != "10.78.0.20-10.78.0.21" ||
		e.Options["router"] != "10.78.0.1" ||
		*e.WarnUsed != 80 || *e.WarnHeadroom != 5 || *e.WarnDays != 30 {
		t.Errorf("%+v", e)
	}
}
