package httpd

import (
	"context"
	"encoding/json"
	"testing"

	"yarnpost/api"
	"yarnpost/core/plan"
)

// Whatever edits somebody sends, nothing panics; they are refused or they make a
// plan that can be stored and restored.
func FuzzEdits(f *testing.F) {
	for _, seed := range []string{
		`{"op":"add","kind":"scope","name":"looms","scope":{"subnet":"10.77.0.0/24","pools":["all"],"options":{"router":"10.77.0.1","header/boot-file":"x"},"link":"far"}}`,
		`{"op":"add","kind":"codebook","name":"ap","codebook":{"place":"43","classes":["ap*"],"put":[{"code":241,"name":"controller","type":"address list"}]}}`,
		`{"op":"add","kind":"rule","name":"r","rule":{"when":"hw in lists.lent","lease":"1h","pool":"10.77.0.1-10.77.0.9"}}`,
		`{"op":"add","kind":"list","name":"lent","list":{"put":["02:00"]}}`,
		`{"op":"edit","kind":"defaults","defaults":{"lease":"8h","identity":"hardware","options":{"3":"none"}}}`,
		`{"op":"add","kind":"reservation","name":"r","reservation":{"circuit":"x","address":"10.77.0.9"}}`,
		`{"op":"edit","kind":"link","name":"far","link":{"relays":["10.0.0.1"],"listening":true}}`,
		`{"op":"remove","kind":"scope","name":"looms"}`,
	} {
		f.Add([]byte("[" + seed + "]"))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		var edits []api.Edit
		if json.Unmarshal(b, &edits) != nil || len(edits) > 20 {
			return
		}
		d := plan.New().Draft()
		if _, err := d.PutLink(plan.Link{Name: "far"}); err != nil {
			t.Fatal(err)
		}
		e := &editor{Server: &Server{}, ctx: withoutResolver()}
		for _, x := range edits {
			// What asks the running service is left out: it needs one.
			if x.Scope != nil && (x.Op == "add" && x.Scope.Link == nil || x.Scope.Link != nil && *x.Scope.Link == "") || x.Reservation != nil && x.Reservation.Address == nil {
				return
			}
			if e.apply(d, x) != nil {
				return
			}
		}
		p, _ := d.Finish()
		items := plan.Items{Defaults: p.Defaults}
		for _, c := range p.Codebooks() {
			items.Codebooks = append(items.Codebooks, *c)
		}
		for _, l := range p.Lists() {
			items.Lists = append(items.Lists, *l)
		}
		for _, l := range p.Links() {
			items.Links = append(items.Links, *l)
		}
		for _, v := range p.Scopes() {
			items.Scopes = append(items.Scopes, v.Scope)
		}
		for _, r := range p.Rules() {
			items.Rules = append(items.Rules, r.Rule)
		}
		for _, r := range p.Reservations(0) {
			items.Reservations = append(items.Reservations, *r)
		}
		raw, err := json.Marshal(items)
		if err != nil {
			t.Fatal(err)
		}
		var back plan.Items
		if err := json.Unmarshal(raw, &back); err != nil {
			t.Fatalf("%s: %v", raw, err)
		}
		if _, err := plan.Restore(p.Revision, back); err != nil {
			t.Fatalf("%s: %v", raw, err)
		}
	})
}

// withoutResolver is a context in which no name is looked up: it is over.
func withoutResolver() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	return ctx
}
