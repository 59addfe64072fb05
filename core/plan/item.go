// Package plan is the room of what an administrator has defined: defaults,
// links, scopes, reservations. A Draft takes edits and refuses what cannot
// hold together; a Plan is one immutable, compiled revision that answers
// look-ups in constant time. It knows no lease and no packet.
package plan

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
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
	KindLink        Kind = "link"
	KindScope       Kind = "scope"
	KindReservation Kind = "reservation"
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

func (d Duration) String() string { return option.FormatDuration(time.Duration(d)) }

// MarshalText writes what option.ParseDuration reads.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads what option.ParseDuration reads.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := option.ParseDuration(string(text))
	*d = Duration(v)
	return err
}

// NoValue as the value of an option takes an inherited value away.
const NoValue = "none"

// Settings are what every level can set; a zero field inherits.
type Settings struct {
	Options map[uint8]string `json:"options,omitempty"` // by code; text as option.Type reads it, or NoValue
	Lease   Duration         `json:"lease,omitzero"`
}

// Defaults hold in the whole plan unless something more specific says otherwise.
type Defaults struct {
	Settings
	Note string `json:"note,omitempty"`
}

// Link is one broadcast domain: how clients are reached.
type Link struct {
	ID         ID           `json:"id"`
	Name       string       `json:"name"`
	Interfaces []string     `json:"interfaces,omitempty"`
	Relays     []netip.Addr `json:"relays,omitempty"` // relay addresses (giaddr)
	Note       string       `json:"note,omitempty"`
}

// Exclusion is a range that is never handed out from a pool.
type Exclusion struct {
	Range addr.Range `json:"range"`
	User  string     `json:"user,omitempty"` // who uses it, if known
}

// Scope is one subnet on a link, with its pools and settings.
type Scope struct {
	ID         ID           `json:"id"`
	Name       string       `json:"name"`
	Link       ID           `json:"link"`
	Subnet     netip.Prefix `json:"subnet"`
	Pools      []addr.Range `json:"pools,omitempty"`
	Exclusions []Exclusion  `json:"exclusions,omitempty"`
	Mode       Mode         `json:"mode"`
	DrainUntil time.Time    `json:"drainUntil,omitzero"` // with Draining: no lease reaches beyond
	// Authoritative scopes refuse (NAK) clients they have no record of, where
	// RFC 2131 section 4.3.2 asks for silence.
	Authoritative bool `json:"authoritative,omitempty"`
	Settings
	Note string `json:"note,omitempty"`
}

// Reservation keeps an address for one client, inside or outside pools.
type Reservation struct {
	ID       ID            `json:"id"`
	Name     string        `json:"name"`
	Scope    ID            `json:"scope"`
	Hardware addr.Hardware `json:"hw"`
	Address  netip.Addr    `json:"address"`
	Hostname string        `json:"hostname,omitempty"`
	Settings
	Note string `json:"note,omitempty"`
}

// Item is any of Defaults, Link, Scope and Reservation.
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
	for _, code := range slices.Sorted(maps.Keys(s.Options)) {
		out = append(out, field{"option " + option.Standard4.ByCode(code).Name(), s.Options[code]})
	}
	return out
}

func (d Defaults) describe(func(ID) string) []field {
	return append(d.Settings.describe(), field{"note", d.Note})
}

func (l Link) describe(func(ID) string) []field {
	out := []field{{"name", l.Name}}
	for _, i := range l.Interfaces {
		out = append(out, field{"interface " + i, "yes"})
	}
	for _, r := range l.Relays {
		out = append(out, field{"relay " + r.String(), "yes"})
	}
	return append(out, field{"note", l.Note})
}

func (s Scope) describe(label func(ID) string) []field {
	out := []field{{"name", s.Name}, {"subnet", s.Subnet.String()}, {"link", label(s.Link)}, {"mode", string(s.Mode)}}
	for _, p := range s.Pools {
		out = append(out, field{"pool " + p.String(), fmt.Sprintf("%d addresses", p.Size())})
	}
	for _, e := range s.Exclusions {
		out = append(out, field{"exclusion " + e.Range.String(), strings.TrimSpace(fmt.Sprintf("%d addresses %s", e.Range.Size(), e.User))})
	}
	if !s.DrainUntil.IsZero() {
		out = append(out, field{"drains until", s.DrainUntil.UTC().Format(time.RFC3339)})
	}
	if s.Authoritative {
		out = append(out, field{"authoritative", "yes"})
	}
	return append(append(out, s.Settings.describe()...), field{"note", s.Note})
}

func (r Reservation) describe(label func(ID) string) []field {
	out := []field{{"name", r.Name}, {"scope", label(r.Scope)}, {"hardware address", r.Hardware.String()}, {"address", r.Address.String()}, {"host name", r.Hostname}}
	return append(append(out, r.Settings.describe()...), field{"note", r.Note})
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
