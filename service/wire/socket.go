package wire

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// socket is where one version of DHCP is heard, and answered.
type socket struct {
	conn  *net.UDPConn
	batch batch
	port  uint16
	any   bool // bound to all addresses
	room  int  // octets of the longest datagram that is taken
	oob   func() []byte
	way   func(oob []byte) (to net.IP, index int, ok bool) // how a datagram came
	from  func(r *Reply) []byte                            // control octets that say how a reply is to leave
	joins *ipv6.PacketConn                                 // nil with DHCPv4

	mu      sync.Mutex // one sender at a time uses out
	out     []ipv4.Message
	sending []int // which reply each of out is
}

// batch is what moves many datagrams in one call; messages of both versions are of one type.
type batch interface {
	ReadBatch([]ipv4.Message, int) (int, error)
	WriteBatch([]ipv4.Message, int) (int, error)
}

// Groups of RFC 8415 section 7.1: all servers and relays of a link, and all servers of a site.
var groups6 = []net.IP{allServers6.AsSlice(), net.ParseIP("ff05::1:3")}

func listen4(at netip.AddrPort) (*socket, error) {
	s, err := open("udp4", "DHCPv4", at)
	if err != nil {
		return nil, err
	}
	c := ipv4.NewPacketConn(s.conn)
	s.batch, s.room = c, 2048
	if err := c.SetControlMessage(ipv4.FlagDst|ipv4.FlagInterface, true); err != nil {
		s.conn.Close()
		return nil, fmt.Errorf("listen for DHCPv4 on %s: %w", at, err)
	}
	var control ipv4.ControlMessage // one goroutine reads
	s.oob = func() []byte { return ipv4.NewControlMessage(ipv4.FlagDst | ipv4.FlagInterface) }
	s.way = func(oob []byte) (net.IP, int, bool) {
		control = ipv4.ControlMessage{}
		err := control.Parse(oob)
		return control.Dst, control.IfIndex, err == nil
	}
	s.from = func(r *Reply) []byte {
		if !s.any || !r.From.IsValid() {
			return nil
		}
		return (&ipv4.ControlMessage{Src: r.From.AsSlice()}).Marshal()
	}
	return s, nil
}

func listen6(at netip.AddrPort) (*socket, error) {
	s, err := open("udp6", "DHCPv6", at)
	if err != nil {
		return nil, err
	}
	c := ipv6.NewPacketConn(s.conn)
	s.batch, s.joins, s.room = c, c, 8192 // with what up to nine relays put around it
	if err := c.SetControlMessage(ipv6.FlagDst|ipv6.FlagInterface, true); err != nil {
		s.conn.Close()
		return nil, fmt.Errorf("listen for DHCPv6 on %s: %w", at, err)
	}
	var control ipv6.ControlMessage
	s.oob = func() []byte { return ipv6.NewControlMessage(ipv6.FlagDst | ipv6.FlagInterface) }
	s.way = func(oob []byte) (net.IP, int, bool) {
		control = ipv6.ControlMessage{}
		err := control.Parse(oob)
		return control.Dst, control.IfIndex, err == nil
	}
	s.from = func(r *Reply) []byte {
		if r.Interface == nil || !r.To.Addr().IsLinkLocalUnicast() {
			return nil
		}
		return (&ipv6.ControlMessage{IfIndex: r.Interface.Index}).Marshal()
	}
	return s, nil
}

func open(network, name string, at netip.AddrPort) (*socket, error) {
	conn, err := net.ListenUDP(network, net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, fmt.Errorf("listen for %s on %s: %w (is another DHCP server running, or is the right to use low ports missing?)", name, at,
			err)
	}
	_ = conn.SetReadBuffer(8 << 20)
	_ = conn.SetWriteBuffer(8 << 20)
	return &socket{conn: conn, port: uint16(conn.LocalAddr().(*net.UDPAddr).Port), any: at.Addr().IsUnspecified()}, nil
}

func (s *socket) addr() netip.AddrPort { return s.conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// join hears the clients of an interface; that it does already is no fault.
func (s *socket) join(i *net.Interface) {
	for _, g := range groups6 {
		if err := s.joins.JoinGroup(i, &net.UDPAddr{IP: g}); err != nil && !errors.Is(err, syscall.EADDRINUSE) {
			continue // it has no IPv6 yet; it is tried again with the next look
		}
	}
}

// incoming is room for a batch.
func (s *socket) incoming() []ipv4.Message {
	in := make([]ipv4.Message, batchSize)
	for i := range in {
		in[i].Buffers = [][]byte{make([]byte, s.room)}
		in[i].OOB = s.oob()
	}
	return in
}

// drops is how many datagrams the kernel dropped, as a file of /proc tells.
func (s *socket) drops(file string) uint64 {
	b, err := os.ReadFile(file)
	if err != nil {
		return 0
	}
	want := fmt.Sprintf(":%04X", s.port)
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.Fields(line)
		if len(f) >= 13 && strings.HasSuffix(f[1], want) {
			n, _ := strconv.ParseUint(f[12], 10, 64)
			return n
		}
	}
	return 0
}

// failure is a reply that could not leave.
type failure struct {
	reply int
	err   error
}

// send sends the replies that are this socket's.
func (s *socket) send(replies []Reply) (failed []failure) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.out, s.sending = s.out[:0], s.sending[:0]
	for i := range replies {
		r := &replies[i]
		if r.Frame || r.To.Addr().Is6() != (s.joins != nil) {
			continue
		}
		m := s.message()
		s.sending = append(s.sending, i)
		m.Buffers[0] = r.Data
		to := m.Addr.(*net.UDPAddr)
		to.IP, to.Port, to.Zone = append(to.IP[:0], r.To.Addr().AsSlice()...), int(r.To.Port()), r.To.Addr().Zone()
		m.OOB = s.from(r)
	}
	for done := 0; done < len(s.out); {
		n, err := s.batch.WriteBatch(s.out[done:min(len(s.out), done+batchSize)], 0)
		if err != nil { // the first of them cannot be sent; go on behind it
			failed = append(failed, failure{s.sending[done], err})
			n = 1
		}
		done += n
	}
	return failed
}

// message makes room for one more outgoing datagram, in memory of earlier ones.
// The caller holds the lock.
func (s *socket) message() *ipv4.Message {
	if n := len(s.out); n < cap(s.out) {
		s.out = s.out[:n+1]
	} else {
		s.out = append(s.out, ipv4.Message{})
	}
	m := &s.out[len(s.out)-1]
	if m.Addr == nil {
		m.Buffers, m.Addr = make([][]byte, 1), &net.UDPAddr{}
	}
	return m
}
