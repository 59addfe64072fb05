package answer

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// refuse sends a NAK: server identifier, message, and what is echoed (RFC 2131
// table 3). Through a relay it asks for broadcast, since the client's address
// is wrong.
func (d *decider) refuse(why Reason, message string) {
	d.Outcome, d.Why = Refused, why
	r := d.header(dhcp4.Nak)
	r.Options = append(r.Options, dhcp4.Option{Code: option.Message, Data: []byte(message)})
	r.CIAddr, r.YIAddr = netip.IPv4Unspecified(), netip.IPv4Unspecified()
	d.To = ToAll
	if !d.msg.GIAddr.IsUnspecified() {
		d.To = ToRelay
		r.Flags |= dhcp4.BroadcastFlag
	}
	d.echo(r)
}

func (d *decider) header(t dhcp4.Type) *dhcp4.Message {
	m := d.msg
	server := d.Server
	if d.Relay.ServerID.IsValid() { // RFC 5107
		server = d.Relay.ServerID
	}
	id := server.As4()
	copy(d.octets[:4], id[:])
	d.message = dhcp4.Message{Op: dhcp4.BootReply, HType: m.HType, XID: m.XID, Flags: m.Flags, CIAddr: netip.IPv4Unspecified(),
		SIAddr: netip.IPv4Unspecified(), GIAddr: m.GIAddr, CHAddr: m.CHAddr, Type: t, Options: append(d.message.Options[:0],
			dhcp4.Option{Code: option.MessageType, Data: messageTypes[t : t+1]}, dhcp4.Option{Code: option.ServerID, Data: d.octets[:4]})}
	d.Reply = &d.message
	return d.Reply
}

var messageTypes = []byte{0, 1, 2, 3, 4, 5, 6, 7, 8}

// echo ends a reply with the client identifier (RFC 6842) and option 82 (RFC
// 3046), as they came.
func (d *decider) echo(r *dhcp4.Message) {
	for _, code := range [...]uint8{option.ClientID, option.RelayAgent} {
		if b, ok := d.msg.Options.Get(code); ok {
			r.Options = append(r.Options, dhcp4.Option{Code: code, Data: b})
		}
	}
}

// reply makes an OFFER or ACK. A lease time of 0 marks the answer to INFORM,
// which has no times (RFC 2131 section 4.3.5).
func (d *decider) reply(t dhcp4.Type, v *plan.View, res *plan.Reservation, a netip.Addr, leaseTime time.Duration) {
	m := d.msg
	r := d.header(t)
	r.YIAddr = a
	if t == dhcp4.Ack {
		r.CIAddr = m.CIAddr
	}
	values := appendValues(d.values[:0], v, res, leaseTime, d.octets[4:])
	for _, val := range values {
		if val.Level == plan.AtService && val.Code != option.Hostname {
			r.Options = append(r.Options, dhcp4.Option{Code: val.Code, Data: val.Data})
		}
	}
	// What the client asks for, in its order; without a list, everything
	// (RFC 2131 section 4.3.1). The mask comes before the routers (RFC 2132
	// section 3.3) and the times are always told.
	wants, listed := m.Options.Get(option.ParameterList)
	add := func(val plan.Value) {
		if timed := val.Code == option.RenewalTime || val.Code == option.RebindingTime; timed && leaseTime == 0 {
			return
		}
		if _, there := r.Options.Get(val.Code); !there {
			r.Options = append(r.Options, dhcp4.Option{Code: val.Code, Data: val.Data})
		}
	}
	for _, val := range values {
		always := val.Code == option.SubnetMask || leaseTime > 0 && (val.Code == option.RenewalTime || val.Code == option.RebindingTime)
		if always || !listed {
			add(val)
		}
	}
	for _, code := range wants {
		if i, ok := slices.BinarySearchFunc(values, code, func(val plan.Value, c uint8) int { return int(val.Code) - int(c) }); ok {
			add(values[i])
		}
	}
	d.echo(r)
	switch {
	case !m.GIAddr.IsUnspecified():
		d.To = ToRelay
	case !m.CIAddr.IsUnspecified():
		d.To = ToAddress
	case m.Broadcast():
		d.To = ToAll
	default:
		d.To = ToHardware
	}
}

// Values lists by code the options a client of the scope is given, with the
// level of each: what the plan sets, and what the service computes unless the
// plan says otherwise. A lease time of 0 leaves the times out. The reservation
// may be nil.
func Values(v *plan.View, r *plan.Reservation, leaseTime time.Duration) []plan.Value {
	return appendValues(nil, v, r, leaseTime, make([]byte, 12))
}

// appendValues is Values in memory that is there already; the times take twelve
// octets.
func appendValues(out []plan.Value, v *plan.View, r *plan.Reservation, leaseTime time.Duration, octets []byte) []plan.Value {
	out = append(out, v.ValuesFor(r)...)
	compute := func(code uint8, data []byte) {
		at, found := slices.BinarySearchFunc(out, code, func(val plan.Value, c uint8) int { return int(val.Code) - int(c) })
		if !found {
			out = slices.Insert(out, at, plan.Value{Code: code, Data: data})
		}
	}
	compute(option.SubnetMask, v.Mask)
	if r != nil && r.Hostname != "" {
		compute(option.Hostname, []byte(r.Hostname))
	}
	if leaseTime > 0 {
		s := option.Seconds(leaseTime)
		t1, t2 := s/2, uint32(uint64(s)*7/8)
		if leaseTime >= option.Infinite {
			t1, t2 = s, s
		}
		for i, n := range [...]uint32{s, t1, t2} {
			binary.BigEndian.PutUint32(octets[4*i:], n)
		}
		compute(option.AddressTime, octets[0:4:4])
		compute(option.RenewalTime, octets[4:8:8])
		compute(option.RebindingTime, octets[8:12:12])
	}
	return out
}
