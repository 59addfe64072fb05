package movein

import (
	"cmp"
	"fmt"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/planfile"
	"yarnpost/sheet"
)

// draft is a proposal that is being put together.
type draft struct {
	*gatherer
	edits []api.Edit
	why   map[plan.Kind]map[string][]string
	names map[string]bool // of reservations, in small letters
	nets  []*proposed
	out   Proposal

	everybody []placed                    // what captures show, once the networks are known
	several   map[identity]int            // how much of a kind a DUID holds; no IAID is in the key
	of4       map[addr.Hardware]*proposed // in which network of IPv4 a client was seen
	from      map[netip.Prefix]*proposed  // where a prefix was delegated
}

// placed is a client with its network.
type placed struct {
	*proposed
	*client
}

// proposed is a scope that is proposed.
type proposed struct {
	name   string
	prefix netip.Prefix
	seen   *network // nil: no capture shows it
	body   *api.ScopeEdit

	prefixes []netip.Prefix // that are reserved for clients of it
}

const (
	sharedLeast = 2  // networks that make what all have alike the defaults'
	rare        = 10 // an option that fewer than one of so many answers bore is no network's
)

// propose makes a plan file of what was gathered.
func (g *gatherer) propose() (*Proposal, error) {
	d := &draft{gatherer: g, why: map[plan.Kind]map[string][]string{}, names: map[string]bool{}}
	rest := g.match()
	d.scopes(rest)
	d.common()
	taken := d.reservations()
	d.pools(taken)
	d.exclusions(rest, taken)
	for _, n := range d.nets {
		d.edits = append(d.edits, api.Edit{Op: edit.Add, Kind: string(plan.KindScope), Name: n.name, Scope: n.body})
	}
	d.rules()
	p, err := d.plan()
	if err != nil {
		return nil, err
	}
	d.out.File, err = planfile.Proposal(p,
		"A plan that was put together from what was found. Nothing of it is in force: read it, mend it, and see\n"+
			"what it would change with yarnpost plan preview. Scopes are held until you say mode: serving.",
		func(k plan.Kind, name string) []string { return d.why[k][name] })
	d.out.Left, d.out.Scopes = d.left, len(d.nets)
	d.out.Leases = sheet.WriteLeases(d.held())
	return &d.out, err
}

// held are the leases that clients of captures hold, by what they hold: the latest of each address
// and prefix.
func (d *draft) held() (out []sheet.Lease) {
	last := map[netip.Prefix]*client{}
	of := map[netip.Prefix]string{}
	for n, c := range d.clients() {
		if was := last[c.key]; was == nil || was.span.to.Before(c.span.to) {
			last[c.key], of[c.key] = c, n.name
		}
	}
	for key, c := range last {
		out = append(out, sheet.Lease{Key: key, Hardware: c.hardware, Identifier: c.id, DUID: c.duid, IAID: c.iaid, Hostname: c.name,
			Vendor: c.vendor, Scope: of[key],
			Status: "active", Since: c.span.from, Expires: c.until, Endless: c.forGood})
	}
	slices.SortFunc(out, func(a, b sheet.Lease) int { return a.Key.Compare(b.Key) })
	return out
}

// clients yields the clients of captures, network by network, each network's by who they are.
func (d *draft) clients() iter.Seq2[*proposed, *client] {
	return func(yield func(*proposed, *client) bool) {
		for _, c := range d.everybody {
			if !yield(c.proposed, c.client) {
				return
			}
		}
	}
}

// gather puts together what is asked of clients again and again.
func (d *draft) gather() {
	d.several, d.of4, d.from = map[identity]int{}, map[addr.Hardware]*proposed{}, map[netip.Prefix]*proposed{}
	for _, n := range d.nets {
		if n.seen == nil {
			continue
		}
		for _, id := range slices.SortedFunc(maps.Keys(n.seen.clients), func(a, b identity) int {
			return cmp.Or(strings.Compare(a.id, b.id), strings.Compare(string(a.iaid), string(b.iaid)), a.kind-b.kind)
		}) {
			c := n.seen.clients[id]
			d.everybody = append(d.everybody, placed{n, c})
			d.several[identity{id: id.id, kind: id.kind}]++
			switch id.kind {
			case ofIPv4:
				d.of4[c.hardware] = n
			case delegated:
				if d.from[c.key] == nil {
					d.from[c.key] = n
				}
			}
		}
	}
}

