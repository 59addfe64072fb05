package httpd

import (
	"cmp"
	"context"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/rule"
	"yarnpost/service/permit"
	"yarnpost/service/samples"
)

func (s *Server) registerCapacity(a huma.API) {
	huma.Register(a, op("list-capacity", http.MethodGet, "/api/capacity",
		"How full every scope, pool and link is, and when it runs out; the first to run out first", "capacity", permit.See),
		func(ctx context.Context, in *struct {
			Kind   string `query:"kind" enum:"scope,pool,link,supernet,all" doc:"Only those"`
			Search string `query:"search" doc:"Part of name or pool"`
			After  string `query:"after" doc:"Where the page before ended"`
			Limit  int    `query:"limit" default:"1000" minimum:"1" maximum:"10000"`
		}) (*body[api.Page[api.Capacity]], error) {
			out := []api.Capacity{}
			outlooks, _ := s.Samples.Outlooks()
			for _, l := range s.Samples.Levels(nil) {
				if v := capacityView(l, outlooks); (in.Kind == "" || v.Kind == in.Kind) && fits(in.Search, v.Name, v.Pool) {
					out = append(out, v)
				}
			}
			slices.SortStableFunc(out, byUrgency)
			return cut(s, out, in.After, in.Limit)
		})
	huma.Register(a, op("show-capacity", http.MethodGet, "/api/capacity/{name}", "The use of a scope, a pool of it, or all, over time", "capacity", permit.See),
		func(ctx context.Context, in *struct {
			Name  string `path:"name" doc:"A scope, a supernet, or ~all"`
			Of    string `query:"of" enum:"scope,supernet" default:"scope" doc:"What the name is of"`
			Pool  string `query:"pool" doc:"One of its pools"`
			Since string `query:"since" default:"28d" doc:"How far back"`
		}) (*body[api.CapacityDetail], error) {
			return respond(s.capacityDetail(ctx, in.Of, in.Name, in.Pool, in.Since))
		})
	huma.Register(a, op("show-users", http.MethodGet, "/api/capacity/{name}/users", "Who uses the addresses of a scope, or of all, and what could be won back",
		"capacity", permit.See), func(ctx context.Context, in *named) (*body[api.CapacityUsers], error) {
		return respond(s.capacityUsers(ctx, in.Name))
	})
	huma.Register(a, op("size-pool", http.MethodPost, "/api/capacity/size", "What a demand needs, or what a pool can take", "capacity", permit.See),
		func(_ context.Context, in *body[api.SizeRequest]) (*body[api.Size], error) {
			return respond(sizeOf(in.Body))
		})
	huma.Register(a, op("show-subnet", http.MethodGet, "/api/subnet", "What there is to know about a subnet", "capacity", permit.See),
		func(_ context.Context, in *struct {
			Subnet string `query:"subnet" required:"true"`
			Split  int    `query:"split" minimum:"0" maximum:"128" doc:"Prefix length of the parts"`
		}) (*body[api.SubnetInfo], error) {
			return respond(s.subnetInfo(in.Subnet, in.Split))
		})
}

// dayOf is a day of a site, or nil for none: its zone goes along, or it would be read as
// the day before.
func dayOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func capacityView(l samples.Level, outlooks map[capacity.Key]samples.Outlook) api.Capacity {
	c := l.Count
	out := api.Capacity{Kind: "all", Name: l.Name, Size: api.Count(c.Size), Used: api.Count(c.Used()), Share: c.Share(),
		Excluded: api.Count(c.Excluded),
		Reserved: api.Count(c.Reserved), Claimed: api.Count(c.Claimed), Active: api.Count(c.Active), Offered: api.Count(c.Offered),
		Released: api.Count(c.Released), Kept: api.Count(c.Kept), Expired: api.Count(c.Expired), Abandoned: api.Count(c.Abandoned),
		Headroom: api.Count(c.Headroom), Partner: api.Count(c.Partner), Trend: []int{}}
	switch {
	case l.Key.Pool.Valid():
		out.Kind, out.Pool = "pool", l.Key.Pool.String()
	case l.Key.Scope != 0:
		out.Kind = "scope"
	case l.Key.Link != 0:
		out.Kind = "link"
	case l.Key.Supernet != 0:
		out.Kind = "supernet"
	}
	if l.Scope != nil {
		out.Link, out.Mode = l.Scope.LinkName, string(l.Scope.Mode)
	}
	if o, ok := outlooks[l.Key]; ok {
		o.Now(o.At, l.Used() >= l.Size) // it may have filled since
		f := forecastView(o)
		out.Forecast, out.Trend = &f, o.Trend
	}
	return out
}

