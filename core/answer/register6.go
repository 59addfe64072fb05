package answer

import (
	"bytes"
	"net/netip"
	"time"

	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

// Bounds of what clients register: for how long at most, since they are to register again long
// before, and how many addresses in a scope.
const (
	registeredFor  = 30 * 24 * time.Hour
	registeredMost = 32
)

// oddRegistration says what is wrong with an ADDR-REG-INFORM, or "" (RFC 9686 section 4.2.1).
func (d *v6) oddRegistration() string {
	from := d.req.From
	if r := d.msg.Nearest(); r != nil {
		from = r.Peer
	}
	_, asks := d.msg.Option(option.RequestList6)
	switch {
	case len(d.req.Wants) != 1 || len(d.req.Wants[0].Hints) != 1:
		return "it does not register one address"
	case asks:
		return "it registers an address, and asks for options as well"
	case from.IsValid() && from.WithZone("") != d.req.Wants[0].Hint().Addr():
		return "it was not sent from the address that it registers"
	}
	return ""
}

// register notes an address that a client made itself, where the plan has clients told that they
// may register such (RFC 9686 section 4.2.1). That takes nothing from anybody: what is leased,
// reserved or the network's own stays as it is, and the client is answered all the same, so that
// it asks no more.
func (d *v6) register() {
	to := d.req.First()
	d.ask(to)
	d.begin(to)
	k := to.Hint()
	v := d.onLink(k)
	d.answer.Key = k
	if d.answer.Scope = v; v == nil || !v.Subnet.Contains(k.Addr()) {
		d.about("{a} does not belong to its link", k, "")
		d.ignore(reason.WrongNetwork)
		return
	}
	switch {
	case v.Mode == plan.Held:
		d.ignore(reason.ScopeHeld)
		return
	case !d.invites(v):
		d.step("scope {t} does not tell clients that they may register addresses", netip.Addr{}, v.Name)
		d.ignore(reason.NotServed)
		return
	case d.way == ByStranger:
		d.step("it came through a relay that the plan does not name", netip.Addr{}, "")
		d.ignore(reason.ForeignSource)
		return
	}
	if !d.registers(v, k, to.Time) {
		return
	}
	d.answer.Outcome = Acknowledged
	d.header(dhcp6.AddrRegReply)
	made, _ := d.msg.Option(option.IAAddress)
	d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.IAAddress, Data: bytes.Clone(made)})
}

// invites reports whether clients of a scope are told that they may register addresses.
func (d *v6) invites(v *plan.View) bool {
	for _, val := range d.settled(v, nil) {
		if val.Family == option.V6 && val.Book == "" && val.Code == option.AddressReg6 {
			return true
		}
	}
	return false
}

// registers notes the address if that is due, and reports whether the client is answered.
func (d *v6) registers(v *plan.View, k netip.Prefix, valid time.Duration) bool {
	l := d.table.Get(k)
	own := l != nil && l.Client == d.who.client
	switch r := d.plan.ReservationOf(k); {
	case l != nil && !own && l.HeldAt(d.now) && l.Client.Kind != lease.Registered && l.Client.DUID() != d.who.client.ID:
		d.about("{a} is leased to another client, which keeps it", k, "")
		d.answer.Trouble = reason.HeldByAnother
		return true
	case l != nil && !own && l.HeldAt(d.now) && l.Client.Kind != lease.Registered:
		d.about("{a} is leased to it, so there is nothing to register", k, "")
		return true
	case r != nil && d.isFor(r):
		d.about("{a} is reserved for it as {t}, and is to be asked for", k, r.Name)
		return true
	case r != nil:
		d.about("{a} is reserved for another client, as {t}", k, r.Name)
		d.answer.Trouble = reason.ForAnother
		return true
	case d.ofNetwork(k, false), v.Ends(k.Addr()):
		d.about("{a} is of the network itself, of which no client can be", k, "")
		return true
	case l != nil && l.Kept() && !own:
		d.about("{a} is kept for the client that had it", k, "")
		return true
	case d.world.Pair != nil && l != nil && l.Limbo() && !own:
		d.about("whose {a} is to give both servers have still to agree on", k, "")
		d.ignore(reason.PartnersShare)
		return false
	case !d.world.Writable:
		d.step("nothing can be recorded now", netip.Addr{}, "")
		d.ignore(reason.NoDatabase)
		return false
	}
	granted := min(valid, registeredFor)
	switch {
	case valid == 0 && !(own && l.Status == lease.Active):
		d.about("it uses {a} no more, which was not registered", k, "")
		return true
	case valid == 0:
		d.about("it uses {a} no more", k, "")
		d.change(l, l.Ended(lease.Released, d.now))
		return true
	case own && l.HeldAt(d.now) && l.Expires.Sub(d.now) <= granted && l.Expires.Sub(d.now) > granted-granted/earlyPart:
		d.about("{a} is registered already", k, "")
		return true
	case !own && d.crowded(v):
		d.ignore(reason.TooMany)
		return false
	case !own && d.registeredIn(v) >= registeredMost:
		d.step("it has registered so many addresses in scope {t} that no more are noted", netip.Addr{}, v.Name)
		d.ignore(reason.TooMany)
		return false
	}
	n := &lease.Lease{Prefix: k, Status: lease.Active, Client: d.who.client, Hardware: d.who.hardware, Hostname: d.who.hostname,
		Vendor: d.who.vendor, Circuit: string(d.who.circuit), Agent: d.agentFor(), Since: d.now, Changed: d.now, Heard: d.now,
		Granted: granted, Expires: d.now.Add(granted), Revision: d.plan.Revision, Relay: d.who.via}
	if own && l.Status == lease.Active {
		n.Since, n.Changed = l.Since, l.Changed
	}
	d.about("it made {a} itself, and registers it for {t}", k, option.FormatDuration(granted))
	d.changeFor(l, n, granted)
	if d.answer.New = !own; d.answer.New {
		d.answer.port = d.who.port()
	}
	return true
}

// registeredIn counts the addresses that a client has registered in a scope.
func (d *v6) registeredIn(v *plan.View) (n int) {
	d.table.Bindings(v, d.who.client, func(l *lease.Lease) bool {
		n++
		return n < registeredMost
	})
	return n
}
