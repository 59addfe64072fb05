// Package answer decides requests: one request, the
// plan, the lease table and the time come in; one Decision with its reasons
// comes out. It changes nothing: whoever asked carries out what it says, or
// only reads it. So the same code serves and explains.
package answer

import (
	"net/netip"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
	"yarnpost/core/rule"
)

// OfferTime is how long an offer stands; one through a relay that the plan does not name,
// which may be made up, stands for a shorter time.
const (
	OfferTime         = 30 * time.Second
	strangerOfferTime = 10 * time.Second
)

// World is what a decision is based on.
type World struct {
	Table *lease.Table
	Now   lease.Time
	// Ours tells the host's own addresses, which nobody is given and by which
	// a client may name this server.
	Ours func(netip.Addr) bool
	// Writable is false while nothing can be recorded: then nobody gets more
	// than the record says, and nobody is refused because of it.
	Writable bool
	// Fenced is true once another process has taken the records: then nothing
	// is answered at all.
	Fenced bool
	// Network tells addresses of the network's own that the plan does not know,
	// such as those of relays that were heard; nil: there are none.
	Network func(netip.Addr) bool
	// Probed says what probes found out about an address for a client with this
	// hardware address; nil: there is no probing.
	Probed func(a netip.Addr, client addr.Hardware) Probe
	// OtherServer tells links on which another server of a family answers; nil: none does.
	OtherServer func(link plan.ID, f option.Family) bool
	// DUID is this server's, as raw octets.
	DUID string
	// Nonce draws sixteen unpredictable octets; nil: no client is given one.
	Nonce func() string
	// Pending tells keys whose records are not durable yet; nil: all are.
	Pending func(netip.Prefix) bool
	// RecordsLost is true while clients may hold addresses of which nothing is on record,
	// since the records were set back to an older state.
	RecordsLost bool
	// Pair says what this server may do as one of two; nil: it is alone.
	Pair Pair
}

// Pair is what a server may do as one of two that share a plan and a lease table
// (RFC 8156). None of it changes anything.
type Pair interface {
	// Serving says whom the server answers in its state.
	Serving() Serving
	// Responsible reports whether a client that speaks to both is this server's to
	// answer, which tries for some time already.
	Responsible(c lease.Client, tried time.Duration) bool
	// Promise is for how long a client gets an address that it would be given for a
	// time, with what is on record of it, or nil.
	Promise(now lease.Time, before *lease.Lease, wanted time.Duration) time.Duration
	// Gives reports whether a free address or prefix is this server's to give to anybody,
	// with what is on record of it, or nil.
	Gives(k netip.Prefix, l *lease.Lease) bool
	// Returns reports whether the last client of an address that nobody holds may
	// have it back.
	Returns(l *lease.Lease) bool
	// Reserved reports whether an address may be given to whom it is reserved for,
	// although somebody else had it, or nobody.
	Reserved(r *plan.Reservation, l *lease.Lease) bool
	// Forgetful reports whether acknowledgements from the record are not told the partner:
	// a simulation wants to see what that is for.
	Forgetful() bool
	// Changed marks what becomes of a record as this server's change, of which the
	// partner is to be told. A client that gets the address would be given it for
	// the time wanted.
	Changed(before, after *lease.Lease, wanted time.Duration)
}

// Serving says whom a server of a pair answers.
type Serving uint8

// Whom it can answer.
const (
	Nobody   Serving = iota // it recovers, or finds out what the other did
	Resting                 // nobody: the other answers everybody meanwhile
	Holders                 // so does it, but for clients that renew with this server alone
	Renewals                // clients that have a lease of it
	Everybody
)

// Probe is what probes found out about an address.
type Probe uint8

// What probes can find out.
const (
	Unprobed    Probe = iota // it has to be probed first
	Silent                   // nobody else answered a moment ago
	InUse                    // somebody else answered a moment ago
	Unreachable              // no probe reaches it
)

// Outcome is what became of a request.
type Outcome string

// The outcomes.
const (
	Offered      Outcome = "offered"
	Acknowledged Outcome = "acknowledged"
	Refused      Outcome = "refused" // NAK
	Released     Outcome = "released"
	Declined     Outcome = "declined"
	Informed     Outcome = "informed"
	Ignored      Outcome = "ignored" // silence
	Waiting      Outcome = "waiting" // for the probe of an address
)

