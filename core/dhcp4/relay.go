package dhcp4

import "net/netip"

// Relay is what option 82 says that a server acts on (RFC 3046 and others).
type Relay struct {
	Circuit, Remote []byte     // sub-options 1 and 2
	Subscriber      []byte     // sub-option 6 (RFC 3993)
	Link            netip.Addr // sub-option 5, link selection (RFC 3527)
	ServerID        netip.Addr // sub-option 11, server identifier override (RFC 5107)
	SourcePort      bool       // sub-option 19, reply to the relay's own port (RFC 8357)
	// Unicast tells that the client sent the message to the relay's address and
	// not to everybody (sub-option 10, RFC 5010).
	Unicast bool
	// GlobalNet tells that the relay names the global address space as the
	// client's virtual network (sub-option 151 of type 255, RFC 6607).
	GlobalNet bool
}

// Relay sub-option codes.
const (
	SubCircuit    = 1
	SubRemote     = 2
	SubLink       = 5
	SubSubscriber = 6
	SubFlags      = 10
	SubServerID   = 11
	SubSourcePort = 19
	SubNet        = 151
	SubNetControl = 152
)

// globalNet is the type of a virtual network that is the global address space
// (RFC 6607 section 3.5).
const globalNet = 255

// Sub splits a value that is a list of sub-options: code, length, data. It
// yields false for a rest that runs past the end.
func Sub(b []byte, yield func(code uint8, data []byte) bool) (whole bool) {
	for len(b) >= 2 && len(b) >= 2+int(b[1]) {
		if !yield(b[0], b[2:2+int(b[1])]) {
			return true
		}
		b = b[2+int(b[1]):]
	}
	return len(b) == 0
}

// AppendSub adds a sub-option to a list; data has 255 octets at most.
func AppendSub(dst []byte, code uint8, data []byte) []byte {
	return append(append(dst, code, byte(len(data))), data...)
}

// ParseRelay reads option 82. Sub-options that run past its end are ignored,
// and so is everything behind them: the option is echoed as it is either way.
func ParseRelay(b []byte) (r Relay) {
	Sub(b, func(code uint8, data []byte) bool {
		switch code {
		case SubCircuit:
			r.Circuit = data
		case SubRemote:
			r.Remote = data
		case SubSubscriber:
			r.Subscriber = data
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
		case SubFlags:
			r.Unicast = len(data) == 1 && data[0]&0x80 != 0
		case SubNet:
			r.GlobalNet = GlobalNet(data)
		}
		return true
	})
	return r
}

// GlobalNet reports whether virtual network information (RFC 6607 section 3.5)
// means the global address space.
func GlobalNet(b []byte) bool { return len(b) == 1 && b[0] == globalNet }

// Echo is option 82 as it goes back: as it came, but without the control
// sub-option 152 where the virtual network was understood (RFC 6607 section 5).
func (r Relay) Echo(b []byte) []byte {
	if !r.GlobalNet {
		return b
	}
	out := make([]byte, 0, len(b))
	if !Sub(b, func(code uint8, data []byte) bool {
		if code != SubNetControl {
			out = AppendSub(out, code, data)
		}
		return true
	}) {
		return b
	}
	return out
}
