package wire

import (
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
)

var quiet = slog.New(slog.DiscardHandler)

// A frame for a client without an address carries right lengths and checksums.
func TestFrame(t *testing.T) {
	hw := net.HardwareAddr{2, 0, 0, 0, 0, 0x17}
	own := net.HardwareAddr{2, 0, 0, 0, 0, 1}
	b, err := Frame(own, hw, netip.MustParseAddrPort("10.77.0.1:67"), netip.MustParseAddrPort("10.77.0.100:68"),
		[]byte("payload of an odd length."))
	if err != nil {
		t.Fatal(err)
	}
	p := gopacket.NewPacket(b, layers.LayerTypeEthernet, gopacket.Default)
	eth, _ := p.Layer(layers.LayerTypeEthernet).(*layers.Ethernet)
	ip, _ := p.Layer(layers.LayerTypeIPv4).(*layers.IPv4)
	udp, _ := p.Layer(layers.LayerTypeUDP).(*layers.UDP)
	if eth == nil || ip == nil || udp == nil {
		t.Fatalf("not a frame: %v", p)
	}
	if eth.DstMAC.String() != hw.String() || eth.SrcMAC.String() != own.String() || ip.DstIP.String() != "10.77.0.100" ||
		ip.SrcIP.String() != "10.77.0.1" || udp.SrcPort != 67 || udp.DstPort != 68 {
		t.Errorf("addressed wrongly: %v", p)
	}
	if sum := ones(b[14:34]); sum != 0xffff {
		t.Errorf("IPv4 header checksum does not add up: %#x", sum)
	}
	pseudo := append(append([]byte{}, b[26:34]...), 0, 17, b[38], b[39])
	if sum := ones(append(pseudo, b[34:]...)); sum != 0xffff {
		t.Errorf("UDP checksum does not add up: %#x", sum)
	}
}

// ones is the one's complement sum of RFC 1071.
func ones(b []byte) uint32 {
	var sum uint32
	for i := 0; i < len(b); i += 2 {
		sum += uint32(b[i]) << 8
		if i+1 < len(b) {
			sum += uint32(b[i+1])
		}
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return sum
}

// Datagrams come with their source, destination and interface, and replies
// reach whom they are for, more of them than one call moves.
func TestServe(t *testing.T) {
	s, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"), netip.AddrPort{}, nil, quiet)
	if err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	var seen []Packet
	done := make(chan error, 1)
	go func() {
		done <- s.Serve(func(in []Packet) (out []Reply) {
			mu.Lock()
			defer mu.Unlock()
			for _, p := range in {
				out = append(out, Reply{Data: append([]byte("re: "), p.Data...), To: p.From, From: p.To})
				p.Data = nil
				seen = append(seen, p)
			}
			return out
		})
	}()
	conn, err := net.Dial("udp4", s.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	const many = 3 * batchSize
	for i := range many {
		if _, err := conn.Write([]byte{byte(i)}); err != nil {
			t.Fatal(err)
		}
	}
	got := map[byte]bool{}
	buf := make([]byte, 100)
	conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	for range many {
		n, err := conn.Read(buf)
		if err != nil || n != 5 || !strings.HasPrefix(string(buf[:n]), "re: ") {
			t.Fatalf("after %d replies: %q, %v", len(got), buf[:n], err)
		}
		got[buf[4]] = true
	}
	if len(got) != many {
		t.Errorf("%d different replies of %d", len(got), many)
	}
	s.Close()
	if err := <-done; err != nil {
		t.Errorf("Serve ended with %v", err)
	}
	if p := seen[0]; p.To.String() != "127.0.0.1" || p.Interface == nil || p.Interface.Name != "lo" || p.Interface.Served ||
		p.From.String() != conn.LocalAddr().String() {
		t.Errorf("the first packet came as %+v on %+v", p, p.Interface)
	}
}

// A reply that cannot leave is counted and does not keep back those behind it.
func TestSendGoesOn(t *testing.T) {
	s, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"), netip.AddrPort{}, nil, quiet)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	to := conn.LocalAddr().(*net.UDPAddr).AddrPort()
	s.Send([]Reply{{Data: make([]byte, 70000), To: to}, {Data: []byte("ok"), To: to}})
	conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	buf := make([]byte, 10)
	if n, _, err := conn.ReadFromUDP(buf); err != nil || string(buf[:n]) != "ok" {
		t.Errorf("got %q, %v", buf[:n], err)
	}
	if s.SendErrors.Load() != 1 {
		t.Errorf("%d failures counted, want 1", s.SendErrors.Load())
	}
}

func TestListenRefusals(t *testing.T) {
	if _, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"), netip.AddrPort{}, []string{"nowhere9"}, quiet); err == nil ||
		!strings.Contains(err.Error(), "nowhere9") {
		t.Errorf("an interface that is not there: %v", err)
	}
	s, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"), netip.AddrPort{}, nil, quiet)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := Listen(s.Addr(), netip.AddrPort{}, nil, quiet); err == nil || !strings.Contains(err.Error(), "another DHCP server") {
		t.Errorf("a port in use: %v", err)
	}
}