// Step is one line of a decision's trail. "{a}" and "{t}" in Text stand for
// Addr and Name, "{c}" for Name as a circuit is shown; formatting waits until somebody
// reads it.
type Step struct {
	Text string
	Addr netip.Addr
	Bits int // of a delegated prefix that begins at Addr; 0 for an address
	Name string
}

func (s Step) String() string {
	head, rest, open := strings.Cut(s.Text, "{")
	if !open {
		return s.Text
	}
	out := make([]byte, 0, 128)
	for out = append(out, head...); open; { // a place is a letter in braces
		switch place, behind, _ := strings.Cut(rest, "}"); place {
		case "a":
			if s.Bits > 0 {
				out = netip.PrefixFrom(s.Addr, s.Bits).AppendTo(out)
			} else {
				out = append(out, s.Addr.String()...)
			}
			rest = behind
		case "t":
			out, rest = append(out, s.Name...), behind
		case "c":
			out, rest = append(out, option.Show([]byte(s.Name))...), behind
		}
		head, rest, open = strings.Cut(rest, "{")
		out = append(out, head...)
	}
	return string(out)
}

// Destination says where a reply goes (RFC 2131 section 4.1).
type Destination uint8

// The destinations.
const (
	Nowhere    Destination = iota
	ToRelay                // giaddr, server port or the relay's own (RFC 8357)
	ToAddress              // ciaddr, client port
	ToHardware             // yiaddr at chaddr, without ARP
	ToAll                  // broadcast on the link
	ToSource               // where it came from, with DHCPv6
)

// Decision is what is to be done about a request: an answer to each thing that the client
// asks for, one list of effects, one reply. DHCPv4 is the case of one answer.
type Decision struct {
	Answers []Answer      // at least one
	Reply   request.Reply // nil: silence
	To      Destination
	Limit   int // octets the client takes in one message
	Delay   time.Duration
	Effects effect.List    // what is to be done, in this order
	Changes []lease.Change // of leases, that are recorded all together
	Trail   []Step
	// Withheld is why nothing of this must be carried out or sent, or "".
	Withheld reason.Reason
	Values   []plan.Value // what the reply was chosen from, by key, with levels

	memory *memory
}

// Answer is what becomes of one thing that a client asks for.
type Answer struct {
	To      request.Association
	Client  lease.Client // that it is on record for
	Outcome Outcome
	Why     reason.Reason        // with Refused and Ignored
	Scope   *plan.View           // the scope concerned, if any
	Key     netip.Prefix         // the address or prefix concerned, if any
	Time    time.Duration        // that it is promised for, with Offered and Acknowledged
	Lease   *lease.Lease         // that is recorded of it, or nil
	Offer   *lease.Offer         // that is made
	Drop    netip.Prefix         // an offer to be forgotten
	Probe   netip.Addr           // with Waiting: decide again when it is known whether somebody uses it
	New     bool                 // the scope never saw the client before
	Twin    *lease.Lease         // of this address, given to another hardware address with the same identifier
	Trouble reason.Reason        // that the client has although it is served
	Rule    string               // that ignores or refuses, with ByRule
	Fitted  []*plan.CompiledRule // rules of the scope concerned that fit

	port       lease.Port   // where the client is plugged in
	remembered lease.Change // of a lease, in memory alone
}

// Address is the address concerned, or the first of the prefix; the zero address if there is
// none.
func (a *Answer) Address() netip.Addr { return a.Key.Addr() }

// First is the first answer.
func (d *Decision) First() *Answer { return &d.Answers[0] }

// Of is the answer that concerns an address or prefix, or nil.
func (d *Decision) Of(k netip.Prefix) *Answer {
	for i := range d.Answers {
		if d.Answers[i].Key == k {
			return &d.Answers[i]
		}
	}
	return nil
}

// Waits is an answer of which an address has to be probed before the request can be decided,
// or nil.
func (d *Decision) Waits() *Answer {
	for i := range d.Answers {
		if d.Answers[i].Outcome == Waiting {
			return &d.Answers[i]
		}
	}
	return nil
}

