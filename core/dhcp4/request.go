package dhcp4

import (
	"iter"
	"net/netip"
	"time"

	"yarnpost/core/option"
	"yarnpost/core/request"
)

// Request is what the client asks. It points into the message, which must not change while
// the request is used. What stands in option 82 without a relay's address is nothing.
func (m *Message) Request(p request.Path) request.Request {
	r := request.Request{Path: p, Family: option.V4, Kind: m.kind(&p), Hardware: m.CHAddr, Tried: time.Duration(m.Secs) * time.Second,
		Transaction: m.XID, Message: m}
	r.Identifier, _ = m.Options.Get(option.ClientID)
	r.Chosen, _ = m.Options.Get(option.ServerID)
	if m.relayed() {
		r.Agent = request.Agent{Relay: m.GIAddr, Link: m.Agent.Link, Circuit: m.Agent.Circuit, Remote: m.Agent.Remote,
			Subscriber: m.Agent.Subscriber}
	}
	of := &m.wants[0]
	*of = request.Association{}
	if a := m.concerned(r.Kind); a.IsValid() && !a.IsUnspecified() {
		m.hint[0] = netip.PrefixFrom(a, 32)
		of.Hints = m.hint[:]
	}
	if s, ok := m.Options.Uint32(option.AddressTime); ok {
		of.Time = max(option.FromSeconds(s), time.Second)
	}
	r.Wants = m.wants[:]
	return r
}

// relayed reports whether a relay passed the message on.
func (m *Message) relayed() bool { return m.GIAddr.IsValid() && !m.GIAddr.IsUnspecified() }

// kind tells what the message is for; of the four uses of DHCPREQUEST, which (RFC 2131
// section 4.3.2). A relay can say that the client sent it straight to a server (RFC 5010).
func (m *Message) kind(p *request.Path) request.Kind {
	switch m.Type {
	case None:
		return request.Boot
	case Discover:
		return request.Solicit
	case Request:
		switch _, chosen := m.Options.Addr(option.ServerID); {
		case chosen:
			return request.Select
		case m.CIAddr.IsUnspecified():
			return request.Confirm
		case p.Unicast && !m.relayed(), m.relayed() && m.Agent.Unicast:
			return request.Renew
		}
		return request.Rebind
	case Decline:
		return request.Decline
	case Release:
		return request.Release
	case Inform:
		return request.Inform
	}
	return request.Other
}

// concerned is the address that the message is about, or the zero address.
func (m *Message) concerned(k request.Kind) netip.Addr {
	switch k {
	case request.Renew, request.Rebind, request.Release, request.Inform:
		return m.CIAddr
	}
	a, asks := m.Options.Addr(option.AddressRequest)
	if !asks && k == request.Select {
		return m.CIAddr
	}
	return a
}

// Name implements request.Message.
func (m *Message) Name() string { return m.Type.String() }

// Option implements request.Message.
func (m *Message) Option(code uint16) ([]byte, bool) {
	if code > 255 {
		return nil, false
	}
	return m.Options.Get(uint8(code))
}

// Each implements request.Message.
func (m *Message) Each() iter.Seq2[uint16, []byte] { return m.Options.Each() }

// Each gives the options in the order of the wire.
func (o Options) Each() iter.Seq2[uint16, []byte] {
	return func(yield func(uint16, []byte) bool) {
		for i := range o {
			if !yield(uint16(o[i].Code), o[i].Data) {
				return
			}
		}
	}
}

// Wants implements request.Message (option 55).
func (m *Message) Wants() []uint16 {
	b, _ := m.Options.Get(option.ParameterList)
	out := make([]uint16, len(b))
	for i, c := range b {
		out[i] = uint16(c)
	}
	return out
}

// Hostname implements request.Message (option 12).
func (m *Message) Hostname() string { return m.Text(option.Hostname) }

// Vendor implements request.Message (option 60).
func (m *Message) Vendor() string { return m.Text(option.ClassID) }

// Classes implements request.Message (option 77).
func (m *Message) Classes() []byte {
	b, _ := m.Options.Get(option.UserClass)
	return b
}

