package main

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/net/ipv4"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
)

// outstanding is how many exchanges a closed loop keeps open.
const outstanding = 512

// patience is how long a message waits for its reply before it is sent again.
const patience = 2 * time.Second

// generator plays clients behind one relay on loopback. Against an echo loop
// it moves the very same packets.
type generator struct {
	conn    *net.UDPConn
	batch   *ipv4.PacketConn
	echo    bool
	clients uint32
	ask     []byte // DISCOVER
	take    []byte // REQUEST
	renew   []byte // REQUEST of a client that has its address
	mixed   bool   // 90 % renew, 9 % come back, 1 % are new
	known   []knownClient
	random  *rand.Rand
	at      offsets
	in      []ipv4.Message
	out     []ipv4.Message
	queued  int
}

// offsets are the places in the templates that differ from client to client.
type offsets struct{ id, name, wanted, server int }

// knownClient is one that was acknowledged an address.
type knownClient struct {
	client uint32
	has    [4]byte
}

// slot is one exchange under way.
type slot struct {
	client uint32
	xid    uint32
	taking bool // the REQUEST is out
	busy   bool
	renews bool      // one REQUEST is all
	begun  time.Time // when the client wanted to begin
	sent   time.Time
	offer  [4]byte
	server [4]byte
}

func newGenerator(server netip.AddrPort, echo bool) (*generator, error) {
	conn, err := net.DialUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}, net.UDPAddrFromAddrPort(server))
	if err != nil {
		return nil, err
	}
	_ = conn.SetReadBuffer(8 << 20)
	_ = conn.SetWriteBuffer(8 << 20)
	g := &generator{conn: conn, batch: ipv4.NewPacketConn(conn), echo: echo, random: rand.New(rand.NewPCG(1, 2))}
	for range 64 {
		g.in = append(g.in, ipv4.Message{Buffers: [][]byte{make([]byte, 2048)}})
		g.out = append(g.out, ipv4.Message{Buffers: [][]byte{make([]byte, 0, 600)}})
	}
	zero := netip.IPv4Unspecified()
	relay := append([]byte{dhcp4.SubCircuit, 7}, "sw1/0/1"...)
	relay = append(relay, dhcp4.SubLink, 4, 10, 0, 0, 1, dhcp4.SubSourcePort, 0)
	template := func(t dhcp4.Type, extra ...dhcp4.Option) ([]byte, error) {
		m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, Hops: 1, CIAddr: zero, YIAddr: zero, SIAddr: zero,
			GIAddr: netip.AddrFrom4([4]byte{127, 0, 0, 1}),
			CHAddr: addr.Hardware("\x02\x00\x00\x00\x00\x00")}
		m.Options = append(dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(t)}},
			{Code: option.ClientID, Data: []byte("\x01\x02\x00\x00\x00\x00\x00")},
			{Code: option.Hostname, Data: []byte("bench-00000000")}, {Code: option.ClassID, Data: []byte("bench")},
			{Code: option.ParameterList, Data: []byte{1, 3, 6, 15, 42, 51, 58, 59}}}, extra...)
		m.Options = append(m.Options, dhcp4.Option{Code: option.RelayAgent, Data: relay})
		b, _, err := dhcp4.Append(nil, m, 0)
		return b, err
	}
	if g.ask, err = template(dhcp4.Discover); err != nil {
		return nil, err
	}
	if g.take, err = template(dhcp4.Request, dhcp4.Option{Code: option.AddressRequest, Data: make([]byte, 4)},
		dhcp4.Option{Code: option.ServerID, Data: make([]byte, 4)}); err != nil {
		return nil, err
	}
	if g.renew, err = template(dhcp4.Request); err != nil {
		return nil, err
	}
	// magic cookie at 236; 53 takes 3 octets; then 61, 12, 60, 55, 50, 54
	g.at.id = 240 + 3 + 2 + 3
	g.at.name = 240 + 3 + 9 + 2 + 6
	g.at.wanted = 240 + 3 + 9 + 16 + 7 + 10 + 2
	g.at.server = g.at.wanted + 4 + 2
	return g, nil
}

