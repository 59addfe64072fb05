package httpd

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/plan"
	"yarnpost/service/observe"
)

// This file lets those who may see some scopes alone see those alone. What an operation
// shows is said in one table; what stands in none shows everything, and is refused to them.

// shows says what an operation shows.
type shows uint8

const (
	everything shows = iota // what is of no scope, or of many
	noScope                 // nothing that is of any
	oneScope                // the scope, or the address, that its path names
	someScopes              // items of scopes, each of which is asked for
)

// shown says of operations, by their ids, what they show.
var shown = map[string]shows{
	"sign-in": noScope, "show-session": noScope, "sign-out": noScope, "change-password": noScope,
	"list-codes": noScope, "list-vendors": noScope, "list-variables": noScope, "list-codes-of-findings": noScope,
	"plan-file-schema": noScope, "size-pool": noScope,

	"show-scope": oneScope, "show-map": oneScope, "show-capacity": oneScope, "show-users": oneScope, "show-given": oneScope,

	"list-scopes": someScopes, "list-reservations": someScopes, "list-rules": someScopes, "list-trials": someScopes,
	"list-leases": someScopes, "show-lease": someScopes, "export-leases": someScopes, "search-history": someScopes,
	"list-unserved": someScopes, "list-exchanges": someScopes, "export-exchanges": someScopes, "list-stale": someScopes,
	"list-capacity": someScopes, "show-audit": someScopes, "past-findings": someScopes, "list-alerts": someScopes,
	"listen": someScopes,
}

// sight is what a caller may see. None, a nil one, is everything.
type sight struct {
	plan *plan.Plan
	may  func(plan.ID) bool
}

// sightOf is what whoever a request acts for may see.
func (s *Server) sightOf(ctx context.Context) *sight {
	account := who(ctx).Name
	if s.Permits.SeesAll(account) {
		return nil
	}
	p := s.Engine.Plan()
	return &sight{p, func(id plan.ID) bool { return s.Permits.MaySee(account, id, p) }}
}

func (g *sight) view(v *plan.View) bool { return g == nil || v != nil && g.may(v.ID) }

// scope reports whether what is of a scope, by its name, may be seen. What is of none may not.
func (g *sight) scope(name string) bool { return g == nil || g.view(g.plan.ScopeNamed(name)) }

// at reports the same of what is of an address, or of a prefix.
func (g *sight) at(text string) bool {
	if g == nil {
		return true
	}
	k, err := addr.ParseKey(text)
	return err == nil && g.view(g.plan.ScopeAt(k.Addr()))
}

// exchange reports the same of a message, with all that was decided about it.
func (g *sight) exchange(x *observe.Exchange) bool {
	if g == nil {
		return true
	}
	for _, r := range x.Results {
		if !g.scope(r.Scope) {
			return false
		}
	}
	return len(x.Results) > 0
}

// item reports the same of an item of an answer, which says itself what it is of.
func (g *sight) item(item any) bool {
	switch v := item.(type) {
	case api.Scope:
		return g.scope(v.Name)
	case api.Reservation:
		return g.scope(v.Scope)
	case api.Rule:
		return g.scope(v.Scope)
	case api.Trial:
		return g.scope(v.Scope)
	case api.Lease:
		return g.at(v.Address)
	case api.Beside:
		return g.at(v.Address)
	case api.LeaseEvent:
		return g.at(v.Address)
	case api.StaleLease:
		return g.at(v.Lease.Address)
	case api.Unserved:
		return g.scope(v.Scope)
	case api.Exchange:
		return g.scope(v.Scope)
	case api.Capacity:
		return (v.Kind == "scope" || v.Kind == "pool") && g.scope(v.Name)
	case api.Finding:
		return g.scope(v.Scope)
	case api.Alert:
		return g.scope(v.Scope)
	}
	return false
}

// seenOf keeps of a list what may be seen.
func seenOf[T any](g *sight, all []T) []T {
	out := []T{}
	for _, x := range all {
		if g.item(x) {
			out = append(out, x)
		}
	}
	return out
}

// seenPage does the same with a page of one.
func seenPage[T any](g *sight, p api.Page[T]) api.Page[T] {
	kept := seenOf(g, p.Items)
	p.Total -= len(p.Items) - len(kept)
	p.Items = kept
	return p
}

// narrow is of an answer what may be seen, if it is of a kind whose items say what they are of.
func (g *sight) narrow(answer any) (any, bool) {
	switch v := answer.(type) {
	case api.Page[api.Scope]:
		return seenPage(g, v), true
	case api.Page[api.Reservation]:
		return seenPage(g, v), true
	case api.Page[api.Rule]:
		return seenPage(g, v), true
	case api.Page[api.Trial]:
		return seenPage(g, v), true
	case api.Page[api.Lease]:
		return seenPage(g, v), true
	case api.Page[api.LeaseEvent]:
		return seenPage(g, v), true
	case api.Page[api.Unserved]:
		return seenPage(g, v), true
	case api.Page[api.Exchange]:
		return seenPage(g, v), true
	case api.Page[api.Capacity]:
		return seenPage(g, v), true
	case api.Page[api.Finding]:
		return seenPage(g, v), true
	case api.Page[api.Alert]:
		return seenPage(g, v), true
	case api.StaleLeases:
		v.Page, v.CanNudge = seenPage(g, v.Page), 0
		for _, l := range v.Items {
			if l.Lease.CanNudge {
				v.CanNudge++
			}
		}
		v.Active = len(v.Items)
		return v, true
	case api.AuditReport:
		v.Findings, v.Gone = seenOf(g, v.Findings), seenOf(g, v.Gone)
		v.Leases, v.Troubles, v.Warnings, v.Notes, v.Known, v.Fresh = 0, 0, 0, 0, 0, 0
		return v, true
	case api.Lease:
		v.Beside = seenOf(g, v.Beside)
		return v, g.item(v)
	}
	return nil, false
}

// narrowed is the last look at each answer before it goes out.
func (s *Server) narrowed(ctx huma.Context, status string, answer any) (any, error) {
	if shown[ctx.Operation().OperationID] != someScopes || status != "200" {
		return answer, nil
	}
	g := s.sightOf(ctx.Context())
	if g == nil {
		return answer, nil
	}
	out, ok := g.narrow(answer)
	if !ok {
		return nil, huma.Error403Forbidden("this is of no scope that you may see")
	}
	return out, nil
}

// mayShow refuses an operation that shows more than its caller may see, before it does
// anything. It returns a status and why, or 0.
func (s *Server) mayShow(ctx huma.Context) (status int, why string) {
	what := shown[ctx.Operation().OperationID]
	if what == noScope {
		return 0, ""
	}
	g := s.sightOf(ctx.Context())
	switch {
	case g == nil:
	case what == everything:
		return http.StatusForbidden, "this is of more than the scopes that " + who(ctx.Context()).Name +
			" may see; somebody who may see everything can do it, or say more"
	case ctx.Param("address") != "" && !g.at(ctx.Param("address")):
		return http.StatusNotFound, ctx.Param("address") + " has no lease on record"
	case ctx.Param("name") != "" && (!g.scope(ctx.Param("name")) || ctx.Query("of") == "supernet"):
		return http.StatusNotFound, plan.Missing("scope", ctx.Param("name")).Error()
	}
	return 0, ""
}
