package httpd

import (
	"context"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/plan"
	"yarnpost/service/permit"
)

// This file serves fields of the administrator's own.

func (s *Server) registerFields(a huma.API) {
	huma.Register(a, op("list-fields", http.MethodGet, "/api/fields", "Fields of your own, such as a location or a ticket", "plan", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.OwnField]], error) {
			p := s.Engine.Plan()
			out := []api.OwnField{}
			used := p.FieldsUsed()
			for _, f := range p.OwnFields() {
				v := api.OwnField{ID: int64(f.ID), Name: f.Name, Type: string(f.Type), Choices: append([]string{}, f.Choices...), On: []string{},
					Used: used[f.Name], Note: f.Note}
				for _, k := range plan.Carries() {
					if f.Fits(k) {
						v.On = append(v.On, string(k))
					}
				}
				out = append(out, v)
			}
			return listed(s, out)
		})
}

// ownView are the values that an item has of fields of one's own.
func ownView(f plan.Fields) map[string]string {
	if f == nil {
		return map[string]string{}
	}
	return maps.Clone(f)
}

// ownTexts are the values of fields of one's own, to search in.
func ownTexts(f plan.Fields) []string { return slices.Collect(maps.Values(f)) }

// hasFields reports whether values of fields are as a filter wants each: name=value, in any case.
func hasFields(want []string, f plan.Fields) bool {
	return !slices.ContainsFunc(want, func(w string) bool {
		name, value, _ := strings.Cut(w, "=")
		for n, v := range f {
			if strings.EqualFold(n, strings.TrimSpace(name)) && strings.EqualFold(v, strings.TrimSpace(value)) {
				return false
			}
		}
		return true
	})
}
