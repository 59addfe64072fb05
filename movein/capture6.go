package movein

import (
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/core/request"
	"yarnpost/edit"
)

// subnetBits is the length of a link's prefix, where nobody names another one (RFC 4291 section 2.5.1).
const subnetBits = 64

// message6 reads a message of DHCPv6; the error says that it is malformed.
func (r *reel) message6(payload []byte, at time.Time) error {
	var m dhcp6.Message
	if err := dhcp6.Decode(&m, payload); err != nil {
		return err
	}
	id := string(m.ClientID())
	if id == "" {
		return nil
	}
	if m.Type != dhcp6.Reply {
		if hw := m.Request(request.Path{}).Hardware; hw != "" {
			r.stands[id] = hw
		}
		if v := m.Vendor(); v != "" {
			r.vendors[id] = edit.Clean(v)
		}
		if name := m.Hostname(); name != "" {
			r.names[id] = edit.Clean(name)
		}
		return nil
	}
	if r.first(heard{option.V6, m.Transaction, uint8(m.Type), id}, at) {
		r.reply(&m, addr.DUID(id), at)
	}
	return nil
}

// given is what a server gave with a reply: an address or a prefix that lasts.
type given struct {
	dhcp6.Lease
	iaid addr.IAID
}

// reply takes in what a server gave with a REPLY. The link is the one whose address the relay names, or
// else the one that the client's addresses are of.
func (r *reel) reply(m *dhcp6.Message, duid addr.DUID, at time.Time) {
	var relay netip.Addr
	for _, hop := range slices.Backward(m.Relays) { // the nearest to the client that names a link
		if a := hop.Link; relay == (netip.Addr{}) && !a.IsUnspecified() && !a.IsLinkLocalUnicast() {
			relay = a
		}
	}
	on := relay
	var all []given
	for _, ia := range m.IAs {
		for _, l := range ia.Leases {
			if l.Valid == 0 || ia.Code == option.IATA || !l.Prefix.IsValid() || l.Prefix.Masked() != l.Prefix || l.Prefix.Addr().Is4In6() {
				continue
			}
			all = append(all, given{l, addr.IAIDOf(ia.ID)})
			if l.Prefix.IsSingleIP() && !on.IsValid() {
				on = l.Prefix.Addr()
			}
		}
	}
	switch {
	case len(all) == 0:
		return
	case on.IsValid():
		r.links[string(duid)] = on
	default:
		if on = r.links[string(duid)]; !on.IsValid() {
			r.adrift++
			return
		}
	}
	server := ""
	if b, ok := m.Options.Get(option.ServerID6); ok && addr.DUID(b).Proper() {
		server = addr.DUID(b).String()
	}
	n := r.network(r.around(on), at, relay, server)
	for _, g := range all {
		c := n.client(identity{string(duid), g.iaid, kindOf(g.Prefix)}, at)
		c.key, c.duid, c.iaid, c.hardware = g.Prefix, duid, g.iaid, r.stands[string(duid)]
		c.vendor, c.name = r.vendors[string(duid)], r.names[string(duid)]
		if b, ok := m.Options.Get(bootFileURL); ok {
			c.file = edit.Clean(string(b))
		}
		c.lasts(g.Valid, true, at)
		n.leases[g.Preferred]++
		n.valids[g.Valid]++
	}
	for code, data := range m.Options.Each() {
		if settable(option.Std6(code)) {
			n.option(option.Std6(code), data)
		}
	}
}

// around is the subnet of an address of IPv6: the one that was named, or that of its first 64 bits.
func (g *gatherer) around(a netip.Addr) netip.Prefix {
	for _, p := range g.options.Scopes {
		if p.Contains(a) {
			return p
		}
	}
	p, _ := a.WithZone("").Prefix(subnetBits)
	return p
}
