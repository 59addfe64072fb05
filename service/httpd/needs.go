package httpd

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// need is what an operation asks of its caller. It stands in the OpenAPI document
// as x-needs, where tests read it.
type need string

// The needs. Whoever is signed in with a password of their own may do all; roles
// will tell them apart.
const (
	needNothing need = "nothing"  // not even to be signed in
	needSelf    need = "self"     // a session or a token, even with the one-time password
	needSee     need = "see"      // to look at plan, leases and what happens
	needPlan    need = "plan"     // to change the plan
	needClients need = "clients"  // to act on clients and their leases
	needTrials  need = "trials"   // to make exchanges and probes on the network
	needAccess  need = "access"   // to give access to others
	needPair    need = "pair"     // to act on the pair
	needAudit   need = "audit"    // to make audits and acknowledge findings
	needAlerts  need = "alerts"   // to say where alerts go
	needPlay    need = "rehearse" // to play the past against a changed plan
)

const needsKey = "x-needs"

// op describes an operation of the API.
func op(id, method, path, summary, tag string, needs need) huma.Operation {
	o := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{tag},
		Extensions: map[string]any{needsKey: needs}}
	if needs == needNothing {
		o.Security = []map[string][]string{}
	}
	return o
}

// lenient are the operations that need less than an account with a password of its
// own, by method and path; these have no parameters in their paths.
func lenient(doc *huma.OpenAPI) map[string]need {
	out := map[string]need{}
	for path, item := range doc.Paths {
		for method, o := range map[string]*huma.Operation{http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodDelete: item.Delete} {
			if o == nil {
				continue
			}
			if n, _ := o.Extensions[needsKey].(need); n == needNothing || n == needSelf {
				out[method+" "+path] = n
			}
		}
	}
	return out
}
