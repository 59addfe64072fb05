package audit

import (
	"cmp"
	"fmt"
	"hash/maphash"
	"net/netip"
	"slices"
	"strings"

	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// Leases looks at a lease table, lease by lease.
type Leases struct {
	plan *plan.Plan
	now  lease.Time
	// Of the table, as it is gathered:
	outside   []*lease.Lease
	abandoned []*lease.Lease
	odd       []*lease.Lease
	elsewhere []*lease.Lease
	delegated []netip.Prefix // that are held
	waiting   int            // that the partner has to agree with before they are free
	seed      maphash.Seed
	// Of the scope that is looked at now; leases come scope by scope.
	scope *plan.View
	held  map[uint64]seen // by a digest of the hardware address
	names map[uint64]seen // by a digest of the host name
	made  map[uint64]seen // by a digest of the DUID: hosts that registered addresses
	rich  []rich
	own   []own
	twice map[plan.ID][]seen
}

// seen is what was met, known once it was met twice, and how often.
type seen struct {
	what string
	n    int32
}

func (s *Leases) met(in map[uint64]seen, what string) {
	digest := maphash.String(s.seed, what)
	x := in[digest]
	if x.n++; x.n == 2 {
		x.what = strings.Clone(what)
	}
	in[digest] = x
}

// rich is a hardware address with many addresses in a scope.
type rich struct {
	seen
	scope string
}

// own is what the hosts of a scope made themselves and registered.
type own struct {
	scope            *plan.View
	hosts, addresses int
}

// manyLeast is how many addresses of one hardware address are many.
const manyLeast = 5

// NewLeases begins to look, at a moment.
func NewLeases(p *plan.Plan, now lease.Time) *Leases {
	return &Leases{plan: p, now: now, seed: maphash.MakeSeed(), held: map[uint64]seen{}, names: map[uint64]seen{},
		made:  map[uint64]seen{},
		twice: map[plan.ID][]seen{}}
}

// turn goes on to another scope: of the one before, what several have in common is
// kept.
func (s *Leases) turn(to *plan.View) {
	for _, x := range s.held {
		if x.n >= manyLeast && x.what != "" {
			s.rich = append(s.rich, rich{x, s.scope.Name})
		}
	}
	for _, x := range s.names {
		if x.n > 1 {
			s.twice[s.scope.ID] = append(s.twice[s.scope.ID], x)
		}
	}
	if len(s.made) > 0 {
		o := own{s.scope, len(s.made), 0}
		for _, x := range s.made {
			o.addresses += int(x.n)
		}
		s.own = append(s.own, o)
	}
	clear(s.made)
	clear(s.held)
	clear(s.names)
	s.scope = to
}

// Add looks at a lease. It is called for each, by one caller at a time, scope by
// scope.
func (s *Leases) Add(l *lease.Lease) {
	if l.Limbo() {
		s.waiting++
	}
	if l.Status == lease.Abandoned {
		s.abandoned = append(s.abandoned, l.Clone())
		return
	}
	if !l.HeldAt(s.now) {
		return
	}
	v := s.scope
	if v == nil || !v.Subnet.Contains(l.Address()) {
		if v = s.plan.ScopeAt(l.Address()); v == nil {
			s.outside = append(s.outside, l.Clone())
			return
		}
		if v != s.scope {
			s.turn(v)
		}
	}
	if l.Client.Kind == lease.Registered { // nobody gave it
		s.met(s.made, l.Client.DUID())
		return
	}
	if !l.Prefix.IsSingleIP() {
		s.delegated = append(s.delegated, l.Prefix)
	}
	switch {
	case !l.Prefix.IsSingleIP(): // a router may well have several
	case l.Hardware == "" && l.Client.DUID() != "":
		s.met(s.held, duidMark+l.Client.DUID())
	default:
		s.met(s.held, string(l.Hardware))
	}
	if l.Hostname != "" && l.Prefix.IsSingleIP() {
		s.met(s.names, l.Hostname)
	}
	if odd(l.Hardware) {
		s.odd = append(s.odd, l.Clone())
	}
	if !l.Reserved && s.plan.ReservationCount(v.ID) > 0 {
		if r := s.reservationFor(v, l); r != nil && r.Key() != l.Prefix {
			s.elsewhere = append(s.elsewhere, l.Clone())
		}
	}
}

// duidMark stands before the DUID of a host of which no hardware address is known.
const duidMark = "DUID "

// reservationFor is the reservation of a lease's client in a scope, or nil.
func (s *Leases) reservationFor(v *plan.View, l *lease.Lease) *plan.Reservation {
	circuit := func() string { return l.Circuit }
	if v.Family() == option.V6 {
		return s.plan.ReservationFor6(v, !l.Prefix.IsSingleIP(), string(addr.IAIDOf(l.Client.Number)), l.Client.DUID(), l.Hardware,
			circuit)
	}
	return s.plan.ReservationFor(v, l.Hardware, l.Client.Identifier(), circuit)
}

// odd reports whether no maker gives such a hardware address: it is of a group, or
// all of one octet, or a plain sequence.
func odd(hw addr.Hardware) bool {
	if len(hw) != 6 {
		return false
	}
	same, rising := true, true
	for i := 1; i < 6; i++ {
		same = same && hw[i] == hw[0]
		rising = rising && (hw[i] == hw[i-1]+1 || hw[i] == hw[i-1]+0x11)
	}
	return hw[0]&1 == 1 || same || rising
}

// Neighbour is a host that the network knows at an address.
type Neighbour struct {
	Address  netip.Addr
	Hardware addr.Hardware
	Source   string // such as "interface eth0", or the name of a file
}

// Route is how a router reaches a prefix.
type Route struct {
	Prefix netip.Prefix
	Via    string // the rest of the line that said so
	Source string // such as the name of a file
}

// More is what is known of leases beside the table.
type More struct {
	At         func(netip.Prefix) *lease.Lease
	Stale      map[plan.ID]int // clients with old options, by scope
	Neighbours []Neighbour
	Routes     []Route
	Own        func(netip.Addr) bool // this host's and the network's own addresses
	Twins      []Twin
	New        map[plan.ID]bool // items that came so lately that nobody need have used them yet
}

// Twin is a client identifier that two hosts share.
type Twin struct {
	Address     netip.Addr
	One, Second addr.Hardware
	Scope       string
}

// Findings gives what was found.
func (s *Leases) Findings(m More) []Finding {
	var out findings
	s.turn(nil)
	if n := len(s.outside); n > 0 {
		out.say("lease-outside", "leases outside every scope", "%s outside every scope of the plan", plural(n, "lease lies",
			"leases lie")).
			of(n, addresses(s.outside))
	}
	for _, l := range s.elsewhere {
		v := s.plan.ScopeAt(l.Address())
		r, has := s.reservationFor(v, l), addr.FormatKey(l.Prefix)
		out.say("reserved-elsewhere", "reservation "+r.Name, "%s is reserved %s and holds %s %s", r.Client(), r.What(), has,
			until(l.Expires)).
			in(v.Name).mend("", "yarnpost lease end "+has)
	}
	s.many(&out)
	s.selfMade(&out)
	for _, l := range s.abandoned {
		s.oneAbandoned(&out, l)
	}
	for _, v := range s.plan.Scopes() {
		if n := m.Stale[v.ID]; n > 0 {
			out.say("options-old", "scope "+v.Name, "%s of scope %s %s options older than revision %d of the plan", plural(n, "client",
				"clients"),
				v.Name, map[bool]string{true: "has", false: "have"}[n == 1], s.plan.Revision).in(v.Name).of(n, nil).mend("",
				"yarnpost lease stale --scope "+v.Name)
		}
	}
	s.doubles(&out)
	for _, l := range s.odd {
		out.say("hardware-odd", "hardware address "+l.Hardware.String(), "%s, which holds %s, is no address that a maker gives",
			l.Hardware, l.Address()).in(s.scopeOf(l))
	}
	for _, t := range m.Twins {
		if t.Address.Is6() {
			out.say("duid-twice", "address "+t.Address.String(), "%s and %s send one DUID with one IAID, and both have %s", t.One,
				t.Second, t.Address).
				in(t.Scope).mend("", "yarnpost explain --address "+t.Address.String())
			continue
		}
		if v := s.plan.ScopeNamed(t.Scope); v != nil && v.ByHardware {
			continue // they are told apart by now
		}
		out.say("identifier-twice", "address "+t.Address.String(), "%s and %s send one client identifier, and both have %s", t.One,
			t.Second, t.Address).in(t.Scope).
			mend("", "yarnpost scope edit "+t.Scope+" --identity hardware")
	}
	s.neighbours(&out, m)
	s.routes(&out, m)
	s.unclaimed(&out, m)
	return out.all()
}

func (s *Leases) scopeOf(l *lease.Lease) string {
	if v := s.plan.ScopeAt(l.Address()); v != nil {
		return v.Name
	}
	return ""
}

func until(t lease.Time) string {
	if t == lease.Never {
		return "for good"
	}
	return "until " + t.Std().Format("2 Jan 15:04 UTC")
}

func addresses(list []*lease.Lease) (out []string) {
	for _, l := range list[:min(len(list), examplesMost)] {
		out = append(out, addr.FormatKey(l.Prefix))
	}
	return out
}

func (s *Leases) many(out *findings) {
	list := s.rich
	slices.SortFunc(list, func(a, b rich) int { return cmp.Compare(a.what, b.what) })
	for _, x := range list {
		kind, name := "hardware address ", addr.Hardware(x.what).String()
		if duid, ok := strings.CutPrefix(x.what, duidMark); ok {
			kind, name = duidMark, addr.DUID(duid).String()
		}
		out.say("many-addresses", kind+name, "%s holds %d addresses of one scope at once", name, x.n).in(x.scope).of(int(x.n), nil).
			mend("", "yarnpost lease list "+name)
	}
}

// selfMade tells of addresses that hosts made themselves. Those of one host beside another are
// most likely temporary ones (RFC 8981), by which nobody knows it again.
func (s *Leases) selfMade(out *findings) {
	for _, o := range s.own {
		more := ""
		if n := o.addresses - o.hosts; n > 0 {
			more = fmt.Sprintf("; %d beside another of the same host, as privacy addresses are", n)
		}
		out.say("addresses-registered", "scope "+o.scope.Name, "%s of scope %s made %s themselves and registered them%s",
			plural(o.hosts, "host", "hosts"), o.scope.Name, plural(o.addresses, "address", "addresses"),
			more).in(o.scope.Name).of(o.addresses, nil).
			mend("", "yarnpost lease list --scope "+o.scope.Name+" --status registered")
	}
}

func (s *Leases) oneAbandoned(out *findings, l *lease.Lease) {
	who := "somebody"
	if l.Hardware != "" {
		who = l.Hardware.String()
	}
	how := who + " answered a probe there"
	if !l.Found() {
		how = who + " declined it"
	}
	f := out.say("abandoned", "address "+l.Address().String(), "%s is abandoned: %s at %s", l.Address(), how,
		l.Changed.Std().Format("2 Jan 15:04 UTC")).
		in(s.scopeOf(l)).mend("", "yarnpost sweep run --kind abandoned --address "+l.Address().String())
	if !l.Found() {
		f.as(Note)
	}
}

// namesListed is how many names a finding shows.
const namesListed = 5

func (s *Leases) doubles(out *findings) {
	for _, v := range s.plan.Scopes() {
		list := s.twice[v.ID]
		if len(list) == 0 {
			continue
		}
		slices.SortFunc(list, func(a, b seen) int {
			return cmp.Or(cmp.Compare(b.n, a.n), strings.Compare(a.what, b.what))
		})
		clients, texts := 0, []string{}
		for i, d := range list {
			clients += int(d.n)
			if i < namesListed {
				texts = append(texts, fmt.Sprintf("%s (%d)", d.what, d.n))
			}
		}
		out.say("hostname-twice", "scope "+v.Name, "%s said by %d clients of scope %s: %s", plural(len(list), "host name is",
			"host names are"), clients, v.Name,
			strings.Join(texts, ", ")).in(v.Name).of(clients, texts)
	}
}

// vast is from how large on hosts of IPv6 pick addresses that nobody was given without meeting one
// that was.
const vast = 1 << 20

// neighbours compares what the network knows with the leases.
func (s *Leases) neighbours(out *findings, m More) {
	for _, n := range m.Neighbours {
		v := s.plan.ScopeAt(n.Address)
		if v == nil || m.Own != nil && m.Own(n.Address) || slices.Contains(v.Routers, n.Address) ||
			excluded(v, n.Address) || !ofHost(n.Hardware) {
			continue
		}
		l := m.At(lease.Host(n.Address))
		unleased := l == nil || !l.HeldAt(s.now)
		switch {
		case n.Address.IsLinkLocalUnicast(), unleased && n.Address.Is6() && v.Size >= vast: // hosts make such for themselves
		case l != nil && l.HeldAt(s.now) && l.Hardware == "": // known by its DUID alone
		case l != nil && l.Status == lease.Abandoned: // it is known already
		case unleased && s.reservedFor(n): // as it should
		case unleased:
			out.say("neighbour-unknown", "address "+n.Address.String(), "%s uses %s, which nobody was given (%s)", n.Hardware,
				n.Address, n.Source).in(v.Name).
				mend("", fmt.Sprintf("yarnpost reservation add host-%s --scope %s --hw %s --address %s",
					strings.NewReplacer(".", "-", "::", "-", ":", "-").Replace(n.Address.String()), v.Name,
					n.Hardware, n.Address))
		case l.Hardware != n.Hardware:
			out.say("neighbour-other", "address "+n.Address.String(), "%s uses %s, which was given to %s (%s)", n.Hardware, n.Address,
				l.Hardware, n.Source).in(v.Name)
		}
	}
}

// routes compares how routers reach delegated prefixes with who has them: which are routed and nobody
// has them, and of which that are held no route of the table covers, but for the default route.
func (s *Leases) routes(out *findings, m More) {
	if len(m.Routes) == 0 {
		return
	}
	held := map[netip.Prefix]bool{}
	for _, k := range s.delegated {
		held[k] = true
	}
	for _, r := range m.Routes {
		v := s.plan.ScopeAt(r.Prefix.Addr())
		if v == nil || r.Prefix.IsSingleIP() || !v.Gives(r.Prefix) || held[r.Prefix] || s.plan.ReservationOf(r.Prefix) != nil {
			continue
		}
		was := "it was delegated to nobody that is on record"
		if l := m.At(r.Prefix); l != nil && l.Client.Known() {
			was = fmt.Sprintf("%s had it until %s", hostOf(l), l.Expires.Std().Format("2 Jan 15:04 UTC"))
		}
		out.say("prefix-routed", "prefix "+r.Prefix.String(), "%s is routed %s, and nobody has it: %s (%s)", r.Prefix, r.Via, was,
			r.Source).in(v.Name).
			mend("", "yarnpost lease history "+r.Prefix.String())
	}
	s.unrouted(out, m)
}

// unrouted tells, for each scope, which of its delegated prefixes no route covers.
func (s *Leases) unrouted(out *findings, m More) {
	routed := map[netip.Prefix]bool{}
	for _, r := range m.Routes {
		routed[r.Prefix.Masked()] = true
	}
	covered := func(k netip.Prefix) bool {
		for bits := k.Bits(); bits > 0; bits-- {
			if routed[netip.PrefixFrom(k.Addr(), bits).Masked()] {
				return true
			}
		}
		return false
	}
	all, without := map[*plan.View]int{}, map[*plan.View][]netip.Prefix{}
	for _, k := range s.delegated {
		if v := s.plan.ScopeAt(k.Addr()); v != nil {
			if all[v]++; !covered(k) {
				without[v] = append(without[v], k)
			}
		}
	}
	for _, v := range s.plan.Scopes() {
		list := without[v]
		if len(list) == 0 {
			continue
		}
		slices.SortFunc(list, netip.Prefix.Compare)
		var examples []string
		for _, k := range list[:min(len(list), examplesMost)] {
			who := "its client"
			if l := m.At(k); l != nil {
				who = hostOf(l)
			}
			examples = append(examples, fmt.Sprintf("%s (%s)", k, who))
		}
		advice := ""
		if all[v] > 1 && len(list) == all[v] {
			advice = "; if that is another router's table, give the one of the relay"
		}
		out.say("prefix-unrouted", "scope "+v.Name, "%s has no route for %d of the %s that scope %s delegated: %s%s", m.Routes[0].Source,
			len(list), plural(all[v], "prefix", "prefixes"), v.Name, strings.Join(examples, ", "), advice).in(v.Name).
			of(len(list), examples).
			mend("", "yarnpost lease show "+list[0].String())
	}
}

// hostOf names the client of a lease.
func hostOf(l *lease.Lease) string {
	return cmp.Or(l.Hostname, l.Hardware.String(), addr.DUID(l.Client.DUID()).String())
}

// ofHost reports whether a hardware address can be that of one host: not none, not a
// group's, and not the zeros that tables have for what does not answer.
func ofHost(hw addr.Hardware) bool {
	return len(hw) > 0 && hw[0]&1 == 0 && strings.Trim(string(hw), "\x00") != ""
}

// reservedFor reports whether the address is reserved for the host that uses it.
func (s *Leases) reservedFor(n Neighbour) bool {
	r := s.plan.ReservationAt(n.Address)
	return r != nil && r.Hardware == n.Hardware
}

func excluded(v *plan.View, a netip.Addr) bool {
	return slices.ContainsFunc(v.Exclusions, func(e plan.Exclusion) bool { return e.Range.Contains(a) })
}

// unclaimed looks for reservations that nobody uses, and those that others hold.
func (s *Leases) unclaimed(out *findings, m More) {
	elsewhere := map[plan.ID]bool{}
	for _, l := range s.elsewhere {
		if r := s.reservationFor(s.plan.ScopeAt(l.Address()), l); r != nil {
			elsewhere[r.ID] = true
		}
	}
	for _, r := range s.plan.Reservations(0) {
		scope := s.plan.Label(r.Scope)
		l := m.At(r.Key())
		switch {
		case elsewhere[r.ID]: // its client is known, and moves
		case m.New[r.ID] && (l == nil || !l.HeldAt(s.now) || l.Reserved):
		case l == nil || !l.Client.Known():
			out.say("reservation-unclaimed", "reservation "+r.Name, "%s is reserved for %s, which was never seen with it", r.What(),
				r.Client()).in(scope).
				mend("", "yarnpost reservation remove "+r.Name)
		case l.HeldAt(s.now) && !l.Reserved:
			out.say("reservation-contested", "reservation "+r.Name, "%s is reserved for %s, and %s holds it %s", r.What(), r.Client(),
				l.Hardware,
				until(l.Expires)).in(scope)
		case !capacity.Claimed(r, l, s.now):
			out.say("reservation-unseen", "reservation "+r.Name, "%s, reserved for %s, was not used since %s", r.What(), r.Client(),
				l.Heard.Std().Format("2 Jan 2006")).in(scope).mend("", "yarnpost reservation remove "+r.Name)
		}
	}
}

// Waiting is how many addresses wait for the partner's word.
func (s *Leases) Waiting() int { return s.waiting }
