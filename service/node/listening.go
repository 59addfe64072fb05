package node

import (
	"fmt"
	"net/netip"
	"slices"
	"sort"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/store"
	"yarnpost/service/wire"
)

// Limits of what is kept of other servers.
const (
	shadowMost = 20000            // clients compared
	rivalSpan  = 10 * time.Minute // silence after which another server no longer counts as answering
	rivalKeep  = 24 * time.Hour
)

// Agreement compares, for one client, what another server gave it with what
// this one would have given.
type Agreement struct {
	Client     lease.Client
	Hardware   addr.Hardware
	Hostname   string
	Link       string
	Scope      string     // of the address it took
	Took       netip.Addr // from the other server
	Server     netip.Addr // the other server
	Would      netip.Addr // what this server would have offered
	Agrees     bool
	Options    bool // options were compared: the other server's reply was overheard
	Difference []string
	At         lease.Time
	Count      int
}

// Rival is another server heard on a link.
type Rival struct {
	Link        string
	Server      netip.Addr
	How         string // how it was noticed
	First, Last lease.Time
	Count       int
}

type rivalKey struct {
	link   plan.ID
	server netip.Addr
}

// shadow is what is known of other servers. It is used under the engine's lock.
type shadow struct {
	clients map[lease.Client]*Agreement
	rivals  map[rivalKey]*Rival
	asked   map[uint32]comparison    // REQUESTs whose ACK may still be overheard
	early   map[uint32]dhcp4.Options // ACKs overheard before their REQUEST was looked at
}

type comparison struct {
	client lease.Client
	would  []dhcp4.Option
	at     lease.Time
}

func newShadow() *shadow {
	return &shadow{clients: map[lease.Client]*Agreement{}, rivals: map[rivalKey]*Rival{}, asked: map[uint32]comparison{}, early: map[uint32]dhcp4.Options{}}
}

func (s *shadow) rivalOn(link plan.ID, now lease.Time) bool {
	for k, r := range s.rivals {
		if k.link == link && now.Sub(r.Last) <= rivalSpan {
			return true
		}
	}
	return false
}

// noteRival remembers another server on a link. The caller holds the lock.
func (e *Engine) noteRival(link plan.ID, server netip.Addr, how string, now lease.Time) {
	if !server.IsValid() || server.IsUnspecified() || e.isOwn(server) {
		return
	}
	k := rivalKey{link, server}
	r := e.shadow.rivals[k]
	if r == nil {
		if len(e.shadow.rivals) >= 1000 {
			return
		}
		r = &Rival{Link: e.table.Plan().Label(link), Server: server, First: now}
		e.shadow.rivals[k] = r
		e.log.Warn("another DHCP server answers", "link", r.Link, "server", server, "how", how)
	}
	r.How, r.Last = how, now
	r.Count++
}

// overhearRequest looks at a request that names another server: what did the
// client take, and what would this server have given? The caller holds the lock.
func (e *Engine) overhearRequest(req *answer.Request, d *answer.Decision, now lease.Time) {
	m := req.Message
	if m.Type != dhcp4.Request {
		return
	}
	server, named := m.Options.Addr(option.ServerID)
	took, asked := m.Options.Addr(option.AddressRequest)
	if !asked {
		took = m.CIAddr
	}
	if !took.IsValid() || took.IsUnspecified() || named && e.isOwn(server) {
		return
	}
	withheld := d.Withheld
	if !named && withheld == "" {
		return
	}
	p := e.table.Plan()
	if named {
		if link := e.linkOf(req, took); link != 0 {
			e.noteRival(link, server, "a client chose it", now)
		}
	}
	if withheld != answer.Listening {
		return
	}
	e.compare(req, p, took, server, now)
}

// linkOf is the link a request comes from, as far as that can be told.
func (e *Engine) linkOf(req *answer.Request, took netip.Addr) plan.ID {
	p := e.table.Plan()
	if id := p.LinkOnInterface(req.Interface); req.Interface != "" && id != 0 {
		return id
	}
	if id := p.LinkOfRelay(req.Message.GIAddr); id != 0 {
		return id
	}
	for _, a := range []netip.Addr{req.Relay.Link, req.Message.GIAddr, took} {
		if v := p.ScopeAt(a); a.IsValid() && v != nil {
			return v.Link
		}
	}
	return 0
}

