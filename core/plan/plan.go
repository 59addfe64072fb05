package plan

import (
	"maps"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/gaissmai/bart"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// DefaultLease holds where nothing else is set.
const DefaultLease = 8 * time.Hour

// Plan is one revision, compiled. It never changes; a Draft makes the next.
type Plan struct {
	Revision int64
	Defaults Defaults

	lastID     ID
	links      *shards[ID, *Link]
	scopes     *shards[ID, *View]
	names      *shards[nameKey, ID]
	subnets    *bart.Table[*View]
	onLink     *shards[ID, []*View] // in order of id
	interfaces *shards[string, ID]
	relays     *shards[netip.Addr, ID]
	reserved   reservations
}

type nameKey struct {
	kind Kind
	name string // lower case
}

type hwKey struct {
	scope ID
	hw    addr.Hardware
}

// reservations are indexed by each way they are looked up.
type reservations struct {
	byID      *shards[ID, *Reservation]
	byAddress *shards[netip.Addr, *Reservation]
	byHW      *shards[hwKey, *Reservation]
	perScope  *shards[ID, int]
}

// View is a scope compiled: what a decision needs, worked out beforehand.
type View struct {
	Scope
	LinkName string
	Ranges   []addr.Range // may be handed out: pools less exclusions, network, broadcast, routers
	Size     uint64       // addresses in Ranges, reserved ones included
	Excluded uint64       // addresses of the pools that exclusions take away
	Lease    time.Duration
	Mask     []byte  // as it travels
	Values   []Value // options of defaults and scope, by code
}

// Value is one option with the level it comes from.
type Value struct {
	Code  uint8
	Data  []byte // as it travels
	Text  string
	Level Level
}

// Level is where a value is set; a later one is more specific and wins.
type Level uint8

// The levels, from general to specific.
const (
	AtService Level = iota // computed by the service itself
	AtDefaults
	AtScope
	AtReservation
)

func (l Level) String() string {
	return [...]string{"service", "defaults", "scope", "reservation"}[l]
}

// New is revision 0: nothing defined.
func New() *Plan {
	return &Plan{links: new(shards[ID, *Link]), scopes: new(shards[ID, *View]), names: new(shards[nameKey, ID]),
		subnets: new(bart.Table[*View]), onLink: new(shards[ID, []*View]), interfaces: new(shards[string, ID]),
		relays: new(shards[netip.Addr, ID]), reserved: reservations{new(shards[ID, *Reservation]),
			new(shards[netip.Addr, *Reservation]), new(shards[hwKey, *Reservation]), new(shards[ID, int])}}
}

// Scope is the scope with that id, or nil.
func (p *Plan) Scope(id ID) *View {
	v, _ := p.scopes.get(id)
	return v
}

// ScopeNamed is the scope with that name, or nil; case does not matter.
func (p *Plan) ScopeNamed(name string) *View { return p.Scope(p.id(KindScope, name)) }

// ScopeAt is the scope whose subnet holds the address, or nil.
func (p *Plan) ScopeAt(a netip.Addr) *View {
	v, _ := p.subnets.Lookup(a)
	return v
}

// Scopes lists all scopes by name.
func (p *Plan) Scopes() []*View {
	var out []*View
	for _, v := range p.scopes.all() {
		out = append(out, v)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// OnLink lists the scopes of a link in the order in which they were added.
func (p *Plan) OnLink(link ID) []*View {
	v, _ := p.onLink.get(link)
	return v
}

// Link is the link with that id, or nil.
func (p *Plan) Link(id ID) *Link {
	l, _ := p.links.get(id)
	return l
}

// LinkNamed is the link with that name, or nil; case does not matter.
func (p *Plan) LinkNamed(name string) *Link { return p.Link(p.id(KindLink, name)) }

// Links lists all links by name.
func (p *Plan) Links() []*Link {
	var out []*Link
	for _, l := range p.links.all() {
		out = append(out, l)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// LinkOnInterface is the link that names the interface, or 0.
func (p *Plan) LinkOnInterface(name string) ID {
	id, _ := p.interfaces.get(name)
	return id
}

// LinkOfRelay is the link that names the relay address, or 0.
func (p *Plan) LinkOfRelay(a netip.Addr) ID {
	id, _ := p.relays.get(a)
	return id
}

// ReservationFor is the reservation of a hardware address in a scope, or nil.
func (p *Plan) ReservationFor(scope ID, hw addr.Hardware) *Reservation {
	r, _ := p.reserved.byHW.get(hwKey{scope, hw})
	return r
}

// ReservationAt is the reservation of an address, or nil.
func (p *Plan) ReservationAt(a netip.Addr) *Reservation {
	r, _ := p.reserved.byAddress.get(a)
	return r
}

// ReservationNamed is the reservation with that name, or nil; case does not matter.
func (p *Plan) ReservationNamed(name string) *Reservation {
	r, _ := p.reserved.byID.get(p.id(KindReservation, name))
	return r
}

// ReservationCount is the number of reservations in a scope.
func (p *Plan) ReservationCount(scope ID) int {
	n, _ := p.reserved.perScope.get(scope)
	return n
}

// Reservations lists reservations by address: of one scope, or of all for 0.
func (p *Plan) Reservations(scope ID) []*Reservation {
	var out []*Reservation
	for _, r := range p.reserved.byID.all() {
		if scope == 0 || r.Scope == scope {
			out = append(out, r)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address.Less(out[j].Address) })
	return out
}

// Label names an item by its id, for a diff.
func (p *Plan) Label(id ID) string {
	if l := p.Link(id); l != nil {
		return l.Name
	}
	if s := p.Scope(id); s != nil {
		return s.Name
	}
	return ""
}

func (p *Plan) id(kind Kind, name string) ID {
	id, _ := p.names.get(nameKey{kind, strings.ToLower(name)})
	return id
}

// Reservable counts the addresses of the subnet outside all pools, without
// network and broadcast: what is left for reservations.
func (v *View) Reservable() uint64 {
	return addr.Total(addr.Subtract([]addr.Range{addr.OfPrefix(v.Subnet)}, append(reservedEnds(v.Subnet), v.Pools...)))
}

// Allocatable reports whether the scope's pools give out the address.
func (v *View) Allocatable(a netip.Addr) bool { return addr.In(v.Ranges, a) }

// reservedEnds are network and broadcast address, which nobody may have
// (subnets of 31 and 32 bits have neither, RFC 3021).
func reservedEnds(p netip.Prefix) []addr.Range {
	if p.Bits() >= 31 {
		return nil
	}
	r := addr.OfPrefix(p)
	return []addr.Range{{From: r.From, To: r.From}, {From: r.To, To: r.To}}
}

// routers are the addresses of the router option, each a range of one.
func (v *View) routers() (out []addr.Range) {
	for _, val := range v.Values {
		if val.Code != option.Router {
			continue
		}
		for b := val.Data; len(b) >= 4; b = b[4:] {
			a := netip.AddrFrom4([4]byte(b[:4]))
			out = append(out, addr.Range{From: a, To: a})
		}
	}
	return out
}

// compile works out a scope's view under the given defaults.
func compile(s Scope, linkName string, d Defaults) *View {
	v := &View{Scope: s, LinkName: linkName, Lease: DefaultLease, Mask: addr.Mask(s.Subnet).AsSlice()}
	for _, set := range []Settings{d.Settings, s.Settings} {
		if set.Lease != 0 {
			v.Lease = time.Duration(set.Lease)
		}
	}
	v.Values = overlay(overlay(nil, d.Options, AtDefaults), s.Options, AtScope)
	take := reservedEnds(s.Subnet)
	take = append(take, v.routers()...)
	open := addr.Subtract(s.Pools, take)
	for _, e := range s.Exclusions {
		take = append(take, e.Range)
	}
	v.Ranges = addr.Subtract(s.Pools, take)
	v.Size = addr.Total(v.Ranges)
	v.Excluded = addr.Total(open) - v.Size
	return v
}

// overlay puts a level's options over inherited ones; NoValue takes one away.
func overlay(base []Value, options map[uint8]string, level Level) []Value {
	if len(options) == 0 {
		return base
	}
	out := make([]Value, 0, len(base)+len(options))
	for _, v := range base {
		if _, replaced := options[v.Code]; !replaced {
			out = append(out, v)
		}
	}
	for _, code := range slices.Sorted(maps.Keys(options)) {
		text := options[code]
		if text == NoValue {
			continue
		}
		if data, err := option.Standard4.ByCode(code).Type.Encode(text); err == nil { // checked when it was set
			out = append(out, Value{code, data, text, level})
		}
	}
	slices.SortFunc(out, func(a, b Value) int { return int(a.Code) - int(b.Code) })
	return out
}

// ValuesFor is what a client of the scope gets; reservation may be nil.
func (v *View) ValuesFor(r *Reservation) []Value {
	if r == nil {
		return v.Values
	}
	return overlay(v.Values, r.Options, AtReservation)
}

// LeaseFor is the lease time a client of the scope gets; reservation may be nil.
func (v *View) LeaseFor(r *Reservation) time.Duration {
	if r != nil && r.Lease != 0 {
		return time.Duration(r.Lease)
	}
	return v.Lease
}
