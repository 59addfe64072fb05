package httpd

import (
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/report"
)

// This file is about what clients were given, would be given, and ask for in vain.

func (s *Server) given(address string) (api.GivenOptions, error) {
	at, err := addr.ParseKey(address)
	if err != nil {
		return api.GivenOptions{}, plan.Refused("%v", err)
	}
	var l *lease.Lease
	s.Engine.With(func(t *lease.Table) { l = t.Get(at) })
	if l == nil {
		return api.GivenOptions{}, fmt.Errorf("%w: %s has no lease on record", plan.ErrNotFound, addr.FormatKey(at))
	}
	p := s.Engine.Plan()
	out := api.GivenOptions{Asked: []api.Setting{}, Given: []api.Setting{}, Unmet: []string{}}
	set, ok := s.Engine.Given(l.Given)
	if !ok {
		return out, nil
	}
	out.Known = true
	class, _ := set.Asked.Get(option.ClassID)
	of := option.V4
	if at.Addr().Is6() {
		of = option.V6
	}
	out.Asked, out.Given = optionsView(p, of, set.Asked.Each(), string(class)), optionsView(p, of, set.Given.Each(), string(class))
	for _, o := range set.Header {
		d := option.Header4.ByCode(o.Code)
		out.Given = append(out.Given,
			api.Setting{Code: o.Code, Book: option.HeaderBook, Name: option.HeaderBook + "/" + d.Name(), Value: d.Type.Format(o.Data),
				Bytes: hex.EncodeToString(o.Data)})
	}
	for _, c := range set.Unmet(of) {
		out.Unmet = append(out.Unmet, fmt.Sprintf("%d %s", c, p.KeyName(option.Key{Family: of, Code: c})))
	}
	return out, nil
}

// most lists the keys of counts, highest first, a few at most.
func most(counts map[string]int) []string {
	keys := slices.SortedFunc(maps.Keys(counts), func(a, b string) int { return cmp.Or(counts[b]-counts[a], strings.Compare(a, b)) })
	out := []string{}
	for _, k := range keys[:min(5, len(keys))] {
		name := k
		if name == "" {
			name = "none told"
		}
		out = append(out, fmt.Sprintf("%s (%d)", name, counts[k]))
	}
	return out
}

func (s *Server) unmet() []api.UnmetOption {
	p := s.Engine.Plan()
	out := []api.UnmetOption{}
	for _, u := range s.Reports.Unmet() {
		out = append(out, api.UnmetOption{Code: u.Code, Name: p.KeyName(u.Key), Clients: u.Clients,
			Scopes: most(u.Scopes), Vendors: most(u.Vendors)})
	}
	return out
}

func (s *Server) staleOf(scope string) (list []report.Stale, active int, err error) {
	p := s.Engine.Plan()
	var id plan.ID
	if scope != "" {
		v := p.ScopeNamed(scope)
		if v == nil {
			return nil, 0, plan.Missing("scope", scope)
		}
		id = v.ID
	}
	s.Engine.EachLease(id, func(l *lease.Lease) {
		if l.Status == lease.Active {
			active++
		}
	})
	list = s.Reports.Stale(id)
	slices.SortFunc(list, func(a, b report.Stale) int {
		return cmp.Or(a.Renews.Compare(b.Renews), a.Lease.Address().Compare(b.Lease.Address()))
	})
	return list, active, nil
}

func (s *Server) stale(scope string) (api.StaleLeases, error) {
	list, active, err := s.staleOf(scope)
	if err != nil {
		return api.StaleLeases{}, err
	}
	p := s.Engine.Plan()
	out := api.StaleLeases{Page: api.Page[api.StaleLease]{Items: []api.StaleLease{}, Total: len(list), Revision: p.Revision}, Active: active}
	for i, x := range list {
		if x.Nudge {
			out.CanNudge++
		}
		if i < 1000 {
			out.Items = append(out.Items, api.StaleLease{Lease: leaseView(p, x.Lease), Renews: x.Renews.UTC(), Moves: x.NotGiven})
		}
	}
	return out, nil
}

func (s *Server) nudge(ctx context.Context, in api.NudgeRequest) (api.Nudged, error) {
	if in.Stale == (in.Address != "") {
		return api.Nudged{}, plan.Refused("name one address, or all clients with stale options")
	}
	if in.Address != "" {
		at, err := addr.ParseAddr(in.Address)
		if err != nil {
			return api.Nudged{}, plan.Refused("%v", err)
		}
		var l *lease.Lease
		s.Engine.With(func(t *lease.Table) { l = t.At(at) })
		if l == nil || l.Status != lease.Active {
			return api.Nudged{}, fmt.Errorf("%w: %s has no active lease", plan.ErrNotFound, at)
		}
		if err := s.Leases.MayNudge(l); err != nil {
			return api.Nudged{}, plan.Refused("%v", err)
		}
		if !in.DryRun {
			if err := s.Leases.Nudge(l); err != nil {
				return api.Nudged{}, err
			}
		}
		return api.Nudged{Applied: !in.DryRun, Sent: 1, Text: nudgeText(in.DryRun, 1, 0)}, nil
	}
	list, _, err := s.staleOf(in.Scope)
	if err != nil {
		return api.Nudged{}, err
	}
	out := api.Nudged{Applied: !in.DryRun}
	for _, x := range list {
		if x.Nudge && s.Leases.MayNudge(x.Lease) == nil {
			out.Sent++
		} else {
			out.Cannot++
		}
	}
	if !in.DryRun {
		s.log.Info("nudging clients with stale options", "clients", out.Sent, "by", who(ctx).Name)
		s.Leases.NudgeAll(list)
	}
	out.Text = nudgeText(in.DryRun, out.Sent, out.Cannot)
	return out, nil
}

func nudgeText(dry bool, sent, cannot int) string {
	verb := "are nudged"
	if dry {
		verb = "would be nudged"
	}
	text := fmt.Sprintf("%d clients %s", sent, verb)
	if sent == 1 {
		text = "1 client " + strings.Replace(verb, "are", "is", 1)
	}
	if cannot > 0 {
		text += fmt.Sprintf("; %d more cannot be, and renew by themselves", cannot)
	}
	return text
}
