// Package message is the codec of what the two servers of a pair say to each other
// (RFC 8156 section 5): octets to values and back. What is said, and when, core/pair knows.
package message

import (
	"encoding/binary"
	"errors"
	"fmt"

	"yarnpost/core/lease"
)

// Type says what a message is for (RFC 8156 section 5.3).
type Type uint8

// The messages.
const (
	BndUpd       Type = 24 // bindings that changed
	BndReply     Type = 25 // they are on record
	PoolReq      Type = 26 // asks for free addresses
	PoolResp     Type = 27
	UpdReq       Type = 28 // asks for what is not acknowledged yet
	UpdReqAll    Type = 29 // asks for everything
	UpdDone      Type = 30 // that was all
	Connect      Type = 31
	ConnectReply Type = 32
	Disconnect   Type = 33
	StateMsg     Type = 34 // the server's state
	Contact      Type = 35 // it is still there
)

var typeNames = map[Type]string{BndUpd: "BNDUPD", BndReply: "BNDREPLY", PoolReq: "POOLREQ", PoolResp: "POOLRESP", UpdReq: "UPDREQ",
	UpdReqAll: "UPDREQALL", UpdDone: "UPDDONE", Connect: "CONNECT", ConnectReply: "CONNECTREPLY", Disconnect: "DISCONNECT",
	StateMsg: "STATE", Contact: "CONTACT"}

func (t Type) String() string {
	if name, ok := typeNames[t]; ok {
		return name
	}
	return fmt.Sprintf("type %d", uint8(t))
}

// Codes of options (RFC 8415 section 21, RFC 5007 section 4.1.2, RFC 7341 section
// 7.2, RFC 8156 section 5.5).
const (
	ClientID                         = 1
	IANA                             = 3
	IAAddr                           = 5
	StatusCode                       = 13
	IAPD                             = 25
	IAPrefix                         = 26
	ClientData                       = 45
	CLTTime                          = 46
	DHCPv4Msg                        = 87
	BindingStatus                    = 114
	ConnectFlags                     = 115
	ExpirationTime                   = 120
	MaxUnackedBndUpd                 = 121
	LeadTime                         = 122 // F_MCLT
	PartnerLifetime                  = 123
	PartnerLifetimeSent              = 124
	PartnerDownTime                  = 125
	PartnerRawCLTTime                = 126
	ProtocolVersion                  = 127
	KeepaliveTime                    = 128
	RelationshipName                 = 130
	ServerFlags                      = 131
	ServerState                      = 132
	StartTimeOfState                 = 133
	StateExpirationTime              = 134
	ConfigurationConflict            = 17 // status code
	MissingBindingInformation        = 18 // status code
	OutdatedBinding                  = 19 // status code
	ServerShuttingDown               = 20 // status code
	ExcessiveTimeSkew                = 22 // status code
	headSize                         = 1 + 3 + 4
	frameSize                        = 2
	MessageMost                      = 1<<16 - 1 // octets behind the size
	TransactionMost           uint32 = 1<<24 - 1
)

// Epoch is the second from which times in messages count, 2000-01-01 UTC, in
// seconds since 1970.
const Epoch = lease.PairEpoch

// Option is one option of a message, or of another option that holds some.
type Option struct {
	Code uint16
	Data []byte
}

// Options are options in their order.
type Options []Option

// Message is one message.
type Message struct {
	Type        Type
	Transaction uint32 // 24 bits
	Sent        uint32 // seconds since Epoch, as the sender's clock has it
	Options     Options
}

// Errors of Cut and Decode.
var (
	// ErrShort says that a message or an option ends before it should.
	ErrShort = errors.New("cut short")
	// ErrType says that a message is of no type of RFC 8156.
	ErrType = errors.New("no message of a pair")
)

// Cut cuts the first message off what was read from a connection: behind two
// octets that say how long it is, big-endian. Without ok there is not all of it yet.
func Cut(b []byte) (message, rest []byte, ok bool) {
	if len(b) < frameSize {
		return nil, b, false
	}
	n := frameSize + int(binary.BigEndian.Uint16(b))
	if len(b) < n {
		return nil, b, false
	}
	return b[frameSize:n], b[n:], true
}

