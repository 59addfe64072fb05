package answer

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"

	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/request"
)

// What a client was last given is kept as a set: what it asked with and what it
// got, without what differs from client to client or from time to time. Clients
// of a kind share one set, so a lease only keeps its digest.

// asks are the options of a request that a reply depends on.
var asks = []uint8{option.MaxMessageSize, option.ParameterList, option.ClassID, option.UserClass, option.ClientSystem, 94,
	option.AutoConfig, option.VIVendorClass, option.ForceRenewNonce}

// differ are the options of a reply that are of one client or one moment.
var differ = []uint8{option.MessageType, option.ServerID, option.AddressTime, option.RenewalTime, option.RebindingTime, option.ClientID,
	option.ClientFQDN,
	option.RelayAgent, option.Authentication, option.RapidCommit, option.SubnetSelection, option.VirtualSubnet}

// eachOf yields what belongs to a set, in the order of the wire. Fixed fields
// for booting come as codes of option.HeaderBook.
func eachOf(asked, reply request.Message, yield func(part byte, code uint16, data []byte)) {
	switch asked := asked.(type) {
	case *dhcp4.Message:
		eachOf4(asked, reply.(*dhcp4.Message), yield)
	case *dhcp6.Message:
		eachOf6(asked, reply.(*dhcp6.Message), yield)
	}
}

func eachOf4(asked, reply *dhcp4.Message, yield func(part byte, code uint16, data []byte)) {
	for _, o := range asked.Options {
		if slices.Contains(asks, o.Code) {
			yield(partAsked, uint16(o.Code), o.Data)
		}
	}
	for _, o := range reply.Options {
		if !slices.Contains(differ, o.Code) {
			yield(partGiven, uint16(o.Code), o.Data)
		}
	}
	if !reply.SIAddr.IsUnspecified() {
		a := reply.SIAddr.As4()
		yield(partHeader, option.NextServer, a[:])
	}
	if len(reply.SName) > 0 {
		yield(partHeader, option.ServerName, reply.SName)
	}
	if len(reply.File) > 0 {
		yield(partHeader, option.BootFile, reply.File)
	}
}

// The parts of a set.
const (
	partAsked  = 'a'
	partGiven  = 'g'
	partHeader = 'h'
)

// Digest tells sets of what clients asked with and were given from each other
// (FNV-1a). It is never 0.
func Digest(asked, reply request.Message) uint64 {
	h := uint64(14695981039346656037)
	add := func(b byte) { h = (h ^ uint64(b)) * 1099511628211 }
	eachOf(asked, reply, func(part byte, code uint16, data []byte) {
		add(part)
		if code > 255 {
			add(byte(code >> 8))
		}
		add(byte(code))
		add(byte(len(data) >> 8))
		add(byte(len(data)))
		for _, b := range data {
			add(b)
		}
	})
	return max(h, 1)
}

// Set is what a client asked with and was given.
type Set struct {
	Asked, Given request.Options
	Header       request.Options // fixed fields for booting, by codes of option.HeaderBook
}

// AppendSet encodes what belongs to a set: for each option its part, its code and
// the length of its data in two octets each, big-endian, and the data.
func AppendSet(dst []byte, asked, reply request.Message) []byte {
	eachOf(asked, reply, func(part byte, code uint16, data []byte) {
		dst = append(dst, part, byte(code>>8), byte(code))
		dst = binary.BigEndian.AppendUint16(dst, uint16(len(data)))
		dst = append(dst, data...)
	})
	return dst
}

// ParseSet reads what AppendSet wrote; data points into b.
func ParseSet(b []byte) (s Set, err error) {
	for len(b) > 0 {
		const head = 5
		if len(b) < head || len(b) < head+int(binary.BigEndian.Uint16(b[3:])) {
			return s, fmt.Errorf("a set of given options is cut short")
		}
		n := int(binary.BigEndian.Uint16(b[3:]))
		o := request.Option{Code: binary.BigEndian.Uint16(b[1:]), Data: b[head : head+n]}
		switch b[0] {
		case partAsked:
			s.Asked = append(s.Asked, o)
		case partGiven:
			s.Given = append(s.Given, o)
		case partHeader:
			s.Header = append(s.Header, o)
		}
		b = b[head+n:]
	}
	return s, nil
}

// Unmet lists the options that a client of a family asked for and was not given.
func (s Set) Unmet(of option.Family) (out []uint16) {
	if of == option.V6 {
		wants, _ := s.Asked.Get(option.RequestList6)
		for _, code := range wanted6(wants) {
			if _, got := s.Given.Get(code); !got && !slices.Contains(OfOneClient6, code) && !slices.Contains(out, code) {
				out = append(out, code)
			}
		}
		return out
	}
	wants, _ := s.Asked.Get(option.ParameterList)
	for _, c := range wants {
		code := uint16(c)
		if _, got := s.Given.Get(code); !got && !slices.Contains(differ, c) && !slices.Contains(out, code) {
			out = append(out, code)
		}
	}
	return out
}

// Renewal decides what the holder of a lease would be given if it renewed now,
// asking as it did last. It returns the decision and the digest of what would
// be given; ok is false if it would not be given the address. Into is as with
// Decide.
func Renewal(l *lease.Lease, asked request.Options, w World, into *Decision) (decision *Decision, digest uint64, ok bool) {
	req := Replay(l, asked)
	w.Writable, w.Probed, w.Nonce = true, nil, nil
	decision = Decide(req, w, into)
	if decision.First().Outcome != Acknowledged || decision.Reply == nil {
		return decision, 0, false
	}
	return decision, Digest(req.Message, decision.Reply), true
}

// Replay makes the request with which the holder of a lease would renew it,
// from what is on record of it.
func Replay(l *lease.Lease, asked request.Options) request.Request {
	d := DraftOf(l)
	d.Kind, d.Options = request.Renew, asked
	if d.Family == option.V6 { // by the way that it was heard
		d.Kind, d.Agent = request.Rebind, request.Agent{Relay: l.Relay, Circuit: []byte(l.Circuit)}
		return Hypothetical(d, request.Path{})
	}
	d.Address = l.Address()
	return Hypothetical(d, request.Path{Server: netip.IPv4Unspecified(), Unicast: true})
}

// DraftOf is what is on record of the client of a lease, for a draft of its next message.
func DraftOf(l *lease.Lease) request.Draft {
	if l.Address().Is6() {
		of := request.Association{ID: l.Client.Number, Hints: []netip.Prefix{l.Prefix}}
		if l.Client.Kind == lease.Prefixes {
			of.Object = request.Delegation
		}
		return request.Draft{Family: option.V6, Hardware: l.Hardware, Identifier: []byte(l.Client.ID), Vendor: l.Vendor, Hostname: l.Hostname,
			Wants: []request.Association{of}}
	}
	return request.Draft{Hardware: l.Hardware, Identifier: []byte(l.Client.Identifier()), Vendor: l.Vendor, Hostname: l.Hostname}
}

// Hypothetical makes a request of a draft.
func Hypothetical(d request.Draft, p request.Path) request.Request {
	if d.Family == option.V6 {
		return dhcp6.Compose(d).Request(p)
	}
	return dhcp4.Compose(d).Request(p)
}
