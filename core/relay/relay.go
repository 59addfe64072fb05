// Package relay is the relay agent (RFC 951, 1542, 3046): a client's
// or a server's datagram comes in, and what is to be forwarded, and to whom,
// goes out. It changes the octets that a relay has to change and no others.
package relay

import (
	"errors"
	"fmt"
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
)

// Errors that Forward and Return wrap; each is a reason to drop a datagram.
var (
	ErrMalformed = errors.New("malformed")
	ErrHops      = errors.New("too many hops")
	ErrSpoofed   = errors.New("it pretends to come from a relay") // RFC 3046 section 2.1
	ErrNotOurs   = errors.New("not for this relay")
)

// HopsMost is the most that the hops field may say (RFC 1542 section 4.1.1).
const HopsMost = 16

// Octets of the fixed fields.
const (
	opAt     = 0
	hlenAt   = 2
	hopsAt   = 3
	flagsAt  = 10
	ciaddrAt = 12
	yiaddrAt = 16
	giaddrAt = 24
	chaddrAt = 28
	options  = 240
	largest  = dhcp4.MaxMax
	least    = 300
)

// Agent is one relay agent on one interface.
type Agent struct {
	Address    netip.Addr // of the interface that clients are on; giaddr
	Circuit    []byte     // option 82.1; none if empty
	Remote     []byte     // option 82.2; none if empty
	Hops       uint8      // limit of the hops field; 0 means HopsMost
	SourcePort bool       // replies shall come to the port that requests come from (RFC 8357)
}

// option82 is what the agent adds, or nothing.
func (a *Agent) option82() []byte {
	var b []byte
	if len(a.Circuit) > 0 {
		b = dhcp4.AppendSub(b, dhcp4.SubCircuit, a.Circuit)
	}
	if len(a.Remote) > 0 {
		b = dhcp4.AppendSub(b, dhcp4.SubRemote, a.Remote)
	}
	if a.SourcePort {
		b = dhcp4.AppendSub(b, dhcp4.SubSourcePort, nil)
	}
	return b
}

func address(b []byte, at int) netip.Addr { return netip.AddrFrom4([4]byte(b[at : at+4])) }

// end is where the end option lies, or the length if there is none; has82 tells
// whether option 82 comes before it.
func end(b []byte) (at int, has82 bool, err error) {
	for i := options; i < len(b); {
		switch b[i] {
		case 0:
			i++
			continue
		case option.End:
			return i, has82, nil
		}
		if i+2 > len(b) || i+2+int(b[i+1]) > len(b) {
			return 0, false, fmt.Errorf("%w: option %d runs past the end", ErrMalformed, b[i])
		}
		has82 = has82 || b[i] == option.RelayAgent
		i += 2 + int(b[i+1])
	}
	return len(b), has82, nil
}

// Forward makes of a client's message what goes to the servers: one hop more,
// this relay's address, and option 82 as the last option. A message that another
// relay sent on keeps its address and its option 82.
func (a *Agent) Forward(b []byte) ([]byte, error) {
	if len(b) < options || b[opAt] != dhcp4.BootRequest || b[hlenAt] > 16 {
		return nil, fmt.Errorf("forward: %w", ErrMalformed)
	}
	limit := a.Hops
	if limit == 0 {
		limit = HopsMost
	}
	if b[hopsAt] >= limit {
		return nil, fmt.Errorf("forward: %d hops: %w", b[hopsAt], ErrHops)
	}
	at, has82, err := end(b)
	if err != nil {
		return nil, fmt.Errorf("forward: %w", err)
	}
	from := address(b, giaddrAt)
	if from == a.Address || from.IsUnspecified() && has82 {
		return nil, fmt.Errorf("forward: %w", ErrSpoofed)
	}
	out := append(make([]byte, 0, len(b)+64), b...)
	out[hopsAt]++
	if !from.IsUnspecified() {
		return out, nil
	}
	giaddr := a.Address.As4()
	copy(out[giaddrAt:], giaddr[:])
	if add := a.option82(); len(add) > 0 && len(add) <= 255 && at+2+len(add)+1 <= largest {
		out = append(out[:at], option.RelayAgent, byte(len(add)))
		out = append(append(out, add...), option.End)
		for len(out) < least {
			out = append(out, 0)
		}
	}
	return out, nil
}

// Reply is a server's message on its way to a client.
type Reply struct {
	Data      []byte
	Broadcast bool          // to everybody on the link, or else
	To        netip.Addr    // to this address
	Hardware  addr.Hardware // without ARP, unless empty: the client has the address already
}

// Return makes of a server's message what goes to the client: without option 82.
func (a *Agent) Return(b []byte) (r Reply, err error) {
	if len(b) < options || b[opAt] != dhcp4.BootReply || b[hlenAt] > 16 {
		return r, fmt.Errorf("return: %w", ErrMalformed)
	}
	if address(b, giaddrAt) != a.Address {
		return r, fmt.Errorf("return: giaddr %s: %w", address(b, giaddrAt), ErrNotOurs)
	}
	r.Data = append(make([]byte, 0, len(b)), b[:options]...)
	for i := options; i < len(b); {
		if b[i] == 0 || b[i] == option.End {
			r.Data = append(r.Data, b[i:]...)
			break
		}
		if i+2 > len(b) || i+2+int(b[i+1]) > len(b) {
			return r, fmt.Errorf("return: %w: option %d runs past the end", ErrMalformed, b[i])
		}
		n := 2 + int(b[i+1])
		if b[i] != option.RelayAgent {
			r.Data = append(r.Data, b[i:i+n]...)
		}
		i += n
	}
	for len(r.Data) < least {
		r.Data = append(r.Data, 0)
	}
	ciaddr, yiaddr := address(b, ciaddrAt), address(b, yiaddrAt)
	switch {
	case b[flagsAt]&0x80 != 0 || yiaddr.IsUnspecified() && ciaddr.IsUnspecified():
		r.Broadcast = true
	case !ciaddr.IsUnspecified():
		r.To = ciaddr
	default:
		r.To, r.Hardware = yiaddr, addr.Hardware(b[chaddrAt:chaddrAt+int(b[hlenAt])])
	}
	return r, nil
}