// memory is what a decision is made in. It is used again, so that a busy server
// leaves little behind to be collected.
type memory struct {
	v4       v4
	v6       v6
	message  dhcp4.Message
	message6 dhcp6.Message
	octets   [16]byte // of the server identifier and the times
	answers  [1]Answer
	steps    [12]Step
	options  [40]dhcp4.Option
	values   [64]plan.Value
	rulings  [4]ruling
	effects  [8]effect.Effect
	changes  [2]lease.Change
}

// decider is one request on its way to a decision, as far as it is the same for
// each protocol: who asks, from which link, under which rules, for what.
type decider struct {
	world   World
	table   *lease.Table
	plan    *plan.Plan
	now     lease.Time
	req     request.Request
	out     *Decision
	answer  *Answer // that is being worked out
	who     asker
	scopes  []*plan.View // of the link
	rulings []ruling     // of the scopes looked at so far
	looked  *plan.View   // whose memory was read ahead, or nil
	read    int          // what came of it
}

// asker is who asks, and what of its request a choice depends on.
type asker struct {
	client     lease.Client
	hardware   addr.Hardware
	identifier []byte        // as it is sent, even where it does not tell
	circuit    []byte        // raw octets; nil if no relay named one
	stranger   bool          // it came through a relay that the plan does not name
	sure       bool          // the relay is one that the plan names, so the circuit counts
	agent      string        // what else is on record of how it is connected
	shown      string        // circuit as reservations have it; worked out when it is asked for
	via        netip.Addr    // the relay's address, or the zero address
	wish       netip.Prefix  // that it would like to have, if valid
	length     int           // that a delegated prefix should have; 0: it does not say
	seed       string        // octets by which pools of IPv6 choose for it; "" with DHCPv4
	iaid       string        // of the association, big-endian; "" with DHCPv4
	time       time.Duration // that it would like to have it for; 0: it does not say
	forever    bool          // what it is given never ends
	hostname   string
	vendor     string
	facts      rule.Request // what rules ask about
}

// v4 is a request by DHCPv4 on its way.
type v4 struct {
	decider
	msg    *dhcp4.Message
	sent   *dhcp4.Message // nil: nothing
	way    Way
	behind *plan.View // at the relay's address
	chosen bool       // the client chose its subnet by option 118
}

// Decide says what to do about a request. Into is a decision whose memory is used
// again, and which is not to be used any more; nil makes a new one. What a
// decision gives to be stored is for keeps.
func Decide(req request.Request, w World, into *Decision) *Decision {
	if into == nil {
		into = new(Decision)
	}
	m := into.memory
	if m == nil {
		m = new(memory)
	}
	*into = Decision{memory: m, Answers: m.answers[:0], Trail: m.steps[:0], Effects: m.effects[:0], Changes: m.changes[:0]}
	of := decider{world: w, table: w.Table, plan: w.Table.Plan(), now: w.Now, req: req, out: into, rulings: m.rulings[:0]}
	switch msg := req.Message.(type) {
	case *dhcp4.Message:
		m.message.Options = m.options[:0]
		m.v4 = v4{decider: of, msg: msg}
		m.v4.all()
	case *dhcp6.Message:
		m.message6.Options, m.message6.IAs = m.message6.Options[:0], nil
		m.v6 = v6{decider: of, msg: msg, ias: m.v6.ias[:0]}
		m.v6.all()
	default:
		panic("a request of a family that nobody decides") // the codecs are all there is
	}
	into.order(w)
	return into
}

// begin begins the answer to one thing that the client asks for.
func (d *decider) begin(to request.Association) {
	d.out.Answers = append(d.out.Answers, Answer{To: to, Client: d.who.client})
	d.answer = &d.out.Answers[len(d.out.Answers)-1]
}

// all decides the whole message, which asks for one thing.
func (d *v4) all() {
	d.out.Limit = maxSize(d.msg)
	d.ask()
	d.begin(d.req.First())
	d.decide()
	d.withhold()
	d.answer.Client = d.who.client
}

