package httpd

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/service/change"
	"yarnpost/service/permit"
)

// changeOctets is how long a change may be: ten thousand edits with what they
// may say.
const changeOctets = 16 << 20

func (s *Server) registerPlan(a huma.API) {
	o := op("change-plan", http.MethodPost, "/api/plan/changes", "Preview or apply edits, as one revision or not at all", "plan",
		permit.Plan)
	o.MaxBodyBytes = changeOctets
	huma.Register(a, o, func(ctx context.Context, in *body[api.ChangeRequest]) (*body[api.ChangeResult], error) {
		r := in.Body
		at := &around{Server: s, ctx: ctx}
		c, err := s.change(ctx, r.Into, change.Order{Reason: r.Reason, Base: r.Base, Preview: r.DryRun,
			Confirm: r.Confirm,
			Alone:   r.Alone},
			func(d *plan.Draft) error {
				at.resolved = nil
				for _, e := range r.Edits {
					if err := edit.Apply(at, d, e); err != nil {
						return err
					}
				}
				return nil
			})
		if err != nil {
			return nil, failure(err)
		}
		if c.Applied {
			s.forgetReserved(r.Edits)
		}
		out := s.gathered(c, r.Into)
		out.Resolved = append(out.Resolved, at.resolved...)
		return respond(out, nil)
	})
	huma.Register(a, op("list-revisions", http.MethodGet, "/api/plan/revisions", "Revisions of the plan, newest first", "plan", permit.See),
		func(ctx context.Context, in *struct {
			After int64 `query:"after" doc:"Where the page before ended: only revisions below this one"`
			Limit int   `query:"limit" default:"50" minimum:"1" maximum:"500"`
		}) (*body[api.Page[api.Revision]], error) {
			list, err := s.revisions(ctx, in.After, in.Limit, listedLines)
			if err != nil {
				return nil, err
			}
			out, err := listed(s, list)
			if out.Body.Total = int(out.Body.Revision); len(list) == in.Limit && list[len(list)-1].Number > 1 {
				out.Body.Next = strconv.FormatInt(list[len(list)-1].Number, 10)
			}
			return out, err
		})
	huma.Register(a, op("show-revision", http.MethodGet, "/api/plan/revisions/{number}", "One revision of the plan", "plan", permit.See),
		func(ctx context.Context, in *struct {
			Number int64 `path:"number" minimum:"1"`
		}) (*body[api.Revision], error) {
			list, err := s.revisions(ctx, in.Number+1, 1, 0)
			if err != nil {
				return nil, err
			}
			if len(list) == 0 || list[0].Number != in.Number {
				return nil, huma.Error404NotFound("there is no such revision; yarnpost plan history lists all")
			}
			return respond(list[0], nil)
		})
	huma.Register(a, op("revert-revision", http.MethodPost, "/api/plan/revisions/{number}/revert",
		"Undo what one revision changed, as a new revision", "plan", permit.Plan), func(ctx context.Context, in *struct {
		Number int64 `path:"number" minimum:"1"`
		Body   api.Revert
	}) (*body[api.ChangeResult], error) {
		r := in.Body
		undo, err := s.Store.Changes(ctx, in.Number)
		if err == nil && len(undo) == 0 {
			err = fmt.Errorf("%w: there is no revision %d; yarnpost plan history lists all", plan.ErrNotFound, in.Number)
		}
		if err != nil {
			return nil, failure(err)
		}
		reason := cmp.Or(r.Reason, fmt.Sprintf("undoes revision %d", in.Number))
		c, err := s.change(ctx, r.Into, change.Order{Reason: reason, Base: r.Base, Preview: r.DryRun,
			Confirm: r.Confirm},
			func(d *plan.Draft) error { return d.Revert(undo) })
		if err != nil {
			return nil, failure(err)
		}
		return respond(s.gathered(c, r.Into), nil)
	})
	huma.Register(a, op("restore-plan", http.MethodPost, "/api/plan/restore",
		"Bring back the plan of a revision, or of a moment, as a new revision",
		"plan", permit.Plan), s.restorePlan)
	huma.Register(a, op("list-scopes", http.MethodGet, "/api/scopes", "Scopes with their use", "plan", permit.See),
		func(_ context.Context, in *struct {
			Search string   `query:"search" doc:"Part of name, subnet, link, note or fields of your own"`
			Field  []string `query:"field,explode" doc:"Only with these values of fields of your own: name=value"`
			Sort   string   `query:"sort" enum:"name,subnet,fullest" default:"name"`
			Limit  int      `query:"limit" default:"1000" minimum:"1" maximum:"10000"`
			After  string   `query:"after" doc:"Where the page before ended"`
		}) (*body[api.Page[api.Scope]], error) {
			return s.scopes(in.Search, in.Sort, in.After, in.Field, in.Limit)
		})
	huma.Register(a, op("show-scope", http.MethodGet, "/api/scopes/{name}", "One scope", "plan", permit.See),
		func(_ context.Context, in *named) (*body[api.Scope], error) {
			p := s.Engine.Plan()
			v := p.ScopeNamed(in.Name)
			if v == nil {
				return nil, failure(plan.Missing("scope", in.Name))
			}
			out := s.scopeView(p, v)
			if now := s.Clock.Now(); v.Mode != plan.Serving || v.RunDown.After(now) {
				out.Inside = insideView(s.endings(v.ID), lease.At(now))
			}
			return respond(out, nil)
		})
	huma.Register(a, op("show-map", http.MethodGet, "/api/scopes/{name}/map", "Address map of a scope", "plan", permit.See),
		func(_ context.Context, in *named) (*body[api.Page[api.Cell]], error) {
			p := s.Engine.Plan()
			v := p.ScopeNamed(in.Name)
			if v == nil {
				return nil, failure(plan.Missing("scope", in.Name))
			}
			return listed(s, s.cells(p, v))
		})
	huma.Register(a, op("list-supernets", http.MethodGet, "/api/supernets",
		"Supernets, each before what lies in it, with the use of their scopes",
		"plan", permit.See), func(_ context.Context, in *struct {
		Search string `query:"search" doc:"Part of name, prefix, note or fields of your own"`
	}) (*body[api.Page[api.Supernet]], error) {
		return listed(s, s.supernets(in.Search))
	})
	huma.Register(a, op("show-space", http.MethodGet, "/api/supernets/{name}/space", "What a supernet is made of, and what in it is free",
		"plan",
		permit.See), func(_ context.Context, in *struct {
		Name  string `path:"name"`
		Bits  int    `query:"bits" minimum:"0" maximum:"128" doc:"Length of free prefixes to list"`
		Count int    `query:"count" default:"1" minimum:"1" maximum:"1000" doc:"How many of them, at most"`
	}) (*body[api.Space], error) {
		return respond(s.space(in.Name, in.Bits, in.Count))
	})
	huma.Register(a, op("list-names", http.MethodGet, "/api/names/{kind}", "The names of the items of a kind", "plan", permit.See),
		func(_ context.Context, in *struct {
			Kind string `path:"kind"`
		}) (*body[api.Page[string]], error) {
			names, err := s.Engine.Plan().Names(plan.Kind(in.Kind))
			if err != nil {
				return nil, failure(plan.Refused("%v", err))
			}
			return listed(s, append([]string{}, names...))
		})
	huma.Register(a, op("list-links", http.MethodGet, "/api/links", "Links with their scopes", "plan", permit.See),
		func(context.Context, *struct{}) (*body[api.Page[api.Link]], error) {
			p := s.Engine.Plan()
			out := []api.Link{}
			for _, l := range p.Links() {
				out = append(out, linkView(p, l))
			}
			return listed(s, out)
		})
	huma.Register(a, op("list-reservations", http.MethodGet, "/api/reservations", "Reservations by address", "plan", permit.See),
		func(_ context.Context, in *struct {
			Scope  string   `query:"scope"`
			Search string   `query:"search" doc:"Part of name, host name, address, hardware address, note or fields of your own"`
			Field  []string `query:"field,explode" doc:"Only with these values of fields of your own: name=value"`
			Limit  int      `query:"limit" default:"1000" minimum:"1" maximum:"100000"`
			After  string   `query:"after" doc:"Where the page before ended"`
		}) (*body[api.Page[api.Reservation]], error) {
			return s.reservations(in.Scope, in.Search, in.After, in.Field, in.Limit)
		})
	huma.Register(a, op("show-defaults", http.MethodGet, "/api/defaults", "What holds in the whole plan", "plan", permit.See),
		func(context.Context, *struct{}) (*body[api.Defaults], error) {
			p := s.Engine.Plan()
			d := p.Defaults
			l := cmp.Or(d.Lease, plan.Duration(plan.DefaultLease))
			return respond(api.Defaults{Lease: l.String(), Valid: leaseText(d.Valid), Options: settingsView(p, d.Options),
				Identity: string(cmp.Or(d.Identity, plan.ByIdentifier)), Listening: d.Listening,
				Thresholds: api.Thresholds(d.Thresholds), Note: d.Note}, nil)
		})
	huma.Register(a, op("list-options", http.MethodGet, "/api/options", "Every option that is set, with the item it is set on", "options",
		permit.See), func(_ context.Context, in *struct {
		Scope string `query:"scope" doc:"Only this scope and its reservations"`
	}) (*body[api.Page[api.OptionAt]], error) {
		return listed(s, s.options(in.Scope))
	})
	huma.Register(a, op("list-codes", http.MethodGet, "/api/codes", "The codebook: codes, names, types and meanings", "options",
		permit.See),
		func(_ context.Context, in *struct {
			Search string `query:"search" doc:"Code, or part of name or meaning"`
		}) (*body[api.Page[api.Code]], error) {
			return listed(s, s.codes(in.Search))
		})
}