func (e *Engine) compare(req *answer.Request, p *plan.Plan, took, server netip.Addr, now lease.Time) {
	// What would have been offered: the same client, asking anew.
	ask := *req.Message
	ask.Type, ask.CIAddr = dhcp4.Discover, netip.IPv4Unspecified()
	ask.Options = slices.DeleteFunc(slices.Clone(req.Message.Options), func(o dhcp4.Option) bool {
		return o.Code == option.ServerID || o.Code == option.AddressRequest
	})
	for i := range ask.Options {
		if ask.Options[i].Code == option.MessageType {
			ask.Options[i].Data = []byte{byte(dhcp4.Discover)}
		}
	}
	again := *req
	again.Message, again.Unicast = &ask, false
	if req.Unicast && req.Message.GIAddr.IsUnspecified() && !req.Message.CIAddr.IsUnspecified() {
		return // a renewal that was sent here by mistake
	}
	w := e.world(time.Now())
	w.Ready, w.Writable = nil, true
	d := e.decider.Decide(again, w)

	c := e.shadow.clients[d.Client]
	if c == nil {
		if len(e.shadow.clients) >= shadowMost {
			return
		}
		c = &Agreement{Client: d.Client}
		e.shadow.clients[d.Client] = c
	}
	c.Hardware, c.Took, c.Would, c.At = ask.CHAddr, took, netip.Addr{}, now
	if server.IsValid() {
		c.Server = server
	}
	c.Hostname = req.Message.Text(option.Hostname)
	c.Link, c.Scope, c.Difference, c.Options = "", "", nil, false
	c.Count++
	v := p.ScopeAt(took)
	if v != nil {
		c.Scope, c.Link = v.Name, v.LinkName
	} else if d.Scope != nil {
		c.Link = d.Scope.LinkName
	}
	c.Difference = e.differences(d, p, v, took)
	c.Agrees = len(c.Difference) == 0
	if d.Outcome == answer.Offered {
		c.Would = d.Address
		would := cloneOptions(d.Reply.Options)
		if len(e.shadow.asked) > 1000 {
			clear(e.shadow.asked)
		}
		e.shadow.asked[ask.XID] = comparison{d.Client, would, now}
		if theirs, heard := e.shadow.early[ask.XID]; heard {
			e.compareOptions(ask.XID, theirs)
		}
	}
	if v != nil && v.Subnet.Contains(took) {
		e.learn(req, d.Client, v, took, now)
	}
}

// differences says in words how what a client took differs from what this
// server would have given it.
func (e *Engine) differences(d *answer.Decision, p *plan.Plan, v *plan.View, took netip.Addr) (out []string) {
	if d.Outcome != answer.Offered {
		return []string{fmt.Sprintf("it would have got nothing here: %s", d.Why)}
	}
	switch {
	case v == nil:
		out = append(out, fmt.Sprintf("%s is in no scope; it would have got %s of scope %s", took, d.Address, d.Scope.Name))
	case v.ID != d.Scope.ID:
		out = append(out, fmt.Sprintf("%s is of scope %s; it would have got %s of scope %s", took, v.Name, d.Address, d.Scope.Name))
	case took == d.Address:
	case p.ReservationAt(d.Address) != nil:
		out = append(out, fmt.Sprintf("%s is reserved for it as %s, and it took %s", d.Address, p.ReservationAt(d.Address).Name, took))
	case p.ReservationAt(took) != nil:
		out = append(out, fmt.Sprintf("%s is reserved for another client, %s", took, p.ReservationAt(took).Name))
	case !v.Allocatable(took):
		out = append(out, fmt.Sprintf("%s is excluded, or outside the pools of scope %s", took, v.Name))
	default:
		if l := e.table.Get(took); l != nil && l.Status == lease.Active && l.Client != d.Client {
			out = append(out, fmt.Sprintf("%s is known as the address of %s", took, l.Hardware))
		}
	}
	return out
}

// learn seeds the lease table with what a client took from another server. It
// is not this server's lease (its revision is 0), but it keeps the address for
// the client.
func (e *Engine) learn(req *answer.Request, c lease.Client, v *plan.View, took netip.Addr, now lease.Time) {
	before := e.table.Get(took)
	if before != nil && before.Status == lease.Active && before.Client == c && before.Expires.Sub(now) > v.Lease/2 {
		return
	}
	m := req.Message
	n := &lease.Lease{Address: took, Status: lease.Active, Client: c, Hardware: m.CHAddr, Hostname: m.Text(option.Hostname), Vendor: m.Text(option.ClassID),
		Circuit: string(req.Relay.Circuit), Since: now, Changed: now, Heard: now, Granted: v.Lease, Expires: now.Add(v.Lease)}
	if r := e.table.Plan().ReservationAt(took); r != nil && r.Hardware == m.CHAddr {
		n.Reserved = true
	}
	if !m.GIAddr.IsUnspecified() {
		n.Relay = m.GIAddr
	}
	if old := e.table.ByClient(v.ID, c); old != nil && old.Address != took && old.Status == lease.Active && old.Revision == 0 { // it moved
		gone := old.Ended(lease.Released, now)
		if e.journal.Add(store.Entry{Before: old, After: gone, Note: waiting{lease: gone}}) {
			e.table.Put(gone)
		}
	}
	if e.journal.Add(store.Entry{Before: before, After: n, Note: waiting{lease: n}}) {
		e.table.Put(n)
	}
}

