// Package movein reads what a network that is served by something else leaves behind (ethers, hosts
// files, tables of any columns, captures of its DHCP traffic) and proposes a plan: links, scopes,
// pools, options, rules and reservations, each with its evidence, as a plan file to review. It applies
// nothing, and asks nobody.
package movein

import (
	"bytes"
	"cmp"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"yarnpost/core/addr"
	"yarnpost/edit"
)

// The kinds of sources.
const (
	Ethers  = "ethers"  // a hardware address and a host name or an address in each line
	Hosts   = "hosts"   // an address and host names in each line
	CSV     = "csv"     // a table with a line of headings
	Capture = "capture" // pcap or pcapng
)

// Kinds are the kinds of sources.
var Kinds = []string{Ethers, Hosts, CSV, Capture}

// Source is a file to read.
type Source struct {
	Name string // of the file, for whoever is told of it
	Kind string // one of Kinds; "" finds it out
	Data []byte
}

// Options say what the sources do not.
type Options struct {
	Columns   map[string]string       // of a table: which heading has which of Fields
	Scopes    map[string]netip.Prefix // names of subnets
	Everybody bool                    // reserve what each client of a capture holds
}

// Left is what was not moved in, and why.
type Left struct {
	Source string
	Line   int // from 1; 0: none
	Text   string
}

func (l Left) String() string {
	if l.Line == 0 {
		return l.Source + ": " + l.Text
	}
	return fmt.Sprintf("%s, line %d: %s", l.Source, l.Line, l.Text)
}

// Proposal is a plan to review.
type Proposal struct {
	File         []byte // a plan file
	Leases       []byte // a sheet of the leases that clients of a capture hold, as far as it shows
	Scopes       int
	Reservations int
	Exclusions   int
	Left         []Left
}

// Propose reads sources and proposes a plan.
func Propose(sources []Source, o Options) (*Proposal, error) {
	g := &gatherer{options: o, hosts: map[string]*host{}, nets: map[netip.Prefix]*network{}}
	for _, s := range sources {
		kind := s.Kind
		if kind == "" {
			kind = guess(s)
		}
		g.source = s.Name
		switch kind {
		case Ethers:
			g.lines(s.Data, g.ethersLine)
		case Hosts:
			g.lines(s.Data, g.hostsLine)
		case CSV:
			g.table(s.Data)
		case Capture:
			if err := g.capture(s.Data); err != nil {
				return nil, fmt.Errorf("%s: %w", s.Name, err)
			}
		default:
			return nil, fmt.Errorf("%s: %q is no kind of source; there are %s", s.Name, kind, strings.Join(Kinds, ", "))
		}
	}
	return g.propose()
}

// guess tells the kind of a source by how it begins, or else by its name.
func guess(s Source) string {
	for _, magic := range [][]byte{{0xa1, 0xb2, 0xc3, 0xd4}, {0xd4, 0xc3, 0xb2, 0xa1}, {0xa1, 0xb2, 0x3c, 0x4d}, {0x4d, 0x3c, 0xb2, 0xa1},
		{0x0a, 0x0d, 0x0d, 0x0a}} {
		if bytes.HasPrefix(s.Data, magic) {
			return Capture
		}
	}
	switch base := strings.ToLower(filepath.Base(s.Name)); {
	case strings.HasSuffix(base, ".csv") || strings.HasSuffix(base, ".tsv"):
		return CSV
	case strings.Contains(base, Ethers):
		return Ethers
	case strings.Contains(base, Hosts):
		return Hosts
	}
	for line := range strings.Lines(string(s.Data)) {
		words := strings.Fields(uncommented(line))
		if len(words) < 2 {
			continue
		}
		if _, err := addr.ParseHardware(words[0]); err == nil {
			return Ethers
		}
		if _, err := netip.ParseAddr(words[0]); err == nil {
			return Hosts
		}
		break
	}
	return CSV
}

// The kinds of what a machine holds.
const (
	ofIPv4    = iota // an address
	ofIPv6           // an address
	delegated        // a prefix that is delegated to it
	kinds
)

// kindOf is the kind of an address, as a prefix of full length, or of a prefix.
func kindOf(key netip.Prefix) int {
	switch {
	case key.Addr().Is4():
		return ofIPv4
	case key.IsSingleIP():
		return ofIPv6
	}
	return delegated
}

// suffixes tell the reservations of one machine apart by what is reserved.
var suffixes = [kinds]string{"", "-v6", "-net"}

// host is one machine, by what sources say of it.
type host struct {
	hardware addr.Hardware // "", like the DUID, as long as nobody says it
	duid     addr.DUID
	iaid     addr.IAID
	name     string
	holds    [kinds]held
	note     string
	evidence []string
}

