package dhcp6

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/option"
	"yarnpost/core/request"
)

var kindOf = map[Type]request.Kind{Solicit: request.Solicit, Request: request.Select, Confirm: request.Confirm, Renew: request.Renew,
	Rebind: request.Rebind, Release: request.Release, Decline: request.Decline, InformationRequest: request.Inform,
	AddrRegInform: request.Register}

var typeOf = map[request.Kind]Type{request.Solicit: Solicit, request.Select: Request, request.Confirm: Confirm, request.Renew: Renew,
	request.Rebind: Rebind, request.Release: Release, request.Decline: Decline, request.Inform: InformationRequest,
	request.Register: AddrRegInform}

var objectOf = map[uint16]request.Object{option.IANA: request.Address, option.IATA: request.Temporary, option.IAPD: request.Delegation}

// CodeOf is the option in which an association for an object travels.
func CodeOf(o request.Object) uint16 {
	return [...]uint16{request.Address: option.IANA, request.Delegation: option.IAPD, request.Temporary: option.IATA,
		request.Registration: option.IAAddress}[o]
}

// Request is what the client asks. It points into the message, which must not change while
// the request is used.
func (m *Message) Request(p request.Path) request.Request {
	r := request.Request{Path: p, Family: option.V6, Kind: kindOf[m.Type], Hardware: m.hardware(), Identifier: m.ClientID(),
		Transaction: m.Transaction, Message: m}
	r.Chosen, _ = m.Options.Get(option.ServerID6)
	if b, ok := m.Options.Get(option.ElapsedTime6); ok && len(b) == 2 {
		r.Tried = time.Duration(binary.BigEndian.Uint16(b)) * 10 * time.Millisecond
	}
	if m.Relayed() {
		r.Agent = m.agent()
	}
	m.wants, m.hints = m.wants[:0], m.hints[:0]
	for i := range m.IAs {
		ia := &m.IAs[i]
		from := len(m.hints)
		for _, l := range ia.Leases {
			if a := l.Prefix.Addr(); !a.IsUnspecified() || l.Prefix.Bits() < 128 && l.Prefix.Bits() > 0 {
				m.hints = append(m.hints, l.Prefix)
			}
		}
		m.wants = append(m.wants, request.Association{Object: objectOf[ia.Code], ID: ia.ID, Hints: m.hints[from:len(m.hints):len(m.hints)]})
	}
	if m.Type == AddrRegInform {
		m.register()
	}
	r.Wants = m.wants
	return r
}

// register puts the address that an ADDR-REG-INFORM registers in place of what it asks for (RFC
// 9686 section 4.2): nothing, unless there is exactly one.
func (m *Message) register() {
	m.wants = m.wants[:0]
	for _, o := range m.Options {
		if o.Code != option.IAAddress {
			continue
		}
		if len(o.Data) < 24 || len(m.wants) > 0 {
			m.wants = m.wants[:0]
			return
		}
		m.hints = append(m.hints[:0], netip.PrefixFrom(netip.AddrFrom16([16]byte(o.Data)), 128))
		m.wants = append(m.wants, request.Association{Object: request.Registration, Hints: m.hints,
			Time: time.Duration(binary.BigEndian.Uint32(o.Data[20:])) * time.Second})
	}
}

// agent is what relays say of where the client is: the link as the first relay from the client
// has it that names one (lightweight relays do not, RFC 6221 section 5.3.1), the port as the
// first that names that.
func (m *Message) agent() (a request.Agent) {
	of := func(r *Relay, code uint16) []byte {
		b, _ := r.Options.Get(code)
		return b
	}
	for i := len(m.Relays) - 1; i >= 0; i-- {
		r := &m.Relays[i]
		if !a.Relay.IsValid() && !r.Link.IsUnspecified() {
			a.Relay = r.Link
		}
		if a.Circuit == nil {
			a.Circuit = of(r, option.InterfaceID6)
		}
		if a.Remote == nil {
			a.Remote = of(r, option.RemoteID6)
		}
		if a.Subscriber == nil {
			a.Subscriber = of(r, option.Subscriber6)
		}
	}
	return a
}

