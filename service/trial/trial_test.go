package trial

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
)

// server answers relayed messages as a test wants it, and keeps what it heard.
type server struct {
	t    *testing.T
	conn *net.UDPConn
	at   netip.AddrPort

	mu     sync.Mutex
	heard  []dhcp4.Message
	answer func(m *dhcp4.Message) []dhcp4.Message
}

func newServer(t *testing.T) *server {
	t.Helper()
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	s := &server{t: t, conn: conn, at: conn.LocalAddr().(*net.UDPAddr).AddrPort(), answer: usual}
	go func() {
		buf := make([]byte, 2048)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			var m dhcp4.Message
			if err := dhcp4.Decode(&m, append([]byte(nil), buf[:n]...)); err != nil {
				t.Errorf("what the relay forwards is no message: %v", err)
				continue
			}
			s.mu.Lock()
			s.heard = append(s.heard, m)
			list := s.answer(&m)
			s.mu.Unlock()
			for i := range list {
				b, _, err := dhcp4.Append(nil, &list[i], dhcp4.MaxMax)
				if err != nil {
					t.Error(err)
				}
				if _, err := conn.WriteToUDPAddrPort(b, from); err != nil {
					t.Error(err)
				}
			}
		}
	}()
	return s
}

// reply is an answer to a message.
func reply(m *dhcp4.Message, t dhcp4.Type, a string) dhcp4.Message {
	zero := netip.IPv4Unspecified()
	r := dhcp4.Message{Op: dhcp4.BootReply, HType: 1, XID: m.XID, CIAddr: zero, YIAddr: netip.MustParseAddr(a), SIAddr: zero,
		GIAddr: m.GIAddr, CHAddr: m.CHAddr,
		Options: dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(t)}}, {Code: option.ServerID, Data: []byte{10, 77, 0, 1}}}}
	if t == dhcp4.Ack {
		r.Options = append(r.Options, dhcp4.Option{Code: option.AddressTime, Data: binary.BigEndian.AppendUint32(nil, 3600)})
	}
	return r
}

// usual offers an address and acknowledges it.
func usual(m *dhcp4.Message) []dhcp4.Message {
	switch m.Type {
	case dhcp4.Discover:
		return []dhcp4.Message{reply(m, dhcp4.Offer, "10.77.0.9")}
	case dhcp4.Request, dhcp4.Inform:
		return []dhcp4.Message{reply(m, dhcp4.Ack, "10.77.0.9")}
	}
	return nil
}

func (s *server) set(answer func(m *dhcp4.Message) []dhcp4.Message) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.answer, s.heard = answer, nil
}

func (s *server) messages() []dhcp4.Message {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]dhcp4.Message(nil), s.heard...)
}

func (s *server) client(t *testing.T) *Client {
	t.Helper()
	r, err := NewRelay(netip.MustParseAddr("127.0.0.1"), netip.MustParseAddr("10.77.0.1"), s.at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Close)
	return &Client{Relay: r, Circuit: "sw1/0/7", Hardware: addr.Hardware("\x02\x40\x00\x00\x00\x01"), ID: []byte{0, 1, 2},
		Hostname: "loom", Vendor: "loomctl",
		Wants: []byte{1, 3, 6}, Patience: 3 * time.Second}
}

// A client behind its relay says who and where it is, and takes what it is given.
func TestClient(t *testing.T) {
	s := newServer(t)
	c := s.client(t)
	ctx := context.Background()
	if err := c.Get(ctx); err != nil {
		t.Fatal(err)
	}
	if c.Address.String() != "10.77.0.9" || c.Lease != time.Hour || c.Server.String() != "10.77.0.1" {
		t.Errorf("it has %s for %s of %s", c.Address, c.Lease, c.Server)
	}
	heard := s.messages()
	if len(heard) != 2 || heard[0].Type != dhcp4.Discover || heard[1].Type != dhcp4.Request {
		t.Fatalf("heard were %d messages", len(heard))
	}
	for _, m := range heard {
		agent, _ := m.Options.Get(option.RelayAgent)
		of := dhcp4.ParseRelay(agent)
		if m.GIAddr.String() != "127.0.0.1" || m.Hops != 1 || of.Link.String() != "10.77.0.1" || string(of.Circuit) != "sw1/0/7" {
			t.Errorf("it comes from %s, %d hops, link %s, circuit %q", m.GIAddr, m.Hops, of.Link, of.Circuit)
		}
		if id, _ := m.Options.Get(option.ClientID); string(id) != "\x00\x01\x02" || m.Text(option.Hostname) != "loom" {
			t.Errorf("it says that it is %x, %q", id, m.Text(option.Hostname))
		}
	}
	if a, _ := heard[1].Options.Addr(option.AddressRequest); a.String() != "10.77.0.9" {
		t.Errorf("it takes %s", a)
	}
	s.set(usual)
	if err := errors.Join(c.Renew(ctx), c.Reboot(ctx, c.Address)); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Inform(ctx, c.Address); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(c.Decline(), c.Release()); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(5 * time.Second); len(s.messages()) < 5 && time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
	}
	var types []string
	for _, m := range s.messages() {
		types = append(types, m.Type.String())
		if _, listed := m.Options.Get(option.ParameterList); listed && (m.Type == dhcp4.Release || m.Type == dhcp4.Decline) {
			t.Errorf("a %s asks for options", m.Type)
		}
	}
	if got := strings.Join(types, " "); got != "REQUEST REQUEST INFORM DECLINE RELEASE" {
		t.Errorf("heard were %s", got)
	}
}

