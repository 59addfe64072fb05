// Package movein reads what a network that is served by something else leaves behind (ethers, hosts
// files, tables of any columns, captures of its DHCP traffic) and proposes a plan: links, scopes,
// pools, options, rules and reservations, each with its evidence, as a plan file to review. It applies
// nothing, and asks nobody.
package movein

import (
	"bytes"
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
	Columns   map[string]string       // of a table: which heading has hardware, address, name, note
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

// host is one machine, by what sources say of it.
type host struct {
	hardware addr.Hardware // "" as long as nobody says it
	name     string
	address  netip.Addr
	note     string
	evidence []string
	said     int // which of all that was said gave its address
}

// gatherer gathers what sources say.
type gatherer struct {
	options Options
	source  string
	line    int
	hosts   map[string]*host // by hardware address
	order   []*host          // those, as they came
	named   []*host          // without a hardware address
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
	h.evidence, h.said = []string{where}, g.said
	if h.hardware == "" {
		g.named = append(g.named, &h)
		return
	}
	known := g.hosts[string(h.hardware)]
	if known == nil {
		g.hosts[string(h.hardware)] = &h
		g.order = append(g.order, &h)
		return
	}
	g.join(known, h)
}

// join adds what another source says of a host; what was said first counts.
func (g *gatherer) join(known *host, h host) {
	switch {
	case !known.address.IsValid():
		known.address, known.said = h.address, h.said
	case h.address.IsValid() && h.address != known.address:
		g.leave("%s has %s here, and %s in %s; the latter is proposed", h.hardware, h.address, known.address, known.evidence[0])
		return
	}
	if known.name == "" {
		known.name = h.name
	}
	if known.note == "" {
		known.note = h.note
	}
	known.evidence = append(known.evidence, h.evidence...)
}

// match joins hosts without a hardware address to those of the same name, and gives the rest: addresses
// that somebody uses of whom no more is known.
func (g *gatherer) match() (rest []*host) {
	byName := map[string]*host{}
	for _, h := range g.order {
		if h.name != "" && byName[label(h.name)] == nil {
			byName[label(h.name)] = h
		}
	}
	byAddress := map[netip.Addr]*host{}
	for _, h := range g.named {
		known := byName[label(h.name)]
		switch {
		case known != nil:
			if known.address.IsValid() && known.address != h.address {
				g.source, g.line = h.evidence[0], 0
				g.leave("%s has %s here, and %s in %s; what was said first is proposed", h.name, h.address, known.address,
					known.evidence[len(known.evidence)-1])
			}
			if !known.address.IsValid() || h.said < known.said {
				known.address, known.said = h.address, h.said
			}
			known.evidence = append(known.evidence, h.evidence...)
		case byAddress[h.address] == nil:
			byAddress[h.address] = h
			rest = append(rest, h)
		}
	}
	held := map[netip.Addr]bool{}
	for _, h := range g.order {
		held[h.address] = true
	}
	return slices.DeleteFunc(rest, func(h *host) bool { return held[h.address] })
}

// label is the first part of a host name, in small letters.
func label(name string) string {
	first, _, _ := strings.Cut(strings.ToLower(name), ".")
	return first
}
