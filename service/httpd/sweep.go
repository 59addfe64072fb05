package httpd

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/change"
	"yarnpost/service/work"
)

// staleAfter is how long a record that ended is kept before it counts as stale.
const staleAfter = 30 * 24 * time.Hour

// sweep lists what could be cleared, and clears it if that is confirmed.
func (s *Server) sweep(ctx context.Context, in api.SweepOrder) (out api.Swept, err error) {
	out = api.Swept{Items: []api.SweptItem{}, Kept: []string{}}
	wanted, err := s.wanted(in)
	if err != nil {
		return out, err
	}
	servers := 1
	if _, paired := s.Pair.View(); paired {
		servers = 2
	}
	switch in.Kind {
	case "abandoned":
		err = s.sweepAddresses(ctx, in, wanted, &out, func(l *lease.Lease, now lease.Time) (string, bool) {
			who := "somebody answered there"
			if l.Hardware != "" {
				who = l.Hardware.String() + " answered there, or declined it"
			}
			return who, l.Status == lease.Abandoned
		})
	case "stale":
		err = s.sweepAddresses(ctx, in, wanted, &out, func(l *lease.Lease, now lease.Time) (string, bool) {
			return "ended; only its former client would get it back", l.Former() && now.Sub(l.Changed) >= staleAfter
		})
	case "unclaimed":
		err = s.sweepReservations(ctx, in, wanted, &out)
	}
	for i := range out.Items {
		out.Items[i].Servers = servers
	}
	verb := "would be cleared"
	if out.Applied = in.Confirm && err == nil; out.Applied {
		verb = "cleared"
		s.log.Info("swept", "kind", in.Kind, "items", len(out.Items), "kept", len(out.Kept), "by", who(ctx).Name)
	}
	out.Text = fmt.Sprintf("%s %s", plural(len(out.Items), "item is", "items are"), verb)
	if !out.Applied {
		out.Text = fmt.Sprintf("%s %s", plural(len(out.Items), "item", "items"), verb)
	}
	if servers == 2 {
		out.Text += ", each counted once though both servers know of it"
	}
	return out, err
}

// sought says what of the plan and the table an order means.
type sought struct {
	scope     plan.ID
	addresses map[netip.Addr]bool
	older     time.Duration
}

func (s *Server) wanted(in api.SweepOrder) (w sought, err error) {
	if w.scope, err = s.scopeID(in.Scope); err != nil {
		return w, err
	}
	for _, text := range in.Addresses {
		a, err := addr.ParseAddr(text)
		if err != nil {
			return w, plan.Refused("%v", err)
		}
		if w.addresses == nil {
			w.addresses = map[netip.Addr]bool{}
		}
		w.addresses[a] = true
	}
	if in.Older != "" {
		if w.older, err = option.ParseDuration(in.Older); err != nil {
			return w, plan.Refused("%v", err)
		}
	}
	return w, nil
}

func (w sought) has(a netip.Addr) bool { return w.addresses == nil || w.addresses[a] }

// sweepMost bounds what one sweep clears.
const sweepMost = 10000

func (s *Server) sweepAddresses(ctx context.Context, in api.SweepOrder, w sought, out *api.Swept,
	is func(*lease.Lease, lease.Time) (string, bool)) error {
	now := lease.At(s.Clock.Now())
	p := s.Engine.Plan()
	var list []*lease.Lease
	s.Engine.EachLease(w.scope, func(l *lease.Lease) {
		if _, ok := is(l, now); ok && w.has(l.Address()) && now.Sub(l.Changed) >= w.older && len(list) < sweepMost &&
			fits(in.Search, l.Hardware.String(), l.Hostname, l.Address().String()) {
			list = append(list, l.Clone())
		}
	})
	slices.SortFunc(list, func(a, b *lease.Lease) int { return a.Address().Compare(b.Address()) })
	failed := make([]error, len(list))
	if in.Confirm {
		work.SideBySide(len(list), probesMost, func(i int) {
			clear := s.Leases.Forget
			if list[i].Status == lease.Abandoned {
				clear = s.clearOne
			}
			failed[i] = clear(ctx, list[i].Prefix)
		})
	}
	for i, l := range list {
		if failed[i] != nil {
			out.Kept = append(out.Kept, failed[i].Error())
			continue
		}
		text, _ := is(l, now)
		item := api.SweptItem{Kind: in.Kind, Subject: addr.FormatKey(l.Prefix), Address: addr.FormatKey(l.Prefix), Client: l.Hardware.String(),
			Since: l.Changed.Std(), Text: text}
		if v := p.ScopeAt(l.Address()); v != nil {
			item.Scope = v.Name
		}
		out.Items = append(out.Items, item)
	}
	return nil
}

// probesMost is how many addresses are cleared at a time: each waits for a probe.
const probesMost = 128

func (s *Server) clearOne(ctx context.Context, k netip.Prefix) error {
	_, err := s.Leases.Clear(ctx, k, false)
	return err
}

func (s *Server) sweepReservations(ctx context.Context, in api.SweepOrder, w sought, out *api.Swept) error {
	now := lease.At(s.Clock.Now())
	p := s.Engine.Plan()
	var ids []plan.ID
	var idle []*plan.Reservation
	used := map[plan.ID]lease.Time{} // when it was last, of those that ever were
	for _, r := range p.Reservations(w.scope) {
		var l *lease.Lease
		s.Engine.With(func(t *lease.Table) { l = t.At(r.Address) })
		if capacity.Claimed(r, l, now) || !w.has(r.Address) || !fits(in.Search, r.Name, r.Client(), r.Hostname,
			r.Address.String()) || len(ids) == sweepMost {
			continue
		}
		ids, idle = append(ids, r.ID), append(idle, r)
		if l != nil && l.Reserved {
			used[r.ID] = l.Heard
		}
	}
	changed, err := s.Store.Changed(ctx, plan.KindReservation, ids)
	if err != nil {
		return err
	}
	var names []string
	for _, r := range idle {
		since, text := changed[r.ID], ", which was never claimed"
		switch last, ever := used[r.ID]; {
		case ever:
			since, text = last.Std(), ", last used "+last.Std().Format(time.DateOnly)
		case !since.IsZero():
			text = ", reserved " + since.UTC().Format(time.DateOnly) + " and never claimed"
		}
		if w.older > 0 && !since.IsZero() && now.Std().Sub(since) < w.older {
			continue
		}
		names = append(names, r.Name)
		out.Items = append(out.Items, api.SweptItem{Kind: in.Kind, Subject: r.Name, Address: r.Address.String(), Scope: p.Label(r.Scope),
			Client: r.Client(), Since: since, Text: r.Address.String() + text})
	}
	if !in.Confirm || len(names) == 0 {
		return nil
	}
	c, err := s.Plans.Change(ctx, change.Order{Author: who(ctx).Name, Reason: "reservations that nobody claimed", Confirm: true},
		func(d *plan.Draft) error {
			for _, name := range names {
				if err := d.Remove(plan.KindReservation, name); err != nil {
					return err
				}
			}
			return nil
		})
	if err == nil {
		out.Revision = c.Revision
	}
	return err
}
