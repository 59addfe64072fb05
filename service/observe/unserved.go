package observe

import (
	"net/netip"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/reason"
	"yarnpost/service/lru"
)

// Limits of the list of unserved clients.
const (
	unservedMost = 10000
	unservedAge  = 24 * time.Hour // silence after which a client is forgotten
	troubleAge   = time.Hour      // the same for one that is served with a trouble
)

// Unserved is a client that asked and got nothing, or a refusal.
type Unserved struct {
	Client      lease.Client
	Hardware    addr.Hardware
	Hostname    string
	Vendor      string
	Reason      reason.Reason
	Rule        string // that ignores or refuses it, with answer.ByRule
	Scope       string // concerned, if any
	Link        string
	Relay       netip.Addr // invalid for clients heard directly
	Selected    netip.Addr // address of the client's link, as its relay says
	Interface   string
	Circuit     string
	Asked       netip.Addr // address it asked for, if any
	First, Last lease.Time
	Count       int
	Trail       []string // of the last decision
}

type unservedKey struct {
	client lease.Client
	from   string // relay or interface; for a trouble beside its being served, "!" and an address
}

// UnservedList is who goes without, and who has a trouble although it is served.
type UnservedList struct {
	clients *lru.Map[unservedKey, *Unserved]
	direct  map[string]bool // interfaces that clients were heard on
	swept   lease.Time
}

func newUnserved() *UnservedList {
	return &UnservedList{clients: lru.Proved[unservedKey](unservedMost, (*Unserved).insists), direct: map[string]bool{}}
}

func keyOf(c Case) unservedKey { return unservedKey{c.Client, c.HeardAt()} }

// troubleKey is the key of a trouble that a client has although it is served.
func troubleKey(c lease.Client, a netip.Addr) unservedKey { return unservedKey{c, "!" + a.String()} }

// trouble reports whether the key is of one.
func (k unservedKey) trouble() bool { return strings.HasPrefix(k.from, "!") }

// describe is what is known of a client that asks.
func describe(of Case) Unserved {
	c := Unserved{Client: of.Client, Hardware: of.Hardware, Interface: of.Interface, Relay: of.Relay, Selected: of.Relay,
		Circuit: string(of.Circuit), Rule: of.Rule, Hostname: of.Message.Hostname(), Vendor: of.Message.Vendor(), Asked: of.To.Hint().Addr()}
	if of.Link.IsValid() {
		c.Selected = of.Link
	}
	c.Scope, c.Link = scopeNamed(of.Scope)
	for _, s := range of.Decision.Trail {
		c.Trail = append(c.Trail, s.String())
	}
	return c
}

// Note notes that a client goes without, and why: once for all of a kind that a message asks for.
func (u *UnservedList) Note(c Case, why reason.Reason, now lease.Time) {
	if !c.repeats() {
		u.tell(keyOf(c), describe(c), why, now)
	}
}

// repeats reports whether the message got the same answer to something of the same kind before.
func (c Case) repeats() bool {
	for i := range c.Decision.Answers {
		switch a := &c.Decision.Answers[i]; {
		case a == c.Answer:
			return false
		case a.Outcome == c.Outcome && a.Why == c.Why && a.To.Object == c.To.Object:
			return true
		}
	}
	return false
}

// Trouble notes what is wrong with a client although it is served.
func (u *UnservedList) Trouble(of Case, why reason.Reason, now lease.Time) {
	c := describe(of)
	if a := of.Address(); a.IsValid() {
		c.Asked = a
	}
	u.tell(troubleKey(of.Client, c.Asked), c, why, now)
}

// NoteExchange notes the clients of an earlier exchange.
func (u *UnservedList) NoteExchange(x *Exchange, why reason.Reason, now lease.Time) {
	for _, r := range x.Results {
		c := Unserved{Client: r.Client, Hardware: x.Hardware, Relay: x.Relay, Selected: x.Relay, Interface: x.Wire, Circuit: x.Circuit,
			Scope: r.Scope, Link: r.Link, Asked: r.Address()}
		for _, s := range x.Trail {
			c.Trail = append(c.Trail, s.String())
		}
		k := unservedKey{r.Client, x.Wire}
		if x.Relay.IsValid() {
			k.from = x.Relay.String()
		}
		u.tell(k, c, why, now)
	}
}

// insists reports whether a client asks again and again, as real ones do: a flood of
// made-up ones, each heard once, pushes it off no list.
func (c *Unserved) insists() bool { return c.Count >= 3 && c.Last.Sub(c.First) >= 10*time.Second }

func (u *UnservedList) tell(k unservedKey, c Unserved, why reason.Reason, now lease.Time) {
	c.Reason, c.First, c.Last, c.Count = why, now, now, 1
	if old := u.clients.Get(k); old != nil {
		c.First, c.Count = min(old.First, now), old.Count+1
	}
	u.clients.Put(k, &c)
	u.heard(k, &c)
}

// heard notes where clients are heard without a relay.
func (u *UnservedList) heard(k unservedKey, c *Unserved) {
	if !c.Relay.IsValid() && !k.trouble() {
		u.direct[k.from] = true
	}
}

// Forget drops a client that is served.
func (u *UnservedList) Forget(c Case) {
	if u.clients.Size() > 0 {
		u.clients.Drop(keyOf(c))
	}
}

// Served drops a client that the other server of a pair gave a lease.
func (u *UnservedList) Served(l *lease.Lease) {
	if u.clients.Size() == 0 {
		return
	}
	if l.Relay.IsValid() {
		u.clients.Drop(unservedKey{l.Client, l.Relay.String()})
		return
	}
	for name := range u.direct { // the other server's interfaces have names of their own
		u.clients.Drop(unservedKey{l.Client, name})
	}
}

// Age drops those that were silent for long.
func (u *UnservedList) Age(now lease.Time) {
	if now.Sub(u.swept) < time.Minute {
		return
	}
	u.swept = now
	for k, c := range u.clients.All() {
		silent := now.Sub(c.Last)
		if silent > unservedAge || k.trouble() && silent > troubleAge || silent < -time.Hour {
			u.clients.Drop(k)
		}
	}
}

// All lists the clients that go without. One that was offered an address and did
// not take it counts from the second time on.
func (u *UnservedList) All() []Unserved {
	out := make([]Unserved, 0, u.clients.Size())
	for _, c := range u.clients.All() { // what is listed never changes, it is replaced
		if c.listed() {
			out = append(out, *c)
		}
	}
	return out
}

func (c *Unserved) listed() bool { return c.Reason != reason.NotTaken || c.Count >= 2 }

// asksStill is for how long a client that says nothing more counts as one that goes
// without: all ask again sooner.
const asksStill = 30 * time.Minute

// Past reports whether the client goes without no more, as far as anybody can tell: it
// has not asked for long.
func (c *Unserved) Past(now lease.Time) bool { return now.Sub(c.Last) > asksStill }

// Count is how many clients go without now.
func (u *UnservedList) Count(now lease.Time) (n int) {
	for _, c := range u.clients.All() {
		if c.listed() && !c.Past(now) {
			n++
		}
	}
	return n
}

// ForgetHardware drops a client from the list, when a person has dealt with it.
func (u *UnservedList) ForgetHardware(hw addr.Hardware) {
	for k, c := range u.clients.All() {
		if c.Hardware == hw {
			u.clients.Drop(k)
		}
	}
}
