// Package plan has what an administrator defined: defaults,
// links, scopes, reservations. A Draft takes edits and refuses what cannot
// hold together; a Plan is one immutable, compiled revision that answers
// look-ups in constant time. It knows no lease and no packet.
package plan

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// ID names an item for as long as it exists, whatever it is called.
type ID int64

// Kind says what an item is.
type Kind string

// The kinds of items.
const (
	KindDefaults    Kind = "defaults"
	KindSupernet    Kind = "supernet"
	KindLink        Kind = "link"
	KindScope       Kind = "scope"
	KindReservation Kind = "reservation"
	KindCodebook    Kind = "codebook"
	KindList        Kind = "list"
	KindRule        Kind = "rule"
	KindTrial       Kind = "trial"
	KindField       Kind = "field"
)

// Mode says whether a scope is answered.
type Mode string

// The modes of a scope.
const (
	Held     Mode = "held"     // defined, not answered
	Serving  Mode = "serving"  // answered
	Draining Mode = "draining" // nobody new; those inside move away as they renew
)

// Duration is a time.Duration that is written like 8h or infinite.
type Duration time.Duration

// NoLease as a lease time takes an inherited one away: DefaultLease holds. As text it is NoValue.
const NoLease Duration = -1

func (d Duration) String() string {
	if d == NoLease {
		return NoValue
	}
	return option.FormatDuration(time.Duration(d))
}

// MarshalText writes what UnmarshalText reads.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads what option.ParseDuration reads, and NoValue.
func (d *Duration) UnmarshalText(text []byte) error {
	if string(text) == NoValue {
		*d = NoLease
		return nil
	}
	v, err := option.ParseDuration(string(text))
	*d = Duration(v)
	return err
}

// LeaseTime is what a lease time that is set somewhere comes to.
func (d Duration) LeaseTime() time.Duration {
	if d == NoLease {
		return DefaultLease
	}
	return time.Duration(d)
}

// NoValue as the value of an option takes an inherited value away; so does NoLease, which is its
// like.
const NoValue = "none"

// Settings are what every level can set; a zero field inherits.
type Settings struct {
	Options map[option.Key]string `json:"options,omitempty"` // text as option.Type reads it, or NoValue
	Lease   Duration              `json:"lease,omitzero"`    // of IPv6 the preferred lifetime
	Valid   Duration              `json:"valid,omitzero"`    // valid lifetime of IPv6; 0 inherits, or is half as long again as Lease
}

// Identity says by what a client is told from others.
type Identity string

// The identities; the zero value inherits, and ByIdentifier is the default.
const (
	ByIdentifier Identity = "identifier" // the client identifier if it sends one
	ByHardware   Identity = "hardware"   // the hardware address alone
)

// Thresholds say when to warn of a scope. Zero inherits; -1 is never.
type Thresholds struct {
	Used     int `json:"used,omitempty"`     // percent of the pools
	Headroom int `json:"headroom,omitempty"` // addresses left
	Days     int `json:"days,omitempty"`     // until the pools run out
}

// usualThresholds hold where nothing else is set.
var usualThresholds = Thresholds{Used: 90, Headroom: -1, Days: 14}

// over is what is set here, or else below.
func (t Thresholds) over(below Thresholds) Thresholds {
	return Thresholds{cmp.Or(t.Used, below.Used), cmp.Or(t.Headroom, below.Headroom), cmp.Or(t.Days, below.Days)}
}

func (t Thresholds) check() error {
	switch {
	case t.Used < -1 || t.Used > 100:
		return fmt.Errorf("warning above %d %% used makes no sense; give 1 to 100, 0 to inherit, or -1 for never", t.Used)
	case t.Headroom < -1:
		return fmt.Errorf("warning below %d addresses makes no sense; give a number, 0 to inherit, or -1 for never", t.Headroom)
	case t.Days < -1 || t.Days > 365:
		return fmt.Errorf("warning %d days ahead makes no sense; give 1 to 365, 0 to inherit, or -1 for never", t.Days)
	}
	return nil
}

func (t Thresholds) describe() (out []field) {
	for _, f := range []struct {
		label, unit string
		n           int
	}{{"warns above", " % used", t.Used}, {"warns below", " addresses left", t.Headroom}, {"warns ahead", " days", t.Days}} {
		text := fmt.Sprint(f.n) + f.unit
		if f.n < 0 {
			text = "never"
		}
		out = append(out, when(f.n != 0, f.label, text)...)
	}
	return out
}

