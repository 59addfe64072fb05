package answer

import (
	"net/netip"
	"slices"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/reason"
)

// Way is how a message came here. A datagram proves only where it came from, so what
// it may read, change, end or make the service believe depends on its way; the table
// in docs/protocols.md says how.
type Way uint8

// The ways.
const (
	FromLink   Way = iota // from a host on a served link
	Straight              // by unicast, from the very address that it speaks of
	ByRelay               // through a relay that the plan names
	ByStranger            // through one that the plan does not name
	Elsewhere             // from anywhere else
)

// arrival tells the way of a message. A request that does not say where it was sent
// from is a hypothetical one, and came as it should.
func (d *v4) arrival() Way {
	m, from := d.msg, d.req.From
	switch {
	case !m.GIAddr.IsUnspecified() && (d.req.Trial || d.plan.LinkOfRelay(m.GIAddr) != 0):
		return ByRelay
	case !m.GIAddr.IsUnspecified():
		return ByStranger
	case from.IsValid() && !m.CIAddr.IsUnspecified() && from == m.CIAddr, !from.IsValid():
	case d.req.Unicast && !m.CIAddr.IsUnspecified():
		return Elsewhere
	case !from.IsUnspecified() && !slices.ContainsFunc(d.req.Prefixes, func(p netip.Prefix) bool { return p.Masked().Contains(from) }):
		return Elsewhere
	}
	if d.req.Unicast && !m.CIAddr.IsUnspecified() {
		return Straight
	}
	return FromLink
}

// foreign reports whether a message came from elsewhere, and says so: nothing is
// answered to it, and nothing changes because of it.
func (d *v4) foreign() bool {
	if d.way != Elsewhere {
		return false
	}
	d.step("it came from {a}, which is neither on its link nor the address that it speaks of", d.req.From, "")
	d.ignore(reason.ForeignSource)
	return true
}

// speaksFor reports whether a message may speak for an address: one that came straight
// from a client for that client's address alone.
func (d *v4) speaksFor(a netip.Addr) bool {
	if d.way != Straight || a == d.msg.CIAddr {
		return true
	}
	d.step("it came straight from {a}, and speaks of another address", d.msg.CIAddr, "")
	d.ignore(reason.ForeignSource)
	return false
}

// ends reports whether a message may end the lease of an address: one of the link that
// it came from, and through a relay that the plan does not name only if the client was
// given the address through that very relay.
func (d *v4) ends(l *lease.Lease) bool {
	return d.onLink(l.Prefix) != nil && (d.way != ByStranger || l.Relay == d.msg.GIAddr)
}

// believes reports whether what a relay says of where a client is plugged in counts: the
// relay must be one that the plan names.
func (d *decider) believes(relay netip.Addr) bool {
	return relay.IsValid() && d.plan.LinkOfRelay(relay) != 0
}

// recall fills in what a client that renews straight from its address cannot say: how
// it is connected, as it was last heard through its relay.
func (d *v4) recall() {
	if d.way != Straight {
		return
	}
	l := d.table.At(d.msg.CIAddr)
	if l == nil || l.Status != lease.Active || !l.Relay.IsValid() || !d.mine(l) {
		return
	}
	w := &d.who
	w.via, w.circuit, w.agent, w.sure = l.Relay, []byte(l.Circuit), l.Agent, d.believes(l.Relay)
	w.facts = recalled(w.facts, l, w.sure)
	if l.Circuit != "" {
		d.step("it was last heard through relay {a}, circuit {c}", l.Relay, l.Circuit)
	} else {
		d.step("it was last heard through relay {a}", l.Relay, "")
	}
}

// agentFor is what a lease keeps of a relayed message (Lease.Agent): sub-options 2 and
// 6 of option 82 (RFC 3046, RFC 3993) and option 77, as code, length and octets.
func (d *decider) agentFor() string {
	if !d.req.Relay.IsValid() {
		return d.who.agent
	}
	var room [3 * 257]byte
	b := room[:0]
	put := func(code uint8, data []byte) {
		if len(data) > 0 && len(data) < 256 {
			b = dhcp4.AppendSub(b, code, data)
		}
	}
	put(dhcp4.SubRemote, d.req.Remote)
	put(dhcp4.SubSubscriber, d.req.Subscriber)
	put(option.UserClass, d.req.Message.Classes())
	return string(b)
}

// agentOf reads what agentFor gave.
func agentOf(kept string) (remote, subscriber, classes []byte) {
	dhcp4.Sub([]byte(kept), func(code uint8, data []byte) bool {
		switch code {
		case dhcp4.SubRemote:
			remote = data
		case dhcp4.SubSubscriber:
			subscriber = data
		case option.UserClass:
			classes = data
		}
		return true
	})
	return remote, subscriber, classes
}
