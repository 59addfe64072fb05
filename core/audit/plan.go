package audit

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// Facts are what is known beside plan and leases.
type Facts struct {
	Now      lease.Time
	Host     []plan.Interface
	Fits     map[plan.ID]lease.Time          // when each rule last fitted
	FitsFrom lease.Time                      // since when that is counted
	Silent   map[netip.Addr]bool             // what was looked at and did not answer
	Routers  []Router                        // of the host's links, as they advertise themselves
	Usage    map[capacity.Key]capacity.Count // how full everything is
	Outlook  map[capacity.Key]capacity.Forecast
	Asking   map[string]int   // unserved clients by scope that is held
	New      map[plan.ID]bool // items that came so lately that nobody need have used them yet
	Fitless  map[plan.ID]int  // rules that never fitted and fit nobody on record, with how many clients they were tried on
}

// Router is a router of IPv6 that advertises itself on the link of an interface.
type Router struct {
	Interface      string
	Address        netip.Addr
	Managed, Other bool // hosts are told to ask for addresses, and for options
	At             lease.Time
}

// renewalsPerSecond is the rate above which a lease time is called short.
const renewalsPerSecond = 200

// OfChange advises on a change: what is odd about the scopes that it touches.
func OfChange(p *plan.Plan, changes []plan.Change, host []plan.Interface) []Finding {
	var out findings
	scopes := map[plan.ID]bool{}
	for _, c := range changes {
		switch item := c.After.(type) {
		case plan.Scope:
			scopes[item.ID] = true
		case plan.Defaults:
			for _, s := range p.Scopes() {
				scopes[s.ID] = true
			}
		case plan.Supernet:
			for _, s := range p.Inside(item.Prefix) {
				scopes[s.ID] = true
			}
		}
	}
	for _, s := range p.Scopes() {
		if scopes[s.ID] {
			out.scope(s, host)
		}
	}
	return out.all()
}

// OfPlan looks at the whole plan.
func OfPlan(p *plan.Plan, f Facts) []Finding {
	var out findings
	for _, v := range p.Scopes() {
		out.scope(v, f.Host)
		out.use(v, f)
		out.exclusions(v, f)
	}
	out.servers(p, f)
	out.routers(p, f)
	out.rules(p, f)
	for _, l := range p.Links() {
		out.link(p, l)
	}
	out.reservations(p)
	return out.all()
}

// OfUse looks at how full the scopes are alone.
func OfUse(p *plan.Plan, f Facts) []Finding {
	var out findings
	for _, v := range p.Scopes() {
		out.use(v, f)
	}
	return out.all()
}

func value(v *plan.View, code uint16) *plan.Value {
	if i := slices.IndexFunc(v.Values, func(x plan.Value) bool { return x.Key == option.Std(code) }); i >= 0 {
		return &v.Values[i]
	}
	return nil
}

// routers looks for routers that do not tell hosts to ask for what scopes of their link have.
func (l *findings) routers(p *plan.Plan, f Facts) {
	for _, i := range f.Host {
		var scopes []*plan.View
		if id := p.LinkOnInterface(i.Name); id != 0 {
			scopes = p.Serving(id, option.V6)
		}
		for _, at := range i.Prefixes {
			if v := p.SubnetAt(at.Addr()); v != nil && v.Family() == option.V6 && !slices.Contains(scopes, v) {
				scopes = append(scopes, v)
			}
		}
		at := slices.IndexFunc(scopes, func(v *plan.View) bool { return v.Mode == plan.Serving && len(v.Pools) > 0 })
		if at < 0 {
			continue
		}
		for _, r := range f.Routers {
			if r.Interface == i.Name && !r.Managed {
				l.say("router-unmanaged", "router "+r.Address.String()+" on "+i.Name,
					"router %s tells hosts on %s to make addresses of their own (its managed flag is off), and scope %s has addresses for them",
					r.Address, i.Name, scopes[at].Name).in(scopes[at].Name)
			}
		}
	}
}