// plan makes the edits, and leaves out what cannot be made, with why.
func (d *draft) plan() (*plan.Plan, error) {
	for range len(d.edits) + 1 {
		draft := plan.New().Draft()
		faults := edit.Together(edit.Nowhere, draft, d.edits, false)
		if len(faults) == 0 {
			p, _ := draft.Finish()
			return p, nil
		}
		gone := map[int]bool{}
		for _, f := range faults {
			if f.Index < 0 {
				return nil, f.Err
			}
			if gone[f.Index] {
				continue
			}
			gone[f.Index] = true
			e := d.edits[f.Index]
			d.source, d.line = strings.Join(d.why[plan.Kind(e.Kind)][e.Name], "; "), 0
			d.leave("%v", f.Err)
			if e.Kind == string(plan.KindReservation) {
				d.out.Reservations--
			}
		}
		var left []api.Edit
		for i, e := range d.edits {
			if !gone[i] {
				left = append(left, e)
			}
		}
		d.edits = left
	}
	return nil, fmt.Errorf("nothing of it can be put together")
}

func (d *draft) because(k plan.Kind, name, format string, args ...any) {
	if d.why[k] == nil {
		d.why[k] = map[string][]string{}
	}
	d.why[k][name] = append(d.why[k][name], edit.Clean(fmt.Sprintf(format, args...)))
}

// scopes proposes one for each network of a capture, each subnet that was named, and one around any
// other address.
func (d *draft) scopes(rest []*host) {
	add := func(prefix netip.Prefix, name string) *proposed {
		for _, n := range d.nets {
			if n.prefix == prefix {
				return n
			}
		}
		for known, p := range d.options.Scopes {
			if p == prefix {
				name = known
			}
		}
		subnet := prefix.String()
		n := &proposed{name: cmp.Or(name, "net-"+addr.Dashed(prefix.Addr())), prefix: prefix, body: &api.ScopeEdit{Subnet: &subnet}}
		d.nets = append(d.nets, n)
		return n
	}
	for _, prefix := range slices.SortedFunc(maps.Keys(d.gatherer.nets), compare) {
		seen := d.gatherer.nets[prefix]
		n := add(prefix, "")
		n.seen = seen
		who := map[string]bool{}
		for id := range seen.clients {
			who[id.id] = true
		}
		d.because(plan.KindScope, n.name, "%d answers to %d clients were seen, %s, from %s", seen.answers, len(who), seen.span,
			servers(seen.servers))
		if !prefix.Addr().Is6() {
			continue
		}
		if _, named := d.options.Scopes[n.name]; !named {
			d.because(plan.KindScope, n.name, "answers of IPv6 do not say the subnet: a /%d is the usual one", subnetBits)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.options.Scopes)) {
		add(d.options.Scopes[name], name)
	}
	for _, h := range append(slices.Clone(d.order), rest...) {
		for _, says := range h.holds[:delegated] {
			a := says.key.Addr()
			if !says.key.IsValid() || d.holding(a) != nil {
				continue
			}
			bits := 24
			if a.Is6() {
				bits = subnetBits
			}
			n := add(netip.PrefixFrom(a, bits).Masked(), "")
			d.because(plan.KindScope, n.name, "guessed: a /%d around %s (%s); say its true subnet", bits, a, says.where)
		}
	}
	slices.SortFunc(d.nets, func(a, b *proposed) int { return compare(a.prefix, b.prefix) })
	d.gather()
	d.links()
}

// links proposes one for each network behind relays; networks of both families with the same clients
// are on one.
func (d *draft) links() {
	on := map[string]*api.LinkEdit{}
	for _, n := range d.nets {
		if n.seen == nil {
			continue
		}
		name := n.name
		if beside, alike, all := d.beside(n); beside != nil {
			if name = beside.name; beside.body.Link != nil {
				name = *beside.body.Link
			}
			beside.body.Link, n.body.Link = &name, &name
			d.because(plan.KindScope, n.name, "on the link of %s: %d of its %d clients are seen there as well", beside.name, alike, all)
		} else if len(n.seen.relays) > 0 {
			n.body.Link = &name
		}
		if n.body.Link == nil {
			continue
		}
		l := on[name]
		if l == nil {
			l = &api.LinkEdit{}
			on[name] = l
			d.edits = append(d.edits, api.Edit{Op: edit.Add, Kind: string(plan.KindLink), Name: name, Link: l})
		}
		if len(n.seen.relays) > 0 {
			var relays []string
			if l.Relays != nil {
				relays = *l.Relays
			} else {
				d.because(plan.KindLink, name, "these relays forwarded for it")
			}
			relays = append(relays, texts(n.seen.relays)...)
			l.Relays = &relays
		}
	}
}