// Decode reads a message without its size. Data of options points into b. Options
// that nobody knows are kept, so that who knows more says more.
func Decode(b []byte) (m Message, err error) {
	if len(b) < headSize {
		return m, fmt.Errorf("message of %d octets: %w", len(b), ErrShort)
	}
	m.Type = Type(b[0])
	if typeNames[m.Type] == "" {
		return m, fmt.Errorf("message %d: %w", b[0], ErrType)
	}
	m.Transaction = binary.BigEndian.Uint32(b) & TransactionMost
	m.Sent = binary.BigEndian.Uint32(b[4:])
	if m.Options, err = DecodeOptions(b[headSize:]); err != nil {
		return m, fmt.Errorf("%s: %w", m.Type, err)
	}
	return m, nil
}

// DecodeOptions reads options as DHCPv6 has them: code and length in two octets
// each, big-endian (RFC 8415 section 21.1).
func DecodeOptions(b []byte) (out Options, err error) {
	for len(b) > 0 {
		if len(b) < 4 {
			return nil, fmt.Errorf("option: %w", ErrShort)
		}
		code, n := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[2:]))
		if len(b) < 4+n {
			return nil, fmt.Errorf("option %d of %d octets: %w", code, n, ErrShort)
		}
		out = append(out, Option{code, b[4 : 4+n : 4+n]})
		b = b[4+n:]
	}
	return out, nil
}

// Append adds a message with its size. One that does not fit is refused, and dst
// comes back as it was.
func Append(dst []byte, m *Message) ([]byte, error) {
	start := len(dst)
	out := append(dst, 0, 0)
	out = binary.BigEndian.AppendUint32(out, uint32(m.Type)<<24|m.Transaction&TransactionMost)
	out = binary.BigEndian.AppendUint32(out, m.Sent)
	out, err := AppendOptions(out, m.Options)
	if err != nil {
		return dst, fmt.Errorf("encode %s: %w", m.Type, err)
	}
	n := len(out) - start - frameSize
	if n > MessageMost {
		return dst, fmt.Errorf("encode %s: it takes %d octets, and %d is the most", m.Type, n, MessageMost)
	}
	binary.BigEndian.PutUint16(out[start:], uint16(n))
	return out, nil
}

// AppendOptions adds options.
func AppendOptions(dst []byte, list Options) ([]byte, error) {
	out := dst
	for _, o := range list {
		if len(o.Data) > 1<<16-1 {
			return dst, fmt.Errorf("option %d of %d octets is too long", o.Code, len(o.Data))
		}
		out = binary.BigEndian.AppendUint16(out, o.Code)
		out = binary.BigEndian.AppendUint16(out, uint16(len(o.Data)))
		out = append(out, o.Data...)
	}
	return out, nil
}

// Get is the data of the first option with a code.
func (l Options) Get(code uint16) ([]byte, bool) {
	for _, o := range l {
		if o.Code == code {
			return o.Data, true
		}
	}
	return nil, false
}

// Uint32 is an option of four octets, big-endian.
func (l Options) Uint32(code uint16) (uint32, bool) {
	if b, ok := l.Get(code); ok && len(b) == 4 {
		return binary.BigEndian.Uint32(b), true
	}
	return 0, false
}

// Uint8 is an option of one octet.
func (l Options) Uint8(code uint16) (uint8, bool) {
	if b, ok := l.Get(code); ok && len(b) == 1 {
		return b[0], true
	}
	return 0, false
}

// PutUint32 adds an option of four octets, big-endian.
func (l *Options) PutUint32(code uint16, v uint32) {
	*l = append(*l, Option{code, binary.BigEndian.AppendUint32(nil, v)})
}

// PutUint8 adds an option of one octet.
func (l *Options) PutUint8(code uint16, v uint8) { *l = append(*l, Option{code, []byte{v}}) }

// Put adds an option.
func (l *Options) Put(code uint16, data []byte) { *l = append(*l, Option{code, data}) }
