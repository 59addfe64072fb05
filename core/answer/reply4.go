package answer

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

// refuse sends a NAK: server identifier, message, and what is echoed (RFC 2131
// table 3). Through a relay it asks for broadcast, since the client's address
// is wrong.
//
// A client that renews straight from behind a relay is not reached by broadcast:
// it is answered at its address. Without the records nobody is refused, since
// what this server believes may not be so any more.
func (d *v4) refuse(why reason.Reason) {
	if !d.world.Writable {
		d.step("it would be refused, but nothing can be recorded now, so the record may be old", netip.Addr{}, "")
		d.ignore(reason.NoDatabase)
		return
	}
	d.answer.Outcome, d.answer.Why = Refused, why
	r := d.header(dhcp4.Nak)
	r.Options = append(r.Options, dhcp4.Option{Code: option.Message, Data: []byte(why.Refusal())})
	r.CIAddr, r.YIAddr = netip.IPv4Unspecified(), netip.IPv4Unspecified()
	switch c := d.msg.CIAddr; {
	case !d.msg.GIAddr.IsUnspecified():
		d.out.To = ToRelay
		r.Flags |= dhcp4.BroadcastFlag
	case d.req.Unicast && !c.IsUnspecified() &&
		!slices.ContainsFunc(d.req.Prefixes, func(p netip.Prefix) bool { return p.Masked().Contains(c) }):
		d.out.To = ToAddress
	default:
		d.out.To = ToAll
	}
	d.echo(r)
}

// header begins a reply. One to BOOTP has no type and names no server.
func (d *v4) header(t dhcp4.Type) *dhcp4.Message {
	m := d.msg
	r := &d.out.memory.message
	*r = dhcp4.Message{Op: dhcp4.BootReply, HType: m.HType, XID: m.XID, Flags: m.Flags, CIAddr: netip.IPv4Unspecified(),
		SIAddr: netip.IPv4Unspecified(), GIAddr: m.GIAddr, CHAddr: m.CHAddr, Type: t, Options: r.Options[:0]}
	d.sent, d.out.Reply = r, r
	if t == dhcp4.None {
		return r
	}
	server := d.req.Server
	if d.msg.Agent.ServerID.IsValid() { // RFC 5107
		server = d.msg.Agent.ServerID
	}
	id := server.As4()
	copy(d.out.memory.octets[:4], id[:])
	r.Options = append(r.Options, dhcp4.Option{Code: option.MessageType, Data: messageTypes[t : t+1]},
		dhcp4.Option{Code: option.ServerID, Data: d.out.memory.octets[:4]})
	return r
}

var messageTypes = []byte{0, 1, 2, 3, 4, 5, 6, 7, 8}

// echo ends a reply with what goes back as it came: the subnet that the client
// selected (RFC 3011), its virtual network if it is the one there is (RFC 6607),
// its identifier (RFC 6842), and option 82 (RFC 3046).
func (d *v4) echo(r *dhcp4.Message) {
	back := func(code uint8) {
		if b, ok := d.msg.Options.Get(code); ok {
			r.Options = append(r.Options, dhcp4.Option{Code: code, Data: b})
		}
	}
	if d.chosen {
		back(option.SubnetSelection)
	}
	if b, ok := d.msg.Options.Get(option.VirtualSubnet); ok && dhcp4.GlobalNet(b) {
		back(option.VirtualSubnet)
	}
	if r.Type != dhcp4.None {
		back(option.ClientID)
	}
	if b, ok := d.msg.Options.Get(option.RelayAgent); ok {
		r.Options = append(r.Options, dhcp4.Option{Code: option.RelayAgent, Data: d.msg.Agent.Echo(b)})
	}
}

// reply makes an OFFER, an ACK or a BOOTP reply. A lease time of 0 leaves the
// times out (RFC 2131 section 4.3.5), and so does BOOTP.
func (d *v4) reply(t dhcp4.Type, v *plan.View, res *plan.Reservation, a netip.Addr, leaseTime time.Duration) {
	m := d.msg
	if m.Type == dhcp4.None {
		t, leaseTime, d.out.Limit = dhcp4.None, 0, dhcp4.BootpSize
	}
	r := d.header(t)
	r.YIAddr, d.answer.Time = a, leaseTime
	if t == dhcp4.Ack || t == dhcp4.None {
		r.CIAddr = m.CIAddr
	}
	values := appendValues(d.out.memory.values[:0], d.settled(v, res), v, res, leaseTime, d.out.memory.octets[4:])
	d.out.Values = values
	if i, ok := find(values, option.Std(option.AddressTime)); ok && values[i].Level == plan.AtService {
		values[i].Origin = d.leaseFrom(v, res)
	}
	add := func(code uint8, data []byte) {
		if _, there := r.Options.Get(code); !there {
			r.Options = append(r.Options, dhcp4.Option{Code: code, Data: data})
		}
	}
	timed := func(code uint8) bool {
		return code == option.AddressTime || code == option.RenewalTime || code == option.RebindingTime
	}
	// What the client did not list and gets all the same comes first: times and
	// what is computed. Then what it lists, in its order, but the mask before the
	// routers (RFC 2132 section 3.3). Without a list it gets everything (RFC 2131
	// section 4.3.1).
	wants, listed := m.Options.Get(option.ParameterList)
	first := bytes.IndexByte(wants, option.SubnetMask)
	if router := bytes.IndexByte(wants, option.Router); first < 0 || router >= 0 && router < first {
		if i, ok := find(values, option.Std(option.SubnetMask)); ok {
			add(option.SubnetMask, values[i].Data)
		}
	}
	for _, val := range values {
		if val.Book != "" || val.Family != option.V4 {
			break
		}
		code := uint8(val.Code)
		computed := (val.Level == plan.AtService || val.Code == option.AddressTime) && val.Code != option.Hostname || timed(code)
		if (!listed || computed && !bytes.Contains(wants, []byte{code})) && (!timed(code) || leaseTime > 0) {
			add(code, val.Data)
		}
	}
	for _, code := range wants {
		if i, ok := find(values, option.Std(uint16(code))); ok && (!timed(code) || leaseTime > 0) {
			add(code, values[i].Data)
		}
	}
	d.addBooked(r, values)
	if t != dhcp4.None {
		d.addFQDN(r)
	}
	d.echo(r)
	d.aim()
}