// beside is the network of IPv4 in which most clients of a network of IPv6 are seen as well, by their
// hardware addresses, if those are two at least; nil if there is none.
func (d *draft) beside(n *proposed) (best *proposed, alike, all int) {
	if n.seen.family() != option.V6 {
		return nil, 0, 0
	}
	counted, in := map[addr.Hardware]bool{}, map[*proposed]int{}
	for _, c := range n.seen.clients {
		if c.hardware != "" && !counted[c.hardware] {
			counted[c.hardware] = true
			in[d.of4[c.hardware]]++
		}
	}
	for _, of := range d.nets {
		if in[of] > alike {
			best, alike = of, in[of]
		}
	}
	if alike < 2 || alike*2 <= len(counted) {
		return nil, 0, 0
	}
	return best, alike, len(counted)
}

func compare(a, b netip.Prefix) int { return cmp.Or(a.Addr().Compare(b.Addr()), a.Bits()-b.Bits()) }

func texts(list []netip.Addr) (out []string) {
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}

func servers(list []string) string {
	if len(list) == 0 {
		return "a server that does not say who it is"
	}
	return strings.Join(list, ", ")
}

// holding is the scope that an address is in, or nil.
func (d *draft) holding(a netip.Addr) *proposed {
	i := slices.IndexFunc(d.nets, func(n *proposed) bool { return n.prefix.Contains(a) })
	if i < 0 {
		return nil
	}
	return d.nets[i]
}

// most is the value that was seen most often; the least one of several.
func most[T cmp.Ordered](counts map[T]int) (best T, seen, all int) {
	for _, v := range slices.Sorted(maps.Keys(counts)) {
		if all += counts[v]; counts[v] > seen {
			best, seen = v, counts[v]
		}
	}
	return best, seen, all
}

// common sets options and lease times: what all networks of a family have alike is the defaults'.
func (d *draft) common() {
	values := map[string]map[string]int{} // by option and value: in how many networks
	nets, family := map[option.Family]int{}, map[string]option.Family{}
	for _, n := range d.nets {
		if n.seen == nil {
			continue
		}
		nets[n.seen.family()]++
		d.optionsOf(n)
		for name, text := range n.body.Options {
			if family[name] = n.seen.family(); values[name] == nil {
				values[name] = map[string]int{}
			}
			values[name][text]++
		}
		if t, _, _ := most(finite(n.seen.leases)); t > 0 {
			n.body.Lease = lasting(t)
			if v, _, _ := most(finite(n.seen.valids)); v > t && v != t+t/2 {
				n.body.Valid = lasting(v)
			}
		}
	}
	all := map[string]string{}
	for name, texts := range values {
		if text, seen, _ := most(texts); seen == nets[family[name]] && seen >= sharedLeast {
			all[name] = text
		}
	}
	if len(all) == 0 {
		return
	}
	for _, n := range d.nets {
		for name := range all {
			delete(n.body.Options, name)
		}
	}
	d.edits = append(d.edits, api.Edit{Op: edit.Edit, Kind: string(plan.KindDefaults), Defaults: &api.DefaultsEdit{Options: all}})
	for f, of := range map[option.Family]string{option.V4: "IPv4", option.V6: "IPv6"} {
		if nets[f] >= sharedLeast {
			d.because(plan.KindDefaults, "", "%d networks of %s were given these alike", nets[f], of)
		}
	}
	slices.Sort(d.why[plan.KindDefaults][""])
}

// lasting is a time of so many seconds as people write it.
func lasting(seconds uint32) *string {
	text := option.FormatDuration(time.Duration(seconds) * time.Second)
	return &text
}

// optionsOf sets the options that most clients of a network were given.
func (d *draft) optionsOf(n *proposed) {
	book := plan.New()
	n.body.Options = map[string]string{}
	for _, key := range slices.SortedFunc(maps.Keys(n.seen.options), option.Key.Compare) {
		data, seen, all := most(n.seen.options[key])
		if all*rare < n.seen.answers {
			continue // some client's own
		}
		def := option.Standard(key.Family).ByCode(key.Code)
		name, text := book.KeyName(key), def.Type.Format([]byte(data))
		if _, err := def.Type.Encode(text); err != nil || text == "" {
			continue
		}
		n.body.Options[name] = text
		if seen < all {
			d.because(plan.KindScope, n.name, "option %s: %d of %d answers had this value, others another one", name, seen, all)
		}
	}
}

