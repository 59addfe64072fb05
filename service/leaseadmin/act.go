package leaseadmin

import (
	"context"
	"net"
	"net/netip"
	"strings"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/probe"
)

// Act is something that a person does to a client.
type Act string

// What can be done to clients, one or many.
const (
	Reach     Act = "reach"      // ask whether it answers now
	Wake      Act = "wake"       // send it a magic packet
	Nudge     Act = "nudge"      // have it renew at once
	End       Act = "end"        // end its lease
	EndSilent Act = "end-silent" // end its lease if nobody answers there
)

// Outcome is what became of a client that was acted on.
type Outcome string

// The outcomes.
const (
	Answers     Outcome = "answers"
	Another     Outcome = "another" // another machine answers for its address
	Silent      Outcome = "silent"
	Unreachable Outcome = "unreachable" // no probe reaches it from here
	Woken       Outcome = "woken"       // the packet left; whether it wakes, its next message tells
	Nudged      Outcome = "nudged"
	Ended       Outcome = "ended"
	Refused     Outcome = "refused"
)

// Client is who has, or last had, an address, as far as is known.
type Client struct {
	Key      netip.Prefix // the address, or the prefix
	Scope    string
	Hardware addr.Hardware
	Hostname string
	Lease    *lease.Lease // or nil
	link     *plan.Link
	subnet   netip.Prefix
}

// Acted is what became, or would become, of one client.
type Acted struct {
	Client
	Outcome Outcome
	Text    string
}

// Client finds who has an address: its active lease, or else the client that it is reserved
// for, or else whoever had it last.
func (d *Admin) Client(k netip.Prefix) Client {
	c := Client{Key: k}
	d.Engine.With(func(t *lease.Table) {
		p := t.Plan()
		if v := p.ScopeAt(k.Addr()); v != nil {
			c.Scope, c.subnet, c.link = v.Name, v.Subnet, p.Link(v.Link)
		}
		if c.Lease = t.Get(k); c.Lease != nil && c.Lease.Status == lease.Free {
			c.Lease = nil
		}
		r := p.ReservationOf(k)
		if c.Lease != nil && (c.Lease.Status == lease.Active || r == nil || r.Hardware == "") {
			c.Hardware, c.Hostname = c.Lease.Hardware, c.Lease.Hostname
		} else if r != nil {
			c.Hardware, c.Hostname = r.Hardware, r.Hostname
		}
	})
	return c
}

// Act does something to the client of an address, or says what it would do. Refusals are an
// outcome, so that of many clients each has its own.
func (d *Admin) Act(ctx context.Context, act Act, k netip.Prefix, preview bool) Acted {
	c := d.Client(k)
	out := Acted{Client: c}
	var err error
	switch act {
	case Reach:
		who, probed := d.Engine.ProbeNow(k)
		return found(c, who, probed)
	case Wake:
		out.Outcome = Woken
		out.Text, err = d.wake(c, preview)
	case Nudge:
		out.Outcome, out.Text = Nudged, "is told to renew at once"
		var l *lease.Lease
		if l, err = d.active(k); err == nil {
			err = d.MayNudge(l)
		}
		if err == nil && !preview {
			err = d.Nudge(l)
		}
	case End, EndSilent:
		out.Outcome = Ended
		if _, err = d.active(k); err != nil {
			break
		}
		who, probed := d.Engine.ProbeNow(k)
		if r := found(c, who, probed); act == EndSilent && r.Outcome != Silent {
			out.Outcome, out.Text = Refused, r.Text+", so its lease stays"
			return out
		}
		var e Ending
		e, err = d.end(ctx, k, who, probed, preview)
		out.Text = e.Text
	}
	if err != nil {
		out.Outcome, out.Text = Refused, strings.TrimPrefix(err.Error(), plan.ErrRefused.Error()+": ")
	}
	return out
}

// found is whether a client answers, as a probe of its address found it.
func found(c Client, who probe.Result, probed bool) Acted {
	switch out := (Acted{Client: c}); {
	case !probed:
		out.Outcome, out.Text = Unreachable, "no probe reaches it from here"
		return out
	case !who.Answered:
		out.Outcome, out.Text = Silent, "nobody answers"
		return out
	case c.Hardware != "" && who.Hardware != "" && who.Hardware != c.Hardware:
		out.Outcome, out.Text = Another, "another machine answers, "+who.Hardware.String()
		return out
	default:
		out.Outcome, out.Text = Answers, joined("answers", from(who))
		return out
	}
}

// wake sends a client a magic packet: on a link of this host as a frame, elsewhere as a
// broadcast directed at its subnet.
func (d *Admin) wake(c Client, preview bool) (string, error) {
	switch {
	case len(c.Hardware) != 6:
		return "", plan.Refused("%s cannot be woken: no Ethernet address of its client is known", addr.FormatKey(c.Key))
	case c.link == nil:
		return "", plan.Refused("%s cannot be woken: it is in no scope", addr.FormatKey(c.Key))
	case !c.link.Wake:
		return "", plan.Refused("clients of link %s are not woken: yarnpost link edit %s --wake allows it", c.link.Name, c.link.Name)
	}
	if c.subnet.Addr().Is6() {
		return "", plan.Refused("%s cannot be woken: clients are woken by IPv4; wake it by its address there", addr.FormatKey(c.Key))
	}
	from, i := d.Host.From(c.Key.Addr())
	if i == nil && (!from.IsValid() || from.IsLoopback()) {
		return "", plan.Refused("%s cannot be woken: this server only has an address on loopback, and reaches no client", addr.FormatKey(c.Key))
	}
	everybody := addr.Broadcast(c.subnet)
	text := "a magic packet goes to " + everybody.String() + ", if routers let it through"
	if i != nil {
		text = "a magic packet goes onto " + i.Name
	}
	if preview {
		return text, nil
	}
	d.Log.Info("waking a client", "address", addr.FormatKey(c.Key), "hardware", c.Hardware)
	if i != nil {
		return text, d.Wire.Wake(i, net.HardwareAddr(c.Hardware))
	}
	return text, d.Wire.WakeBeyond(everybody, net.HardwareAddr(c.Hardware))
}