// scope looks at one scope by itself.
func (l *findings) scope(v *plan.View, host []plan.Interface) {
	name := "scope " + v.Name
	say := func(id, format string, args ...any) *Finding { return l.say(id, name, format, args...).in(v.Name) }
	edit := "yarnpost scope edit " + v.Name
	routes := value(v, option.ClasslessStaticRoute)
	if r := value(v, option.Router); r != nil {
		for _, a := range v.Routers {
			if !v.Subnet.Contains(a) {
				say("router-outside", "router %s is not in the subnet %s, so clients cannot reach it; name a router inside", a, v.Subnet)
			}
		}
		if routes != nil && !strings.Contains(routes.Text, "0.0.0.0/0 ") {
			say("routes-without-default", "option 121 has no default route, and clients that read it ignore option 3; add 0.0.0.0/0 %s to it", r.Text)
		}
	} else if routes == nil && v.Family() == option.V4 { // routers of IPv6 advertise themselves
		say("no-router", "no router option is set, so clients will reach their own subnet only; set option router")
	}
	for _, i := range host {
		for _, p := range i.Prefixes {
			if v.Allocatable(p.Addr()) {
				say("own-address", "this server's own address %s (%s) lies in a pool; exclude it", p.Addr(), i.Name).
					mend("", edit+" --exclude "+p.Addr().String()+",yarnpost")
			}
		}
	}
	if v.Lease >= option.Infinite {
		say("infinite-lease", "leases never end, so addresses of clients that left are lost; set a lease time such as 30d").mend("",
			edit+" --lease 30d")
	} else if rate := float64(v.Size) / (v.Lease.Seconds() / 2); rate > renewalsPerSecond &&
		v.Family() == option.V4 { // of IPv6 no pool is ever full
		longer := plan.Duration((time.Duration(float64(v.Size)/renewalsPerSecond*2)*time.Second + 2*time.Minute).Truncate(time.Minute))
		say("short-lease", "with a lease time of %s a full pool renews %.0f times a second; %s would make it %d",
			plan.Duration(v.Lease), rate, longer,
			renewalsPerSecond).mend("", edit+" --lease "+longer.String())
	}
	if v.Family() == option.V4 && !v.Subnet.Addr().IsPrivate() && !sharedSpace.Contains(v.Subnet.Addr()) &&
		!documentation(v.Subnet.Addr()) {
		say("public-range", "%s is a public range; use it only if it was assigned to you", v.Subnet)
	}
	for _, e := range v.Exclusions {
		if !slices.ContainsFunc(v.Pools, e.Range.Overlaps) {
			l.say("idle-exclusion", name+" "+e.Range.String(), "exclusion %s lies outside every pool and changes nothing",
				e.Range).in(v.Name).
				mend("", edit+" --unexclude "+e.Range.String())
		}
	}
	if len(v.Pools) == 0 && len(v.PrefixPools) == 0 {
		say("no-pool", "there is no pool, so only reserved clients will be served")
	} else if v.Size == 0 && len(v.Pools) > 0 {
		say("empty-pool", "exclusions and router leave no address in the pools; widen a pool")
	}
}

var sharedSpace = netip.MustParsePrefix("100.64.0.0/10") // RFC 6598

func documentation(a netip.Addr) bool { // RFC 5737
	for _, p := range []string{"192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24"} {
		if netip.MustParsePrefix(p).Contains(a) {
			return true
		}
	}
	return false
}

// prefixes looks at how full the prefix pools of a scope are.
func (l *findings) prefixes(v *plan.View, f Facts) {
	show := "yarnpost capacity show " + v.Name
	for i := range v.Parts {
		part := &v.Parts[i]
		if part.Length == 0 {
			continue
		}
		c, known := f.Usage[capacity.Key{Scope: v.ID, Pool: part.Pool}]
		pool := plan.PrefixPool{Prefix: netip.PrefixFrom(part.Pool.From, addr.CommonBits(part.Pool)), Length: part.Length}
		name := "scope " + v.Name + " " + pool.Prefix.String()
		switch {
		case !known || c.Size == 0:
		case c.Used() >= c.Size:
			l.say("pool-out", name, "all %d prefixes of pool %s are used, and new routers are refused", c.Size,
				pool).in(v.Name).mend("", show)
		case v.Warn.Used > 0 && c.Share()*100 >= float64(v.Warn.Used):
			l.say("pool-full", name, "%d of %d prefixes of pool %s are used (%.0f %%), %d left", c.Used(), c.Size, pool, 100*c.Share(),
				c.Headroom+c.Partner).in(v.Name).mend("", show)
		}
	}
}

