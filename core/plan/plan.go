package plan

import (
	"encoding/binary"
	"maps"
	"math"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/gaissmai/bart"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/plan/internal/cowmap"
	"yarnpost/core/rule"
)

// DefaultLease holds where nothing else is set.
const DefaultLease = 8 * time.Hour

// Plan is one revision, compiled. It never changes; a Draft makes the next.
type Plan struct {
	Revision int64
	Defaults Defaults

	lastID     ID
	slots      int // given to views so far
	links      *cowmap.Map[ID, *Link]
	scopes     *cowmap.Map[ID, *View]
	names      *cowmap.Map[nameKey, ID]
	subnets    *bart.Table[*View]
	supernets  *cowmap.Map[ID, *Supernet]
	nets       *bart.Table[*Supernet]   // supernets, by prefix
	onLink     *cowmap.Map[ID, []*View] // in order of id
	interfaces *cowmap.Map[string, ID]
	relays     *bart.Table[ID]  // by the relay's address
	routers    *bart.Table[int] // how many scopes name a router, by its address
	reserved   reservations
	catalog    catalog
}

// catalog are the kinds of items of which a plan has dozens, not thousands; a
// change copies them all.
type catalog struct {
	codebooks map[ID]*Codebook
	lists     map[ID]*List
	rules     map[ID]*CompiledRule
	trials    map[ID]*Trial
	fields    map[ID]*OwnField
	// Worked out of these:
	books   map[string]*option.Codebook // by name of the codebook
	message *option.Codebook            // options of the message itself: the standard ones and own ones
	ready   *rule.Lists
	ruleOf  map[ID][]*CompiledRule // by scope or supernet, 0 for the defaults; in order, without those that are off
}

// only is the prefix of one address, as tables of prefixes want it.
func only(a netip.Addr) netip.Prefix { return netip.PrefixFrom(a, a.BitLen()) }

type nameKey struct {
	kind Kind
	name string // lower case
}

// whoKey is a client in a scope as reservations know it: by 'h' and hardware
// address, 'i' and identifier, or 'c' and circuit.
type whoKey struct {
	scope ID
	kind  byte
	who   string
}

// A delegated prefix has the same in upper case; 'n' is a DUID behind its IAID.
func (r *Reservation) key() whoKey {
	k := r.who()
	if r.Length > 0 {
		k.kind -= 'a' - 'A'
	}
	return k
}

func (r *Reservation) who() whoKey {
	switch {
	case r.IAID != "":
		return whoKey{r.Scope, 'n', string(r.IAID) + string(r.Identifier)}
	case r.Identifier != "":
		return whoKey{r.Scope, 'i', string(r.Identifier)}
	case r.Circuit != "":
		return whoKey{r.Scope, 'c', r.Circuit}
	}
	return whoKey{r.Scope, 'h', string(r.Hardware)}
}

// reservations are indexed by each way they are looked up.
type reservations struct {
	byID      *cowmap.Map[ID, *Reservation]
	byAddress *bart.Table[*Reservation]
	byClient  *cowmap.Map[whoKey, *Reservation]
	perScope  *cowmap.Map[ID, tally]
}

// tally counts reservations.
type tally struct{ all, circuits int }

// View is a scope compiled: what a decision needs, worked out beforehand. What
// each decision looks at stands first and close together: among many scopes a
// look at another line of memory is what takes time.
type View struct {
	Slot       int // a small number of its own, for as long as the process lives
	bloom      bloom
	self       [1]*View // itself, as OnLink gives it if single
	single     bool     // no other scope of its family is on its link
	Listening  bool     // its link is heard and not answered
	StandAside bool     // its link is not answered while another server answers there
	Confines   bool     // some pool is only for clients that rules send there
	mask       [4]byte
	first      addr.Range   // of Ranges, again
	Ranges     []addr.Range // may be handed out: pools less exclusions, network, broadcast, routers, relays
	settled
	Parts    []Part // what may be handed out, by pool
	Size     uint64 // addresses in Ranges, reserved ones included
	LinkName string
	On       *Link
	Around   []*Supernet  // that it lies in, the outermost first
	Levels   []ID         // whose rules are asked: 0 for the defaults, supernets, itself
	Excluded uint64       // addresses of the pools that exclusions take away
	Routers  []netip.Addr // that its clients are told of, by rules too
	Scope
}

