// Package host watches the machine that the service runs on, and what is around it: its
// interfaces and addresses, whether it can serve, other DHCP servers, and whether the routers
// and servers that clients are told of answer.
package host

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/audit"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/service/lock"
	"yarnpost/service/lru"
	"yarnpost/service/preflight"
	"yarnpost/service/trial"
	"yarnpost/service/wire"
)

// Engine serves by the plan.
type Engine interface {
	Plan() *plan.Plan
	SetOwn(map[netip.Addr]bool)
}

// Wire is the host's network.
type Wire interface {
	Addr() netip.AddrPort
	Addr6() netip.AddrPort // not valid: DHCPv6 is not served
	Interfaces() map[int]*wire.Interface
	Refresh() error
	SendBroadcast(i *wire.Interface, to net.HardwareAddr, data []byte) error
	SendMulticast(i *wire.Interface, data []byte) error
}

// Clock tells the time.
type Clock interface{ Now() time.Time }

// Parts are what a Host needs.
type Parts struct {
	Engine     Engine
	Wire       Wire
	Interfaces []string     // on which broadcast clients are served
	Health     func() error // why nothing can be recorded, if so
	Clock      Clock
	Log        *slog.Logger
}

// Host is the machine, as it was last looked at.
type Host struct {
	Parts
	mu        sync.Mutex
	preflight lastPreflight
	servers   map[string]*lru.Map[request.Server, time.Time] // DHCP servers heard, by interface
	routers   *lru.Map[routerAt, audit.Router]
	silent    map[netip.Addr]bool // routers and servers that did not answer
}

// New makes a Host that has not looked at anything yet.
func New(p Parts) *Host {
	return &Host{Parts: p, servers: map[string]*lru.Map[request.Server, time.Time]{}}
}

// lastPreflight is what a preflight found, when, and for which revision of the plan.
type lastPreflight struct {
	checks   []preflight.Check
	at       time.Time
	revision int64
}

// Preflight looks whether this host can serve, and remembers what it found.
// What was not found before is logged.
func (h *Host) Preflight(ctx context.Context) []preflight.Check {
	p := h.Engine.Plan()
	checks := preflight.Run(ctx, preflight.Input{DHCP4: h.Wire.Addr(), DHCP6: h.Wire.Addr6(), Interfaces: h.Interfaces, Plan: p,
		Now:      h.Clock.Now(),
		Database: func(context.Context) error { return h.Health() }, Servers: h.OtherServers})
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, c := range checks {
		if (c.Status == preflight.Trouble || c.Status == preflight.Warning) && !slices.Contains(h.preflight.checks, c) {
			h.Log.Warn("preflight: "+c.Name, "found", c.Text, "mend", c.Mend)
		}
	}
	h.preflight = lastPreflight{checks, h.Clock.Now(), p.Revision}
	return checks
}

// RepeatPreflight repeats the preflight after a change of the plan, and now and then.
func (h *Host) RepeatPreflight(ctx context.Context) {
	var last lastPreflight
	lock.While(&h.mu, func() { last = h.preflight })
	if last.revision != h.Engine.Plan().Revision || h.Clock.Now().Sub(last.at) > time.Hour {
		h.Preflight(ctx)
	}
}

// LastPreflight is what the last preflight found.
func (h *Host) LastPreflight() []preflight.Check {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.preflight.checks
}

// NoteServer remembers another server that sends replies to clients on an interface.
func (h *Host) NoteServer(name string, server request.Server) {
	if !server.Known() {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	of := h.servers[name]
	if of == nil {
		of = lru.New[request.Server, time.Time](100)
		h.servers[name] = of
	}
	of.Put(server, h.Clock.Now())
}

// NoteRouter remembers what a router advertises on an interface.
func (h *Host) NoteRouter(o wire.Overheard) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.routers == nil {
		h.routers = lru.New[routerAt, audit.Router](100)
	}
	r := o.Router
	h.routers.Put(routerAt{o.Interface.Name, r.Router}, audit.Router{Interface: o.Interface.Name, Address: r.Router, Managed: r.Managed,
		Other: r.Other, At: lease.At(h.Clock.Now())})
}

// routerAt is a router on an interface's link.
type routerAt struct {
	name   string
	router netip.Addr
}

// Routers lists the routers that advertised themselves lately.
func (h *Host) Routers() (out []audit.Router) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.routers == nil {
		return nil
	}
	for _, r := range h.routers.All() {
		if lease.At(h.Clock.Now()).Sub(r.At) < routerAge {
			out = append(out, r)
		}
	}
	return out
}

// routerAge is how long an advertisement counts: as long as one may be valid (RFC 4861 section
// 6.2.1).
const routerAge = 9000 * time.Second

// OtherServers calls for servers of both families on an interface's link, as a client would, and
// lists those that answer. It takes nothing.
func (h *Host) OtherServers(ctx context.Context, name string) ([]request.Server, error) {
	begun := h.Clock.Now()
	if err := h.callServers(name); err != nil {
		return nil, err
	}
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(trial.OfferTime):
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	out := []request.Server{}
	if of := h.servers[name]; of != nil {
		for a, at := range of.All() {
			if at.After(begun) {
				out = append(out, a)
			}
		}
	}
	return out, nil
}

func (h *Host) callServers(name string) error {
	for _, i := range h.Wire.Interfaces() {
		if i.Name == name {
			if len(i.Hardware) != 6 {
				return fmt.Errorf("interface %s has no Ethernet address", name)
			}
			data, _, err := dhcp4.Append(nil, discover(addr.Hardware(i.Hardware)), 0)
			if err == nil {
				err = h.Wire.SendBroadcast(i, i.Hardware, data)
			}
			p := h.Engine.Plan()
			if err != nil || !h.Wire.Addr6().IsValid() || !i.LinkLocal().IsValid() || len(p.Serving(linkOn(p, i), option.V6)) == 0 {
				return err
			}
			if data, _, err = trial.Asking6(addr.Hardware(i.Hardware)).AppendTo(nil, 0); err != nil {
				return err
			}
			return h.Wire.SendMulticast(i, data)
		}
	}
	return fmt.Errorf("there is no interface %s", name)
}

// linkOn is the link that an interface is on, or 0.
func linkOn(p *plan.Plan, i *wire.Interface) plan.ID {
	if id := p.LinkOnInterface(i.Name); id != 0 {
		return id
	}
	for _, at := range append(slices.Clone(i.Prefixes), i.Prefixes6...) {
		if v := p.ScopeAt(at.Addr()); v != nil {
			return v.Link
		}
	}
	return 0
}

// LookForOthers calls for other servers on links that stand aside for them.
func (h *Host) LookForOthers() {
	p := h.Engine.Plan()
	for _, i := range h.Wire.Interfaces() {
		if !i.Served {
			continue
		}
		if l := p.Link(linkOn(p, i)); l != nil && l.StandAside {
			if err := h.callServers(i.Name); err != nil {
				h.Log.Warn("cannot look for other servers", "interface", i.Name, "err", err)
			}
		}
	}
}

// discover is the DISCOVER of a client that takes nothing.
func discover(hw addr.Hardware) *dhcp4.Message {
	c := trial.Client{Hardware: hw, Hostname: trial.Name}
	m := c.Message(dhcp4.Discover)
	m.Flags = dhcp4.BroadcastFlag
	return &m
}
