package partner

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"yarnpost/core/pair/message"
)

// ends are the two servers of a pair, with what each was told and asked.
type ends struct {
	t        *testing.T
	a, b     *Channel // a listens, b dials
	identity [2][]byte
	opened   [2]atomic.Int32
	closed   [2]atomic.Int32
	messages [2]chan message.Message
}

func newIdentity(t *testing.T, name string) ([]byte, []byte) {
	t.Helper()
	identity, err := NewIdentity(name, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	c, err := certificateOf(identity)
	if err != nil {
		t.Fatal(err)
	}
	return identity, c.Certificate[0]
}

func newEnds(t *testing.T, join func(context.Context, json.RawMessage, []byte) (any, error)) *ends {
	t.Helper()
	e := &ends{t: t}
	var certificates [2][]byte
	for i, name := range []string{"bobbin", "shuttle"} {
		e.messages[i] = make(chan message.Message, 16)
		e.identity[i], certificates[i] = newIdentity(t, name)
		c, err := New(slog.New(slog.DiscardHandler), e.identity[i], Handler{
			Opened:  func() { e.opened[i].Add(1) },
			Closed:  func() { e.closed[i].Add(1) },
			Message: func(m message.Message) error { e.messages[i] <- m; return nil },
			Ask:     e.answer, Join: join})
		if err != nil {
			t.Fatal(err)
		}
		*[]**Channel{&e.a, &e.b}[i] = c
		t.Cleanup(c.Stop)
	}
	e.a.Know(certificates[1])
	e.b.Know(certificates[0])
	if err := e.a.Listen("127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	return e
}

// answer answers what either is asked.
func (e *ends) answer(ctx context.Context, method string, in json.RawMessage) (any, error) {
	switch method {
	case "echo":
		return in, nil
	case "fail":
		return nil, errors.New("the wool is wet")
	case "panic":
		panic("planted")
	case "wait":
		<-ctx.Done()
		return nil, ctx.Err()
	case "unwritable":
		return func() {}, nil
	}
	return nil, fmt.Errorf("%s is no question", method)
}

func (e *ends) connect() {
	e.t.Helper()
	e.b.Dial(e.a.Address().String())
	e.await("both to be connected", func() bool { return e.a.current() != nil && e.b.current() != nil })
}

func (e *ends) await(what string, ready func() bool) {
	e.t.Helper()
	for end := time.Now().Add(10 * time.Second); !ready(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			e.t.Fatalf("waited in vain for %s", what)
		}
	}
}

func soon(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	t.Cleanup(cancel)
	return ctx
}

// Questions go both ways, of any size, many at a time; errors come in the other's words,
// and one that goes wrong takes nothing with it.
func TestQuestions(t *testing.T) {
	e := newEnds(t, nil)
	if err := e.a.Ask(soon(t), "echo", 1, nil); !errors.Is(err, ErrAway) {
		t.Errorf("asked before there is a connection: %v", err)
	}
	e.connect()
	for _, size := range []int{0, 1, chunkMost - 40, chunkMost, chunkMost + 1, 3 << 20} {
		text := strings.Repeat("x", size)
		for _, c := range []*Channel{e.a, e.b} {
			var back string
			if err := c.Ask(soon(t), "echo", text, &back); err != nil || back != text {
				t.Errorf("%d octets: %v, %d came back", size, err, len(back))
			}
		}
	}
	for method, want := range map[string]string{"fail": "the wool is wet", "panic": "panic failed; the log says why",
		"dance":      "dance is no question",
		"unwritable": "unsupported type"} {
		if err := e.b.Ask(soon(t), method, nil, nil); err == nil || !strings.Contains(err.Error(), want) || errors.Is(err, ErrAway) {
			t.Errorf("%s: %v", method, err)
		}
	}
	var wg sync.WaitGroup
	for n := range 4 {
		wg.Go(func() {
			for k := range 50 {
				var back int
				if err := e.a.Ask(soon(t), "echo", n*1000+k, &back); err != nil || back != n*1000+k {
					t.Errorf("%d came back as %d, %v", n*1000+k, back, err)
				}
			}
		})
	}
	wg.Wait()
	var wrong chan int
	if err := e.a.Ask(soon(t), "echo", wrong, nil); err == nil {
		t.Error("what cannot be written is asked")
	}
}

// Nobody waits for longer than it wants to, nor for a connection that is gone; and only
// so many questions are worked on at a time.
func TestQuestionsEnd(t *testing.T) {
	e := newEnds(t, nil)
	e.connect()
	short, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	if err := e.b.Ask(short, "wait", nil, nil); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a question that takes too long: %v", err)
	}
	failed := make(chan error, 64)
	for range askedMost + 8 {
		go func() { failed <- e.b.Ask(context.Background(), "wait", nil, nil) }()
	}
	for range 9 { // the first one waits there still
		select {
		case err := <-failed:
			if err == nil || !strings.Contains(err.Error(), "too many questions") {
				t.Errorf("one question too many: %v", err)
			}
		case <-time.After(10 * time.Second):
			t.Fatal("more questions than may be are worked on")
		}
	}
	gone := e.b.current()
	e.a.Hangup()
	for range askedMost - 1 {
		select {
		case err := <-failed:
			if !errors.Is(err, ErrAway) {
				t.Errorf("a question whose connection is lost: %v", err)
			}
		case <-time.After(10 * time.Second):
			t.Fatal("a question waits for a connection that is gone")
		}
	}
	<-gone.over
	e.await("the connection to be made again", func() bool { n := e.b.current(); return n != nil && n != gone })
	if err := e.b.Ask(soon(t), "echo", 1, nil); err != nil {
		t.Errorf("after the connection was made again: %v", err)
	}
	e.await("the end to be told", func() bool { return e.closed[0].Load() == 1 && e.opened[0].Load() == 2 })
}

