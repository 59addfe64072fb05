package httpd

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// isSix reports whether a question is about a client of IPv6: by its DUID, by an address, a relay
// or a scope of IPv6, or by the name of its message.
func isSix(p *plan.Plan, in api.Ask) bool {
	v := p.ScopeNamed(in.Scope)
	return in.DUID != "" || strings.Contains(in.Address+in.Relay, ":") || v != nil && v.Family() == option.V6 || kinds6[in.Message] != 0
}

var kinds6 = map[string]request.Kind{"SOLICIT": request.Solicit, "CONFIRM": request.Confirm, "RENEW": request.Renew,
	"REBIND": request.Rebind, "INFORMATION-REQUEST": request.Inform}

// asked6 makes the request of a hypothetical client of IPv6.
func (s *Server) asked6(p *plan.Plan, in api.Ask) (none request.Request, err error) {
	kind := cmp.Or(kinds6[in.Message], request.Solicit)
	if in.Message == "REQUEST" {
		kind = request.Select
	}
	d := request.Draft{Family: option.V6, Kind: kind, Vendor: in.Vendor, Hostname: in.Hostname, Class: in.UserClass,
		ServerDUID: []byte(s.Engine.DUID()), Agent: request.Agent{Circuit: []byte(in.Circuit), Remote: []byte(in.Remote)}}
	if in.Hardware != "" {
		if d.Hardware, err = addr.ParseHardware(in.Hardware); err != nil {
			return none, plan.Refused("%v", err)
		}
	}
	duid := addr.DUID("\x00\x03\x00\x01" + cmp.Or(string(d.Hardware), "\x02\x00\x00\x00\x00\x00"))
	if in.DUID != "" {
		if duid, err = addr.ParseDUID(in.DUID); err != nil {
			return none, plan.Refused("%v", err)
		}
	}
	d.Identifier = []byte(duid)
	one := request.Association{ID: 1}
	if in.IAID != "" {
		id, err := addr.ParseIAID(in.IAID)
		if err != nil {
			return none, plan.Refused("%v", err)
		}
		one.ID = uint32(id[0])<<24 | uint32(id[1])<<16 | uint32(id[2])<<8 | uint32(id[3])
	}
	var about netip.Prefix
	if in.Address != "" {
		if about, err = addr.ParseKey(in.Address); err != nil {
			return none, plan.Refused("%v", err)
		}
		one.Hints = []netip.Prefix{about}
	}
	if in.Delegated || about.IsValid() && !about.IsSingleIP() {
		one.Object = request.Delegation
	}
	d.Wants = []request.Association{one}
	path, err := s.way6(p, in, &d, about)
	if err == nil {
		err = options6(&d, in)
	}
	if err != nil {
		return none, err
	}
	return answer.Hypothetical(d, path), nil
}

// way6 says which way it comes: through a relay, over an interface, or from the link of a scope
// or of what it has.
func (s *Server) way6(p *plan.Plan, in api.Ask, d *request.Draft, about netip.Prefix) (path request.Path, err error) {
	v := p.ScopeNamed(in.Scope)
	switch {
	case in.Relay != "":
		if d.Relay, err = addr.ParseAddr(in.Relay); err != nil {
			return path, plan.Refused("relay: %v", err)
		}
		return path, nil
	case in.Interface != "":
		path.Interface = in.Interface
		return path, nil
	case in.Scope != "" && v == nil:
		return path, plan.Missing("scope", in.Scope)
	case v == nil && about.IsValid():
		v = p.ScopeAt(about.Addr())
	case v == nil:
		l := s.known6(string(d.Identifier))
		if l != nil {
			v, d.Wants = p.ScopeAt(l.Address()), answer.DraftOf(l).Wants
		}
	}
	if v == nil {
		return path, plan.Refused("it is not clear which link the client is on; name a scope, a relay or an interface, or a DUID that has a lease")
	}
	i := slices.IndexFunc(v.On.Relays, func(a netip.Addr) bool { return a.Is6() })
	switch {
	case i >= 0:
		d.Relay = v.On.Relays[i]
	case len(v.On.Interfaces) > 0:
		path.Interface = v.On.Interfaces[0]
	default:
		d.Relay = v.Subnet.Addr().Next()
	}
	return path, nil
}

// known6 is a lease that a client has now, or had last, by its DUID; nil for none.
func (s *Server) known6(duid string) (l *lease.Lease) {
	s.Engine.EachLease(0, func(x *lease.Lease) {
		if x.Client.DUID() == duid && (l == nil || x.Status == lease.Active && l.Status != lease.Active) {
			l = x.Clone()
		}
	})
	return l
}

// options6 takes the options that it asks for and sends, by code or name, with or without v6/.
func options6(d *request.Draft, in api.Ask) error {
	of := func(name string) (option.Def, error) {
		return option.Standard6.Lookup(strings.TrimPrefix(strings.ToLower(name), "v6/"))
	}
	for _, w := range in.Wants {
		def, err := of(w)
		if err != nil {
			return plan.Refused("%v", err)
		}
		d.Asks = append(d.Asks, def.Code)
	}
	if len(in.Wants) == 0 {
		d.Asks = []uint16{option.DNSServers6, 24, 56, option.SolMaxRT, option.InfMaxRT, option.FQDN6}
	}
	for name, value := range in.Options {
		def, err := of(name)
		if err != nil {
			return plan.Refused("%v", err)
		}
		data, err := def.Type.Encode(value)
		if err != nil {
			return plan.Refused("option %s: %v", def.Name(), err)
		}
		d.Options = append(d.Options, request.Option{Code: def.Code, Data: data})
	}
	return nil
}