// restorePlan makes the plan what it was: by a new revision, with all that a change has.
func (s *Server) restorePlan(ctx context.Context, in *body[api.Restore]) (*body[api.ChangeResult], error) {
	r := in.Body
	to := r.Revision
	switch {
	case (r.Revision == 0) == (r.At == nil):
		return nil, failure(plan.Refused("name the revision whose plan is to be brought back, or the moment; one of them"))
	case r.At != nil:
		at, err := s.Store.RevisionAt(ctx, *r.At)
		if err != nil {
			return nil, failure(err)
		}
		if to = at; to == 0 {
			return nil, failure(plan.Refused("at %s there was no plan yet", r.At.UTC().Format(time.RFC3339)))
		}
	}
	reason := cmp.Or(r.Reason, fmt.Sprintf("brings back the plan of revision %d", to))
	c, err := s.change(ctx, r.Into, change.Order{Reason: reason, Base: r.Base, Preview: r.DryRun, Confirm: r.Confirm},
		func(d *plan.Draft) error { return s.asAt(ctx, d, to) })
	if err != nil {
		return nil, failure(err)
	}
	return respond(s.gathered(c, r.Into), nil)
}

// asAt makes a draft the plan that a revision left.
func (s *Server) asAt(ctx context.Context, d *plan.Draft, revision int64) error {
	now := d.Plan().Revision - 1 // that the draft was begun on
	if revision > now {
		return fmt.Errorf("%w: there is no revision %d; yarnpost plan history lists all", plan.ErrNotFound, revision)
	}
	since, err := s.Store.ChangesBehind(ctx, revision, now)
	if err != nil {
		return err
	}
	then, err := asLeftBy(d.Plan(), revision, since)
	if err != nil {
		return err
	}
	return d.Become(then)
}

