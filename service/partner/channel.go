package partner

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yarnpost/core/pair/message"
	"yarnpost/service/lock"
)

// What is spoken, as TLS negotiates it (RFC 7301).
const (
	protoPair = "yarnpost-pair/1"
	protoJoin = "yarnpost-join/1"
)

// Limits of a connection.
const (
	handshake  = 10 * time.Second
	waitsMost  = 64 << 20 // octets that wait to be sent; a partner that takes nothing is hung up on
	bulkMost   = 1 << 20  // octets of questions and answers that wait to be sent
	strangers  = 16       // connections that have not said who they are
	askedMost  = 8        // questions that are answered at a time
	joinMost   = 64 << 10 // octets of a message when joining
	retryLeast = 200 * time.Millisecond
	retryMost  = 5 * time.Second
)

// Handler is told what happens on the channel. Opened, Message and Closed come one
// after the other.
type Handler struct {
	Opened  func()
	Message func(message.Message) error // an error hangs up
	Closed  func()
	Ask     func(ctx context.Context, method string, in json.RawMessage) (any, error)
	// Join is asked by whoever is invited; nil: nobody is.
	Join  func(ctx context.Context, in json.RawMessage, certificate []byte) (any, error)
	Came  func()      // anything came from the partner; nil: nobody wants to know
	Alive func() bool // whether to say that this server goes on; nil: always
}

// Channel is the connection to the partner, which is made again whenever it is lost.
// Whoever joined dials; the other one listens.
type Channel struct {
	log     *slog.Logger
	handler Handler
	Refused atomic.Int64 // connections of strangers
	Garbage atomic.Int64 // connections that ended because of what they sent
	Octets  atomic.Int64 // of questions and answers, both ways

	mu       sync.Mutex
	identity tls.Certificate
	partner  []byte // its certificate, DER; nil: there is none yet
	conn     *conn
	listener net.Listener
	stop     context.CancelFunc
	ended    bool
	workers  sync.WaitGroup
	strange  []net.Conn // connections that have not said who they are, the oldest first
}

// New makes a channel that does nothing yet. The identity is PEM.
func New(log *slog.Logger, identity []byte, h Handler) (*Channel, error) {
	c := &Channel{log: log, handler: h}
	var err error
	c.identity, err = certificateOf(identity)
	return c, err
}

// Know sets which certificate the partner has.
func (c *Channel) Know(certificate []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.partner = certificate
}

func (c *Channel) config(proto ...string) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{c.identity}, NextProtos: proto,
		ClientAuth: tls.RequireAnyClientCert, SessionTicketsDisabled: true,
		InsecureSkipVerify: true, // certificates are pinned: VerifyConnection compares them
		VerifyConnection:   c.verify}
}

// verify lets in the partner, and whoever asks to join while that is open.
func (c *Channel) verify(s tls.ConnectionState) error {
	if len(s.PeerCertificates) == 0 {
		return errors.New("it has no certificate")
	}
	if s.NegotiatedProtocol == protoJoin && c.handler.Join != nil {
		return nil // by its secret
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if s.NegotiatedProtocol != protoPair || c.partner == nil || !bytes.Equal(s.PeerCertificates[0].Raw, c.partner) {
		return errors.New("it is not the partner")
	}
	return nil
}

// Listen hears the partner at an address.
func (c *Channel) Listen(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("hear the partner at %s: %w", address, err)
	}
	lock.While(&c.mu, func() { c.listener = l })
	config := c.config(protoPair, protoJoin)
	c.workers.Go(func() {
		for {
			raw, err := l.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				time.Sleep(50 * time.Millisecond)
				continue
			}
			if c.admit(raw) {
				c.workers.Go(func() { c.welcome(tls.Server(raw, config)) })
			}
		}
	})
	return nil
}

// admit takes a connection in of which it is not known whose it is. There are a few of
// them at most, and the newest come first: whoever opens connections and says nothing
// keeps nobody out.
func (c *Channel) admit(raw net.Conn) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended {
		raw.Close()
		return false
	}
	if len(c.strange) >= strangers {
		c.Refused.Add(1)
		c.strange[0].Close()
		c.strange = c.strange[1:]
	}
	c.strange = append(c.strange, raw)
	return true
}

// known says that it is known whose a connection is, or that it ended.
func (c *Channel) known(raw net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.strange = slices.DeleteFunc(c.strange, func(x net.Conn) bool { return x == raw })
}

// Address is where the partner is heard, or nil.
func (c *Channel) Address() net.Addr {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.listener == nil {
		return nil
	}
	return c.listener.Addr()
}

func (c *Channel) welcome(t *tls.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), handshake)
	defer cancel()
	err := t.HandshakeContext(ctx)
	if err == nil && t.ConnectionState().NegotiatedProtocol == protoJoin {
		err = c.joining(ctx, t)
		c.known(t.NetConn())
		t.NetConn().Close()
		if err != nil {
			c.Refused.Add(1)
			c.log.Warn("a server that asked to join was refused", "from", t.RemoteAddr(), "err", err)
		}
		return
	}
	c.known(t.NetConn())
	if err != nil {
		c.Refused.Add(1)
		c.log.Warn("a connection of no partner was refused", "from", t.RemoteAddr(), "err", err)
		t.NetConn().Close()
		return
	}
	c.serve(t)
}