func forecastView(o samples.Outlook) api.Forecast {
	f := o.Forecast
	return api.Forecast{Verdict: string(f.Verdict), Text: f.Text(), Date: dayOf(f.Date), Early: dayOf(f.Early),
		Late: dayOf(f.Late), Until: f.Until,
		Level: f.Level, PerDay: f.PerDay, Peak: f.Peak, Size: f.Size, Days: f.Days, Step: dayOf(f.Step),
		Events: append([]time.Time{}, f.Events...), Gaps: f.Gaps, At: moment(o.At)}
}

// byUrgency puts first what runs out first, and then what is fullest.
func byUrgency(a, b api.Capacity) int {
	return cmp.Or(cmp.Compare(urgency(a), urgency(b)), -cmp.Compare(a.Share, b.Share), cmp.Compare(a.Name, b.Name))
}

func urgency(c api.Capacity) int64 {
	f := c.Forecast
	switch {
	case c.Size == 0:
		return 1 << 62
	case c.Used >= c.Size:
		return 0
	case f == nil:
		return 1 << 61
	case f.Date != nil:
		return f.Date.Unix()
	case f.Early != nil:
		return f.Early.Unix() + 1<<40
	}
	return 1 << 60
}

// level finds what a path names: a scope, a pool of it, a supernet, or all.
func (s *Server) level(of, name, pool string) (samples.Level, error) {
	var want capacity.Key
	switch {
	case of == "supernet":
		n := s.Engine.Plan().SupernetNamed(name)
		if n == nil {
			return samples.Level{}, plan.Missing("supernet", name)
		}
		if len(s.Engine.Plan().Inside(n.Prefix)) == 0 {
			return samples.Level{}, plan.Refused("supernet %s has no scope in it, so there is no use of it to show", n.Name)
		}
		want.Supernet = n.ID
	case name != "~all":
		v := s.Engine.Plan().ScopeNamed(name)
		if v == nil {
			return samples.Level{}, plan.Missing("scope", name)
		}
		want.Scope = v.ID
		if pool != "" {
			r, err := addr.ParseRange(pool)
			if err != nil {
				return samples.Level{}, plan.Refused("%v", err)
			}
			if want.Pool = r; len(v.Parts) == 1 && v.Parts[0].Pool == r {
				want.Pool = addr.Range{}
			}
		}
	}
	for _, l := range s.Samples.Levels(nil) {
		if l.Key == want {
			return l, nil
		}
	}
	return samples.Level{}, plan.Missing("pool", pool)
}

func (s *Server) capacityDetail(ctx context.Context, of, name, pool, since string) (out api.CapacityDetail, err error) {
	span, err := option.ParseDuration(since)
	if err != nil || span <= 0 || span > 370*24*time.Hour {
		return out, plan.Refused("%q is no span of time that is kept; write 28d, a year at the most", since)
	}
	l, err := s.level(of, name, pool)
	if err != nil {
		return out, err
	}
	room := s.Samples
	o, err := room.Outlook(ctx, l)
	if err != nil {
		return out, err
	}
	out = api.CapacityDetail{Capacity: capacityView(l, map[capacity.Key]samples.Outlook{l.Key: o}), Bands: []api.CapacityBand{},
		Marks: []api.CapacityMark{}, Busy: o.Busy(), Zone: o.Zone(), Helps: []api.CapacityHelp{}}
	for _, b := range o.Bands {
		out.Bands = append(out.Bands, api.CapacityBand{Day: b.Day, Low: b.Low, Mid: b.Mid, High: b.High})
	}
	from := s.Clock.Now().Add(-span)
	if out.Points, err = s.points(ctx, l, from, span); err != nil {
		return out, err
	}
	if l.Scope == nil {
		return out, nil
	}
	w := l.Scope.Warn
	out.Thresholds = api.Thresholds{Used: w.Used, Headroom: w.Headroom, Days: w.Days}
	if out.Marks, err = s.marks(ctx, l.Scope, from); err != nil {
		return out, err
	}
	users, unused, _ := s.users(l.Scope)
	scene := capacity.Scene{View: l.Scope, Count: l.Count, Forecast: o.Forecast, Users: users, Unused: unused}
	p := s.Engine.Plan()
	for _, v := range p.Serving(l.Scope.Link, l.Scope.Family()) {
		if v.ID != l.Scope.ID && v.Mode == plan.Serving {
			n := s.Engine.Count(v.ID)
			scene.Beside = append(scene.Beside, capacity.Level{Name: v.Name, Count: capacity.Count{Headroom: n.Headroom}})
		}
	}
	for _, h := range capacity.Helps(scene) {
		v := api.CapacityHelp{Kind: h.Kind, Text: h.Text, Addresses: h.Addresses, Days: h.Days, Until: moment(h.Until),
			Renewals: h.Renewals, Command: h.Edit}
		if h.Lease > 0 {
			v.Lease = option.FormatDuration(h.Lease)
		}
		out.Helps = append(out.Helps, v)
	}
	return out, nil
}

