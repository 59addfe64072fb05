package observe

import (
	"net/netip"
	"slices"
	"sync"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/reason"
	"yarnpost/core/request"
	"yarnpost/service/lock"
	"yarnpost/service/wire"
)

// TalkMost is how many exchanges are remembered; their memory is used again.
const TalkMost = 8192

// Fate says what became of a reply.
type Fate string

// The fates.
const (
	Sent     Fate = "sent"
	Recorded Fate = "recording" // waits until it is durable
	Undone   Fate = "undone"    // could not be recorded, and was not sent
	Silent   Fate = "silent"    // there was none
	Withheld Fate = "withheld"  // decided, and not sent: the link is listened to
	Dropped  Fate = "dropped"   // no way back, or too much to do
)

// Exchange is one message with what was decided about it.
type Exchange struct {
	Seq      uint64
	At       time.Time
	From, To netip.AddrPort // as they stand in the request's IP and UDP headers
	Wire     string         // interface that heard it, if known
	In, Out  []byte         // the datagrams; Out may be empty
	OutFrom  netip.AddrPort
	OutTo    netip.AddrPort
	Family   option.Family
	Hardware addr.Hardware
	Relay    netip.Addr
	Circuit  string
	Results  []Result // one for each thing that the client asks for
	Trail    []answer.Step
	Fate     Fate
	Took     time.Duration // from arrival until the reply left, or until it was decided
}

// Result is what was decided about one thing that a client asks for.
type Result struct {
	Client  lease.Client
	Outcome answer.Outcome
	Why     reason.Reason
	Rule    string
	Key     netip.Prefix // the address or prefix concerned, if any
	Scope   string
	Link    string
}

// Address is the address concerned, or the zero address.
func (r *Result) Address() netip.Addr { return r.Key.Addr() }

// First is the first result.
func (x *Exchange) First() *Result { return &x.Results[0] }

// Conversations remembers the last exchanges. Writing one copies two datagrams
// and a few words into memory that is there already; reading never holds up the
// service for long.
type Conversations struct {
	mu   sync.Mutex
	ring [TalkMost]Exchange
	next uint64 // number of the next exchange; the first has 1
}

// Begin notes an exchange and gives its number.
func (c *Conversations) Begin(p *wire.Packet, since time.Time, req *request.Request, d *answer.Decision, reply *wire.Reply, fate Fate,
	now time.Time) uint64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.next++
	x := &c.ring[c.next%TalkMost]
	port := uint16(wire.ServerPort)
	if req.Family == option.V6 {
		port = wire.ServerPort6
	}
	*x = Exchange{Seq: c.next, At: since, Family: req.Family, From: p.From, To: netip.AddrPortFrom(p.To, port), In: append(x.In[:0],
		p.Data...),
		Out:     append(x.Out[:0], reply.Data...),
		OutFrom: netip.AddrPortFrom(reply.From, port), OutTo: reply.To, Hardware: req.Hardware, Relay: req.Relay,
		Circuit: string(req.Circuit), Results: x.Results[:0], Trail: append(x.Trail[:0], d.Trail...), Fate: fate, Took: now.Sub(since)}
	for i := range d.Answers {
		a := &d.Answers[i]
		r := Result{Client: a.Client, Outcome: a.Outcome, Why: a.Why, Rule: a.Rule, Key: a.Key}
		if d.Withheld != "" {
			r.Why = d.Withheld
		}
		if a.Scope != nil {
			r.Scope, r.Link = a.Scope.Name, a.Scope.LinkName
		}
		x.Results = append(x.Results, r)
	}
	if p.Interface != nil {
		x.Wire = p.Interface.Name
	}
	return c.next
}

// Settle notes what became of a reply.
func (c *Conversations) Settle(seq uint64, fate Fate, now time.Time) {
	if seq == 0 {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if x := &c.ring[seq%TalkMost]; x.Seq == seq && x.Fate != Dropped {
		x.Fate, x.Took = fate, now.Sub(x.At)
	}
}

// Fail notes that a reply did not leave, and why; it gives a copy of the
// exchange if that is remembered still.
func (c *Conversations) Fail(seq uint64, why string, now time.Time) (out Exchange, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	x := &c.ring[seq%TalkMost]
	if seq == 0 || x.Seq != seq {
		return out, false
	}
	x.Fate, x.Took = Dropped, now.Sub(x.At)
	x.Trail = append(x.Trail, answer.Step{Text: "{t}", Name: why})
	out = *x
	out.In, out.Out, out.Results, out.Trail = nil, nil, slices.Clone(x.Results), slices.Clone(x.Trail)
	return out, true
}

// Since gives copies of the exchanges behind a number that the keep function
// wants, oldest first, at most limit of the newest. It gives the number to go
// on from, too. The function must not keep what it is given.
func (c *Conversations) Since(seq uint64, limit int, keep func(*Exchange) bool) (out []Exchange, last uint64) {
	lock.While(&c.mu, func() { last = c.next })
	if seq >= last {
		return nil, last
	}
	first := max(seq+1, last-min(last, TalkMost-1))
	for at := last; at >= first && len(out) < limit; {
		lock.While(&c.mu, func() {
			for part := 256; part > 0 && at >= first && len(out) < limit; part-- {
				if x := &c.ring[at%TalkMost]; x.Seq == at && keep(x) {
					v := *x
					v.In, v.Out, v.Results, v.Trail = slices.Clone(x.In), slices.Clone(x.Out), slices.Clone(x.Results),
						slices.Clone(x.Trail)
					out = append(out, v)
				}
				at--
			}
		})
	}
	slices.Reverse(out)
	return out, last
}
