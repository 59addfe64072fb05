package trial

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/core/request"
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
// broadcast or multicast frames, and what it hears is what servers send to clients.
type Seat struct {
	server *wire.Server
	iface  *wire.Interface
	heard  chan *dhcp4.Message
	heard6 chan *dhcp6.Message
}

// TakeSeat opens a seat on an interface; close it afterwards.
func TakeSeat(name string, log *slog.Logger) (*Seat, error) {
	s, err := wire.Listen(netip.AddrPortFrom(netip.IPv4Unspecified(), 0), netip.AddrPort{}, []string{name}, log)
	if err != nil {
		return nil, err
	}
	c := &Seat{server: s, heard: make(chan *dhcp4.Message, 100), heard6: make(chan *dhcp6.Message, 100)}
	for _, i := range s.Interfaces() {
		if i.Name == name {
			c.iface = i
		}
	}
	err = s.Overhear(func(o wire.Overheard) {
		switch {
		case o.Data == nil:
		case o.From.Is6():
			m := &dhcp6.Message{}
			if dhcp6.Decode(m, slices.Clone(o.Data)) == nil && !m.Relayed() && (m.Type == dhcp6.Advertise || m.Type == dhcp6.Reply) {
				offer(c.heard6, m)
			}
		default:
			m := &dhcp4.Message{}
			if dhcp4.Decode(m, slices.Clone(o.Data)) == nil && m.Op == dhcp4.BootReply {
				offer(c.heard, m)
			}
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

// offer puts a message into a queue, unless somebody floods the link.
func offer[M any](to chan M, m M) {
	select {
	case to <- m:
	default:
	}
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
	reply, err := first(ctx, s.heard, patience, ofTransaction(m.XID))
	return reply, nil, err
}

// seat6 is a seat as clients of DHCPv6 use it.
type seat6 struct{ *Seat }

// Send sends a message to all servers of the link, from the seat's own address.
func (s seat6) Send(m dhcp6.Message, _ *Client6) error {
	b, _, err := m.AppendTo(nil, 0)
	if err != nil {
		return err
	}
	return s.server.SendMulticast(s.iface, b)
}

// Exchange sends a message once and gives the first reply to its transaction, decoded alone.
func (s seat6) Exchange(ctx context.Context, m dhcp6.Message, of *Client6, patience time.Duration) (*dhcp6.Message, []byte, error) {
	m.Options = append(slices.Clone(m.Options), dhcp6.Option{Code: option.ElapsedTime6, Data: []byte{0, 0}})
	if err := s.Send(m, of); err != nil {
		return nil, nil, err
	}
	reply, err := first(ctx, s.heard6, patience, ofTransaction6(&m))
	return reply, nil, err
}

func ofTransaction(xid uint32) func(*dhcp4.Message) bool {
	return func(r *dhcp4.Message) bool { return r.XID == xid }
}

func ofTransaction6(m *dhcp6.Message) func(*dhcp6.Message) bool {
	return func(r *dhcp6.Message) bool {
		return r.Transaction == m.Transaction && string(r.ClientID()) == string(m.ClientID())
	}
}

// hear gives messages that fit to keep, until that wants no more or the time is over.
func hear[M any](ctx context.Context, from chan M, patience time.Duration, fits func(M) bool, keep func(M) (more bool)) error {
	end := time.NewTimer(patience)
	defer end.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-end.C:
			return nil
		case m := <-from:
			if fits(m) && !keep(m) {
				return nil
			}
		}
	}
}

// first is the first message that fits; the error is ErrSilence if there was none in time.
func first[M any](ctx context.Context, from chan *M, patience time.Duration, fits func(*M) bool) (reply *M, err error) {
	err = hear(ctx, from, patience, fits, func(r *M) bool {
		reply = r
		return false
	})
	if err == nil && reply == nil {
		err = ErrSilence
	}
	return reply, err
}

// Call broadcasts a DISCOVER and gives each reply to keep while servers have time to
// offer something. It takes nothing.
func (s *Seat) Call(ctx context.Context, c *Client, keep func(server netip.Addr, reply *dhcp4.Message)) error {
	m := c.Message(dhcp4.Discover)
	if err := s.Send(m, ""); err != nil {
		return err
	}
	return hear(ctx, s.heard, OfferTime, ofTransaction(m.XID), func(r *dhcp4.Message) bool {
		if server, ok := r.Options.Addr(option.ServerID); ok {
			keep(server, r)
		}
		return true
	})
}

// Call6 sends a SOLICIT to the link and gives each reply to keep while servers have time to offer
// something. It takes nothing.
func (s *Seat) Call6(ctx context.Context, m *dhcp6.Message, keep func(server addr.DUID, reply *dhcp6.Message)) error {
	if err := (seat6{s}).Send(*m, nil); err != nil {
		return err
	}
	return hear(ctx, s.heard6, OfferTime, ofTransaction6(m), func(r *dhcp6.Message) bool {
		if server, ok := r.Options.Get(option.ServerID6); ok && addr.DUID(server).Proper() {
			keep(addr.DUID(server), r)
		}
		return true
	})
}

// Servers lists the servers of both families that answer on an interface's link. It takes nothing.
func Servers(ctx context.Context, name string, log *slog.Logger) ([]request.Server, error) {
	s, err := TakeSeat(name, log)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	out := []request.Server{}
	note := func(server request.Server) {
		if !slices.Contains(out, server) {
			out = append(out, server)
		}
	}
	err = s.Call(ctx, &Client{Seat: s, Hardware: s.Hardware(), Hostname: Name}, func(server netip.Addr, _ *dhcp4.Message) {
		note(request.Server{Address: server})
	})
	if err == nil && s.iface.LinkLocal().IsValid() {
		err = s.Call6(ctx, Asking6(s.Hardware()), func(server addr.DUID, _ *dhcp6.Message) { note(request.Server{DUID: server}) })
	}
	return out, err
}

// Seated is what a client on a link was offered and given.
type Seated struct {
	Offers []Seen          // one a server
	Given  request.Message // the ACK or the REPLY, or the NAK; nil: none
	Keys   []netip.Prefix  // addresses, as prefixes of full length, and prefixes
	Took   time.Duration   // from REQUEST to the answer
}

// Seen is one offer.
type Seen struct {
	Server request.Server
	Keys   []netip.Prefix
	Took   time.Duration
}

// Sitting is what a client on a link asks.
type Sitting struct {
	Hardware addr.Hardware
	Vendor   string
	Wants    []uint16 // codes of options
	Prefix   bool     // with IPv6: a prefix as well
}

// SitDown makes a whole exchange of IPv4 from a client's seat on a link: it hears every server
// that offers, takes the first offer, and gives the address back.
func SitDown(ctx context.Context, name string, as Sitting, log *slog.Logger) (out Seated, err error) {
	at := clock.New()
	s, err := TakeSeat(name, log)
	if err != nil {
		return out, err
	}
	defer s.Close()
	c := &Client{Seat: s, Hardware: as.Hardware, Vendor: as.Vendor, Hostname: Name, Patience: ReplyTime}
	for _, code := range as.Wants {
		c.Wants = append(c.Wants, byte(code))
	}
	var first *dhcp4.Message
	begun := at.Now()
	if err := s.Call(ctx, c, func(server netip.Addr, r *dhcp4.Message) {
		if r.Type == dhcp4.Offer {
			out.Offers = append(out.Offers, Seen{request.Server{Address: server}, []netip.Prefix{netip.PrefixFrom(r.YIAddr, 32)}, at.Since(begun)})
			first = cmp.Or(first, r)
		}
	}); err != nil {
		return out, err
	}
	if first == nil {
		return out, errNoOffer
	}
	begun = at.Now()
	err = c.Request(ctx, first)
	if out.Took = at.Since(begun); c.Last != nil {
		out.Given, out.Keys = c.Last, []netip.Prefix{netip.PrefixFrom(c.Last.YIAddr, 32)}
	}
	if err == nil {
		err = c.Release()
	}
	return out, out.failed(err)
}

var errNoOffer = errors.New("no server offered anything")

// failed says at which server, and of what, the exchange ended with an error.
func (s *Seated) failed(err error) error {
	var what []string
	for _, k := range s.Offers[0].Keys {
		what = append(what, addr.FormatKey(k))
	}
	var refused *Refusal
	switch {
	case errors.Is(err, ErrSilence):
		return fmt.Errorf("server %s offered %s and does not answer the REQUEST", s.Offers[0].Server, strings.Join(what, " and "))
	case errors.As(err, &refused):
		return fmt.Errorf("server %s offered %s and refuses it: %s", s.Offers[0].Server, strings.Join(what, " and "), refused.Message)
	}
	return err
}

// SitDown6 does the same with IPv6, from the interface's own link-local address.
func SitDown6(ctx context.Context, name string, as Sitting, log *slog.Logger) (out Seated, err error) {
	at := clock.New()
	s, err := TakeSeat(name, log)
	if err != nil {
		return out, err
	}
	defer s.Close()
	c := &Client6{Seat: s, DUID: DUIDOf(as.Hardware), Vendor: as.Vendor, Wants: as.Wants, Hostname: Name, Patience: ReplyTime}
	c.Asks = []dhcp6.IA{{Code: option.IANA, ID: 1}}
	if as.Prefix {
		c.Asks = append(c.Asks, dhcp6.IA{Code: option.IAPD, ID: 2})
	}
	m := c.Message(dhcp6.Solicit, c.Asks...)
	m.Options = append(m.Options, dhcp6.Option{Code: option.ElapsedTime6, Data: []byte{0, 0}})
	var first *dhcp6.Message
	begun, refusal := at.Now(), error(nil)
	if err := s.Call6(ctx, &m, func(server addr.DUID, r *dhcp6.Message) {
		if keys := keysOf(r); len(keys) > 0 {
			out.Offers = append(out.Offers, Seen{request.Server{DUID: server}, keys, at.Since(begun)})
			first = cmp.Or(first, r)
		} else {
			refusal = fmt.Errorf("server %s offers nothing: %w", server, refusal6(r))
		}
	}); err != nil {
		return out, err
	}
	if first == nil {
		return out, cmp.Or(refusal, errNoOffer)
	}
	begun = at.Now()
	err = c.Request(ctx, first)
	if out.Took = at.Since(begun); c.Last != nil {
		out.Given, out.Keys = c.Last, keysOf(c.Last)
	}
	if err == nil {
		err = c.Release()
	}
	return out, out.failed(err)
}

// keysOf are the addresses and prefixes that a message gives.
func keysOf(m *dhcp6.Message) (out []netip.Prefix) {
	for _, ia := range held(m.IAs) {
		for _, l := range ia.Leases {
			out = append(out, l.Prefix)
		}
	}
	return out
}
