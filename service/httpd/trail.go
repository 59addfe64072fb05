package httpd

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/service/failover"
	"yarnpost/service/permit"
	"yarnpost/service/store"
)

// deeds are the operations that do something, in the words of the trail, by their ids.
// Every operation that is no GET is here or among the harmless ones; a test holds that.
var deeds = map[string]string{
	"change-plan": store.ChangedPlan, "revert-revision": store.ChangedPlan, "restore-plan": store.ChangedPlan, "apply-plan-file": store.ChangedPlan,
	"apply-sheet": store.ChangedPlan, "apply-change": store.ChangedPlan,
	"begin-change": "began a change", "drop-change": "dropped a change in preparation", "take-out-edit": "took an edit out of a change in preparation",
	"approve-change": "approved a change in preparation", "set-due": "set when a change is made", "call-off": "called off when a change is made",
	"apply-aside": store.ChangedPlan,
	"end-lease":   "ended a lease", "clear-lease": "cleared an address", "reach-clients": "asked who answers", "wake-clients": "woke clients",
	"nudge-clients": "had clients renew", "end-leases": "ended leases", "bring-leases": "brought leases along", "clear-leases": "cleared addresses", "sweep": "swept",
	"nudge": "had clients renew", "run-trial": "made a trial", "run-preflight": "looked at the host", "forget-relays": "forgot relays",
	"put-target": "set a target of alerts", "remove-target": "removed a target of alerts", "try-target": "tried a target of alerts",
	"silence-alerts": "silenced alerts", "acknowledge-findings": "acknowledged findings", "run-audit": "ran an audit",
	"set-report-schedule": "set when reports are made",
	"add-account":         "made an account", "close-account": "closed an account",
	"add-token": "made a token", "revoke-token": "revoked a token", "change-password": "replaced a password",
	"invite-partner": "invited a partner", "join-pair": "joined a pair", "declare-down": "declared the partner down",
	"pause-server": "paused or unpaused this server", "rebalance-pair": "split free addresses anew", "drill-pair": "began a drill",
	"leave-pair": "left the pair", "edit-pair": "changed the pair", "mend-pair": "told the partner records again",
	"settle-pair": "chose one server's plan", "rehearse": "began a rehearsal", "end-rehearsal": "ended a rehearsal",
}

// harmless are the operations that are asked with a body and change nothing, and what
// signs in and out.
var harmless = []string{"size-pool", "explain", "try-rule", "sign-in", "sign-out"}

// detailMost bounds what of a request and its answer is kept.
const detailMost = 500

// withDeed carries out a request and, if it did something, has that in the trail before
// its answer leaves.
func (s *Server) withDeed(w http.ResponseWriter, r *http.Request, account string, do func(http.ResponseWriter, *http.Request)) {
	id, subject := s.operation(r.Method, r.URL.Path)
	what := deeds[id]
	if what == "" {
		do(w, r)
		return
	}
	asked := &bytes.Buffer{}
	r.Body = struct {
		io.Reader
		io.Closer
	}{io.TeeReader(r.Body, &atMost{asked, changeOctets}), r.Body}
	reply := &held{ResponseWriter: w, captured: captured{header: w.Header(), status: http.StatusOK}}
	var told string
	r = r.WithContext(context.WithValue(r.Context(), toldKey{}, &told))
	do(reply, r)
	var q askedFor
	_ = json.Unmarshal(asked.Bytes(), &q) // none of ours has anything else there
	preview := q.DryRun || r.URL.Query().Get("dryRun") == "true"
	if done, detail, revision := outcome(reply.body.Bytes()); reply.status < 300 && done && !preview {
		if revision != "" {
			subject = "revision " + revision
		}
		if told != "" {
			detail = clipped(told)
		} else if detail == "" {
			detail = wishes(asked.Bytes())
		}
		reason := q.Reason
		if h, err := url.QueryUnescape(r.Header.Get(api.ReasonHeader)); reason == "" && err == nil {
			reason = clipped(h)
		}
		s.Trail.Add(r.Context(), store.Deed{At: s.Clock.Now(), Who: account, Source: source(r.Context()), Deed: what,
			Subject: cmp.Or(subject, q.subject()), Reason: reason, Detail: detail})
	}
	w.WriteHeader(reply.status)
	_, _ = w.Write(reply.body.Bytes()) // the client may be gone
}

