package httpd

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// row is a lease with what it is sorted by.
type row struct {
	lease *lease.Lease
	key   string
	num   int64
}

func (r row) compare(o row) int {
	if c := cmp.Compare(r.num, o.num); c != 0 {
		return c
	}
	if c := strings.Compare(r.key, o.key); c != 0 {
		return c
	}
	return r.lease.Prefix.Compare(o.lease.Prefix)
}

// cursor is where a page ended, as it travels.
type cursor struct {
	Key []byte       `json:"k,omitempty"`
	Num int64        `json:"n,omitempty"`
	At  netip.Prefix `json:"a"`
}

// leasePage gathers the best rows behind a cursor, in one walk through the table: its
// cost does not grow with the number of the page.
type leasePage struct {
	plan  *plan.Plan
	query *leaseQuery
	match *search
	sight *sight
	after *row  // the last of the page before, or nil
	best  []row // the first of them are sorted
	full  bool  // best[query.Limit] is there: what is behind it is not looked for
	total int
}

func (g *leasePage) order(a, b row) int {
	if g.query.Desc {
		a, b = b, a
	}
	return a.compare(b)
}

func (g *leasePage) add(l *lease.Lease) {
	if !g.match.fits(l) || ofNobody(l) || g.sight != nil && !g.sight.view(g.sight.plan.ScopeAt(l.Address())) {
		return
	}
	g.total++
	r := sortRow(g.plan, l, g.query.Sort)
	if g.after != nil && g.order(r, *g.after) <= 0 || g.full && g.order(r, g.best[g.query.Limit]) >= 0 {
		return
	}
	if g.best = append(g.best, sortRow(g.plan, l.Clone(), g.query.Sort)); len(g.best) >= 4*(g.query.Limit+1) {
		g.trim()
	}
}

// trim keeps the rows of the page, and one that shows that there is more.
func (g *leasePage) trim() {
	slices.SortFunc(g.best, g.order)
	if len(g.best) > g.query.Limit {
		g.best, g.full = g.best[:g.query.Limit+1], true
	}
}

// walkers is how many walk the table for one page.
const walkers = 2

// leases finds one page of the lease table, as it is or as it was.
func (s *Server) leases(ctx context.Context, q *leaseQuery) (out api.Page[api.Lease], err error) {
	p := s.Engine.Plan()
	if !q.At.IsZero() {
		if q.At.After(s.Clock.Now()) {
			return out, plan.Refused("%s is not yet; name a moment that has passed", q.At.UTC().Format(time.RFC3339))
		}
		if then, err := s.planAt(ctx, 0, q.At); err == nil {
			p = then
		} else if !errors.Is(err, errNoPlanYet) { // with leases, but no plan, they came from elsewhere
			return out, err
		}
	}
	var scope *plan.View
	var id plan.ID
	if q.Scope != "" {
		if scope = p.ScopeNamed(q.Scope); scope == nil {
			return out, plan.Missing("scope", q.Scope)
		}
		id = scope.ID
	}
	var after *row
	if q.After != "" {
		var c cursor
		raw, err := base64.RawURLEncoding.DecodeString(q.After)
		if err != nil || json.Unmarshal(raw, &c) != nil {
			return out, plan.Refused("after is not the next of an earlier page")
		}
		after = &row{&lease.Lease{Prefix: c.At}, string(c.Key), c.Num}
	}
	seen := s.sightOf(ctx)
	var parts [walkers]leasePage
	var adds []func(*lease.Lease)
	for i := range parts {
		parts[i] = leasePage{plan: p, query: q, match: newSearch(q), sight: seen, after: after}
		adds = append(adds, parts[i].add)
	}
	if q.At.IsZero() {
		s.Engine.EachLease(id, adds...)
	} else {
		then, err := s.tableAt(ctx, p, scope, q.At)
		if err != nil {
			return out, err
		}
		for _, l := range then {
			adds[0](l)
		}
	}
	all := &parts[0]
	for _, g := range parts[1:] {
		all.best, all.total = append(all.best, g.best...), all.total+g.total
	}
	all.trim()
	out = api.Page[api.Lease]{Items: []api.Lease{}, Total: all.total, Revision: p.Revision}
	for i, r := range all.best {
		if i == q.Limit {
			last := all.best[i-1]
			c, err := json.Marshal(cursor{[]byte(last.key), last.num, last.lease.Prefix})
			if err != nil {
				return out, err
			}
			out.Next = base64.RawURLEncoding.EncodeToString(c)
			break
		}
		out.Items = append(out.Items, leaseView(p, r.lease))
	}
	return out, nil
}

