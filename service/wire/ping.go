package wire

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"sync/atomic"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// Pinger asks addresses beyond relays by ICMP echo. An answer counts if it brings back
// what only the host at that address was told: the payload is a keyed hash of the
// address and of the number of the request.
type Pinger struct {
	conn   *icmp.PacketConn
	of     echoes
	id     int
	secret [32]byte
	number atomic.Uint32
}

// payloadSize is how many octets of the hash a request carries.
const payloadSize = 16

// echoes are the echo messages of a family.
type echoes struct {
	network, any string
	number       int // of the protocol
	ask, answer  icmp.Type
}

var (
	echoes4 = echoes{"ip4:icmp", "0.0.0.0", 1, ipv4.ICMPTypeEcho, ipv4.ICMPTypeEchoReply}
	echoes6 = echoes{"ip6:ipv6-icmp", "::", 58, ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply}
)

// NewPinger opens the raw ICMP socket; heard gets every address that answers.
func NewPinger(id uint16, heard func(netip.Addr)) (*Pinger, error) {
	return newPinger(echoes4, id, heard)
}

// NewPinger6 does the same for IPv6.
func NewPinger6(id uint16, heard func(netip.Addr)) (*Pinger, error) {
	return newPinger(echoes6, id, heard)
}

func newPinger(of echoes, id uint16, heard func(netip.Addr)) (*Pinger, error) {
	conn, err := icmp.ListenPacket(of.network, of.any)
	if err != nil {
		return nil, fmt.Errorf("open a socket for ICMP: %w", err)
	}
	p := &Pinger{conn: conn, of: of, id: int(id)}
	rand.Read(p.secret[:])
	p.number.Store(binary.BigEndian.Uint32(p.secret[:]))
	go p.read(heard)
	return p, nil
}

// payload is what the request of a number to an address carries.
func (p *Pinger) payload(a netip.Addr, seq uint16) []byte {
	h := hmac.New(sha256.New, p.secret[:])
	h.Write(binary.BigEndian.AppendUint16(a.AsSlice(), seq))
	return h.Sum(nil)[:payloadSize]
}

func (p *Pinger) read(heard func(netip.Addr)) {
	buf := make([]byte, 256)
	for {
		n, from, err := p.conn.ReadFrom(buf)
		if err != nil {
			return
		}
		if ip, ok := from.(*net.IPAddr); ok {
			if a, ok := netip.AddrFromSlice(ip.IP); ok && p.answers(a.Unmap(), buf[:n]) {
				heard(a.Unmap())
			}
		}
	}
}

// answers reports whether an ICMP message from an address answers a request of ours.
func (p *Pinger) answers(a netip.Addr, b []byte) bool {
	m, err := icmp.ParseMessage(p.of.number, b)
	if err != nil || m.Type != p.of.answer {
		return false
	}
	echo, ok := m.Body.(*icmp.Echo)
	return ok && echo.ID == p.id && hmac.Equal(echo.Data, p.payload(a, uint16(echo.Seq)))
}

// Ping sends one echo request.
func (p *Pinger) Ping(a netip.Addr) error {
	seq := uint16(p.number.Add(1))
	m := icmp.Message{Type: p.of.ask, Body: &icmp.Echo{ID: p.id, Seq: int(seq), Data: p.payload(a, seq)}}
	b, err := m.Marshal(nil)
	if err != nil {
		return err
	}
	_, err = p.conn.WriteTo(b, &net.IPAddr{IP: a.AsSlice()})
	return err
}

// Close ends the pinger.
func (p *Pinger) Close() { p.conn.Close() }
