package demo

import (
	"errors"
	"fmt"
	"net"
	"sync"
	"time"
)

// Cable is the wire between two partners: it can be cut, or go dead in one direction.
type Cable struct {
	listener net.Listener
	to       string

	mu    sync.Mutex
	isCut bool
	dead  [2]bool // from the one that dials, and to it: octets wait
	conns []net.Conn
}

// NewCable lays a wire to where a partner is heard.
func NewCable(to string) (*Cable, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("lay a cable: %w", err)
	}
	c := &Cable{listener: l, to: to}
	go func() {
		for {
			near, err := l.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err == nil {
				c.join(near)
			}
		}
	}()
	return c, nil
}

// Address is where the wire begins.
func (c *Cable) Address() string { return c.listener.Addr().String() }

// Close takes the wire away.
func (c *Cable) Close() {
	c.listener.Close()
	c.Cut()
}

func (c *Cable) join(near net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	far, err := net.Dial("tcp", c.to)
	if c.isCut || err != nil {
		near.Close()
		if err == nil {
			far.Close()
		}
		return
	}
	c.conns = append(c.conns, near, far)
	go c.carry(0, near, far)
	go c.carry(1, far, near)
}

func (c *Cable) carry(way int, from, to net.Conn) {
	defer from.Close()
	defer to.Close()
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		for c.isDead(way) {
			time.Sleep(20 * time.Millisecond)
		}
		if n > 0 {
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

func (c *Cable) isDead(way int) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.dead[way] && !c.isCut
}

// Cut cuts the wire: connections end, and none is made.
func (c *Cable) Cut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.isCut = true
	for _, x := range c.conns {
		x.Close()
	}
	c.conns = nil
}

// Deaden has nothing arrive any more that the one that dialled sends, or, with back,
// that is sent to it.
func (c *Cable) Deaden(back bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if back {
		c.dead[1] = true
	} else {
		c.dead[0] = true
	}
}

// Mend makes the wire whole.
func (c *Cable) Mend() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.isCut, c.dead = false, [2]bool{}
}
