package main

import (
	"net/netip"

	"yarnpost/core/addr"
	"yarnpost/core/request"
)

// state of a client (RFC 2131 section 4.4).
type state uint8

const (
	off state = iota
	selecting
	requesting
	bound
	renewing
	rebinding
	rebooting
)

var stateNames = [...]string{"off", "selecting", "requesting", "bound", "renewing", "rebinding", "rebooting"}

// client is one of hundreds.
type client struct {
	w        *World
	n        int
	hardware addr.Hardware
	made     byte   // how many devices were there before it
	first    uint32 // its first transaction
	id       []byte
	scope    int
	six      bool // it speaks DHCPv6
	released bool // what it had, it gave back
	relay    netip.Addr
	reach    [2]bool // which servers its relay forwards to
	state    state
	turn     int // counts what it began; what was planned before does not happen
	xid      uint32
	began    tick // when it began to ask
	sent     tick // when it sent the request that is answered
	address  netip.Addr
	from     int // server of its lease, or of the offer
	until    tick
	since    tick // when its binding began
	t1, t2   tick
	served   tick // when it last had an address
}

func (w *World) makeClients() {
	n := 0
	for i, sc := range scopesOf {
		subnet := netip.MustParsePrefix(sc.subnet)
		for k := range sc.clients {
			c := &client{w: w, n: n, scope: i, reach: [2]bool{true, true},
				hardware: addr.Hardware([]byte{2, 0x40, byte(i), 0, byte(n >> 8), byte(n)})}
			c.relay, c.six = subnet.Addr().Next(), subnet.Addr().Is6()
			if n%3 == 0 {
				c.id = []byte{1, 2, 0x40, byte(i), 0, byte(n >> 8), byte(n)}
			}
			if i == 1 && k < 10 { // a relay that somebody set up in part
				c.reach[1-k%2] = false
			}
			w.clients = append(w.clients, c)
			n++
			w.in(w.between(0, 3*minute), func() { c.switchOn() })
		}
	}
}

// say sends a message to both servers, or to one alone.
func (c *client) say(m letter, only int) {
	w := c.w
	if w.silent {
		return
	}
	xid, turn := m.xid, c.turn
	copies := 1
	if w.chance(60) && !m.kind.GivesUp() {
		copies = 2
	}
	for i, s := range w.servers {
		if only >= 0 && i != only || !c.reach[i] && m.relayed {
			continue
		}
		for range copies {
			if w.loses(i) {
				continue
			}
			w.in(w.delay(), func() {
				if w.wires.clients[i] {
					return
				}
				s.hear(m.request(request.Path{Server: s.address, Unicast: only >= 0 && !c.six}), c, func(h heard) {
					if w.loses(i) {
						return
					}
					w.in(w.delay(), func() {
						if !w.wires.clients[i] && h.xid == xid && c.turn == turn {
							c.hear(h)
						}
					})
				})
			})
		}
	}
}

func (w *World) loses(i int) bool {
	return w.wires.clients[i] || w.wires.lossy > 0 && w.chance(w.wires.lossy)
}

func (w *World) delay() tick {
	if !w.quiet() && w.chance(300) {
		return w.between(50, 4*second)
	}
	return w.between(1, 10)
}

// later does something unless something else begins before.
func (c *client) later(d tick, do func()) {
	turn := c.turn
	c.w.in(d, func() {
		if c.turn == turn {
			do()
		}
	})
}

func (c *client) become(s state) {
	c.state = s
	c.turn++
}

func (c *client) switchOn() {
	c.began = c.w.now
	c.w.gone(c)                                                          // it uses nothing before it is confirmed
	if c.address.IsValid() && !(c.six && c.released) && !c.w.chance(4) { // what was released, no REBIND asks for
		c.reboot()
		return
	}
	c.discover()
}

// discover asks for an address, again and again.
func (c *client) discover() {
	c.become(selecting)
	var wish netip.Addr
	if c.address.IsValid() && c.w.chance(2) {
		wish = c.address
	}
	c.say(c.letter(request.Solicit, wish, -1), -1)
	c.later(c.w.between(3*second, 9*second), c.discover)
}

// reboot asks for the address it had (RFC 2131 section 4.3.2, INIT-REBOOT).
func (c *client) reboot() {
	c.become(rebooting)
	c.sent = c.w.now
	c.say(c.letter(request.Confirm, c.address, -1), -1)
	c.later(c.w.between(4*second, 8*second), func() {
		if c.w.now-c.began > 20*second {
			c.discover()
		} else {
			c.reboot()
		}
	})
}