// Dial reaches the partner at an address, again and again, until the channel stops.
func (c *Channel) Dial(address string) {
	ctx, cancel := context.WithCancel(context.Background())
	lock.While(&c.mu, func() { c.stop = cancel })
	c.workers.Go(func() {
		wait := retryLeast
		for ctx.Err() == nil {
			d := tls.Dialer{Config: c.config(protoPair)}
			dial, done := context.WithTimeout(ctx, handshake)
			raw, err := d.DialContext(dial, "tcp", address)
			done()
			if err == nil {
				c.serve(raw.(*tls.Conn))
				wait = retryLeast
			} else {
				c.log.Debug("the partner cannot be reached", "address", address, "err", err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(wait):
			}
			wait = min(2*wait, retryMost)
		}
	})
}

// Stop ends the channel for good, and waits for what goes on.
func (c *Channel) Stop() {
	c.Close()
	c.workers.Wait()
}

// Close ends the channel for good. It does not wait, so whoever calls it may hold what a
// handler waits for.
func (c *Channel) Close() {
	c.end()
	c.Hangup()
}

func (c *Channel) end() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ended = true
	if c.stop != nil {
		c.stop()
	}
	if c.listener != nil {
		c.listener.Close()
	}
	for _, raw := range c.strange {
		raw.Close()
	}
	c.strange = nil
}

// Hangup ends the connection, if there is one.
func (c *Channel) Hangup() {
	if now := c.current(); now != nil {
		now.close()
	}
}

func (c *Channel) current() *conn {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.conn
}

// Send lets a message go, if the partner can be heard. It does not wait.
func (c *Channel) Send(message []byte) {
	if now := c.current(); now != nil {
		now.send(message)
	}
}

// Remote is where the partner is, as far as the connection tells, or "".
func (c *Channel) Remote() string {
	if now := c.current(); now != nil {
		return now.tls.RemoteAddr().String()
	}
	return ""
}

// serve speaks with the partner until the connection ends. A newer connection takes
// the place of an older one, which may be dead.
func (c *Channel) serve(t *tls.Conn) {
	n := newConn(t)
	for old, ended := c.replace(n); old != nil || ended; old, ended = c.replace(n) {
		if ended {
			t.NetConn().Close()
			return
		}
		old.close()
		<-old.over
	}
	c.workers.Go(n.write)
	c.workers.Go(func() { c.live(n) })
	c.handler.Opened()
	err := c.read(n)
	if !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
		n.finish() // the partner may have been told why
	}
	n.close()
	n.fail(errors.New("the connection to the partner was lost"))
	lock.While(&c.mu, func() { c.conn = nil })
	c.handler.Closed()
	close(n.over)
	if !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
		c.log.Warn("the connection to the partner ended", "err", err)
	}
}

// replace makes a connection the channel's, if there is no older one, which is given, and the
// channel did not end.
func (c *Channel) replace(n *conn) (old *conn, ended bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.conn == nil && !c.ended {
		c.conn = n
	} else {
		old = c.conn
	}
	return old, c.ended
}

// aliveEvery is how often a connection says that this server goes on.
const aliveEvery = time.Second

// live says that this server goes on, whatever else is to be sent and whoever holds the
// lock that orders decisions: a busy host is not a dead one.
func (c *Channel) live(n *conn) {
	alive := append([]byte{0, headSize, typeAlive}, make([]byte, headSize-1)...)
	for {
		select {
		case <-n.over:
			return
		case <-time.After(aliveEvery):
		}
		if c.handler.Alive == nil || c.handler.Alive() {
			n.send(alive)
		}
	}
}

func (c *Channel) read(n *conn) error {
	var buf []byte
	part := make([]byte, 64<<10)
	for {
		k, err := n.tls.Read(part)
		if k > 0 {
			if c.handler.Came != nil {
				c.handler.Came()
			}
		}
		buf = append(buf, part[:k]...)
		for {
			frame, rest, ok := message.Cut(buf)
			if !ok {
				break
			}
			if bad := c.take(n, frame); bad != nil {
				c.Garbage.Add(1)
				return bad
			}
			buf = rest
		}
		if err != nil {
			return err
		}
		buf = append([]byte(nil), buf...)
	}
}

// take takes in one message.
func (c *Channel) take(n *conn, frame []byte) error {
	if len(frame) > 0 && (frame[0] == typeAsk || frame[0] == typeAnswer) {
		return c.asked(n, frame)
	}
	m, err := message.Decode(frame)
	if errors.Is(err, message.ErrType) {
		return nil // of a newer version
	}
	if err != nil {
		return err
	}
	return c.handler.Message(m)
}

