package engine

import (
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/service/observe"
	"yarnpost/service/wire"
)

// What the watchers saw, read under the engine's lock.

// Unserved lists the clients that go without.
func (e *Engine) Unserved() []observe.Unserved {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Unserved.All()
}

// UnservedCount is how many clients go without now.
func (e *Engine) UnservedCount() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Unserved.Count(e.now())
}

// ForgetUnserved drops a client from the list, when a person has dealt with it.
func (e *Engine) ForgetUnserved(hw addr.Hardware) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.seen.Unserved.ForgetHardware(hw)
}

// WatchWaits begins anew to watch how long clients wait that are left to the
// partner, or ends that.
func (e *Engine) WatchWaits(on bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.seen.Waits.Watch(on)
}

// Waits gives the clients that were left to the partner: those that it served, and
// those that still ask.
func (e *Engine) Waits() (served, asking []observe.Wait) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Waits.All()
}

// Relays lists the relays heard since the start, and those the plan names.
func (e *Engine) Relays() []observe.Relay {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Relays.All(e.table.Plan(), lease.At(e.clock.Now()))
}

// Agreements lists the clients compared with another server, disagreements
// first.
func (e *Engine) Agreements() []observe.Agreement {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Shadow.Agreements()
}

// OtherServers lists other servers heard, latest first.
func (e *Engine) OtherServers() []observe.OtherServer {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Shadow.OtherServers(lease.At(e.clock.Now()))
}

// FitsOf says how often a rule fitted since the start.
func (e *Engine) FitsOf(rule plan.ID) observe.Fits {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.FitsOf(rule)
}

// Served counts acknowledgements over the last span, up to a day.
func (e *Engine) Served(span time.Duration) int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Served.Sum(lease.At(e.clock.Now()), span)
}

// Memory is what a restart should not make the service forget.
func (e *Engine) Memory() observe.Memory {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.seen.Memory()
}

// Recall takes up what was remembered before a pause, in seconds.
func (e *Engine) Recall(m observe.Memory, pause lease.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.seen.Recall(m, lease.At(e.clock.Now()), pause)
}

// Overheard takes what another server sent to a client, and gives the server; the zero one if it is none,
// or ours.
func (e *Engine) Overheard(i *wire.Interface, from netip.Addr, data []byte) (server request.Server) {
	defer e.Guard("what another server sent", data)
	read := overheard4
	if from.Is6() {
		read = overheard6
	}
	of, ok := read(from, data)
	if !ok || e.ours(of.Server) {
		return server
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.seen.Shadow.Overheard(i, of, lease.At(e.clock.Now()))
	return of.Server
}

func overheard4(from netip.Addr, data []byte) (of request.Overheard, ok bool) {
	m := &dhcp4.Message{}
	if dhcp4.Decode(m, data) != nil || m.Op != dhcp4.BootReply || m.Type != dhcp4.Offer && m.Type != dhcp4.Ack && m.Type != dhcp4.Nak {
		return of, false
	}
	server, ok := m.Options.Addr(option.ServerID)
	if !ok {
		server = from
	}
	return request.Overheard{Server: request.Server{Address: server}, Transaction: m.XID, Binding: m.Type == dhcp4.Ack, Message: m}, true
}

func overheard6(_ netip.Addr, data []byte) (of request.Overheard, ok bool) {
	m := &dhcp6.Message{}
	if dhcp6.Decode(m, data) != nil || m.Relayed() || m.Type != dhcp6.Advertise && m.Type != dhcp6.Reply {
		return of, false
	}
	id, _ := m.Options.Get(option.ServerID6)
	of = request.Overheard{Family: option.V6, Server: request.ServerOf(option.V6, id), Transaction: m.Transaction, Message: m}
	of.Binding = m.Type == dhcp6.Reply && slices.ContainsFunc(m.IAs, func(ia dhcp6.IA) bool {
		return slices.ContainsFunc(ia.Leases, func(l dhcp6.Lease) bool { return l.Valid > 0 })
	})
	return of, of.Server.Known()
}
