package engine

import (
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
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

// Overheard takes what another server sent to a client.
func (e *Engine) Overheard(i *wire.Interface, from netip.Addr, data []byte) {
	defer e.Guard("what another server sent", data)
	var m dhcp4.Message
	if dhcp4.Decode(&m, data) != nil || m.Op != dhcp4.BootReply || m.Type != dhcp4.Offer && m.Type != dhcp4.Ack && m.Type != dhcp4.Nak {
		return
	}
	server, ok := m.Options.Addr(option.ServerID)
	if !ok {
		server = from
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.seen.Shadow.Overheard(i, request.Overheard{Server: server, Transaction: m.XID, Binding: m.Type == dhcp4.Ack, Message: &m},
		lease.At(e.clock.Now()))
}
