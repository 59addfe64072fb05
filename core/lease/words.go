package lease

import "yarnpost/core/addr"

// words are texts that many leases share, such as vendor classes and circuits.
type words map[string]string

// wordsMost bounds what clients can make the table remember.
const wordsMost = 1 << 16

func (w words) shared(text string) string {
	if s, ok := w[text]; ok {
		return s
	}
	if len(w) < wordsMost {
		w[text] = text
	}
	return text
}

func (w words) pack(l *Lease) {
	l.Vendor, l.Circuit = w.shared(l.Vendor), w.shared(l.Circuit)
	client, hw, name := len(l.Client), len(l.Hardware), len(l.Hostname)
	if client+hw+name == 0 {
		return
	}
	own := string(l.Client) + string(l.Hardware) + l.Hostname
	l.Client, l.Hardware, l.Hostname = Client(own[:client]), addr.Hardware(own[client:client+hw]), own[client+hw:]
}
