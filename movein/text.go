package movein

import (
	"errors"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"yarnpost/core/addr"
	"yarnpost/edit"
	"yarnpost/sheet"
)

// uncommented is a line without its comment.
func uncommented(line string) string {
	line, _, _ = strings.Cut(line, "#")
	return strings.TrimSpace(line)
}

// lines reads a text line by line.
func (g *gatherer) lines(data []byte, each func(words []string)) {
	g.line = 0
	if !utf8.Valid(data) {
		g.leave("it is no text in UTF-8")
		return
	}
	for line := range strings.Lines(strings.TrimPrefix(string(data), "\ufeff")) {
		g.line++
		if words := strings.Fields(uncommented(line)); len(words) > 0 {
			each(words)
		}
	}
}

// ethersLine reads a hardware address, and a host name or an address.
func (g *gatherer) ethersLine(words []string) {
	hw, err := addr.ParseHardware(words[0])
	switch {
	case err != nil:
		g.leave("%.80q is no hardware address", words[0])
	case len(words) < 2:
		g.leave("%s has no host name and no address behind it", hw)
	default:
		h := host{hardware: hw, name: words[1]}
		if a, err := netip.ParseAddr(words[1]); err == nil {
			h.name = ""
			h.hold(a)
		}
		g.take(h)
	}
}

// hostsLine reads an address and host names.
func (g *gatherer) hostsLine(words []string) {
	a, err := netip.ParseAddr(words[0])
	switch {
	case err != nil:
		g.leave("%.80q is no address", words[0])
	case len(words) < 2:
		g.leave("%s has no host name behind it", a)
	case a.IsLoopback() || a.IsMulticast() || a.IsUnspecified() || a.Is4() && a.As4()[3] == 255: // what each host's own file has
	default:
		h := host{name: words[1]}
		h.hold(a)
		g.take(h)
	}
}

// hold says that the host has an address.
func (h *host) hold(a netip.Addr) {
	a = a.Unmap().WithZone("")
	key := netip.PrefixFrom(a, a.BitLen())
	h.holds[kindOf(key)].key = key
}

// take notes a host whose address can be served.
func (g *gatherer) take(h host) {
	if a := h.holds[ofIPv6].key.Addr(); a.IsLinkLocalUnicast() {
		g.leave("%s is an address that a host gives itself on each link; nothing is served there", a)
		return
	}
	h.name, h.note = edit.Clean(h.name), edit.Clean(h.note)
	g.note(h)
}

// headings are what columns of a table are called, in small letters and without spaces.
var headings = map[string][]string{
	"hardware": {"hardware", "hardwareaddress", "hw", "mac", "macaddress", "mac-address", "mac_address", "ethernet", "ethernetaddress",
		"physicaladdress", "clientid", "hwaddr", "lladdr"},
	"duid":     {"duid", "clientduid", "dhcpv6clientid", "dhcpuniqueidentifier"},
	"iaid":     {"iaid", "identityassociation"},
	"address":  {"address", "ip", "ipaddress", "ip-address", "ip_address", "ipv4", "ipv4address", "fixedaddress"},
	"address6": {"address6", "ipv6", "ipv6address", "ip6", "ip6address", "ipv6-address", "ipv6_address"},
	"prefix":   {"prefix", "delegatedprefix", "pd", "ia_pd", "ipv6prefix"},
	"name":     {"name", "hostname", "host", "host-name", "host_name", "device", "devicename", "dnsname", "fqdn"},
	"note":     {"note", "notes", "description", "comment", "comments", "remark", "location"},
}

// Fields are what a table can say of a host, in the order in which they are looked for.
var Fields = []string{"hardware", "duid", "iaid", "address", "address6", "prefix", "name", "note"}

// table reads a table with a line of headings.
func (g *gatherer) table(data []byte) {
	var at map[string]int
	fault := sheet.Rows(data, func(line int, cells []string) bool {
		if g.line = line; at == nil {
			at = g.head(cells)
			return at != nil
		}
		cell := func(field string) string {
			if i, ok := at[field]; ok && i < len(cells) {
				return strings.TrimSpace(edit.Fused(cells[i]))
			}
			return ""
		}
		g.row(cell)
		return true
	})
	if fault != nil {
		g.line = fault.Line
		g.leave("%s", fault.Text)
	}
}

// head finds the columns of a table by their headings.
func (g *gatherer) head(cells []string) map[string]int {
	at := map[string]int{}
	plain := func(s string) string {
		return strings.ToLower(strings.ReplaceAll(strings.TrimSpace(edit.Fused(s)), " ", ""))
	}
	for _, f := range Fields {
		known := headings[f]
		if told := g.options.Columns[f]; told != "" {
			known = []string{plain(told)}
		}
		for _, name := range known { // the first that fits best
			if i := slices.IndexFunc(cells, func(c string) bool { return plain(c) == name }); i >= 0 {
				at[f] = i
				break
			}
		}
		if told := g.options.Columns[f]; told != "" && len(at) == 0 {
			g.leave("no column is headed %q; there are %s", told, strings.Join(cells, ", "))
			return nil
		}
	}
	if !slices.ContainsFunc(telling, func(f string) bool { _, ok := at[f]; return ok }) {
		g.leave("no column is known for a hardware address, a DUID or an address; say which, as --column address=%s",
			strings.Join(cells, "|"))
		return nil
	}
	return at
}

// telling are the fields of which a table needs one.
var telling = []string{"hardware", "duid", "address", "address6", "prefix"}

// row reads one line of a table.
func (g *gatherer) row(cell func(string) string) {
	h := host{name: cell("name"), note: cell("note")}
	told := false
	for _, f := range Fields[:len(Fields)-2] {
		text := cell(f)
		if text == "" {
			continue
		}
		if err := h.set(f, text); err != nil {
			g.leave("%.80q is no %s", text, err)
			return
		}
		told = told || f != "iaid"
	}
	if !told {
		g.leave("it has neither a hardware address nor an address")
		return
	}
	g.take(h)
}

// set reads the value of a field; the error names what it should have been.
func (h *host) set(field, text string) (err error) {
	switch field {
	case "hardware":
		if h.hardware, err = addr.ParseHardware(text); err != nil {
			return errors.New("hardware address")
		}
	case "duid":
		if h.duid, err = addr.ParseDUID(text); err != nil {
			return errors.New("DUID")
		}
	case "iaid":
		if h.iaid, err = addr.ParseIAID(text); err != nil {
			return errors.New("IAID")
		}
	case "prefix":
		key, err := netip.ParsePrefix(text)
		if err != nil || key.Masked() != key || kindOf(key) != delegated {
			return errors.New("prefix of IPv6 to delegate")
		}
		h.holds[delegated].key = key
	default:
		a, err := netip.ParseAddr(text)
		if err != nil {
			return errors.New("address")
		}
		h.hold(a)
	}
	return nil
}
