package plan

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gaissmai/bart"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// ErrNotFound is wrapped when an edit names something the plan does not have.
var ErrNotFound = errors.New("not in the plan")

// ErrRefused is wrapped by every edit that cannot hold together with the rest.
var ErrRefused = errors.New("refused")

func refuse(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrRefused, fmt.Sprintf(format, args...))
}

func missing(kind Kind, name string) error {
	return fmt.Errorf("%w: no %s is called %q; yarnpost %s list shows all", ErrNotFound, kind, name, kind)
}

// Draft is the next revision in the making. Edits apply one after the other;
// after an error the draft is spent, and the plan it came from is untouched.
type Draft struct {
	next    *Plan
	before  *Plan
	changes map[ID]Change // by item; defaults have 0
	order   []ID
	// alone marks a draft that restores what was stored: next shares no table of
	// prefixes with another plan, and what was allowed once is not refused.
	alone  bool
	sieves map[ID]bool // of scopes: made by this draft, so it may write to them
}

// insert writes to a table of prefixes without changing plans that share it.
func insert[V any](d *Draft, table **bart.Table[V], p netip.Prefix, v V) {
	if d.alone {
		(*table).Insert(p, v) // many times as fast
	} else {
		*table = (*table).InsertPersist(p, v)
	}
}

// Draft starts the next revision.
func (p *Plan) Draft() *Draft {
	n := *p
	n.Revision++
	n.links, n.scopes, n.names = p.links.fork(), p.scopes.fork(), p.names.fork()
	n.catalog = p.catalog.fork()
	n.onLink, n.interfaces = p.onLink.fork(), p.interfaces.fork()
	n.reserved = p.reserved.fork()
	return &Draft{next: &n, before: p, changes: map[ID]Change{}, sieves: map[ID]bool{}}
}

// Plan is the draft as it stands; it must not be kept while edits go on.
func (d *Draft) Plan() *Plan { return d.next }

