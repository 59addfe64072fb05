package httpd

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/plan"
	"yarnpost/service/permit"
)

func (s *Server) registerMoving(a huma.API) {
	huma.Register(a, op("propose-move", http.MethodGet, "/api/scopes/{name}/move",
		"The edits that move everybody from a scope to another one of its link; nothing is changed", "plan", permit.See),
		func(_ context.Context, in *struct {
			Name string `path:"name"`
			To   string `query:"to" required:"true" doc:"The scope that they are to move to"`
		}) (*body[api.Move], error) {
			return respond(s.move(in.Name, in.To))
		})
}

// move proposes the edits that empty a scope into another: that one serves, reservations move
// to their places in it, and this one drains, so that each client moves when it renews.
func (s *Server) move(from, to string) (out api.Move, err error) {
	p := s.Engine.Plan()
	a, b := p.ScopeNamed(from), p.ScopeNamed(to)
	switch {
	case a == nil:
		return out, plan.Missing("scope", from)
	case b == nil:
		return out, plan.Missing("scope", to)
	case a == b:
		return out, plan.Refused("scope %s is where they are; name another scope of link %s", a.Name, p.Label(a.Link))
	case a.Family() != b.Family():
		return out, plan.Refused("scopes %s (%s) and %s (%s) are of two families; clients move to a scope of their own", a.Name, a.Subnet, b.Name,
			b.Subnet)
	case a.Link != b.Link:
		return out, plan.Refused("scope %s is on link %s and scope %s on link %s; clients only move within their link: "+
			"yarnpost scope edit %s --link %s puts both on one", a.Name, p.Label(a.Link), b.Name, p.Label(b.Link), b.Name, p.Label(a.Link))
	}
	out.Edits = []api.Edit{}
	set := func(v *plan.View, mode plan.Mode) {
		if v.Mode != mode {
			word := string(mode)
			out.Edits = append(out.Edits, api.Edit{Op: "edit", Kind: "scope", Name: v.Name, Scope: &api.ScopeEdit{Mode: &word}})
		}
	}
	set(b, plan.Serving)
	for _, r := range p.Reservations(a.ID) {
		out.Edits = append(out.Edits, api.Edit{Op: "edit", Kind: "reservation", Name: r.Name,
			Reservation: &api.ReservationEdit{Scope: &b.Name}})
		out.Reservations++
	}
	set(a, plan.Draining)
	held, room := s.Engine.Count(a.ID), s.Engine.Count(b.ID).Headroom
	out.Clients = held.Active
	out.Text = fmt.Sprintf("%s and %s move from %s to %s, each when its client renews; %s has room for %s more",
		plural(out.Clients, "client", "clients"), plural(out.Reservations, "reservation", "reservations"), a.Name, b.Name, b.Name,
		addr.CountText(room))
	if out.Short = uint64(held.Active-held.Claimed) > room; out.Short {
		out.Text += ", which is too few"
	}
	return out, nil
}
