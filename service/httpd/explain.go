package httpd

import (
	"cmp"
	"net/netip"
	"strings"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// This file answers what a hypothetical client would get, and why.

var outcomeWords = map[answer.Outcome]string{answer.Offered: "would be offered", answer.Acknowledged: "would be acknowledged",
	answer.Refused: "would be refused",
	answer.Ignored: "would hear nothing", answer.Informed: "would be told options", answer.Released: "would give up",
	answer.Declined: "would give up"}

// typed finds a message type by its word.
func typed(word string) (request.Kind, error) {
	switch strings.ToUpper(word) {
	case "", "DISCOVER":
		return request.Solicit, nil
	case "REQUEST":
		return request.Renew, nil
	case "INFORM":
		return request.Inform, nil
	case "BOOTP":
		return request.Boot, nil
	}
	return 0, plan.Refused("messages to explain are DISCOVER, REQUEST, INFORM and BOOTP, not %q", word)
}

func (s *Server) explain(in api.Ask) (api.Explanation, error) {
	p := s.Engine.Plan()
	req, err := s.asked(p, in)
	if err != nil {
		return api.Explanation{}, err
	}
	x, err := s.Reports.Explain(req)
	if err != nil {
		return api.Explanation{}, err
	}
	d := x.Decision.First()
	out := api.Explanation{Outcome: string(d.Outcome), Reason: string(d.Why), Withheld: string(x.Decision.Withheld),
		Hardware: req.Hardware.String(), Address: addr.FormatKey(d.Key),
		Rules: []string{}, Trail: x.Trail, Options: valuesView(x.Plan, x.Values), Omitted: []string{}}
	if d.Scope != nil {
		out.Scope, out.Link = d.Scope.Name, d.Scope.LinkName
	}
	for _, r := range d.Fitted {
		out.Rules = append(out.Rules, r.Name)
	}
	if r := x.Plan.ReservationOf(d.Key); r != nil && (d.Outcome == answer.Offered || d.Outcome == answer.Acknowledged) {
		out.Reservation = r.Name
	}
	sent := map[option.Key]bool{}
	if x.Bytes != nil {
		class := req.Message.Vendor()
		reply := decoded(x.Plan, req.Family, x.Bytes, class)
		out.Reply = &reply
		for _, o := range reply.Options {
			sent[option.Key{Family: req.Family, Code: o.Code}] = true
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
		o.Sent = sent[option.Key{Family: req.Family, Book: o.Book, Code: o.Code}] || o.Book == option.HeaderBook && out.Reply != nil
		if o.Book == "" && o.Code == option.AddressTime {
			out.Lease = o.Value
		}
	}
	for _, c := range x.Omitted {
		out.Omitted = append(out.Omitted, x.Plan.KeyName(option.Key{Family: req.Family, Code: c}))
	}
	out.Text = outcomeText(d)
	return out, nil
}

func outcomeText(d *answer.Answer) string {
	text := outcomeWords[d.Outcome]
	if d.Key.IsValid() && (d.Outcome == answer.Offered || d.Outcome == answer.Acknowledged || d.Outcome == answer.Refused) {
		text += " " + addr.FormatKey(d.Key)
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
func (s *Server) asked(p *plan.Plan, in api.Ask) (request.Request, error) {
	if isSix(p, in) {
		return s.asked6(p, in)
	}
	q, err := newQuestion(p, in)
	if err == nil && in.Known {
		s.recollect(q, in)
	}
	if err == nil {
		err = s.direct(q, in)
	}
	if err != nil {
		return request.Request{}, err
	}
	if q.Kind == request.Renew && in.Address != "" {
		q.Kind = request.Confirm
	}
	return answer.Hypothetical(q.Draft, q.path), nil
}

// question is a hypothetical request in the making.
type question struct {
	request.Draft
	plan    *plan.Plan
	path    request.Path
	via     netip.Addr // relay's address, or any of its link
	exact   bool       // via is the relay's own
	relayed netip.Addr // relay on record
}

// newQuestion takes what is said of the client itself.
func newQuestion(p *plan.Plan, in api.Ask) (*question, error) {
	kind, err := typed(in.Message)
	if err != nil {
		return nil, err
	}
	q := &question{plan: p, Draft: request.Draft{Kind: kind, Vendor: in.Vendor, Hostname: in.Hostname, Class: in.UserClass,
		Agent: request.Agent{Circuit: []byte(in.Circuit), Remote: []byte(in.Remote)}}}
	if in.Hardware != "" {
		if q.Hardware, err = addr.ParseHardware(in.Hardware); err != nil {
			return nil, plan.Refused("%v", err)
		}
	}
	if in.Identifier != "" {
		var id addr.Octets
		if err := id.UnmarshalText([]byte(in.Identifier)); err != nil {
			return nil, plan.Refused("identifier: %v", err)
		}
		q.Identifier = []byte(id)
	}
	if in.Address != "" {
		if q.Address, err = addr.ParseAddr(in.Address); err != nil {
			return nil, plan.Refused("%v", err)
		}
	}
	if in.Relay != "" {
		if q.via, err = addr.ParseAddr(in.Relay); err != nil {
			return nil, plan.Refused("relay: %v", err)
		}
		q.exact = true
	}
	return q, q.options(in)
}

// options takes the options that it asks for and sends.
func (q *question) options(in api.Ask) error {
	for _, w := range in.Wants {
		d, err := q.plan.Codes().Lookup(w)
		if err != nil {
			return plan.Refused("%v", err)
		}
		q.Asks = append(q.Asks, d.Code)
	}
	for name, value := range in.Options {
		d, err := q.plan.Codes().Lookup(name)
		if err != nil {
			return plan.Refused("%v", err)
		}
		data, err := d.Type.Encode(value)
		if err != nil {
			return plan.Refused("option %s: %v", d.Name(), err)
		}
		q.Options = append(q.Options, request.Option{Code: d.Code, Data: data})
	}
	return nil
}

// recollect adds what is on record of the client.
func (s *Server) recollect(q *question, in api.Ask) {
	p := q.plan
	l, asked := s.Reports.Known(string(q.Hardware))
	if q.Address.IsValid() && q.Hardware == "" {
		s.Engine.With(func(table *lease.Table) { l = table.At(q.Address) })
		if l != nil {
			q.Hardware = l.Hardware
			if set, ok := s.Engine.Given(l.Given); ok {
				asked = set.Asked
			}
		} else if r := p.ReservationAt(q.Address); r != nil {
			q.Hardware = r.Hardware
		}
		q.via = q.Address
	}
	if l != nil && p.ScopeAt(l.Address()) != nil {
		q.recall(l, asked)
		if !q.via.IsValid() && in.Scope == "" {
			q.via = l.Address()
		}
		q.relayed = l.Relay
		if !q.Address.IsValid() && (q.Kind == request.Renew || q.Kind == request.Inform) { // it renews what it has
			q.Address = l.Address()
		}
	}
	if q.via.IsValid() || in.Scope != "" {
		return
	}
	for _, v := range p.Scopes() {
		if r := p.ReservationFor(v, q.Hardware, in.Identifier, nil); r != nil {
			q.via = r.Address
			return
		}
	}
}

// recall fills in what is not said of the client and is on record of it.
func (q *question) recall(l *lease.Lease, asked request.Options) {
	if len(q.Identifier) == 0 {
		q.Identifier = []byte(l.Client.Identifier())
	}
	if len(q.Circuit) == 0 {
		q.Circuit = []byte(l.Circuit)
	}
	q.Recorded = asked
	q.Vendor, q.Hostname = cmp.Or(q.Vendor, l.Vendor), cmp.Or(q.Hostname, l.Hostname)
}

// direct says which way it comes.
func (s *Server) direct(q *question, in api.Ask) error {
	p := q.plan
	if q.Hardware == "" && in.Identifier == "" {
		q.Hardware = "\x02\x00\x00\x00\x00\x00" // anybody
	}
	if in.Scope != "" {
		v := p.ScopeNamed(in.Scope)
		if v == nil {
			return plan.Missing("scope", in.Scope)
		}
		q.via = v.Subnet.Addr()
	}
	q.path.Server = netip.AddrFrom4([4]byte{127, 0, 0, 1})
	switch {
	case in.Interface != "":
		q.path.Interface = in.Interface
		for _, i := range s.Host.PlanInterfaces() {
			if i.Name == in.Interface {
				q.path.Prefixes = i.Prefixes
				if len(i.Prefixes) > 0 && i.Prefixes[0].Addr().Is4() {
					q.path.Server = i.Prefixes[0].Addr()
				}
			}
		}
		if q.path.Prefixes == nil && p.LinkOnInterface(in.Interface) == 0 {
			return plan.Refused("interface %s is not served and belongs to no link", in.Interface)
		}
	case q.via.IsValid():
		q.Relay, q.path.Unicast = q.via, true
		if !q.exact { // the link is what matters
			q.Link = q.via
			if q.Relay = s.relayFor(p, q.via); q.relayed.IsValid() {
				q.Relay = q.relayed
			}
		}
		q.path.Server = s.Host.Facing(q.Relay)
	default:
		return plan.Refused("it is not clear which link the client is on; name a scope, a relay or an interface, " +
			"or a hardware address that has a lease or a reservation")
	}
	return nil
}
