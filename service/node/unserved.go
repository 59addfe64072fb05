package node

import (
	"net/netip"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
)

// Limits of the list of unserved clients.
const (
	unservedMost = 10000
	unservedAge  = 24 * time.Hour // silence after which a client is forgotten
)

// Unserved is a client that asked and got nothing, or a refusal.
type Unserved struct {
	Client      lease.Client
	Hardware    addr.Hardware
	Hostname    string
	Vendor      string
	Reason      answer.Reason
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
	from   string // relay or interface
}

type unservedList struct {
	clients map[unservedKey]*Unserved
	swept   lease.Time
}

func newUnservedList() *unservedList {
	return &unservedList{clients: map[unservedKey]*Unserved{}}
}

func keyOf(req *answer.Request, d *answer.Decision) unservedKey {
	k := unservedKey{client: d.Client, from: req.Interface}
	if g := req.Message.GIAddr; !g.IsUnspecified() {
		k.from = g.String()
	}
	return k
}

func (u *unservedList) note(req *answer.Request, d *answer.Decision, why answer.Reason, now lease.Time) {
	k := keyOf(req, d)
	c := u.clients[k]
	if c == nil {
		if len(u.clients) >= unservedMost {
			u.evict()
		}
		c = &Unserved{Client: d.Client, First: now}
		u.clients[k] = c
	}
	m := req.Message
	c.Hardware, c.Reason, c.Last, c.Interface = m.CHAddr, why, now, req.Interface
	c.Circuit, c.Rule = string(req.Relay.Circuit), d.Rule
	c.Count++
	if !m.GIAddr.IsUnspecified() {
		c.Relay, c.Selected = m.GIAddr, m.GIAddr
		if req.Relay.Link.IsValid() {
			c.Selected = req.Relay.Link
		}
	}
	if name, ok := m.Options.Get(option.Hostname); ok {
		c.Hostname = dhcp4.Clean(name)
	}
	if v, ok := m.Options.Get(option.ClassID); ok {
		c.Vendor = dhcp4.Clean(v)
	}
	c.Asked, _ = m.Options.Addr(option.AddressRequest)
	c.Scope, c.Link = "", ""
	if d.Scope != nil {
		c.Scope, c.Link = d.Scope.Name, d.Scope.LinkName
	}
	c.Trail = c.Trail[:0]
	for _, s := range d.Trail {
		c.Trail = append(c.Trail, s.String())
	}
}

// evict makes room by dropping the longest silent of a few.
func (u *unservedList) evict() {
	var oldest unservedKey
	n := 0
	for k, c := range u.clients {
		if n == 0 || c.Last < u.clients[oldest].Last {
			oldest = k
		}
		if n++; n == 16 {
			break
		}
	}
	delete(u.clients, oldest)
}

func (u *unservedList) forget(req *answer.Request, d *answer.Decision) {
	if len(u.clients) > 0 {
		delete(u.clients, keyOf(req, d))
	}
}

func (u *unservedList) age(now lease.Time) {
	if now.Sub(u.swept) < time.Minute {
		return
	}
	u.swept = now
	for k, c := range u.clients {
		if now.Sub(c.Last) > unservedAge {
			delete(u.clients, k)
		}
	}
}

// Unserved lists the clients that go without. One that was offered an address
// and did not take it counts from the second time on.
func (e *Engine) Unserved() []Unserved {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := make([]Unserved, 0, len(e.unserved.clients))
	for _, c := range e.unserved.clients {
		if c.Reason == answer.NotTaken && c.Count < 2 {
			continue
		}
		v := *c
		v.Trail = append([]string(nil), c.Trail...)
		v.Circuit = strings.Clone(c.Circuit)
		out = append(out, v)
	}
	return out
}

// ForgetUnserved drops a client from the list, when a person has dealt with it.
func (e *Engine) ForgetUnserved(hw addr.Hardware) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for k, c := range e.unserved.clients {
		if c.Hardware == hw {
			delete(e.unserved.clients, k)
		}
	}
}

// Window counts events by the minute over the last day.
type Window struct {
	minutes [24 * 60]int
	at      int64 // minute of the newest count
}

// Add counts one event.
func (w *Window) Add(now lease.Time) {
	w.roll(now)
	w.minutes[w.at%int64(len(w.minutes))]++
}

func (w *Window) roll(now lease.Time) {
	minute := int64(now) / 60
	for ; w.at < minute; w.at++ {
		if minute-w.at > int64(len(w.minutes)) {
			w.at = minute - int64(len(w.minutes))
		}
		w.minutes[(w.at+1)%int64(len(w.minutes))] = 0
	}
}

// Sum counts the events of the last span, up to a day.
func (w *Window) Sum(now lease.Time, span time.Duration) int {
	w.roll(now)
	n := 0
	for i := range min(int64(span/time.Minute), int64(len(w.minutes))) {
		if m := w.at - i; m >= 0 {
			n += w.minutes[m%int64(len(w.minutes))]
		}
	}
	return n
}