// aim says where the reply goes (RFC 2131 section 4.1).
func (d *v4) aim() {
	m := d.msg
	switch {
	case !m.GIAddr.IsUnspecified():
		d.out.To = ToRelay
	case !m.CIAddr.IsUnspecified():
		d.out.To = ToAddress
	case m.Broadcast() || d.sent.YIAddr.IsUnspecified() || m.CHAddr.Zero():
		d.out.To = ToAll
	default:
		d.out.To = ToHardware
	}
}

// addBooked adds what codebooks carry: the fixed fields for booting, sub-options
// of option 43 for the client's vendor class, and those of option 125 for
// enterprise numbers that the client names (124, 125) or asks for.
func (d *v4) addBooked(r *dhcp4.Message, values []plan.Value) {
	first := slices.IndexFunc(values, func(v plan.Value) bool { return v.Book != "" })
	if first < 0 {
		return
	}
	booked := values[first:]
	for _, v := range booked {
		if v.Book != option.HeaderBook {
			continue
		}
		switch v.Code {
		case option.NextServer:
			if a, ok := netip.AddrFromSlice(v.Data); ok && a.Is4() {
				r.SIAddr = a
			}
		case option.ServerName:
			r.SName = v.Data
		case option.BootFile:
			r.File = v.Data
		}
	}
	class := d.msg.Text(option.ClassID)
	var in43, in125 []byte
	for _, c := range d.plan.Codebooks() {
		var sub []byte
		for _, v := range booked {
			if v.Book == c.Name {
				sub = dhcp4.AppendSub(sub, uint8(v.Code), v.Data)
			}
		}
		switch {
		case len(sub) == 0:
		case c.Place == plan.InVendor && c.Fits(class):
			in43 = append(in43, sub...)
		case c.Place == plan.In125 && d.knows(c.Enterprise) && len(sub) <= 255:
			in125 = binary.BigEndian.AppendUint32(in125, c.Enterprise)
			in125 = append(append(in125, byte(len(sub))), sub...)
		}
	}
	put := func(code uint8, data []byte) {
		if len(data) == 0 {
			return
		}
		if i := slices.IndexFunc(r.Options, func(o dhcp4.Option) bool { return o.Code == code }); i >= 0 {
			r.Options[i].Data = data
			return
		}
		r.Options = append(r.Options, dhcp4.Option{Code: code, Data: data})
	}
	put(option.VendorSpecific, in43)
	put(option.VIVendorOptions, in125)
}

// knows reports whether the client names an enterprise number (RFC 3925), or
// asks for option 125 as such.
func (d *v4) knows(enterprise uint32) bool {
	for _, code := range [...]uint8{option.VIVendorClass, option.VIVendorOptions} {
		b, _ := d.msg.Options.Get(code)
		for len(b) >= 5 && len(b) >= 5+int(b[4]) {
			if binary.BigEndian.Uint32(b) == enterprise {
				return true
			}
			b = b[5+int(b[4]):]
		}
	}
	wants, _ := d.msg.Options.Get(option.ParameterList)
	return slices.Contains(wants, option.VIVendorOptions)
}

// addFQDN answers option 81: the server does no DNS updates for the client, and
// keeps it from none (RFC 4702 section 4: N set, S clear, O if that overrides
// the client's wish; both result codes 255).
func (d *v4) addFQDN(r *dhcp4.Message) {
	b, ok := d.msg.Options.Get(option.ClientFQDN)
	if !ok || len(b) < 3 || len(b) > 3 && !plan.HostName(d.msg.FQDN()) { // what is no name is not repeated
		return
	}
	const s, o, e, n = 1, 2, 4, 8
	flags := b[0]&e | n
	if b[0]&s != 0 {
		flags |= o
	}
	r.Options = append(r.Options, dhcp4.Option{Code: option.ClientFQDN, Data: append([]byte{flags, 255, 255}, b[3:]...)})
}

func find(values []plan.Value, k option.Key) (int, bool) {
	return slices.BinarySearchFunc(values, k, func(v plan.Value, k option.Key) int { return v.Key.Compare(k) })
}

func sortValues(values []plan.Value) {
	slices.SortFunc(values, func(a, b plan.Value) int { return a.Key.Compare(b.Key) })
}

// appendValues adds to what is settled the values that the service computes,
// unless the plan says otherwise: mask, host name of the reservation, times. A
// lease time of 0 leaves the times out; they take twelve octets.
func appendValues(out, settled []plan.Value, v *plan.View, r *plan.Reservation, leaseTime time.Duration, octets []byte) []plan.Value {
	out = append(out, settled...)
	compute := func(code uint16, data []byte) {
		if at, found := find(out, option.Std(code)); !found {
			out = slices.Insert(out, at, plan.Value{Key: option.Std(code), Data: data})
		}
	}
	compute(option.SubnetMask, v.Mask())
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
