package httpd

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/edit"
	"yarnpost/service/failover"
	"yarnpost/service/observe"
	"yarnpost/service/permit"
	"yarnpost/service/preflight"
	"yarnpost/service/trials"
)

// This file is about what is around the server: other servers, relays, the host,
// and the client's seat.

func (s *Server) registerServers(a huma.API) {
	huma.Register(a, op("show-listening", http.MethodGet, "/api/listening", "What listening beside another server showed", "service", permit.See),
		func(context.Context, *struct{}) (*body[api.Listening], error) {
			return respond(s.listening(), nil)
		})
	huma.Register(a, op("propose-heard", http.MethodGet, "/api/listening/proposal",
		"A plan file of what the clients of another server would need to keep what they have; nothing is changed", "service", permit.See),
		func(context.Context, *struct{}) (*fileOut, error) {
			text, err := s.heardProposal()
			return &fileOut{"application/yaml", `attachment; filename="heard.yaml"`, text}, failure(err)
		})
	huma.Register(a, op("list-relays", http.MethodGet, "/api/relays", "Relays that forward to this server, and those the plan names",
		"service", permit.See), func(context.Context, *struct{}) (*body[api.Page[api.Relay]], error) {
		return listed(s, s.relays())
	})
	huma.Register(a, op("forget-relays", http.MethodDelete, "/api/relays", "Forget relays that were heard and that the plan does not name",
		"service", permit.Plan), func(_ context.Context, in *struct {
		Address string `query:"address" doc:"Of one relay; all without it"`
	}) (*body[api.Forgotten], error) {
		var at netip.Addr
		if in.Address != "" {
			var err error
			if at, err = netip.ParseAddr(in.Address); err != nil {
				return respond(api.Forgotten{}, plan.Refused("%q is no address", in.Address))
			}
		}
		n := s.Engine.ForgetRelays(at)
		if at.IsValid() && n == 0 {
			return respond(api.Forgotten{}, plan.Missing("relay", in.Address))
		}
		return respond(api.Forgotten{Count: n}, nil)
	})
	huma.Register(a, op("show-preflight", http.MethodGet, "/api/preflight", "What the last look at the host found", "service", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.Check]], error) {
			return listed(s, checksView(s.Host.LastPreflight()))
		})
	huma.Register(a, op("run-preflight", http.MethodPost, "/api/preflight", "Look at the host again", "service", permit.Trials),
		func(ctx context.Context, _ *struct{}) (*body[api.Page[api.Check]], error) {
			return listed(s, checksView(s.Host.Preflight(ctx)))
		})
	huma.Register(a, op("list-trials", http.MethodGet, "/api/trials", "Trials with their last results", "trials", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.Trial]], error) {
			p := s.Engine.Plan()
			out := []api.Trial{}
			for _, t := range p.Trials() {
				v := api.Trial{ID: int64(t.ID), Name: t.Name, Scope: p.Label(t.Scope), Hardware: t.Hardware.String(), Vendor: t.Vendor,
					Circuit: t.Circuit, Every: leaseText(t.Every), Fields: ownView(t.Fields), Note: t.Note}
				if list := s.Trials.Results(t.Name); len(list) > 0 {
					r := trialView(list[len(list)-1])
					v.Last = &r
				}
				out = append(out, v)
			}
			return listed(s, out)
		})
	huma.Register(a, op("list-trial-results", http.MethodGet, "/api/trials/{name}/results", "The last results of a trial, newest first",
		"trials", permit.See), func(_ context.Context, in *named) (*body[api.Page[api.TrialResult]], error) {
		t := s.Engine.Plan().TrialNamed(in.Name)
		if t == nil {
			return nil, failure(plan.Missing("trial", in.Name))
		}
		out := []api.TrialResult{}
		for _, r := range s.Trials.Results(t.Name) {
			out = append(out, trialView(r))
		}
		slices.Reverse(out)
		return listed(s, out)
	})
	huma.Register(a, op("run-trial", http.MethodPost, "/api/trials/run", "Make a real exchange as a client, and give the address back",
		"trials", permit.Trials), func(ctx context.Context, in *body[api.TrialRun]) (*body[api.TrialResult], error) {
		t, err := s.trial(in.Body)
		if err != nil {
			return nil, failure(err)
		}
		r, err := s.Trials.Run(ctx, t)
		return respond(trialView(r), err)
	})
}

