package httpd

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/option"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/service/change"
	"yarnpost/service/compare"
	"yarnpost/service/drill"
	"yarnpost/service/failover"
	"yarnpost/service/permit"
	"yarnpost/service/store"
)

func (s *Server) registerPair(a huma.API) {
	huma.Register(a, op("show-pair", http.MethodGet, "/api/pair", "Both servers side by side, and whether the other would carry on now",
		"pair",
		permit.See), func(context.Context, *struct{}) (*body[api.Pair], error) { return respond(s.pairView(), nil) })
	huma.Register(a, op("invite-partner", http.MethodPost, "/api/pair/invite", "Open this server to one that joins it", "pair", permit.Pair),
		func(_ context.Context, in *body[api.PairInvite]) (*body[api.PairInvitation], error) {
			set, err := settingsOf(pair.Settings{Split: 50}, in.Body.Mode, in.Body.Split, in.Body.Lead, in.Body.AutoDown)
			if err != nil {
				return nil, failure(err)
			}
			i, err := s.Pair.Invite(in.Body.At, set)
			return respond(api.PairInvitation{Code: i.Code, Until: i.Until.UTC()}, wrong(err))
		})
	huma.Register(a, op("join-pair", http.MethodPost, "/api/pair/join", "Join the server that an invitation is to", "pair", permit.Pair),
		func(ctx context.Context, in *body[api.PairJoin]) (*body[api.PairDone], error) {
			err := s.Pair.Join(ctx, in.Body.Code, in.Body.Confirm)
			return respond(api.PairDone{Done: err == nil,
				Text: "this server is the second of a pair, and takes over the other's plan and leases"}, wrong(err))
		})
	huma.Register(a, op("declare-down", http.MethodPost, "/api/pair/down", "Say that the partner is down", "pair", permit.Pair), s.pairDown)
	huma.Register(a, op("pause-server", http.MethodPost, "/api/pair/pause", "Leave all clients to the partner, or share them again",
		"pair", permit.Pair),
		func(_ context.Context, in *body[api.PairPause]) (*body[api.PairDone], error) {
			err := s.Pair.Pause(in.Body.On)
			text := s.Pair.Name() + " serves again"
			if in.Body.On {
				text = s.Pair.Name() + " answers nobody; the partner does"
			}
			return respond(api.PairDone{Done: err == nil, Text: text}, wrong(err))
		})
	huma.Register(a, op("rebalance-pair", http.MethodPost, "/api/pair/rebalance", "Split free addresses anew", "pair", permit.Pair),
		func(context.Context, *struct{}) (*body[api.PairDone], error) {
			n, err := s.Pair.Rebalance()
			return respond(api.PairDone{Done: err == nil, Text: plural(n, "free address goes",
				"free addresses go") + " to the partner, which was asked for what this server should have"}, wrong(err))
		})
	huma.Register(a, op("drill-pair", http.MethodPost, "/api/pair/drill", "Take this server out for a while, watched", "pair", permit.Pair),
		func(_ context.Context, in *body[api.PairDrillOrder]) (*body[api.PairDrill], error) {
			d, err := s.Drills.Start(time.Duration(in.Body.Seconds) * time.Second)
			return respond(*drillView(&d), wrong(err))
		})
	huma.Register(a, op("leave-pair", http.MethodPost, "/api/pair/leave", "Take this server out of its pair", "pair", permit.Pair),
		s.pairLeave)
	huma.Register(a, op("edit-pair", http.MethodPost, "/api/pair/edit",
		"Change mode, split, lead time or automatic partner-down on both servers", "pair",
		permit.Pair), func(ctx context.Context, in *body[api.PairInvite]) (*body[api.Pair], error) {
		var bad error
		err := s.Pair.Edit(ctx, func(set *pair.Settings) {
			was := *set
			*set, bad = settingsOf(*set, in.Body.Mode, in.Body.Split, in.Body.Lead, in.Body.AutoDown)
			tell(ctx, [3]string{"split", fmt.Sprint(was.Split), fmt.Sprint(set.Split)},
				[3]string{"lead time", option.FormatDuration(was.MCLT), option.FormatDuration(set.MCLT)},
				[3]string{"automatic partner-down", option.FormatDuration(was.AutoDown), option.FormatDuration(set.AutoDown)})
		})
		return respond(s.pairView(), wrong(errors.Join(bad, err)))
	})
	s.registerPairTables(a)
}