func (c *client) request(offer heard) {
	c.become(requesting)
	c.address, c.from = offer.address, offer.from
	c.sent = c.w.now
	c.say(c.letter(request.Select, offer.address, offer.from), -1)
	c.later(c.w.between(4*second, 10*second), c.discover)
}

// renew prolongs the lease at the server that gave it.
func (c *client) renew() {
	c.become(renewing)
	c.began = c.w.now
	c.askAgain()
}

func (c *client) askAgain() {
	now := c.w.now
	switch {
	case now >= c.until:
		c.lapse()
		return
	case now >= c.t2 && c.state == renewing:
		c.become(rebinding)
		c.began = now
	default:
		c.turn++
	}
	c.sent = now
	if c.state == renewing {
		c.say(c.letter(request.Renew, c.address, c.from), c.from)
	} else {
		c.say(c.letter(request.Rebind, c.address, -1), -1)
	}
	c.later(max(5*second, min(60*second, (c.until-now)/4)), c.askAgain)
}

// replaced puts another device in the place of a client: it had nothing before.
func (c *client) replaced() {
	c.w.gone(c)
	c.made, c.first = c.made+1, c.xid+1
	c.hardware = addr.Hardware([]byte{2, 0x40, byte(c.scope), c.made, byte(c.n >> 8), byte(c.n)})
	if c.id != nil {
		c.id = append([]byte{1}, c.hardware...)
	}
	c.address = netip.Addr{}
	c.become(off)
	c.switchOn()
}

// lapse is the end of a lease that nobody prolonged.
func (c *client) lapse() {
	c.w.gone(c)
	c.began = c.w.now
	c.discover()
}

func (c *client) hear(h heard) {
	switch h.sort {
	case offered:
		if c.state == selecting && h.address.IsValid() && !h.address.IsUnspecified() {
			c.w.counts.offers++
			c.request(h)
		}
	case given:
		if c.state == off || c.state == selecting || c.state == bound {
			return
		}
		c.bind(h)
	case refused:
		if c.state == off || c.state == selecting || c.state == bound {
			return
		}
		c.w.counts.naks++
		c.w.gone(c)
		c.address = netip.Addr{}
		c.began = c.w.now
		c.discover()
	}
}

func (c *client) bind(h heard) {
	w := c.w
	until := c.sent + h.lease
	if until <= w.now {
		return
	}
	if c.address != h.address {
		w.gone(c)
	}
	if w.chance(400) && c.state == requesting && scopesOf[c.scope].length == 0 { // it finds somebody there
		c.decline(h)
		return
	}
	if c.state == renewing || c.state == rebinding {
		w.counts.renewals++
	}
	if c.address != h.address || c.state != renewing && c.state != rebinding {
		c.since = w.now
	}
	w.counts.acks++
	c.become(bound)
	c.released = false
	c.address, c.from, c.until = h.address, h.from, until
	c.t1, c.t2 = c.sent+h.lease/2, c.sent+h.lease*7/8
	c.served = w.now
	w.holds(c, h)
	c.later(max(0, c.t1-w.now), c.renew)
	w.habits(c)
}

// release gives back what the client has, to the server that gave it.
func (c *client) release() {
	m := c.letter(request.Release, c.address, c.from)
	c.w.gone(c)
	c.say(m, c.from)
	c.released = true
	c.become(off)
}

func (c *client) decline(h heard) {
	m := c.letter(request.Decline, h.address, h.from)
	c.w.gone(c)
	c.say(m, -1)
	c.address = netip.Addr{}
	c.become(off)
	c.later(10*second, c.switchOn)
}

// habits is what a client does of its own will.
func (w *World) habits(c *client) {
	switch w.random.IntN(6) {
	case 0: // gives it back
		after := w.between(10*second, 15*minute)
		if !w.chance(3) { // right away
			after = w.between(second, minute)
		}
		c.later(after, func() {
			c.release()
			back := w.between(10*second, 20*minute)
			if !w.chance(3) { // off and on again
				back = w.between(500, 40*second)
			}
			c.later(back, c.switchOn)
		})
	case 1: // goes away without a word
		c.later(w.between(10*second, 30*minute), func() {
			w.gone(c)
			c.become(off)
			c.later(w.between(second, 60*minute), c.switchOn)
		})
	case 2: // starts again at once, and believes in its lease
		c.later(w.between(10*second, 20*minute), func() {
			c.began = w.now
			c.switchOn()
		})
	}
}