// Part is one pool of a scope.
type Part struct {
	Pool     addr.Range
	Ranges   []addr.Range // of it, may be handed out
	Confined bool         // only to clients that a rule sends here
	Length   int          // of the prefixes that it delegates; 0: it gives addresses
	Exclude  int          // length of what of them their routers must not use inside; 0: nothing
}

// Key is the key of what a part gives that begins at an address.
func (p *Part) Key(a netip.Addr) netip.Prefix {
	if p.Length > 0 {
		return netip.PrefixFrom(a, p.Length)
	}
	return only(a)
}

// Size is how many addresses or prefixes the part may hand out; 2^64 and more give the largest
// uint64.
func (p *Part) Size() uint64 {
	if p.Length == 0 {
		return addr.Total(p.Ranges)
	}
	if bits := p.Length - addr.CommonBits(p.Pool); bits < 64 {
		return 1 << bits
	}
	return math.MaxUint64
}

// PartAt is the number of the pool that holds an address, or -1.
func (v *View) PartAt(a netip.Addr) int {
	return slices.IndexFunc(v.Parts, func(p Part) bool { return p.Pool.Contains(a) })
}

// Value is one option with the level it comes from.
type Value struct {
	option.Key
	Data []byte // as it travels
	Text string
	Origin
}

// Origin is whose setting something is.
type Origin struct {
	Level Level
	Name  string // of the scope, the rule or the reservation; "" for the levels there is one of
}

// Level is where a value is set; a later one is more specific and wins.
type Level uint8

// The levels, from general to specific.
const (
	AtService Level = iota // computed by the service itself
	AtDefaults
	AtSupernet
	AtScope
	AtRule
	AtReservation
)

func (l Level) String() string {
	return [...]string{"service", "defaults", "supernet", "scope", "rule", "reservation"}[l]
}

// CompiledRule is a rule made ready.
type CompiledRule struct {
	Rule
	Program *rule.Program
	Values  []Value
	Takes   []option.Key // inherited values it takes away
}

// New is revision 0: nothing defined.
func New() *Plan {
	return &Plan{links: new(cowmap.Map[ID, *Link]), scopes: new(cowmap.Map[ID, *View]), names: new(cowmap.Map[nameKey, ID]),
		subnets: new(bart.Table[*View]), supernets: new(cowmap.Map[ID, *Supernet]), nets: new(bart.Table[*Supernet]),
		onLink: new(cowmap.Map[ID, []*View]), interfaces: new(cowmap.Map[string, ID]),
		relays: new(bart.Table[ID]), routers: new(bart.Table[int]), catalog: catalog{}.fork().compiled(),
		reserved: reservations{byID: new(cowmap.Map[ID, *Reservation]), byAddress: new(bart.Table[*Reservation]),
			byClient: new(cowmap.Map[whoKey, *Reservation]),
			perScope: new(cowmap.Map[ID, tally])}}
}

// fork returns indexes that may be written; the originals must not be any more.
func (x reservations) fork() reservations {
	return reservations{byID: x.byID.Fork(), byAddress: x.byAddress, byClient: x.byClient.Fork(), perScope: x.perScope.Fork()}
}

// Scope is the scope with that id, or nil.
func (p *Plan) Scope(id ID) *View {
	v, _ := p.scopes.Get(id)
	return v
}

// ScopeNamed is the scope with that name, or nil; case does not matter.
func (p *Plan) ScopeNamed(name string) *View { return p.Scope(p.id(KindScope, name)) }

// ScopeAt is the scope whose subnet, or one of whose prefix pools, holds the address, or nil.
func (p *Plan) ScopeAt(a netip.Addr) *View {
	v, _ := p.subnets.Lookup(a)
	return v
}

// SubnetAt is the scope whose subnet holds the address, or nil.
func (p *Plan) SubnetAt(a netip.Addr) *View {
	if v := p.ScopeAt(a); v != nil && v.Subnet.Contains(a) {
		return v
	}
	return nil
}