// registerPairTables has what concerns lease tables, plans and history of a pair.
func (s *Server) registerPairTables(a huma.API) {
	huma.Register(a, op("compare-pair", http.MethodGet, "/api/pair/compare", "Every address of which both servers know different things",
		"pair", permit.See),
		func(ctx context.Context, _ *struct{}) (*body[api.PairComparison], error) {
			c, err := s.Compare.Compare(ctx)
			return respond(comparisonView(c), wrong(err))
		})
	huma.Register(a, op("mend-pair", http.MethodPost, "/api/pair/mend", "Tell the partner again what this server knows of addresses",
		"pair", permit.Pair),
		func(ctx context.Context, in *body[api.PairMend]) (*body[api.PairDone], error) {
			var list []netip.Prefix
			for _, text := range in.Body.Addresses {
				a, err := netip.ParseAddr(text)
				if err != nil {
					return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is no address", text))
				}
				list = append(list, netip.PrefixFrom(a, a.BitLen()))
			}
			if !in.Body.Confirm {
				return respond(api.PairDone{Text: fmt.Sprintf("what %s knows of %d addresses would be told again, and the partner takes it", s.Pair.Name(), len(list))}, nil)
			}
			err := s.Pair.TellAgain(list)
			return respond(api.PairDone{Done: err == nil, Text: fmt.Sprintf("%d addresses are told of again", len(list))}, wrong(err))
		})
	huma.Register(a, op("pair-history", http.MethodGet, "/api/pair/history", "What happened to the pair, newest first", "pair", permit.See),
		func(ctx context.Context, in *struct {
			Limit int `query:"limit" default:"100" minimum:"1" maximum:"1000"`
		}) (*body[api.Page[api.PairEvent]], error) {
			list, err := s.Pair.History(ctx, in.Limit)
			if err != nil {
				return nil, failure(err)
			}
			out := []api.PairEvent{}
			for _, e := range list {
				out = append(out, api.PairEvent{At: e.At.UTC(), Text: e.Text})
			}
			return listed(s, out)
		})
	huma.Register(a, op("pair-states", http.MethodGet, "/api/pair/states", "The states that both servers were in", "pair", permit.See),
		s.pairStates)
	huma.Register(a, op("pair-lines", http.MethodGet, "/api/pair/lines", "Both lines of the plan since they parted", "pair", permit.See),
		s.pairLines)
	huma.Register(a, op("apply-aside", http.MethodPost, "/api/plan/aside/{key}/apply",
		"Make what a revision that was not chosen had changed, as a new revision", "plan", permit.Plan), s.again)
	huma.Register(a, op("settle-pair", http.MethodPost, "/api/pair/settle", "Choose one server's plan where both changed it", "pair",
		permit.Pair),
		func(ctx context.Context, in *body[api.PairSettle]) (*body[api.PairDone], error) {
			if !in.Body.Confirm {
				return respond(api.PairDone{Text: "the plan of " + in.Body.Keep + " would be in force on both; the other's revisions are kept aside"}, nil)
			}
			err := s.Pair.Settle(ctx, in.Body.Keep)
			return respond(api.PairDone{Done: err == nil, Text: "the plan of " + in.Body.Keep + " is in force on both"}, wrong(err))
		})
}

// wrong is an error of the pair that the caller can do something about.
func wrong(err error) error {
	if err == nil || errors.Is(err, change.ErrConfirm) {
		return err
	}
	var already huma.StatusError
	if errors.As(failure(err), &already) && already.GetStatus() != http.StatusServiceUnavailable {
		return err
	}
	return fmt.Errorf("%w: %w", errPair, err)
}

// errPair is wrapped by refusals of the pair.
var errPair = errors.New("the pair")

