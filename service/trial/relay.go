// Package trial has a DHCPv4 client that makes real
// exchanges with a real server, through a relay of its own on an address of this
// machine. Trials, the demo and the tests sit here.
package trial

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/service/lock"
)

// ErrSilence is given when no reply came in time.
var ErrSilence = errors.New("no reply")

// Relay is a relay agent on a loopback address. It names its link by link
// selection (RFC 3527) and takes replies on its own port (RFC 8357).
type Relay struct {
	Link    netip.Addr // an address of the link it serves
	Tried   uint16     // seconds for which its clients say that they tried before: then either server of a pair answers
	conn    *net.UDPConn
	giaddr  netip.Addr
	servers []*net.UDPAddr

	mu   sync.Mutex
	wait map[uint32]chan []byte
}

// NewRelay opens a relay at a loopback address, in front of a server or of several.
func NewRelay(at, link netip.Addr, servers ...netip.AddrPort) (*Relay, error) {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(at, 0)))
	if err != nil {
		return nil, fmt.Errorf("relay at %s: %w", at, err)
	}
	_ = conn.SetReadBuffer(1 << 20)
	r := &Relay{Link: link, conn: conn, giaddr: at, wait: map[uint32]chan []byte{}}
	for _, s := range servers {
		r.servers = append(r.servers, net.UDPAddrFromAddrPort(s))
	}
	go r.read()
	return r, nil
}

// Address is the relay's own address (giaddr).
func (r *Relay) Address() netip.Addr { return r.giaddr }

// Local is where the relay sends from.
func (r *Relay) Local() netip.AddrPort { return r.conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// Close ends the relay.
func (r *Relay) Close() { r.conn.Close() }

func (r *Relay) read() {
	buf := make([]byte, 2048)
	for {
		n, _, err := r.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		if n < 8 {
			continue
		}
		xid := binary.BigEndian.Uint32(buf[4:])
		var c chan []byte
		lock.While(&r.mu, func() { c = r.wait[xid] })
		if c != nil {
			select {
			case c <- append([]byte(nil), buf[:n]...):
			default: // a second reply to the same message
			}
		}
	}
}

// Option82 is what the relay adds: circuit, link selection, source port.
func (r *Relay) Option82(circuit string) []byte {
	var b []byte
	if circuit != "" {
		b = dhcp4.AppendSub(b, dhcp4.SubCircuit, []byte(circuit))
	}
	link := r.Link.As4()
	return dhcp4.AppendSub(dhcp4.AppendSub(b, dhcp4.SubLink, link[:]), dhcp4.SubSourcePort, nil)
}

// Send relays a message without waiting for a reply.
func (r *Relay) Send(m dhcp4.Message, circuit string) error {
	m.GIAddr, m.Hops = r.giaddr, m.Hops+1
	m.Options = append(append(dhcp4.Options(nil), m.Options...), dhcp4.Option{Code: option.RelayAgent, Data: r.Option82(circuit)})
	b, _, err := dhcp4.Append(nil, &m, dhcp4.MaxMax)
	if err != nil {
		return err
	}
	for _, s := range r.servers {
		if _, bad := r.conn.WriteTo(b, s); bad != nil {
			err = bad
		}
	}
	return err
}

// Exchange relays a message and waits for the reply to its transaction, trying
// again as clients do. It gives the reply decoded and as it came.
func (r *Relay) Exchange(ctx context.Context, m dhcp4.Message, circuit string, patience time.Duration) (*dhcp4.Message, []byte, error) {
	c := make(chan []byte, 1)
	lock.While(&r.mu, func() { r.wait[m.XID] = c })
	defer lock.While(&r.mu, func() { delete(r.wait, m.XID) })
	end := time.NewTimer(patience)
	defer end.Stop()
	every := max(patience/3, time.Second)
	again := time.NewTicker(every)
	defer again.Stop()
	for sent := time.Duration(0); ; sent += every {
		m.Secs = r.Tried + uint16(sent/time.Second)
		if err := r.Send(m, circuit); err != nil {
			return nil, nil, err
		}
		reply, raw, err := r.await(ctx, &m, c, end.C, again.C)
		if err != nil || reply != nil {
			return reply, raw, err
		}
	}
}

// await waits for the reply to a message; nil for none yet, when it is time to try again.
func (r *Relay) await(ctx context.Context, m *dhcp4.Message, c <-chan []byte, end, again <-chan time.Time) (*dhcp4.Message, []byte, error) {
	for {
		select {
		case b := <-c:
			reply := &dhcp4.Message{}
			if err := dhcp4.Decode(reply, b); err != nil {
				return nil, b, err
			}
			if reply.Op == dhcp4.BootReply && reply.CHAddr == m.CHAddr {
				return reply, b, nil
			} // else another client's, by chance of the same number
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-end:
			return nil, nil, ErrSilence
		case <-again:
			return nil, nil, nil
		}
	}
}
