package leaseadmin

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/sheet"
)

// Brought is what became, or would become, of leases that another server gave.
type Brought struct {
	Taken int      // that are on record here now
	Known int      // that were: of the same client, for as long
	Over  int      // that are over, or were no active leases
	Left  []string // those that cannot be kept, each with its line and why
}

// Bring takes leases that another server gave into the table, so that clients keep their
// addresses. What was promised here is left as it is. Faults say what cannot be so; then nothing is
// taken.
func (d *Admin) Bring(ctx context.Context, rows []sheet.Lease, preview bool) (b Brought, faults []sheet.Fault, err error) {
	var p *plan.Plan
	d.Engine.With(func(t *lease.Table) { p = t.Plan() })
	now := lease.At(d.Clock.Now())
	var list []*lease.Lease
	lines := map[netip.Prefix]int{}
	clients := map[seat]int{} // the line of each
	for _, row := range rows {
		v := p.ScopeAt(row.Key.Addr())
		switch {
		case row.Status != "" && row.Status != lease.Active.String(), !row.Expires.IsZero() && lease.At(row.Expires) <= now:
			b.Over++
			continue
		case v == nil:
			faults = append(faults, sheet.Fault{Line: row.Line, Column: "address",
				Text: fmt.Sprintf("no scope holds %s; define one first", addr.FormatKey(row.Key))})
			continue
		}
		l := broughtLease(p, v, row, now)
		if first := clients[seat{v.ID, l.Client}]; first != 0 {
			faults = append(faults, sheet.Fault{Line: row.Line,
				Text: fmt.Sprintf("the client of line %d is here again, in the same scope", first)})
			continue
		}
		clients[seat{v.ID, l.Client}], lines[row.Key] = row.Line, row.Line
		if why := d.cannotKeep(p, v, l); why != "" {
			b.leave(row.Line, row.Key, why)
			continue
		}
		list = append(list, l)
	}
	if len(faults) > 0 {
		return b, faults, nil
	}
	counting := func(t *lease.Table, before, next *lease.Lease) bool {
		switch why, known := inTheWay(t, before, next, now); {
		case known:
			b.Known++
			return false
		case why != "":
			b.leave(lines[next.Prefix], next.Prefix, why)
			return false
		}
		return true
	}
	if preview {
		for _, l := range list {
			d.Engine.With(func(t *lease.Table) {
				if counting(t, t.Get(l.Prefix), l) {
					b.Taken++
				}
			})
		}
		return b, nil, nil
	}
	b.Taken, err = d.Engine.Bring(ctx, list, counting)
	return b, nil, err
}

// seat is a client in a scope, where it has one address.
type seat struct {
	scope  plan.ID
	client lease.Client
}

func (b *Brought) leave(line int, k netip.Prefix, why string) {
	b.Left = append(b.Left, fmt.Sprintf("line %d: %s %s", line, addr.FormatKey(k), why))
}

// broughtLease is a row as a record. That it was not given here, its revision of 0 says.
func broughtLease(p *plan.Plan, v *plan.View, row sheet.Lease, now lease.Time) *lease.Lease {
	l := &lease.Lease{Prefix: row.Key, Status: lease.Active, Hardware: row.Hardware, Hostname: row.Hostname,
		Vendor: row.Vendor,
		Since:  now, Changed: now, Heard: now, Granted: v.LeaseFor(nil)}
	if l.Client = lease.ByHardware(lease.Ethernet, row.Hardware); row.Identifier != "" {
		l.Client = lease.ByIdentifier([]byte(row.Identifier))
	}
	if row.DUID != "" {
		l.Client = lease.Client{Kind: lease.Addresses, Number: row.IAID.Number(), ID: string(row.DUID)}
		if !row.Key.IsSingleIP() {
			l.Client.Kind = lease.Prefixes
		}
		l.Granted = v.ValidFor(nil, l.Granted)
		if l.Hardware == "" {
			l.Hardware = row.DUID.Hardware()
		}
	}
	if !row.Since.IsZero() {
		l.Since = min(lease.At(row.Since), now)
	}
	switch {
	case row.Endless:
		l.Expires, l.Granted = lease.Never, 0
	case row.Expires.IsZero():
		l.Expires = now.Add(l.Granted)
	default:
		l.Expires = lease.At(row.Expires)
		l.Granted = time.Duration(l.Expires.Sub(now))
	}
	if r := p.ReservationOf(row.Key); r != nil {
		l.Reserved = answer.Holds(r, l)
	}
	return l
}

