// Package wire has sockets and frames: datagrams come in with what
// is known of their way, replies go out by the way a decision names. It knows
// ports and interfaces, not leases.
package wire

import (
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/mdlayher/packet"
	"golang.org/x/net/ipv4"
)

// Ports of RFC 2131 section 4.1.
const (
	ServerPort = 67
	ClientPort = 68
)

// batchSize is how many datagrams one system call moves.
const batchSize = 64

// Interface is one interface of the host as it is now.
type Interface struct {
	Index    int
	Name     string
	Hardware net.HardwareAddr
	Prefixes []netip.Prefix // IPv4 addresses with their masks
	Served   bool           // broadcast clients on it are answered
}

// Packet is one datagram as it arrived.
type Packet struct {
	Data      []byte // valid until the handler returns
	From      netip.AddrPort
	To        netip.Addr // destination in the IP header
	Interface *Interface // nil if it is not known
}

// Reply is one datagram to be sent. With Frame it leaves as a raw Ethernet
// frame on its interface; else through the UDP socket.
type Reply struct {
	Data      []byte
	To        netip.AddrPort
	From      netip.Addr // source address, if it matters
	Frame     bool
	Hardware  net.HardwareAddr // destination of the frame
	Interface *Interface
	Talk      uint64 // number by which the sender knows it
}

// Server is the DHCPv4 side of the host.
type Server struct {
	conn   *net.UDPConn
	batch  *ipv4.PacketConn
	port   uint16
	any    bool // bound to all addresses
	log    *slog.Logger
	served []string
	frames sync.Map // interface index → *packet.Conn
	arps   sync.Map // interface index → *packet.Conn
	ears   []*packet.Conn

	listening sync.WaitGroup

	interfaces atomic.Pointer[map[int]*Interface]
	mu         sync.Mutex // one sender at a time uses out
	out        []ipv4.Message
	sending    []int // which reply each of out is
	SendErrors atomic.Uint64
	// Unsent, if set before Serve, is told of each reply that could not leave.
	Unsent func(Reply, error)
}

// Listen opens the socket. Broadcast clients are served on the named
// interfaces, which must exist.
func Listen(at netip.AddrPort, served []string, log *slog.Logger) (*Server, error) {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, fmt.Errorf("listen for DHCPv4 on %s: %w (is another DHCP server running, or is the right to use low ports missing?)", at, err)
	}
	_ = conn.SetReadBuffer(8 << 20)
	_ = conn.SetWriteBuffer(8 << 20)
	s := &Server{conn: conn, batch: ipv4.NewPacketConn(conn), port: uint16(conn.LocalAddr().(*net.UDPAddr).Port),
		any: at.Addr().IsUnspecified(), log: log, served: served}
	if err := s.batch.SetControlMessage(ipv4.FlagDst|ipv4.FlagInterface, true); err != nil {
		conn.Close()
		return nil, fmt.Errorf("listen for DHCPv4 on %s: %w", at, err)
	}
	if err := s.Refresh(); err != nil {
		conn.Close()
		return nil, err
	}
	for _, name := range served {
		if _, err := net.InterfaceByName(name); err != nil {
			conn.Close()
			return nil, fmt.Errorf("serve interface %s: there is no such interface; ip link shows all", name)
		}
	}
	return s, nil
}