// oversized is how often a pool must hold its demand to be called too large, and
// how many addresses it must have.
const (
	oversized      = 100
	oversizedLeast = 1000
	oversizedDays  = 28
)

// use looks at how full a scope is, and will be.
func (l *findings) use(v *plan.View, f Facts) {
	key := capacity.Key{Scope: v.ID}
	c, known := f.Usage[key]
	o, foreseen := f.Outlook[key]
	name := "scope " + v.Name
	show := "yarnpost capacity show " + v.Name
	if n := f.Asking[v.Name]; n > 0 && v.Mode == plan.Held {
		l.say("held-wanted", name, "%s for an address of scope %s, which is held", plural(n, "client asks", "clients ask"),
			v.Name).in(v.Name).
			of(n, nil).mend("", "yarnpost scope serve "+v.Name)
	}
	if v.Mode == plan.Draining && !v.DrainUntil.IsZero() && lease.At(v.DrainUntil) <= f.Now {
		l.say("drain-over", name, "scope %s drained until %s, and %s left", v.Name, v.DrainUntil.UTC().Format("2 Jan 15:04"),
			plural(int(c.Active), "lease is", "leases are")).in(v.Name).mend("", "yarnpost scope remove "+v.Name)
	}
	if v.Mode == plan.Serving && !v.Listening {
		l.prefixes(v, f)
	}
	if !known || v.Size == 0 || v.Mode != plan.Serving || v.Listening {
		return
	}
	over := v.Warn.Used > 0 && c.Share()*100 >= float64(v.Warn.Used)
	few := v.Warn.Headroom > 0 && c.Headroom+c.Partner < uint64(v.Warn.Headroom)
	soon := v.Warn.Days > 0 && 5*c.Used() >= c.Size && foreseen && !o.Date.IsZero() &&
		lease.At(o.Date) <= f.Now.Add(time.Duration(v.Warn.Days)*24*time.Hour)
	out := c.Used() >= c.Size
	if out {
		l.say("pool-out", name, "all %d addresses of scope %s are used, and new clients are refused", c.Size,
			v.Name).in(v.Name).mend("", show)
	}
	if soon && !out {
		when := "runs out " + o.Text()
		if o.Verdict == capacity.OutNow { // when that was looked at
			when = "was full lately"
		}
		l.say("pool-runs-out", name, "scope %s %s; %d of %d are used now", v.Name, when, c.Used(), c.Size).in(v.Name).mend("", show)
	}
	if (over || few) && !out {
		l.say("pool-full", name, "%d of %d addresses of scope %s are used (%.0f %%), %d left", c.Used(), c.Size, v.Name, 100*c.Share(),
			c.Headroom+c.Partner).in(v.Name).mend("", show)
	}
	if foreseen && v.Family() == option.V4 && o.Days >= oversizedDays && c.Size >= oversizedLeast &&
		o.Peak*oversized < float64(c.Size) && c.Active > 0 {
		l.say("oversized-pool", name, "%d addresses, and %.0f at the most were used in %d days", c.Size, o.Peak, o.Days).in(v.Name)
	}
	if c.Active+c.Released+c.Expired+c.Offered == 0 && c.Reserved == 0 && o.Peak == 0 && !f.New[v.ID] {
		l.say("scope-unused", name, "scope %s is served, and no client has or had an address of it", v.Name).in(v.Name)
	}
}

// exclusions looks for those that take addresses for nobody.
func (l *findings) exclusions(v *plan.View, f Facts) {
	for _, e := range v.Exclusions {
		if e.User != "" || !slices.ContainsFunc(v.Pools, e.Range.Overlaps) {
			continue
		}
		silent, looked := 0, 0
		for a, n := e.Range.From, 0; e.Range.Contains(a) && n < 256; a, n = a.Next(), n+1 {
			if s, known := f.Silent[a]; known {
				looked++
				if s {
					silent++
				}
			}
		}
		if looked > silent {
			continue // somebody answers
		}
		how := "nobody is named for it"
		if looked > 0 {
			how += ", and nobody answers there"
		}
		l.say("exclusion-unused", "scope "+v.Name+" "+e.Range.String(), "exclusion %s takes %s from a pool, and %s", e.Range,
			plural(int(e.Range.Size()), "address", "addresses"), how).in(v.Name).of(int(e.Range.Size()), nil).
			mend("", "yarnpost scope edit "+v.Name+" --unexclude "+e.Range.String())
	}
}