// finite are lease times without those that never end.
func finite(leases map[uint32]int) map[uint32]int {
	out := maps.Clone(leases)
	delete(out, forever)
	return out
}

// reservations proposes one for all that each host holds whom its hardware address or DUID names, and for
// clients of a capture to whom something was given for good; it gives what is taken so.
func (d *draft) reservations() map[netip.Prefix]bool {
	r := &reserving{draft: d, taken: map[netip.Prefix]bool{}, seen: map[identity]*client{}}
	for _, c := range d.clients() {
		for _, id := range []string{string(c.hardware), string(c.duid)} {
			if id != "" {
				r.seen[identity{id: id, kind: kindOf(c.key)}] = c
			}
		}
	}
	for _, h := range d.order {
		r.host(h)
	}
	for _, c := range d.clients() {
		if d.of(c.hardware, c.duid) != nil || r.taken[c.key] || !c.forGood && !d.options.Everybody {
			continue
		}
		why := fmt.Sprintf("seen %d times, %s", c.seen, c.span)
		if c.forGood {
			why += "; its lease never ends"
		}
		of := &host{hardware: c.hardware, name: c.name}
		if c.duid != "" {
			of.hardware, of.duid, of.iaid = "", c.duid, d.apart(c)
		}
		r.add(of, c.key, cmp.Or(c.name, "host-"+strings.ReplaceAll(cmp.Or(c.hardware.String(), c.duid.String()), ":", "")), []string{why})
	}
	return r.taken
}

// apart is the IAID of a client, if its DUID holds several of the kind; else "".
func (d *draft) apart(c *client) addr.IAID {
	if d.several[identity{id: string(c.duid), kind: kindOf(c.key)}] > 1 {
		return c.iaid
	}
	return ""
}

// reserving proposes reservations.
type reserving struct {
	*draft
	taken map[netip.Prefix]bool
	seen  map[identity]*client // by hardware address, and by DUID, and by kind
}

// host proposes one for all that a host holds.
func (r *reserving) host(h *host) {
	any := false
	for kind, says := range h.holds {
		c := r.seen[identity{id: string(h.hardware), kind: kind}]
		if c == nil {
			c = r.seen[identity{id: string(h.duid), kind: kind}]
		}
		why := slices.Clone(h.evidence)
		if c != nil {
			why = append(why, fmt.Sprintf("seen %d times with %s, %s", c.seen, addr.FormatKey(c.key), c.span))
		} else if len(r.seen) > 0 {
			why = append(why, "no client of the capture claimed it")
		}
		key := says.key
		if !key.IsValid() {
			if c == nil {
				continue
			}
			key = c.key
		}
		any = true
		r.add(h, key, cmp.Or(h.name, "host-"+strings.ReplaceAll(h.String(), ":", "")), why)
	}
	if !any {
		r.source, r.line = h.evidence[0], 0
		r.leave("no address is known for %s (%s)", h, cmp.Or(h.name, "no name"))
	}
}

// add proposes a reservation of a host, unless somebody has it already.
func (r *reserving) add(h *host, key netip.Prefix, name string, why []string) {
	source := strings.Join(why, "; ")
	address := addr.FormatKey(key)
	in := &api.ReservationEdit{Address: &address}
	switch {
	case r.taken[key]:
		r.source, r.line = source, 0
		r.leave("%s is reserved for another client already", address)
		return
	case h.duid != "" && kindOf(key) != ofIPv4:
		duid := h.duid.String()
		if in.DUID = &duid; h.iaid != "" {
			iaid := h.iaid.String()
			in.IAID = &iaid
		}
	case h.hardware != "":
		hardware := h.hardware.String()
		in.Hardware = &hardware
	default:
		r.source, r.line = source, 0
		r.leave("%s is IPv4, and of its client the DUID alone is known; say its hardware address", address)
		return
	}
	if kindOf(key) == delegated {
		n := r.delegating(key, h)
		if n == nil {
			r.source, r.line = source, 0
			r.leave("no scope of IPv6 is known that %s is delegated from; name it with --scope NAME=SUBNET", address)
			return
		}
		in.Scope = &n.name
		n.prefixes = append(n.prefixes, key)
	}
	r.taken[key] = true
	if h.note != "" {
		in.Note = &h.note
	}
	name = r.called(name, suffixes[kindOf(key)])
	r.edits = append(r.edits, api.Edit{Op: edit.Add, Kind: string(plan.KindReservation), Name: name, Reservation: in})
	r.because(plan.KindReservation, name, "%s", source)
	r.out.Reservations++
}

