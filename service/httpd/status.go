package httpd

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/jackc/pgx/v5/pgconn"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/plan"
	"yarnpost/service/accounts"
	"yarnpost/service/change"
	"yarnpost/service/failover"
	"yarnpost/service/leaseadmin"
	"yarnpost/service/permit"
	"yarnpost/service/store"
)

// failure turns errors of the rooms below into problem documents.
func failure(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, plan.ErrNotFound), errors.Is(err, leaseadmin.ErrNoLease):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, permit.ErrRefused):
		return huma.Error403Forbidden(err.Error())
	case errors.Is(err, plan.ErrRefused):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.Is(err, failover.ErrApart), errors.Is(err, failover.ErrParted), errors.Is(err, errPair):
		return huma.Error409Conflict(strings.TrimPrefix(err.Error(), errPair.Error()+": "))
	case errors.Is(err, store.ErrStale), errors.Is(err, change.ErrConfirm), errors.Is(err, leaseadmin.ErrInUse):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, accounts.ErrWeak), errors.Is(err, accounts.ErrToken), errors.Is(err, accounts.ErrAccount):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.Is(err, accounts.ErrTooMany):
		return huma.Error429TooManyRequests(err.Error())
	case errors.Is(err, accounts.ErrSignIn):
		return huma.Error401Unauthorized(err.Error())
	}
	if errors.Is(err, context.Canceled) { // given up, if whoever asks is still there
		return huma.Error503ServiceUnavailable(databaseAway + "; bring it back, and do this again")
	}
	var pg *pgconn.PgError
	if errors.As(err, &pg) { // the statement is nobody's business
		return huma.Error503ServiceUnavailable("the database refused: " + pg.Message + "; the service's log says more")
	}
	return huma.Error503ServiceUnavailable(err.Error())
}

const databaseAway = "the database does not answer"

type body[T any] struct{ Body T }

func respond[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, failure(err)
	}
	return &body[T]{v}, nil
}

type cookieOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

func (s *Server) cookie(value string, age time.Duration) http.Cookie {
	return http.Cookie{Name: cookieName, Value: value, Path: "/", HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteStrictMode,
		MaxAge: int(age.Seconds())}
}

func (s *Server) registerSession(a huma.API) {
	huma.Register(a, op("sign-in", http.MethodPost, "/api/session", "Sign in", "access", permit.Nothing),
		func(ctx context.Context, in *body[api.SignIn]) (*cookieOut, error) {
			secret, err := s.Access.SignIn(ctx, source(ctx), in.Body.Account, in.Body.Password)
			if err != nil {
				return nil, failure(err)
			}
			account, _ := s.Access.Who(secret)
			return &cookieOut{s.cookie(secret, accounts.SessionTime), api.Session{Account: account.Name, MustChange: account.MustChange}},
				nil
		})
	huma.Register(a, op("show-session", http.MethodGet, "/api/session", "Who is signed in", "access", permit.Self),
		func(ctx context.Context, _ *struct{}) (*body[api.Session], error) {
			w := who(ctx)
			return respond(api.Session{Account: w.Name, MustChange: w.MustChange}, nil)
		})
	huma.Register(a, op("sign-out", http.MethodDelete, "/api/session", "Sign out", "access", permit.Self), func(ctx context.Context,
		in *struct {
			Session string `cookie:"yarnpost_session"`
		}) (*cookieOut, error) {
		if in.Session != "" {
			if err := s.Access.SignOut(ctx, in.Session); err != nil {
				return nil, failure(err)
			}
		}
		return &cookieOut{s.cookie("", -time.Second), api.Session{}}, nil
	})
	huma.Register(a, op("change-password", http.MethodPost, "/api/password", "Replace one's own password; sign in again afterwards",
		"access",
		permit.Self), func(ctx context.Context, in *body[api.NewPassword]) (*struct{}, error) {
		return nil, failure(s.Access.ChangePassword(ctx, source(ctx), who(ctx).Name, in.Body.Old, in.Body.New))
	})
}

func accountView(a store.Account) api.Account {
	out := api.Account{Name: a.Name, State: "open", Changed: a.Changed.UTC()}
	switch {
	case a.Password == "":
		out.State = "closed"
	case a.MustChange:
		out.State = "new"
	}
	return out
}

func (s *Server) registerAccounts(a huma.API) {
	huma.Register(a, op("list-accounts", http.MethodGet, "/api/accounts", "Accounts, without their passwords", "access", permit.Access),
		func(context.Context, *struct{}) (*body[api.Page[api.Account]], error) {
			out := []api.Account{}
			for _, a := range s.Access.Accounts() {
				out = append(out, accountView(a))
			}
			return listed(s, out)
		})
	huma.Register(a, op("add-account", http.MethodPost, "/api/accounts", "Make an account; its one-time password is shown this once", "access",
		permit.Access), func(ctx context.Context, in *body[api.NewAccount]) (*body[api.Account], error) {
		password, err := s.Access.AddAccount(ctx, in.Body.Name)
		return respond(api.Account{Name: in.Body.Name, State: "new", Changed: s.Clock.Now().UTC(), Password: password}, err)
	})
	huma.Register(a, op("close-account", http.MethodDelete, "/api/accounts/{name}", "End an account at once, with its sessions and tokens",
		"access", permit.Access),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, failure(s.Access.CloseAccount(ctx, in.Name, who(ctx).Name))
		})
}

