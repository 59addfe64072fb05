package observe

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"sort"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
	"yarnpost/service/lru"
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
	Scope      string         // of what it took
	Took       netip.Prefix   // from the other server: an address, as a prefix of full length, or a prefix
	Server     request.Server // the other server
	Would      netip.Prefix   // what this server would have offered
	Agrees     bool
	Options    bool // options were compared: the other server's reply was overheard
	Difference []string
	At         lease.Time
	Count      int
}

// OtherServer is another server heard on a link.
type OtherServer struct {
	Link        string
	Server      request.Server
	How         string // how it was noticed
	First, Last lease.Time
	Heard       lease.Time // when its own words were heard last; 0 if never
	Count       int
}

type otherKey struct {
	link   plan.ID
	server request.Server
}

// exchange is a transaction of a family.
type exchange struct {
	family      option.Family
	transaction uint32
}

// Shadow is what is known of other servers.
type Shadow struct {
	host    *Host
	clients *lru.Map[lease.Client, *Agreement]
	others  *lru.Map[otherKey, *OtherServer]
	asked   *lru.Map[exchange, comparison]      // REQUESTs whose ACK or REPLY may still be overheard
	early   *lru.Map[exchange, request.Options] // those that were overheard before their REQUEST was looked at
}

type comparison struct {
	client lease.Client
	would  request.Options
}

func newShadow(h *Host) *Shadow {
	heard := func(r *OtherServer) bool { return r.Heard != 0 }
	return &Shadow{host: h, clients: lru.New[lease.Client, *Agreement](shadowMost), others: lru.Proved[otherKey](1000, heard),
		asked: lru.New[exchange, comparison](1000), early: lru.New[exchange, request.Options](1000)}
}

// OtherServer reports whether another server of a family answers on a link: its own words were
// heard lately. Which server clients say that they chose does not count, since
// anybody can say it.
func (s *Shadow) OtherServer(link plan.ID, f option.Family, now lease.Time) bool {
	for k, r := range s.others.All() {
		if k.link == link && (k.server.DUID != "") == (f == option.V6) && r.Heard != 0 && now.Sub(r.Heard) <= rivalSpan {
			return true
		}
	}
	return false
}

// noteServer remembers another server on a link: its own words were heard, or a
// client chose it.
func (s *Shadow) noteServer(link plan.ID, server request.Server, how string, itself bool, now lease.Time) {
	if !server.Known() || s.host.Own(server) {
		return
	}
	k := otherKey{link, server}
	r := s.others.Get(k)
	if r == nil {
		r = &OtherServer{Link: s.host.Table.Plan().Label(link), Server: server, First: now}
		s.host.Log.Warn("another DHCP server answers", "link", r.Link, "server", server, "how", how)
	}
	r.How, r.Last = how, now
	r.Count++
	if itself {
		r.Heard = now
	}
	s.others.Put(k, r)
}

// Request looks at a request that names another server: what did the
// client take, and what would this server have given?
func (s *Shadow) Request(c Case, at time.Time) {
	took := c.To.Hint()
	if !c.Kind.Claims() || c.Kind == request.Confirm && c.Family == option.V6 || c.Why == reason.ForeignSource || c.Why == reason.BadRelay ||
		!took.IsValid() || took.Masked() != took || took.Addr().IsUnspecified() {
		return
	}
	server := request.ServerOf(c.Family, c.Chosen)
	named := server.Known()
	if named && s.host.Own(server) {
		return
	}
	withheld := c.Decision.Withheld
	if !named && (withheld == "" || len(c.Chosen) > 0) { // nobody else's choice, or one that no server can be
		return
	}
	if named {
		if link := s.linkOf(c, took); link != 0 {
			s.noteServer(link, server, "a client chose it", false, lease.At(at))
		}
	}
	if withheld != reason.Listening {
		return
	}
	s.compare(c, took, server, at)
}

// linkOf is the link a request comes from, as far as that can be told.
func (s *Shadow) linkOf(c Case, took netip.Prefix) plan.ID {
	p := s.host.Table.Plan()
	if !c.Relay.IsValid() {
		if id := p.LinkOnInterface(c.Interface); c.Interface != "" && id != 0 {
			return id
		}
	} else if id := p.LinkOfRelay(c.Relay); id != 0 {
		return id
	}
	for _, a := range []netip.Addr{c.Link, c.Relay, took.Addr()} {
		if v := p.ScopeAt(a); a.IsValid() && v != nil {
			return v.Link
		}
	}
	return 0
}

