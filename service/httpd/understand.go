package httpd

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/node"
	"yarnpost/service/wire"
)

// This file answers why: explanations, conversations, what clients were given.

func (s *Server) registerUnderstand(a huma.API) {
	huma.Register(a, op("explain", http.MethodPost, "/api/explain", "What a hypothetical client would be answered, and each step that leads there; nothing is touched", "understanding"), func(_ context.Context, in *body[api.Ask]) (*body[api.Explanation], error) {
		return respond(s.explain(in.Body))
	})
	huma.Register(a, op("list-exchanges", http.MethodGet, "/api/exchanges", "Recent messages, each with what was decided and why", "understanding"), func(_ context.Context, in *exchangeQuery) (*body[api.Exchanges], error) {
		return s.exchanges(in)
	})
	huma.Register(a, op("export-exchanges", http.MethodGet, "/api/exchanges/pcap", "Recent messages and replies as a capture file", "understanding"), func(_ context.Context, in *exchangeQuery) (*huma.StreamResponse, error) {
		b, err := s.capture(in)
		if err != nil {
			return nil, failure(err)
		}
		return &huma.StreamResponse{Body: func(c huma.Context) {
			c.SetHeader("Content-Type", "application/vnd.tcpdump.pcap")
			c.SetHeader("Content-Disposition", `attachment; filename="conversations.pcap"`)
			c.BodyWriter().Write(b)
		}}, nil
	})
	huma.Register(a, op("show-given", http.MethodGet, "/api/leases/{address}/options", "What the holder of a lease asked with and was last given", "understanding"), func(_ context.Context, in *addressed) (*body[api.GivenOptions], error) {
		return respond(s.given(in.Address))
	})
	huma.Register(a, op("list-unmet", http.MethodGet, "/api/unmet", "Options that clients ask for and nobody set", "understanding"), func(context.Context, *struct{}) (*body[[]api.UnmetOption], error) {
		return respond(s.unmet(), nil)
	})
	huma.Register(a, op("list-stale", http.MethodGet, "/api/stale", "Clients that still hold options from before a change, and when each will renew", "understanding"), func(_ context.Context, in *struct {
		Scope string `query:"scope"`
	}) (*body[api.StaleLeases], error) {
		return respond(s.stale(in.Scope))
	})
	huma.Register(a, op("nudge", http.MethodPost, "/api/nudge", "Make clients renew at once (FORCERENEW, RFC 6704), paced", "leases"), func(ctx context.Context, in *body[api.NudgeRequest]) (*body[api.Nudged], error) {
		return respond(s.nudge(ctx, in.Body))
	})
	huma.Register(a, op("search-history", http.MethodGet, "/api/history", "Who had an address, or where a client has been; newest first", "leases"), func(ctx context.Context, in *historyQuery) (*body[[]api.LeaseEvent], error) {
		return s.history(ctx, in)
	})
}

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
		out.Omitted = append(out.Omitted, x.Plan.Codes().ByCode(c).Name())
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
		text += ": " + reasonText(d.Why, d.Rule)
	}
	return text
}

