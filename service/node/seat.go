package node

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/service/clock"
	"yarnpost/service/wire"
)

// seat is a client's place on a link, without a running node: what it sends are
// broadcast frames, and what it hears is what servers broadcast.
type seat struct {
	server *wire.Server
	iface  *wire.Interface
	heard  chan *dhcp4.Message
}

// takeSeat opens a seat on an interface; close its server afterwards.
func takeSeat(name string, log *slog.Logger) (*seat, error) {
	s, err := wire.Listen(netip.AddrPortFrom(netip.IPv4Unspecified(), 0), []string{name}, log)
	if err != nil {
		return nil, err
	}
	c := &seat{server: s, heard: make(chan *dhcp4.Message, 100)}
	for _, i := range s.Interfaces() {
		if i.Name == name {
			c.iface = i
		}
	}
	err = s.Overhear(func(o wire.Overheard) {
		m := &dhcp4.Message{}
		if o.Data == nil || dhcp4.Decode(m, slices.Clone(o.Data)) != nil || m.Op != dhcp4.BootReply {
			return
		}
		select {
		case c.heard <- m:
		default: // somebody floods the link
		}
	})
	if err == nil && (c.iface == nil || len(c.iface.Hardware) != 6) {
		err = fmt.Errorf("interface %s has no Ethernet address", name)
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return c, nil
}

// say broadcasts a message as a client with its hardware address would.
func (c *seat) say(m *dhcp4.Message) error {
	b, _, err := dhcp4.Append(nil, m, 0)
	if err != nil {
		return err
	}
	return c.server.SendBroadcast(c.iface, net.HardwareAddr(m.CHAddr), b)
}

// hear gives replies to a transaction to keep, until that wants no more or the
// time is over.
func (c *seat) hear(ctx context.Context, xid uint32, patience time.Duration, keep func(*dhcp4.Message) (more bool)) error {
	end := time.NewTimer(patience)
	defer end.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-end.C:
			return nil
		case m := <-c.heard:
			if m.XID == xid && !keep(m) {
				return nil
			}
		}
	}
}

// CallAlone lists the servers that answer a DISCOVER on an interface's link. It
// takes nothing.
func CallAlone(ctx context.Context, name string, log *slog.Logger) ([]netip.Addr, error) {
	c, err := takeSeat(name, log)
	if err != nil {
		return nil, err
	}
	defer c.server.Close()
	m := discover(addr.Hardware(c.iface.Hardware), "", nil)
	if err := c.say(m); err != nil {
		return nil, err
	}
	out := []netip.Addr{}
	err = c.hear(ctx, m.XID, serverWait, func(r *dhcp4.Message) bool {
		if server, ok := r.Options.Addr(option.ServerID); ok && !slices.Contains(out, server) {
			out = append(out, server)
		}
		return true
	})
	return out, err
}

func discover(hw addr.Hardware, vendor string, wants []byte) *dhcp4.Message {
	var b [4]byte
	rand.Read(b[:])
	zero := netip.IPv4Unspecified()
	m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: binary.BigEndian.Uint32(b[:]), Flags: dhcp4.BroadcastFlag, CIAddr: zero,
		YIAddr: zero, SIAddr: zero, GIAddr: zero, CHAddr: hw}
	m.Options = dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(dhcp4.Discover)}}, {Code: option.Hostname, Data: []byte(trialName)}}
	if vendor != "" {
		m.Options = append(m.Options, dhcp4.Option{Code: option.ClassID, Data: []byte(vendor)})
	}
	if len(wants) > 0 {
		m.Options = append(m.Options, dhcp4.Option{Code: option.ParameterList, Data: wants})
	}
	return m
}

// Seated is what a client on a link was offered and given.
type Seated struct {
	Offers []Seen         // one a server
	Given  *dhcp4.Message // the ACK, or the NAK
	Took   time.Duration  // from REQUEST to ACK
}

// Seen is one offer.
type Seen struct {
	Server, Address netip.Addr
	Took            time.Duration
}

// SitDown makes a whole exchange from a client's seat on a link: it hears every
// server that offers, takes the first offer, and gives the address back.
func SitDown(ctx context.Context, name string, hw addr.Hardware, vendor string, wants []byte, log *slog.Logger) (out Seated, err error) {
	at := clock.New()
	c, err := takeSeat(name, log)
	if err != nil {
		return out, err
	}
	defer c.server.Close()
	m := discover(hw, vendor, wants)
	begun := at.Now()
	if err := c.say(m); err != nil {
		return out, err
	}
	if err := c.hear(ctx, m.XID, serverWait, func(r *dhcp4.Message) bool {
		if server, ok := r.Options.Addr(option.ServerID); ok && r.Type == dhcp4.Offer {
			out.Offers = append(out.Offers, Seen{server, r.YIAddr, at.Since(begun)})
		}
		return true
	}); err != nil {
		return out, err
	}
	if len(out.Offers) == 0 {
		return out, errors.New("no server offered anything")
	}
	first := out.Offers[0]
	server := dhcp4.Option{Code: option.ServerID, Data: first.Server.AsSlice()}
	m.Options[0].Data = []byte{byte(dhcp4.Request)}
	m.Options = append(m.Options, dhcp4.Option{Code: option.AddressRequest, Data: first.Address.AsSlice()}, server)
	begun = at.Now()
	if err := c.say(m); err != nil {
		return out, err
	}
	if err := c.hear(ctx, m.XID, trialPatience, func(r *dhcp4.Message) bool {
		if r.Type == dhcp4.Ack || r.Type == dhcp4.Nak {
			out.Given, out.Took = r, at.Since(begun)
		}
		return out.Given == nil
	}); err != nil {
		return out, err
	}
	switch {
	case out.Given == nil:
		return out, fmt.Errorf("server %s offered %s and does not answer the REQUEST", first.Server, first.Address)
	case out.Given.Type == dhcp4.Nak:
		return out, fmt.Errorf("server %s offered %s and refuses it", first.Server, first.Address)
	}
	release := *m
	release.CIAddr = out.Given.YIAddr
	release.Options = dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(dhcp4.Release)}}, server}
	return out, c.say(&release)
}
