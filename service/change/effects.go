package change

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/rule"
)

// effects counts the clients that a change touches: what it does, and not what
// was so before.
func (p *Planner) effects(old, next *plan.Plan, items []plan.Change, now lease.Time) []Effect {
	var out []Effect
	for _, c := range items {
		switch c.Kind {
		case plan.KindDefaults:
			out = append(out, p.listeningEffects(c, now)...)
			out = append(out, p.inheritedEffects(old, next, "defaults", old.Scopes(), items)...)
		case plan.KindSupernet:
			out = append(out, p.inheritedEffects(old, next, "supernet "+c.Name, around(old, c), items)...)
		case plan.KindScope:
			if before := old.Scope(c.ID); before != nil {
				out = append(out, p.scopeEffects(before, next.Scope(c.ID), next, now)...)
			}
		case plan.KindLink:
			out = append(out, p.linkEffects(old, c, now)...)
		case plan.KindReservation:
			out = append(out, p.reservationEffects(c, next, now)...)
		case plan.KindRule:
			out = append(out, p.ruleEffects(old, next, c, now)...)
		}
	}
	return out
}

// around lists the scopes that lie in a supernet before or after a change of it.
func around(of *plan.Plan, c plan.Change) (out []*plan.View) {
	before, _ := c.Before.(plan.Supernet)
	after, _ := c.After.(plan.Supernet)
	if before.Prefix.IsValid() {
		out = of.Inside(before.Prefix)
	}
	if after.Prefix.IsValid() && after.Prefix != before.Prefix {
		for _, v := range of.Inside(after.Prefix) {
			if !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
	}
	return out
}

// inheritedEffects says how many clients of scopes that inherit other settings keep the old
// ones for a while. Scopes that change themselves speak for themselves.
func (p *Planner) inheritedEffects(old, next *plan.Plan, subject string, scopes []*plan.View, items []plan.Change) []Effect {
	clients, changed, longest := 0, 0, time.Duration(0)
	was, is := 0.0, 0.0 // renewals a second
	p.Engine.With(func(t *lease.Table) {
		for _, before := range scopes {
			after := next.Scope(before.ID)
			if after == nil || after.Lease == before.Lease && slices.EqualFunc(before.Values, after.Values, sameData) ||
				slices.ContainsFunc(items, func(c plan.Change) bool { return c.ID == before.ID }) {
				continue
			}
			if n := t.Count(before.ID).Active; n > 0 {
				clients, changed, longest = clients+n, changed+1, max(longest, before.Lease)
				was, is = was+renewals(n, before.Lease), is+renewals(n, after.Lease)
			}
		}
	})
	if clients == 0 {
		return nil
	}
	text := fmt.Sprintf("%s of %d scopes keep the old settings until they renew, the last within %s", Clients(clients), changed,
		plan.Duration(longest/2))
	text = strings.Replace(text, " 1 scopes ", " 1 scope ", 1)
	if was != is {
		text += fmt.Sprintf("; renewals go from %s to %s", often(was), often(is))
	}
	return []Effect{{subject, text, clients, false}}
}

func sameData(a, b plan.Value) bool { return a.Key == b.Key && slices.Equal(a.Data, b.Data) }

// listeningEffects says what it means that the whole server ceases to answer, or
// begins to.
func (p *Planner) listeningEffects(c plan.Change, now lease.Time) []Effect {
	before, _ := c.Before.(plan.Defaults)
	after, _ := c.After.(plan.Defaults)
	if before.Listening == after.Listening {
		return nil
	}
	ours, known := p.heldBy(0, now)
	if after.Listening {
		text := "the whole server would hear and answer nobody"
		if ours > 0 {
			text += fmt.Sprintf("; %s would not be able to renew here", Clients(ours))
		}
		return []Effect{{"defaults", text, ours, true}}
	}
	return []Effect{{"defaults",
		fmt.Sprintf("clients are answered from now on; the addresses of %s were learned by listening and are kept for them",
			Clients(known)),
		known, false}}
}

// heldBy counts the active leases of a scope (0: of all) that this server gave,
// and those that it learned by listening.
func (p *Planner) heldBy(scope plan.ID, now lease.Time) (ours, learned int) {
	p.Engine.EachLease(scope, func(l *lease.Lease) {
		switch {
		case !l.HeldAt(now):
		case l.Revision == 0:
			learned++
		default:
			ours++
		}
	})
	return ours, learned
}

func (p *Planner) scopeEffects(before, after *plan.View, next *plan.Plan, now lease.Time) []Effect {
	subject := "scope " + before.Name
	active, moved := 0, 0
	p.Engine.EachLease(before.ID, func(l *lease.Lease) {
		if !l.HeldAt(now) || l.Client.Kind == lease.Registered { // which nobody gave it
			return
		}
		active++
		if after != nil && !after.Allocatable(l.Address()) && before.Allocatable(l.Address()) && next.ReservationAt(l.Address()) == nil {
			moved++
		}
	})
	var out []Effect
	if after != nil && after.Mode == plan.Draining && before.Mode != plan.Draining {
		text, nowhere := drainText(after, next, active)
		if newcomers := nowhere && before.Mode == plan.Serving; active > 0 || newcomers {
			out = append(out, Effect{subject, text, active, newcomers})
		}
	}
	if after != nil && after.Size != before.Size && before.Size > 0 {
		out = append(out, Effect{subject, p.sizeText(before, after, active), active, false})
	}
	switch {
	case active == 0:
		return out
	case after == nil:
		return []Effect{{subject, fmt.Sprintf("%s of scope %s would lose their address when they next renew", Clients(active), before.Name),
			active, true}}
	case after.Mode == plan.Held && before.Mode != plan.Held:
		return []Effect{{subject, fmt.Sprintf("%s of scope %s would not be able to renew", Clients(active), before.Name), active, true}}
	}
	if after.Link != before.Link {
		wired := len(before.On.Interfaces)+len(before.On.Relays) > 0
		text := fmt.Sprintf("%s of scope %s are looked for on link %s from now on", Clients(active), before.Name, after.LinkName)
		if wired {
			text = fmt.Sprintf("%s of scope %s come by way of link %s; on link %s they would not find their scope", Clients(active),
				before.Name,
				before.LinkName, after.LinkName)
		}
		out = append(out, Effect{subject, text, active, wired})
	}
	if moved > 0 {
		out = append(out, Effect{subject,
			fmt.Sprintf("%s of scope %s hold addresses outside the new pools and will move when they renew", Clients(moved), before.Name),
			moved,
			false})
	}
	if !slices.EqualFunc(before.Values, after.Values, sameValue) || before.Lease != after.Lease {
		text := fmt.Sprintf("%s of scope %s keep the old settings until they renew, the last within %s", Clients(active), before.Name,
			plan.Duration(before.Lease/2))
		if before.Lease != after.Lease {
			text += fmt.Sprintf("; renewals go from %s to %s", often(renewals(active, before.Lease)), often(renewals(active, after.Lease)))
		}
		out = append(out, Effect{subject, text, active, false})
	}
	return out
}

// renewals is how many times a second clients renew: each at half its lease (RFC 2131 section
// 4.4.5).
func renewals(clients int, lease time.Duration) float64 {
	if lease <= 0 || lease >= option.Infinite {
		return 0
	}
	return float64(clients) / (lease / 2).Seconds()
}

// often says a rate in the unit in which it is a number that people can read.
func often(perSecond float64) string {
	switch {
	case perSecond == 0:
		return "none"
	case perSecond >= 1:
		return fmt.Sprintf("%.1f a second", perSecond)
	case perSecond*60 >= 1:
		return fmt.Sprintf("%.1f a minute", perSecond*60)
	}
	return fmt.Sprintf("%.1f an hour", perSecond*3600)
}

// sizeText says what pools of another size mean for a scope: how much is used, and when they run
// out.
func (p *Planner) sizeText(before, after *plan.View, active int) string {
	used := func(v *plan.View) string {
		if v.Size == 0 {
			return "nothing to give"
		}
		return fmt.Sprintf("%d %% active", uint64(active)*100/v.Size)
	}
	text := fmt.Sprintf("the pools of scope %s go from %s to %s addresses, from %s to %s", before.Name, addr.CountText(before.Size),
		addr.CountText(after.Size), used(before),
		used(after))
	if p.Outlook == nil || after.Size == 0 {
		return text
	}
	if f, ok := p.Outlook(before.ID); ok && f.Verdict != capacity.HistoryThin {
		next := f.Of(after.Size)
		next.Now(p.Clock.Now(), uint64(active) >= after.Size)
		if was, then := f.Text(), next.Text(); was != then {
			text += fmt.Sprintf("; when they run out: %s; as it is: %s", then, was)
		}
	}
	return text
}

func sameValue(a, b plan.Value) bool {
	return a.Key == b.Key && slices.Equal(a.Data, b.Data) && a.Level == b.Level
}

// drainText says where the clients of a draining scope go, and those that come new. It
// reports whether there is nowhere to go.
func drainText(v *plan.View, next *plan.Plan, active int) (text string, nowhere bool) {
	for _, other := range next.Serving(v.Link, v.Family()) {
		if other.ID != v.ID && other.Mode == plan.Serving {
			return fmt.Sprintf("%s of scope %s will move to other scopes of link %s as they renew", Clients(active), v.Name, v.LinkName),
				false
		}
	}
	family := "IPv4"
	if v.Family() == option.V6 {
		family = "IPv6"
	}
	text = fmt.Sprintf("no other scope of %s on link %s serves, so newcomers go without", family, v.LinkName)
	switch {
	case active == 0:
		return text, true
	case v.DrainUntil.IsZero():
		return fmt.Sprintf("%s, and there is nowhere to move for %s of scope %s; no end is set, so whoever renews stays", text,
			Clients(active), v.Name), true
	}
	return fmt.Sprintf("%s, and there is nowhere to move for %s of scope %s: addresses are kept until %s, and then whoever has one goes without",
		text, Clients(active), v.Name, v.DrainUntil.UTC().Format("2006-01-02 15:04 UTC")), true
}

// reservationEffects says whom a reservation that comes, moves or goes touches.
func (p *Planner) reservationEffects(c plan.Change, next *plan.Plan, now lease.Time) (out []Effect) {
	was, had := c.Before.(plan.Reservation)
	r, is := c.After.(plan.Reservation)
	say := func(clients int, strands bool, format string, args ...any) {
		out = append(out, Effect{"reservation " + c.Name, fmt.Sprintf(format, args...), clients, strands})
	}
	p.Engine.With(func(t *lease.Table) {
		if l := t.At(was.Address); had && (!is || was.Address != r.Address) && l != nil && l.HeldAt(now) && answer.Holds(&was, l) {
			v := next.ScopeAt(was.Address)
			switch {
			case is:
				say(1, false, "its client holds %s and is moved to %s when it renews", was.Address, r.Address)
			case v != nil && !v.Allocatable(was.Address):
				say(1, len(v.Pools) == 0, "its client holds %s, which no pool gives out, and loses it when it renews", was.Address)
			}
		}
		if !is || had && was.Address == r.Address && was.Client() == r.Client() {
			return
		}
		switch l := t.At(r.Address); {
		case l == nil || answer.Holds(&r, l) && l.Status != lease.Abandoned:
		case l.HeldAt(now):
			say(1, false, "%s is held by %s (%s) %s; it is moved when it renews", r.Address, l.Hardware, l.Hostname, l.Expires.Until())
		case l.Kept():
			say(0, false, "%s may still be in use by %s (%s) and is kept from others %s", r.Address, l.Hardware, l.Hostname,
				l.Expires.Until())
		case l.Status == lease.Abandoned && !r.Insist:
			say(0, false, "%s is abandoned; clear it before the client can have it: yarnpost lease clear %s --yes", r.Address, r.Address)
		}
	})
	return out
}

// linkEffects says what going live, or ceasing to answer, means for clients, and
// whom a relay or an interface that goes no longer brings.
func (p *Planner) linkEffects(old *plan.Plan, c plan.Change, now lease.Time) (out []Effect) {
	before, was := c.Before.(plan.Link)
	after, is := c.After.(plan.Link)
	if !was || !is {
		return nil
	}
	say := func(clients int, strands bool, format string, args ...any) {
		out = append(out, Effect{"link " + after.Name, fmt.Sprintf(format, args...), clients, strands})
	}
	if before.Listening != after.Listening {
		known, ours := 0, 0
		for _, v := range old.OnLink(c.ID) {
			a, b := p.heldBy(v.ID, now)
			ours, known = ours+a, known+b
		}
		if !after.Listening {
			say(known, false, "link %s is answered from now on; the addresses of %s were learned by listening and are kept for them",
				after.Name,
				Clients(known))
		} else if ours > 0 {
			say(ours, true, "%s of link %s would not be able to renew here while it is only listened to", Clients(ours), after.Name)
		}
	}
	for _, a := range before.Relays {
		if slices.Contains(after.Relays, a) {
			continue
		}
		if n := p.through(old, c.ID, a, now); n > 0 {
			say(n, true, "%s came through relay %s, which would lead to no scope of link %s any more", Clients(n), a, after.Name)
		}
	}
	for _, name := range before.Interfaces {
		if slices.Contains(after.Interfaces, name) {
			continue
		}
		if n := p.through(old, c.ID, netip.Addr{}, now); n > 0 {
			say(n, true, "%s of link %s may have been heard on interface %s, which would not lead to it any more", Clients(n), after.Name,
				name)
		}
	}
	return out
}

// through counts the active leases of a link whose clients came through a relay,
// or through none.
func (p *Planner) through(of *plan.Plan, link plan.ID, relay netip.Addr, now lease.Time) (count int) {
	for _, v := range of.OnLink(link) {
		if relay.IsValid() && v.Subnet.Contains(relay) {
			continue // its own address still leads to that scope
		}
		p.Engine.EachLease(v.ID, func(l *lease.Lease) {
			if l.HeldAt(now) && l.Relay == relay {
				count++
			}
		})
	}
	return count
}

// ruleLooks bounds how many clients a change of a rule is tried on.
const ruleLooks = 200_000

// ruleEffects counts the holders of leases that a changed rule would turn away.
func (p *Planner) ruleEffects(old, next *plan.Plan, c plan.Change, now lease.Time) []Effect {
	after, is := c.After.(plan.Rule)
	if !is || !turnsAway(after) {
		return nil
	}
	program, err := rule.Compile(after.When)
	if err != nil {
		return nil
	}
	var earlier *rule.Program
	if before, was := c.Before.(plan.Rule); was && turnsAway(before) && before.Of() == after.Of() {
		earlier, _ = rule.Compile(before.When)
	}
	looked, hit := 0, 0
	p.Engine.EachLease(after.Scope, func(l *lease.Lease) {
		v := next.ScopeAt(l.Address())
		if !l.HeldAt(now) || !l.Client.Known() || v == nil || !v.Under(after.Of()) || looked >= ruleLooks {
			return
		}
		looked++
		if after.Action == plan.ReservedOnly && next.ReservationAt(l.Address()) != nil {
			return
		}
		set, _ := p.Engine.Given(l.Given)
		ask := answer.FactsOf(l, set.Asked, next, v)
		if fits, _ := program.Fits(&ask); !fits {
			return
		}
		if earlier != nil {
			ask.Lists = old.ReadyLists()
			if did, _ := earlier.Fits(&ask); did {
				return
			}
		}
		hit++
	})
	if hit == 0 {
		return nil
	}
	least := ""
	if looked >= ruleLooks {
		least = "at least "
	}
	return []Effect{{"rule " + after.Name,
		fmt.Sprintf("%s%s with a lease fit rule %s and would be turned away when they renew", least, Clients(hit), after.Name), hit, true}}
}

func turnsAway(r plan.Rule) bool {
	return !r.Off && (r.Action == plan.Ignore || r.Action == plan.Refuse || r.Action == plan.ReservedOnly)
}