// ask says who asks.
func (d *v4) ask() {
	m, to := d.msg, d.req.First()
	d.way = d.arrival()
	d.who = asker{client: d.clientKey(false), hardware: m.CHAddr, identifier: d.req.Identifier, forever: d.req.Kind == request.Boot,
		sure: d.way == ByRelay, stranger: d.way == ByStranger, via: d.req.Relay, circuit: d.req.Circuit, wish: to.Hint(), time: to.Time,
		hostname: hostname(m), vendor: clip(m.Vendor())}
	if to.Time != 0 {
		d.who.time = max(to.Time, time.Minute)
	}
	d.who.facts = factsOf(&d.req, d.way == ByRelay)
}

// order lists what the decision does. This is the one place that says what waits
// for what: nothing that tells a client of a lease leaves before the lease is
// durable (RFC 2131 section 3.1), and a repeated request joins the record that is
// on its way. The partner is told last: what it knows of must be on record here,
// with the debt of telling it (rule 3 of a pair, RFC 8156 section 4.2.1).
func (d *Decision) order(w World) {
	if d.Withheld != "" || d.Waits() != nil {
		return
	}
	do := func(e effect.Effect) { d.Effects = append(d.Effects, e) }
	for i := range d.Answers {
		d.Answers[i].before(do)
	}
	if len(d.Changes) > 0 {
		do(effect.Effect{Do: effect.Record, Changes: d.Changes})
	}
	for i := range d.Answers {
		if l := d.Answers[i].Lease; l != nil {
			do(effect.Effect{Do: effect.Forget, Key: l.Prefix})
		}
	}
	if on, waits := d.joins(w); waits {
		do(effect.Effect{Do: effect.Await, Key: on})
	}
	if d.Reply != nil {
		do(effect.Effect{Do: effect.Reply})
	}
	if w.Pair != nil && len(d.Changes) > 0 {
		do(effect.Effect{Do: effect.Tell, Changes: d.Changes})
	}
}

// before lists what an answer does in memory alone.
func (a *Answer) before(do func(effect.Effect)) {
	if a.Drop.IsValid() {
		do(effect.Effect{Do: effect.Forget, Key: a.Drop})
	}
	if a.New && a.Scope != nil && a.Scope.Limits.NewPerMinute >= 0 { // who comes while there is no limit is not counted against one
		do(effect.Effect{Do: effect.Welcome, Scope: a.Scope.ID, Port: a.port})
	}
	if a.Outcome == Declined && a.Why == "" && a.Scope != nil {
		at, _ := a.Lease.Port()
		do(effect.Effect{Do: effect.Blame, Scope: a.Scope.ID, Port: at, Client: a.Client})
	}
	if a.remembered.After != nil {
		do(effect.Effect{Do: effect.Remember, Changes: []lease.Change{a.remembered}})
	}
	if a.Offer != nil {
		do(effect.Effect{Do: effect.Offer, Note: a.Offer})
	}
}

// joins reports whether the reply waits for a record, and for which if it is but one: what
// is recorded by this decision, or the record of what it acknowledges, if that is on its
// way.
func (d *Decision) joins(w World) (on netip.Prefix, waits bool) {
	waits = len(d.Changes) > 0
	several := waits
	for i := range d.Answers {
		a := &d.Answers[i]
		if a.Outcome != Acknowledged || w.Pending == nil || !w.Pending(a.Key) {
			continue
		}
		several = several || waits
		on, waits = a.Key, true
	}
	if several {
		on = netip.Prefix{}
	}
	return on, waits
}

// change notes what becomes of a record.
func (d *decider) change(before, after *lease.Lease) { d.changeFor(before, after, 0) }

// changeFor is change for a client that would be given the address for a time.
func (d *decider) changeFor(before, after *lease.Lease, wanted time.Duration) {
	if d.world.Pair != nil {
		d.world.Pair.Changed(before, after, wanted)
	}
	d.out.Changes = append(d.out.Changes, lease.Change{Before: before, After: after})
	d.recorded(after)
}

// recorded notes the record that the address concerned gets: the first of an answer.
func (d *decider) recorded(l *lease.Lease) {
	if d.answer.Lease == nil {
		d.answer.Lease = l
	}
}

