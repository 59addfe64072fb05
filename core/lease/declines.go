package lease

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
