package observe

import (
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

// OtherServer is another server heard on a link.
type OtherServer struct {
	Link        string
	Server      netip.Addr
	How         string // how it was noticed
	First, Last lease.Time
	Heard       lease.Time // when its own words were heard last; 0 if never
	Count       int
}

type otherKey struct {
	link   plan.ID
	server netip.Addr
}

// Shadow is what is known of other servers.
type Shadow struct {
	host    *Host
	clients *lru.Map[lease.Client, *Agreement]
	others  *lru.Map[otherKey, *OtherServer]
	asked   *lru.Map[uint32, comparison]      // REQUESTs whose ACK may still be overheard
	early   *lru.Map[uint32, request.Options] // ACKs overheard before their REQUEST was looked at
}

type comparison struct {
	client lease.Client
	would  request.Options
}

func newShadow(h *Host) *Shadow {
	heard := func(r *OtherServer) bool { return r.Heard != 0 }
	return &Shadow{host: h, clients: lru.New[lease.Client, *Agreement](shadowMost), others: lru.Proved[otherKey](1000, heard),
		asked: lru.New[uint32, comparison](1000), early: lru.New[uint32, request.Options](1000)}
}

// OtherServer reports whether another server answers on a link: its own words were
// heard lately. Which server clients say that they chose does not count, since
// anybody can say it.
func (s *Shadow) OtherServer(link plan.ID, now lease.Time) bool {
	for k, r := range s.others.All() {
		if k.link == link && r.Heard != 0 && now.Sub(r.Heard) <= rivalSpan {
			return true
		}
	}
	return false
}

// noteServer remembers another server on a link: its own words were heard, or a
// client chose it.
func (s *Shadow) noteServer(link plan.ID, server netip.Addr, how string, itself bool, now lease.Time) {
	if !server.IsValid() || server.IsUnspecified() || s.host.Own(server) {
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
	took := c.To.Hint().Addr()
	if !c.Kind.Claims() || c.Why == reason.ForeignSource || c.Why == reason.BadRelay || !took.IsValid() {
		return
	}
	server, _ := netip.AddrFromSlice(c.Chosen)
	named := server.IsValid()
	if named && s.host.Own(server) {
		return
	}
	withheld := c.Decision.Withheld
	if !named && withheld == "" {
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
func (s *Shadow) linkOf(c Case, took netip.Addr) plan.ID {
	p := s.host.Table.Plan()
	if !c.Relay.IsValid() {
		if id := p.LinkOnInterface(c.Interface); c.Interface != "" && id != 0 {
			return id
		}
	} else if id := p.LinkOfRelay(c.Relay); id != 0 {
		return id
	}
	for _, a := range []netip.Addr{c.Link, c.Relay, took} {
		if v := p.ScopeAt(a); a.IsValid() && v != nil {
			return v.Link
		}
	}
	return 0
}

func (s *Shadow) compare(of Case, took, server netip.Addr, at time.Time) {
	if of.Unicast && !of.Relay.IsValid() && of.Kind == request.Renew {
		return // it was sent here by mistake
	}
	path := of.Path
	path.Unicast = false
	w := s.host.World(at)
	w.Probed, w.Writable = nil, true
	decided := answer.Decide(of.Message.Anew(path), w, nil)
	d, p, now := decided.First(), w.Table.Plan(), lease.At(at)

	c := s.clients.Get(d.Client)
	if c == nil {
		c = &Agreement{Client: d.Client}
	}
	s.clients.Put(d.Client, c)
	c.Hardware, c.Took, c.Would, c.At = of.Hardware, took, netip.Addr{}, now
	if server.IsValid() {
		c.Server = server
	}
	c.Hostname = of.Message.Hostname()
	c.Link, c.Scope, c.Difference, c.Options = "", "", nil, false
	c.Count++
	v := p.ScopeAt(took)
	if v != nil {
		c.Scope, c.Link = v.Name, v.LinkName
	} else if d.Scope != nil {
		c.Link = d.Scope.LinkName
	}
	c.Difference = s.differences(d, p, v, took)
	c.Agrees = len(c.Difference) == 0
	if d.Outcome == answer.Offered {
		c.Would = d.Address()
		s.asked.Put(of.Transaction, comparison{d.Client, request.OptionsOf(decided.Reply)})
		if theirs := s.early.Get(of.Transaction); theirs != nil {
			s.compareOptions(of.Transaction, theirs)
		}
	}
	if v != nil && v.Subnet.Contains(took) {
		s.learn(of, d.Client, v, took, now)
	}
}

// differences says in words how what a client took differs from what this
// server would have given it.
func (s *Shadow) differences(d *answer.Answer, p *plan.Plan, v *plan.View, took netip.Addr) (out []string) {
	if d.Outcome != answer.Offered {
		return []string{fmt.Sprintf("it would have got nothing here: %s", d.Why)}
	}
	switch {
	case v == nil:
		out = append(out, fmt.Sprintf("%s is in no scope; it would have got %s of scope %s", took, d.Address(), d.Scope.Name))
	case v.ID != d.Scope.ID:
		out = append(out, fmt.Sprintf("%s is of scope %s; it would have got %s of scope %s", took, v.Name, d.Address(), d.Scope.Name))
	case took == d.Address():
	case p.ReservationAt(d.Address()) != nil:
		out = append(out, fmt.Sprintf("%s is reserved for it as %s, and it took %s", d.Address(), p.ReservationAt(d.Address()).Name, took))
	case p.ReservationAt(took) != nil:
		out = append(out, fmt.Sprintf("%s is reserved for another client, %s", took, p.ReservationAt(took).Name))
	case !v.Allocatable(took):
		out = append(out, fmt.Sprintf("%s is excluded, or outside the pools of scope %s", took, v.Name))
	default:
		if l := s.host.Table.At(took); l != nil && l.Status == lease.Active && l.Client != d.Client {
			out = append(out, fmt.Sprintf("%s is known as the address of %s", took, l.Hardware))
		}
	}
	return out
}

// learn seeds the lease table with what a client took from another server. It
// is not this server's lease (its revision is 0), but it keeps the address for
// the client.
func (s *Shadow) learn(of Case, c lease.Client, v *plan.View, took netip.Addr, now lease.Time) {
	before := s.host.Table.At(took)
	if before != nil && before.Status == lease.Active && before.Client == c && before.Expires.Sub(now) > v.Lease/2 {
		return
	}
	if before != nil && before.Revision != 0 && (before.HeldAt(now) || before.Kept()) { // this server promised it to somebody
		return
	}
	n := &lease.Lease{Prefix: lease.Host(took), Status: lease.Active, Client: c, Hardware: of.Hardware, Hostname: of.Message.Hostname(),
		Vendor: of.Message.Vendor(), Circuit: string(of.Circuit), Relay: of.Relay, Since: now, Changed: now, Heard: now, Granted: v.Lease,
		Expires: now.Add(v.Lease)}
	if r := s.host.Table.Plan().ReservationAt(took); r != nil && r.Hardware == of.Hardware {
		n.Reserved = true
	}
	if old := s.host.Table.ByClient(v, c); old != nil && old.Address() != took && old.Status == lease.Active &&
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
	for _, at := range i.Prefixes {
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
	theirs := request.OptionsOf(of.Message)
	if s.asked.Get(of.Transaction).client.Known() {
		s.compareOptions(of.Transaction, theirs)
		return
	}
	s.early.Put(of.Transaction, theirs)
}

// compareOptions completes a comparison with what the other server's ACK said.
func (s *Shadow) compareOptions(xid uint32, theirs request.Options) {
	c := s.asked.Get(xid)
	s.asked.Drop(xid)
	s.early.Drop(xid)
	if a := s.clients.Get(c.client); a != nil {
		a.Options = true
		a.Difference = append(a.Difference, OptionDifferences(s.host.Table.Plan(), c.would, theirs)...)
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
		return out[i].Took.Less(out[j].Took)
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
