package httpd

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/leaseadmin"
	"yarnpost/service/permit"
	"yarnpost/service/work"
)

type leaseQuery struct {
	Search string   `query:"search" doc:"Part of address, hardware address, identifier, host name, vendor or circuit"`
	Scope  string   `query:"scope"`
	Status []string `query:"status" doc:"Any of active, registered (IPv6: made by its client), released, expired, abandoned" enum:"active,registered,released,expired,abandoned"`
	Sort   string   `query:"sort" enum:"address,hardware,hostname,vendor,scope,status,since,expires,heard,changed" default:"address"`
	Desc   bool     `query:"desc"`
	After  string   `query:"after" doc:"Where the page before ended"`
	Limit  int      `query:"limit" default:"100" minimum:"1" maximum:"10000"`

	At time.Time `query:"at" doc:"The table as it was at this moment, from history; as it is, if left out"`
}

type addressed struct {
	Address string `path:"address"`
}

func (s *Server) registerLeases(a huma.API) {
	huma.Register(a, op("list-leases", http.MethodGet, "/api/leases", "The lease table", "leases", permit.See),
		func(ctx context.Context, in *leaseQuery) (*body[api.Page[api.Lease]], error) {
			return respond(s.leases(ctx, in))
		})
	huma.Register(a, op("show-lease", http.MethodGet, "/api/leases/{address}", "One lease", "leases", permit.See),
		func(_ context.Context, in *addressed) (*body[api.Lease], error) {
			at, err := addr.ParseKey(in.Address)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			var l *lease.Lease
			s.Engine.With(func(t *lease.Table) { l = t.Get(at) })
			if l == nil || l.Status == lease.Free {
				return nil, huma.Error404NotFound(fmt.Sprintf("%s has no lease on record", addr.FormatKey(at)))
			}
			view := leaseView(s.Engine.Plan(), l)
			view.Beside = s.beside(l)
			return respond(view, nil)
		})
	s.registerLeaseSheet(a)
	type end = func(context.Context, netip.Prefix, bool) (leaseadmin.Ending, error)
	endings := []struct {
		id, path, summary, done, would string
		do                             func() end
	}{
		{"end-lease", "end", "End a lease; its client finds out when it next renews", "is ended", "would be ended",
			func() end { return s.Leases.End }},
		{"clear-lease", "clear", "Clear an abandoned or kept address, so that it can be handed out again", "is cleared",
			"would be cleared",
			func() end { return s.Leases.Clear }},
	}
	for _, e := range endings {
		huma.Register(a, op(e.id, http.MethodPost, "/api/leases/{address}/"+e.path, e.summary, "leases", permit.Clients),
			func(ctx context.Context, in *struct {
				Address string `path:"address"`
				DryRun  bool   `query:"dryRun" doc:"Only say what would happen"`
			}) (*body[api.Ended], error) {
				at, err := addr.ParseKey(in.Address)
				if err != nil {
					return nil, huma.Error422UnprocessableEntity(err.Error())
				}
				x, err := e.do()(ctx, at, in.DryRun)
				if err != nil {
					return nil, failure(err)
				}
				verb := e.done
				if in.DryRun {
					verb = e.would
				} else {
					s.log.Info("lease "+e.path, "address", addr.FormatKey(at), "by", who(ctx).Name)
				}
				text := strings.TrimSpace(fmt.Sprintf("%s of %s %s", addr.FormatKey(at), x.Lease.Hardware,
					x.Lease.Hostname)) + " " + verb + ": " + x.Text
				return respond(api.Ended{Applied: !in.DryRun, Lease: leaseView(s.Engine.Plan(), x.Lease), Text: text}, nil)
			})
	}
	huma.Register(a, op("clear-leases", http.MethodPost, "/api/leases/clear",
		"Clear many abandoned addresses; those that still answer stay",
		"leases", permit.Clients), func(ctx context.Context, in *body[api.ClearRequest]) (*body[api.Cleared], error) {
		return respond(s.clearMany(ctx, in.Body))
	})
	huma.Register(a, op("list-unserved", http.MethodGet, "/api/unserved", "Clients that ask and get nothing, or a refusal; latest first",
		"leases", permit.See), func(ctx context.Context, in *struct {
		Search string `query:"search" doc:"Part of hardware address, host name, vendor, relay, scope, reason or refusing server"`
		Reason string `query:"reason"`
	}) (*body[api.Page[api.Unserved]], error) {
		list, silent := s.unserved(ctx, in.Search, in.Reason)
		out, err := listed(s, list)
		if err == nil && silent != "" {
			out.Body.Missing = []string{silent}
		}
		return out, err
	})
}

// probedMost bounds how many addresses are acted on at a time: most acts probe each.
const probedMost = 1000