// cannotKeep says why a client could not keep an address by the plan, or "".
func (d *Admin) cannotKeep(p *plan.Plan, v *plan.View, l *lease.Lease) string {
	a := l.Address()
	r := p.ReservationOf(l.Prefix)
	switch {
	case v.Subnet.Contains(a) && v.Ends(a):
		return "is an end of subnet " + v.Subnet.String()
	case l.Prefix.IsSingleIP() && p.NetworkAt(a) != "" || d.Engine.NetworkAt(a) != "":
		return "is " + cmp.Or(p.NetworkAt(a), d.Engine.NetworkAt(a))
	case r != nil && !l.Reserved:
		return "is reserved for another client, as " + r.Name
	case r == nil && !v.Gives(l.Prefix):
		return fmt.Sprintf("is outside the pools of scope %s, or excluded; reserve it for its client, or widen a pool", v.Name)
	}
	return ""
}

// inTheWay says why a lease cannot be put on record beside what is, or that it is there already. The
// caller holds the engine's lock.
func inTheWay(t *lease.Table, before, next *lease.Lease, now lease.Time) (why string, known bool) {
	if before != nil && before.HeldAt(now) && before.Client == next.Client {
		return "", before.Revision != 0 || before.Expires >= next.Expires
	}
	name := func(l *lease.Lease) string { return cmp.Or(l.Hostname, l.Hardware.String(), "another client") }
	switch {
	case before == nil || before.Over():
	case before.Status == lease.Abandoned:
		return "is abandoned here: somebody answered for it, or declined it", false
	case before.HeldAt(now):
		return "is held here by " + name(before), false
	case before.Kept():
		return "is kept here for " + name(before), false
	}
	if _, offered := t.OfferOf(next.Prefix); offered {
		return "is offered to another client now", false
	}
	if v := t.Plan().ScopeAt(next.Address()); v != nil {
		if own := t.ByClient(v, next.Client); own != nil && own.HeldAt(now) {
			return fmt.Sprintf("would be a second one for its client, which holds %s", addr.FormatKey(own.Prefix)), false
		}
	}
	return "", false
}

// Table gives the active leases of a scope, or of all, as rows of a sheet, by address.
func (d *Admin) Table(scope plan.ID) (out []sheet.Lease) {
	var p *plan.Plan
	d.Engine.With(func(t *lease.Table) { p = t.Plan() })
	d.Engine.EachLease(scope, func(l *lease.Lease) {
		if l.Status == lease.Active && l.Client.Kind != lease.Registered { // which nobody gave
			out = append(out, sheetRow(p, l.Clone()))
		}
	})
	return out
}

func sheetRow(p *plan.Plan, l *lease.Lease) sheet.Lease {
	r := sheet.Lease{Key: l.Prefix, Hardware: l.Hardware, Identifier: addr.Octets(l.Client.Identifier()), Hostname: l.Hostname,
		Vendor: l.Vendor, Status: l.Status.String(), Since: l.Since.Std(), Endless: l.Expires == lease.Never}
	if v := p.ScopeAt(l.Address()); v != nil {
		r.Scope = v.Name
	}
	if duid := l.Client.DUID(); duid != "" {
		r.DUID, r.IAID = addr.DUID(duid), addr.IAIDOf(l.Client.Number)
	}
	if !r.Endless {
		r.Expires = l.Expires.Std()
	}
	return r
}
