package trial

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"yarnpost/service/lock"
)

// ErrSilence is given when no reply came in time.
var ErrSilence = errors.New("no reply")

// post is a relay's socket: messages go out to all servers, and replies come back to whoever
// waits for their transaction.
type post struct {
	conn    *net.UDPConn
	servers []*net.UDPAddr

	mu   sync.Mutex
	wait map[uint32]chan []byte
}

// newPost opens a socket at an address. The transaction of a reply is what of tells of it.
func newPost(at netip.Addr, servers []netip.AddrPort, of func([]byte) (transaction uint32, ok bool)) (*post, error) {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(at, 0)))
	if err != nil {
		return nil, fmt.Errorf("relay at %s: %w", at, err)
	}
	_ = conn.SetReadBuffer(1 << 20)
	p := &post{conn: conn, wait: map[uint32]chan []byte{}}
	for _, s := range servers {
		p.servers = append(p.servers, net.UDPAddrFromAddrPort(s))
	}
	go p.read(of)
	return p, nil
}

// Local is where the relay sends from.
func (p *post) Local() netip.AddrPort { return p.conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// Close ends the relay.
func (p *post) Close() { p.conn.Close() }

func (p *post) read(of func([]byte) (uint32, bool)) {
	buf := make([]byte, 1<<16)
	for {
		n, _, err := p.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		key, ok := of(buf[:n])
		if !ok {
			continue
		}
		var c chan []byte
		lock.While(&p.mu, func() { c = p.wait[key] })
		if c != nil {
			select {
			case c <- append([]byte(nil), buf[:n]...):
			default: // a second reply to the same message
			}
		}
	}
}

// send sends a datagram to every server.
func (p *post) send(b []byte) (err error) {
	for _, s := range p.servers {
		if _, bad := p.conn.WriteTo(b, s); bad != nil {
			err = bad
		}
	}
	return err
}

// exchange sends, and waits for a reply to the transaction that take keeps, trying again as
// clients do: send is told for how long the client has tried. What take cannot read ends it.
func (p *post) exchange(ctx context.Context, transaction uint32, patience time.Duration, send func(tried time.Duration) error,
	take func([]byte) (mine bool, err error)) error {
	c := make(chan []byte, 1)
	lock.While(&p.mu, func() { p.wait[transaction] = c })
	defer lock.While(&p.mu, func() { delete(p.wait, transaction) })
	end := time.NewTimer(patience)
	defer end.Stop()
	every := max(patience/3, time.Second)
	again := time.NewTicker(every)
	defer again.Stop()
	tried := time.Duration(0)
	if err := send(tried); err != nil {
		return err
	}
	for {
		select {
		case b := <-c:
			if mine, err := take(b); mine || err != nil {
				return err
			} // else another client's, by chance of the same number
		case <-ctx.Done():
			return ctx.Err()
		case <-end.C:
			return ErrSilence
		case <-again.C:
			tried += every
			if err := send(tried); err != nil {
				return err
			}
		}
	}
}
