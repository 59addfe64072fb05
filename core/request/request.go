// Package request says what a client asks, whatever version of the protocol it asks by. The
// codecs make a Request of a message; what decides, watches and reports sees the Request, and
// only what answers in the words of one version looks at its message.
package request

import (
	"iter"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// Kind is what a message is for. Both versions of the protocol have the same kinds under
// different names, but for those that say so.
type Kind uint8

// The kinds.
const (
	Other    Kind = iota // nothing that a server answers
	Solicit              // to be offered something: DISCOVER, SOLICIT
	Select               // to take what it was offered: REQUEST with a server identifier
	Confirm              // whether what it has still fits: REQUEST in INIT-REBOOT, CONFIRM
	Renew                // to have it longer, of the server that gave it
	Rebind               // to have it longer, of any server
	Release              // it gives it up
	Decline              // somebody else uses it
	Inform               // options alone: INFORM, INFORMATION-REQUEST
	Boot                 // BOOTP alone: an address for good
	Register             // it tells of an address that it made itself: ADDR-REG-INFORM (RFC 9686)
)

var kindNames = [...]string{"other", "solicit", "select", "confirm", "renew", "rebind", "release", "decline", "inform", "boot", "register"}

func (k Kind) String() string { return kindNames[k] }

// Claims reports whether a client claims what it had or was offered.
func (k Kind) Claims() bool { return k >= Select && k <= Rebind }

// ToBoth reports whether a message of this kind is for whichever server answers.
func (k Kind) ToBoth() bool {
	switch k {
	case Solicit, Confirm, Rebind, Inform, Boot, Register:
		return true
	}
	return false
}

// GivesUp reports whether a client gives up what it had.
func (k Kind) GivesUp() bool { return k == Release || k == Decline }

// Object is what a client can ask for.
type Object uint8

// The objects: an address (IA_NA, or DHCPv4's one), a delegated prefix (IA_PD), a temporary
// address (IA_TA), an address that the client made itself.
const (
	Address Object = iota
	Delegation
	Temporary
	Registration
)

// Association is one thing that a client asks for (identity association, RFC 8415 section
// 4.2). A DHCPv4 client has one.
type Association struct {
	Object Object
	ID     uint32         // IAID, which the client chose; 0 with DHCPv4
	Hints  []netip.Prefix // what it has or would like to have; an address is a prefix of full length
	Time   time.Duration  // that it would like to have it for; 0: it does not say
}

// Hint is the first hint, or the zero prefix.
func (a *Association) Hint() netip.Prefix {
	if len(a.Hints) == 0 {
		return netip.Prefix{}
	}
	return a.Hints[0]
}

// Message is a message as its codec has it. What it gives points into the datagram.
type Message interface {
	// Name is the standard's name of its type, such as DISCOVER.
	Name() string
	// Option is the data of an option of the message itself; ok tells whether it is there.
	Option(code uint16) (data []byte, ok bool)
	// Each gives the options of the message itself, in the order of the wire.
	Each() iter.Seq2[uint16, []byte]
	// Wants lists the codes of the options that the client asks for.
	Wants() []uint16
	// Hostname, FQDN and Vendor are what the client says of itself, as text that can be shown
	// anywhere, or "".
	Hostname() string
	FQDN() string
	Vendor() string
	// Classes are the octets of its user classes.
	Classes() []byte
	// ClassList reads such octets.
	ClassList(octets []byte) []string
	// Anew is what the same client would send to be offered something.
	Anew(Path) Request
}

// Reply is a message to a client.
type Reply interface {
	Message
	// AppendTo encodes the reply behind dst, in at most limit octets. It says which options
	// had to be left out.
	AppendTo(dst []byte, limit int) (b []byte, omitted []uint16, err error)
}

// Path is how a message came here.
type Path struct {
	Interface string         // that heard it; "" if it is not a served one
	Prefixes  []netip.Prefix // of that interface
	Server    netip.Addr     // how the server names itself on this path
	Unicast   bool           // it was sent to one of the server's own addresses
	From      netip.Addr     // that it was sent from; the zero address if nobody sent it
	Trial     bool           // it is of a trial of this service: its relay is the link's own
}

// Agent is what a relay says of where a client is. Whether that is believed depends on the
// relay.
type Agent struct {
	Relay      netip.Addr // the relay's address on the client's link; the zero address: none
	Link       netip.Addr // an address of the client's link, if the relay selects that
	Circuit    []byte     // port: option 82.1, or interface-id; nil if it does not say
	Remote     []byte     // option 82.2, or remote-id
	Subscriber []byte     // option 82.6, or subscriber-id
}

// Request is what a client asks, with what is known of its way here.
type Request struct {
	Path
	Agent
	Family      option.Family
	Kind        Kind
	Hardware    addr.Hardware // "" if it is not known
	Identifier  []byte        // client identifier or DUID; nil if it sends none
	Chosen      []byte        // identifier of the server that it names; nil if it names none
	Wants       []Association // at least one, unless it asks for options alone
	Tried       time.Duration // since when it asks, as it says
	Transaction uint32        // that the client chose
	Message     Message
}

// First is the first thing that the client asks for, or nothing.
func (r *Request) First() Association {
	if len(r.Wants) == 0 {
		return Association{}
	}
	return r.Wants[0]
}

// HeardAt names where the client was heard: the relay, or else the interface.
func (r *Request) HeardAt() string {
	if r.Relay.IsValid() {
		return r.Relay.String()
	}
	return r.Interface
}

// Option is an option of a message itself.
type Option struct {
	Code uint16
	Data []byte
}

// Options are options in the order of the wire.
type Options []Option

// Get is the data of the first option with that code; ok tells whether it is there.
func (o Options) Get(code uint16) (data []byte, ok bool) {
	for i := range o {
		if o[i].Code == code {
			return o[i].Data, true
		}
	}
	return nil, false
}

// Each gives the options in their order.
func (o Options) Each() iter.Seq2[uint16, []byte] {
	return func(yield func(uint16, []byte) bool) {
		for i := range o {
			if !yield(o[i].Code, o[i].Data) {
				return
			}
		}
	}
}

// OptionsOf copies the options of a message.
func OptionsOf(m Message) (out Options) {
	for code, data := range m.Each() {
		out = append(out, Option{code, slices.Clone(data)})
	}
	return out
}

// Draft is a request that nobody sent. The codec of its family makes a message of it.
type Draft struct {
	Agent
	Family     option.Family
	Kind       Kind
	Hardware   addr.Hardware
	Identifier []byte
	Address    netip.Addr    // that it asks for, has, or wants options for; the zero address: it names none
	Server     netip.Addr    // that it chose or has its lease of
	ServerDUID []byte        // the same with DHCPv6
	Wants      []Association // with DHCPv6; none: one address, which may be Address
	Options    Options       // of what follows only that is added of which there is no option yet
	Hostname   string
	Vendor     string
	Class      string // user class
	Asks       []uint16
	Recorded   Options // of these last of all that is added of which there is no option yet
}

// Server is by what a server names itself to clients: an address, or with DHCPv6 a DUID.
type Server struct {
	Address netip.Addr
	DUID    addr.DUID
}

// Known reports whether this names any server.
func (s Server) Known() bool {
	return s.DUID != "" || s.Address.IsValid() && !s.Address.IsUnspecified()
}

func (s Server) String() string {
	switch {
	case s.DUID != "":
		return s.DUID.String()
	case s.Address.IsValid():
		return s.Address.String()
	}
	return ""
}

// ServerOf is the server that a message names by these octets; the zero Server for none, and for what no
// server can be called.
func ServerOf(f option.Family, b []byte) (s Server) {
	if f == option.V6 {
		if d := addr.DUID(b); d.Proper() {
			s.DUID = d
		}
	} else if a, ok := netip.AddrFromSlice(b); ok && len(b) == 4 {
		s.Address = a
	}
	return s
}

// Overheard is what another server sent to a client.
type Overheard struct {
	Family      option.Family
	Server      Server
	Transaction uint32
	Binding     bool // it gives the client something, rather than offer or refuse it
	Message     Message
}