func (s *Shadow) compare(of Case, took netip.Prefix, server request.Server, at time.Time) {
	if of.Unicast && !of.Relay.IsValid() && of.Kind == request.Renew {
		return // it was sent here by mistake
	}
	path := of.Path
	path.Unicast = false
	w := s.host.World(at)
	w.Probed, w.Writable = nil, true
	decided := answer.Decide(of.Message.Anew(path), w, nil)
	i := slices.IndexFunc(decided.Answers, func(a answer.Answer) bool { return a.To.Object == of.To.Object && a.To.ID == of.To.ID })
	d, p, now := &decided.Answers[max(i, 0)], w.Table.Plan(), lease.At(at)

	c := s.clients.Get(d.Client)
	if c == nil {
		c = &Agreement{Client: d.Client}
	}
	s.clients.Put(d.Client, c)
	c.Hardware, c.Took, c.Would, c.At = of.Hardware, took, netip.Prefix{}, now
	if server.Known() {
		c.Server = server
	}
	c.Hostname = of.Message.Hostname()
	c.Link, c.Scope, c.Difference, c.Options = "", "", nil, false
	c.Count++
	v := scopeOf(p, took)
	if v != nil {
		c.Scope, c.Link = v.Name, v.LinkName
	} else if d.Scope != nil {
		c.Link = d.Scope.LinkName
	}
	c.Difference = s.differences(d, p, v, took)
	c.Agrees = len(c.Difference) == 0
	if d.Outcome == answer.Offered {
		c.Would = d.Key
		if i <= 0 { // the options of a message are compared once
			of := exchange{of.Family, of.Transaction}
			s.asked.Put(of, comparison{d.Client, request.OptionsOf(decided.Reply)})
			if theirs := s.early.Get(of); theirs != nil {
				s.compareOptions(of, theirs)
			}
		}
	}
	if v != nil {
		s.learn(of, d.Client, v, took, now)
	}
}

// scopeOf is the scope whose subnet holds an address, or that delegates a prefix, or nil.
func scopeOf(p *plan.Plan, k netip.Prefix) *plan.View {
	if v := p.ScopeAt(k.Addr()); v != nil && (v.Has(k) || !k.IsSingleIP()) {
		return v
	}
	return nil
}

// differences says in words how what a client took differs from what this
// server would have given it.
func (s *Shadow) differences(d *answer.Answer, p *plan.Plan, v *plan.View, key netip.Prefix) (out []string) {
	took, would := addr.FormatKey(key), addr.FormatKey(d.Key)
	if d.Outcome != answer.Offered {
		return []string{fmt.Sprintf("it would have got nothing here: %s", d.Why)}
	}
	switch {
	case v == nil:
		out = append(out, fmt.Sprintf("%s is in no scope; it would have got %s of scope %s", took, would, d.Scope.Name))
	case v.ID != d.Scope.ID:
		out = append(out, fmt.Sprintf("%s is of scope %s; it would have got %s of scope %s", took, v.Name, would, d.Scope.Name))
	case key == d.Key:
	case p.ReservationOf(d.Key) != nil:
		out = append(out, fmt.Sprintf("%s is reserved for it as %s, and it took %s", would, p.ReservationOf(d.Key).Name, took))
	case p.ReservationOf(key) != nil:
		out = append(out, fmt.Sprintf("%s is reserved for another client, %s", took, p.ReservationOf(key).Name))
	case !v.Gives(key) && !key.IsSingleIP():
		out = append(out, fmt.Sprintf("%s is none of the prefixes that scope %s delegates", took, v.Name))
	case !v.Gives(key):
		out = append(out, fmt.Sprintf("%s is excluded, or outside the pools of scope %s", took, v.Name))
	default:
		if l := s.host.Table.Get(key); l != nil && l.Status == lease.Active && l.Client != d.Client {
			who := cmp.Or(l.Hardware.String(), addr.DUID(l.Client.DUID()).String())
			out = append(out, fmt.Sprintf("%s is known as the address of %s", took, who))
		}
	}
	return out
}

// learn seeds the lease table with what a client took from another server. It
// is not this server's lease (its revision is 0), but it keeps the address, or the prefix, for
// the client.
func (s *Shadow) learn(of Case, c lease.Client, v *plan.View, took netip.Prefix, now lease.Time) {
	if !v.Has(took) {
		return
	}
	before := s.host.Table.Get(took)
	if before != nil && before.Status == lease.Active && before.Client == c && before.Expires.Sub(now) > v.Lease/2 {
		return
	}
	if before != nil && before.Revision != 0 && (before.HeldAt(now) || before.Kept()) { // this server promised it to somebody
		return
	}
	t := v.LeaseFor(nil)
	if of.Family == option.V6 {
		t = v.ValidFor(nil, t)
	}
	n := &lease.Lease{Prefix: took, Status: lease.Active, Client: c, Hardware: of.Hardware, Hostname: of.Message.Hostname(),
		Vendor: of.Message.Vendor(), Circuit: string(of.Circuit), Relay: of.Relay, Since: now, Changed: now, Heard: now, Granted: t,
		Expires: now.Add(t)}
	if r := s.host.Table.Plan().ReservationOf(took); r != nil {
		n.Reserved = answer.Holds(r, n)
	}
	if old := s.host.Table.ByClient(v, c); old != nil && old.Prefix != took && old.Status == lease.Active &&
		old.Revision == 0 { // it moved
		s.host.Become(old, old.Ended(lease.Released, now))
	}
	s.host.Become(before, n)
}

