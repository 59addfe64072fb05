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

var outcomeWords = map[answer.Outcome]string{answer.Offered: "would be offered", answer.Acknowledged: "would be acknowledged",
	answer.Refused: "would be refused",
	answer.Ignored: "would hear nothing", answer.Informed: "would be told options", answer.Released: "would give up",
	answer.Declined: "would give up"}

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
	p := s.Engine.Plan()
	req, hw, err := s.asked(p, in)
	if err != nil {
		return api.Explanation{}, err
	}
	x, err := s.Reports.Explain(req)
	if err != nil {
		return api.Explanation{}, err
	}
	d := x.Decision
	out := api.Explanation{Outcome: string(d.Outcome), Reason: string(d.Why), Withheld: string(d.Withheld), Hardware: hw.String(),
		Address: addrText(d.Address),
		Rules:   []string{}, Trail: x.Trail, Options: valuesView(x.Plan, x.Values), Omitted: []string{}}
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
	q, err := newQuestion(p, in)
	if err == nil && in.Known {
		s.recollect(q, in)
	}
	if err == nil {
		err = s.direct(q, in)
	}
	if err != nil {
		return answer.Request{}, "", err
	}
	if len(q.relay) > 0 {
		q.put(option.RelayAgent, q.relay)
	}
	t, at := q.message.Type, q.at
	if at.IsValid() && (t == dhcp4.Discover || t == dhcp4.Request) && !(t == dhcp4.Request && in.Address == "") {
		a := at.As4()
		q.put(option.AddressRequest, a[:])
	} else if at.IsValid() {
		q.message.CIAddr = at
	}
	return q.request, q.message.CHAddr, nil
}

// question is a hypothetical request in the making.
type question struct {
	plan    *plan.Plan
	request answer.Request
	message *dhcp4.Message
	have    map[uint8]bool // options it has
	at      netip.Addr     // address it is about, if valid
	via     netip.Addr     // relay's address, or any of its link
	exact   bool           // via is the relay's own
	relayed netip.Addr     // relay on record
	circuit []byte
	relay   []byte // option 82
}

// put adds an option, unless it is there.
func (q *question) put(code uint8, data []byte) {
	if !q.have[code] {
		q.have[code] = true
		q.message.Options = append(q.message.Options, dhcp4.Option{Code: code, Data: data})
	}
}

func (q *question) text(code uint8, value string) {
	if value != "" {
		q.put(code, []byte(value))
	}
}

// newQuestion takes what is said of the client itself.
func newQuestion(p *plan.Plan, in api.Ask) (*question, error) {
	t, err := typed(in.Message)
	if err != nil {
		return nil, err
	}
	zero := netip.IPv4Unspecified()
	q := &question{plan: p, have: map[uint8]bool{}, circuit: []byte(in.Circuit)}
	q.message = &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: 1, CIAddr: zero, YIAddr: zero, SIAddr: zero, GIAddr: zero, Type: t}
	if in.Hardware != "" {
		if q.message.CHAddr, err = addr.ParseHardware(in.Hardware); err != nil {
			return nil, refused("%v", err)
		}
	}
	if t != dhcp4.None {
		q.put(option.MessageType, []byte{byte(t)})
	}
	q.text(option.ClassID, in.Vendor)
	q.text(option.Hostname, in.Hostname)
	if in.UserClass != "" {
		q.put(option.UserClass, append([]byte{byte(len(in.UserClass))}, in.UserClass...))
	}
	if in.Identifier != "" {
		var id addr.Octets
		if err := id.UnmarshalText([]byte(in.Identifier)); err != nil {
			return nil, refused("identifier: %v", err)
		}
		q.put(option.ClientID, []byte(id))
	}
	if in.Address != "" {
		if q.at, err = addr.ParseAddr(in.Address); err != nil {
			return nil, refused("%v", err)
		}
	}
	if in.Relay != "" {
		if q.via, err = addr.ParseAddr(in.Relay); err != nil {
			return nil, refused("relay: %v", err)
		}
		q.exact = true
	}
	return q, q.options(in)
}

