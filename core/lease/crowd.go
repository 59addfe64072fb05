package lease

import "hash/maphash"

// declines counts the addresses that clients declined in the present hour.
type declines struct {
	hour    Time
	clients map[Client]int
	ports   map[Port]int
}

// declinesKept bounds how many clients are told apart.
const declinesKept = 1 << 14

func (d *declines) note(c Client, at Port, now Time) {
	if hour := now / 3600; d.hour != hour || d.clients == nil {
		*d = declines{hour: hour, clients: map[Client]int{}, ports: map[Port]int{}}
	}
	if len(d.clients) < declinesKept {
		d.clients[c]++
	}
	if at.Circuit != "" && len(d.ports) < declinesKept {
		d.ports[at]++
	}
}

func (d *declines) counts(c Client, at Port, now Time) (own, behind int) {
	if d.hour != now/3600 {
		return 0, 0
	}
	if at.Circuit != "" {
		behind = d.ports[at]
	}
	return d.clients[c], behind
}

// crowd counts clients never seen before in the present minute.
type crowd struct {
	minute Time
	all    int
	ports  map[Port]int
}

func (c *crowd) note(at Port, now Time) {
	if minute := now / 60; c.minute != minute {
		*c = crowd{minute: minute, ports: map[Port]int{}}
	}
	c.all++
	if at.Circuit != "" {
		c.ports[at]++
	}
}

func (c *crowd) counts(at Port, now Time) (all, behind int) {
	if c.minute != now/60 {
		return 0, 0
	}
	return c.all, c.ports[at]
}

// ports count the dynamic addresses that clients behind a port hold or have on
// offer. A port is known by a digest, 64 bits with a secret seed: there may be as
// many as leases, and so there is no pointer among them.
type ports map[uint64]int32

func (p ports) count(at Port, n int32) {
	if at.Circuit == "" {
		return
	}
	k := at.digest()
	if p[k] += n; p[k] <= 0 {
		delete(p, k)
	}
}

func (p ports) behind(at Port) int { return int(p[at.digest()]) }

func (at Port) digest() uint64 {
	var room [512]byte
	b := appendAddr(room[:0], at.Relay)
	return maphash.Bytes(seed, append(b, at.Circuit...))
}
