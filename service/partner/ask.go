package partner

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"sync"

	"yarnpost/core/pair/message"
)

// Questions and answers travel between the messages of the pair, in JSON, cut into
// messages of types that RFC 8156 does not use: a flag that more follows, then
// octets.
const (
	typeAsk    = 240
	typeAnswer = 241
	typeAlive  = 242      // says that the sender goes on, and nothing else
	headSize   = 8        // type, transaction, time
	chunkMost  = 16 << 10 // octets, so that updates of leases get between
	bodyMost   = 256 << 20
)

type questions struct {
	asking   sync.Mutex
	number   uint32
	pending  map[uint32]chan answer
	incoming map[uint32][]byte // halves of what comes, by transaction; answers in the upper half
	held     int
	places   chan struct{}
}

type answer struct {
	body []byte
	err  error
}

func newQuestions() questions {
	return questions{pending: map[uint32]chan answer{}, incoming: map[uint32][]byte{}, places: make(chan struct{}, askedMost)}
}

type question struct {
	Method string          `json:"method"`
	In     json.RawMessage `json:"in"`
}

type reply struct {
	Error string          `json:"error,omitempty"`
	Out   json.RawMessage `json:"out,omitempty"`
}

// ErrAway is wrapped when the partner cannot be heard.
var ErrAway = errors.New("the partner cannot be heard")

// Ask puts a question to the partner. An error of the partner's comes in its words.
func (c *Channel) Ask(ctx context.Context, method string, in, out any) error {
	n := c.current()
	if n == nil {
		return ErrAway
	}
	body, err := json.Marshal(in)
	if err == nil {
		body, err = json.Marshal(question{method, body})
	}
	if err != nil {
		return fmt.Errorf("ask the partner for %s: %w", method, err)
	}
	number, done := n.begin()
	defer n.end(number)
	c.Octets.Add(int64(len(body)))
	n.sendParts(typeAsk, number, body)
	select {
	case <-ctx.Done():
		return fmt.Errorf("the partner did not answer in time: %w", ctx.Err())
	case <-n.over: // perhaps before it was asked
		return fmt.Errorf("%w: the connection to the partner was lost", ErrAway)
	case a := <-done:
		if a.err != nil {
			return fmt.Errorf("%w: %w", ErrAway, a.err)
		}
		var r reply
		if err := json.Unmarshal(a.body, &r); err != nil {
			return fmt.Errorf("read the partner's answer to %s: %w", method, err)
		}
		if r.Error != "" {
			return errors.New(r.Error)
		}
		if out == nil {
			return nil
		}
		return json.Unmarshal(r.Out, out)
	}
}

// begin gives a question its number, and the channel to which its answer comes.
func (q *questions) begin() (number uint32, done chan answer) {
	q.asking.Lock()
	defer q.asking.Unlock()
	q.number = q.number%0xffffff + 1
	done = make(chan answer, 1)
	q.pending[q.number] = done
	return q.number, done
}

// end forgets a question.
func (q *questions) end(number uint32) {
	q.asking.Lock()
	defer q.asking.Unlock()
	delete(q.pending, number)
}

// gather takes in a part of what comes, and gives the whole once it is there, with the
// channel of the question that has that number here.
func (q *questions) gather(key uint32, part []byte, more bool) (body []byte, done chan answer, err error) {
	q.asking.Lock()
	defer q.asking.Unlock()
	if q.held += len(part); q.held > bodyMost {
		return nil, nil, errors.New("the partner says too much at a time")
	}
	body = append(q.incoming[key], part...)
	if more {
		q.incoming[key] = body
		return nil, nil, nil
	}
	delete(q.incoming, key)
	q.held -= len(body)
	return body, q.pending[key&0xffffff], nil
}

// sendParts cuts a body into messages.
func (n *conn) sendParts(kind byte, number uint32, body []byte) {
	for {
		k := min(len(body), chunkMost)
		b := binary.BigEndian.AppendUint16(nil, uint16(headSize+1+k))
		b = binary.BigEndian.AppendUint32(b, uint32(kind)<<24|number)
		b = binary.BigEndian.AppendUint32(b, 0)
		more := byte(0)
		if k < len(body) {
			more = 1
		}
		b = append(append(b, more), body[:k]...)
		n.sendBulk(b)
		if body = body[k:]; more == 0 {
			return
		}
	}
}

// asked takes in a part of a question, or of an answer.
func (c *Channel) asked(n *conn, frame []byte) error {
	if len(frame) < headSize+1 {
		return fmt.Errorf("a question of %d octets: %w", len(frame), message.ErrShort)
	}
	key := binary.BigEndian.Uint32(frame)
	more, part := frame[headSize], frame[headSize+1:]
	c.Octets.Add(int64(len(part)))
	body, done, err := n.gather(key, part, more != 0)
	if err != nil || more != 0 {
		return err
	}
	if frame[0] == typeAnswer {
		if done != nil {
			done <- answer{body: append([]byte(nil), body...)}
		}
		return nil
	}
	var q question
	if err := json.Unmarshal(body, &q); err != nil {
		return fmt.Errorf("a question that is no JSON: %w", err)
	}
	select {
	case n.places <- struct{}{}:
	default:
		go n.answer(key&0xffffff, nil, errors.New("too many questions at a time")) // which may wait
		return nil
	}
	c.workers.Go(func() {
		defer func() { <-n.places }()
		defer func() {
			if r := recover(); r != nil {
				c.log.Error("a question of the partner was too much", "method", q.Method, "panic", r)
				n.answer(key&0xffffff, nil, fmt.Errorf("%s failed; the log says why", q.Method))
			}
		}()
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		go func() {
			select {
			case <-n.over:
				cancel()
			case <-ctx.Done():
			}
		}()
		out, err := c.handler.Ask(ctx, q.Method, q.In)
		n.answer(key&0xffffff, out, err)
	})
	return nil
}

func (n *conn) answer(number uint32, out any, err error) {
	var r reply
	if err == nil {
		r.Out, err = json.Marshal(out)
	}
	if err != nil {
		r = reply{Error: err.Error()}
	}
	body, err := json.Marshal(r)
	if err != nil {
		body = []byte(`{"error":"the answer cannot be written"}`)
	}
	n.sendParts(typeAnswer, number, body)
}

// fail ends all questions that wait for an answer.
func (n *conn) fail(err error) {
	n.asking.Lock()
	defer n.asking.Unlock()
	for _, done := range n.pending {
		select {
		case done <- answer{err: err}:
		default:
		}
	}
}