func sortRow(p *plan.Plan, l *lease.Lease, by string) row {
	r := row{lease: l}
	switch by {
	case "hardware":
		r.key = string(l.Hardware)
	case "hostname":
		r.key = strings.ToLower(l.Hostname)
	case "vendor":
		r.key = strings.ToLower(l.Vendor)
	case "scope":
		if v := p.ScopeAt(l.Address()); v != nil {
			r.key = v.Name
		}
	case "status":
		r.num = int64(l.Status)
	case "since":
		r.num = int64(l.Since)
	case "expires":
		r.num = int64(l.Expires)
	case "heard":
		r.num = int64(l.Heard)
	case "changed":
		r.num = int64(l.Changed)
	}
	return r
}

// search is a query's filter, made ready for a million leases. It is for one
// goroutine.
type search struct {
	statuses []string
	text     string       // in lower case; "" finds all
	within   netip.Prefix // the text, if it is a prefix or a whole address
	address  []byte       // the text, if it can be part of an address
	octets   string       // the text read as whole octets, if it can be
	digits   []byte       // else the text, if it can be part of octets as they are written
	buf      []byte
}

func newSearch(q *leaseQuery) *search {
	s := &search{text: strings.ToLower(strings.TrimSpace(q.Search))}
	s.statuses = q.Status
	if k, err := addr.ParseKey(s.text); err == nil { // in any writing
		s.within = k.Masked()
	}
	only := func(text, allowed string) bool { return strings.Trim(text, allowed) == "" }
	if only(s.text, "0123456789abcdef.:") {
		s.address = []byte(s.text)
	}
	digits := strings.ReplaceAll(s.text, "-", ":")
	whole, err := hex.DecodeString(strings.ReplaceAll(digits, ":", ""))
	if h, bad := addr.ParseHardware(s.text); bad == nil { // in any writing
		s.octets = string(h)
	} else if d, bad := addr.ParseDUID(s.text); bad == nil && len(d) >= 8 {
		s.octets = string(d)
	} else if err == nil && addr.Hardware(whole).String() == digits {
		s.octets = string(whole)
	} else if only(digits, "0123456789abcdef:") {
		s.digits = []byte(digits)
	}
	return s
}

func (s *search) fits(l *lease.Lease) bool {
	if len(s.statuses) > 0 && !slices.Contains(s.statuses, statusWord(l)) {
		return false
	}
	if s.within.IsValid() && s.within.Contains(l.Address()) {
		return true
	}
	return s.text == "" || s.inAddress(l.Address()) || s.inOctets(string(l.Hardware)) || s.inOctets(l.Client.Identifier()) ||
		s.inOctets(l.Client.DUID()) ||
		containsFold(l.Hostname, s.text) || containsFold(l.Vendor, s.text) || containsFold(l.Circuit, s.text)
}

func (s *search) inAddress(a netip.Addr) bool {
	if s.address == nil {
		return false
	}
	s.buf = a.AppendTo(s.buf[:0])
	return bytes.Contains(s.buf, s.address)
}

func (s *search) inOctets(b string) bool {
	switch {
	case s.octets != "":
		return strings.Contains(b, s.octets)
	case s.digits == nil:
		return false
	}
	s.buf = addr.Hardware(b).AppendTo(s.buf[:0])
	return bytes.Contains(s.buf, s.digits)
}

// containsFold reports whether text has a part that is the same as lower but for
// case.
func containsFold(text, lower string) bool {
	first := lower[0]
	other := first // in upper case
	if 'a' <= first && first <= 'z' {
		other -= 'a' - 'A'
	}
	for len(text) >= len(lower) {
		at := strings.IndexByte(text, first)
		if first >= utf8.RuneSelf { // its other case may begin otherwise
			at = 0
		}
		if other != first {
			if upper := strings.IndexByte(text, other); upper >= 0 && (at < 0 || upper < at) {
				at = upper
			}
		}
		if at < 0 || len(text)-at < len(lower) {
			return false
		}
		if strings.EqualFold(text[at:at+len(lower)], lower) {
			return true
		}
		text = text[at+1:]
	}
	return false
}

// ofNobody reports whether a record says no more than whose an address is to give, of the
// two servers of a pair.
func ofNobody(l *lease.Lease) bool { return !l.Client.Known() && l.Status != lease.Abandoned }