// told are the options with addresses of hosts that should answer.
var told = []struct {
	code uint16
	what string
}{{option.Router, "router"}, {option.DomainServer, "DNS server"}, {option.TFTPServers, "boot server"}}

// Told lists the routers and servers that clients are told of, each with what it is
// and the scopes that name it.
func Told(p *plan.Plan) map[netip.Addr]Named {
	out := map[netip.Addr]Named{}
	add := func(a netip.Addr, what, scope string) {
		if n := out[a]; a.IsValid() && !a.IsUnspecified() {
			n.What = cmp.Or(n.What, what)
			if !slices.Contains(n.Scopes, scope) {
				n.Scopes = append(n.Scopes, scope)
			}
			out[a] = n
		}
	}
	for _, v := range p.Scopes() {
		if v.Mode == plan.Held {
			continue
		}
		for _, t := range told {
			if x := value(v, t.code); x != nil {
				for b := x.Data; len(b) >= 4; b = b[4:] {
					add(netip.AddrFrom4([4]byte(b)), t.what, v.Name)
				}
			}
		}
		for _, x := range v.Values {
			if x.Key == (option.Key{Book: option.HeaderBook, Code: option.NextServer}) && len(x.Data) == 4 {
				add(netip.AddrFrom4([4]byte(x.Data)), "boot server", v.Name)
			}
		}
	}
	return out
}

// Named is a host that clients are told of.
type Named struct {
	What   string
	Scopes []string
}

// Silent says which of the routers and servers that clients are told of do not answer.
func Silent(p *plan.Plan, silent map[netip.Addr]bool) []Finding {
	var out findings
	out.servers(p, Facts{Silent: silent})
	return out.all()
}

func (l *findings) servers(p *plan.Plan, f Facts) {
	all := Told(p)
	for _, a := range slices.SortedFunc(maps.Keys(all), netip.Addr.Compare) {
		n := all[a]
		if !f.Silent[a] {
			continue
		}
		scope := ""
		if len(n.Scopes) == 1 {
			scope = n.Scopes[0]
		}
		l.say("silent-server", n.What+" "+a.String(), "%s %s, which clients of %s are told of, does not answer", n.What, a,
			listed(n.Scopes)).in(scope).
			of(len(n.Scopes), n.Scopes)
	}
}

func listed(names []string) string {
	if len(names) > 4 {
		return fmt.Sprintf("%s and %d more scopes", strings.Join(names[:3], ", "), len(names)-3)
	}
	return "scope " + strings.Join(names, ", ")
}

// fitDays is how long a rule may fit nobody.
const fitDays = 7

// fitTried is how many clients on record a rule must fit none of.
const fitTried = 20

func (l *findings) rules(p *plan.Plan, f Facts) {
	rules := p.Rules()
	used := map[string]bool{}
	for i, r := range rules {
		for _, list := range r.Program.Lists {
			used[strings.ToLower(list)] = true
		}
		if r.Off || f.New[r.ID] {
			continue
		}
		last, fitted := f.Fits[r.ID]
		quiet := f.FitsFrom
		if fitted {
			quiet = last
		}
		if tried := f.Fitless[r.ID]; !fitted && tried >= fitTried {
			l.say("rule-never-fits", "rule "+r.Name, "rule %s fitted nobody yet, and would fit none of the %d clients on record",
				r.Name, tried).
				mend("", "yarnpost rule show "+r.Name)
			quiet = 0
		}
		if quiet != 0 && f.Now.Sub(quiet) >= fitDays*24*time.Hour {
			text := fmt.Sprintf("rule %s fitted nobody since %s", r.Name, quiet.Std().Format("2 Jan 2006"))
			l.say("rule-never-fits", "rule "+r.Name, "%s", text).mend("", "yarnpost rule show "+r.Name)
		}
		for _, before := range rules[:i] {
			ends := before.Action == plan.Ignore || before.Action == plan.Refuse
			if !before.Off && ends && p.Within(r.Of(), before.Of()) && (sameCondition(before.When, r.When) ||
				strings.TrimSpace(before.When) == "true") {
				does := map[plan.Action]string{plan.Ignore: "ignores", plan.Refuse: "refuses"}[before.Action]
				l.say("rule-shadowed", "rule "+r.Name, "rule %s never has its turn: rule %s comes first and %s all of its clients",
					r.Name,
					before.Name, does)
				break
			}
		}
	}
	for _, list := range p.Lists() {
		if !used[strings.ToLower(list.Name)] {
			l.say("list-unused", "list "+list.Name, "list %s with %s is used by no rule", list.Name, plural(len(list.Entries), "entry",
				"entries")).
				mend("", "yarnpost list remove "+list.Name)
		}
	}
}