// Defaults hold in the whole plan unless something more specific says otherwise.
type Defaults struct {
	Settings
	Identity   Identity   `json:"identity,omitempty"`
	Listening  bool       `json:"listening,omitempty"` // the whole server hears and sends nothing
	Thresholds Thresholds `json:"thresholds,omitzero"`
	Note       string     `json:"note,omitempty"`
}

// Link is one broadcast domain: how clients are reached.
type Link struct {
	ID         ID           `json:"id"`
	Name       string       `json:"name"`
	Interfaces []string     `json:"interfaces,omitempty"`
	Relays     []netip.Addr `json:"relays,omitempty"` // relay addresses (giaddr)
	// Listening links are heard and not answered; what would have been
	// answered is recorded.
	Listening bool `json:"listening,omitempty"`
	// StandAside refuses to serve while another server answers on the link.
	StandAside bool `json:"standAside,omitempty"`
	// SubnetSelection lets clients of other links choose a scope of this one (option
	// 118, RFC 3011).
	SubnetSelection bool `json:"subnetSelection,omitempty"`
	// Wake lets people wake its clients: magic packets go onto the link, beyond a relay as
	// broadcasts directed at the subnet.
	Wake   bool   `json:"wake,omitempty"`
	Fields Fields `json:"fields,omitempty"`
	Note   string `json:"note,omitempty"`
}

// Exclusion is a range that is never handed out from a pool.
type Exclusion struct {
	Range addr.Range `json:"range"`
	User  string     `json:"user,omitempty"` // who uses it, if known
}

// Bootp says what BOOTP clients get.
type Bootp string

// What BOOTP clients can get; the zero value is BootpReserved. Their leases
// never end (RFC 1534).
const (
	BootpIgnore   Bootp = "ignore"
	BootpReserved Bootp = "reserved" // reserved addresses alone
	BootpDynamic  Bootp = "dynamic"  // pool addresses too
)

// Limits bound what unknown clients can take, so that made-up hardware addresses
// cannot empty the pools. Zero is the default; -1 is no limit.
type Limits struct {
	PerCircuit   int `json:"perCircuit,omitempty"`   // dynamic addresses behind one relay circuit
	NewPerMinute int `json:"newPerMinute,omitempty"` // clients never seen before
}

// Scope is one subnet on a link, with its pools and settings.
type Scope struct {
	ID         ID           `json:"id"`
	Link       ID           `json:"link"`
	Subnet     netip.Prefix `json:"subnet"`
	Mode       Mode         `json:"mode"`
	Name       string       `json:"name"`
	Pools      []addr.Range `json:"pools,omitempty"`
	Exclusions []Exclusion  `json:"exclusions,omitempty"`
	// PrefixPools have prefixes that are delegated to routers; IPv6 alone.
	PrefixPools []PrefixPool `json:"prefixPools,omitempty"`
	DrainUntil  time.Time    `json:"drainUntil,omitzero"` // with Draining: no lease reaches beyond
	// RunDown is when clients are to hold short leases only: until then no lease reaches
	// far beyond it, so that what changes then has reached every client soon after.
	RunDown  time.Time `json:"runDown,omitzero"`
	Approval bool      `json:"approval,omitempty"` // changes need a second person's approval
	// Authoritative scopes refuse (NAK) clients they have no record of, where
	// RFC 2131 section 4.3.2 asks for silence.
	Authoritative bool       `json:"authoritative,omitempty"`
	Identity      Identity   `json:"identity,omitempty"`
	Bootp         Bootp      `json:"bootp,omitempty"`
	RapidCommit   bool       `json:"rapidCommit,omitempty"` // RFC 4039, for clients that ask for it
	OfferDelay    Duration   `json:"offerDelay,omitzero"`   // offers wait this long
	NoProbe       bool       `json:"noProbe,omitempty"`     // addresses are offered without a probe
	Limits        Limits     `json:"limits,omitzero"`
	Thresholds    Thresholds `json:"thresholds,omitzero"`
	Settings
	Fields Fields `json:"fields,omitempty"`
	Note   string `json:"note,omitempty"`
}

// PrefixPool is a prefix out of which prefixes of one length are delegated.
type PrefixPool struct {
	Prefix netip.Prefix `json:"prefix"`
	Length int          `json:"length"`
	// Exclude is the length of the first prefix within each that its router must not use inside
	// (RFC 6603); 0: none.
	Exclude int `json:"exclude,omitempty"`
}