func trialView(r trials.Result) api.TrialResult {
	out := api.TrialResult{Name: r.Trial.Name, Scope: r.Scope, At: r.At.UTC(), Good: r.Good, Address: addrText(r.Address),
		Steps: []api.TrialStep{}}
	for _, st := range r.Steps {
		out.Steps = append(out.Steps, api.TrialStep{What: st.What, Good: st.Good, Millis: float64(st.Took.Microseconds()) / 1000})
	}
	return out
}

// trial is the planned trial that is asked for, or one made up now.
func (s *Server) trial(in api.TrialRun) (plan.Trial, error) {
	p := s.Engine.Plan()
	if in.Name != "" {
		t := p.TrialNamed(in.Name)
		if t == nil {
			return plan.Trial{}, plan.Missing("trial", in.Name)
		}
		return *t, nil
	}
	t := plan.Trial{Vendor: in.Vendor, Circuit: in.Circuit, Hardware: edit.TrialHardware(in.Scope + in.Relay)}
	if in.Hardware != "" {
		hw, err := addr.ParseHardware(in.Hardware)
		if err != nil {
			return t, plan.Refused("%v", err)
		}
		t.Hardware = hw
	}
	switch {
	case in.Scope != "":
		v := p.ScopeNamed(in.Scope)
		if v == nil {
			return t, plan.Missing("scope", in.Scope)
		}
		t.Scope = v.ID
	case in.Relay != "":
		a, err := addr.ParseAddr(in.Relay)
		if err != nil {
			return t, plan.Refused("relay: %v", err)
		}
		family := option.V4
		if a.Is6() {
			family = option.V6
		}
		if on := p.Serving(p.LinkOfRelay(a), family); len(on) > 0 {
			t.Scope = on[0].ID
		} else if v := p.ScopeAt(a); v != nil {
			t.Scope = v.ID
		} else {
			return t, plan.Refused("no link knows relay %s", a)
		}
	default:
		return t, plan.Refused("name a trial, a scope or a relay")
	}
	return t, nil
}

func checksView(list []preflight.Check) []api.Check {
	out := []api.Check{}
	for _, c := range list {
		out = append(out, api.Check{Name: c.Name, Status: string(c.Status), Text: c.Text, Mend: c.Mend})
	}
	return out
}

func (s *Server) relays() []api.Relay {
	out := []api.Relay{}
	for _, r := range s.Engine.Relays() {
		v := api.Relay{Address: r.Address.String(), Link: r.Link, Count: r.Count, Gap: r.Gap, Silent: r.Silent, Named: r.Named, Found: r.Found}
		if r.Count > 0 {
			at := r.Last.Std()
			v.Last = &at
		}
		out = append(out, v)
	}
	return out
}

func otherServerView(r observe.OtherServer) api.OtherServer {
	return api.OtherServer{Link: r.Link, Server: r.Server.String(), How: r.How, First: r.First.Std(), Last: r.Last.Std(), Count: r.Count}
}

