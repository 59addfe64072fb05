package audit

import (
	"encoding/json"
	"reflect"
	"testing"
)

// A finding comes back from its JSON as it was; one of another version stands for itself.
func TestFindingsAsJSON(t *testing.T) {
	f := Finding{Code: CodeOf("pool-out"), Severity: Trouble, Subject: "scope looms", Scope: "looms", Text: "all are used",
		Mend:    "Widen it.",
		Command: "yarnpost capacity show looms", Count: 3, Examples: []string{"10.40.8.17"}}
	b, err := json.Marshal(f)
	if err != nil {
		t.Fatal(err)
	}
	var got Finding
	if err := json.Unmarshal(b, &got); err != nil || !reflect.DeepEqual(got, f) {
		t.Errorf("%+v, %v", got, err)
	}
	later := `{"code": "of-tomorrow", "severity": "note", "subject": "scope looms", "text": "x"}`
	if err := json.Unmarshal([]byte(later), &got); err != nil || got.ID != "of-tomorrow" || Known(got.ID) ||
		got.Key() != "of-tomorrow scope looms" {
		t.Errorf("%+v, %v", got, err)
	}
	for _, bad := range []string{`{"code": "pool-out", "severity": "dreadful"}`, `[]`, `{"code": 7}`} {
		if json.Unmarshal([]byte(bad), &got) == nil {
			t.Errorf("%s is read as %+v", bad, got)
		}
	}
}