// String writes a pool as people do: "2001:db8:40:8000::/49 in /56", perhaps with "excluding /64"
// behind it.
func (p PrefixPool) String() string {
	if p.Exclude != 0 {
		return fmt.Sprintf("%s in /%d excluding /%d", p.Prefix, p.Length, p.Exclude)
	}
	return fmt.Sprintf("%s in /%d", p.Prefix, p.Length)
}

// ParsePrefixPool reads what String writes, and "2001:db8:40:8000::/49 /56".
func ParsePrefixPool(text string) (p PrefixPool, err error) {
	length := func(word string) (n int, err error) {
		if n, err = strconv.Atoi(strings.TrimPrefix(word, "/")); err != nil {
			return 0, fmt.Errorf("%q is no length of prefixes; write it like /56", word)
		}
		return n, nil
	}
	text, less, excludes := strings.Cut(text, " excluding ")
	words := strings.Fields(strings.Replace(text, " in ", " ", 1))
	if len(words) != 2 {
		return p, fmt.Errorf("%q is no prefix pool; write it like \"2001:db8:40:8000::/49 in /56\"", text)
	}
	if excludes {
		if p.Exclude, err = length(strings.TrimSpace(less)); err != nil {
			return p, err
		}
	}
	if p.Prefix, err = addr.ParseSubnet(words[0]); err != nil {
		return p, err
	}
	p.Length, err = length(words[1])
	return p, err
}

// MarshalText writes the pool as String does.
func (p PrefixPool) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what ParsePrefixPool reads.
func (p *PrefixPool) UnmarshalText(text []byte) (err error) {
	*p, err = ParsePrefixPool(string(text))
	return err
}

// Family is the version of DHCP that serves the scope.
func (s *Scope) Family() option.Family {
	if s.Subnet.Addr().Is6() {
		return option.V6
	}
	return option.V4
}

// Prefixes are what belongs to the scope: its subnet, and its prefix pools.
func (s *Scope) Prefixes() []netip.Prefix {
	out := []netip.Prefix{s.Subnet}
	for _, p := range s.PrefixPools {
		out = append(out, p.Prefix)
	}
	return out
}

// RunDownLeast is how long leases are, at least, while they run down: what a client
// knows of a change, at most so long after it.
const RunDownLeast = 10 * time.Minute

// NeedsApproval says what asks for a second person's approval of a change of an item in a
// plan: in words, or "".
func (p *Plan) NeedsApproval(i Item) string {
	supernets := func(around netip.Prefix) string {
		for _, n := range p.Around(around) {
			if n.Approval {
				return "supernet " + n.Name
			}
		}
		return ""
	}
	switch v := i.(type) {
	case Supernet:
		return supernets(v.Prefix)
	case Scope:
		if v.Approval {
			return "scope " + v.Name
		}
		return supernets(v.Subnet)
	case Reservation:
		if s := p.Scope(v.Scope); s != nil {
			return p.NeedsApproval(s.Scope)
		}
	case Rule:
		if s := p.Scope(v.Scope); s != nil {
			return p.NeedsApproval(s.Scope)
		}
		if n := p.Supernet(v.Supernet); n != nil {
			return supernets(n.Prefix)
		}
	}
	return ""
}

// Reservation keeps an address for one client, inside or outside pools. The
// client is known by one of Hardware, Identifier and Circuit.
type Reservation struct {
	ID         ID            `json:"id"`
	Name       string        `json:"name"`
	Scope      ID            `json:"scope"`
	Hardware   addr.Hardware `json:"hw,omitempty"`         // whatever identifier it sends
	Identifier addr.Octets   `json:"identifier,omitempty"` // client identifier (option 61), or DUID
	IAID       addr.IAID     `json:"iaid,omitempty"`       // with a DUID: of that association alone
	Circuit    string        `json:"circuit,omitempty"`    // option 82.1 as dhcp4.Show writes it: whoever is plugged in there
	Address    netip.Addr    `json:"address"`
	Length     int           `json:"length,omitempty"` // of a delegated prefix that begins at Address; 0: it is an address
	Hostname   string        `json:"hostname,omitempty"`
	Insist     bool          `json:"insist,omitempty"` // given although another host answers for the address
	Settings
	Fields Fields `json:"fields,omitempty"`
	Note   string `json:"note,omitempty"`
}

