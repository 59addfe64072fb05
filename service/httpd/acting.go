package httpd

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/leaseadmin"
	"yarnpost/service/permit"
	"yarnpost/service/work"
)

// registerActing has the operations that act on clients, one or many.
func (s *Server) registerActing(a huma.API) {
	for _, o := range []struct {
		id, summary string
		act         leaseadmin.Act
		need        permit.Need
	}{
		{"reach-clients", "Ask whether clients answer now, by ARP or echo", leaseadmin.Reach, permit.Trials},
		{"wake-clients", "Wake clients (Wake-on-LAN), where their link allows it", leaseadmin.Wake, permit.Clients},
		{"nudge-clients", "Have clients renew at once (FORCERENEW, RFC 6704)", leaseadmin.Nudge, permit.Clients},
		{"end-leases", "End the leases of clients; each finds out when it next renews", leaseadmin.End, permit.Clients},
	} {
		huma.Register(a, op(o.id, http.MethodPost, "/api/clients/"+string(o.act), o.summary, "leases", o.need),
			func(ctx context.Context, in *body[api.ActRequest]) (*body[api.ActedOn], error) {
				return respond(s.actOn(ctx, o.act, in.Body))
			})
	}
}

func (s *Server) actOn(ctx context.Context, act leaseadmin.Act, in api.ActRequest) (api.ActedOn, error) {
	out := api.ActedOn{Applied: !in.DryRun}
	if in.Silent && act != leaseadmin.End {
		return out, plan.Refused("silent is for leases that are ended; leave it out")
	}
	if (len(in.Addresses) > 0) == (in.Scope != "") {
		return out, plan.Refused("name addresses, or a scope")
	}
	list, err := s.meant(in.Addresses, in.Scope, lease.Active)
	if err != nil {
		return out, err
	}
	slices.SortFunc(list, netip.Prefix.Compare)
	list = slices.Compact(list)
	if act == leaseadmin.End && in.Silent {
		act = leaseadmin.EndSilent
	}
	acted := make([]leaseadmin.Acted, len(list))
	work.SideBySide(len(list), probesMost, func(i int) { acted[i] = s.Leases.Act(ctx, act, list[i], in.DryRun) })
	out.Clients = make([]api.ActedOne, len(list))
	for i, x := range acted {
		out.Clients[i] = api.ActedOne{Address: addr.FormatKey(x.Key), Hardware: x.Hardware.String(), Hostname: x.Hostname, Scope: x.Scope,
			Outcome: string(x.Outcome), Text: x.Text}
	}
	out.Text = actedText(acted, in.DryRun)
	return out, ctx.Err()
}

// outcomes are the outcomes in words for many clients, the good ones first; those that a
// preview would bring about have other words.
var outcomes = []struct {
	of          leaseadmin.Outcome
	done, would string
}{
	{leaseadmin.Answers, "answer", "answer"},
	{leaseadmin.Another, "another machine answers", "another machine answers"},
	{leaseadmin.Silent, "silent", "silent"},
	{leaseadmin.Unreachable, "that no probe reaches", "that no probe reaches"},
	{leaseadmin.Woken, "sent a magic packet", "would be sent a magic packet"},
	{leaseadmin.Nudged, "told to renew", "would be told to renew"},
	{leaseadmin.Ended, "ended", "would be ended"},
	{leaseadmin.Refused, "left as they are", "would be left as they are"},
}

// actedText counts the outcomes of acting on clients in words.
func actedText(acted []leaseadmin.Acted, preview bool) string {
	counts := map[leaseadmin.Outcome]int{}
	for _, x := range acted {
		counts[x.Outcome]++
	}
	var parts []string
	for _, o := range outcomes {
		if n := counts[o.of]; n > 0 {
			word := o.done
			if preview {
				word = o.would
			}
			parts = append(parts, fmt.Sprintf("%d %s", n, word))
		}
	}
	return fmt.Sprintf("%s: %s", plural(len(acted), "client", "clients"), cmp.Or(strings.Join(parts, ", "), "nobody has an active lease there"))
}
