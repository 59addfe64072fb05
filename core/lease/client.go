package lease

import (
	"encoding/binary"
	"fmt"

	"yarnpost/core/addr"
)

// Client is the key by which a client is told from others, one for each kind of
// address it asks for. It can be compared; the zero value is nobody.
type Client struct {
	Kind   ClientKind
	Number uint32 // with Hardware its hardware type; of a DUID the IAID (RFC 8415 section 12)
	ID     string // raw octets: a client identifier, a hardware address, or a DUID
}

// ClientKind says what Client.ID is.
type ClientKind uint8

// The kinds.
const (
	Nobody     ClientKind = iota
	Identifier            // a client identifier (RFC 2131 section 4.2)
	Hardware              // a hardware address, of a client that is known by nothing else
	Addresses             // a DUID, with the IAID of addresses (IA_NA, RFC 8415 section 4.2)
	Prefixes              // a DUID, with the IAID of delegated prefixes (IA_PD)
	Registered            // a DUID, of addresses that its client made itself (RFC 9686); the number is 0
)

// ByIdentifier is the key of a client that sends a client identifier.
func ByIdentifier(id []byte) Client { return Client{Kind: Identifier, ID: string(id)} }

// Ethernet is the hardware type of Ethernet addresses (RFC 1700).
const Ethernet = 1

// ByHardware is the key of a client known by its hardware address alone.
func ByHardware(htype uint8, hw addr.Hardware) Client {
	return Client{Hardware, uint32(htype), string(hw)}
}

// Known reports whether this is anybody.
func (c Client) Known() bool { return c.Kind != Nobody }

// Identifier is the client identifier, or "" for a client known otherwise.
func (c Client) Identifier() string {
	if c.Kind == Identifier {
		return c.ID
	}
	return ""
}

// DUID is the DUID of a client of DHCPv6, or "".
func (c Client) DUID() string {
	if c.Kind >= Addresses {
		return c.ID
	}
	return ""
}

// kindLetters begin a key where it is kept as octets.
var kindLetters = [...]byte{Identifier: 'i', Hardware: 'h', Addresses: 'n', Prefixes: 'p', Registered: 'r'}

// Append adds the key as it is kept on record: a letter for its kind; the
// hardware type in one octet, or the IAID in four, big-endian; the identifier.
// Nobody is no octet at all.
func (c Client) Append(b []byte) []byte {
	if c.Kind == Nobody {
		return b
	}
	b = append(b, kindLetters[c.Kind])
	switch c.Kind {
	case Hardware:
		b = append(b, byte(c.Number))
	case Addresses, Prefixes, Registered:
		b = binary.BigEndian.AppendUint32(b, c.Number)
	}
	return append(b, c.ID...)
}

// ParseClient reads what Append wrote.
func ParseClient(b []byte) (Client, error) {
	if len(b) == 0 {
		return Client{}, nil
	}
	rest := b[1:]
	switch {
	case b[0] == 'i':
		return Client{Kind: Identifier, ID: string(rest)}, nil
	case b[0] == 'h' && len(rest) >= 1:
		return Client{Hardware, uint32(rest[0]), string(rest[1:])}, nil
	case b[0] == 'n' && len(rest) >= 4:
		return Client{Addresses, binary.BigEndian.Uint32(rest), string(rest[4:])}, nil
	case b[0] == 'p' && len(rest) >= 4:
		return Client{Prefixes, binary.BigEndian.Uint32(rest), string(rest[4:])}, nil
	case b[0] == 'r' && len(rest) >= 4:
		return Client{Registered, binary.BigEndian.Uint32(rest), string(rest[4:])}, nil
	}
	return Client{}, fmt.Errorf("%x is not the key of a client", b)
}