// Key is what is reserved: an address as a prefix of full length, or a delegated prefix.
func (r *Reservation) Key() netip.Prefix {
	if r.Length > 0 {
		return netip.PrefixFrom(r.Address, r.Length)
	}
	return only(r.Address)
}

// What is what is reserved, as text.
func (r *Reservation) What() string {
	if r.Length > 0 {
		return r.Key().String()
	}
	return r.Address.String()
}

// Client names the client of a reservation as people know it.
func (r *Reservation) Client() string {
	switch {
	case r.Identifier != "" && r.Address.Is6() && r.IAID != "":
		return "DUID " + r.Identifier.String() + " IAID " + r.IAID.String()
	case r.Identifier != "" && r.Address.Is6():
		return "DUID " + r.Identifier.String()
	case r.Identifier != "":
		return "identifier " + r.Identifier.String()
	case r.Circuit != "":
		return "circuit " + r.Circuit
	}
	return r.Hardware.String()
}

// Place says where the options of a codebook travel.
type Place string

// The places.
const (
	InMessage Place = "message" // as options of the message itself, beside the registered ones
	InVendor  Place = "43"      // inside option 43, for clients of a vendor class
	In125     Place = "125"     // inside option 125, under an enterprise number (RFC 3925)
	In17      Place = "17"      // inside option 17 of DHCPv6, under an enterprise number (RFC 8415 section 21.17)
)

// Codebook is the administrator's own set of codes, or a vendor's.
type Codebook struct {
	ID         ID       `json:"id"`
	Name       string   `json:"name"`
	Place      Place    `json:"place"`
	Classes    []string `json:"classes,omitempty"`    // vendor classes (option 60) it is for; a final * stands for any rest
	Enterprise uint32   `json:"enterprise,omitempty"` // IANA enterprise number, with In125
	Options    []Own    `json:"options"`
	Fields     Fields   `json:"fields,omitempty"`
	Note       string   `json:"note,omitempty"`
}

// Own is one option of a codebook.
type Own struct {
	Code    uint16      `json:"code"`
	Name    string      `json:"name"`
	Type    option.Type `json:"type"`
	Meaning string      `json:"meaning,omitempty"`
}

// List is a named set of hardware addresses or identifiers that rules use.
type List struct {
	ID      ID            `json:"id"`
	Name    string        `json:"name"`
	Entries []addr.Octets `json:"entries"`
	Fields  Fields        `json:"fields,omitempty"`
	Note    string        `json:"note,omitempty"`
}

// Action is what a rule does besides giving values.
type Action string

// The actions.
const (
	Give         Action = ""         // only gives what it sets
	Ignore       Action = "ignore"   // silence
	Refuse       Action = "refuse"   // NAK where the protocol has one, else silence
	ReservedOnly Action = "reserved" // an address only by reservation
)

// Rule says which clients it fits and what they get or are refused.
type Rule struct {
	ID       ID         `json:"id"`
	Name     string     `json:"name"`
	Scope    ID         `json:"scope,omitempty"`    // it is a rule of a scope, or
	Supernet ID         `json:"supernet,omitempty"` // of a supernet; both 0: of the defaults
	Order    int        `json:"order"`              // lower first
	When     string     `json:"when"`               // CEL, see package rule
	Action   Action     `json:"action,omitempty"`
	Pool     addr.Range `json:"pool,omitzero"` // a pool that is for fitting clients alone
	Off      bool       `json:"off,omitempty"`
	Settings
	Fields Fields `json:"fields,omitempty"`
	Note   string `json:"note,omitempty"`
}

// Of is the scope or the supernet that a rule is of; 0 for the defaults.
func (r *Rule) Of() ID { return max(r.Scope, r.Supernet) }

// Trial is an exchange that the service makes now and then as a client, to
// prove that a scope is served.
type Trial struct {
	ID       ID            `json:"id"`
	Name     string        `json:"name"`
	Scope    ID            `json:"scope"`
	Hardware addr.Hardware `json:"hw"`
	Vendor   string        `json:"vendor,omitempty"`
	Circuit  string        `json:"circuit,omitempty"`
	Every    Duration      `json:"every,omitzero"` // 0: on demand alone
	Fields   Fields        `json:"fields,omitempty"`
	Note     string        `json:"note,omitempty"`
}

// Item is anything a plan is made of.
type Item interface {
	describe(label func(ID) string) []field
}

// field is one line of an item's description, as a diff shows it.
type field struct{ label, value string }