func sameCondition(a, b string) bool {
	return strings.Join(strings.Fields(a), "") == strings.Join(strings.Fields(b), "")
}

// link looks at scopes that share a link.
func (l *findings) link(p *plan.Plan, on *plan.Link) {
	scopes := slices.DeleteFunc(slices.Clone(p.Serving(on.ID, option.V4)), func(v *plan.View) bool { return v.Mode != plan.Serving })
	if len(scopes) < 2 {
		return
	}
	text := func(v *plan.View, code uint16) string {
		if x := value(v, code); x != nil {
			return x.Text
		}
		return ""
	}
	first := scopes[0]
	for _, v := range scopes[1:] {
		switch a, b := text(first, option.DomainServer), text(v, option.DomainServer); {
		case a != b:
			l.say("link-mixed", "link "+on.Name, "scope %s has DNS servers %s, scope %s has %s", first.Name, cmp.Or(a, "none"), v.Name,
				cmp.Or(b, "none"))
			return
		case (text(first, option.Router) == "") != (text(v, option.Router) == ""):
			l.say("link-mixed", "link "+on.Name, "one of the scopes %s and %s has a router, and the other has none", first.Name, v.Name)
			return
		}
	}
}

// reservations looks for clients and names that are reserved twice.
func (l *findings) reservations(p *plan.Plan) {
	// One host has one name, and is known by one hardware address, in both families and with prefixes.
	type sort int
	sortOf := func(r *plan.Reservation) sort {
		if r.Length != 0 {
			return 0
		}
		return sort(r.Address.BitLen())
	}
	type at struct {
		link plan.ID
		who  string
		sort sort
	}
	type called struct {
		name string
		sort sort
	}
	clients, names := map[at]*plan.Reservation{}, map[called]*plan.Reservation{}
	for _, r := range p.Reservations(0) {
		k := at{p.Scope(r.Scope).Link, r.Client(), sortOf(r)}
		if o := clients[k]; o != nil && o.Scope != r.Scope {
			l.say("reservation-twice", "reservation "+r.Name, "%s is reserved %s by %s and %s by %s, on one link", r.Client(),
				o.Address, o.Name, r.Address, r.Name).
				in(p.Label(r.Scope))
		}
		clients[k] = r
		if v := p.Scope(r.Scope); r.Circuit != "" && len(v.On.Relays) == 0 {
			l.say("circuit-not-believed", "reservation "+r.Name,
				"reservation %s is by circuit, and link %s names no relay whose word counts", r.Name,
				v.LinkName).in(v.Name)
		}
		if r.Hostname == "" {
			continue
		}
		name := called{strings.ToLower(r.Hostname), sortOf(r)}
		if o := names[name]; o != nil {
			l.say("reservation-name", "reservation "+r.Name, "reservations %s and %s give the host name %s", o.Name, r.Name,
				r.Hostname).in(p.Label(r.Scope))
		}
		names[name] = r
	}
}

// Quiet lists what of a plan should be looked at from the server: routers and
// servers that clients are told of, and, a few at most, addresses that are excluded
// for nobody.
func Quiet(p *plan.Plan, most int) (out []netip.Addr) {
	out = slices.SortedFunc(maps.Keys(Told(p)), netip.Addr.Compare)
	for _, v := range p.Scopes() {
		for _, e := range v.Exclusions {
			if e.User == "" && slices.ContainsFunc(v.Pools, e.Range.Overlaps) {
				for a := e.Range.From; e.Range.Contains(a) && len(out) < most; a = a.Next() {
					out = append(out, a)
				}
			}
		}
	}
	return out[:min(len(out), most)]
}
