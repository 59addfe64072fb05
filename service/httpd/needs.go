package httpd

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/service/permit"
)

const needsKey = "x-needs"

// op describes an operation of the API.
func op(id, method, path, summary, tag string, needs permit.Need) huma.Operation {
	o := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{tag},
		Extensions: map[string]any{needsKey: needs}}
	if needs == permit.Nothing {
		o.Security = []map[string][]string{}
	}
	return o
}

// permitted has every operation asked for below the doors: what a caller of the API does, and what
// the partner passes on for somebody, is asked of the same permits.
func (s *Server) permitted(a huma.API) func(ctx huma.Context, next func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		needs, _ := ctx.Operation().Extensions[needsKey].(permit.Need)
		if needs != permit.Nothing && needs != permit.Self {
			if err := s.Permits.May(who(ctx.Context()).Name, needs); err != nil {
				_ = huma.WriteErr(a, ctx, http.StatusForbidden, err.Error()) // who asked may be gone
				return
			}
			if status, why := s.mayShow(ctx); status != 0 {
				_ = huma.WriteErr(a, ctx, status, why)
				return
			}
		}
		next(ctx)
	}
}

// lenient are the operations that need less than an account with a password of its
// own, by method and path; these have no parameters in their paths.
func lenient(doc *huma.OpenAPI) map[string]permit.Need {
	out := map[string]permit.Need{}
	for path, item := range doc.Paths {
		for method, o := range map[string]*huma.Operation{http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodDelete: item.Delete} {
			if o == nil {
				continue
			}
			if n, _ := o.Extensions[needsKey].(permit.Need); n == permit.Nothing || n == permit.Self {
				out[method+" "+path] = n
			}
		}
	}
	return out
}
