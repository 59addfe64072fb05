package httpd

import (
	"net/netip"
	"strings"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// This file answers what a hypothetical client would get, and why.

var outcomeWords = map[answer.Outcome]string{answer.Offered: "would be offered", answer.Acknowledged: "would be acknowledged", answer.Refused: "would be refused",
	answer.Ignored: "would hear nothing", answer.Informed: "would be told options", answer.Released: "would give up", answer.Declined: "would give up"}

// typed finds a message type by its word.
func typed(word string) (dhcp4.Type, error) {
	switch strings.ToUpper(word) {
	case "", "DISCOVER":
		return dhcp4.Discover, nil
	case "REQUEST":
		return dhcp4.Request, nil
	case "INFORM":
		return dhcp4.Inform, nil
	case "BOOTP":
		return dhcp4.None, nil
	}
	return 0, refused("messages to explain are DISCOVER, REQUEST, INFORM and BOOTP, not %q", word)
}

func (s *Server) explain(in api.Ask) (api.Explanation, error) {
	p := s.node.Engine().Plan()
	req, hw, err := s.asked(p, in)
	if err != nil {
		return api.Explanation{}, err
	}
	x, err := s.node.Engine().Explain(req)
	if err != nil {
		return api.Explanation{}, err
	}
	d := x.Decision
	out := api.Explanation{Outcome: string(d.Outcome), Reason: string(d.Why), Withheld: string(d.Withheld), Hardware: hw.String(), Address: addrText(d.Address),
		Rules: []string{}, Trail: x.Trail, Options: valuesView(x.Plan, x.Values), Omitted: []string{}}
	if d.Scope != nil {
		out.Scope, out.Link = d.Scope.Name, d.Scope.LinkName
	}
	for _, r := range d.Fitted {
		out.Rules = append(out.Rules, r.Name)
	}
	if r := x.Plan.ReservationAt(d.Address); r != nil && (d.Outcome == answer.Offered || d.Outcome == answer.Acknowledged) {
		out.Reservation = r.Name
	}
	sent := map[option.Key]bool{}
	if x.Bytes != nil {
		class := req.Message.Text(option.ClassID)
		reply := decoded(x.Plan, x.Bytes, class)
		out.Reply = &reply
		for _, o := range reply.Options {
			sent[option.Std(o.Code)] = true
		}
		for _, c := range x.Plan.Codebooks() {
			for _, v := range x.Values {
				if v.Book == c.Name {
					sent[v.Key] = c.Place == plan.InVendor && c.Fits(class) || c.Place == plan.In125 && sent[option.Std(option.VIVendorOptions)]
				}
			}
		}
	}
	for i := range out.Options {
		o := &out.Options[i]
		o.Sent = sent[option.Key{Book: o.Book, Code: o.Code}] || o.Book == option.HeaderBook && out.Reply != nil
		if o.Book == "" && o.Code == option.AddressTime {
			out.Lease = o.Value
		}
	}
	for _, c := range x.Omitted {
		out.Omitted = append(out.Omitted, x.Plan.Codes().ByCode(uint16(c)).Name())
	}
	out.Text = outcomeText(d)
	return out, nil
}

func outcomeText(d answer.Decision) string {
	text := outcomeWords[d.Outcome]
	if d.Address.IsValid() && (d.Outcome == answer.Offered || d.Outcome == answer.Acknowledged || d.Outcome == answer.Refused) {
		text += " " + d.Address.String()
	}
	if d.Why != "" {
		text += ": " + d.Why.Words(d.Rule)
	}
	return text
}

// relayFor is a relay through which messages from the link of an address come, as
// far as the plan knows; else this server itself stands for one.
func (s *Server) relayFor(p *plan.Plan, via netip.Addr) netip.Addr {
	if v := p.ScopeAt(via); v != nil && len(v.On.Relays) > 0 {
		return v.On.Relays[0]
	}
	return netip.AddrFrom4([4]byte{127, 0, 0, 1})
}

// asked makes the request of a hypothetical client.
func (s *Server) asked(p *plan.Plan, in api.Ask) (answer.Request, addr.Hardware, error) {
	var req answer.Request
	t, err := typed(in.Message)
	if err != nil {
		return req, "", err
	}
	zero := netip.IPv4Unspecified()
	m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: 1, CIAddr: zero, YIAddr: zero, SIAddr: zero, GIAddr: zero, Type: t}
	if in.Hardware != "" {
		if m.CHAddr, err = addr.ParseHardware(in.Hardware); err != nil {
			return req, "", refused("%v", err)
		}
	}
	have := map[uint8]bool{}
	put := func(code uint8, data []byte) {
		if !have[code] {
			have[code] = true
			m.Options = append(m.Options, dhcp4.Option{Code: code, Data: data})
		}
	}
	if t != dhcp4.None {
		put(option.MessageType, []byte{byte(t)})
	}
	text := func(code uint8, value string) {
		if value != "" {
			put(code, []byte(value))
		}
	}
	text(option.ClassID, in.Vendor)
	text(option.Hostname, in.Hostname)
	if in.UserClass != "" {
		put(option.UserClass, append([]byte{byte(len(in.UserClass))}, in.UserClass...))
	}
	if in.Identifier != "" {
		var id addr.Octets
		if err := id.UnmarshalText([]byte(in.Identifier)); err != nil {
			return req, "", refused("identifier: %v", err)
		}
		put(option.ClientID, []byte(id))
	}
	if len(in.Wants) > 0 {
		var list []byte
		for _, w := range in.Wants {
			d, err := p.Codes().Lookup(w)
			if err != nil {
				return req, "", refused("%v", err)
			}
			list = append(list, byte(d.Code))
		}
		put(option.ParameterList, list)
	}
	for name, value := range in.Options {
		d, err := p.Codes().Lookup(name)
		if err != nil {
			return req, "", refused("%v", err)
		}
		data, err := d.Type.Encode(value)
		if err != nil {
			return req, "", refused("option %s: %v", d.Name(), err)
		}
		put(uint8(d.Code), data)
	}
	at, via, known := netip.Addr{}, netip.Addr{}, false
	var relayed netip.Addr // relay on record
	if in.Address != "" {
		if at, err = addr.ParseAddr(in.Address); err != nil {
			return req, "", refused("%v", err)
		}
	}
	if in.Relay != "" {
		if via, err = addr.ParseAddr(in.Relay); err != nil {
			return req, "", refused("relay: %v", err)
		}
		known = true
	}
	circuit := []byte(in.Circuit)
	if in.Known {
		l, asked := s.node.Engine().Known(string(m.CHAddr))
		if at.IsValid() && m.CHAddr == "" {
			s.node.Engine().With(func(table *lease.Table) { l = table.At(at) })
			if l != nil {
				m.CHAddr = l.Hardware
				if set, ok := s.node.Engine().Given(l.Given); ok {
					asked = set.Asked
				}
			} else if r := p.ReservationAt(at); r != nil {
				m.CHAddr = r.Hardware
			}
			via = at
		}
		if l != nil && p.ScopeAt(l.Address()) != nil {
			if id := l.Client.Identifier(); id != "" {
				put(option.ClientID, []byte(id))
			}
			for _, o := range asked {
				put(o.Code, o.Data)
			}
			text(option.ClassID, l.Vendor)
			text(option.Hostname, l.Hostname)
			if len(circuit) == 0 {
				circuit = []byte(l.Circuit)
			}
			if !via.IsValid() && in.Scope == "" {
				via = l.Address()
			}
			relayed = l.Relay
			if !at.IsValid() && t == dhcp4.Request || t == dhcp4.Inform && !at.IsValid() { // it renews what it has
				at = l.Address()
			}
		}
		if !via.IsValid() && in.Scope == "" {
			for _, v := range p.Scopes() {
				if r := p.ReservationFor(v, m.CHAddr, in.Identifier, nil); r != nil {
					via = r.Address
					break
				}
			}
		}
	}
	if m.CHAddr == "" && in.Identifier == "" {
		m.CHAddr = "\x02\x00\x00\x00\x00\x00" // anybody
	}
	if in.Scope != "" {
		v := p.ScopeNamed(in.Scope)
		if v == nil {
			return req, "", unknown("scope", in.Scope)
		}
		via = v.Subnet.Addr()
	}
	var relay []byte
	if len(circuit) > 0 {
		relay = dhcp4.AppendSub(relay, dhcp4.SubCircuit, circuit[:min(255, len(circuit))])
	}
	if in.Remote != "" {
		relay = dhcp4.AppendSub(relay, dhcp4.SubRemote, []byte(in.Remote)[:min(255, len(in.Remote))])
	}
	req = answer.Request{Message: m, Server: netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	switch {
	case in.Interface != "":
		req.Interface = in.Interface
		for _, i := range s.node.PlanInterfaces() {
			if i.Name == in.Interface {
				req.Prefixes = i.Prefixes
				if len(i.Prefixes) > 0 {
					req.Server = i.Prefixes[0].Addr()
				}
			}
		}
		if req.Prefixes == nil && p.LinkOnInterface(in.Interface) == 0 {
			return req, "", refused("interface %s is not served and belongs to no link", in.Interface)
		}
	case via.IsValid():
		m.GIAddr, req.Unicast = via, true
		if !known { // the link is what matters
			a := via.As4()
			relay = dhcp4.AppendSub(relay, dhcp4.SubLink, a[:])
			if m.GIAddr = s.relayFor(p, via); relayed.IsValid() {
				m.GIAddr = relayed
			}
		}
		req.Server = s.node.Facing(m.GIAddr)
	default:
		return req, "", refused("it is not clear which link the client is on; name a scope, a relay or an interface, or a hardware address that has a lease or a reservation")
	}
	if len(relay) > 0 {
		put(option.RelayAgent, relay)
	}
	if at.IsValid() && (t == dhcp4.Discover || t == dhcp4.Request) && !(t == dhcp4.Request && in.Address == "") {
		a := at.As4()
		put(option.AddressRequest, a[:])
	} else if at.IsValid() {
		m.CIAddr = at
	}
	return req, m.CHAddr, nil
}
