package lease

import (
	"strings"

	"yarnpost/core/addr"
)

// texts are texts that many leases share, such as vendor classes and circuits.
type texts map[string]string

// textsMost bounds what clients can make the table remember.
const textsMost = 1 << 16

func (w texts) shared(text string) string {
	if s, ok := w[text]; ok {
		return s
	}
	if len(w) < textsMost {
		w[text] = text
	}
	return text
}

func (w texts) pack(l *Lease) {
	l.Vendor, l.Circuit = w.shared(l.Vendor), w.shared(l.Circuit)
	id, hw := l.Client.ID, string(l.Hardware)
	if strings.HasSuffix(id, hw) { // most identifiers end with the hardware address
		own := id + l.Hostname
		l.Client.ID, l.Hardware, l.Hostname = own[:len(id)], addr.Hardware(own[len(id)-len(hw):len(id)]), own[len(id):]
		return
	}
	own := id + hw + l.Hostname
	l.Client.ID, l.Hardware, l.Hostname = own[:len(id)], addr.Hardware(own[len(id):len(id)+len(hw)]), own[len(id)+len(hw):]
}