// What is no answer to a client is not taken for one: another's, a request, silence, a
// refusal; and it asks again, with how long it has tried.
func TestClientIsNotFooled(t *testing.T) {
	s := newServer(t)
	c := s.client(t)
	ctx := context.Background()
	for name, spoil := range map[string]func(*dhcp4.Message){
		"another client's reply":      func(m *dhcp4.Message) { m.CHAddr = m.CHAddr[:5] + "\x09" },
		"another transaction's reply": func(m *dhcp4.Message) { m.XID++ },
		"a request":                   func(m *dhcp4.Message) { m.Op = dhcp4.BootRequest },
	} {
		s.set(func(m *dhcp4.Message) []dhcp4.Message {
			wrong, right := usual(m)[0], usual(m)[0]
			wrong.YIAddr = netip.MustParseAddr("10.77.0.66")
			spoil(&wrong)
			if len(s.heard) == 1 {
				return []dhcp4.Message{wrong}
			}
			return []dhcp4.Message{right}
		})
		if err := c.Get(ctx); err != nil || c.Address.String() != "10.77.0.9" {
			t.Errorf("%s: %s, %v", name, c.Address, err)
		}
		if heard := s.messages(); len(heard) != 3 || heard[0].Secs != 0 || heard[1].Secs != 1 {
			t.Errorf("%s: %d messages were sent", name, len(heard))
		}
	}
	c.Patience = time.Second
	s.set(func(*dhcp4.Message) []dhcp4.Message { return nil })
	if _, err := c.Discover(ctx); !errors.Is(err, ErrSilence) {
		t.Errorf("nobody answers: %v", err)
	}
	s.set(func(m *dhcp4.Message) []dhcp4.Message {
		if m.Type == dhcp4.Discover {
			return usual(m)
		}
		nak := reply(m, dhcp4.Nak, "0.0.0.0")
		nak.Options = append(nak.Options, dhcp4.Option{Code: option.Message, Data: []byte("address reserved for another client")})
		return []dhcp4.Message{nak}
	})
	var refused *Refusal
	if err := c.Get(ctx); !errors.As(err, &refused) || refused.Message != "address reserved for another client" || c.Address.IsValid() {
		t.Errorf("refused: %v, and it has %s", err, c.Address)
	}
	s.set(func(m *dhcp4.Message) []dhcp4.Message { return []dhcp4.Message{reply(m, dhcp4.Offer, "10.77.0.9")} })
	if err := c.Get(ctx); err == nil || !strings.Contains(err.Error(), "OFFER instead of ACK") {
		t.Errorf("an offer for an acknowledgement: %v", err)
	}
	s.set(func(m *dhcp4.Message) []dhcp4.Message { return []dhcp4.Message{reply(m, dhcp4.Ack, "10.77.0.9")} })
	if err := c.Get(ctx); err == nil || !strings.Contains(err.Error(), "ACK instead of OFFER") {
		t.Errorf("an acknowledgement for an offer: %v", err)
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	s.set(func(*dhcp4.Message) []dhcp4.Message { return nil })
	if _, err := c.Discover(gone); !errors.Is(err, context.Canceled) {
		t.Errorf("whoever asked is gone: %v", err)
	}
	c.Relay.Close()
	if _, err := c.Discover(ctx); err == nil {
		t.Error("a relay that is closed forwards")
	}
}