// Messages of the pair arrive as they were sent; a type that nobody knows is passed over,
// garbage ends the connection, which is made again.
func TestMessagesAndGarbage(t *testing.T) {
	e := newEnds(t, nil)
	e.connect()
	b, err := message.Append(nil, &message.Message{Type: message.Contact, Transaction: 7})
	if err != nil {
		t.Fatal(err)
	}
	e.a.Send([]byte{0, 8, 250, 0, 0, 1, 0, 0, 0, 0}) // of a newer version
	e.a.Send(b)
	select {
	case got := <-e.messages[1]:
		if got.Type != message.Contact || got.Transaction != 7 {
			t.Errorf("it arrives as %+v", got)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("a message does not arrive")
	}
	for n, garbage := range [][]byte{{0, 1, typeAsk}, {0, 9, typeAsk, 0, 0, 1, 0, 0, 0, 0, 0}, {0, 3, byte(message.BndUpd), 1, 1}, {0, 0}} {
		was := e.b.current()
		e.a.Send(garbage)
		e.await(fmt.Sprint("garbage to be hung up on: ", garbage), func() bool { return e.b.Garbage.Load() == int64(n+1) })
		e.await("the connection to be made again", func() bool {
			now := e.b.current()
			return now != nil && now != was && e.a.current() != nil
		})
	}
	if err := e.a.Ask(soon(t), "echo", 1, nil); err != nil {
		t.Errorf("after garbage: %v", err)
	}
}

// Strangers get no further than the handshake, however many come and whatever they show;
// and they are no trouble to the partner.
func TestStrangers(t *testing.T) {
	e := newEnds(t, nil)
	stranger, _ := newIdentity(t, "bobbin")
	certificate, err := certificateOf(stranger)
	if err != nil {
		t.Fatal(err)
	}
	address := e.a.Address().String()
	for what, config := range map[string]*tls.Config{
		"no certificate":   {NextProtos: []string{protoPair}},
		"another one":      {NextProtos: []string{protoPair}, Certificates: []tls.Certificate{certificate}},
		"no protocol":      {Certificates: []tls.Certificate{certificate}},
		"a wish to join":   {NextProtos: []string{protoJoin}, Certificates: []tls.Certificate{certificate}},
		"an older version": {NextProtos: []string{protoPair}, Certificates: []tls.Certificate{certificate}, MaxVersion: tls.VersionTLS12},
	} {
		before := e.a.Refused.Load()
		config.InsecureSkipVerify = true // it is the server that has to refuse
		if conn, err := tls.Dial("tcp", address, config); err == nil {
			if _, err := conn.Read(make([]byte, 1)); err == nil {
				t.Errorf("with %s a stranger hears something", what)
			}
			conn.Close()
		}
		e.await(what+" to be counted", func() bool { return e.a.Refused.Load() > before })
	}
	var idle []net.Conn
	for range strangers + 8 { // they say nothing, and take all places there are
		if conn, err := net.Dial("tcp", address); err == nil {
			idle = append(idle, conn)
		}
	}
	e.await("those without a place to be refused", func() bool { return e.a.Refused.Load() >= 5+8 })
	for _, conn := range idle {
		conn.Close()
	}
	e.connect()
	if err := e.b.Ask(soon(t), "echo", 1, nil); err != nil {
		t.Errorf("the partner, after all of them: %v", err)
	}
	if e.opened[0].Load() != 1 {
		t.Errorf("%d connections were taken for the partner's", e.opened[0].Load())
	}
}

// A newer connection of the partner's takes the place of one that may be dead.
func TestNewerConnection(t *testing.T) {
	e := newEnds(t, nil)
	e.connect()
	first := e.a.current()
	certificate, err := certificateOf(e.identity[1])
	if err != nil {
		t.Fatal(err)
	}
	conn, err := tls.Dial("tcp", e.a.Address().String(), &tls.Config{NextProtos: []string{protoPair},
		Certificates:       []tls.Certificate{certificate},
		InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	e.await("the newer one to be taken", func() bool { n := e.a.current(); return n != nil && n != first })
	select {
	case <-first.over:
	case <-time.After(10 * time.Second):
		t.Error("the older one goes on")
	}
}

// What a server says before it hangs up is heard.
func TestLastWords(t *testing.T) {
	e := newEnds(t, nil)
	refuse := func(m message.Message) error {
		b, err := message.Append(nil, &message.Message{Type: message.ConnectReply})
		if err != nil {
			return err
		}
		for range 100 {
			e.a.Send(b)
		}
		return errors.New("no pair with this one")
	}
	e.a.handler.Message = refuse
	heard := 0
	e.b.handler.Message = func(message.Message) error { heard++; return nil }
	e.connect()
	b, err := message.Append(nil, &message.Message{Type: message.Connect})
	if err != nil {
		t.Fatal(err)
	}
	e.b.Send(b)
	for range 20 { // more comes, which nobody reads
		e.b.Send(b)
	}
	e.await("the connection to end", func() bool { return e.closed[1].Load() > 0 })
	if heard != 100 {
		t.Errorf("%d of 100 messages were heard", heard)
	}
}

// An invitation is read as it was printed, whatever a clipboard made of its case and its
// blanks; one letter that is wrong or missing is told.
func TestInvitations(t *testing.T) {
	identity, _ := newIdentity(t, "bobbin")
	i, err := NewInvitation("bobbin.mill.example:647", identity)
	if err != nil {
		t.Fatal(err)
	}
	code := i.Code()
	for _, text := range []string{code, " " + code + "\n", strings.ToUpper(code), code[:30] + "\n  " + code[30:]} {
		if back, err := ParseInvitation(text); err != nil || back != i {
			t.Errorf("%q is read as %+v, %v", text, back, err)
		}
	}
	for n := range code {
		letter := "a"
		if code[n] == 'a' {
			letter = "b"
		}
		for _, text := range []string{code[:n], code[:n] + code[n+1:], code[:n] + letter + code[n+1:]} {
			if back, err := ParseInvitation(text); err == nil && back != i {
				t.Errorf("%q is read as %+v", text, back)
			} else if err == nil && text != code {
				t.Errorf("%q is taken for the invitation", text)
			}
		}
	}
	for _, address := range []string{"", "bobbin", "bobbin:", ":647", "bobbin:0", "bobbin:70000", "bobbin:x", "a:b:c"} {
		if _, err := NewInvitation(address, identity); err == nil {
			t.Errorf("an invitation to %q is made", address)
		}
	}
	if _, err := NewInvitation("bobbin:647", []byte("no PEM")); err == nil {
		t.Error("an invitation is made without an identity")
	}
}

// Who is invited joins and learns the other's certificate; who is not is told why; and
// nobody tells a secret to a server that is not the one that invited.
func TestJoin(t *testing.T) {
	var asked atomic.Int32
	e := newEnds(t, func(_ context.Context, in json.RawMessage, certificate []byte) (any, error) {
		asked.Add(1)
		if len(certificate) == 0 || string(in) != `"please"` {
			return nil, errors.New("nobody is invited with that")
		}
		return "welcome", nil
	})
	i, err := NewInvitation(e.a.Address().String(), e.identity[0])
	if err != nil {
		t.Fatal(err)
	}
	joiner, _ := newIdentity(t, "shuttle")
	var out string
	certificate, err := Join(soon(t), i, joiner, "please", &out)
	if own, _ := certificateOf(e.identity[0]); err != nil || out != "welcome" || string(certificate) != string(own.Certificate[0]) {
		t.Errorf("%v: %q, and a certificate of %d octets", err, out, len(certificate))
	}
	if _, err := Join(soon(t), i, joiner, "hello", &out); err == nil || err.Error() != "nobody is invited with that" {
		t.Errorf("with another secret: %v", err)
	}
	before := asked.Load()
	wrong := i
	wrong.Fingerprint[0]++
	if _, err := Join(soon(t), wrong, joiner, "please", &out); err == nil || !strings.Contains(err.Error(),
		"another certificate") || asked.Load() != before {
		t.Errorf("at another server: %v", err)
	}
	if _, err := Join(soon(t), i, []byte("no PEM"), "please", &out); err == nil {
		t.Error("one without an identity joins")
	}
	e.a.Stop()
	if _, err := Join(soon(t), i, joiner, "please", &out); err == nil || !strings.Contains(err.Error(), "reach ") {
		t.Errorf("at a server that is gone: %v", err)
	}
}

// Whoever opens connections and says nothing keeps the partner out for no moment, and
// whoever ends the channel while a stranger is heard does not wait for that.
func TestIdleStrangers(t *testing.T) {
	entered, leave := make(chan struct{}), make(chan struct{})
	e := newEnds(t, func(context.Context, json.RawMessage, []byte) (any, error) {
		close(entered)
		<-leave
		return nil, errors.New("nobody is invited")
	})
	for range 5 * strangers {
		c, err := net.Dial("tcp", e.a.Address().String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
	}
	begun := time.Now()
	e.connect()
	if took := time.Since(begun); took > handshake/2 {
		t.Errorf("behind idle connections the partner waits %s", took)
	}
	i, err := NewInvitation(e.a.Address().String(), e.identity[0])
	if err != nil {
		t.Fatal(err)
	}
	stranger, _ := newIdentity(t, "stranger")
	go Join(soon(t), i, stranger, struct{}{}, nil)
	<-entered
	closed := make(chan struct{})
	go func() { e.a.Close(); close(closed) }()
	select {
	case <-closed:
	case <-time.After(5 * time.Second):
		t.Error("ending the channel waits for a handler, which may wait for whoever ends it")
	}
	close(leave)
}

// Signs of life and updates do not wait behind a long answer, however much of it there is.
func TestBulkWaits(t *testing.T) {
	n := &conn{over: make(chan struct{}), questions: newQuestions()}
	n.wake = sync.NewCond(&n.mu)
	sent := make(chan struct{})
	go func() {
		n.sendParts(typeAnswer, 1, make([]byte, 100<<20)) // more than may wait to be sent
		close(sent)
	}()
	took := 0
	for done := false; !done; took++ {
		n.mu.Lock()
		if n.closed || n.heavy > bulkMost+chunkMost+100 {
			t.Fatalf("%d octets wait, closed: %v", n.heavy, n.closed)
		}
		if len(n.bulk) > 0 {
			n.heavy -= len(n.bulk[0])
			n.bulk = n.bulk[1:]
			n.wake.Broadcast()
		}
		n.mu.Unlock()
		select {
		case <-sent:
			done = true
		default:
		}
	}
	n.send([]byte("alive"))
	if len(n.queue) != 1 || n.closed {
		t.Errorf("a sign of life is not next: %d in the queue, closed: %v", len(n.queue), n.closed)
	}
}
