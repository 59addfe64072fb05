package dhcp4

import "net/netip"

// Relay is what option 82 says that a server acts on (RFC 3046 and others).
type Relay struct {
	Circuit, Remote []byte     // sub-options 1 and 2
	Link            netip.Addr // sub-option 5, link selection (RFC 3527)
	ServerID        netip.Addr // sub-option 11, server identifier override (RFC 5107)
	SourcePort      bool       // sub-option 19, reply to the relay's own port (RFC 8357)
}

// Relay sub-option codes.
const (
	SubCircuit    = 1
	SubRemote     = 2
	SubLink       = 5
	SubServerID   = 11
	SubSourcePort = 19
)

// ParseRelay reads option 82. Sub-options that run past its end are ignored,
// and so is everything behind them: the option is echoed as it is either way.
func ParseRelay(b []byte) (r Relay) {
	for len(b) >= 2 && len(b) >= 2+int(b[1]) {
		data := b[2 : 2+int(b[1])]
		switch b[0] {
		case SubCircuit:
			r.Circuit = data
		case SubRemote:
			r.Remote = data
		case SubLink:
			if len(data) == 4 {
				r.Link = netip.AddrFrom4([4]byte(data))
			}
		case SubServerID:
			if len(data) == 4 {
				r.ServerID = netip.AddrFrom4([4]byte(data))
			}
		case SubSourcePort:
			r.SourcePort = true
		}
		b = b[2+len(data):]
	}
	return r
}
