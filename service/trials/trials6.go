package trials

import (
	"context"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/service/observe"
	"yarnpost/service/report"
	"yarnpost/service/trial"
)

// tryOut6 is a trial in a scope of IPv6: for an address where it has pools or a reservation, and
// for a prefix where it delegates those.
func (r *Runner) tryOut6(ctx context.Context, p *plan.Plan, v *plan.View, t plan.Trial, out *Result,
	note func(bool, time.Duration, string, ...any)) {
	server := r.Wire.Addr6()
	if !server.IsValid() {
		note(false, 0, "this server does not serve DHCPv6: it was started with --dhcp6 none")
		return
	}
	at := server.Addr()
	if at.IsUnspecified() {
		at = netip.IPv6Loopback()
	}
	relay, err := trial.NewRelay6(at, v.Subnet.Addr(), netip.AddrPortFrom(at, server.Port()))
	if err != nil {
		note(false, 0, "the trial could not begin: %v", err)
		return
	}
	relay.Tried = time.Minute
	defer relay.Close()
	defer r.Engine.BeginTrial(relay.Local())()
	c := &trial.Client6{Relay: relay, Hardware: t.Hardware, DUID: trial.DUIDOf(t.Hardware), Vendor: t.Vendor, Circuit: t.Circuit,
		Hostname: trial.Name, Patience: trial.ReplyTime, Wants: everyOption(), Asks: asksOf(v)}

	expected, err := r.expect6(c)
	if err != nil {
		note(false, 0, "what the plan says could not be worked out: %v", err)
		return
	}
	begun := r.Clock.Now()
	offer, err := c.Solicit(ctx)
	took := r.since(begun)
	switch {
	case err != nil:
		note(false, took, "no offer within %s; by the plan %s", trial.ReplyTime, byPlan(expected))
		return
	case offer.Type != dhcp6.Advertise:
		note(false, took, "got %s instead of an ADVERTISE", offer.Type)
		return
	}
	begun = r.Clock.Now()
	if err := c.Request(ctx, offer); err != nil {
		note(false, r.since(begun), "offered, and not given: %v", err)
		return
	}
	note(true, took, "offered")
	for _, ia := range c.Holds {
		k := ia.Leases[0].Prefix
		note(true, r.since(begun), "given %s, preferred for %s, valid for %s", addr.FormatKey(k),
			option.FormatDuration(option.FromSeconds(ia.Leases[0].Preferred)), option.FormatDuration(option.FromSeconds(ia.Leases[0].Valid)))
		if of := p.ScopeAt(k.Addr()); k.IsSingleIP() {
			out.Address = k.Addr()
			note(of != nil && of.Link == v.Link, 0, "%s is of the link", k.Addr())
		}
	}
	r.compare6(p, c, expected, note)
	r.giveBack(c, t, note)
}

// asksOf is what a client of a scope can ask for.
func asksOf(v *plan.View) (out []dhcp6.IA) {
	if len(v.Pools) > 0 || len(v.PrefixPools) == 0 {
		out = append(out, dhcp6.IA{Code: option.IANA, ID: 1})
	}
	if len(v.PrefixPools) > 0 {
		out = append(out, dhcp6.IA{Code: option.IAPD, ID: 1})
	}
	return out
}

// everyOption lists what hosts and routers usually ask for: name servers and search list, time,
// time zone, boot file and its parameters, captive portal, how often they may ask.
func everyOption() []uint16 {
	return []uint16{option.DNSServers6, 24, 31, option.InfoRefresh6, 41, option.TimeZone6, 56, 59, 60, option.SolMaxRT, option.InfMaxRT, 103}
}

// expect6 is what the plan has for the client.
func (r *Runner) expect6(c *trial.Client6) (report.Explained, error) {
	m := c.Message(dhcp6.Solicit, c.Asks...)
	c.Relay.Wrap(&m, c)
	return r.Reports.Explain(m.Request(request.Path{Unicast: true, Trial: true}))
}

func byPlan(expected report.Explained) string {
	if d := expected.Decision.First(); d.Outcome != answer.Offered {
		return "it gets none: " + d.Why.Words(d.Rule)
	}
	return "it should get one"
}

// compare6 holds what a trial got against what the plan says.
func (r *Runner) compare6(p *plan.Plan, c *trial.Client6, expected report.Explained, note func(bool, time.Duration, string, ...any)) {
	if expected.Decision.First().Outcome != answer.Offered {
		note(false, 0, "by the plan it should get nothing: %s", expected.Decision.First().Why.Words(expected.Decision.First().Rule))
		return
	}
	var would dhcp6.Message
	if dhcp6.Decode(&would, expected.Bytes) == nil {
		different := observe.OptionDifferences6(request.OptionsOf(&would), request.OptionsOf(c.Last))
		note(len(different) == 0, 0, "%s", say(different, "its options are what the plan says"))
	}
	for _, ia := range c.Holds {
		k := ia.Leases[0].Prefix
		v := p.ScopeAt(k.Addr())
		if v == nil {
			continue
		}
		res := p.ReservationOf(k)
		want := v.ValidFor(res, v.LeaseFor(res))
		note(option.FromSeconds(ia.Leases[0].Valid) <= want, 0, "the valid lifetime of %s is at most %s", addr.FormatKey(k),
			option.FormatDuration(want))
	}
}

// giveBack releases what a trial has, and looks in the lease table.
func (r *Runner) giveBack(c *trial.Client6, t plan.Trial, note func(bool, time.Duration, string, ...any)) {
	holds := c.Holds
	look := func(good func(*lease.Lease) bool) bool {
		for _, ia := range holds {
			var l *lease.Lease
			r.Engine.With(func(table *lease.Table) { l = table.Get(ia.Leases[0].Prefix) })
			if l == nil || !good(l) {
				return false
			}
		}
		return true
	}
	note(look(func(l *lease.Lease) bool { return l.Hardware == t.Hardware && l.Status == lease.Active }), 0, "the lease table has it")
	if err := c.Release(); err != nil {
		note(false, 0, "it could not be given back: %v", err)
		return
	}
	for range 40 {
		if look((*lease.Lease).Over) {
			note(true, 0, "given back")
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	note(false, 0, "given back, but the lease table still has it")
}