type named struct {
	Name string `path:"name"`
}

// listedLines is how much a list of revisions shows of each.
const listedLines = 30

func (s *Server) revisions(ctx context.Context, before int64, limit, lines int) ([]api.Revision, error) {
	list, err := s.Store.Revisions(ctx, before, limit, lines)
	if err != nil {
		return nil, failure(err)
	}
	out := []api.Revision{}
	for _, r := range list {
		out = append(out, api.Revision{Number: r.Number, At: r.At.UTC(), Author: r.Author, Reason: r.Reason, Items: r.Items,
			Lines: r.Length,
			Diff:  linesView(r.Lines)})
	}
	return out, nil
}

// listed answers with a whole list.
func listed[T any](s *Server, items []T) (*body[api.Page[T]], error) {
	return &body[api.Page[T]]{api.Page[T]{Items: items, Total: len(items), Revision: s.Engine.Plan().Revision}}, nil
}

// cut answers with one page of a list: from where the page before ended.
func cut[T any](s *Server, list []T, after string, limit int) (*body[api.Page[T]], error) {
	p, err := pageOf(list, after, limit)
	p.Revision = s.Engine.Plan().Revision
	return respond(p, err)
}

// pageOf is the page of a list behind another one's end.
func pageOf[T any](list []T, after string, limit int) (p api.Page[T], err error) {
	from := 0
	if after != "" {
		if from, err = strconv.Atoi(after); err != nil || from < 0 {
			return p, plan.Refused("after is not the next of an earlier page")
		}
		from = min(from, len(list))
	}
	to := min(from+limit, len(list))
	p.Items, p.Total = list[from:to], len(list)
	if to < len(list) {
		p.Next = strconv.Itoa(to)
	}
	return p, nil
}