func (s *Server) listening() api.Listening {
	p := s.Engine.Plan()
	out := api.Listening{Whole: p.Defaults.Listening, Links: []string{}, Scopes: []api.ScopeAgreement{}, Clients: []api.Agreement{},
		OtherServers: []api.OtherServer{}}
	for _, l := range p.Links() {
		if l.Listening {
			out.Links = append(out.Links, l.Name)
		}
	}
	for _, r := range s.Engine.OtherServers() {
		out.OtherServers = append(out.OtherServers, otherServerView(r))
	}
	now := lease.At(s.Clock.Now())
	s.Engine.EachLease(0, func(l *lease.Lease) {
		if l.HeldAt(now) && l.Revision == 0 {
			out.Learned++
		}
	})
	for _, a := range s.Engine.Agreements() {
		i := slices.IndexFunc(out.Scopes, func(x api.ScopeAgreement) bool { return x.Scope == a.Scope && x.Link == a.Link })
		if i < 0 {
			i = len(out.Scopes)
			out.Scopes = append(out.Scopes, api.ScopeAgreement{Scope: a.Scope, Link: a.Link})
		}
		out.Scopes[i].Clients++
		if a.Agrees {
			out.Scopes[i].Agree++
		} else {
			out.Scopes[i].Disagree++
		}
		if len(out.Clients) < 1000 {
			out.Clients = append(out.Clients,
				api.Agreement{Hardware: a.Hardware.String(), DUID: addr.DUID(a.Client.DUID()).String(), Hostname: a.Hostname, Link: a.Link,
					Scope: a.Scope, Took: addr.FormatKey(a.Took), Server: a.Server.String(), Would: addr.FormatKey(a.Would), Agrees: a.Agrees,
					Options: a.Options, Difference: append([]string{}, a.Difference...), At: a.At.Std(), Count: a.Count})
		}
	}
	slices.SortFunc(out.Scopes, func(a, b api.ScopeAgreement) int { return strings.Compare(a.Scope, b.Scope) })
	return out
}

// crowdWorth is how many clients have to be kept out before a person hears of it.
const crowdWorth = 10

// abandonedWorth is how many addresses of a scope have to be abandoned, and a
// twentieth of it, before a person hears of it.
const abandonedWorth = 3

// plural is a number with the right words behind it.
func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprint(n, " ", many)
}

// warnings is what a person should look at today.
func (s *Server) warnings(v failover.View, paired bool) []api.Warning {
	out := []api.Warning{}
	say := func(code, subject, mend, format string, args ...any) {
		out = append(out, api.Warning{Code: code, Subject: subject, Text: fmt.Sprintf(format, args...), Mend: mend})
	}
	for _, f := range s.Facts.Standing() {
		mend := f.Mend
		if f.Command != "" && !strings.Contains(mend, f.Command) {
			mend += " " + f.Command
		}
		say(f.ID, f.Subject, mend, "%s", f.Text)
	}
	if paired {
		pairWarnings(v, say)
	}
	crowds, empty := map[string]int{}, map[string]int{}
	for _, u := range s.Engine.Unserved() {
		switch u.Reason {
		case reason.TooMany:
			crowds[u.Scope]++
		case reason.PoolEmpty:
			empty[u.Scope]++
		}
	}
	for _, scope := range slices.Sorted(maps.Keys(empty)) {
		say("pool-empty", "scope "+scope,
			"widen a pool: yarnpost scope edit "+scope+" --pool …, or shorten its lease time; yarnpost lease list --scope "+scope+
				" shows who has them",
			"scope %s has no address left, and %s waiting", scope, plural(empty[scope], "client is", "clients are"))
	}
	for _, scope := range slices.Sorted(maps.Keys(crowds)) {
		if n := crowds[scope]; n >= crowdWorth {
			say("crowd", "scope "+scope,
				"yarnpost trace --scope "+scope+" --outcome too-many-new shows where from; raise the limit if they are welcome",
				"%d clients that scope %s never saw before came in a rush and were kept out", n, scope)
		}
	}
	p := s.Engine.Plan()
	for _, v := range p.Scopes() {
		if n := s.Engine.Count(v.ID).Abandoned; n >= abandonedWorth && uint64(n) >= v.Size/20 {
			say("abandoned", "scope "+v.Name,
				"yarnpost lease list --status abandoned --scope "+v.Name+" shows who answers there; yarnpost lease clear --scope "+v.Name+
					" clears the silent ones",
				"%d addresses of scope %s are abandoned", n, v.Name)
		}
	}
	return out
}