func settingsOf(set pair.Settings, mode string, split *int, lead, auto string) (pair.Settings, error) {
	switch {
	case mode == "hot-standby":
		set.Split = 100
	case mode == "load-sharing" && set.Split == 100:
		set.Split = 50
	}
	if split != nil {
		if mode == "hot-standby" && *split != 100 {
			return set, fmt.Errorf("%w: in hot standby the primary answers all; a split is for load sharing", errPair)
		}
		set.Split = *split
	}
	for _, f := range []struct {
		text string
		to   *time.Duration
	}{{lead, &set.MCLT}, {auto, &set.AutoDown}} {
		if f.text == "" {
			continue
		}
		if f.text == "never" {
			*f.to = 0
			continue
		}
		d, err := option.ParseDuration(f.text)
		if err != nil {
			return set, fmt.Errorf("%w: %w", errPair, err)
		}
		*f.to = d
	}
	return set, nil
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

func (s *Server) pairView() api.Pair {
	v, ok := s.Pair.View()
	out := api.Pair{Formed: ok, Own: serverView(v.Own), Reasons: []string{}, Scopes: []api.PairScope{}, Relays: []api.PairRelay{},
		Conflicts: []api.PairConflict{}, Invited: moment(v.Invited)}
	if !ok {
		out.Reasons = append(out.Reasons, "this server is in no pair")
		return out
	}
	partner := serverView(v.Partner)
	out.Partner, out.Connected, out.Contact, out.Refused = &partner, v.Connected, moment(v.Contact), v.Refused
	if v.SkewKnown {
		out.Clock = &v.Skew
	}
	if out.Mode = "load-sharing"; v.Settings.Split == 100 {
		out.Mode = "hot-standby"
	}
	out.Split, out.Lead = v.Settings.Split, option.FormatDuration(v.Settings.MCLT)
	if v.Settings.AutoDown > 0 {
		out.AutoDown = option.FormatDuration(v.Settings.AutoDown)
	}
	if v.Compared {
		out.Plan = v.Standing.String()
	}
	out.Down, out.Claims = moment(v.Down), moment(v.Claims)
	switch {
	case v.Paused:
		out.Paused = v.Own.Name
	case v.Resting:
		out.Paused = v.Partner.Name
	}
	out.Reasons = append(out.Reasons, v.Reasons...)
	out.Takeover = len(v.Reasons) == 0
	for _, c := range v.Scopes {
		out.Scopes = append(out.Scopes, api.PairScope{Scope: c.Scope, Active: c.Active, Own: api.Count(c.Own),
			Partner: api.Count(c.Partner),
			OwnLow:  c.OwnLow, PartnerLow: c.TheirLow})
	}
	for _, r := range v.Relays {
		out.Relays = append(out.Relays, api.PairRelay{Address: r.Address, Link: r.Link, Own: moment(r.Own), Partner: moment(r.Partner),
			Warning: r.Warning})
	}
	for _, c := range v.Conflicts {
		out.Conflicts = append(out.Conflicts, api.PairConflict{Address: c.Address.String(), Kept: c.Kept, Other: c.Other, At: c.At.Std()})
	}
	out.Exposed, out.Strangers = v.Exposed, v.Strangers
	out.Updates = api.PairUpdates{Sent: v.Stats.Sent, Acknowledged: v.Stats.Acknowledged, Rejected: v.Stats.Rejected,
		Learned: v.Stats.Learned,
		Merged:  v.Stats.Merged}
	out.Drill = drillView(s.Drills.Report())
	return out
}

func serverView(v failover.ServerView) api.PairServer {
	return api.PairServer{Name: v.Name, Role: v.Role, State: v.State, Since: moment(v.Since), Owed: v.Owed, Revision: v.Revision,
		Trouble: v.Trouble}
}

func drillView(d *drill.Report) *api.PairDrill {
	if d == nil {
		return nil
	}
	out := &api.PairDrill{Out: d.Out, Began: d.Began.UTC(), Until: d.Until.UTC(), Running: d.Running, Served: d.Served, Without: d.Without,
		Waiting: d.Waiting, Longest: d.Longest.Seconds(), Clients: []api.Waited{}, Verdict: d.Verdict}
	for _, c := range d.Clients {
		w := api.Waited{Name: c.Name, Address: c.Address.String()}
		if seconds := c.Waited.Seconds(); c.Asked {
			w.Seconds = &seconds
		}
		out.Clients = append(out.Clients, w)
	}
	return out
}

func (s *Server) pairDown(_ context.Context, in *body[api.PairOrder]) (*body[api.PairDone], error) {
	v, ok := s.Pair.View()
	if !ok {
		return nil, failure(wrong(failover.ErrAlone))
	}
	name := v.Partner.Name
	free := s.Clock.Now().Add(v.Settings.Wait() + time.Minute)
	text := fmt.Sprintf("%s serves alone. Addresses that are %s's to give stay untouched until %s; leases that it gave stay their clients'. "+
		"If %s is not down but only cannot be heard, both may give one address to two clients: make sure that it is off, or cut from its clients",
		v.Own.Name, name, free.Local().Format("15:04:05"), name)
	if !in.Body.Confirm {
		if v.Connected {
			return nil, failure(wrong(fmt.Errorf("%s can be heard; to take it out, pause it (yarnpost pair pause, there)", name)))
		}
		return respond(api.PairDone{Text: text}, nil)
	}
	err := s.Pair.Down()
	return respond(api.PairDone{Done: err == nil, Text: text}, wrong(err))
}

func (s *Server) pairLeave(ctx context.Context, in *body[api.PairOrder]) (*body[api.PairDone], error) {
	v, ok := s.Pair.View()
	if !ok {
		return nil, failure(wrong(failover.ErrAlone))
	}
	own, other := v.Own.Name, v.Partner.Name
	text := fmt.Sprintf("%s is in no pair any more and listens: it answers nobody until \"yarnpost defaults edit --listening=false\"; %s serves on, with all addresses",
		own, other)
	if !v.Connected {
		text = fmt.Sprintf("%s is in no pair any more and serves on; addresses that %s may have promised are kept until they are free. "+
			"Make sure that %s is off: it knows nothing of this, and would serve the same clients", own, other, other)
	}
	if !in.Body.Confirm {
		return respond(api.PairDone{Text: text}, nil)
	}
	err := s.Pair.Leave(ctx)
	return respond(api.PairDone{Done: err == nil, Text: text}, wrong(err))
}

func comparisonView(c compare.Comparison) api.PairComparison {
	out := api.PairComparison{Leases: c.Leases, Seconds: c.Took.Seconds(), Octets: c.Octets, Differences: []api.PairDifference{}}
	known := func(k *compare.Known) *api.PairKnown {
		if k == nil {
			return nil
		}
		return &api.PairKnown{Status: k.Status, Client: k.Client, Hardware: k.Hardware, Expires: time.Unix(min(k.Expires, 1<<40), 0).UTC(),
			Since: time.Unix(k.Changed, 0).UTC()}
	}
	for _, d := range c.Differences {
		address := d.Prefix.Addr().String()
		if !d.Prefix.IsSingleIP() {
			address = d.Prefix.String()
		}
		out.Differences = append(out.Differences, api.PairDifference{Address: address, Class: string(d.Class), Text: d.Text,
			Own:     known(d.Own),
			Partner: known(d.Partner)})
	}
	return out
}

func (s *Server) pairStates(ctx context.Context, in *struct {
	Hours int `query:"hours" default:"24" minimum:"1" maximum:"720" doc:"How far back"`
}) (*body[api.PairStates], error) {
	v, ok := s.Pair.View()
	if !ok {
		return nil, failure(wrong(failover.ErrAlone))
	}
	out := api.PairStates{To: s.Clock.Now().UTC()}
	out.From = out.To.Add(-time.Duration(in.Hours) * time.Hour)
	own, theirs, err := s.Pair.States(ctx, out.From)
	if err != nil {
		return nil, failure(wrong(err))
	}
	for _, of := range []struct {
		name string
		list []failover.StateSpan
	}{{v.Own.Name, own}, {v.Partner.Name, theirs}} {
		spans := api.PairServerSpans{Name: of.name, Known: len(of.list) > 0, Spans: []api.PairSpan{}}
		for _, span := range of.list {
			until := span.Until.UTC()
			if span.Until.IsZero() || until.After(out.To) {
				until = out.To
			}
			from := span.From.UTC()
			if from.Before(out.From) {
				from = out.From
			}
			if from.Before(until) {
				spans.Spans = append(spans.Spans, api.PairSpan{State: span.State, From: from, To: until})
			}
		}
		out.Servers = append(out.Servers, spans)
	}
	return respond(out, nil)
}

func (s *Server) pairLines(ctx context.Context, _ *struct{}) (*body[api.PairLines], error) {
	v, ok := s.Pair.View()
	if !ok {
		return nil, failure(wrong(failover.ErrAlone))
	}
	out := api.PairLines{Parted: v.Compared && v.Standing == pair.Parted, Own: []api.PairRevision{}, Partner: []api.PairRevision{},
		Aside: []api.PairRevision{}}
	if out.Parted {
		lines, err := s.Pair.PartedLines(ctx)
		if err != nil {
			return nil, failure(wrong(err))
		}
		out.Own, out.Partner = revisionsOf(lines.Own), revisionsOf(lines.Partner)
	}
	aside, err := s.Pair.Aside(ctx)
	for _, a := range aside {
		r := revisionsOf([]store.Carried{a.Carried})[0]
		r.Key = a.Key
		out.Aside = append(out.Aside, r)
	}
	return respond(out, err)
}

// again applies a revision that was kept aside.
func (s *Server) again(ctx context.Context, in *struct {
	Key  string `path:"key"`
	Body api.Revert
}) (*body[api.ChangeResult], error) {
	r := in.Body
	if r.Into != "" {
		return nil, failure(plan.Refused("what was kept aside is made at once, and cannot be gathered in %s; leave that away", r.Into))
	}
	c, err := s.Pair.Again(ctx, in.Key,
		change.Order{Author: who(ctx).Name, Reason: r.Reason, Base: r.Base, Preview: r.DryRun, Confirm: r.Confirm})
	if err != nil {
		return nil, failure(err)
	}
	return respond(s.changeView(c), nil)
}

func revisionsOf(list []store.Carried) []api.PairRevision {
	out := []api.PairRevision{}
	for _, c := range list {
		r := api.PairRevision{Number: c.Number, At: time.UnixMicro(c.At).UTC(), Author: c.Author, Reason: c.Reason, Lines: []string{}}
		for _, i := range c.Items {
			var lines []plan.Line
			if json.Unmarshal(i.Lines, &lines) == nil {
				for _, l := range lines {
					r.Lines = append(r.Lines, strings.TrimSpace(string(l.Kind)+" "+l.Name)+": "+l.Text)
				}
			}
		}
		out = append(out, r)
	}
	return out
}

// passedOn reports whether a request is the primary's to carry out: it changes what
// both servers have in common.
func passedOn(r *http.Request) bool {
	return r.Method != http.MethodGet && (strings.HasPrefix(r.URL.Path, "/api/plan/") || strings.HasPrefix(r.URL.Path, "/api/tokens") ||
		strings.HasPrefix(r.URL.Path, "/api/accounts") ||
		r.URL.Path == "/api/password" || r.URL.Path == "/api/sweep")
}

// forward passes a request on to the primary, if this server is the secondary, and
// reports whether it is dealt with.
func (s *Server) forward(w http.ResponseWriter, r *http.Request, account string) bool {
	if !passedOn(r) {
		return false
	}
	octets, err := io.ReadAll(io.LimitReader(r.Body, changeOctets+1))
	r.Body = io.NopCloser(bytes.NewReader(octets))
	if err != nil || len(octets) > changeOctets {
		return false // whoever carries it out says what is wrong
	}
	reply, forwarded, err := s.Pair.Forward(r.Context(),
		failover.Forwarded{Method: r.Method, Path: r.URL.RequestURI(), Account: account, Body: octets})
	switch {
	case !forwarded:
		return false
	case err != nil:
		problem(w, http.StatusServiceUnavailable, err.Error())
		return true
	}
	if reply.Type != "" {
		w.Header().Set("Content-Type", reply.Type)
	}
	w.WriteHeader(reply.Status)
	_, _ = w.Write(reply.Body) // the client may be gone
	return true
}

// carryOut does what the partner passed on.
func (s *Server) carryOut(ctx context.Context, f failover.Forwarded) failover.ForwardedReply {
	ctx = context.WithValue(context.WithValue(ctx, accountKey{}, store.Account{Name: f.Account}), sourceKey{}, f.From)
	r, err := http.NewRequestWithContext(ctx, f.Method, f.Path, bytes.NewReader(f.Body))
	if err != nil {
		return failover.ForwardedReply{Status: http.StatusBadRequest, Body: []byte(err.Error())}
	}
	r.RequestURI = f.Path
	r.Header.Set("Content-Type", "application/json")
	w := &captured{header: http.Header{}, status: http.StatusOK}
	s.mux.ServeHTTP(w, r)
	return failover.ForwardedReply{Status: w.status, Type: w.header.Get("Content-Type"), Body: w.body.Bytes()}
}

// captured is a reply that travels on.
type captured struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (c *captured) Header() http.Header         { return c.header }
func (c *captured) WriteHeader(status int)      { c.status = status }
func (c *captured) Write(b []byte) (int, error) { return c.body.Write(b) }

// pairWarnings says what of the pair a person should look at.
func pairWarnings(v failover.View, say func(code, subject, mend, format string, args ...any)) {
	if len(v.Reasons) > 0 {
		say("pair", "pair", "yarnpost pair status says more", "if %s died now, %s would not carry on: %s", v.Own.Name, v.Partner.Name,
			strings.Join(v.Reasons, "; "))
	}
	for _, r := range v.Relays {
		if r.Warning != "" {
			say("pair-relay", "relay "+r.Address, "have the relay forward to both servers", "%s", r.Warning)
		}
	}
	for _, c := range v.Conflicts {
		say("pair-conflict", c.Address.String(),
			"the client that has to go gets another address when it asks again; yarnpost lease history "+
				c.Address.String()+" shows who had it", "%s was active for two clients at once", c.Address)
	}
}