// Scopes lists all scopes by name.
func (p *Plan) Scopes() []*View {
	var out []*View
	for _, v := range p.scopes.All() {
		out = append(out, v)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// Beside lists the scopes of a scope's link that are of its family, itself among them, in the
// order in which they were added.
func (p *Plan) Beside(v *View) []*View {
	if v.single {
		return v.self[:]
	}
	return p.Serving(v.Link, v.Family())
}

// Serving lists the scopes of a link that serve clients of a family, in the order in which they
// were added.
func (p *Plan) Serving(link ID, of option.Family) []*View {
	all := p.OnLink(link)
	if !slices.ContainsFunc(all, func(v *View) bool { return v.Family() != of }) {
		return all
	}
	var out []*View
	for _, v := range all {
		if v.Family() == of {
			out = append(out, v)
		}
	}
	return out
}

// OnLink lists the scopes of a link, of both families, in the order in which they were added.
func (p *Plan) OnLink(link ID) []*View {
	v, _ := p.onLink.Get(link)
	return v
}

// Link is the link with that id, or nil.
func (p *Plan) Link(id ID) *Link {
	l, _ := p.links.Get(id)
	return l
}

// LinkNamed is the link with that name, or nil; case does not matter.
func (p *Plan) LinkNamed(name string) *Link { return p.Link(p.id(KindLink, name)) }

// Links lists all links by name.
func (p *Plan) Links() []*Link {
	var out []*Link
	for _, l := range p.links.All() {
		out = append(out, l)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// LinkOnInterface is the link that names the interface, or 0.
func (p *Plan) LinkOnInterface(name string) ID {
	id, _ := p.interfaces.Get(name)
	return id
}

// LinkOfRelay is the link that names the relay address, or 0.
func (p *Plan) LinkOfRelay(a netip.Addr) ID {
	id, _ := p.relays.Get(only(a))
	return id
}

// ReservationFor is a client's reservation in a scope, or nil: by its client
// identifier, its hardware address, or the circuit it is plugged into, in this
// order. What is not known of a client is empty, or nil.
func (p *Plan) ReservationFor(v *View, hw addr.Hardware, identifier string, circuit func() string) *Reservation {
	of := func(kind byte, who string) *Reservation {
		if who == "" || !v.bloom.may(hashOfClient(kind, who)) {
			return nil
		}
		r, _ := p.reserved.byClient.Get(whoKey{v.ID, kind, who})
		return r
	}
	if r := of('i', identifier); r != nil {
		return r
	}
	if r := of('h', string(hw)); r != nil || circuit == nil || len(v.bloom.words) == 0 {
		return r
	}
	if n, _ := p.reserved.perScope.Get(v.ID); n.circuits > 0 {
		return of('c', circuit())
	}
	return nil
}

// ReservationFor6 is a client's reservation of an address, or of a delegated prefix, in an IPv6
// scope, or nil: by its DUID and the IAID (big-endian), its DUID, its hardware address, or its
// circuit, in this order. What is not known of a client is empty, or nil.
func (p *Plan) ReservationFor6(v *View, delegated bool, iaid, duid string, hw addr.Hardware, circuit func() string) *Reservation {
	of := func(kind byte, who string) *Reservation {
		if delegated {
			kind -= 'a' - 'A'
		}
		if who == "" || !v.bloom.may(hashOfClient(kind, who)) {
			return nil
		}
		r, _ := p.reserved.byClient.Get(whoKey{v.ID, kind, who})
		return r
	}
	if len(v.bloom.words) == 0 {
		return nil
	}
	if duid != "" {
		if r := of('n', iaid+duid); r != nil {
			return r
		}
		if r := of('i', duid); r != nil {
			return r
		}
	}
	if r := of('h', string(hw)); r != nil || circuit == nil {
		return r
	}
	if n, _ := p.reserved.perScope.Get(v.ID); n.circuits > 0 {
		return of('c', circuit())
	}
	return nil
}

// ReservationAt is the reservation of an address, or nil.
func (p *Plan) ReservationAt(a netip.Addr) *Reservation { return p.ReservationOf(only(a)) }

// ReservationOf is the reservation of an address as a prefix of full length, or of a delegated
// prefix, or nil.
func (p *Plan) ReservationOf(k netip.Prefix) *Reservation {
	r, _ := p.reserved.byAddress.Get(k)
	return r
}

// ReservationNamed is the reservation with that name, or nil; case does not matter.
func (p *Plan) ReservationNamed(name string) *Reservation {
	r, _ := p.reserved.byID.Get(p.id(KindReservation, name))
	return r
}

// ReservationCount is the number of reservations in a scope.
func (p *Plan) ReservationCount(scope ID) int {
	n, _ := p.reserved.perScope.Get(scope)
	return n.all
}

// Reservations lists reservations by address: of one scope, or of all for 0.
func (p *Plan) Reservations(scope ID) []*Reservation {
	var out []*Reservation
	if scope == 0 {
		for _, r := range p.reserved.byAddress.AllSorted() {
			out = append(out, r)
		}
		return out
	}
	v := p.Scope(scope)
	if v == nil {
		return nil
	}
	for _, in := range v.Prefixes() { // a reservation lies in one of them
		for _, r := range p.reserved.byAddress.Subnets(in) {
			out = append(out, r)
		}
	}
	return out
}

// LastID is the highest id in use or used before; a draft's new items come
// after it.
func (p *Plan) LastID() ID { return p.lastID }

func (p *Plan) id(kind Kind, name string) ID {
	id, _ := p.names.Get(nameKey{kind, strings.ToLower(name)})
	return id
}

// ID is the id of the item of a kind with that name, or 0; case does not matter.
func (p *Plan) ID(kind Kind, name string) ID { return p.id(kind, name) }

// NetworkAt says in words what of the network itself an address belongs to, as far
// as the plan knows: a relay or a router. Nobody is given such an address.
func (p *Plan) NetworkAt(a netip.Addr) string {
	if id := p.LinkOfRelay(a); id != 0 {
		return "a relay of link " + p.Label(id)
	}
	if _, ok := p.routers.Get(only(a)); ok {
		return "a router"
	}
	return ""
}

// Reservable counts the addresses of the subnet outside all pools, without
// network and broadcast: what is left for reservations.
func (v *View) Reservable() uint64 {
	return addr.Total(addr.Subtract([]addr.Range{addr.OfPrefix(v.Subnet)}, append(reservedEnds(v.Subnet), v.Pools...)))
}

// Mask is the subnet mask, as it travels.
func (v *View) Mask() []byte { return v.mask[:] }

// Allocatable reports whether the scope's pools give out the address.
func (v *View) Allocatable(a netip.Addr) bool {
	return v.first.Contains(a) || len(v.Ranges) > 1 && addr.In(v.Ranges[1:], a)
}

// Has reports whether an address lies in the scope's subnet, or whether it delegates prefixes
// like this one.
func (v *View) Has(k netip.Prefix) bool {
	if k.IsSingleIP() {
		return v.Subnet.Contains(k.Addr())
	}
	return v.Gives(k)
}

// Gives reports whether the scope's pools give out an address, or delegate a prefix.
func (v *View) Gives(k netip.Prefix) bool {
	if k.IsSingleIP() {
		return v.Allocatable(k.Addr())
	}
	for i := range v.Parts {
		if p := &v.Parts[i]; p.Length == k.Bits() && p.Pool.Contains(k.Addr()) {
			return k == k.Masked() // one that begins between two overlaps both
		}
	}
	return false
}

// Ends reports whether an address is the network or the broadcast address of the
// subnet. It must lie in it.
func (v *View) Ends(a netip.Addr) bool {
	if !a.Is4() {
		return addr.In(reservedEnds(v.Subnet), a)
	}
	b, m := a.As4(), v.mask
	bits, mask := binary.BigEndian.Uint32(b[:]), binary.BigEndian.Uint32(m[:])
	return ^mask > 1 && (bits&^mask == 0 || bits|mask == 1<<32-1)
}

// reservedEnds are network and broadcast address, which nobody may have
// (subnets of 31 and 32 bits have neither, RFC 3021). Of IPv6 they are the anycast addresses
// of routers (RFC 4291 section 2.6.1) and, in a /64, the reserved ones (RFC 2526).
func reservedEnds(p netip.Prefix) []addr.Range {
	r := addr.OfPrefix(p)
	if p.Addr().Is6() {
		if p.Bits() >= 127 { // RFC 6164
			return nil
		}
		out := []addr.Range{{From: r.From, To: r.From}}
		if p.Bits() == 64 {
			from, to := r.To.As16(), r.To.As16()
			from[8], from[15], to[8] = 0xfd, 0x80, 0xfd
			out = append(out, addr.Range{From: netip.AddrFrom16(from), To: netip.AddrFrom16(to)})
		}
		return out
	}
	if p.Bits() >= 31 {
		return nil
	}
	return []addr.Range{{From: r.From, To: r.From}, {From: r.To, To: r.To}}
}

// appendRouters adds the addresses of the router option among values.
func appendRouters(out []netip.Addr, values []Value) []netip.Addr {
	for _, val := range values {
		if val.Key != option.Std(option.Router) {
			continue
		}
		for b := val.Data; len(b) >= 4; b = b[4:] {
			if a := netip.AddrFrom4([4]byte(b[:4])); !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	return out
}

// ofNetwork lists the addresses of a scope's subnet that belong to the network:
// its own routers, those that other scopes name, relays of links.
func (p *Plan) ofNetwork(v *View) (out []addr.Range) {
	one := func(a netip.Addr) { out = append(out, addr.Range{From: a, To: a}) }
	for _, a := range v.Routers {
		one(a)
	}
	for at := range p.routers.Subnets(v.Subnet) {
		one(at.Addr())
	}
	for at := range p.relays.Subnets(v.Subnet) {
		one(at.Addr())
	}
	return out
}

// layer is one level at which things are set that more specific ones inherit.
type layer struct {
	Origin
	Settings
	Identity   Identity
	Thresholds Thresholds
}

// layers are the levels above a scope and itself, the general ones first.
func (p *Plan) layers(s Scope, around []*Supernet) []layer {
	out := []layer{{Origin{AtDefaults, ""}, p.Defaults.Settings, p.Defaults.Identity, p.Defaults.Thresholds}}
	for _, n := range around {
		out = append(out, layer{Origin{AtSupernet, n.Name}, n.Settings, n.Identity, n.Thresholds})
	}
	return append(out, layer{Origin{AtScope, s.Name}, s.Settings, s.Identity, s.Thresholds})
}

// levels are those whose rules are asked, in this order.
func levels(s Scope, around []*Supernet) []ID {
	out := make([]ID, 0, 2+len(around))
	out = append(out, 0)
	for _, n := range around {
		out = append(out, n.ID)
	}
	return append(out, s.ID)
}

// settled is what comes of a chain of levels: of each thing what the most
// specific level says, or else what the service does by itself.
type settled struct {
	Lease      time.Duration
	Valid      time.Duration // of IPv6; 0: half as long again as the lease time
	Values     []Value       // options, by key
	ByHardware bool          // clients are told apart by hardware address alone
	LeaseFrom  Origin
	Warn       Thresholds
}

func (p *Plan) settle(chain []layer) settled {
	out := settled{Lease: DefaultLease, Warn: usualThresholds}
	for _, l := range chain {
		if l.Lease != 0 {
			out.Lease, out.LeaseFrom = l.Lease.LeaseTime(), l.Origin
		}
		if l.Valid != 0 {
			out.Valid = time.Duration(l.Valid)
		}
		if l.Identity != "" {
			out.ByHardware = l.Identity == ByHardware
		}
		out.Warn = l.Thresholds.over(out.Warn)
		out.Values = Overlay(out.Values, p.values(l.Settings, l.Origin), takes(l.Settings))
	}
	return out
}

// compile works out a scope's view in a plan.
func (p *Plan) compile(s Scope) *View {
	on, around := p.Link(s.Link), p.Around(s.Subnet)
	v := &View{Scope: s, On: on, Around: around, Levels: levels(s, around), LinkName: on.Name, Listening: on.Listening,
		StandAside: on.StandAside, settled: p.settle(p.layers(s, around))}
	if s.Family() == option.V4 {
		v.mask = addr.Mask(s.Subnet).As4()
	} else {
		v.ByHardware = false
	}
	v.Routers = appendRouters(nil, v.Values)
	for _, of := range v.Levels {
		for _, r := range p.catalog.ruleOf[of] {
			v.Routers = appendRouters(v.Routers, r.Values)
		}
	}
	take := append(reservedEnds(s.Subnet), p.ofNetwork(v)...)
	open := addr.Subtract(s.Pools, take)
	for _, e := range s.Exclusions {
		take = append(take, e.Range)
	}
	v.Ranges = addr.Subtract(s.Pools, take)
	if len(v.Ranges) > 0 {
		v.first = v.Ranges[0]
	}
	v.Size = addr.Total(v.Ranges)
	v.Excluded = addr.Total(open) - v.Size
	for _, pool := range s.Pools {
		part := Part{Pool: pool, Ranges: addr.Subtract([]addr.Range{pool}, take), Confined: p.confined(s.ID, pool)}
		v.Parts, v.Confines = append(v.Parts, part), v.Confines || part.Confined
	}
	for _, pool := range s.PrefixPools {
		whole := addr.OfPrefix(pool.Prefix)
		v.Parts = append(v.Parts, Part{Pool: whole, Ranges: []addr.Range{whole}, Length: pool.Length, Exclude: pool.Exclude})
	}
	return v
}

// values encodes what settings set; keys that cannot be are left out, since they
// were refused when they were set.
func (p *Plan) values(s Settings, from Origin) (out []Value) {
	for _, k := range slices.SortedFunc(maps.Keys(s.Options), option.Key.Compare) {
		text := s.Options[k]
		def, err := p.Def(k)
		if text == NoValue || err != nil {
			continue
		}
		if data, err := def.Type.Encode(text); err == nil {
			out = append(out, Value{k, data, text, from})
		}
	}
	return out
}

func takes(s Settings) (out []option.Key) {
	for k, text := range s.Options {
		if text == NoValue {
			out = append(out, k)
		}
	}
	return out
}

// Overlay puts values over inherited ones, without those that are taken away.
// All lists are in the order of their keys.
func Overlay(base, over []Value, take []option.Key) []Value {
	if len(over) == 0 && len(take) == 0 {
		return base
	}
	out := make([]Value, 0, len(base)+len(over))
	for _, v := range base {
		_, replaced := slices.BinarySearchFunc(over, v.Key, func(o Value, k option.Key) int { return o.Key.Compare(k) })
		if !replaced && !slices.Contains(take, v.Key) {
			out = append(out, v)
		}
	}
	out = append(out, over...)
	slices.SortFunc(out, func(a, b Value) int { return a.Key.Compare(b.Key) })
	return out
}

// Reserved puts a reservation's values over others.
func (p *Plan) Reserved(base []Value, r *Reservation) []Value {
	if r == nil || len(r.Options) == 0 {
		return base
	}
	return Overlay(base, p.values(r.Settings, Origin{AtReservation, r.Name}), takes(r.Settings))
}

// ValidFor is the valid lifetime of an IPv6 lease that is preferred for a time (RFC 8415 section
// 6.2); reservation may be nil.
func (v *View) ValidFor(r *Reservation, preferred time.Duration) time.Duration {
	valid := v.Valid
	if r != nil && r.Valid != 0 {
		valid = time.Duration(r.Valid)
	}
	switch {
	case preferred >= option.Infinite:
		return option.Infinite
	case valid == 0:
		return preferred + preferred/2
	}
	return max(valid, preferred)
}

// LeaseFor is the lease time a client of the scope gets; reservation may be nil.
func (v *View) LeaseFor(r *Reservation) time.Duration {
	if r != nil && r.Lease != 0 {
		return r.Lease.LeaseTime()
	}
	return v.Lease
}