// fits reports whether any of the texts has the part, whatever the case.
func fits(part string, texts ...string) bool {
	return strings.Contains(strings.ToLower(strings.Join(texts, "\n")), strings.ToLower(strings.TrimSpace(part)))
}

func (s *Server) scopes(search, order, after string, fields []string, limit int) (*body[api.Page[api.Scope]], error) {
	e := s.Engine
	p := e.Plan()
	out := []api.Scope{}
	for _, v := range p.Scopes() {
		if fits(search, append(ownTexts(v.Fields), v.Name, v.Subnet.String(), v.LinkName, v.Note)...) && hasFields(fields, v.Fields) {
			out = append(out, s.scopeView(p, v))
		}
	}
	switch order {
	case "subnet":
		sort.SliceStable(out, func(i, j int) bool {
			return netip.MustParsePrefix(out[i].Subnet).Addr().Less(netip.MustParsePrefix(out[j].Subnet).Addr())
		})
	case "fullest":
		sort.SliceStable(out, func(i, j int) bool { return fullness(out[i]) > fullness(out[j]) })
	}
	return cut(s, out, after, limit)
}

// fullness is the part of a scope's pools that cannot be handed out now.
func fullness(s api.Scope) float64 {
	if s.Usage.Size == 0 {
		return 0
	}
	return 1 - float64(min(s.Usage.Headroom+s.Usage.Partner, s.Usage.Size))/float64(s.Usage.Size)
}

func (s *Server) reservations(scope, search, after string, fields []string, limit int) (*body[api.Page[api.Reservation]], error) {
	p := s.Engine.Plan()
	var id plan.ID
	if scope != "" {
		v := p.ScopeNamed(scope)
		if v == nil {
			return nil, failure(plan.Missing("scope", scope))
		}
		id = v.ID
	}
	var list []*plan.Reservation
	for _, r := range p.Reservations(id) {
		if fits(search, append(ownTexts(r.Fields), r.Name, r.Hostname, r.Address.String(), r.Client(), r.Note)...) && hasFields(fields,
			r.Fields) {
			list = append(list, r)
		}
	}
	now := lease.At(s.Clock.Now())
	out := []api.Reservation{}
	part, err := cut(s, list, after, limit)
	if err != nil {
		return nil, err
	}
	s.Engine.With(func(t *lease.Table) {
		for _, r := range part.Body.Items {
			out = append(out, reservationView(p, r, t.Get(r.Key()), now))
		}
	})
	return &body[api.Page[api.Reservation]]{api.Page[api.Reservation]{Items: out, Total: part.Body.Total, Next: part.Body.Next,
		Revision: p.Revision}}, nil
}

