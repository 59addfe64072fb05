package httpd

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/rule"
	"yarnpost/service/permit"
)

func (s *Server) registerRules(a huma.API) {
	huma.Register(a, op("list-rules", http.MethodGet, "/api/rules",
		"Rules in the order in which they are asked, with how often each fitted",
		"rules", permit.See), func(_ context.Context, in *struct {
		Scope string `query:"scope" doc:"Only rules of this scope"`
	}) (*body[api.Page[api.Rule]], error) {
		p := s.Engine.Plan()
		out := []api.Rule{}
		for _, r := range p.Rules() {
			if v := s.ruleView(p, r); in.Scope == "" || v.Scope == in.Scope {
				out = append(out, v)
			}
		}
		return listed(s, out)
	})
	huma.Register(a, op("try-rule", http.MethodPost, "/api/rules/try", "Whom a condition would fit, of the clients on record", "rules",
		permit.See), func(_ context.Context, in *body[api.RuleTry]) (*body[api.RuleTried], error) {
		return respond(s.tryRule(in.Body))
	})
	huma.Register(a, op("list-variables", http.MethodGet, "/api/rules/variables", "What a condition can ask of a request", "rules",
		permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.RuleVariable]], error) {
			out := []api.RuleVariable{}
			for _, v := range rule.Variables {
				out = append(out, api.RuleVariable{Name: v.Name, Type: v.Type, Meaning: v.Meaning, Example: v.Example})
			}
			return listed(s, out)
		})
	huma.Register(a, op("list-lists", http.MethodGet, "/api/lists", "Named sets of hardware addresses and identifiers", "rules", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.List]], error) {
			p := s.Engine.Plan()
			out := []api.List{}
			for _, l := range p.Lists() {
				v := api.List{ID: int64(l.ID), Name: l.Name, Entries: texts(l.Entries), Rules: []string{}, Fields: ownView(l.Fields), Note: l.Note}
				for _, r := range p.Rules() {
					if slices.Contains(r.Program.Lists, l.Name) {
						v.Rules = append(v.Rules, r.Name)
					}
				}
				out = append(out, v)
			}
			return listed(s, out)
		})
	huma.Register(a, op("list-codebooks", http.MethodGet, "/api/codebooks", "Own codebooks and those of vendors", "options", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.Codebook]], error) {
			p := s.Engine.Plan()
			classes := map[string]int{}
			s.Engine.EachLease(0, func(l *lease.Lease) { classes[l.Vendor]++ })
			out := []api.Codebook{}
			for _, c := range p.Codebooks() {
				v := api.Codebook{ID: int64(c.ID), Name: c.Name, Place: string(c.Place), Classes: append([]string{}, c.Classes...),
					Enterprise: c.Enterprise, Options: []api.OwnOption{}, Fields: ownView(c.Fields), Note: c.Note}
				for _, o := range c.Options {
					v.Options = append(v.Options, api.OwnOption{Code: o.Code, Name: o.Name, Type: o.Type.String(), Meaning: o.Meaning})
				}
				for class, n := range classes {
					if c.Fits(class) {
						v.Seen += n
					}
				}
				out = append(out, v)
			}
			return listed(s, out)
		})
	huma.Register(a, op("list-vendors", http.MethodGet, "/api/vendors",
		"Vendor classes seen on the network, with how many clients have each",
		"options", permit.See), func(context.Context, *struct{}) (*body[api.Page[api.Vendor]], error) {
		classes := map[string]int{}
		s.Engine.EachLease(0, func(l *lease.Lease) {
			if l.Vendor != "" {
				classes[l.Vendor]++
			}
		})
		out := []api.Vendor{}
		for class, n := range classes {
			out = append(out, api.Vendor{Class: class, Clients: n})
		}
		slices.SortFunc(out, func(a, b api.Vendor) int {
			if a.Clients != b.Clients {
				return b.Clients - a.Clients
			}
			if a.Class < b.Class {
				return -1
			}
			return 1
		})
		return listed(s, out)
	})
}

func (s *Server) ruleView(p *plan.Plan, r *plan.CompiledRule) api.Rule {
	out := api.Rule{ID: int64(r.ID), Name: r.Name, Scope: p.Label(r.Scope), Supernet: p.Label(r.Supernet), Order: r.Order, When: r.When,
		Action: string(r.Action), Off: r.Off,
		Lease: leaseText(r.Lease), Valid: leaseText(r.Valid),
		Options: settingsView(p, r.Options), Fields: ownView(r.Fields), Note: r.Note}
	if r.Pool.Valid() {
		out.Pool = r.Pool.String()
	}
	if f := s.Engine.FitsOf(r.ID); f.Count > 0 {
		at := f.Last.Std()
		out.Fitted, out.Last = f.Count, &at
	}
	return out
}

// tryRule asks a condition about the clients on record, as they asked last.
func (s *Server) tryRule(in api.RuleTry) (api.RuleTried, error) {
	program, err := rule.Compile(in.When)
	if err != nil {
		return api.RuleTried{}, plan.Refused("%v", err)
	}
	p := s.Engine.Plan()
	for _, name := range program.Lists {
		if l := p.ListNamed(name); l == nil || l.Name != name {
			return api.RuleTried{}, plan.Refused("there is no list %q; yarnpost list add %s makes it", name, name)
		}
	}
	if in.Scope != "" && p.ScopeNamed(in.Scope) == nil {
		return api.RuleTried{}, plan.Missing("scope", in.Scope)
	}
	matching, all, examples := s.Reports.TryRule(p, func(ask *rule.Request, v *plan.View) bool {
		if in.Scope != "" && v.ID != p.ScopeNamed(in.Scope).ID {
			return false
		}
		fits, _ := program.Fits(ask)
		return fits
	})
	out := api.RuleTried{Fits: matching, Of: all, Examples: []api.Lease{}}
	for _, l := range examples {
		out.Examples = append(out.Examples, leaseView(p, l))
	}
	return out, nil
}
