package host

import (
	"net/netip"
	"slices"

	"yarnpost/core/plan"
	"yarnpost/service/wire"
)

// NoteInterfaces looks at the interfaces, and at the addresses that are the host's own.
func (h *Host) NoteInterfaces() {
	if err := h.Wire.Refresh(); err != nil {
		h.Log.Warn("cannot look at the interfaces", "err", err)
		return
	}
	own := map[netip.Addr]bool{}
	for _, i := range h.Wire.Interfaces() {
		for _, p := range addresses(i) {
			own[p.Addr()] = true
		}
	}
	if at := h.Wire.Addr().Addr(); !at.IsUnspecified() {
		own[at] = true // one of loopback's many, perhaps
	}
	h.Engine.SetOwn(own)
}

// addresses are those of an interface, of IPv4 first, without link-local ones of IPv6, which
// each interface has.
func addresses(i *wire.Interface) []netip.Prefix {
	out := slices.Clone(i.Prefixes)
	for _, p := range i.Prefixes6 {
		if !p.Addr().IsLinkLocalUnicast() {
			out = append(out, p)
		}
	}
	return out
}

// PlanInterfaces are the host's interfaces as a plan sees them: those whose clients are served.
func (h *Host) PlanInterfaces() []plan.Interface {
	var out []plan.Interface
	for _, i := range h.Wire.Interfaces() {
		if i.Served {
			out = append(out, plan.Interface{Name: i.Name, Prefixes: addresses(i)})
		}
	}
	return out
}

// From is the address by which clients of an address know this server: that
// of the interface in its subnet, or any that is not loopback.
func (h *Host) From(a netip.Addr) (netip.Addr, *wire.Interface) {
	var other netip.Addr
	at := h.Wire.Addr().Addr()
	if a.Is6() {
		at = h.Wire.Addr6().Addr()
	}
	for _, i := range h.Wire.Interfaces() {
		prefixes := i.Prefixes
		if a.Is6() {
			prefixes = i.Prefixes6
		}
		for _, p := range prefixes {
			if p.Contains(a) {
				return p.Addr(), i
			}
			if !p.Addr().IsLoopback() && !other.IsValid() {
				other = p.Addr()
			}
		}
	}
	if at.IsValid() && !at.IsUnspecified() {
		other = at
	}
	return other, nil
}

// Facing is how this server names itself to clients behind a relay.
func (h *Host) Facing(relay netip.Addr) netip.Addr {
	if relay.IsLoopback() {
		return netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	at, _ := h.From(relay)
	if !at.IsValid() {
		return netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	return at
}
