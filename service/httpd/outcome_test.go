package httpd

import (
	"encoding/json"
	"testing"

	"yarnpost/api"
)

// What the trail reads from an answer, whatever else the answer has.
func TestOutcome(t *testing.T) {
	for _, c := range []struct {
		answer           any
		done             bool
		detail, revision string
	}{
		{api.ChangeResult{Applied: true, Revision: 7, Lines: 3, Diff: []api.DiffLine{{Text: "added"}}}, true, "", "7"},
		{api.ChangeResult{Revision: 7, Lines: 3}, false, "", "7"},
		{api.ActedOn{Applied: true, Text: "2 clients: 2 ended"}, true, "2 clients: 2 ended", ""},
		{api.LeasesBrought{Text: "none"}, false, "none", ""},
		{api.PairInvitation{}, true, "", ""},
	} {
		b, err := json.Marshal(c.answer)
		if err != nil {
			t.Fatal(err)
		}
		if done, detail, revision := outcome(b); done != c.done || detail != c.detail || revision != c.revision {
			t.Errorf("%s: %v, %q, revision %q", b, done, detail, revision)
		}
	}
}