// reasonText is a reason in a few words, for any client.
func reasonText(why answer.Reason, rule string) string {
	switch why {
	case answer.OtherServer:
		return "it chose another server"
	case answer.BadRequest:
		return "a field that must be there is not"
	case answer.NotServed:
		return "such messages are not answered"
	case answer.V6Only:
		return "it can do without IPv4"
	case answer.Listening:
		return "its link is listened to"
	case answer.StandsAside:
		return "another server answers on its link"
	case answer.WrongNetwork:
		return "it asks for an address of another link"
	}
	text, _ := words(node.Unserved{Reason: why, Rule: rule})
	return text
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
			list = append(list, d.Code)
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
		put(d.Code, data)
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
			s.node.Engine().With(func(table *lease.Table) { l = table.Get(at) })
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
		if l != nil && p.ScopeAt(l.Address) != nil {
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
				via = l.Address
			}
			relayed = l.Relay
			if !at.IsValid() && t == dhcp4.Request || t == dhcp4.Inform && !at.IsValid() { // it renews what it has
				at = l.Address
			}
		}
		if !via.IsValid() && in.Scope == "" {
			for _, v := range p.Scopes() {
				if r := p.ReservationFor(v.ID, m.CHAddr, in.Identifier, nil); r != nil {
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
			if relayed.IsValid() {
				m.GIAddr = relayed
			}
		}
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

// exchangeQuery filters recent messages.
type exchangeQuery struct {
	Since   uint64 `query:"since" doc:"Only what happened behind this number"`
	Client  string `query:"client" doc:"Part of hardware address, identifier or host name"`
	Address string `query:"address" doc:"Address concerned"`
	Scope   string `query:"scope"`
	Relay   string `query:"relay"`
	Outcome string `query:"outcome" doc:"An outcome such as refused, a reason such as pool-empty, or what became of the reply, such as withheld"`
	Limit   int    `query:"limit" default:"100" minimum:"1" maximum:"5000"`
}

// keep makes the filter.
func (q *exchangeQuery) keep() (func(*node.Exchange) bool, error) {
	var at, relay netip.Addr
	var err error
	if q.Address != "" {
		if at, err = addr.ParseAddr(q.Address); err != nil {
			return nil, refused("%v", err)
		}
	}
	if q.Relay != "" {
		if relay, err = addr.ParseAddr(q.Relay); err != nil {
			return nil, refused("relay: %v", err)
		}
	}
	who := strings.ToLower(strings.TrimSpace(q.Client))
	octets := strings.ReplaceAll(who, "-", ":")
	if hw, err := addr.ParseHardware(who); err == nil {
		octets = hw.String()
	}
	return func(x *node.Exchange) bool {
		if at.IsValid() && x.Address != at || relay.IsValid() && x.Relay != relay || q.Scope != "" && !strings.EqualFold(q.Scope, x.Scope) {
			return false
		}
		if q.Outcome != "" && q.Outcome != string(x.Outcome) && q.Outcome != string(x.Why) && q.Outcome != string(x.Fate) {
			return false
		}
		if who == "" || strings.Contains(x.Hardware.String(), octets) || strings.Contains(addr.Hardware(x.Client.Identifier()).String(), octets) {
			return true
		}
		var m dhcp4.Message
		return dhcp4.Decode(&m, x.In) == nil && strings.Contains(strings.ToLower(m.Text(option.Hostname)), who)
	}, nil
}

func (s *Server) exchanges(q *exchangeQuery) (*body[api.Exchanges], error) {
	keep, err := q.keep()
	if err != nil {
		return nil, failure(err)
	}
	list, last := s.node.Engine().Talk.Since(q.Since, q.Limit, keep)
	p := s.node.Engine().Plan()
	out := api.Exchanges{List: []api.Exchange{}, Last: last}
	for i := range list {
		out.List = append(out.List, exchangeView(p, &list[i]))
	}
	return respond(out, nil)
}

func exchangeView(p *plan.Plan, x *node.Exchange) api.Exchange {
	out := api.Exchange{Seq: x.Seq, At: x.At.UTC(), Hardware: x.Hardware.String(), Client: x.Hardware.String(), Outcome: string(x.Outcome), Reason: string(x.Why), Fate: string(x.Fate),
		Address: addrText(x.Address), Scope: x.Scope, Link: x.Link, Relay: addrText(x.Relay), Circuit: circuitText(x.Circuit), Interface: x.Wire, From: x.From.String(), To: x.To.String(),
		Millis: float64(x.Took.Microseconds()) / 1000, Trail: []string{}, Request: decoded(p, x.In, "")}
	if id := x.Client.Identifier(); id != "" {
		out.Client = option.Colons([]byte(id))
	}
	var m dhcp4.Message
	if dhcp4.Decode(&m, x.In) == nil {
		out.Type, out.Hostname = m.Type.String(), m.Text(option.Hostname)
	}
	for _, step := range x.Trail {
		out.Trail = append(out.Trail, step.String())
	}
	if len(x.Out) > 0 {
		reply := decoded(p, x.Out, m.Text(option.ClassID))
		out.Reply, out.ReplyTo = &reply, x.OutTo.String()
	}
	out.Text = string(x.Outcome)
	if x.Address.IsValid() {
		out.Text += " " + x.Address.String()
	}
	if x.Why != "" {
		out.Text += ": " + reasonText(x.Why, x.Rule)
	}
	return out
}

// capture writes messages and replies as a capture file that protocol analysers
// open. Where no frame was seen its addresses are made up of what is known.
func (s *Server) capture(q *exchangeQuery) ([]byte, error) {
	keep, err := q.keep()
	if err != nil {
		return nil, err
	}
	list, _ := s.node.Engine().Talk.Since(q.Since, q.Limit, keep)
	var b bytes.Buffer
	w := pcapgo.NewWriter(&b)
	if err := w.WriteFileHeader(65535, layers.LinkTypeEthernet); err != nil {
		return nil, err
	}
	nobody := net.HardwareAddr{0, 0, 0, 0, 0, 0}
	write := func(at time.Time, fromHW, toHW net.HardwareAddr, from, to netip.AddrPort, data []byte) error {
		if !from.Addr().Is4() {
			from = netip.AddrPortFrom(netip.IPv4Unspecified(), from.Port())
		}
		frame, err := wire.Frame(fromHW, toHW, from, to, data)
		if err != nil {
			return err
		}
		return w.WritePacket(gopacket.CaptureInfo{Timestamp: at, CaptureLength: len(frame), Length: len(frame)}, frame)
	}
	for i := range list {
		x := &list[i]
		client := nobody
		if len(x.Hardware) == 6 && !x.Relay.IsValid() {
			client = net.HardwareAddr(x.Hardware)
		}
		to := x.To
		if !to.Addr().Is4() {
			to = netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), wire.ServerPort)
		}
		from := x.From
		if x.Relay.IsValid() { // as a relay with the usual port sends it
			from = netip.AddrPortFrom(from.Addr(), wire.ServerPort)
		}
		if err := write(x.At, client, nobody, from, to, x.In); err != nil {
			return nil, err
		}
		if len(x.Out) > 0 && x.Fate != node.Withheld {
			back := x.OutTo
			if x.Relay.IsValid() {
				back = netip.AddrPortFrom(back.Addr(), wire.ServerPort)
			}
			if err := write(x.At.Add(x.Took), nobody, client, x.OutFrom, back, x.Out); err != nil {
				return nil, err
			}
		}
	}
	return b.Bytes(), nil
}