func (s *Server) clearMany(ctx context.Context, in api.ClearRequest) (api.Cleared, error) {
	out := api.Cleared{Applied: !in.DryRun, Cleared: []api.Lease{}, Kept: []string{}}
	list, err := s.toClear(in)
	if err != nil {
		return out, err
	}
	var mu sync.Mutex
	work.SideBySide(len(list), probesMost, func(i int) {
		x, err := s.Leases.Clear(ctx, list[i], in.DryRun)
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			out.Kept = append(out.Kept, err.Error())
		} else {
			out.Cleared = append(out.Cleared, leaseView(s.Engine.Plan(), x.Lease))
		}
	})
	slices.SortFunc(out.Cleared, func(a, b api.Lease) int {
		return byKey(a.Address, b.Address)
	})
	slices.Sort(out.Kept)
	verb := "cleared"
	if in.DryRun {
		verb = "would be cleared"
	} else {
		s.log.Info("addresses cleared", "cleared", len(out.Cleared), "kept", len(out.Kept), "by", who(ctx).Name)
	}
	out.Text = fmt.Sprintf("%d of %d addresses %s", len(out.Cleared), len(list), verb)
	return out, nil
}

// toClear lists the addresses that a request means.
func (s *Server) toClear(in api.ClearRequest) (list []netip.Prefix, err error) {
	if ways := len(in.Addresses) > 0; ways && (in.All || in.Scope != "") || !ways && !in.All && in.Scope == "" {
		return nil, plan.Refused("name addresses, or a scope, or all")
	}
	return s.meant(in.Addresses, in.Scope, lease.Abandoned)
}

// scopeID is the id of the scope of a name, or 0, which is all of them, for no name.
func (s *Server) scopeID(name string) (plan.ID, error) {
	if name == "" {
		return 0, nil
	}
	v := s.Engine.Plan().ScopeNamed(name)
	if v == nil {
		return 0, plan.Missing("scope", name)
	}
	return v.ID, nil
}

// byKey orders addresses and prefixes as text.
func byKey(a, b string) int {
	k, _ := addr.ParseKey(a)
	o, _ := addr.ParseKey(b)
	return k.Compare(o)
}

// meant lists addresses that are named, or else those of a status in a scope, or, if none is
// named, in any: so many as can be probed while somebody waits.
func (s *Server) meant(named []string, in string, status lease.Status) (list []netip.Prefix, err error) {
	for _, text := range named {
		k, err := addr.ParseKey(text)
		if err != nil {
			return nil, plan.Refused("%v", err)
		}
		list = append(list, k)
	}
	if len(list) > 0 {
		return list, nil
	}
	scope, err := s.scopeID(in)
	if err != nil {
		return nil, err
	}
	s.Engine.EachLease(scope, func(l *lease.Lease) {
		if l.Status == status && len(list) < probedMost {
			list = append(list, l.Prefix)
		}
	})
	return list, nil
}

// unserved lists who goes without on either server of a pair; silent names the other
// one if it cannot be asked.
func (s *Server) unserved(ctx context.Context, search, reason string) (out []api.Unserved, silent string) {
	out = []api.Unserved{}
	list, silent := s.Pair.Unserved(ctx)
	for _, u := range list {
		v := unservedView(u.Unserved)
		v.Servers = u.Servers
		if (reason == "" || reason == v.Reason) &&
			fits(search, v.Hardware, v.Hostname, v.Vendor, v.Relay, v.Scope, v.Reason, v.Text, strings.Join(v.Servers, " ")) {
			out = append(out, v)
		}
	}
	sort.Slice(out, func(i, j int) bool {
		if !out[i].Last.Equal(out[j].Last) {
			return out[i].Last.After(out[j].Last)
		}
		return out[i].Hardware < out[j].Hardware
	})
	return out, silent
}

// besideMost bounds what of a host is told beside a lease.
const besideMost = 50

// beside is what the host of a lease has besides, of both families, by address.
func (s *Server) beside(l *lease.Lease) (out []api.Beside) {
	p, now := s.Engine.Plan(), lease.At(s.Clock.Now())
	s.Engine.EachLease(0, func(o *lease.Lease) {
		if o.Prefix != l.Prefix && o.HeldAt(now) && sameHost(l, o) && len(out) < besideMost {
			v := leaseView(p, o)
			out = append(out, api.Beside{Address: v.Address, Status: v.Status, Scope: v.Scope})
		}
	})
	slices.SortFunc(out, func(a, b api.Beside) int { return cmp.Compare(a.Address, b.Address) })
	return out
}

// sameHost reports whether two leases are of one host: by its hardware address, or by its DUID, which
// a client of IPv4 may send in its identifier (RFC 4361).
func sameHost(a, b *lease.Lease) bool {
	if a.Hardware != "" && a.Hardware == b.Hardware {
		return true
	}
	d := duidOf(a.Client)
	return d != "" && d == duidOf(b.Client)
}

func duidOf(c lease.Client) string {
	if id := c.Identifier(); len(id) > 5 && id[0] == 255 { // type, IAID, DUID
		return id[5:]
	}
	return c.DUID()
}