// queue puts the slot's next message into the outgoing batch.
func (g *generator) queue(i int, s *slot, now time.Time) {
	s.sent = now
	s.xid += 1 << 16
	buf := g.out[g.queued].Buffers[0][:0]
	if s.renews {
		buf = append(buf, g.renew...)
		copy(buf[12:], s.offer[:])
	} else if s.taking {
		buf = append(buf, g.take...)
		copy(buf[g.at.wanted:], s.offer[:])
		copy(buf[g.at.server:], s.server[:])
	} else {
		buf = append(buf, g.ask...)
	}
	binary.BigEndian.PutUint32(buf[4:], s.xid&^0xffff|uint32(i))
	binary.BigEndian.PutUint32(buf[30:], s.client)
	binary.BigEndian.PutUint32(buf[g.at.id:], s.client)
	const digits = "0123456789abcdef"
	for k := range 8 {
		buf[g.at.name+k] = digits[s.client>>(28-4*k)&15]
	}
	g.out[g.queued].Buffers[0] = buf
	if g.queued++; g.queued == len(g.out) {
		g.flush()
	}
}

func (g *generator) flush() {
	for sent := 0; sent < g.queued; {
		n, err := g.batch.WriteBatch(g.out[sent:g.queued], 0)
		if err != nil {
			n = 1 // a refused datagram counts as lost
		}
		sent += n
	}
	g.queued = 0
}

// result is what one measurement found.
type result struct {
	done, again, lost int
	span              time.Duration
	latency           []time.Duration
	offers            []time.Duration // of those exchanges that began with a DISCOVER
	offerWait         time.Duration   // the longest from a DISCOVER to its OFFER
	ackWait           time.Duration   // the longest from a REQUEST to its ACK
}

func (r *result) rate() float64 { return float64(r.done) / r.span.Seconds() }

// percentile is in milliseconds.
func (r *result) percentile(p float64) float64 { return percentile(r.latency, p) }

func percentile(list []time.Duration, p float64) float64 {
	if len(list) == 0 {
		return 0
	}
	slices.Sort(list)
	return float64(list[int(p*float64(len(list)-1))].Microseconds()) / 1000
}

// closed keeps n exchanges open for a while.
func (g *generator) closed(span time.Duration, n int) *result {
	slots := make([]slot, n)
	begin := time.Now()
	for i := range slots {
		g.begin(i, &slots[i], begin)
	}
	g.flush()
	r := &result{}
	for now := begin; now.Sub(begin) < span; now = time.Now() {
		g.receive(slots, r, now.Add(20*time.Millisecond), func(i int, s *slot, now time.Time) { g.begin(i, s, now) })
		if now.UnixMilli()%50 == 0 {
			g.resend(slots, r, now)
		}
	}
	r.span = time.Since(begin)
	g.drain(slots, r)
	return r
}

// first tries one exchange again and again until it succeeds.
func (g *generator) first(within time.Duration) bool {
	slots, r := make([]slot, 1), &result{}
	begin := time.Now()
	g.begin(0, &slots[0], begin)
	for now := begin; r.done == 0 && now.Sub(begin) < within; now = time.Now() {
		if now.Sub(slots[0].sent) > 20*time.Millisecond {
			g.queue(0, &slots[0], now)
		}
		g.flush()
		g.receive(slots, r, now.Add(5*time.Millisecond), nil)
	}
	return r.done > 0
}