func (s *Server) registerTokens(a huma.API) {
	huma.Register(a, op("list-tokens", http.MethodGet, "/api/tokens", "API tokens, without their secrets", "access", permit.Access),
		func(context.Context, *struct{}) (*body[api.Page[api.Token]], error) {
			out := []api.Token{}
			for _, g := range s.Access.Tokens() {
				out = append(out, api.Token{Name: g.Name, Account: g.Account, Made: g.Made.UTC()})
			}
			return listed(s, out)
		})
	huma.Register(a, op("add-token", http.MethodPost, "/api/tokens", "Make an API token; its secret is shown this once", "access",
		permit.Access),
		func(ctx context.Context, in *body[api.NewToken]) (*body[api.Token], error) {
			secret, err := s.Access.AddToken(ctx, who(ctx).Name, in.Body.Name)
			if err == nil {
				s.log.Info("API token added", "name", in.Body.Name, "account", who(ctx).Name, "from", source(ctx))
			}
			return respond(api.Token{Name: in.Body.Name, Account: who(ctx).Name, Made: s.Clock.Now().UTC(), Secret: secret}, err)
		})
	huma.Register(a, op("revoke-token", http.MethodDelete, "/api/tokens/{name}", "End an API token at once", "access", permit.Access),
		func(ctx context.Context, in *named) (*struct{}, error) {
			err := s.Access.RevokeToken(ctx, who(ctx).Name, in.Name)
			if err == nil {
				s.log.Info("API token revoked", "name", in.Name, "account", who(ctx).Name, "from", source(ctx))
			}
			return nil, failure(err)
		})
}

func (s *Server) registerStatus(a huma.API) {
	huma.Register(a, op("show-status", http.MethodGet, "/api/status", "State of the service", "service", permit.See),
		func(context.Context, *struct{}) (*body[api.Status], error) {
			return respond(s.status(), nil)
		})
	sse.Register(a, op("listen", http.MethodGet, "/api/events", "What happens, as it happens", "service", permit.See),
		map[string]any{"lease": api.LiveLease{}, "pair": api.LivePair{}, "plan": api.LiveRevision{}, "beat": api.LiveBeat{}},
		func(ctx context.Context, _ *struct{}, send sse.Sender) {
			sub := s.Events.Subscribe()
			defer s.Events.Cancel(sub)
			beat := time.NewTicker(5 * time.Second)
			defer beat.Stop()
			if send.Data(api.LiveBeat{Now: s.Clock.Now().UTC()}) != nil {
				return
			}
			for {
				var err error
				ended := s.Access.Changed()
				if !holds(ctx) {
					return
				}
				select {
				case <-ctx.Done():
					return
				case <-ended: // perhaps its own session
					continue
				case <-beat.C:
					err = send.Data(api.LiveBeat{Now: s.Clock.Now().UTC(), Missed: sub.Missed.Swap(0)})
				case e := <-sub.C:
					if e.Lease != nil && !s.sightOf(ctx).at(addr.FormatKey(e.Lease.Prefix)) {
						continue
					} else if e.Lease != nil {
						err = send.Data(api.LiveLease{Lease: leaseView(s.Engine.Plan(), e.Lease)})
					} else if e.Pair {
						err = send.Data(api.LivePair{Now: s.Clock.Now().UTC()})
					} else {
						err = send.Data(api.LiveRevision{Revision: e.Revision})
					}
				}
				if err != nil {
					return
				}
			}
		})
}

// portText is an address with a port as text; "" for none.
func portText(at netip.AddrPort) string {
	if !at.IsValid() {
		return ""
	}
	return at.String()
}

func (s *Server) status() api.Status {
	e := s.Engine
	p := e.Plan()
	v, paired := s.Pair.View()
	recorded, commits := s.Service.Recorded()
	st := api.Status{Version: Version, Started: s.Started.UTC(), Now: s.Clock.Now().UTC(), Revision: p.Revision, Healthy: true,
		DHCP4: s.Service.DHCP4().String(), DHCP6: portText(s.Service.DHCP6()), DUID: s.Engine.DUID().String(),
		Wires: []api.Wire{}, Unserved: e.UnservedCount(), Served5m: s.Engine.Served(5 * time.Minute),
		Served24h: s.Engine.Served(24 * time.Hour), Recorded: recorded, Commits: commits, Warnings: s.warnings(v, paired)}
	st.Name = v.Own.Name
	if paired {
		st.Pair, st.Partner, st.Takeover = v.Own.State, v.Partner.Name, len(v.Reasons) == 0
	}
	if err := s.Service.Health(); err != nil {
		st.Healthy = false
		st.Problem = err.Error() + "; new clients get nothing until the database is back, and leases are not prolonged"
	}
	for _, i := range s.Host.PlanInterfaces() {
		w := api.Wire{Name: i.Name, Addresses: []string{}}
		id := p.LinkOnInterface(i.Name)
		for _, a := range i.Prefixes {
			w.Addresses = append(w.Addresses, a.String())
			if v := p.ScopeAt(a.Addr()); v != nil && id == 0 {
				id = v.Link
			}
		}
		w.Link = p.Label(id)
		st.Wires = append(st.Wires, w)
	}
	for _, v := range p.Scopes() {
		st.Scopes++
		st.Active += e.Count(v.ID).Active + e.CountDelegated(v.ID).Active
	}
	return st
}
