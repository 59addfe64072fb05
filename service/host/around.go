package host

import (
	"context"
	"net/netip"

	"github.com/vishvananda/netlink"

	"yarnpost/core/addr"
	"yarnpost/core/audit"
	"yarnpost/core/plan"
	"yarnpost/service/look"
)

const (
	quietMost = 256 // hosts that an audit looks at
	toldMost  = 16  // hosts that are looked at because a change tells clients of them
)

// Look sees which routers and servers answer.
func (h *Host) Look(ctx context.Context, p *plan.Plan) {
	told := audit.Told(p)
	var targets []look.Target
	for _, a := range audit.Quiet(p, quietMost) {
		if !h.mayLook(a) {
			continue
		}
		targets = append(targets, look.Target{Address: a, DNS: told[a].What == "DNS server"})
	}
	silent := look.Hosts(ctx, targets)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.silent = silent
}

// Silent are the hosts that did not answer when they were last looked at.
func (h *Host) Silent() map[netip.Addr]bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.silent
}

// NewlyTold looks at the routers and servers that clients are told of by a change,
// and were not before.
func (h *Host) NewlyTold(ctx context.Context, before, after *plan.Plan) []audit.Finding {
	old, all := audit.Told(before), audit.Told(after)
	var targets []look.Target
	for a, t := range all {
		if _, known := old[a]; !known && len(targets) < toldMost && h.mayLook(a) {
			targets = append(targets, look.Target{Address: a, DNS: t.What == "DNS server"})
		}
	}
	if len(targets) == 0 {
		return nil
	}
	return audit.Silent(after, look.Hosts(ctx, targets))
}

// mayLook reports whether a host can be looked at from here. A server on loopback
// looks at loopback alone: its networks are not here.
func (h *Host) mayLook(a netip.Addr) bool {
	return !h.Wire.Addr().Addr().IsLoopback() || a.IsLoopback()
}

// Neighbours are the hosts that this one heard on the interfaces that it serves.
func (h *Host) Neighbours() (out []audit.Neighbour) {
	for _, i := range h.Wire.Interfaces() {
		if !i.Served {
			continue
		}
		list, err := netlink.NeighList(i.Index, netlink.FAMILY_V4)
		if err != nil {
			continue
		}
		for _, x := range list {
			a, ok := netip.AddrFromSlice(x.IP)
			if ok && len(x.HardwareAddr) == 6 && x.State&(netlink.NUD_FAILED|netlink.NUD_INCOMPLETE|netlink.NUD_NOARP) == 0 {
				out = append(out, audit.Neighbour{Address: a.Unmap(), Hardware: addr.Hardware(x.HardwareAddr),
					Source: "interface " + i.Name})
			}
		}
	}
	return out
}