// Anew implements request.Message: a SOLICIT that says what this message says.
func (m *Message) Anew(p request.Path) request.Request {
	n := *m
	n.Type, n.Options, n.IAs, n.wants, n.hints = Solicit, nil, nil, nil, nil
	for _, o := range m.Options {
		switch o.Code {
		case option.ServerID6, option.IANA, option.IATA, option.IAPD, option.IAAddress:
		default:
			n.Options = append(n.Options, o)
		}
	}
	for _, ia := range m.IAs {
		n.IAs = append(n.IAs, IA{Code: ia.Code, ID: ia.ID})
	}
	return n.Request(p)
}

// Compose makes the message of a draft.
func Compose(d request.Draft) *Message {
	m := &Message{Type: typeOf[d.Kind], Transaction: 1}
	put := func(code uint16, data []byte) {
		if _, there := m.Options.Get(code); !there && len(data) > 0 {
			m.Options = append(m.Options, Option{Code: code, Data: data})
		}
	}
	put(option.ClientID6, d.Identifier)
	m.Options = append(m.Options, d.Options...)
	if d.Hostname != "" {
		put(option.FQDN6, FQDN(d.Hostname))
	}
	if d.Vendor != "" {
		put(option.VendorClass6, VendorClass(d.Vendor))
	}
	if d.Class != "" {
		put(option.UserClass6, counted16(nil, d.Class))
	}
	var wants []byte
	for _, code := range d.Asks {
		wants = binary.BigEndian.AppendUint16(wants, code)
	}
	put(option.RequestList6, wants)
	for _, o := range d.Recorded {
		put(o.Code, o.Data)
	}
	if d.Kind == request.Select || d.Kind == request.Renew || d.Kind == request.Release || d.Kind == request.Decline {
		put(option.ServerID6, d.ServerDUID)
	}
	associations := d.Wants
	if len(associations) == 0 && d.Kind != request.Inform {
		one := request.Association{}
		if d.Address.Is6() {
			one.Hints = []netip.Prefix{netip.PrefixFrom(d.Address, 128)}
		}
		associations = []request.Association{one}
	}
	for _, of := range associations {
		ia := IA{Code: CodeOf(of.Object), ID: of.ID}
		for _, k := range of.Hints {
			ia.Leases = append(ia.Leases, Lease{Prefix: k})
		}
		m.IAs = append(m.IAs, ia)
	}
	if d.Relay.Is6() {
		r := Relay{Link: d.Relay, Peer: linkLocal}
		agent := func(code uint16, data []byte) {
			if len(data) > 0 {
				r.Options = append(r.Options, Option{Code: code, Data: data})
			}
		}
		agent(option.InterfaceID6, d.Circuit)
		agent(option.RemoteID6, d.Remote)
		agent(option.Subscriber6, d.Subscriber)
		if len(d.Hardware) > 0 {
			agent(option.ClientLinkLayer6, append([]byte{0, 1}, d.Hardware...))
		}
		m.Relays = []Relay{r}
	}
	return m
}

var linkLocal = netip.MustParseAddr("fe80::1")

func counted16(b []byte, text string) []byte {
	return append(binary.BigEndian.AppendUint16(b, uint16(len(text))), text...)
}

// VendorClass is data of option 16 for a class of no enterprise.
func VendorClass(text string) []byte { return counted16([]byte{0, 0, 0, 0}, text) }

// FQDN is data of option 39 for a host name, or nil for what is none.
func FQDN(name string) []byte {
	b := []byte{0}
	for len(name) > 0 {
		label, rest, _ := cut(name)
		if len(label) == 0 || len(label) > 63 {
			return nil
		}
		b = append(append(b, byte(len(label))), label...)
		name = rest
	}
	return slices.Clip(b)
}

func cut(name string) (label, rest string, more bool) {
	for i := range len(name) {
		if name[i] == '.' {
			return name[:i], name[i+1:], true
		}
	}
	return name, "", false
}