// Finish gives the new revision and what changed, in order. Without any
// change it gives the plan the draft came from.
func (d *Draft) Finish() (*Plan, []Change) {
	var out []Change
	for _, id := range d.order {
		if c := d.changes[id]; !Same(c.Before, c.After) {
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		return d.before, nil
	}
	return d.next, out
}

// Label names an item of the draft or of the plan before it.
func (d *Draft) Label(id ID) string {
	if s := d.next.Label(id); s != "" {
		return s
	}
	return d.before.Label(id)
}

func (d *Draft) note(kind Kind, id ID, name string, before, after Item) {
	c, seen := d.changes[id]
	if !seen {
		d.order = append(d.order, id)
		c = Change{Kind: kind, ID: id, Before: before}
	}
	c.Name, c.After = name, after
	d.changes[id] = c
}

func (d *Draft) newID() ID { d.next.lastID++; return d.next.lastID }

// checkName refuses empty, odd or taken names.
func (d *Draft) checkName(kind Kind, id ID, name string) error {
	if name == "" {
		return refuse("a %s needs a name", kind)
	}
	if !d.alone && !properName(name) {
		return refuse("%q cannot be a name; use letters, digits, single dots, dashes and underscores, with a letter or digit at both ends, 64 at most", name)
	}
	if other := d.next.id(kind, name); other != 0 && other != id {
		return refuse("%s %q is there already; choose another name, or edit that one", kind, name)
	}
	return nil
}

// properName is the one rule for names of items.
func properName(name string) bool {
	word := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
	first, _ := utf8.DecodeRuneInString(name)
	last, _ := utf8.DecodeLastRuneInString(name)
	odd := strings.ContainsFunc(name, func(r rune) bool { return !word(r) && !strings.ContainsRune(".-_", r) })
	return len(name) <= 64 && !odd && word(first) && word(last) && !strings.Contains(name, "..")
}

// HostName reports whether a text can be the name of a host: labels of letters,
// digits and dashes, 63 octets each and 253 in all (RFC 1123 section 2.1).
func HostName(text string) bool {
	if len(text) > 253 {
		return false
	}
	for _, label := range strings.Split(strings.TrimSuffix(text, "."), ".") {
		odd := strings.ContainsFunc(label, func(r rune) bool {
			return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-')
		})
		if label == "" || len(label) > 63 || odd || strings.HasPrefix(label, "-") || strings.HasSuffix(label, "-") {
			return false
		}
	}
	return true
}

func (d *Draft) rename(kind Kind, id ID, from, to string) {
	if from != "" {
		d.next.names.remove(nameKey{kind, strings.ToLower(from)})
	}
	if to != "" {
		d.next.names.set(nameKey{kind, strings.ToLower(to)}, id)
	}
}

// checkSettings validates the values and writes them in their canonical form.
func (d *Draft) checkSettings(s *Settings) error {
	if s.Lease < 0 || s.Lease > 0 && time.Duration(s.Lease) < time.Minute {
		return refuse("lease time %s is too short; a minute is the least", s.Lease)
	}
	for k, text := range s.Options {
		def, err := d.next.Def(k)
		if err != nil {
			return refuse("option %s: %v", k, err)
		}
		name := d.next.KeyName(k)
		if def.Managed || k.Code == 0 || k.Code == option.End {
			return refuse("option %s (%s) is set by the service itself: %s", k, name, def.Meaning)
		}
		if text == NoValue {
			continue
		}
		data, err := def.Type.Encode(text)
		if err != nil {
			return refuse("option %s: %v", name, err)
		}
		if err := checkLength(k, name, len(data), def.Type.Empty()); err != nil && !d.alone {
			return err
		}
		if !strings.HasPrefix(text, option.RawPrefix) {
			s.Options[k] = def.Type.Format(data)
		}
	}
	return nil
}

// checkLength refuses values that no message carries, and those that the service
// itself could not read.
func checkLength(k option.Key, name string, n int, empty bool) error {
	least, most, step := 1, math.MaxUint16, 1
	switch {
	case k == option.Key{Book: option.HeaderBook, Code: option.NextServer}:
		least, most = 4, 4
	case k == option.Key{Book: option.HeaderBook, Code: option.ServerName}:
		most = 63
	case k == option.Key{Book: option.HeaderBook, Code: option.BootFile}:
		most = 127
	case k.Book != "":
		most = 255
	case k.Code == option.SubnetMask || k.Code == option.IPv6Only:
		least, most = 4, 4
	case k.Code == option.Router:
		least, step = 4, 4
	case k.Code == option.AutoConfig:
		most = 1
	}
	if empty {
		least, most = 0, 0
	}
	switch {
	case n > most:
		return refuse("option %s takes %d octets; %d is the most", name, n, most)
	case n < least:
		return refuse("option %s takes %d octets; %d is the least", name, n, least)
	case n%step != 0:
		return refuse("option %s takes %d octets; it has addresses of %d each", name, n, step)
	}
	return nil
}

func checkIdentity(i Identity) error {
	if i != "" && i != ByIdentifier && i != ByHardware {
		return refuse("identity %q is unknown; use identifier or hardware", i)
	}
	return nil
}

// SetDefaults replaces the defaults.
func (d *Draft) SetDefaults(v Defaults) error {
	if err := d.checkSettings(&v.Settings); err != nil {
		return fmt.Errorf("defaults: %w", err)
	}
	if err := checkIdentity(v.Identity); err != nil {
		return fmt.Errorf("defaults: %w", err)
	}
	old := d.next.Defaults
	d.note(KindDefaults, 0, "", old, v)
	d.next.Defaults = v
	if old.Identity == v.Identity && old.Lease == v.Lease && maps.Equal(old.Options, v.Options) {
		return nil // scopes inherit nothing else
	}
	d.recompileAll()
	return d.checkRouters("the defaults", appendRouters(nil, d.next.values(v.Settings, Origin{Level: AtDefaults})))
}

// checkRouters refuses routers whose address is reserved for a client.
func (d *Draft) checkRouters(who string, routers []netip.Addr) error {
	for _, a := range routers {
		if r := d.next.ReservationAt(a); r != nil && !d.alone {
			return refuse("%s: router %s is reserved for a client by reservation %s; move the reservation first", who, a, r.Name)
		}
	}
	return nil
}

// PutLink adds a link (ID 0) or replaces it.
func (d *Draft) PutLink(l Link) (ID, error) {
	if err := d.checkName(KindLink, l.ID, l.Name); err != nil {
		return 0, err
	}
	for _, name := range l.Interfaces {
		if other := d.next.LinkOnInterface(name); other != 0 && other != l.ID {
			return 0, refuse("interface %s belongs to link %s; take it away there first", name, d.Label(other))
		}
	}
	for _, a := range l.Relays {
		if other := d.next.LinkOfRelay(a); other != 0 && other != l.ID {
			return 0, refuse("relay %s belongs to link %s; take it away there first", a, d.Label(other))
		}
		if r := d.next.ReservationAt(a); r != nil && !d.alone {
			return 0, refuse("relay %s is reserved for a client by reservation %s; move the reservation first", a, r.Name)
		}
		if s := d.next.ScopeAt(a); s != nil && s.Link != l.ID {
			return 0, refuse("relay %s lies in scope %s, which is on link %s; put the scope on link %s first", a, s.Name, s.LinkName, l.Name)
		}
	}
	var before Item
	old := d.next.Link(l.ID)
	if old != nil {
		before = *old
		d.unindexLink(old)
		d.rename(KindLink, l.ID, old.Name, "")
	} else if l.ID == 0 {
		l.ID = d.newID()
	}
	d.next.links.set(l.ID, &l)
	d.rename(KindLink, l.ID, "", l.Name)
	for _, name := range l.Interfaces {
		d.next.interfaces.set(name, l.ID)
	}
	for _, a := range l.Relays {
		insert(d, &d.next.relays, only(a), l.ID)
	}
	d.note(KindLink, l.ID, l.Name, before, l)
	for _, s := range d.next.OnLink(l.ID) {
		d.recompile(s.Scope)
	}
	if old != nil {
		d.refresh(old.Relays, 0)
	}
	d.refresh(l.Relays, 0)
	return l.ID, nil
}

// refresh recompiles the scopes that addresses of the network lie in, but for
// one that is fresh.
func (d *Draft) refresh(network []netip.Addr, but ID) {
	for _, a := range network {
		if v := d.next.ScopeAt(a); v != nil && v.ID != but {
			d.recompile(v.Scope)
		}
	}
}

func (d *Draft) unindexLink(l *Link) {
	for _, name := range l.Interfaces {
		d.next.interfaces.remove(name)
	}
	for _, a := range l.Relays {
		d.next.relays = d.next.relays.DeletePersist(only(a))
	}
}

// Interface is one interface of the host, as far as a plan cares.
type Interface struct {
	Name     string
	Prefixes []netip.Prefix // addresses with their masks
}

// PlaceScope finds the link for a new scope: the one named, or the one whose
// interface or relay address lies in its subnet, or a new one of its own.
func (d *Draft) PlaceScope(s *Scope, link string, host []Interface) error {
	if link != "" {
		l := d.next.LinkNamed(link)
		if l == nil {
			return missing(KindLink, link)
		}
		s.Link = l.ID
		return nil
	}
	own := Link{Name: s.Name}
	for _, i := range host {
		if !slices.ContainsFunc(i.Prefixes, func(p netip.Prefix) bool { return s.Subnet.Contains(p.Addr()) }) {
			continue
		}
		if id := d.next.LinkOnInterface(i.Name); id != 0 {
			s.Link = id
			return nil
		}
		own.Interfaces = append(own.Interfaces, i.Name)
	}
	for _, id := range d.next.relays.Subnets(s.Subnet) {
		s.Link = id
		return nil
	}
	for n := 2; d.next.LinkNamed(own.Name) != nil; n++ {
		own.Name = fmt.Sprintf("%s-%d", s.Name, n)
	}
	id, err := d.PutLink(own)
	s.Link = id
	return err
}

// PutScope adds a scope (ID 0) or replaces it. Its link must exist.
func (d *Draft) PutScope(s Scope) (ID, error) {
	if err := d.checkScope(&s); err != nil {
		return 0, err
	}
	var before Item
	var routers []netip.Addr
	old := d.next.Scope(s.ID)
	if old != nil {
		before, routers = old.Scope, old.Routers
		d.dropScope(old)
	} else if s.ID == 0 {
		s.ID = d.newID()
	}
	d.rename(KindScope, s.ID, "", s.Name)
	v := d.next.compile(s)
	d.addView(v, old)
	d.refresh(append(slices.Clone(routers), v.Routers...), s.ID)
	d.note(KindScope, s.ID, s.Name, before, s)
	if err := d.checkRouters("scope "+s.Name, v.Routers); err != nil {
		return 0, err
	}
	if b, ok := before.(Scope); ok && b.Link != s.Link {
		return s.ID, d.dropEmptyLink(b.Link)
	}
	return s.ID, nil
}

func (d *Draft) checkScope(s *Scope) error {
	if err := d.checkName(KindScope, s.ID, s.Name); err != nil {
		return err
	}
	if !s.Subnet.IsValid() || s.Subnet.Masked() != s.Subnet {
		return refuse("scope %s needs a subnet like 10.40.0.0/24", s.Name)
	}
	if !s.Subnet.Addr().Is4() {
		return refuse("scope %s: %s is IPv6; scopes are IPv4 in this version", s.Name, s.Subnet)
	}
	if s.Subnet.Bits() < 8 {
		return refuse("scope %s: subnet %s is larger than any link; use a mask of /8 or longer", s.Name, s.Subnet)
	}
	if s.Subnet.Addr().IsLoopback() || s.Subnet.Addr().IsMulticast() || s.Subnet.Addr().IsLinkLocalUnicast() {
		return refuse("scope %s: nobody can be given an address of %s", s.Name, s.Subnet)
	}
	switch s.Mode {
	case "":
		s.Mode = Held
	case Held, Serving, Draining:
	default:
		return refuse("scope %s: mode %q is unknown; use held, serving or draining", s.Name, s.Mode)
	}
	if s.Mode != Draining {
		s.DrainUntil = time.Time{}
	}
	if d.next.Link(s.Link) == nil {
		return refuse("scope %s has no link", s.Name)
	}
	if err := checkIdentity(s.Identity); err != nil {
		return fmt.Errorf("scope %s: %w", s.Name, err)
	}
	switch s.Bootp {
	case "", BootpIgnore, BootpReserved, BootpDynamic:
	default:
		return refuse("scope %s: BOOTP clients can be ignored, served reserved addresses, or dynamic ones; use ignore, reserved or dynamic, not %q", s.Name, s.Bootp)
	}
	if s.OfferDelay < 0 || time.Duration(s.OfferDelay) > 10*time.Second {
		return refuse("scope %s: offers can wait 10s at most; clients give up after that", s.Name)
	}
	if s.Limits.PerCircuit < -1 || s.Limits.NewPerMinute < -1 {
		return refuse("scope %s: a limit is a number of addresses or clients, 0 for the default, or -1 for none", s.Name)
	}
	for _, r := range d.next.Rules() {
		if p := r.Pool; p.Valid() && s.ID != 0 && d.next.poolScope(p) == s.ID && !slices.Contains(s.Pools, p) {
			return refuse("rule %s sends clients to pool %s of scope %s, which would be gone; change the rule first", r.Name, p, s.Name)
		}
	}
	for v := range d.next.subnets.Subnets(s.Subnet) {
		if other, _ := d.next.subnets.Get(v); other.ID != s.ID {
			return overlapping(s, other)
		}
	}
	for v := range d.next.subnets.Supernets(s.Subnet) {
		if other, _ := d.next.subnets.Get(v); other.ID != s.ID {
			return overlapping(s, other)
		}
	}
	if err := checkRanges(s); err != nil {
		return err
	}
	if old := d.next.Scope(s.ID); old != nil && old.Subnet != s.Subnet {
		for _, r := range d.next.Reservations(s.ID) {
			if !s.Subnet.Contains(r.Address) {
				return refuse("reservation %s (%s) would fall outside the new subnet %s of scope %s; move or remove it first", r.Name, r.Address,
					s.Subnet, s.Name)
			}
		}
	}
	if err := d.checkSettings(&s.Settings); err != nil {
		return fmt.Errorf("scope %s: %w", s.Name, err)
	}
	return nil
}

// checkRanges refuses pools and exclusions that lie outside the subnet or overlap,
// and puts them in order.
func checkRanges(s *Scope) error {
	whole := addr.OfPrefix(s.Subnet)
	inside := func(what string, r addr.Range) error {
		if !whole.Contains(r.From) || !whole.Contains(r.To) {
			return refuse("%s %s of scope %s lies outside its subnet %s", what, r, s.Name, s.Subnet)
		}
		return nil
	}
	s.Pools = slices.Clone(s.Pools)
	slices.SortFunc(s.Pools, func(a, b addr.Range) int { return a.From.Compare(b.From) })
	for i, p := range s.Pools {
		if err := inside("pool", p); err != nil {
			return err
		}
		if i > 0 && p.Overlaps(s.Pools[i-1]) {
			return refuse("pools %s and %s of scope %s overlap; join them into one", s.Pools[i-1], p, s.Name)
		}
	}
	s.Exclusions = slices.Clone(s.Exclusions)
	slices.SortFunc(s.Exclusions, func(a, b Exclusion) int { return a.Range.From.Compare(b.Range.From) })
	for i, e := range s.Exclusions {
		if err := inside("exclusion", e.Range); err != nil {
			return err
		}
		if i > 0 && e.Range.Overlaps(s.Exclusions[i-1].Range) {
			return refuse("exclusions %s and %s of scope %s overlap; join them into one", s.Exclusions[i-1].Range, e.Range, s.Name)
		}
	}
	return nil
}

func overlapping(s *Scope, other *View) error {
	return refuse("scope %s (%s) overlaps scope %s (%s); an address can be in one scope only", s.Name, s.Subnet, other.Name, other.Subnet)
}

// recompile refreshes the view of a scope that did not change itself.
func (d *Draft) recompile(s Scope) {
	old := d.next.Scope(s.ID)
	d.dropScope(old)
	d.rename(KindScope, s.ID, "", s.Name)
	d.addView(d.next.compile(s), old)
}

func (d *Draft) recompileAll() {
	for _, s := range d.next.Scopes() {
		d.recompile(s.Scope)
	}
}

// addView puts a view in, in place of an older one or nil.
func (d *Draft) addView(v, old *View) {
	if old != nil {
		v.sieve, v.Slot = old.sieve, old.Slot
	} else {
		v.Slot = d.next.slots
		d.next.slots++
	}
	v.self[0] = v
	d.next.scopes.set(v.ID, v)
	insert(d, &d.next.subnets, v.Subnet, v)
	peers := append(slices.Clone(d.next.OnLink(v.Link)), v)
	v.single = len(peers) == 1
	slices.SortFunc(peers, func(a, b *View) int { return int(a.ID - b.ID) })
	d.next.onLink.set(v.Link, peers)
	for _, o := range peers {
		if o.single && !v.single {
			n := *o
			n.single = false
			d.replaceView(&n)
		}
	}
	d.countRouters(v, 1)
}

func (d *Draft) countRouters(v *View, by int) {
	for _, a := range v.Routers {
		n, _ := d.next.routers.Get(only(a))
		if n += by; n > 0 {
			insert(d, &d.next.routers, only(a), n)
		} else {
			d.next.routers = d.next.routers.DeletePersist(only(a))
		}
	}
}

func (d *Draft) dropScope(v *View) {
	d.countRouters(v, -1)
	d.next.scopes.remove(v.ID)
	d.next.subnets = d.next.subnets.DeletePersist(v.Subnet)
	d.next.onLink.set(v.Link, slices.DeleteFunc(slices.Clone(d.next.OnLink(v.Link)), func(o *View) bool { return o.ID == v.ID }))
	d.rename(KindScope, v.ID, v.Name, "")
}

// RemoveScope removes a scope with its reservations, and its link when that
// carries no other scope.
func (d *Draft) RemoveScope(name string) error {
	v := d.next.ScopeNamed(name)
	if v == nil {
		return missing(KindScope, name)
	}
	for _, r := range d.next.Reservations(v.ID) {
		d.dropReservation(r)
		d.note(KindReservation, r.ID, r.Name, *r, nil)
	}
	for _, r := range d.next.Rules() {
		if r.Scope == v.ID {
			d.dropRule(r)
		} else if r.Pool.Valid() && d.next.poolScope(r.Pool) == v.ID {
			return refuse("rule %s of the defaults sends clients to pool %s of scope %s; change the rule first", r.Name, r.Pool, v.Name)
		}
	}
	for _, t := range d.next.Trials() {
		if t.Scope == v.ID {
			d.dropTrial(t)
		}
	}
	d.dropScope(v)
	d.refresh(v.Routers, v.ID)
	d.note(KindScope, v.ID, v.Name, v.Scope, nil)
	return d.dropEmptyLink(v.Link)
}

func (d *Draft) dropEmptyLink(id ID) error {
	if len(d.next.OnLink(id)) > 0 {
		return nil
	}
	return d.RemoveLink(d.next.Link(id).Name)
}

// RemoveLink removes a link that carries no scope.
func (d *Draft) RemoveLink(name string) error {
	l := d.next.LinkNamed(name)
	if l == nil {
		return missing(KindLink, name)
	}
	if on := d.next.OnLink(l.ID); len(on) > 0 {
		return refuse("link %s carries scope %s; remove the scope or put it on another link first", name, on[0].Name)
	}
	d.unindexLink(l)
	d.next.links.remove(l.ID)
	d.next.onLink.remove(l.ID)
	d.rename(KindLink, l.ID, l.Name, "")
	d.note(KindLink, l.ID, l.Name, *l, nil)
	return nil
}

// PutReservation adds a reservation (ID 0) or replaces it.
func (d *Draft) PutReservation(r Reservation) (ID, error) {
	if err := d.checkName(KindReservation, r.ID, r.Name); err != nil {
		return 0, err
	}
	s := d.next.Scope(r.Scope)
	if s == nil {
		return 0, refuse("reservation %s needs a scope", r.Name)
	}
	known := 0
	for _, w := range []string{string(r.Hardware), string(r.Identifier), r.Circuit} {
		if w != "" {
			known++
		}
	}
	if known != 1 {
		return 0, refuse("reservation %s needs one of: a hardware address like 02:00:00:00:00:17, a client identifier, or a circuit", r.Name)
	}
	if !r.Address.IsValid() || !s.Subnet.Contains(r.Address) {
		return 0, refuse("reservation %s: address %s is not in the subnet %s of scope %s", r.Name, r.Address, s.Subnet, s.Name)
	}
	for _, end := range reservedEnds(s.Subnet) {
		if end.Contains(r.Address) {
			return 0, refuse("reservation %s: %s is the network or broadcast address of scope %s", r.Name, r.Address, s.Name)
		}
	}
	if what := d.next.NetworkAt(r.Address); what != "" && !d.alone {
		return 0, refuse("reservation %s: %s is %s; an address of the network's own is no client's", r.Name, r.Address, what)
	}
	if r.Hostname != "" && !HostName(r.Hostname) && !d.alone {
		return 0, refuse("reservation %s: %q is no host name; use letters, digits and dashes, with dots between labels", r.Name, r.Hostname)
	}
	if other := d.next.ReservationAt(r.Address); other != nil && other.ID != r.ID {
		return 0, refuse("reservation %s: %s is reserved for %s (%s) already", r.Name, r.Address, other.Name, other.Client())
	}
	if other, _ := d.next.reserved.byClient.get(r.key()); other != nil && other.ID != r.ID {
		return 0, refuse("reservation %s: %s has reservation %s (%s) in scope %s already; edit that one", r.Name, r.Client(), other.Name,
			other.Address, s.Name)
	}
	if err := d.checkSettings(&r.Settings); err != nil {
		return 0, fmt.Errorf("reservation %s: %w", r.Name, err)
	}
	var before Item
	if old, ok := d.next.reserved.byID.get(r.ID); ok {
		before = *old
		d.dropReservation(old)
	} else if r.ID == 0 {
		r.ID = d.newID()
	}
	d.rename(KindReservation, r.ID, "", r.Name)
	x := &d.next.reserved
	x.byID.set(r.ID, &r)
	insert(d, &x.byAddress, only(r.Address), &r)
	x.byClient.set(r.key(), &r)
	x.count(&r, 1)
	d.sift(&r)
	d.note(KindReservation, r.ID, r.Name, before, r)
	return r.ID, nil
}

// count keeps the numbers of a scope's reservations.
func (x reservations) count(r *Reservation, n int) {
	t, _ := x.perScope.get(r.Scope)
	t.all += n
	if r.Circuit != "" {
		t.circuits += n
	}
	x.perScope.set(r.Scope, t)
}

func (d *Draft) dropReservation(r *Reservation) {
	x := &d.next.reserved
	x.byID.remove(r.ID)
	x.byAddress = x.byAddress.DeletePersist(only(r.Address))
	x.byClient.remove(r.key())
	x.count(r, -1)
	d.rename(KindReservation, r.ID, r.Name, "")
}

// RemoveReservation removes a reservation.
func (d *Draft) RemoveReservation(name string) error {
	r := d.next.ReservationNamed(name)
	if r == nil {
		return missing(KindReservation, name)
	}
	d.dropReservation(r)
	d.note(KindReservation, r.ID, r.Name, *r, nil)
	return nil
}
