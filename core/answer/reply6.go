package answer

import (
	"encoding/binary"
	"math"
	"slices"
	"time"

	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// header begins a reply: who speaks to whom (RFC 8415 section 18.3.10), by the way that the
// message came.
func (d *v6) header(t dhcp6.Type) {
	d.sent = &d.out.memory.message6
	d.sent.Type, d.sent.Transaction, d.sent.Relays = t, d.msg.Transaction, d.msg.Relays
	d.sent.Options, d.sent.IAs = d.sent.Options[:0], nil
	d.out.Reply, d.out.To = d.sent, ToSource
	d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.ServerID6, Data: []byte(d.world.DUID)})
	if d.req.Identifier != nil {
		d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.ClientID6, Data: d.req.Identifier})
	}
}

// status adds a status to the message as a whole.
func (d *v6) status(s dhcp6.Status, message string) {
	d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.StatusCode6, Data: dhcp6.StatusData(s, message)})
}

// reply makes an ADVERTISE or a REPLY of what was decided for each association, with the options
// that the client asks for (section 18.3.10).
func (d *v6) reply(t dhcp6.Type) {
	d.header(t)
	d.sent.IAs = d.ias
	v, r := d.scopeFor()
	values := d.settled(v, r)
	d.out.Values = values
	wants := d.msg.Wants()
	for _, val := range values {
		if val.Family != option.V6 || val.Book != "" {
			continue
		}
		if val.Code == option.Preference6 && t == dhcp6.Advertise || slices.Contains(wants, val.Code) && !d.has(val.Code) {
			d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: val.Code, Data: val.Data})
		}
	}
	if slices.ContainsFunc(values, func(v plan.Value) bool { return v.Family == option.V6 && v.Book != "" }) {
		d.addVendor(values, wants)
	}
	d.addSupplied(wants)
	d.addFQDN(wants)
	d.addKey()
	if slices.ContainsFunc(d.out.Answers, func(a Answer) bool { return a.Lease != nil && a.Outcome == Acknowledged }) {
		given := Digest(d.msg, d.sent)
		for i := range d.out.Answers {
			if a := &d.out.Answers[i]; a.Lease != nil && a.Outcome == Acknowledged {
				a.Lease.Given = given
			}
		}
	}
}

// addSupplied adds what the link's own relays supply for a client that asks for it, unless the plan
// says something itself (RFC 6422 section 6).
func (d *v6) addSupplied(wants []uint16) {
	if !d.who.sure {
		return
	}
	for _, o := range d.msg.Supplied() {
		if slices.Contains(wants, o.Code) && !d.has(o.Code) {
			d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: o.Code, Data: slices.Clone(o.Data)})
		}
	}
}

func (d *v6) has(code uint16) bool {
	_, there := d.sent.Options.Get(code)
	return there
}

// addFQDN answers option 39: the server does no DNS updates for the client, and keeps it from
// none (RFC 4704 section 6: N set, S clear, O if that overrides the client's wish).
func (d *v6) addFQDN(wants []uint16) {
	b, ok := d.msg.Options.Get(option.FQDN6)
	if !ok || len(b) < 1 || !slices.Contains(wants, option.FQDN6) || len(b) > 1 && !plan.HostName(d.msg.FQDN()) {
		return
	}
	const s, o, n = 1, 2, 4
	flags := byte(n)
	if b[0]&s != 0 {
		flags |= o
	}
	d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.FQDN6, Data: append([]byte{flags}, b[1:]...)})
}

// told notes what a client is told of an association: address or prefix with its lifetimes, T1
// and T2 (section 14.2). What is answered from the record is as much older as was taken off its
// valid lifetime.
func (d *v6) told(to request.Association, g grant, valid time.Duration, fromRecord bool) {
	granted := valid
	if fromRecord && g.record != nil {
		granted = max(g.record.Granted, valid)
	}
	preferred := d.preferred(g.scope, g.by)
	if granted < option.Infinite {
		preferred = max(0, min(preferred, granted)-(granted-valid))
	}
	d.answer.Time = valid
	l := dhcp6.Lease{Prefix: g.key, Preferred: option.Seconds(preferred), Valid: option.Seconds(valid)}
	ia := dhcp6.IA{Code: dhcp6.CodeOf(to.Object), ID: to.ID, Leases: []dhcp6.Lease{l}}
	ia.T1, ia.T2 = d.times(g, l.Preferred)
	if to.Object == request.Delegation {
		ia.Leases[0].Exclude = d.excluded(g)
	}
	d.ias = append(d.ias, ia)
}