// Overheard takes in what another server sent to a client, as it was heard on an
// interface.
func (s *Shadow) Overheard(i *wire.Interface, of request.Overheard, now lease.Time) {
	p := s.host.Table.Plan()
	link := p.LinkOnInterface(i.Name)
	for _, at := range append(slices.Clone(i.Prefixes), i.Prefixes6...) {
		if v := p.ScopeAt(at.Addr()); link == 0 && v != nil {
			link = v.Link
		}
	}
	if link == 0 || s.host.Own(of.Server) {
		return
	}
	s.noteServer(link, of.Server, "its "+of.Message.Name()+" was heard on "+i.Name, true, now)
	if !of.Binding {
		return
	}
	theirs, in := request.OptionsOf(of.Message), exchange{of.Family, of.Transaction}
	if s.asked.Get(in).client.Known() {
		s.compareOptions(in, theirs)
		return
	}
	s.early.Put(in, theirs)
}

// compareOptions completes a comparison with what the other server's ACK or REPLY said.
func (s *Shadow) compareOptions(of exchange, theirs request.Options) {
	c := s.asked.Get(of)
	s.asked.Drop(of)
	s.early.Drop(of)
	if a := s.clients.Get(c.client); a != nil {
		a.Options = true
		if of.family == option.V6 {
			a.Difference = append(a.Difference, OptionDifferences6(c.would, theirs)...)
		} else {
			a.Difference = append(a.Difference, OptionDifferences(s.host.Table.Plan(), c.would, theirs)...)
		}
		a.Agrees = len(a.Difference) == 0
	}
}

// ofOneClient4 are the options of a DHCPv4 reply that are of one client or one moment.
var ofOneClient4 = []uint16{option.MessageType, option.ServerID, option.AddressTime, option.RenewalTime, option.RebindingTime,
	option.ClientID, option.RelayAgent, option.Authentication, option.BroadcastAddress}

// OptionDifferences compares the options of two DHCPv4 replies, but for those of one client or
// one moment.
func OptionDifferences(p *plan.Plan, ours, theirs request.Options) []string {
	return differences(p.Codes(), ofOneClient4, ours, theirs)
}

// OptionDifferences6 does the same for DHCPv6.
func OptionDifferences6(ours, theirs request.Options) []string {
	return differences(option.Standard6, append(slices.Clone(answer.OfOneClient6), option.IANA, option.IATA, option.IAPD), ours, theirs)
}

func differences(book *option.Codebook, own []uint16, ours, theirs request.Options) (out []string) {
	show := func(list request.Options, code uint16) string {
		b, ok := list.Get(code)
		if !ok {
			return "nothing"
		}
		return book.ByCode(code).Type.Format(b)
	}
	var codes []uint16
	for _, o := range append(slices.Clone(ours), theirs...) {
		if !slices.Contains(own, o.Code) && !slices.Contains(codes, o.Code) {
			codes = append(codes, o.Code)
		}
	}
	slices.Sort(codes)
	for _, c := range codes {
		if a, b := show(ours, c), show(theirs, c); a != b {
			out = append(out, fmt.Sprintf("option %s is %s here and %s there", book.ByCode(c).Name(), a, b))
		}
	}
	return out
}

// Agreements lists the clients compared with another server, disagreements
// first.
func (s *Shadow) Agreements() []Agreement {
	out := make([]Agreement, 0, s.clients.Size())
	for _, a := range s.clients.All() {
		v := *a
		v.Difference = slices.Clone(a.Difference)
		out = append(out, v)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Agrees != out[j].Agrees {
			return !out[i].Agrees
		}
		return out[i].Took.Compare(out[j].Took) < 0
	})
	return out
}

// OtherServers lists other servers heard, latest first.
func (s *Shadow) OtherServers(now lease.Time) []OtherServer {
	out := []OtherServer{}
	for k, r := range s.others.All() {
		if now.Sub(r.Last) > rivalKeep {
			s.others.Drop(k)
			continue
		}
		out = append(out, *r)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Last > out[j].Last })
	return out
}
