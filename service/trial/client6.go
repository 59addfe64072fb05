package trial

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/core/request"
)

// Client6 is a simulated DHCPv6 client behind a relay, or on a link itself.
type Client6 struct {
	Relay    *Relay6
	Seat     *Seat         // its place on a link, if it is behind no relay
	Circuit  string        // interface-id that the relay gives its port; or ""
	Hardware addr.Hardware // that the relay says (RFC 6939); or ""
	DUID     []byte
	Hostname string
	Vendor   string
	Wants    []uint16      // option request
	Extra    dhcp6.Options // sent with each message
	Asks     []dhcp6.IA    // what it asks for, with its hints
	Patience time.Duration
	Random   *rand.Rand // of its transactions; nil for any

	Holds  []dhcp6.IA // what it was given
	Server []byte     // DUID
	Last   *dhcp6.Message
}

// path6 is how a client of DHCPv6 reaches servers.
type path6 interface {
	// Send sends a message without waiting for a reply.
	Send(m dhcp6.Message, of *Client6) error
	// Exchange sends a message and gives the reply to its transaction, decoded and as it
	// came; the error is ErrSilence if there was none in time.
	Exchange(ctx context.Context, m dhcp6.Message, of *Client6, patience time.Duration) (*dhcp6.Message, []byte, error)
}

func (c *Client6) path() path6 {
	if c.Seat != nil {
		return seat6{c.Seat}
	}
	return c.Relay
}

// Asking6 is the SOLICIT of a client that takes nothing.
func Asking6(hw addr.Hardware) *dhcp6.Message {
	c := Client6{DUID: DUIDOf(hw), Hostname: Name}
	m := c.Message(dhcp6.Solicit, dhcp6.IA{Code: option.IANA, ID: 1})
	m.Options = append(m.Options, dhcp6.Option{Code: option.ElapsedTime6, Data: []byte{0, 0}})
	return &m
}

// DUIDOf is the DUID that is made of a hardware address (type 3).
func DUIDOf(hw addr.Hardware) []byte { return append([]byte{0, 3, 0, 1}, hw...) }

// peer is the address that a message is sent from: the client's link-local one, or the one that it
// registers.
func (c *Client6) peer(m *dhcp6.Message) netip.Addr {
	if b, ok := m.Options.Get(option.IAAddress); ok && m.Type == dhcp6.AddrRegInform && len(b) >= 16 {
		return netip.AddrFrom16([16]byte(b))
	}
	b := [16]byte{0: 0xfe, 1: 0x80}
	copy(b[8:], c.DUID[max(0, len(c.DUID)-8):])
	return netip.AddrFrom16(b)
}

// Message makes a message of the client's, with its usual options.
func (c *Client6) Message(t dhcp6.Type, ias ...dhcp6.IA) dhcp6.Message {
	n := rand.Uint32()
	if c.Random != nil {
		n = c.Random.Uint32()
	}
	m := *dhcp6.Compose(request.Draft{Kind: request.Inform, Identifier: c.DUID, Hostname: c.Hostname, Vendor: c.Vendor, Asks: c.Wants})
	m.Type, m.Transaction, m.IAs = t, n&0xffffff, ias
	m.Options = append(m.Options, c.Extra...)
	switch t {
	case dhcp6.Request, dhcp6.Renew, dhcp6.Release, dhcp6.Decline:
		m.Options = append(m.Options, dhcp6.Option{Code: option.ServerID6, Data: c.Server})
	}
	return m
}

// Do sends a message and gives the reply.
func (c *Client6) Do(ctx context.Context, m dhcp6.Message) (*dhcp6.Message, error) {
	patience := c.Patience
	if patience == 0 {
		patience = 3 * time.Second
	}
	reply, _, err := c.path().Exchange(ctx, m, c, patience)
	c.Last = reply
	return reply, err
}

// Solicit asks what it may have.
func (c *Client6) Solicit(ctx context.Context) (*dhcp6.Message, error) {
	return c.Do(ctx, c.Message(dhcp6.Solicit, c.Asks...))
}

// Request takes what was advertised.
func (c *Client6) Request(ctx context.Context, offer *dhcp6.Message) error {
	c.Server, _ = offer.Options.Get(option.ServerID6)
	return c.take(c.Do(ctx, c.Message(dhcp6.Request, held(offer.IAs)...)))
}