func (s Settings) describe() []field {
	var out []field
	if s.Lease != 0 {
		out = append(out, field{"lease time", s.Lease.String()})
	}
	if s.Valid != 0 {
		out = append(out, field{"valid lifetime", s.Valid.String()})
	}
	for _, k := range slices.SortedFunc(maps.Keys(s.Options), option.Key.Compare) {
		name := k.String()
		switch {
		case k.Family == option.V6:
			name = "v6/" + option.Standard6.ByCode(k.Code).Name()
		case k.Book == "":
			name = option.Standard4.ByCode(k.Code).Name()
		case k.Book == option.HeaderBook:
			name = "header/" + option.Header4.ByCode(k.Code).Name()
		}
		out = append(out, field{"option " + name, s.Options[k]})
	}
	return out
}

// when gives a field where something is set.
func when(set bool, label, value string) []field {
	if !set {
		return nil
	}
	return []field{{label, value}}
}

func (d Defaults) describe(func(ID) string) []field {
	out := append(d.Settings.describe(), field{"identity", string(d.Identity)})
	out = append(out, d.Thresholds.describe()...)
	return append(append(out, when(d.Listening, "listening", "yes")...), field{"note", d.Note})
}

func (l Link) describe(func(ID) string) []field {
	out := []field{{"name", l.Name}}
	for _, i := range l.Interfaces {
		out = append(out, field{"interface " + i, "yes"})
	}
	for _, r := range l.Relays {
		out = append(out, field{"relay " + r.String(), "yes"})
	}
	out = append(out, when(l.Listening, "listening", "yes")...)
	out = append(out, when(l.StandAside, "stands aside for other servers", "yes")...)
	out = append(out, when(l.SubnetSelection, "clients of other links may choose it", "yes")...)
	out = append(out, when(l.Wake, "clients may be woken", "yes")...)
	return append(append(out, l.Fields.describe()...), field{"note", l.Note})
}

func (s Scope) describe(label func(ID) string) []field {
	out := []field{{"name", s.Name}, {"subnet", s.Subnet.String()}, {"link", label(s.Link)}, {"mode", string(s.Mode)}}
	for _, p := range s.Pools {
		out = append(out, field{"pool " + p.String(), addr.CountText(p.Size()) + " addresses"})
	}
	for _, p := range s.PrefixPools {
		out = append(out, field{"prefix pool " + p.Prefix.String(), fmt.Sprintf("/%d each", p.Length)})
	}
	for _, e := range s.Exclusions {
		out = append(out, field{"exclusion " + e.Range.String(),
			strings.TrimSpace(addr.CountText(e.Range.Size()) + " addresses " + e.User)})
	}
	if !s.DrainUntil.IsZero() {
		out = append(out, field{"drains until", s.DrainUntil.UTC().Format(time.RFC3339)})
	}
	if !s.RunDown.IsZero() {
		out = append(out, field{"leases run down until", s.RunDown.UTC().Format(time.RFC3339)})
	}
	out = append(out, when(s.Approval, "changes need approval", "yes")...)
	out = append(out, when(s.Authoritative, "authoritative", "yes")...)
	out = append(out, when(s.RapidCommit, "rapid commit", "yes")...)
	out = append(out, when(s.OfferDelay != 0, "offers wait", s.OfferDelay.String())...)
	out = append(out, when(s.NoProbe, "probing", "off")...)
	out = append(out, when(s.Limits.PerCircuit != 0, "addresses a circuit", limitText(s.Limits.PerCircuit))...)
	out = append(out, when(s.Limits.NewPerMinute != 0, "new clients a minute", limitText(s.Limits.NewPerMinute))...)
	out = append(out, field{"identity", string(s.Identity)}, field{"BOOTP", string(s.Bootp)})
	out = append(out, s.Thresholds.describe()...)
	return append(append(append(out, s.Settings.describe()...), s.Fields.describe()...), field{"note", s.Note})
}

func limitText(n int) string {
	if n < 0 {
		return "no limit"
	}
	return fmt.Sprint(n)
}

func (r Reservation) describe(label func(ID) string) []field {
	identifier := "identifier"
	if r.Address.Is6() {
		identifier = "DUID"
	}
	out := []field{{"name", r.Name}, {"scope", label(r.Scope)}, {"hardware address", r.Hardware.String()},
		{identifier, r.Identifier.String()},
		{"IAID", r.IAID.String()}, {"circuit", r.Circuit}, {"address", r.What()}, {"host name", r.Hostname}}
	out = append(out, when(r.Insist, "given although another host answers for it", "yes")...)
	return append(append(append(out, r.Settings.describe()...), r.Fields.describe()...), field{"note", r.Note})
}