// begin starts an exchange: of a client that was never seen before, or as the
// mix has it.
func (g *generator) begin(i int, s *slot, wanted time.Time) {
	*s = slot{xid: s.xid, busy: true, begun: wanted}
	if n := len(g.known); g.mixed && n > 0 {
		if which := g.random.IntN(100); which < 99 {
			k := g.known[g.random.IntN(n)]
			s.client, s.offer, s.renews = k.client, k.has, which < 90
			g.queue(i, s, wanted)
			return
		}
	}
	g.clients++
	s.client = g.clients
	g.queue(i, s, wanted)
}

// receive takes one batch of replies and goes on with their exchanges.
func (g *generator) receive(slots []slot, r *result, until time.Time, free func(int, *slot, time.Time)) {
	_ = g.conn.SetReadDeadline(until)
	n, err := g.batch.ReadBatch(g.in, 0)
	if err != nil {
		return
	}
	now := time.Now()
	for _, m := range g.in[:n] {
		b := m.Buffers[0][:m.N]
		if len(b) < 244 {
			continue
		}
		xid := binary.BigEndian.Uint32(b[4:])
		i := int(xid & 0xffff)
		if i >= len(slots) {
			continue
		}
		s := &slots[i]
		if !s.busy || s.xid>>16 != xid>>16 {
			continue
		}
		if !s.taking && !s.renews {
			s.taking = true
			r.offerWait = max(r.offerWait, now.Sub(s.sent))
			copy(s.offer[:], b[16:20])
			copy(s.server[:], b[245:249]) // 53 is first, 54 second in every reply
			g.queue(i, s, now)
			continue
		}
		if !g.echo && b[242] != byte(dhcp4.Ack) {
			panic(fmt.Sprintf("the service answered %s to a REQUEST", dhcp4.Type(b[242])))
		}
		r.done++
		r.ackWait = max(r.ackWait, now.Sub(s.sent))
		r.latency = append(r.latency, now.Sub(s.begun))
		if !s.renews {
			r.offers = append(r.offers, now.Sub(s.begun))
			if len(g.known) < 20000 {
				g.known = append(g.known, knownClient{s.client, [4]byte(b[16:20])})
			}
		}
		s.busy = false
		if free != nil {
			free(i, s, now)
		}
	}
	g.flush()
}

func (g *generator) resend(slots []slot, r *result, now time.Time) {
	for i := range slots {
		if s := &slots[i]; s.busy && now.Sub(s.sent) > patience {
			r.again++
			g.queue(i, s, now)
		}
	}
	g.flush()
}

// drain waits for what is still under way; what does not come back is lost.
func (g *generator) drain(slots []slot, r *result) {
	rest := &result{}
	for end := time.Now().Add(time.Second); time.Now().Before(end); {
		g.receive(slots, rest, time.Now().Add(50*time.Millisecond), nil)
	}
	for i := range slots {
		if slots[i].busy {
			r.lost++
		}
	}
}

// open begins exchanges at a steady rate, whether or not earlier ones are
// answered, and counts latency from when each was due to begin.
func (g *generator) open(span time.Duration, rate float64) *result {
	return g.openUntil(rate, func(since time.Duration) bool { return since >= span })
}

// openUntil does the same until it is done.
func (g *generator) openUntil(rate float64, done func(since time.Duration) bool) *result {
	slots := make([]slot, 1<<16)
	var idle []int
	for i := range slots {
		idle = append(idle, i)
	}
	r := &result{}
	begin := time.Now()
	started := 0
	for now := begin; !done(now.Sub(begin)); now = time.Now() {
		for due := int(now.Sub(begin).Seconds() * rate); started < due && len(idle) > 0; started++ {
			i := idle[len(idle)-1]
			idle = idle[:len(idle)-1]
			g.begin(i, &slots[i], begin.Add(time.Duration(float64(started)/rate*float64(time.Second))))
		}
		g.flush()
		g.receive(slots, r, time.Now().Add(200*time.Microsecond), func(i int, _ *slot, _ time.Time) { idle = append(idle, i) })
	}
	r.span = time.Since(begin)
	g.drain(slots, r)
	return r
}