// held is what a source says that a machine holds.
type held struct {
	key   netip.Prefix
	said  int    // which of all that was said says so
	where string // in which source
}

// known reports whether it is known who the machine is.
func (h *host) known() bool { return h.hardware != "" || h.duid != "" }

func (h *host) String() string {
	if h.hardware == "" && h.duid != "" {
		return h.duid.String()
	}
	return h.hardware.String()
}

// gatherer gathers what sources say.
type gatherer struct {
	options Options
	source  string
	line    int
	hosts   map[string]*host // by hardware address, and by DUID
	order   []*host          // those, as they came
	named   []*host          // of whom neither is known
	nets    map[netip.Prefix]*network
	left    []Left
	said    int
}

func (g *gatherer) leave(format string, args ...any) {
	g.left = append(g.left, Left{g.source, g.line, edit.Clean(fmt.Sprintf(format, args...))})
}

// note takes in what a line says of a host.
func (g *gatherer) note(h host) {
	where := g.source
	if g.line > 0 {
		where = fmt.Sprintf("%s, line %d", g.source, g.line)
	}
	g.said++
	h.evidence = []string{where}
	for k := range h.holds {
		h.holds[k].said, h.holds[k].where = g.said, where
	}
	if !h.known() {
		g.named = append(g.named, &h)
		return
	}
	known := g.of(h.hardware, h.duid)
	if known == nil {
		known = &h
		g.order = append(g.order, known)
	} else {
		g.join(known, h)
	}
	for _, id := range []string{string(h.hardware), string(h.duid)} {
		if id != "" {
			g.hosts[id] = known
		}
	}
}

// of is the host with a hardware address, or else with a DUID; nil if there is none.
func (g *gatherer) of(hw addr.Hardware, duid addr.DUID) *host {
	if h := g.hosts[string(hw)]; h != nil {
		return h
	}
	return g.hosts[string(duid)]
}

// join adds what another source says of a host; what was said first counts.
func (g *gatherer) join(known *host, h host) {
	for k, says := range h.holds {
		switch was := &known.holds[k]; {
		case !was.key.IsValid():
			*was = says
		case says.key.IsValid() && says.key != was.key:
			g.leave("%s has %s here, and %s in %s; the latter is proposed", &h, addr.FormatKey(says.key), addr.FormatKey(was.key), was.where)
			return
		}
	}
	known.hardware, known.duid, known.iaid = cmp.Or(known.hardware, h.hardware), cmp.Or(known.duid, h.duid), cmp.Or(known.iaid, h.iaid)
	known.name, known.note = cmp.Or(known.name, h.name), cmp.Or(known.note, h.note)
	known.evidence = append(known.evidence, h.evidence...)
}

// match joins hosts of whom nobody says who they are to those of the same name, and gives the rest:
// what somebody uses of whom no more is known.
func (g *gatherer) match() (rest []*host) {
	byName := map[string]*host{}
	for _, h := range g.order {
		if h.name != "" && byName[label(h.name)] == nil {
			byName[label(h.name)] = h
		}
	}
	seen := map[[kinds]netip.Prefix]bool{}
	for _, h := range g.named {
		if known := byName[label(h.name)]; known != nil {
			g.same(known, h)
			continue
		}
		keys := [kinds]netip.Prefix{h.holds[ofIPv4].key, h.holds[ofIPv6].key, h.holds[delegated].key}
		if !seen[keys] {
			seen[keys] = true
			rest = append(rest, h)
		}
	}
	taken := map[netip.Prefix]bool{}
	for _, h := range g.order {
		for _, says := range h.holds {
			taken[says.key] = says.key.IsValid()
		}
	}
	for _, h := range rest {
		for k := range h.holds {
			if taken[h.holds[k].key] {
				h.holds[k] = held{}
			}
		}
	}
	return slices.DeleteFunc(rest, func(h *host) bool {
		return !slices.ContainsFunc(h.holds[:], func(says held) bool { return says.key.IsValid() })
	})
}

// same adds what is said of a host by its name.
func (g *gatherer) same(known, h *host) {
	for k, says := range h.holds {
		was := &known.holds[k]
		if !says.key.IsValid() || says.key == was.key {
			continue
		}
		if was.key.IsValid() {
			g.source, g.line = h.evidence[0], 0
			g.leave("%s has %s here, and %s in %s; what was said first is proposed", h.name, addr.FormatKey(says.key),
				addr.FormatKey(was.key), was.where)
		}
		if !was.key.IsValid() || says.said < was.said {
			*was = says
		}
	}
	known.evidence = append(known.evidence, h.evidence...)
}

// label is the first part of a host name, in small letters.
func label(name string) string {
	first, _, _ := strings.Cut(strings.ToLower(name), ".")
	return first
}