type toldKey struct{}

// tell has the trail say what became of something: each part as it was and as it is, the
// parts that are the same left out.
func tell(ctx context.Context, parts ...[3]string) {
	told, ok := ctx.Value(toldKey{}).(*string)
	if !ok {
		return
	}
	var out []string
	for _, p := range parts {
		switch name, before, after := p[0], p[1], p[2]; {
		case before == after:
		case before == "":
			out = append(out, name+" "+after)
		default:
			out = append(out, fmt.Sprintf("%s: %s → %s", name, before, cmp.Or(after, "none")))
		}
	}
	*told = strings.Join(out, ", ")
}

// held is a reply that waits for its deed to be on record.
type held struct {
	http.ResponseWriter
	captured
}

func (h *held) Header() http.Header         { return h.captured.Header() }
func (h *held) WriteHeader(status int)      { h.captured.WriteHeader(status) }
func (h *held) Write(b []byte) (int, error) { return h.captured.Write(b) }
func (h *held) Unwrap() http.ResponseWriter { return h.ResponseWriter }

// atMost keeps the first octets of what is written to it.
type atMost struct {
	to   *bytes.Buffer
	most int
}

func (a *atMost) Write(b []byte) (int, error) {
	a.to.Write(b[:min(len(b), max(a.most-a.to.Len(), 0))])
	return len(b), nil
}

// operation is the id of what a request asks for, and the names in its path.
func (s *Server) operation(method, path string) (id, subject string) {
	parts := strings.Split(path, "/")
	for _, o := range s.operations {
		of := strings.Split(o.path, "/")
		if o.method != method || len(of) != len(parts) {
			continue
		}
		var names []string
		fits := true
		for i, p := range of {
			if strings.HasPrefix(p, "{") {
				names = append(names, parts[i])
			} else if fits = p == parts[i]; !fits {
				break
			}
		}
		if fits {
			return o.id, strings.Join(names, " ")
		}
	}
	return "", ""
}

// route is one operation of the API.
type route struct{ method, path, id string }

// routes are the operations that may do something.
func routes(doc *huma.OpenAPI) (out []route) {
	for path, item := range doc.Paths {
		for method, o := range map[string]*huma.Operation{http.MethodPost: item.Post, http.MethodDelete: item.Delete,
			http.MethodPut:   item.Put,
			http.MethodPatch: item.Patch} {
			if o != nil {
				out = append(out, route{method, path, o.OperationID})
			}
		}
	}
	// What is named in full goes before what a parameter would fit as well.
	slices.SortFunc(out, func(a, b route) int {
		if n := strings.Count(a.path, "{") - strings.Count(b.path, "{"); n != 0 {
			return n
		}
		return strings.Compare(a.path, b.path)
	})
	return out
}

// askedFor is what the trail reads of one: whether it is a preview, what it is about, and
// why. What it has not is not said.
type askedFor struct {
	DryRun                                         bool
	Name, Key, Address, Account, Scope, Kind, Keep string
	Keys, Addresses                                []string
	Reason                                         string
}

func (q *askedFor) subject() string {
	return clipped(cmp.Or(q.Name, q.Key, q.Address, strings.Join(q.Keys, ", "), strings.Join(q.Addresses, ", "), q.Account, q.Scope,
		q.Kind, q.Keep))
}

// untold are the parts of requests that the trail has elsewhere, or must not have.
var untold = []string{"secret", "password", "old", "new", "code", "invitation", "ca", "reason", "dryrun", "confirm", "yes", "name", "key",
	"keys",
	"address", "addresses", "base"}

