package trial

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
)

// Client is a simulated DHCPv4 client behind a relay, or on a link itself.
type Client struct {
	Relay    *Relay
	Seat     *Seat // its place on a link, if it is behind no relay
	Circuit  string
	Hardware addr.Hardware
	ID       []byte // client identifier; nil to be known by hardware
	Hostname string
	Vendor   string
	Wants    []byte         // parameter request list
	Extra    []dhcp4.Option // sent with DISCOVER, REQUEST and INFORM
	Patience time.Duration
	Random   *rand.Rand // of its transactions; nil for any
	Wish     netip.Addr // the address that it asks for when it has none; or not valid

	Address netip.Addr // what it holds
	Server  netip.Addr
	Lease   time.Duration
	Last    *dhcp4.Message // the last reply
}

// path is how a client reaches servers.
type path interface {
	// Send sends a message without waiting for a reply.
	Send(m dhcp4.Message, circuit string) error
	// Exchange sends a message and gives the reply to its transaction, decoded and as it
	// came; the error is ErrSilence if there was none in time.
	Exchange(ctx context.Context, m dhcp4.Message, circuit string, patience time.Duration) (*dhcp4.Message, []byte, error)
}

func (c *Client) path() path {
	if c.Seat != nil {
		return c.Seat
	}
	return c.Relay
}

// Refusal is a NAK, as an error.
type Refusal struct{ Message string }

func (r *Refusal) Error() string { return "refused: " + r.Message }

// Message makes a message of the client's, with its usual options.
func (c *Client) Message(t dhcp4.Type, extra ...dhcp4.Option) dhcp4.Message {
	xid := rand.Uint32()
	if c.Random != nil {
		xid = c.Random.Uint32()
	}
	zero := netip.IPv4Unspecified()
	m := dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: xid, CIAddr: zero, YIAddr: zero, SIAddr: zero, GIAddr: zero, CHAddr: c.Hardware}
	m.Options = append(m.Options, dhcp4.Option{Code: option.MessageType, Data: []byte{byte(t)}})
	if c.ID != nil {
		m.Options = append(m.Options, dhcp4.Option{Code: option.ClientID, Data: c.ID})
	}
	if c.Hostname != "" {
		m.Options = append(m.Options, dhcp4.Option{Code: option.Hostname, Data: []byte(c.Hostname)})
	}
	if c.Vendor != "" {
		m.Options = append(m.Options, dhcp4.Option{Code: option.ClassID, Data: []byte(c.Vendor)})
	}
	if c.Wants != nil && (t == dhcp4.Discover || t == dhcp4.Request || t == dhcp4.Inform) {
		m.Options = append(m.Options, dhcp4.Option{Code: option.ParameterList, Data: c.Wants})
	}
	if t != dhcp4.Release && t != dhcp4.Decline {
		m.Options = append(m.Options, c.Extra...)
	}
	m.Options = append(m.Options, extra...)
	return m
}

// Bootp asks as a client from before DHCP, and gives the reply.
func (c *Client) Bootp(ctx context.Context) (*dhcp4.Message, error) {
	m := c.Message(dhcp4.Discover)
	m.Options = nil
	reply, err := c.Do(ctx, m)
	if err == nil {
		c.Address = reply.YIAddr
	}
	return reply, err
}

// AddrOption is an option with one address.
func AddrOption(code uint8, a netip.Addr) dhcp4.Option {
	return dhcp4.Option{Code: code, Data: a.AsSlice()}
}

// Do sends a message and gives the reply.
func (c *Client) Do(ctx context.Context, m dhcp4.Message) (*dhcp4.Message, error) {
	patience := c.Patience
	if patience == 0 {
		patience = 3 * time.Second
	}
	reply, _, err := c.path().Exchange(ctx, m, c.Circuit, patience)
	c.Last = reply
	return reply, err
}

// Discover asks for an offer.
func (c *Client) Discover(ctx context.Context) (*dhcp4.Message, error) {
	if c.Wish.IsValid() {
		return c.Do(ctx, c.Message(dhcp4.Discover, AddrOption(option.AddressRequest, c.Wish)))
	}
	return c.Do(ctx, c.Message(dhcp4.Discover))
}

// Request takes an offer.
func (c *Client) Request(ctx context.Context, offer *dhcp4.Message) error {
	server, _ := offer.Options.Addr(option.ServerID)
	return c.take(c.Do(ctx, c.Message(dhcp4.Request, AddrOption(option.AddressRequest, offer.YIAddr), AddrOption(option.ServerID, server))))
}

// take keeps what an ACK grants.
func (c *Client) take(ack *dhcp4.Message, err error) error {
	if err != nil {
		return err
	}
	if ack.Type == dhcp4.Nak {
		text, _ := ack.Options.Get(option.Message)
		c.Address = netip.Addr{}
		return &Refusal{string(text)}
	}
	if ack.Type != dhcp4.Ack {
		return fmt.Errorf("got %s instead of ACK", ack.Type)
	}
	seconds, _ := ack.Options.Uint32(option.AddressTime)
	c.Address, c.Lease = ack.YIAddr, option.FromSeconds(seconds)
	c.Server, _ = ack.Options.Addr(option.ServerID)
	return nil
}

// Get does the whole exchange of four messages.
func (c *Client) Get(ctx context.Context) error {
	offer, err := c.Discover(ctx)
	if err != nil {
		return err
	}
	if offer.Type != dhcp4.Offer {
		return fmt.Errorf("got %s instead of OFFER", offer.Type)
	}
	return c.Request(ctx, offer)
}

// Renew prolongs the lease, as a client in REBINDING does through its relay.
func (c *Client) Renew(ctx context.Context) error {
	m := c.Message(dhcp4.Request)
	m.CIAddr = c.Address
	return c.take(c.Do(ctx, m))
}

// Reboot asks for an address it remembers (INIT-REBOOT).
func (c *Client) Reboot(ctx context.Context, a netip.Addr) error {
	return c.take(c.Do(ctx, c.Message(dhcp4.Request, AddrOption(option.AddressRequest, a))))
}

// Release gives the lease back.
func (c *Client) Release() error {
	m := c.Message(dhcp4.Release, AddrOption(option.ServerID, c.Server))
	m.CIAddr = c.Address
	c.Address = netip.Addr{}
	return c.path().Send(m, c.Circuit)
}

// Decline says that the address is in use already.
func (c *Client) Decline() error {
	m := c.Message(dhcp4.Decline, AddrOption(option.AddressRequest, c.Address), AddrOption(option.ServerID, c.Server))
	c.Address = netip.Addr{}
	return c.path().Send(m, c.Circuit)
}

// Inform asks for options alone, with an address of its own.
func (c *Client) Inform(ctx context.Context, a netip.Addr) (*dhcp4.Message, error) {
	m := c.Message(dhcp4.Inform)
	m.CIAddr = a
	return c.Do(ctx, m)
}
