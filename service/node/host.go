package node

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/service/forgetful"
	"yarnpost/service/preflight"
	"yarnpost/service/wire"
)

// serverWait is how long other servers have to answer.
const serverWait = 2 * time.Second

// look is what a preflight found, when, and for which revision of the plan.
type lastPreflight struct {
	checks   []preflight.Check
	at       time.Time
	revision int64
}

// Preflight looks whether this host can serve, and remembers what it found.
// What was not found before is logged.
func (n *Node) Preflight(ctx context.Context) []preflight.Check {
	p := n.engine.Plan()
	checks := preflight.Run(ctx, preflight.Input{DHCP4: n.wire.Addr(), Interfaces: n.config.Interfaces, Plan: p, Now: n.clock.Now(),
		Database: func(context.Context) error { return n.Health() }, Servers: n.OtherServers})
	n.hostMu.Lock()
	defer n.hostMu.Unlock()
	for _, c := range checks {
		if (c.Status == preflight.Trouble || c.Status == preflight.Warning) && !slices.Contains(n.preflight.checks, c) {
			n.log.Warn("preflight: "+c.Name, "found", c.Text, "mend", c.Mend)
		}
	}
	n.preflight = lastPreflight{checks, n.clock.Now(), p.Revision}
	return checks
}

// repeatPreflight repeats the preflight after a change of the plan, and now and then.
func (n *Node) repeatPreflight(ctx context.Context) {
	n.hostMu.Lock()
	last := n.preflight
	n.hostMu.Unlock()
	if last.revision != n.engine.Plan().Revision || n.clock.Since(last.at) > time.Hour {
		n.Preflight(ctx)
	}
}

// LastPreflight is what the last preflight found.
func (n *Node) LastPreflight() []preflight.Check {
	n.hostMu.Lock()
	defer n.hostMu.Unlock()
	return n.preflight.checks
}

// noteServer remembers who sends replies to clients on an interface.
func (n *Node) noteServer(o wire.Overheard) {
	var m dhcp4.Message
	if dhcp4.Decode(&m, o.Data) != nil || m.Op != dhcp4.BootReply {
		return
	}
	server, ok := m.Options.Addr(option.ServerID)
	if !ok {
		server = o.From
	}
	if n.engine.IsOurs(server) {
		return
	}
	n.hostMu.Lock()
	defer n.hostMu.Unlock()
	of := n.servers[o.Interface.Name]
	if of == nil {
		of = forgetful.New[netip.Addr, time.Time](100)
		n.servers[o.Interface.Name] = of
	}
	of.Put(server, n.clock.Now())
}

// OtherServers broadcasts a DISCOVER on an interface, as a client would, and
// lists the servers that answer. It takes nothing.
func (n *Node) OtherServers(ctx context.Context, name string) ([]netip.Addr, error) {
	begun := n.clock.Now()
	if err := n.callServers(name); err != nil {
		return nil, err
	}
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(serverWait):
	}
	n.hostMu.Lock()
	defer n.hostMu.Unlock()
	out := []netip.Addr{}
	if of := n.servers[name]; of != nil {
		for a, at := range of.All() {
			if at.After(begun) {
				out = append(out, a)
			}
		}
	}
	return out, nil
}

func (n *Node) callServers(name string) error {
	for _, i := range n.wire.Interfaces() {
		if i.Name == name {
			if len(i.Hardware) != 6 {
				return fmt.Errorf("interface %s has no Ethernet address", name)
			}
			data, _, err := dhcp4.Append(nil, discover(addr.Hardware(i.Hardware), "", nil), 0)
			if err != nil {
				return err
			}
			return n.wire.SendBroadcast(i, i.Hardware, data)
		}
	}
	return fmt.Errorf("there is no interface %s", name)
}

// lookForRivals calls for other servers on links that stand aside for them.
func (n *Node) lookForRivals() {
	p := n.engine.Plan()
	for _, i := range n.wire.Interfaces() {
		if !i.Served {
			continue
		}
		id := p.LinkOnInterface(i.Name)
		for _, at := range i.Prefixes {
			if v := p.ScopeAt(at.Addr()); id == 0 && v != nil {
				id = v.Link
			}
		}
		if l := p.Link(id); l != nil && l.StandAside {
			if err := n.callServers(i.Name); err != nil {
				n.log.Warn("cannot look for other servers", "interface", i.Name, "err", err)
			}
		}
	}
}
