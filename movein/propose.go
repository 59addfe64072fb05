package movein

import (
	"cmp"
	"fmt"
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
}

// proposed is a scope that is proposed.
type proposed struct {
	name   string
	prefix netip.Prefix
	seen   *network // nil: no capture shows it
	body   *api.ScopeEdit
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

// held are the leases that clients of captures hold, by address: the latest of each address, and of
// each client in a network.
func (d *draft) held() (out []sheet.Lease) {
	last := map[netip.Addr]*client{}
	of := map[netip.Addr]string{}
	for _, n := range d.nets {
		if n.seen == nil {
			continue
		}
		for _, c := range n.seen.clients {
			if was := last[c.address]; was == nil || was.span.to.Before(c.span.to) {
				last[c.address], of[c.address] = c, n.name
			}
		}
	}
	for a, c := range last {
		out = append(out, sheet.Lease{Key: netip.PrefixFrom(a, a.BitLen()), Hardware: c.hardware, Identifier: c.id, Hostname: c.name,
			Vendor: c.vendor, Scope: of[a],
			Status: "active", Since: c.span.from, Expires: c.until, Endless: c.forGood})
	}
	slices.SortFunc(out, func(a, b sheet.Lease) int { return a.Key.Compare(b.Key) })
	return out
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

// scopes proposes one for each network of a capture, each subnet that was named, and a /24 around any
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
		n := &proposed{name: cmp.Or(name, "net-"+prefix.Addr().String()), prefix: prefix, body: &api.ScopeEdit{Subnet: &subnet}}
		d.nets = append(d.nets, n)
		return n
	}
	for _, prefix := range slices.SortedFunc(maps.Keys(d.gatherer.nets), compare) {
		seen := d.gatherer.nets[prefix]
		n := add(prefix, "")
		n.seen = seen
		d.because(plan.KindScope, n.name, "%d answers to %d clients were seen, %s, from %s", seen.answers, len(seen.clients), seen.span,
			addresses(seen.servers))
		if len(seen.relays) > 0 {
			relays := texts(seen.relays)
			d.edits = append(d.edits, api.Edit{Op: edit.Add, Kind: string(plan.KindLink), Name: n.name,
				Link: &api.LinkEdit{Relays: &relays}})
			d.because(plan.KindLink, n.name, "these relays forwarded for it")
			n.body.Link = &n.name
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.options.Scopes)) {
		add(d.options.Scopes[name], name)
	}
	for _, h := range append(slices.Clone(d.order), rest...) {
		if h.address.IsValid() && d.holding(h.address) == nil {
			n := add(netip.PrefixFrom(h.address, 24).Masked(), "")
			d.because(plan.KindScope, n.name, "guessed: a /24 around %s (%s); say its true subnet", h.address, h.evidence[0])
		}
	}
	slices.SortFunc(d.nets, func(a, b *proposed) int { return compare(a.prefix, b.prefix) })
}

func compare(a, b netip.Prefix) int { return cmp.Or(a.Addr().Compare(b.Addr()), a.Bits()-b.Bits()) }

func texts(list []netip.Addr) (out []string) {
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}