// conn is one connection. What is sent waits in a queue, so that nobody who sends
// waits.
type conn struct {
	tls    *tls.Conn
	mu     sync.Mutex
	wake   *sync.Cond
	queue  [][]byte // messages of the pair
	bulk   [][]byte // parts of questions and answers, which go when there is nothing else
	size   int      // octets of the queue
	heavy  int      // octets of bulk
	closed bool
	last   bool          // what is in the queue is the last
	over   chan struct{} // closed when nothing of it goes on
	questions
}

func newConn(t *tls.Conn) *conn {
	n := &conn{tls: t, over: make(chan struct{}), questions: newQuestions()}
	n.wake = sync.NewCond(&n.mu)
	return n
}

func (n *conn) send(b []byte) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.closed {
		return
	}
	if n.size += len(b); n.size > waitsMost {
		n.closed = true
		n.tls.NetConn().Close()
		n.wake.Broadcast()
		return
	}
	n.queue = append(n.queue, b)
	n.wake.Broadcast()
}

// sendBulk lets a part of something long go once there is room: whoever has much to say
// waits, and not the partner for its signs of life.
func (n *conn) sendBulk(b []byte) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for n.heavy > bulkMost && !n.closed {
		n.wake.Wait()
	}
	if n.closed {
		return
	}
	n.bulk = append(n.bulk, b)
	n.heavy += len(b)
	n.wake.Broadcast()
}

func (n *conn) write() {
	for {
		b := n.next()
		if b == nil {
			_ = n.tls.CloseWrite() // or it is gone already
			return
		}
		if _, err := n.tls.Write(b); err != nil {
			n.close()
			return
		}
	}
}

// next waits for what is to be written; nil means that nothing more is.
func (n *conn) next() (b []byte) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for len(n.queue)+len(n.bulk) == 0 && !n.closed && !n.last {
		n.wake.Wait()
	}
	if n.closed || n.last && len(n.queue) == 0 {
		return nil
	}
	b = bytes.Join(n.queue, nil)
	if n.queue, n.size = nil, 0; len(b) == 0 {
		b, n.bulk = n.bulk[0], n.bulk[1:]
		n.heavy -= len(b)
		n.wake.Broadcast()
	}
	return b
}

// finish lets what is in the queue reach the partner before the connection is closed, for
// a second at the most: one that is closed with something unread takes along what it said.
func (n *conn) finish() {
	lock.While(&n.mu, func() {
		n.last = true
		n.wake.Broadcast()
	})
	late := time.AfterFunc(time.Second, func() { n.tls.NetConn().Close() })
	defer late.Stop()
	_, _ = io.Copy(io.Discard, n.tls) // until the partner hangs up, too
}

func (n *conn) close() {
	lock.While(&n.mu, func() {
		n.closed = true
		n.wake.Broadcast()
	})
	n.tls.NetConn().Close()
}

// joining hears one that asks to join.
func (c *Channel) joining(ctx context.Context, t *tls.Conn) error {
	if d, ok := ctx.Deadline(); ok {
		_ = t.SetDeadline(d) // a connection that takes none fails soon enough
	}
	var in json.RawMessage
	if err := json.NewDecoder(io.LimitReader(t, joinMost)).Decode(&in); err != nil {
		return fmt.Errorf("read what it says: %w", err)
	}
	out, err := c.handler.Join(ctx, in, t.ConnectionState().PeerCertificates[0].Raw)
	reply := joinReply{Out: out}
	if err != nil {
		reply = joinReply{Error: err.Error()}
	}
	return errors.Join(err, json.NewEncoder(t).Encode(reply))
}

type joinReply struct {
	Error string `json:"error,omitempty"`
	Out   any    `json:"out,omitempty"`
}

// Join asks the server that an invitation is to for a place beside it, and gives its
// certificate. The error is what it says, in its words.
func Join(ctx context.Context, i Invitation, identity []byte, in, out any) (certificate []byte, err error) {
	own, err := certificateOf(identity)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, handshake)
	defer cancel()
	d := tls.Dialer{Config: &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{own}, NextProtos: []string{protoJoin},
		InsecureSkipVerify: true, // the invitation says which certificate it must be
		VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
			if len(raw) == 0 || sha256.Sum256(raw[0]) != i.Fingerprint {
				return errors.New("the server there has another certificate than the invitation says; make sure that it is the right one")
			}
			certificate = raw[0]
			return nil
		}}}
	raw, err := d.DialContext(ctx, "tcp", i.Address)
	if err != nil {
		return nil, fmt.Errorf("reach %s: %w", i.Address, err)
	}
	defer raw.Close()
	if d, ok := ctx.Deadline(); ok {
		_ = raw.SetDeadline(d)
	}
	if err := json.NewEncoder(raw).Encode(in); err != nil {
		return nil, fmt.Errorf("speak to %s: %w", i.Address, err)
	}
	reply := joinReply{Out: out}
	if err := json.NewDecoder(io.LimitReader(raw, joinMost)).Decode(&reply); err != nil {
		return nil, fmt.Errorf("%s did not answer; the invitation may be used up or too old: make a new one: %w", i.Address, err)
	}
	if reply.Error != "" {
		return nil, errors.New(reply.Error)
	}
	return certificate, nil
}
