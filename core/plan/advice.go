package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// Advice is something worth knowing about a change that is allowed all the same.
type Advice struct {
	Code    string // stable, such as "no-router"
	Subject string // such as "scope looms"
	Text    string // what is odd, and what to do
}

// renewalsPerSecond is the rate above which a lease time is called short.
const renewalsPerSecond = 200

// Advise looks at the changed scopes and reservations of a plan.
func Advise(p *Plan, changes []Change, host []Interface) []Advice {
	var out []Advice
	scopes := map[ID]bool{}
	for _, c := range changes {
		switch item := c.After.(type) {
		case Scope:
			scopes[item.ID] = true
		case Defaults:
			for _, s := range p.Scopes() {
				scopes[s.ID] = true
			}
		}
	}
	for _, s := range p.Scopes() {
		if scopes[s.ID] {
			out = append(out, s.advise(host)...)
		}
	}
	return out
}

func (v *View) advise(host []Interface) []Advice {
	var out []Advice
	say := func(code, format string, args ...any) {
		out = append(out, Advice{code, "scope " + v.Name, fmt.Sprintf(format, args...)})
	}
	value := func(code uint16) *Value {
		if i := slices.IndexFunc(v.Values, func(x Value) bool { return x.Key == option.Std(code) }); i >= 0 {
			return &v.Values[i]
		}
		return nil
	}
	routes := value(option.ClasslessStaticRoute)
	if r := value(option.Router); r != nil {
		for _, a := range v.Routers {
			if !v.Subnet.Contains(a) {
				say("router-outside", "router %s is not in the subnet %s, so clients cannot reach it; name a router inside", a, v.Subnet)
			}
		}
		if routes != nil && !strings.Contains(routes.Text, "0.0.0.0/0 ") {
			say("routes-without-default", "option 121 has no default route, and clients that read it ignore option 3; add 0.0.0.0/0 %s to it",
				r.Text)
		}
	} else if routes == nil {
		say("no-router", "no router option is set, so clients will reach their own subnet only; set option router")
	}
	for _, i := range host {
		for _, p := range i.Prefixes {
			if v.Allocatable(p.Addr()) {
				say("own-address", "this server's own address %s (%s) lies in a pool; exclude it", p.Addr(), i.Name)
			}
		}
	}
	if v.Lease >= option.Infinite {
		say("infinite-lease", "leases never end, so addresses of clients that left are lost; set a lease time such as 30d")
	} else if rate := float64(v.Size) / (v.Lease.Seconds() / 2); rate > renewalsPerSecond {
		say("short-lease", "with a lease time of %s a full pool renews %.0f times a second; %s would make it %d",
			Duration(v.Lease), rate, Duration(time.Duration(float64(v.Size)/renewalsPerSecond*2)*time.Second), renewalsPerSecond)
	}
	if !v.Subnet.Addr().IsPrivate() && !sharedSpace.Contains(v.Subnet.Addr()) && !documentation(v.Subnet.Addr()) {
		say("public-range", "%s is a public range; use it only if it was assigned to you", v.Subnet)
	}
	for _, e := range v.Exclusions {
		if !slices.ContainsFunc(v.Pools, e.Range.Overlaps) {
			say("idle-exclusion", "exclusion %s lies outside every pool and changes nothing", e.Range)
		}
	}
	if len(v.Pools) == 0 {
		say("no-pool", "there is no pool, so only reserved clients will be served")
	} else if v.Size == 0 {
		say("empty-pool", "exclusions and router leave no address in the pools; widen a pool")
	}
	return out
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

// FreeForReservation proposes the lowest address of a scope that nobody may
// get otherwise: outside the pools first, then inside. The taken function says
// which addresses somebody holds now.
func FreeForReservation(p *Plan, v *View, taken func(netip.Addr) bool) (netip.Addr, bool) {
	ends := append(reservedEnds(v.Subnet), p.ofNetwork(v)...)
	for _, e := range v.Exclusions {
		ends = append(ends, e.Range)
	}
	outside := addr.Subtract([]addr.Range{addr.OfPrefix(v.Subnet)}, append(slices.Clone(v.Pools), ends...))
	for _, r := range append(outside, v.Ranges...) {
		for a := r.From; r.Contains(a); a = a.Next() {
			if p.ReservationAt(a) == nil && !taken(a) {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}