// points are what is known of a span: by the minute where it is short, else by the
// hour.
func (s *Server) points(ctx context.Context, l samples.Level, from time.Time, span time.Duration) ([]api.CapacityPoint, error) {
	out := []api.CapacityPoint{}
	begins := s.Clock.Now()
	var fine []api.CapacityPoint
	if span <= 2*24*time.Hour {
		list, err := s.Store.Minutes(ctx, l.Key.String(), from)
		if err != nil {
			return nil, err
		}
		for _, m := range list {
			n := func(c int) int64 { return int64(m.Row[c]) }
			u := n(capacity.ColUsed)
			fine = append(fine, api.CapacityPoint{At: m.At, Low: u, Mean: u, Peak: u, Size: n(capacity.ColSize), Headroom: n(capacity.ColHeadroom),
				Active: n(capacity.ColActive), Abandoned: n(capacity.ColAbandoned), New: n(capacity.ColNew), Returned: n(capacity.ColReturned),
				Left: n(capacity.ColLeft)})
		}
		if len(fine) > 0 {
			begins = fine[0].At
		}
	}
	start, hours, err := s.Store.Hours(ctx, l.Key.String(), from)
	if err != nil {
		return nil, err
	}
	for i, h := range hours {
		at := start.Add(time.Duration(i) * time.Hour)
		if h[capacity.HourSamples] == 0 || at.Add(time.Hour).Before(from) || !at.Before(begins) {
			continue
		}
		n := func(c int) int64 { return int64(h[c]) }
		out = append(out, api.CapacityPoint{At: at, Low: n(capacity.HourLow), Mean: n(capacity.HourMean), Peak: n(capacity.HourPeak),
			Size: n(capacity.HourSize), Headroom: n(capacity.HourHeadroom), Active: n(capacity.HourActive), Abandoned: n(capacity.HourAbandoned),
			New: n(capacity.HourNew), Returned: n(capacity.HourReturned), Left: n(capacity.HourLeft)})
	}
	return append(out, fine...), nil
}

const marksMost = 50

// marks are the moments at which the plan of a scope changed.
func (s *Server) marks(ctx context.Context, v *plan.View, from time.Time) ([]api.CapacityMark, error) {
	out := []api.CapacityMark{}
	list, err := s.Store.ChangesOf(ctx, v.ID, from, marksMost)
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		out = append(out, api.CapacityMark{At: c.At.UTC(), Revision: c.Revision, Text: c.Text})
	}
	return out, nil
}

// users looks at who uses a scope, or all for nil.
func (s *Server) users(v *plan.View) (*capacity.Users, capacity.Winnable, []api.CapacityGroup) {
	now := lease.At(s.Clock.Now())
	u := capacity.NewUsers(now)
	p := s.Engine.Plan()
	id := plan.ID(0)
	if v != nil {
		id = v.ID
	}
	var abandoned []netip.Addr
	s.Engine.EachLease(id, func(l *lease.Lease) {
		u.Add(l)
		if l.Status == lease.Abandoned {
			abandoned = append(abandoned, l.Address())
		}
	})
	at := func(a netip.Addr) (l *lease.Lease) {
		s.Engine.With(func(t *lease.Table) { l = t.At(a) })
		return l
	}
	var w capacity.Winnable
	for _, each := range p.Scopes() {
		if v == nil || each.ID == v.ID {
			w = w.Plus(capacity.WinBack(p, each, at, abandoned, now))
		}
	}
	return u, w, s.byRule(p, v)
}

