package main

import "yarnpost/core/pair/message"

// wires are what lies between the partners, and between them and clients.
type wires struct {
	number  int     // of the connection
	open    [2]bool // as each end believes
	last    [2]tick // when the last message of each end arrives
	cut     [2]bool // what this end sends does not arrive, and waits
	held    [2][]func()
	clients [2]bool // no client reaches this server, nor it them
	trying  bool
	far     tick // how long everything takes from one end to the other, at the least
	lossy   int  // of so many messages of clients one is lost; 0: none
}

// connect has the primary try to reach the other.
func (x *wires) connect(w *World) {
	if x.trying {
		return
	}
	x.trying = true
	w.in(w.between(200, 3*second), func() {
		x.trying = false
		a, b := w.servers[0], w.servers[1]
		if !a.up || !b.up || a.disk.left || b.disk.left || x.cut[0] || x.cut[1] || x.open[0] || x.open[1] {
			if a.up && b.up {
				x.connect(w)
			}
			return
		}
		x.number++
		x.far = []tick{0, 0, 20, 200, 500}[w.random.IntN(5)]
		x.open = [2]bool{true, true}
		x.last = [2]tick{w.now, w.now}
		x.held = [2][]func(){}
		for _, s := range []*server{b, a} {
			s.runAll(s.pair.Opened(s.clock()))
		}
		a.sayPlan(false)
		b.sayPlan(false)
	})
}

// hangup ends the connection at one end, or both; the other notices a little later,
// unless nothing reaches it.
func (x *wires) hangup(w *World) {
	number := x.number
	for i := range x.open {
		s := w.servers[i]
		if !x.open[i] {
			continue
		}
		end := func() {
			if x.number == number && x.open[i] {
				x.open[i] = false
				if s.up {
					s.runAll(s.pair.Closed(s.clock()))
				}
			}
		}
		switch {
		case !s.up:
			x.open[i] = false
		case x.cut[1-i]: // it will notice by itself
			if silent := w.servers[1-i]; silent.up {
				w.in(20*second, end)
				continue
			}
			w.in(10*second, end)
		default:
			w.in(w.between(0, 20), end)
		}
	}
	x.connect(w)
}

// carry brings something from one end to the other, in its order.
func (x *wires) carry(s *server, do func()) {
	i := s.index
	if !x.open[i] {
		return
	}
	w, number := s.w, x.number
	deliver := func() {
		if o := s.other(); o.up && x.number == number && x.open[1-i] {
			do()
		}
	}
	if x.cut[i] {
		x.held[i] = append(x.held[i], deliver)
		return
	}
	delay := x.far + w.between(1, 8)
	if w.chance(200) {
		delay = w.between(20, 1500)
	}
	x.last[i] = max(x.last[i], w.now+delay)
	w.at(x.last[i], func() {
		if x.cut[i] && x.number == number {
			x.held[i] = append(x.held[i], deliver)
			return
		}
		deliver()
	})
}

// send brings octets to the partner.
func (x *wires) send(s *server, body []byte) {
	o := s.other()
	x.carry(s, func() {
		frame, rest, ok := message.Cut(body)
		if !ok || len(rest) > 0 {
			s.w.fail("%s sent %x, which is no message", s.name, body)
			return
		}
		m, err := message.Decode(frame)
		if err != nil {
			s.w.fail("%s sent what the other cannot read: %v", s.name, err)
			return
		}
		list, err := o.pair.Received(m, o.clock())
		o.runAll(list)
		if err != nil {
			s.w.note("%s hangs up: %v", o.name, err)
			x.hangup(s.w)
		}
	})
}

func (x *wires) sendPlan(s *server, m planMessage) {
	o := s.other()
	x.carry(s, func() { o.hearPlan(m) })
}

// mend lets through again what an end sends.
func (x *wires) mend(w *World, i int) {
	if !x.cut[i] {
		return
	}
	x.cut[i] = false
	for _, do := range x.held[i] {
		x.last[i] = max(x.last[i], w.now+1)
		w.at(x.last[i], do)
	}
	x.held[i] = nil
	x.connect(w)
}