// wishes says in words what a request asked for, without what must not be told.
func wishes(asked []byte) string {
	var in map[string]any
	_ = json.Unmarshal(asked, &in) // what is no object wishes nothing
	var out []string
	for _, k := range slices.Sorted(maps.Keys(in)) {
		switch v := in[k].(type) {
		case string, float64, bool:
			switch text := fmt.Sprint(v); {
			case text == "" || text == "false" || slices.Contains(untold, strings.ToLower(k)):
			case k == "gone":
				out = append(out, "with one server gone")
			default:
				out = append(out, k+" "+text)
			}
		}
	}
	return clipped(strings.Join(out, ", "))
}

// outcome reads from an answer whether anything was done, what came of it, and which
// revision of the plan.
func outcome(body []byte) (done bool, detail, revision string) {
	var out struct {
		Applied, Done, Confirmed *bool
		Text, URL                string
		Revision                 json.Number
	}
	if err := json.Unmarshal(body, &out); err != nil && len(body) > 0 {
		return true, "", ""
	}
	done = (out.Applied == nil || *out.Applied) && (out.Done == nil || *out.Done)
	if detail = out.Text; detail == "" {
		detail = out.URL
	}
	if out.Applied != nil && out.Revision != "" && out.Revision != "0" {
		revision = out.Revision.String()
	}
	return done, clipped(detail), revision
}

func clipped(text string) string {
	if r := []rune(text); len(r) > detailMost {
		return string(r[:detailMost]) + " …"
	}
	return text
}

func (s *Server) registerTrail(a huma.API) {
	huma.Register(a, op("list-trail", http.MethodGet, "/api/trail",
		"What people did, on both servers of a pair: each change of the plan and all else, latest first",
		"service", permit.See), func(ctx context.Context, in *struct {
		Search string    `query:"search" doc:"Part of who, from where, what was done, to what, why, or what came of it"`
		Before time.Time `query:"before" doc:"Only what was done before this moment: where the page before ended"`
		Since  time.Time `query:"since" doc:"Only what was done since this moment"`
		Limit  int       `query:"limit" default:"50" minimum:"1" maximum:"1000"`
	}) (*body[api.Page[api.Deed]], error) {
		q := store.TrailQuery{Search: in.Search, Before: in.Before, Since: in.Since, Limit: in.Limit}
		list, silent, err := s.trail(ctx, q)
		if err != nil {
			return nil, failure(err)
		}
		out, err := listed(s, list)
		if silent != "" {
			out.Body.Missing = []string{silent}
		}
		if len(list) == in.Limit {
			out.Body.Next = list[len(list)-1].At.Format(time.RFC3339Nano)
		}
		return out, err
	})
}

// trail is what people did here and, in a pair, at the partner; silent names a partner
// that could not be asked.
func (s *Server) trail(ctx context.Context, q store.TrailQuery) (out []api.Deed, silent string, err error) {
	if q.Before.IsZero() {
		q.Before = s.Clock.Now().Add(time.Minute)
	}
	own, err := s.Store.Trail(ctx, q)
	if err != nil {
		return nil, "", err
	}
	theirs, partner, err := s.Pair.TrailOfPartner(ctx, q)
	name := ""
	if partner != "" {
		name = s.Pair.Name()
	}
	if err != nil && !errors.Is(err, failover.ErrAlone) {
		silent = partner
	}
	out = []api.Deed{}
	changes := map[string]int{} // of the plan, by their revisions: which of out they are
	for _, d := range own {
		if d.Deed == store.ChangedPlan {
			changes[d.Subject] = len(out)
		}
		out = append(out, deedOf(name, d))
	}
	for _, d := range theirs {
		if i, both := changes[d.Subject]; both && d.Deed == store.ChangedPlan { // it was made there
			out[i].From, out[i].Server = d.Source, partner
			continue
		}
		out = append(out, deedOf(partner, d))
	}
	slices.SortStableFunc(out, func(a, b api.Deed) int { return b.At.Compare(a.At) })
	return out[:min(len(out), q.Limit)], silent, nil
}

func deedOf(server string, d store.Deed) api.Deed {
	return api.Deed{At: d.At.UTC(), Who: d.Who, From: d.Source, Server: server, Deed: d.Deed, Subject: d.Subject, Reason: d.Reason,
		Detail: d.Detail}
}