func (s *Server) given(address string) (api.GivenOptions, error) {
	at, err := addr.ParseAddr(address)
	if err != nil {
		return api.GivenOptions{}, refused("%v", err)
	}
	var l *lease.Lease
	s.node.Engine().With(func(t *lease.Table) { l = t.Get(at) })
	if l == nil {
		return api.GivenOptions{}, fmt.Errorf("%w: %s has no lease on record", plan.ErrNotFound, at)
	}
	p := s.node.Engine().Plan()
	out := api.GivenOptions{Asked: []api.Setting{}, Given: []api.Setting{}, Unmet: []string{}}
	set, ok := s.node.Engine().Given(l.Given)
	if !ok {
		return out, nil
	}
	out.Known = true
	class, _ := set.Asked.Get(option.ClassID)
	out.Asked, out.Given = optionsView(p, set.Asked, string(class)), optionsView(p, set.Given, string(class))
	for _, o := range set.Header {
		d := option.Header4.ByCode(o.Code)
		out.Given = append(out.Given, api.Setting{Code: o.Code, Book: option.HeaderBook, Name: option.HeaderBook + "/" + d.Name(), Value: d.Type.Format(o.Data), Bytes: hex.EncodeToString(o.Data)})
	}
	for _, c := range set.Unmet() {
		out.Unmet = append(out.Unmet, fmt.Sprintf("%d %s", c, p.Codes().ByCode(c).Name()))
	}
	return out, nil
}

// most lists the keys of counts, highest first, a few at most.
func most(counts map[string]int) []string {
	keys := slices.SortedFunc(maps.Keys(counts), func(a, b string) int { return cmp.Or(counts[b]-counts[a], strings.Compare(a, b)) })
	out := []string{}
	for _, k := range keys[:min(5, len(keys))] {
		name := k
		if name == "" {
			name = "none told"
		}
		out = append(out, fmt.Sprintf("%s (%d)", name, counts[k]))
	}
	return out
}