// delegating is the scope that a prefix is delegated from: where a client was seen with it, or where its
// host has an address, or else the only one of IPv6; nil if none is.
func (d *draft) delegating(key netip.Prefix, h *host) *proposed {
	if n := d.from[key]; n != nil {
		return n
	}
	if a := h.holds[ofIPv6].key; a.IsValid() {
		return d.holding(a.Addr())
	}
	var only *proposed
	for _, n := range d.nets {
		if n.prefix.Addr().Is6() {
			if only != nil {
				return nil
			}
			only = n
		}
	}
	return only
}

// called is a name for a reservation that no other has; suffix says what of a host it is.
func (d *draft) called(name, suffix string) string {
	name = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, strings.SplitN(name, ".", 2)[0])
	name = strings.Trim(name[:min(len(name), 56)], "-")
	for strings.Contains(name, "--") {
		name = strings.ReplaceAll(name, "--", "-")
	}
	name = cmp.Or(name, "host") + suffix
	first := name
	for i := 2; d.names[strings.ToLower(name)]; i++ {
		name = fmt.Sprintf("%s-%d", first, i)
	}
	d.names[strings.ToLower(name)] = true
	return name
}

// vastSpan is from how many addresses on what is given is spread over the whole subnet.
const vastSpan = 1 << 16

// pools proposes the span of the addresses that clients without a reservation were given, and prefixes
// that hold all that is delegated.
func (d *draft) pools(taken map[netip.Prefix]bool) {
	d.prefixPools()
	for _, n := range d.nets {
		if n.seen == nil {
			continue
		}
		var addresses []netip.Addr
		for _, c := range n.seen.clients {
			if !taken[c.key] && kindOf(c.key) != delegated && n.prefix.Contains(c.key.Addr()) {
				addresses = append(addresses, c.key.Addr())
			}
		}
		if len(addresses) == 0 {
			continue
		}
		slices.SortFunc(addresses, netip.Addr.Compare)
		span := addr.Range{From: addresses[0], To: addresses[len(addresses)-1]}
		if n.seen.family() == option.V6 && span.Size() > vastSpan {
			n.body.Pools = &[]string{"all"}
			d.because(plan.KindScope, n.name, "the %d addresses that were given are spread over the subnet", len(addresses))
			continue
		}
		n.body.Pools = &[]string{span.String()}
		d.because(plan.KindScope, n.name, "the pool spans the %d addresses that were given; it may well be larger", len(addresses))
	}
}

// delegation is a prefix that is delegated, or reserved for that, with the scope that it is of.
type delegation struct {
	prefix netip.Prefix
	of     *proposed
}

// alike reports whether two could come from one pool.
func (a delegation) alike(b delegation) bool {
	return a.of == b.of && a.prefix.Bits() == b.prefix.Bits()
}

// poolsMost is how many prefix pools a scope is proposed.
const poolsMost = 32

// prefixPools proposes prefix pools: for each scope the smallest prefixes that hold what is delegated
// from it, and nothing of another's.
func (d *draft) prefixPools() {
	var all []delegation
	for _, n := range d.nets {
		for _, k := range n.prefixes {
			all = append(all, delegation{k, n})
		}
	}
	for n, c := range d.clients() {
		if kindOf(c.key) == delegated {
			all = append(all, delegation{c.key, n})
		}
	}
	slices.SortStableFunc(all, func(a, b delegation) int { return compare(a.prefix, b.prefix) })
	all = slices.CompactFunc(all, func(a, b delegation) bool { return a.prefix == b.prefix })
	pools := map[*proposed][]plan.PrefixPool{}
	d.split(all, func(p plan.PrefixPool, n *proposed) { pools[n] = append(pools[n], p) })
	for _, n := range d.nets {
		list := pools[n]
		if len(list) == 0 {
			continue
		}
		if d.source, d.line = n.name, 0; len(list) > poolsMost {
			d.leave("its delegated prefixes lie among those of other scopes, in %d places; say its prefix pools", len(list))
			continue
		}
		var texts []string
		for _, p := range list {
			if p.Prefix.Overlaps(n.prefix) {
				d.leave("%s, which is delegated, lies in its subnet %s; say its prefix pools", p.Prefix, n.prefix)
				continue
			}
			texts = append(texts, p.String())
			d.because(plan.KindScope, n.name, "%s holds prefixes of /%d that are delegated; it may well be larger", p.Prefix, p.Length)
		}
		if len(texts) > 0 {
			n.body.PrefixPools = &texts
		}
	}
}

