package httpd

import (
	"cmp"
	"net/netip"
	"slices"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// cells6 is the map of an IPv6 scope: what is used of it, since by position there would be
// nothing but emptiness. Each address or prefix that is leased, on offer or reserved is a cell;
// abandoned ones come first, then by use; cells stand for more where there are many.
func (s *Server) cells6(p *plan.Plan, v *plan.View) []api.Cell {
	type use struct {
		key              netip.Prefix
		status, hw, host string
	}
	by := map[netip.Prefix]use{}
	mark := func(u use) {
		if was, there := by[u.key]; !there || rank[u.status] > rank[was.status] {
			by[u.key] = u
		}
	}
	for _, r := range p.Reservations(v.ID) {
		mark(use{r.Key(), "reserved", r.Hardware.String(), r.Hostname})
	}
	s.Engine.EachLease(v.ID, func(l *lease.Lease) {
		if l.Client.Known() || l.Status != lease.Free {
			mark(use{l.Prefix, statusWord(l), l.Hardware.String(), l.Hostname})
		}
	})
	s.Engine.With(func(t *lease.Table) {
		for _, o := range t.Offers(v.ID) {
			mark(use{o.Prefix, "offered", "", ""})
		}
	})
	all := make([]use, 0, len(by))
	for _, u := range by {
		all = append(all, u)
	}
	slices.SortFunc(all, func(a, b use) int {
		return cmp.Or(rank[b.status]-rank[a.status], a.key.Compare(b.key))
	})
	step := max(1, (len(all)+mapCells-1)/mapCells)
	out := []api.Cell{}
	for from := 0; from < len(all); from += step {
		some := all[from:min(len(all), from+step)]
		c := api.Cell{From: addr.FormatKey(some[0].key), To: addr.FormatKey(some[len(some)-1].key), Status: some[0].status, Size: len(some)}
		for _, u := range some {
			if u.status == "active" {
				c.Active++
			}
		}
		if len(some) == 1 {
			c.Hardware, c.Hostname = some[0].hw, some[0].host
		}
		out = append(out, c)
	}
	return out
}