func (c Codebook) describe(func(ID) string) []field {
	out := []field{{"name", c.Name}, {"travels in", string(c.Place)}}
	out = append(out, when(len(c.Classes) > 0, "vendor classes", strings.Join(c.Classes, ", "))...)
	out = append(out, when(c.Enterprise != 0, "enterprise number", fmt.Sprint(c.Enterprise))...)
	for _, o := range c.Options {
		out = append(out, field{fmt.Sprintf("code %d", o.Code), fmt.Sprintf("%s (%s) %s", o.Name, o.Type, o.Meaning)})
	}
	return append(append(out, c.Fields.describe()...), field{"note", c.Note})
}

func (l List) describe(func(ID) string) []field {
	out := []field{{"name", l.Name}, {"entries", fmt.Sprint(len(l.Entries))}}
	for _, e := range l.Entries {
		out = append(out, field{"entry " + e.String(), "yes"})
	}
	return append(append(out, l.Fields.describe()...), field{"note", l.Note})
}

func (r Rule) describe(label func(ID) string) []field {
	of := "defaults"
	if r.Scope != 0 {
		of = label(r.Scope)
	}
	out := []field{{"name", r.Name}, {"of", of}, {"order", fmt.Sprint(r.Order)}, {"when", r.When}, {"then", string(r.Action)}}
	if r.Supernet != 0 {
		out[1] = field{"of", "supernet " + label(r.Supernet)}
	}
	out = append(out, when(r.Pool.Valid(), "pool", r.Pool.String())...)
	out = append(out, when(r.Off, "off", "yes")...)
	return append(append(append(out, r.Settings.describe()...), r.Fields.describe()...), field{"note", r.Note})
}

func (t Trial) describe(label func(ID) string) []field {
	out := []field{{"name", t.Name}, {"scope", label(t.Scope)}, {"hardware address", t.Hardware.String()}, {"vendor class", t.Vendor},
		{"circuit", t.Circuit}}
	out = append(out, when(t.Every != 0, "every", t.Every.String())...)
	return append(append(out, t.Fields.describe()...), field{"note", t.Note})
}

// Change is one item as it was and as it is; nil stands for not there.
type Change struct {
	Kind          Kind
	ID            ID
	Name          string
	Before, After Item
}

// Line is one line of a diff in plain words.
type Line struct {
	Kind   Kind
	Name   string
	Text   string // such as "lease time: 8h → 1h"
	Before string // empty: was not set
	After  string // empty: is no longer set
}

// Diff describes changes in plain words. The label function names items by id.
func Diff(changes []Change, label func(ID) string) []Line {
	var out []Line
	for _, c := range changes {
		if c.Before == nil && c.After == nil { // added and removed again
			continue
		}
		name := c.Name
		if c.Kind == KindDefaults {
			name = "plan"
		}
		before, after := fieldsOf(c.Before, label), fieldsOf(c.After, label)
		switch {
		case c.Before == nil:
			out = append(out, Line{Kind: c.Kind, Name: name, Text: "added", After: "added"})
		case c.After == nil:
			out = append(out, Line{Kind: c.Kind, Name: name, Text: "removed", Before: "removed"})
			continue
		}
		for _, key := range keysOf(before, after) {
			was, is := valueOf(before, key), valueOf(after, key)
			if was == is {
				continue
			}
			text := fmt.Sprintf("%s: %s → %s", key, was, is)
			if was == "" {
				text = fmt.Sprintf("%s: %s", key, is)
			} else if is == "" {
				text = fmt.Sprintf("%s: %s → not set", key, was)
			}
			out = append(out, Line{c.Kind, name, text, was, is})
		}
	}
	return out
}

func fieldsOf(i Item, label func(ID) string) []field {
	if i == nil {
		return nil
	}
	return i.describe(label)
}

func keysOf(lists ...[]field) []string {
	var keys []string
	for _, l := range lists {
		for _, f := range l {
			if !slices.Contains(keys, f.label) {
				keys = append(keys, f.label)
			}
		}
	}
	return keys
}

func valueOf(list []field, key string) string {
	for _, f := range list {
		if f.label == key {
			return f.value
		}
	}
	return ""
}