func (s *Server) unmet() []api.UnmetOption {
	p := s.node.Engine().Plan()
	out := []api.UnmetOption{}
	for _, u := range s.node.Engine().Unmet() {
		out = append(out, api.UnmetOption{Code: u.Code, Name: p.Codes().ByCode(u.Code).Name(), Clients: u.Clients, Scopes: most(u.Scopes), Vendors: most(u.Vendors)})
	}
	return out
}

func (s *Server) staleOf(scope string) (list []node.Stale, active int, err error) {
	p := s.node.Engine().Plan()
	var id plan.ID
	if scope != "" {
		v := p.ScopeNamed(scope)
		if v == nil {
			return nil, 0, unknown("scope", scope)
		}
		id = v.ID
	}
	s.node.EachLease(id, func(l *lease.Lease) {
		if l.Status == lease.Active {
			active++
		}
	})
	list = s.node.Engine().Stale(id)
	slices.SortFunc(list, func(a, b node.Stale) int {
		return cmp.Or(a.Renews.Compare(b.Renews), a.Lease.Address.Compare(b.Lease.Address))
	})
	return list, active, nil
}

func (s *Server) stale(scope string) (api.StaleLeases, error) {
	list, active, err := s.staleOf(scope)
	if err != nil {
		return api.StaleLeases{}, err
	}
	p := s.node.Engine().Plan()
	out := api.StaleLeases{Active: active, Stale: len(list), List: []api.StaleLease{}}
	for i, x := range list {
		if x.Nudge {
			out.CanNudge++
		}
		if i < 1000 {
			out.List = append(out.List, api.StaleLease{Lease: leaseView(p, x.Lease), Renews: x.Renews.UTC(), Moves: x.NotGiven})
		}
	}
	return out, nil
}

func (s *Server) nudge(ctx context.Context, in api.NudgeRequest) (api.Nudged, error) {
	if in.Stale == (in.Address != "") {
		return api.Nudged{}, refused("name one address, or all clients with stale options")
	}
	if in.Address != "" {
		at, err := addr.ParseAddr(in.Address)
		if err != nil {
			return api.Nudged{}, refused("%v", err)
		}
		var l *lease.Lease
		s.node.Engine().With(func(t *lease.Table) { l = t.Get(at) })
		switch {
		case l == nil || l.Status != lease.Active:
			return api.Nudged{}, fmt.Errorf("%w: %s has no active lease", plan.ErrNotFound, at)
		case l.Nonce == "":
			return api.Nudged{}, refused("%s cannot be nudged: its client does not offer FORCERENEW with a nonce (option 145). It renews by itself", at)
		}
		if !in.DryRun {
			if err := s.node.Nudge(l); err != nil {
				return api.Nudged{}, err
			}
		}
		return api.Nudged{Applied: !in.DryRun, Sent: 1, Text: nudgeText(in.DryRun, 1, 0)}, nil
	}
	list, _, err := s.staleOf(in.Scope)
	if err != nil {
		return api.Nudged{}, err
	}
	out := api.Nudged{Applied: !in.DryRun}
	for _, x := range list {
		if x.Nudge {
			out.Sent++
		} else {
			out.Cannot++
		}
	}
	if !in.DryRun {
		s.log.Info("nudging clients with stale options", "clients", out.Sent, "by", who(ctx).Name)
		s.node.NudgeAll(context.WithoutCancel(ctx), list)
	}
	out.Text = nudgeText(in.DryRun, out.Sent, out.Cannot)
	return out, nil
}

func nudgeText(dry bool, sent, cannot int) string {
	verb := "are nudged"
	if dry {
		verb = "would be nudged"
	}
	text := fmt.Sprintf("%d clients %s", sent, verb)
	if sent == 1 {
		text = "1 client " + strings.Replace(verb, "are", "is", 1)
	}
	if cannot > 0 {
		text += fmt.Sprintf("; %d more cannot be, and renew by themselves", cannot)
	}
	return text
}

// historyQuery says which part of history is wanted.
type historyQuery struct {
	Address  string    `query:"address" doc:"Who had this address"`
	Hardware string    `query:"hardware" doc:"Where this client has been"`
	At       time.Time `query:"at" doc:"With an address: who had it at this moment"`
	Before   time.Time `query:"before" doc:"Only what happened before"`
	Limit    int       `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}