// Overheard takes what another server sent to a client.
func (e *Engine) Overheard(i *wire.Interface, from netip.Addr, data []byte) {
	var m dhcp4.Message
	if dhcp4.Decode(&m, data) != nil || m.Op != dhcp4.BootReply || m.Type != dhcp4.Offer && m.Type != dhcp4.Ack && m.Type != dhcp4.Nak {
		return
	}
	server, ok := m.Options.Addr(option.ServerID)
	if !ok {
		server = from
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	p := e.table.Plan()
	link := p.LinkOnInterface(i.Name)
	for _, at := range i.Prefixes {
		if v := p.ScopeAt(at.Addr()); link == 0 && v != nil {
			link = v.Link
		}
	}
	if link == 0 || e.isOwn(server) {
		return
	}
	now := lease.At(time.Now())
	e.noteRival(link, server, "its "+m.Type.String()+" was heard on "+i.Name, now)
	if m.Type != dhcp4.Ack {
		return
	}
	if _, asked := e.shadow.asked[m.XID]; asked {
		e.compareOptions(m.XID, m.Options)
		return
	}
	if len(e.shadow.early) > 1000 {
		clear(e.shadow.early)
	}
	e.shadow.early[m.XID] = cloneOptions(m.Options)
}

// compareOptions completes a comparison with what the other server's ACK said.
// The caller holds the lock.
func (e *Engine) compareOptions(xid uint32, theirs dhcp4.Options) {
	c := e.shadow.asked[xid]
	delete(e.shadow.asked, xid)
	delete(e.shadow.early, xid)
	if a := e.shadow.clients[c.client]; a != nil {
		a.Options = true
		a.Difference = append(a.Difference, optionDifferences(e.table.Plan(), c.would, theirs)...)
		a.Agrees = len(a.Difference) == 0
	}
}

func cloneOptions(list dhcp4.Options) (out dhcp4.Options) {
	for _, o := range list {
		out = append(out, dhcp4.Option{Code: o.Code, Data: slices.Clone(o.Data)})
	}
	return out
}

// optionDifferences compares the options of two replies, but for those of one
// server or one moment.
func optionDifferences(p *plan.Plan, ours, theirs dhcp4.Options) (out []string) {
	own := []uint8{option.MessageType, option.ServerID, option.AddressTime, option.RenewalTime, option.RebindingTime, option.ClientID, option.RelayAgent, option.Authentication, option.BroadcastAddress}
	show := func(list dhcp4.Options, code uint8) string {
		b, ok := list.Get(code)
		if !ok {
			return "nothing"
		}
		return p.Codes().ByCode(code).Type.Format(b)
	}
	var codes []uint8
	for _, o := range append(slices.Clone(ours), theirs...) {
		if !slices.Contains(own, o.Code) && !slices.Contains(codes, o.Code) {
			codes = append(codes, o.Code)
		}
	}
	slices.Sort(codes)
	for _, c := range codes {
		if a, b := show(ours, c), show(theirs, c); a != b {
			out = append(out, fmt.Sprintf("option %s is %s here and %s there", p.Codes().ByCode(c).Name(), a, b))
		}
	}
	return out
}

// Agreements lists the clients compared with another server, disagreements
// first.
func (e *Engine) Agreements() []Agreement {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := make([]Agreement, 0, len(e.shadow.clients))
	for _, a := range e.shadow.clients {
		v := *a
		v.Difference = slices.Clone(a.Difference)
		out = append(out, v)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Agrees != out[j].Agrees {
			return !out[i].Agrees
		}
		return out[i].Took.Less(out[j].Took)
	})
	return out
}

// Rivals lists other servers heard, latest first.
func (e *Engine) Rivals() []Rival {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := lease.At(time.Now())
	out := []Rival{}
	for k, r := range e.shadow.rivals {
		if now.Sub(r.Last) > rivalKeep {
			delete(e.shadow.rivals, k)
			continue
		}
		out = append(out, *r)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Last > out[j].Last })
	return out
}
