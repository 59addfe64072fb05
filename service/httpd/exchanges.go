package httpd

import (
	"bytes"
	"cmp"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/service/observe"
	"yarnpost/service/wire"
)

// This file shows what was said lately, and exports it.

// exchangeQuery filters recent messages.
type exchangeQuery struct {
	After   uint64 `query:"after" doc:"Only what happened behind this number"`
	Client  string `query:"client" doc:"Part of hardware address, identifier or host name"`
	Address string `query:"address" doc:"Address concerned"`
	Scope   string `query:"scope"`
	Relay   string `query:"relay"`
	Outcome string `query:"outcome" doc:"An outcome such as refused, a reason such as pool-empty, or what became of the reply, such as withheld"`
	Limit   int    `query:"limit" default:"100" minimum:"1" maximum:"5000"`
}

// keep makes the filter, for somebody who may see some.
func (q *exchangeQuery) keep(seen *sight) (func(*observe.Exchange) bool, error) {
	var at, relay netip.Addr
	var err error
	if q.Address != "" {
		if at, err = addr.ParseAddr(q.Address); err != nil {
			return nil, plan.Refused("%v", err)
		}
	}
	if q.Relay != "" {
		if relay, err = addr.ParseAddr(q.Relay); err != nil {
			return nil, plan.Refused("relay: %v", err)
		}
	}
	who := strings.ToLower(strings.TrimSpace(q.Client))
	octets := strings.ReplaceAll(who, "-", ":")
	if hw, err := addr.ParseHardware(who); err == nil {
		octets = hw.String()
	}
	return func(x *observe.Exchange) bool {
		if relay.IsValid() && x.Relay != relay || !seen.exchange(x) {
			return false
		}
		fits := func(r observe.Result) bool {
			return (!at.IsValid() || r.Address() == at) && (q.Scope == "" || strings.EqualFold(q.Scope, r.Scope)) &&
				(q.Outcome == "" || q.Outcome == string(r.Outcome) || q.Outcome == string(r.Why) || q.Outcome == string(x.Fate))
		}
		if !slices.ContainsFunc(x.Results, fits) {
			return false
		}
		if who == "" || strings.Contains(x.Hardware.String(), octets) ||
			strings.Contains(addr.Hardware(cmp.Or(x.First().Client.Identifier(), x.First().Client.DUID())).String(), octets) {
			return true
		}
		m := message(x)
		return m != nil && strings.Contains(strings.ToLower(m.Hostname()), who)
	}, nil
}

// message is what the client of an exchange sent, or nil if that is malformed.
func message(x *observe.Exchange) request.Message {
	if x.Family == option.V6 {
		var m dhcp6.Message
		if dhcp6.Decode(&m, x.In) == nil {
			return &m
		}
		return nil
	}
	var m dhcp4.Message
	if dhcp4.Decode(&m, x.In) == nil {
		return &m
	}
	return nil
}

func (s *Server) exchanges(q *exchangeQuery, seen *sight) (*body[api.Page[api.Exchange]], error) {
	keep, err := q.keep(seen)
	if err != nil {
		return nil, failure(err)
	}
	list, last := s.Engine.Talk().Since(q.After, q.Limit, keep)
	p := s.Engine.Plan()
	out := api.Page[api.Exchange]{Items: []api.Exchange{}, Total: len(list), Next: strconv.FormatUint(last, 10), Revision: p.Revision}
	for i := range list {
		out.Items = append(out.Items, exchangeView(p, &list[i]))
	}
	return respond(out, nil)
}

func exchangeView(p *plan.Plan, x *observe.Exchange) api.Exchange {
	r := x.First()
	out := api.Exchange{Seq: x.Seq, At: x.At.UTC(), Hardware: x.Hardware.String(), Client: x.Hardware.String(),
		Outcome: string(r.Outcome),
		Reason:  string(r.Why), Fate: string(x.Fate),
		Address: addrText(r.Address()), Scope: r.Scope, Link: r.Link, Relay: addrText(x.Relay), Circuit: circuitText(x.Circuit),
		Interface: x.Wire,
		From:      x.From.String(), To: x.To.String(),
		Millis: float64(x.Took.Microseconds()) / 1000, Trail: []string{}, Request: decoded(p, x.Family, x.In, "")}
	if id := cmp.Or(r.Client.Identifier(), r.Client.DUID()); id != "" {
		out.Client = option.Colons([]byte(id))
	}
	var class string
	if m := message(x); m != nil {
		out.Type, out.Hostname, class = m.Name(), m.Hostname(), m.Vendor()
	}
	for _, step := range x.Trail {
		out.Trail = append(out.Trail, step.String())
	}
	if len(x.Out) > 0 {
		reply := decoded(p, x.Family, x.Out, class)
		out.Reply, out.ReplyTo = &reply, x.OutTo.String()
	}
	out.Text = string(r.Outcome)
	if r.Address().IsValid() {
		out.Text += " " + addr.FormatKey(r.Key)
	}
	if r.Why != "" {
		out.Text += ": " + r.Why.Words(r.Rule)
	}
	return out
}

// capture writes messages and replies as a capture file that protocol analysers
// open. Where no frame was seen its addresses are made up of what is known.
func (s *Server) capture(q *exchangeQuery, seen *sight) ([]byte, error) {
	keep, err := q.keep(seen)
	if err != nil {
		return nil, err
	}
	list, _ := s.Engine.Talk().Since(q.After, q.Limit, keep)
	var b bytes.Buffer
	w := pcapgo.NewWriter(&b)
	if err := w.WriteFileHeader(65535, layers.LinkTypeEthernet); err != nil {
		return nil, err
	}
	nobody := net.HardwareAddr{0, 0, 0, 0, 0, 0}
	unspecified := map[option.Family]netip.Addr{option.V4: netip.IPv4Unspecified(), option.V6: netip.IPv6Unspecified()}
	port := map[option.Family]uint16{option.V4: wire.ServerPort, option.V6: wire.ServerPort6}
	everybody := map[option.Family]netip.Addr{option.V4: netip.AddrFrom4([4]byte{255, 255, 255, 255}),
		option.V6: netip.MustParseAddr("ff02::1:2")}
	write := func(of option.Family, at time.Time, fromHW, toHW net.HardwareAddr, from, to netip.AddrPort, data []byte) error {
		if (of == option.V6) != from.Addr().Is6() {
			from = netip.AddrPortFrom(unspecified[of], from.Port())
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
		if (x.Family == option.V6) != to.Addr().Is6() {
			to = netip.AddrPortFrom(everybody[x.Family], port[x.Family])
		}
		from := x.From
		if x.Relay.IsValid() { // as a relay with the usual port sends it
			from = netip.AddrPortFrom(from.Addr(), port[x.Family])
		}
		if err := write(x.Family, x.At, client, nobody, from, to, x.In); err != nil {
			return nil, err
		}
		if len(x.Out) > 0 && x.Fate != observe.Withheld {
			back := x.OutTo
			if x.Relay.IsValid() {
				back = netip.AddrPortFrom(back.Addr(), port[x.Family])
			}
			if err := write(x.Family, x.At.Add(x.Took), nobody, client, x.OutFrom, back, x.Out); err != nil {
				return nil, err
			}
		}
	}
	return b.Bytes(), nil
}
