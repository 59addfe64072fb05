package trial

import (
	"context"
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

// Name is the host name by which a trial's own lease is known.
const Name = "yarnpost-trial"

// How long servers have to offer something, and the one that was chosen to answer.
const (
	OfferTime = 2 * time.Second
	ReplyTime = 4 * time.Second
)

// Seat is a client's place on a link, without a running service: what it sends are
// broadcast frames, and what it hears is what servers broadcast.
type Seat struct {
	server *wire.Server
	iface  *wire.Interface
	heard  chan *dhcp4.Message
}

// TakeSeat opens a seat on an interface; close it afterwards.
func TakeSeat(name string, log *slog.Logger) (*Seat, error) {
	s, err := wire.Listen(netip.AddrPortFrom(netip.IPv4Unspecified(), 0), netip.AddrPort{}, []string{name}, log)
	if err != nil {
		return nil, err
	}
	c := &Seat{server: s, heard: make(chan *dhcp4.Message, 100)}
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

// Close gives the seat up.
func (s *Seat) Close() { s.server.Close() }

// Hardware is the address of the seat's interface.
func (s *Seat) Hardware() addr.Hardware { return addr.Hardware(s.iface.Hardware) }

// Send broadcasts a message as a client with its hardware address would. The circuit is
// nothing that a client could say.
func (s *Seat) Send(m dhcp4.Message, _ string) error {
	m.Flags |= dhcp4.BroadcastFlag
	b, _, err := dhcp4.Append(nil, &m, 0)
	if err != nil {
		return err
	}
	return s.server.SendBroadcast(s.iface, net.HardwareAddr(m.CHAddr), b)
}

// Exchange broadcasts a message once and gives the first reply to its transaction,
// decoded alone.
func (s *Seat) Exchange(ctx context.Context, m dhcp4.Message, circuit string, patience time.Duration) (*dhcp4.Message, []byte, error) {
	if err := s.Send(m, circuit); err != nil {
		return nil, nil, err
	}
	var reply *dhcp4.Message
	err := s.hear(ctx, m.XID, patience, func(r *dhcp4.Message) bool {
		reply = r
		return false
	})
	if err == nil && reply == nil {
		err = ErrSilence
	}
	return reply, nil, err
}

// hear gives replies to a transaction to keep, until that wants no more or the time is
// over.
func (s *Seat) hear(ctx context.Context, xid uint32, patience time.Duration, keep func(*dhcp4.Message) (more bool)) error {
	end := time.NewTimer(patience)
	defer end.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-end.C:
			return nil
		case m := <-s.heard:
			if m.XID == xid && !keep(m) {
				return nil
			}
		}
	}
}

// Call broadcasts a DISCOVER and gives each reply to keep while servers have time to
// offer something. It takes nothing.
func (s *Seat) Call(ctx context.Context, c *Client, keep func(server netip.Addr, reply *dhcp4.Message)) error {
	m := c.Message(dhcp4.Discover)
	if err := s.Send(m, ""); err != nil {
		return err
	}
	return s.hear(ctx, m.XID, OfferTime, func(r *dhcp4.Message) bool {
		if server, ok := r.Options.Addr(option.ServerID); ok {
			keep(server, r)
		}
		return true
	})
}

// Servers lists the servers that answer a DISCOVER on an interface's link. It takes
// nothing.
func Servers(ctx context.Context, name string, log *slog.Logger) ([]netip.Addr, error) {
	s, err := TakeSeat(name, log)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	out := []netip.Addr{}
	err = s.Call(ctx, &Client{Seat: s, Hardware: s.Hardware(), Hostname: Name}, func(server netip.Addr, _ *dhcp4.Message) {
		if !slices.Contains(out, server) {
			out = append(out, server)
		}
	})
	return out, err
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

// SitDown makes a whole exchange from a client's seat on a link: it hears every server
// that offers, takes the first offer, and gives the address back.
func SitDown(ctx context.Context, name string, hw addr.Hardware, vendor string, wants []byte, log *slog.Logger) (out Seated, err error) {
	at := clock.New()
	s, err := TakeSeat(name, log)
	if err != nil {
		return out, err
	}
	defer s.Close()
	c := &Client{Seat: s, Hardware: hw, Vendor: vendor, Wants: wants, Hostname: Name, Patience: ReplyTime}
	var first *dhcp4.Message
	begun := at.Now()
	if err := s.Call(ctx, c, func(server netip.Addr, r *dhcp4.Message) {
		if r.Type == dhcp4.Offer {
			out.Offers = append(out.Offers, Seen{server, r.YIAddr, at.Since(begun)})
			if first == nil {
				first = r
			}
		}
	}); err != nil {
		return out, err
	}
	if first == nil {
		return out, errors.New("no server offered anything")
	}
	server := out.Offers[0].Server
	begun = at.Now()
	err = c.Request(ctx, first)
	out.Given, out.Took = c.Last, at.Since(begun)
	var refused *Refusal
	switch {
	case errors.Is(err, ErrSilence):
		return out, fmt.Errorf("server %s offered %s and does not answer the REQUEST", server, first.YIAddr)
	case errors.As(err, &refused):
		return out, fmt.Errorf("server %s offered %s and refuses it", server, first.YIAddr)
	case err != nil:
		return out, err
	}
	return out, c.Release()
}
