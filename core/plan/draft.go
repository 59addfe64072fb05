package plan

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gaissmai/bart"

	"yarnpost/core/option"
)

// ErrNotFound is wrapped when an edit names something the plan does not have.
var ErrNotFound = errors.New("not in the plan")

// ErrRefused is wrapped by every edit that cannot hold together with the rest.
var ErrRefused = errors.New("refused")

// Refused is an error that wraps ErrRefused.
func Refused(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrRefused, fmt.Sprintf(format, args...))
}

// Missing is the error that no item of a kind has a name; it wraps ErrNotFound.
func Missing(kind Kind, name string) error {
	return fmt.Errorf("%w: no %s is called %q; yarnpost %s list shows all", ErrNotFound, kind, name, kind)
}

// Draft is the next revision in the making. Edits apply one after the other;
// after an error the draft is spent, and the plan it came from is untouched.
type Draft struct {
	next    *Plan
	before  *Plan
	changes map[ID]Change // by item; defaults have 0
	order   []ID
	// alone marks a draft whose plan shares no table of prefixes with another one.
	alone bool
	// trusted marks a draft that puts in what was allowed once: it is not refused.
	trusted bool
	blooms  map[ID]bool  // of scopes: made by this draft, so it may write to them
	vacated map[ID]bool  // scopes that gave up their subnets, and have to be put again
	writes  int          // to tables of prefixes
	owned   map[any]bool // tables of prefixes that were copied, so that it may write to them
}

// manyWrites is from how many writes on a draft copies a table of prefixes, once,
// instead of the path to each prefix that it writes.
const manyWrites = 1000

// insert writes to a table of prefixes without changing plans that share it.
func insert[V any](d *Draft, table **bart.Table[V], p netip.Prefix, v V) {
	d.writes++
	switch {
	case d.alone || d.owned[table]:
	case d.writes <= manyWrites:
		*table = (*table).InsertPersist(p, v)
		return
	default:
		*table = (*table).Clone()
		d.owned[table] = true
	}
	(*table).Insert(p, v) // many times as fast
}

// Draft starts the next revision.
func (p *Plan) Draft() *Draft {
	n := *p
	n.Revision++
	n.links, n.scopes, n.names, n.supernets = p.links.Fork(), p.scopes.Fork(), p.names.Fork(), p.supernets.Fork()
	n.catalog = p.catalog.fork()
	n.onLink, n.interfaces = p.onLink.Fork(), p.interfaces.Fork()
	n.reserved = p.reserved.fork()
	return &Draft{next: &n, before: p, changes: map[ID]Change{}, blooms: map[ID]bool{}, owned: map[any]bool{}}
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

// checkHead refuses what cannot be an item's name or its fields of one's own.
func (d *Draft) checkHead(kind Kind, id ID, name string, fields *Fields) error {
	if err := d.checkName(kind, id, name); err != nil {
		return err
	}
	return d.checkFields(kind, name, fields)
}

// CheckName refuses what cannot be a name.
func CheckName(name string) error {
	if !properName(name) {
		return Refused("%q cannot be a name; use letters, digits, single dots, dashes and underscores, with a letter or digit at both ends, 64 at most", name)
	}
	return nil
}

// checkName refuses empty, odd or taken names.
func (d *Draft) checkName(kind Kind, id ID, name string) error {
	if name == "" {
		return Refused("a %s needs a name", kind)
	}
	if !d.trusted {
		if err := CheckName(name); err != nil {
			return err
		}
	}
	if other := d.next.id(kind, name); other != 0 && other != id {
		return Refused("%s %q is there already; choose another name, or edit that one", kind, name)
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
	if from != "" && d.next.id(kind, from) == id { // it may be another one's already
		d.next.names.Remove(nameKey{kind, strings.ToLower(from)})
	}
	if to != "" {
		d.next.names.Set(nameKey{kind, strings.ToLower(to)}, id)
	}
}

// checkSettings validates the values and writes them in their canonical form.
func (d *Draft) checkSettings(s *Settings) error {
	if s.Lease < 0 && s.Lease != NoLease || s.Lease > 0 && time.Duration(s.Lease) < time.Minute {
		return Refused("lease time %s is too short; a minute is the least", s.Lease)
	}
	if s.Valid < 0 || s.Valid > 0 && time.Duration(s.Valid) < time.Minute {
		return Refused("valid lifetime %s is too short; a minute is the least", s.Valid)
	}
	if s.Valid > 0 && s.Lease > s.Valid {
		return Refused("valid lifetime %s is shorter than the lease time %s, for which an address is preferred", s.Valid, s.Lease)
	}
	for k, text := range s.Options {
		def, err := d.next.Def(k)
		if err != nil {
			return Refused("option %s: %v", k, err)
		}
		name := d.next.KeyName(k)
		if def.Managed || k.Code == 0 || k.Family == option.V4 && k.Code == option.End {
			return Refused("option %s (%s) is set by the service itself: %s", k, name, def.Meaning)
		}
		if text == NoValue {
			continue
		}
		data, err := def.Type.Encode(text)
		if err != nil {
			return Refused("option %s: %v", name, err)
		}
		if err := checkLength(k, name, len(data), def.Type.Empty()); err != nil && !d.trusted {
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
	case k.Family == option.V6:
		most = math.MaxUint16
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
		return Refused("option %s takes %d octets; %d is the most", name, n, most)
	case n < least:
		return Refused("option %s takes %d octets; %d is the least", name, n, least)
	case n%step != 0:
		return Refused("option %s takes %d octets; it has addresses of %d each", name, n, step)
	}
	return nil
}

func checkIdentity(i Identity) error {
	if i != "" && i != ByIdentifier && i != ByHardware {
		return Refused("identity %q is unknown; use identifier or hardware", i)
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
	if err := v.Thresholds.check(); err != nil {
		return Refused("defaults: %v", err)
	}
	old := d.next.Defaults
	d.note(KindDefaults, 0, "", old, v)
	d.next.Defaults = v
	if old.Identity == v.Identity && old.Lease == v.Lease && old.Valid == v.Valid && old.Thresholds == v.Thresholds &&
		maps.Equal(old.Options, v.Options) {
		return nil // scopes inherit nothing else
	}
	d.recompileAll()
	return d.checkRouters("the defaults", appendRouters(nil, d.next.values(v.Settings, Origin{Level: AtDefaults})))
}

// checkRouters refuses routers whose address is reserved for a client.
func (d *Draft) checkRouters(who string, routers []netip.Addr) error {
	for _, a := range routers {
		if r := d.next.ReservationAt(a); r != nil && !d.trusted {
			return Refused("%s: router %s is reserved for a client by reservation %s; move the reservation first", who, a, r.Name)
		}
	}
	return nil
}
