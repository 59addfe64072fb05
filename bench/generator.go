package main

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// outstanding is how many exchanges a closed loop keeps open.
const outstanding = 512

// patience is how long a message waits for its reply before it is sent again.
const patience = 2 * time.Second

// generator plays clients behind one relay on loopback. Against an echo loop
// it moves the very same packets.
type generator struct {
	conn    *net.UDPConn
	batch   batch
	speak   dialect
	echo    bool
	clients uint32
	mixed   bool // 90 % renew, 9 % come back, 1 % are new
	known   []knownClient
	random  *rand.Rand
	in      []ipv4.Message
	out     []ipv4.Message
	queued  int
}

// batch is a socket by which many datagrams go in one call.
type batch interface {
	ReadBatch(ms []ipv4.Message, flags int) (int, error)
	WriteBatch(ms []ipv4.Message, flags int) (int, error)
}

// knownClient is one that was acknowledged an address.
type knownClient struct {
	client uint32
	has    [16]byte
}

// slot is one exchange under way.
type slot struct {
	client uint32
	turn   uint8
	taking bool // the REQUEST is out
	busy   bool
	renews bool      // one REQUEST is all
	begun  time.Time // when the client wanted to begin
	sent   time.Time
	offer  [16]byte
	server [4]byte
}

// newGenerator plays clients of DHCPv4.
func newGenerator(server netip.AddrPort, echo bool) (*generator, error) {
	speak, err := newDialect4()
	if err != nil {
		return nil, err
	}
	return generatorOf(server, echo, speak)
}

func generatorOf(server netip.AddrPort, echo bool, speak dialect) (*generator, error) {
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(server))
	if err != nil {
		return nil, err
	}
	_ = conn.SetReadBuffer(8 << 20)
	_ = conn.SetWriteBuffer(8 << 20)
	g := &generator{conn: conn, batch: ipv4.NewPacketConn(conn), speak: speak, echo: echo, random: rand.New(rand.NewPCG(1, 2))}
	if server.Addr().Is6() {
		g.batch = ipv6.NewPacketConn(conn)
	}
	for range 64 {
		g.in = append(g.in, ipv4.Message{Buffers: [][]byte{make([]byte, 2048)}})
		g.out = append(g.out, ipv4.Message{Buffers: [][]byte{make([]byte, 0, 600)}})
	}
	return g, nil
}

// queue puts the slot's next message into the outgoing batch.
func (g *generator) queue(i int, s *slot, now time.Time) {
	s.sent = now
	s.turn++
	buf := g.speak.message(g.out[g.queued].Buffers[0][:0], i, s)
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
	*s = slot{turn: s.turn, busy: true, begun: wanted}
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
		i, turn, ok := g.speak.reply(b)
		if !ok || i >= len(slots) {
			continue
		}
		s := &slots[i]
		if !s.busy || s.turn != turn {
			continue
		}
		a, server, ok := g.speak.given(b)
		if !ok && !g.echo {
			panic(fmt.Sprintf("the service gives nothing: % x", b))
		}
		if !s.taking && !s.renews {
			s.taking = true
			r.offerWait = max(r.offerWait, now.Sub(s.sent))
			s.offer, s.server = a, server
			g.queue(i, s, now)
			continue
		}
		r.done++
		r.ackWait = max(r.ackWait, now.Sub(s.sent))
		r.latency = append(r.latency, now.Sub(s.begun))
		if !s.renews {
			r.offers = append(r.offers, now.Sub(s.begun))
			if len(g.known) < 20000 {
				g.known = append(g.known, knownClient{s.client, a})
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