// space says what a supernet is made of, with free prefixes of a length, 0 for none.
func (s *Server) space(name string, bits, most int) (api.Space, error) {
	p := s.Engine.Plan()
	n := p.SupernetNamed(name)
	if n == nil {
		return api.Space{}, plan.Missing("supernet", name)
	}
	if bits != 0 && bits < n.Prefix.Bits() || bits > n.Prefix.Addr().BitLen() {
		return api.Space{}, plan.Refused("no /%d fits into supernet %s (%s); ask for /%d to /%d", bits, n.Name, n.Prefix, n.Prefix.Bits(),
			n.Prefix.Addr().BitLen())
	}
	out := api.Space{Prefix: n.Prefix.String(), Parts: []api.Stretch{}, Next: []string{}}
	var free []addr.Range
	for _, st := range p.Stretches(n.Prefix) {
		v := api.Stretch{Prefix: st.Prefix.String(), What: "free"}
		switch {
		case st.Scope != nil:
			v.What, v.Name = "scope", st.Scope.Name
		case st.Supernet != nil:
			v.What, v.Name = "supernet", st.Supernet.Name
		default:
			free = append(free, addr.OfPrefix(st.Prefix))
		}
		out.Parts = append(out.Parts, v)
	}
	out.Free = api.Count(addr.Total(free))
	if bits != 0 {
		out.Next = append(out.Next, texts(p.NextFree(n.Prefix, bits, most))...)
	}
	return out, nil
}

func (s *Server) supernets(search string) []api.Supernet {
	p := s.Engine.Plan()
	uses := map[plan.ID]api.Usage{}
	for _, v := range p.Scopes() {
		uses[v.ID] = usageOf(p, v, s.Engine.Count(v.ID))
	}
	out := []api.Supernet{}
	for _, n := range p.Supernets() {
		if fits(search, append(ownTexts(n.Fields), n.Name, n.Prefix.String(), n.Note)...) {
			out = append(out, supernetView(p, n, uses))
		}
	}
	return out
}

func (s *Server) options(scope string) []api.OptionAt {
	p := s.Engine.Plan()
	out := []api.OptionAt{}
	add := func(level, item string, set plan.Settings) {
		for _, v := range settingsView(p, set.Options) {
			out = append(out, api.OptionAt{Level: level, Item: item, Setting: v})
		}
	}
	if scope == "" {
		add("defaults", "", p.Defaults.Settings)
	}
	if scope == "" {
		for _, n := range p.Supernets() {
			add("supernet", n.Name, n.Settings)
		}
	}
	for _, r := range p.Rules() {
		if scope == "" || strings.EqualFold(scope, p.Label(r.Scope)) {
			add("rule", r.Name, r.Settings)
		}
	}
	for _, v := range p.Scopes() {
		if scope != "" && !strings.EqualFold(scope, v.Name) {
			continue
		}
		add("scope", v.Name, v.Settings)
		for _, r := range p.Reservations(v.ID) {
			add("reservation", r.Name, r.Settings)
		}
	}
	return out
}