// waitFor has an address probed before the request is decided.
func (d *decider) waitFor(v *plan.View, k netip.Prefix) {
	d.answer.Scope, d.answer.Key, d.answer.Probe, d.answer.Outcome = v, k, k.Addr(), Waiting
}

// etherMTU is what an Ethernet frame carries: replies to clients without an
// address cannot be sent in fragments.
const etherMTU = 1500

// maxSize turns option 57, which counts IP and UDP headers, into payload octets.
func maxSize(m *dhcp4.Message) int {
	if b, ok := m.Options.Get(option.MaxMessageSize); ok && len(b) == 2 {
		return min(int(b[0])<<8+int(b[1]), etherMTU) - 28
	}
	return dhcp4.MinMax
}

func (d *decider) step(text string, a netip.Addr, name string) {
	d.out.Trail = append(d.out.Trail, Step{Text: text, Addr: a, Name: name})
}

// about is step for an address or a delegated prefix.
func (d *decider) about(text string, k netip.Prefix, name string) {
	s := Step{Text: text, Addr: k.Addr(), Name: name}
	if k.IsValid() && !k.IsSingleIP() {
		s.Bits = k.Bits()
	}
	d.out.Trail = append(d.out.Trail, s)
}

func (d *decider) ignore(why reason.Reason) { d.answer.Outcome, d.answer.Why = Ignored, why }

func (d *v4) decide() {
	m := d.msg
	if d.world.Fenced {
		d.step("another server has taken over the database", netip.Addr{}, "")
		d.ignore(reason.Fenced)
		return
	}
	if m.Op != dhcp4.BootRequest {
		d.step("this is a reply, not a request", netip.Addr{}, "")
		d.ignore(reason.NotServed)
		return
	}
	if m.CHAddr.Group() {
		d.step("its hardware address is one of a group", netip.Addr{}, "")
		d.ignore(reason.BadRequest)
		return
	}
	if m.CHAddr.Zero() && d.who.client.Kind == lease.Hardware {
		d.step("neither a hardware address nor an identifier says who the client is", netip.Addr{}, "")
		d.ignore(reason.BadRequest)
		return
	}
	if what := d.oddRelay(); what != "" {
		d.step("it came through {a}: {t}", m.GIAddr, what)
		d.ignore(reason.BadRelay)
		return
	}
	if d.foreign() {
		return
	}
	if r := &d.req.Agent; d.way == ByStranger && len(r.Circuit)+len(r.Remote)+len(r.Subscriber) > 0 {
		d.step("what relay {a} says of where the client is plugged in does not count: the plan does not name it", m.GIAddr, "")
	}
	d.findLink()
	for _, v := range d.scopes {
		if v.ByHardware && len(m.CHAddr) > 0 {
			d.who.client = d.clientKey(true)
		}
	}
	d.recall()
	if d.leftToPartner() {
		return
	}
	switch m.Type {
	case dhcp4.Discover:
		d.discover()
	case dhcp4.Request:
		d.request()
	case dhcp4.Decline:
		d.decline()
	case dhcp4.Release:
		d.release()
	case dhcp4.Inform:
		d.inform()
	case dhcp4.None:
		d.bootp()
	default:
		d.step("{t} messages are not answered", netip.Addr{}, m.Type.String())
		d.ignore(reason.NotServed)
	}
	for i := range d.rulings { // if they were asked at all
		if d.answer.Scope != nil && d.rulings[i].scope == d.answer.Scope.ID {
			d.answer.Fitted = d.rulings[i].fitted
		}
	}
}

// withhold marks decisions that must not be carried out: the link is only
// listened to, or another server answers there and this one stands aside.
func (d *decider) withhold() {
	listening, aside := d.plan.Defaults.Listening, false
	if len(d.scopes) > 0 {
		on := d.scopes[0]
		listening = listening || on.Listening
		aside = on.StandAside && d.world.OtherServer != nil && d.world.OtherServer(on.Link, d.req.Family)
	}
	switch {
	case listening:
		d.step("the link is listened to: nothing is sent", netip.Addr{}, "")
		d.out.Withheld = reason.Listening
	case aside:
		d.step("another server answers on the link, and this one stands aside", netip.Addr{}, "")
		d.out.Withheld = reason.StandsAside
	}
}