// split gives pools for sorted prefixes: one for all, if they could come from one; else for the two
// halves of the smallest prefix that holds them.
func (d *draft) split(list []delegation, pool func(plan.PrefixPool, *proposed)) {
	if len(list) == 0 {
		return
	}
	first := list[0]
	end := first.prefix
	for _, x := range list {
		if to := addr.OfPrefix(x.prefix).To; addr.OfPrefix(end).To.Less(to) {
			end = x.prefix
		}
	}
	whole := addr.Range{From: first.prefix.Addr(), To: addr.OfPrefix(end).To}
	bits := addr.CommonBits(whole)
	cover := netip.PrefixFrom(whole.From, min(bits, first.prefix.Bits())).Masked()
	if !slices.ContainsFunc(list, func(x delegation) bool { return !x.alike(first) }) {
		pool(plan.PrefixPool{Prefix: cover, Length: first.prefix.Bits()}, first.of)
		return
	}
	if bits >= first.prefix.Bits() { // the first holds the others
		pool(plan.PrefixPool{Prefix: first.prefix, Length: first.prefix.Bits()}, first.of)
		for _, x := range list[1:] {
			d.source, d.line = x.of.name, 0
			d.leave("%s lies in %s, which is delegated as a whole; say its prefix pools", x.prefix, first.prefix)
		}
		return
	}
	lower := netip.PrefixFrom(cover.Addr(), bits+1)
	at := slices.IndexFunc(list, func(x delegation) bool { return !lower.Contains(x.prefix.Addr()) })
	d.split(list[:at], pool)
	d.split(list[at:], pool)
}

// exclusions keeps addresses that hosts have by themselves out of pools.
func (d *draft) exclusions(rest []*host, taken map[netip.Prefix]bool) {
	for _, h := range rest {
		for _, says := range h.holds[:delegated] {
			if !says.key.IsValid() || taken[says.key] {
				continue
			}
			n := d.holding(says.key.Addr())
			if n == nil {
				continue
			}
			if n.body.Exclusions == nil {
				n.body.Exclusions = &[]api.Exclusion{}
			}
			*n.body.Exclusions = append(*n.body.Exclusions, api.Exclusion{Range: addr.FormatKey(says.key), User: h.name})
			d.out.Exclusions++
		}
	}
}

// bootOptions are the options that name a boot file.
var bootOptions = map[option.Family]string{option.V4: "header/boot-file", option.V6: "v6/bootfile-url"}

// booted is what clients of some network were given to boot.
type booted struct {
	family option.Family
	file   string
}

// rules proposes one for each boot file that clients of some vendor classes, and no others, were given.
func (d *draft) rules() {
	files, without := map[booted]map[string]int{}, map[booted]bool{} // the latter by vendor class
	for n, c := range d.clients() {
		of := booted{n.seen.family(), c.file}
		switch {
		case c.vendor == "":
		case c.file == "":
			without[booted{of.family, c.vendor}] = true
		default:
			if files[of] == nil {
				files[of] = map[string]int{}
			}
			files[of][c.vendor]++
		}
	}
	for i, of := range slices.SortedFunc(maps.Keys(files), func(a, b booted) int {
		return cmp.Or(int(a.family)-int(b.family), strings.Compare(a.file, b.file))
	}) {
		var when []string
		clients := 0
		for _, v := range slices.Sorted(maps.Keys(files[of])) {
			if !without[booted{of.family, v}] {
				when = append(when, fmt.Sprintf("vendor == %q", v))
				clients += files[of][v]
			}
		}
		if len(when) == 0 {
			continue
		}
		name, condition := fmt.Sprintf("boot-%d", i+1), strings.Join(when, " || ")
		d.edits = append(d.edits, api.Edit{Op: edit.Add, Kind: string(plan.KindRule), Name: name, Rule: &api.RuleEdit{When: &condition,
			Options: map[string]string{bootOptions[of.family]: of.file}}})
		d.because(plan.KindRule, name, "%d clients of these vendor classes were given this boot file, and no other client of them went without", clients)
	}
}