// ClassList reads option 77 (RFC 3004). Clients that send plain text instead of counted
// classes, which are many, have one class.
func (m *Message) ClassList(b []byte) []string {
	out := []string{}
	for rest := b; len(rest) > 0; {
		n := int(rest[0])
		if n == 0 || 1+n > len(rest) {
			return []string{option.Show(b)}
		}
		out = append(out, option.Show(rest[1:1+n]))
		rest = rest[1+n:]
	}
	return out
}

// Anew implements request.Message: a DISCOVER that says what this message says.
func (m *Message) Anew(p request.Path) request.Request {
	n := *m
	n.Type, n.CIAddr, n.Options = Discover, netip.IPv4Unspecified(), Options{{option.MessageType, []byte{byte(Discover)}}}
	for _, o := range m.Options {
		switch o.Code {
		case option.MessageType, option.ServerID, option.AddressRequest:
		default:
			n.Options = append(n.Options, o)
		}
	}
	return n.Request(p)
}

// AppendTo implements request.Reply; see Append.
func (m *Message) AppendTo(dst []byte, limit int) (b []byte, omitted []uint16, err error) {
	b, left, err := Append(dst, m, limit)
	for _, code := range left {
		omitted = append(omitted, uint16(code))
	}
	return b, omitted, err
}

var typeOf = map[request.Kind]Type{request.Boot: None, request.Solicit: Discover, request.Select: Request, request.Confirm: Request,
	request.Renew: Request, request.Rebind: Request, request.Release: Release, request.Decline: Decline, request.Inform: Inform}

// Compose makes the message of a draft. Texts and octets that are longer than an option or
// a sub-option are cut.
func Compose(d request.Draft) *Message {
	zero := netip.IPv4Unspecified()
	m := &Message{Op: BootRequest, HType: 1, XID: 1, CIAddr: zero, YIAddr: zero, SIAddr: zero, GIAddr: zero, CHAddr: d.Hardware,
		Type: typeOf[d.Kind]}
	if m.Type != None {
		m.put(option.MessageType, []byte{byte(m.Type)})
	}
	m.putAll(d.Options)
	m.say(option.ClientID, d.Identifier)
	m.say(option.ClassID, []byte(d.Vendor))
	m.say(option.Hostname, []byte(d.Hostname))
	if d.Class != "" {
		class := d.Class[:min(255, len(d.Class))]
		m.say(option.UserClass, append([]byte{byte(len(class))}, class...))
	}
	var wants []byte
	for _, code := range d.Asks {
		wants = append(wants, byte(code))
	}
	m.say(option.ParameterList, wants)
	m.putAll(d.Recorded)
	if d.Server.Is4() {
		m.put(option.ServerID, d.Server.AsSlice())
	}
	if d.Address.Is4() {
		switch d.Kind {
		case request.Renew, request.Rebind, request.Release, request.Inform, request.Boot:
			m.CIAddr = d.Address
		default:
			m.put(option.AddressRequest, d.Address.AsSlice())
		}
	}
	if d.Relay.Is4() {
		m.GIAddr = d.Relay
		if b := agentOf(d.Agent); len(b) > 0 {
			m.PutAgent(b)
		}
	}
	return m
}

// PutAgent adds option 82, as a relay does.
func (m *Message) PutAgent(b []byte) {
	m.Options = append(m.Options, Option{option.RelayAgent, b})
	m.Agent = ParseRelay(b)
}

func (m *Message) putAll(options request.Options) {
	for _, o := range options {
		if o.Code > 0 && o.Code < option.End {
			m.put(uint8(o.Code), o.Data)
		}
	}
}

// put adds an option, unless it is there.
func (m *Message) put(code uint8, data []byte) {
	if _, there := m.Options.Get(code); !there {
		m.Options = append(m.Options, Option{code, data})
	}
}

// say is put for what is not empty.
func (m *Message) say(code uint8, data []byte) {
	if len(data) > 0 {
		m.put(code, data)
	}
}

// agentOf is option 82 for what a relay says.
func agentOf(a request.Agent) (b []byte) {
	sub := func(code uint8, data []byte) {
		if len(data) > 0 {
			b = AppendSub(b, code, data[:min(255, len(data))])
		}
	}
	sub(SubCircuit, a.Circuit)
	sub(SubRemote, a.Remote)
	sub(SubSubscriber, a.Subscriber)
	if a.Link.Is4() {
		sub(SubLink, a.Link.AsSlice())
	}
	return b
}
