package httpd

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/service/permit"
)

func (s *Server) registerUnderstand(a huma.API) {
	huma.Register(a, op("explain", http.MethodPost, "/api/explain",
		"What a hypothetical client would be answered, and each step that leads there; nothing is touched", "understanding", permit.See),
		func(_ context.Context, in *body[api.Ask]) (*body[api.Explanation], error) {
			return respond(s.explain(in.Body))
		})
	huma.Register(a, op("list-exchanges", http.MethodGet, "/api/exchanges", "Recent messages, each with what was decided and why",
		"understanding", permit.See), func(ctx context.Context, in *exchangeQuery) (*body[api.Page[api.Exchange]], error) {
		return s.exchanges(in, s.sightOf(ctx))
	})
	huma.Register(a, op("export-exchanges", http.MethodGet, "/api/exchanges/pcap", "Recent messages and replies as a capture file",
		"understanding", permit.See), func(ctx context.Context, in *exchangeQuery) (*huma.StreamResponse, error) {
		b, err := s.capture(in, s.sightOf(ctx))
		if err != nil {
			return nil, failure(err)
		}
		return &huma.StreamResponse{Body: func(c huma.Context) {
			c.SetHeader("Content-Type", "application/vnd.tcpdump.pcap")
			c.SetHeader("Content-Disposition", `attachment; filename="conversations.pcap"`)
			_, _ = c.BodyWriter().Write(b)
		}}, nil
	})
	huma.Register(a, op("show-given", http.MethodGet, "/api/leases/{address}/options",
		"What the holder of a lease asked with and was last given", "understanding", permit.See), func(_ context.Context,
		in *addressed) (*body[api.GivenOptions], error) {
		return respond(s.given(in.Address))
	})
	huma.Register(a, op("list-unmet", http.MethodGet, "/api/unmet", "Options that clients ask for and nobody set", "understanding", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.UnmetOption]], error) {
			return listed(s, s.unmet())
		})
	huma.Register(a, op("list-stale", http.MethodGet, "/api/stale",
		"Clients that still hold options from before a change, and when each will renew", "understanding", permit.See), func(_ context.Context,
		in *struct {
			Scope string `query:"scope"`
		}) (*body[api.StaleLeases], error) {
		return respond(s.stale(in.Scope))
	})
	huma.Register(a, op("nudge", http.MethodPost, "/api/nudge", "Make clients renew at once (FORCERENEW, RFC 6704), paced", "leases",
		permit.Clients), func(ctx context.Context, in *body[api.NudgeRequest]) (*body[api.Nudged], error) {
		return respond(s.nudge(ctx, in.Body))
	})
	huma.Register(a, op("search-history", http.MethodGet, "/api/history", "Who had an address, or where a client has been; newest first",
		"leases", permit.See), func(ctx context.Context, in *historyQuery) (*body[api.Page[api.LeaseEvent]], error) {
		return s.history(ctx, in)
	})
}