// byRule counts the active clients that each rule fits.
func (s *Server) byRule(p *plan.Plan, v *plan.View) []api.CapacityGroup {
	out := []api.CapacityGroup{}
	for _, r := range p.Rules() {
		if r.Off || v != nil && !v.Under(r.Of()) {
			continue
		}
		n, _, _ := s.Reports.TryRule(p, func(ask *rule.Request, at *plan.View) bool {
			if v != nil && at.ID != v.ID || !at.Under(r.Of()) {
				return false
			}
			fits, _ := r.Program.Fits(ask)
			return fits
		})
		out = append(out, api.CapacityGroup{Name: r.Name, Clients: n})
	}
	slices.SortStableFunc(out, func(a, b api.CapacityGroup) int { return b.Clients - a.Clients })
	return out
}

const groupsMost = 50 // of a kind that are listed

func groupsView(list []capacity.Group) []api.CapacityGroup {
	out := []api.CapacityGroup{}
	for _, g := range list[:min(len(list), groupsMost)] {
		out = append(out, api.CapacityGroup(g))
	}
	return out
}

func (s *Server) capacityUsers(ctx context.Context, name string) (out api.CapacityUsers, err error) {
	l, err := s.level("scope", name, "")
	if err != nil {
		return out, err
	}
	u, w, rules := s.users(l.Scope)
	out = api.CapacityUsers{Active: u.Active, Vendors: groupsView(u.Vendors()), Relays: groupsView(u.Relays()), Names: groupsView(u.Names()),
		Ages: groupsView(u.Ages()), Rules: rules, Many: []api.CapacityMany{}, Once: u.Once, Records: u.Records, Gone: u.Ghosts,
		WinBack: api.CapacityWinBack{Addresses: w.Total(), Excluded: texts(w.Excluded), Unclaimed: []string{},
			Abandoned: texts(w.Abandoned), Text: w.Text()}}
	many, total := u.Many()
	out.ManyTotal = total
	for _, m := range many {
		out.Many = append(out.Many, api.CapacityMany{Hardware: m.Hardware.String(), Hostname: m.Hostname, Addresses: texts(m.Addresses)})
	}
	for _, r := range w.Unclaimed {
		out.WinBack.Unclaimed = append(out.WinBack.Unclaimed, r.Name)
	}
	if o, err := s.Samples.Outlook(ctx, l); err == nil {
		out.WinBack.Days = o.Gains(w.Total())
	}
	return out, nil
}

func sizeOf(in api.SizeRequest) (out api.Size, err error) {
	c := capacity.Case{Seats: in.Seats, Arrivals: in.Arrivals, Releases: in.Releases, Pool: in.Pool, Because: in.Because, Each: in.Each}
	for _, d := range []struct {
		text string
		to   *time.Duration
	}{{in.Stay, &c.Stay}, {in.Lease, &c.Lease}, {in.Least, &c.Least}} {
		if d.text == "" {
			continue
		}
		if *d.to, err = option.ParseDuration(d.text); err != nil {
			return out, plan.Refused("%v", err)
		}
		if *d.to == 0 && d.to != &c.Stay {
			return out, plan.Refused("%s is no time; leave it out to have it worked out", d.text)
		}
	}
	r, err := c.Solve()
	if err != nil {
		return out, plan.Refused("%v", err)
	}
	return api.Size{Pool: r.Pool, Lease: option.FormatDuration(r.Lease), Hold: option.FormatDuration(r.Hold.Truncate(time.Minute)),
		Mean: r.Mean,
		Peak: r.Peak, Refused: r.Refused, Renewals: r.Renewals, Arrivals: r.Most, Fits: r.Fits, Within: r.Within, Text: r.Text,
		Model: capacity.SizingModel}, nil
}

func (s *Server) subnetInfo(text string, split int) (out api.SubnetInfo, err error) {
	p, err := addr.ParsePrefixOf(text)
	if err != nil {
		return out, plan.Refused("%v", err)
	}
	n, err := capacity.Calculate(p, split)
	if err != nil {
		return out, plan.Refused("%v", err)
	}
	out = api.SubnetInfo{Subnet: n.Prefix.String(), Network: n.Network.String(), First: n.First.String(), Last: n.Last.String(),
		Broadcast: addrText(n.Broadcast), Mask: addrText(n.Mask), Wildcard: addrText(n.Wildcard), Hosts: n.Hosts, Parts: texts(n.Parts),
		PartCount: n.PartCount, Scopes: []string{}}
	if n.Around.IsValid() {
		out.Around, out.Other = n.Around.String(), n.Neighbor.String()
	}
	for _, v := range s.Engine.Plan().Scopes() {
		if v.Subnet.Overlaps(n.Prefix) {
			out.Scopes = append(out.Scopes, v.Name)
		}
	}
	return out, nil
}