// codes searches the standard codebook and the administrator's own.
func (s *Server) codes(search string) []api.Code {
	p := s.Engine.Plan()
	used := map[option.Key]int{}
	for _, o := range s.options("") {
		used[option.Key{Book: o.Setting.Book, Code: o.Setting.Code}]++
	}
	own := map[uint16]string{}
	out := []api.Code{}
	add := func(book string, codes *option.Codebook, d option.Def) {
		c := api.Code{Code: d.Code, Name: d.Name(), Title: d.Title, Type: d.Type.String(), Meaning: d.Meaning, Example: d.Type.Example(),
			Managed: d.Managed, Book: book}
		key := option.Std(d.Code)
		if book != "" && own[d.Code] != book {
			key.Book, c.Name = book, book+"/"+d.Name()
		}
		c.Set = used[key]
		if other := d.OtherName(); other != d.Name() {
			c.Other = other
		}
		if n, err := codes.Lookup(search); search == "" || err == nil && n.Code == d.Code || fits(search, c.Name, c.Other, c.Meaning) {
			out = append(out, c)
		}
	}
	for _, c := range p.Codebooks() {
		if c.Place == plan.InMessage {
			for _, o := range c.Options {
				own[o.Code] = c.Name
			}
		}
	}
	for _, d := range p.Codes().All() {
		add(own[d.Code], p.Codes(), d)
	}
	for _, d := range option.Header4.All() {
		add(option.HeaderBook, option.Header4, d)
	}
	for _, c := range p.Codebooks() {
		if c.Place == plan.InMessage {
			continue
		}
		for _, o := range c.Options {
			if d, err := p.Def(option.Key{Book: c.Name, Code: o.Code}); err == nil {
				add(c.Name, p.Codes(), d)
			}
		}
	}
	return out
}

// mapCells is the most cells a map has; larger scopes are binned.
const mapCells = 1024

// rank orders statuses by how telling they are in a cell.
var rank = map[string]int{"outside": 0, "excluded": 1, "free": 2, "released": 3, "expired": 4, "reserved": 5, "offered": 6, "registered": 7,
	"active": 8, "abandoned": 9}

func (s *Server) cells(p *plan.Plan, v *plan.View) []api.Cell {
	if v.Family() == option.V6 {
		return s.cells6(p, v)
	}
	whole := addr.OfPrefix(v.Subnet)
	size := int(whole.Size())
	step := (size + mapCells - 1) / mapCells
	base := addr.Uint32(whole.From)
	out := make([]api.Cell, 0, size/step+1)
	at := func(i int) netip.Addr {
		n := base + uint32(i)
		return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
	}
	excluded := func(a netip.Addr) bool {
		for _, x := range v.Exclusions {
			if x.Range.Contains(a) {
				return true
			}
		}
		return false
	}
	for i := 0; i < size; i += step {
		n := min(step, size-i)
		c := api.Cell{From: at(i).String(), To: at(i + n - 1).String(), Size: n, Status: "outside"}
		for k := i; k < i+n; k++ { // what the plan says; large scopes are looked at by their ends
			a := at(k)
			st := "outside"
			switch {
			case v.Allocatable(a):
				st = "free"
			case excluded(a):
				st = "excluded"
			}
			if rank[st] > rank[c.Status] {
				c.Status = st
			}
			if step > 64 && k == i {
				k = max(k, i+n-2)
			}
		}
		out = append(out, c)
	}
	mark := func(a netip.Addr, status, hw, host string) {
		if !whole.Contains(a) { // the scope was another one a moment ago
			return
		}
		c := &out[int(addr.Uint32(a)-base)/step]
		if status == "active" {
			c.Active++
		}
		if rank[status] > rank[c.Status] {
			c.Status = status
		}
		if step == 1 {
			c.Hardware, c.Hostname = hw, host
		}
	}
	for _, r := range p.Reservations(v.ID) {
		mark(r.Address, "reserved", r.Hardware.String(), r.Hostname)
	}
	s.Engine.EachLease(v.ID, func(l *lease.Lease) { mark(l.Address(), statusWord(l), l.Hardware.String(), l.Hostname) })
	s.Engine.With(func(t *lease.Table) {
		for _, o := range t.Offers(v.ID) {
			mark(o.Address(), "offered", "", "")
		}
	})
	return out
}

// forgetReserved takes clients off the unserved list that just got a reservation.
func (s *Server) forgetReserved(edits []api.Edit) {
	for _, e := range edits {
		if e.Reservation == nil || e.Reservation.Hardware == nil {
			continue
		}
		if hw, err := addr.ParseHardware(*e.Reservation.Hardware); err == nil {
			s.Engine.ForgetUnserved(hw)
		}
	}
}