func addresses(list []netip.Addr) string {
	if len(list) == 0 {
		return "a server that does not say its address"
	}
	return strings.Join(texts(list), ", ")
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

// common sets options and lease times: what all networks have alike is the defaults'.
func (d *draft) common() {
	book := plan.New()
	values := map[string]map[string]int{} // by option and value: in how many networks
	nets := 0
	for _, n := range d.nets {
		if n.seen == nil {
			continue
		}
		nets++
		n.body.Options = map[string]string{}
		for _, code := range slices.Sorted(maps.Keys(n.seen.options)) {
			data, seen, all := most(n.seen.options[code])
			if all*rare < n.seen.answers {
				continue // some client's own
			}
			def := option.Standard4.ByCode(uint16(code))
			name, text := book.KeyName(option.Std(uint16(code))), def.Type.Format([]byte(data))
			if _, err := def.Type.Encode(text); err != nil || text == "" {
				continue
			}
			n.body.Options[name] = text
			if seen < all {
				d.because(plan.KindScope, n.name, "option %s: %d of %d answers had this value, others another one", name, seen, all)
			}
			if values[name] == nil {
				values[name] = map[string]int{}
			}
			values[name][text]++
		}
		if t, _, _ := most(finite(n.seen.leases)); t > 0 {
			text := option.FormatDuration(time.Duration(t) * time.Second)
			n.body.Lease = &text
		}
	}
	if nets < sharedLeast {
		return
	}
	all := map[string]string{}
	for name, texts := range values {
		if text, seen, _ := most(texts); seen == nets {
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
	d.because(plan.KindDefaults, "", "%d networks were given these alike", nets)
}

// finite are lease times without those that never end.
func finite(leases map[uint32]int) map[uint32]int {
	out := maps.Clone(leases)
	delete(out, 0xffffffff)
	return out
}

// reservations proposes one for each host whose hardware address and address are known, and for clients
// of a capture whose address never ends; it gives the addresses that are taken so.
func (d *draft) reservations() map[netip.Addr]bool {
	taken := map[netip.Addr]bool{}
	add := func(hw addr.Hardware, name string, a netip.Addr, note string, why []string) {
		if taken[a] {
			d.source, d.line = strings.Join(why, "; "), 0
			d.leave("%s is reserved for another client already", a)
			return
		}
		taken[a] = true
		hardware, address := hw.String(), a.String()
		in := &api.ReservationEdit{Hardware: &hardware, Address: &address}
		if note != "" {
			in.Note = &note
		}
		name = d.called(name, hw)
		d.edits = append(d.edits, api.Edit{Op: edit.Add, Kind: string(plan.KindReservation), Name: name, Reservation: in})
		d.because(plan.KindReservation, name, "%s", strings.Join(why, "; "))
		d.out.Reservations++
	}
	clients := map[string]*client{}
	for _, n := range d.nets {
		if n.seen != nil {
			for hw, c := range n.seen.clients {
				clients[hw] = c
			}
		}
	}
	for _, h := range d.order {
		why := h.evidence
		c := clients[string(h.hardware)]
		if c != nil {
			why = append(why, fmt.Sprintf("seen %d times with %s, %s", c.seen, c.address, c.span))
		} else if len(clients) > 0 {
			why = append(why, "no client of the capture claimed it")
		}
		switch {
		case h.address.IsValid():
			add(h.hardware, h.name, h.address, h.note, why)
		case c != nil:
			add(h.hardware, h.name, c.address, h.note, why)
		default:
			d.source, d.line = h.evidence[0], 0
			d.leave("no address is known for %s (%s)", h.hardware, cmp.Or(h.name, "no name"))
		}
	}
	for _, hw := range slices.Sorted(maps.Keys(clients)) {
		c := clients[hw]
		if d.hosts[hw] != nil || taken[c.address] || !c.forGood && !d.options.Everybody {
			continue
		}
		why := fmt.Sprintf("seen %d times, %s", c.seen, c.span)
		if c.forGood {
			why += "; its lease never ends"
		}
		add(c.hardware, c.name, c.address, "", []string{why})
	}
	return taken
}

// called is a name for a reservation that no other has.
func (d *draft) called(name string, hw addr.Hardware) string {
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
	if name == "" {
		name = "host-" + strings.ReplaceAll(hw.String(), ":", "")
	}
	first := name
	for i := 2; d.names[strings.ToLower(name)]; i++ {
		name = fmt.Sprintf("%s-%d", first, i)
	}
	d.names[strings.ToLower(name)] = true
	return name
}

// pools proposes the span of the addresses that clients without a reservation were given.
func (d *draft) pools(taken map[netip.Addr]bool) {
	for _, n := range d.nets {
		if n.seen == nil {
			continue
		}
		var given []netip.Addr
		for _, c := range n.seen.clients {
			if !taken[c.address] {
				given = append(given, c.address)
			}
		}
		if len(given) == 0 {
			continue
		}
		slices.SortFunc(given, netip.Addr.Compare)
		n.body.Pools = &[]string{addr.Range{From: given[0], To: given[len(given)-1]}.String()}
		d.because(plan.KindScope, n.name, "the pool spans the %d addresses that were given; it may well be larger", len(given))
	}
}

// exclusions keeps addresses that hosts have by themselves out of pools.
func (d *draft) exclusions(rest []*host, taken map[netip.Addr]bool) {
	for _, h := range rest {
		n := d.holding(h.address)
		if n == nil || taken[h.address] {
			continue
		}
		if n.body.Exclusions == nil {
			n.body.Exclusions = &[]api.Exclusion{}
		}
		*n.body.Exclusions = append(*n.body.Exclusions, api.Exclusion{Range: h.address.String(), User: h.name})
		d.out.Exclusions++
	}
}

// rules proposes one for each boot file that clients of some vendor classes, and no others, were given.
func (d *draft) rules() {
	files, without := map[string]map[string]int{}, map[string]bool{}
	for _, n := range d.nets {
		if n.seen == nil {
			continue
		}
		for _, c := range n.seen.clients {
			switch {
			case c.vendor == "":
			case c.file == "":
				without[c.vendor] = true
			default:
				if files[c.file] == nil {
					files[c.file] = map[string]int{}
				}
				files[c.file][c.vendor]++
			}
		}
	}
	for i, file := range slices.Sorted(maps.Keys(files)) {
		var when []string
		clients := 0
		for _, v := range slices.Sorted(maps.Keys(files[file])) {
			if !without[v] {
				when = append(when, fmt.Sprintf("vendor == %q", v))
				clients += files[file][v]
			}
		}
		if len(when) == 0 {
			continue
		}
		name, condition := fmt.Sprintf("boot-%d", i+1), strings.Join(when, " || ")
		d.edits = append(d.edits, api.Edit{Op: edit.Add, Kind: string(plan.KindRule), Name: name, Rule: &api.RuleEdit{When: &condition,
			Options: map[string]string{"header/boot-file": file}}})
		d.because(plan.KindRule, name, "%d clients of these vendor classes were given this boot file, and no other client of them went without", clients)
	}
}