// times are T1 and T2 of what is preferred for some seconds: what the plan says, never later than
// that ends, or half and eight tenths of it (section 14.2).
func (d *v6) times(g grant, preferred uint32) (t1, t2 uint32) {
	if preferred == math.MaxUint32 {
		return preferred, preferred
	}
	t1, t2 = preferred/2, uint32(uint64(preferred)*8/10)
	for _, val := range d.settled(g.scope, g.by) {
		if val.Family != option.V6 || val.Book != option.HeaderBook || len(val.Data) != 4 {
			continue
		}
		switch n := min(binary.BigEndian.Uint32(val.Data), preferred); val.Code {
		case option.RenewalTime6:
			t1 = n
		case option.RebindingTime6:
			t2 = n
		}
	}
	return min(t1, t2), t2
}

// excluded is what of a delegated prefix its router must not use inside, as option 67 has it, for
// a router that asks (RFC 6603 section 4.2): the first prefix of a length.
func (d *v6) excluded(g grant) []byte {
	n := g.scope.PartAt(g.key.Addr())
	if n < 0 || !slices.Contains(d.msg.Wants(), option.PrefixExclude6) {
		return nil
	}
	length := g.scope.Parts[n].Exclude
	if length <= g.key.Bits() {
		return nil
	}
	return append([]byte{byte(length)}, make([]byte, (length-g.key.Bits()+7)/8)...)
}

// addVendor adds what codebooks carry in option 17, for enterprise numbers that the client names
// or if it asks for the option as such (section 21.17).
func (d *v6) addVendor(values []plan.Value, wants []uint16) {
	names := d.msg.Enterprises()
	for _, c := range d.plan.Codebooks() {
		if c.Place != plan.In17 || !slices.Contains(names, c.Enterprise) && !slices.Contains(wants, option.VendorOptions6) {
			continue
		}
		data := binary.BigEndian.AppendUint32(nil, c.Enterprise)
		for _, v := range values {
			if v.Family == option.V6 && v.Book == c.Name {
				data = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(data, v.Code), uint16(len(v.Data)))
				data = append(data, v.Data...)
			}
		}
		if len(data) > 4 {
			d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.VendorOptions6, Data: data})
		}
	}
}

// preferred is for how long an address is preferred, if nothing shortens it: the lease time.
func (d *v6) preferred(v *plan.View, r *plan.Reservation) time.Duration {
	t := v.LeaseFor(r)
	if of := d.ruling(v).lease; of != 0 && (r == nil || r.Lease == 0) {
		t = of
	}
	return t
}

// eachOf6 yields what belongs to the set of what a client was given (see eachOf).
func eachOf6(asked, reply *dhcp6.Message, yield func(part byte, code uint16, data []byte)) {
	for _, o := range asked.Options {
		switch o.Code {
		case option.RequestList6, option.VendorClass6, option.UserClass6, option.SystemType6, option.NetworkDevice6,
			option.VendorOptions6,
			option.ReconfAccept6:
			yield(partAsked, o.Code, o.Data)
		}
	}
	for _, o := range reply.Options {
		if !slices.Contains(OfOneClient6, o.Code) {
			yield(partGiven, o.Code, o.Data)
		}
	}
}

// OfOneClient6 are the options of a reply that are of one client or one moment, or may be its
// relay's.
var OfOneClient6 = []uint16{option.ClientID6, option.ServerID6, option.StatusCode6, option.RapidCommit6, option.FQDN6,
	option.Authentication6, option.Preference6, option.ERPDomain6}

// wanted6 are the codes in option 6.
func wanted6(b []byte) (out []uint16) {
	for ; len(b) >= 2; b = b[2:] {
		out = append(out, binary.BigEndian.Uint16(b))
	}
	return out
}