// take keeps what a REPLY gives.
func (c *Client6) take(reply *dhcp6.Message, err error) error {
	if err != nil {
		return err
	}
	if reply.Type != dhcp6.Reply {
		return fmt.Errorf("got %s instead of REPLY", reply.Type)
	}
	c.Holds = held(reply.IAs)
	if len(c.Holds) < len(reply.IAs) || len(c.Holds) == 0 {
		return refusal6(reply)
	}
	c.Server, _ = reply.Options.Get(option.ServerID6)
	return nil
}

// refusal6 says why a reply does not give all that was asked for.
func refusal6(reply *dhcp6.Message) error {
	for i := range reply.IAs {
		if ia := &reply.IAs[i]; ia.Status != dhcp6.Success {
			return &Refusal{fmt.Sprintf("%s: %s", ia.Status, ia.Message)}
		}
	}
	return &Refusal{"nothing that lasts"}
}

// held are associations with what of them lasts.
func held(ias []dhcp6.IA) (out []dhcp6.IA) {
	for _, ia := range ias {
		keep := dhcp6.IA{Code: ia.Code, ID: ia.ID}
		for _, l := range ia.Leases {
			if l.Valid > 0 {
				keep.Leases = append(keep.Leases, l)
			}
		}
		if len(keep.Leases) > 0 {
			out = append(out, keep)
		}
	}
	return out
}

// Get does the whole exchange of four messages.
func (c *Client6) Get(ctx context.Context) error {
	offer, err := c.Solicit(ctx)
	if err != nil {
		return err
	}
	if offer.Type != dhcp6.Advertise {
		return fmt.Errorf("got %s instead of ADVERTISE", offer.Type)
	}
	if len(held(offer.IAs)) == 0 {
		return refusal6(offer)
	}
	return c.Request(ctx, offer)
}

// Renew prolongs what it has, at any server that knows it, and asks again for what it was not
// given (RFC 8415 section 18.2.4).
func (c *Client6) Renew(ctx context.Context) error {
	ias := append([]dhcp6.IA(nil), c.Holds...)
	for _, wanted := range c.Asks {
		if !slices.ContainsFunc(c.Holds, func(ia dhcp6.IA) bool { return ia.Code == wanted.Code && ia.ID == wanted.ID }) {
			ias = append(ias, wanted)
		}
	}
	return c.take(c.Do(ctx, c.Message(dhcp6.Rebind, ias...)))
}

// Release gives back what it has.
func (c *Client6) Release() error { return c.giveUp(dhcp6.Release) }

// Decline says that what it has is in use already.
func (c *Client6) Decline() error { return c.giveUp(dhcp6.Decline) }

func (c *Client6) giveUp(t dhcp6.Type) error {
	m := c.Message(t, c.Holds...)
	c.Holds = nil
	return c.path().Send(m, c)
}

// Inform asks for options alone.
func (c *Client6) Inform(ctx context.Context) (*dhcp6.Message, error) {
	return c.Do(ctx, c.Message(dhcp6.InformationRequest))
}

// Register tells of an address that the client made itself, which is valid for a time (RFC 9686);
// 0 says that it uses the address no more.
func (c *Client6) Register(ctx context.Context, made netip.Addr, valid time.Duration) error {
	m := c.Message(dhcp6.AddrRegInform)
	m.Options = slices.DeleteFunc(m.Options, func(o dhcp6.Option) bool { return o.Code == option.RequestList6 })
	data := binary.BigEndian.AppendUint32(made.AsSlice(), option.Seconds(valid/2))
	data = binary.BigEndian.AppendUint32(data, option.Seconds(valid))
	m.Options = append(m.Options, dhcp6.Option{Code: option.IAAddress, Data: data})
	reply, err := c.Do(ctx, m)
	if err != nil {
		return err
	}
	if b, _ := reply.Options.Get(option.IAAddress); reply.Type != dhcp6.AddrRegReply || string(b) != string(data) {
		return fmt.Errorf("got %s, which does not repeat the address", reply.Type)
	}
	return nil
}

// Has is what it holds of one kind (option.IANA or option.IAPD); not valid for nothing.
func (c *Client6) Has(code uint16) netip.Prefix {
	for _, ia := range c.Holds {
		if ia.Code == code {
			return ia.Leases[0].Prefix
		}
	}
	return netip.Prefix{}
}

// Lease is for how long the first thing that it has stays preferred.
func (c *Client6) Lease() time.Duration {
	if len(c.Holds) == 0 {
		return 0
	}
	return option.FromSeconds(c.Holds[0].Leases[0].Preferred)
}