// Addr is where the server listens.
func (s *Server) Addr() netip.AddrPort { return s.conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// Refresh looks at the host's interfaces again.
func (s *Server) Refresh() error {
	list, err := net.Interfaces()
	if err != nil {
		return fmt.Errorf("list interfaces: %w", err)
	}
	found := make(map[int]*Interface, len(list))
	for _, i := range list {
		f := &Interface{Index: i.Index, Name: i.Name, Hardware: i.HardwareAddr}
		addrs, err := i.Addrs()
		if err != nil {
			continue // it went away meanwhile
		}
		for _, a := range addrs {
			if n, ok := a.(*net.IPNet); ok {
				if ip, ok := netip.AddrFromSlice(n.IP); ok && ip.Unmap().Is4() {
					ones, _ := n.Mask.Size()
					f.Prefixes = append(f.Prefixes, netip.PrefixFrom(ip.Unmap(), ones))
				}
			}
		}
		for _, name := range s.served {
			f.Served = f.Served || name == i.Name
		}
		found[i.Index] = f
	}
	s.interfaces.Store(&found)
	return nil
}

// Drops is how many datagrams the kernel dropped because the socket's buffer was
// full, as /proc tells; 0 where it does not.
func (s *Server) Drops() uint64 {
	b, err := os.ReadFile("/proc/self/net/udp")
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

// Interfaces lists the host's interfaces by index, as of the last Refresh.
func (s *Server) Interfaces() map[int]*Interface { return *s.interfaces.Load() }

// Serve hands batches of datagrams to the handler until Close. The replies it
// returns are sent before the next batch is read.
func (s *Server) Serve(handle func([]Packet) []Reply) error {
	in := make([]ipv4.Message, batchSize)
	for i := range in {
		in[i].Buffers = [][]byte{make([]byte, 2048)}
		in[i].OOB = ipv4.NewControlMessage(ipv4.FlagDst | ipv4.FlagInterface)
	}
	packets := make([]Packet, 0, batchSize)
	var control ipv4.ControlMessage
	for {
		n, err := s.batch.ReadBatch(in, 0)
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			s.log.Error("cannot read from the DHCPv4 socket", "err", err)
			time.Sleep(100 * time.Millisecond)
			continue
		}
		interfaces := s.Interfaces()
		packets = packets[:0]
		for _, m := range in[:n] {
			from, ok := m.Addr.(*net.UDPAddr)
			if !ok {
				continue
			}
			p := Packet{Data: m.Buffers[0][:m.N], From: netip.AddrPortFrom(from.AddrPort().Addr().Unmap(), uint16(from.Port))}
			control = ipv4.ControlMessage{}
			if control.Parse(m.OOB[:m.NN]) == nil {
				if to, ok := netip.AddrFromSlice(control.Dst); ok {
					p.To = to.Unmap()
				}
				p.Interface = interfaces[control.IfIndex]
			}
			packets = append(packets, p)
		}
		if replies := handle(packets); len(replies) > 0 {
			s.Send(replies)
		}
	}
}

// Send sends replies; those that cannot leave are counted, and told of.
func (s *Server) Send(replies []Reply) {
	for _, f := range s.sendAll(replies) {
		s.SendErrors.Add(1)
		r := &replies[f.reply]
		s.log.Debug("a reply could not leave", "to", r.To, "err", f.err)
		if s.Unsent != nil {
			s.Unsent(*r, f.err)
		}
	}
}

// failure is a reply that could not leave.
type failure struct {
	reply int
	err   error
}

func (s *Server) sendAll(replies []Reply) (failed []failure) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.out, s.sending = s.out[:0], s.sending[:0]
	for i := range replies {
		r := &replies[i]
		if r.Frame {
			if err := s.sendFrame(r); err != nil {
				failed = append(failed, failure{i, err})
			}
			continue
		}
		m := s.message()
		s.sending = append(s.sending, i)
		m.Buffers[0] = r.Data
		to := m.Addr.(*net.UDPAddr)
		to.IP, to.Port = append(to.IP[:0], r.To.Addr().AsSlice()...), int(r.To.Port())
		if m.OOB = nil; s.any && r.From.IsValid() {
			m.OOB = (&ipv4.ControlMessage{Src: r.From.AsSlice()}).Marshal()
		}
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
func (s *Server) message() *ipv4.Message {
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

// sendFrame reaches a client that has no address yet, without ARP.
func (s *Server) sendFrame(r *Reply) error {
	return s.sendRaw(r.Interface, r.Interface.Hardware, r.Hardware, netip.AddrPortFrom(r.From, s.port), r.To, r.Data)
}

func (s *Server) sendRaw(i *Interface, fromHW, toHW net.HardwareAddr, from, to netip.AddrPort, data []byte) error {
	frame, err := Frame(fromHW, toHW, from, to, data)
	if err != nil {
		return err
	}
	return s.write(i, toHW, frame)
}

// write sends a whole Ethernet frame from an interface.
func (s *Server) write(i *Interface, toHW net.HardwareAddr, frame []byte) error {
	v, ok := s.frames.Load(i.Index)
	if !ok {
		ifi, err := net.InterfaceByIndex(i.Index)
		if err != nil {
			return err
		}
		conn, err := packet.Listen(ifi, packet.Raw, 0, nil) // protocol 0: it only sends
		if err != nil {
			return err
		}
		v, _ = s.frames.LoadOrStore(i.Index, conn)
	}
	_, err := v.(*packet.Conn).WriteTo(frame, &packet.Addr{HardwareAddr: toHW})
	if err != nil { // the interface may have been made anew; open it again next time
		s.frames.Delete(i.Index)
		v.(*packet.Conn).Close()
	}
	return err
}

// Frame wraps a datagram in UDP, IPv4 and Ethernet headers.
func Frame(fromHW, toHW net.HardwareAddr, from, to netip.AddrPort, data []byte) ([]byte, error) {
	eth := &layers.Ethernet{SrcMAC: fromHW, DstMAC: toHW, EthernetType: layers.EthernetTypeIPv4}
	ip := &layers.IPv4{Version: 4, TTL: 64, TOS: 0x10, Protocol: layers.IPProtocolUDP, SrcIP: from.Addr().AsSlice(),
		DstIP: to.Addr().AsSlice()}
	udp := &layers.UDP{SrcPort: layers.UDPPort(from.Port()), DstPort: layers.UDPPort(to.Port())}
	if err := udp.SetNetworkLayerForChecksum(ip); err != nil {
		return nil, err
	}
	buf := gopacket.NewSerializeBuffer()
	err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, eth, ip, udp,
		gopacket.Payload(data))
	return buf.Bytes(), err
}

// Close ends Serve.
func (s *Server) Close() {
	s.conn.Close()
	for _, e := range s.ears {
		e.Close()
	}
	s.listening.Wait()
	s.frames.Range(func(_, v any) bool {
		v.(*packet.Conn).Close()
		return true
	})
}