// options takes the options that it asks for and sends.
func (q *question) options(in api.Ask) error {
	if len(in.Wants) > 0 {
		var list []byte
		for _, w := range in.Wants {
			d, err := q.plan.Codes().Lookup(w)
			if err != nil {
				return refused("%v", err)
			}
			list = append(list, byte(d.Code))
		}
		q.put(option.ParameterList, list)
	}
	for name, value := range in.Options {
		d, err := q.plan.Codes().Lookup(name)
		if err != nil {
			return refused("%v", err)
		}
		data, err := d.Type.Encode(value)
		if err != nil {
			return refused("option %s: %v", d.Name(), err)
		}
		q.put(uint8(d.Code), data)
	}
	return nil
}

// recollect adds what is on record of the client.
func (s *Server) recollect(q *question, in api.Ask) {
	m, p := q.message, q.plan
	l, asked := s.Reports.Known(string(m.CHAddr))
	if q.at.IsValid() && m.CHAddr == "" {
		s.Engine.With(func(table *lease.Table) { l = table.At(q.at) })
		if l != nil {
			m.CHAddr = l.Hardware
			if set, ok := s.Engine.Given(l.Given); ok {
				asked = set.Asked
			}
		} else if r := p.ReservationAt(q.at); r != nil {
			m.CHAddr = r.Hardware
		}
		q.via = q.at
	}
	if l != nil && p.ScopeAt(l.Address()) != nil {
		if id := l.Client.Identifier(); id != "" {
			q.put(option.ClientID, []byte(id))
		}
		for _, o := range asked {
			q.put(o.Code, o.Data)
		}
		q.text(option.ClassID, l.Vendor)
		q.text(option.Hostname, l.Hostname)
		if len(q.circuit) == 0 {
			q.circuit = []byte(l.Circuit)
		}
		if !q.via.IsValid() && in.Scope == "" {
			q.via = l.Address()
		}
		q.relayed = l.Relay
		if !q.at.IsValid() && (m.Type == dhcp4.Request || m.Type == dhcp4.Inform) { // it renews what it has
			q.at = l.Address()
		}
	}
	if q.via.IsValid() || in.Scope != "" {
		return
	}
	for _, v := range p.Scopes() {
		if r := p.ReservationFor(v, m.CHAddr, in.Identifier, nil); r != nil {
			q.via = r.Address
			return
		}
	}
}

// direct says which way it comes.
func (s *Server) direct(q *question, in api.Ask) error {
	m, p := q.message, q.plan
	if m.CHAddr == "" && in.Identifier == "" {
		m.CHAddr = "\x02\x00\x00\x00\x00\x00" // anybody
	}
	if in.Scope != "" {
		v := p.ScopeNamed(in.Scope)
		if v == nil {
			return unknown("scope", in.Scope)
		}
		q.via = v.Subnet.Addr()
	}
	if len(q.circuit) > 0 {
		q.relay = dhcp4.AppendSub(q.relay, dhcp4.SubCircuit, q.circuit[:min(255, len(q.circuit))])
	}
	if in.Remote != "" {
		q.relay = dhcp4.AppendSub(q.relay, dhcp4.SubRemote, []byte(in.Remote)[:min(255, len(in.Remote))])
	}
	q.request = answer.Request{Message: m, Server: netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	switch {
	case in.Interface != "":
		q.request.Interface = in.Interface
		for _, i := range s.Host.PlanInterfaces() {
			if i.Name == in.Interface {
				q.request.Prefixes = i.Prefixes
				if len(i.Prefixes) > 0 {
					q.request.Server = i.Prefixes[0].Addr()
				}
			}
		}
		if q.request.Prefixes == nil && p.LinkOnInterface(in.Interface) == 0 {
			return refused("interface %s is not served and belongs to no link", in.Interface)
		}
	case q.via.IsValid():
		m.GIAddr, q.request.Unicast = q.via, true
		if !q.exact { // the link is what matters
			a := q.via.As4()
			q.relay = dhcp4.AppendSub(q.relay, dhcp4.SubLink, a[:])
			if m.GIAddr = s.relayFor(p, q.via); q.relayed.IsValid() {
				m.GIAddr = q.relayed
			}
		}
		q.request.Server = s.Host.Facing(m.GIAddr)
	default:
		return refused("it is not clear which link the client is on; name a scope, a relay or an interface, " +
			"or a hardware address that has a lease or a reservation")
	}
	return nil
}
