package demo

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/service/trial"
)

// place6 is one scope of IPv6 at the mill with the clients that live in it.
type place6 struct {
	scope, link  string
	subnet       string
	pools        []string
	prefixPools  []string
	options      map[string]string
	lease, valid string // "": as everywhere
	note         string
	clients      int
	of           string // the scope of IPv4 whose hosts they are
	name         string // of others, with %d
	routers      bool   // they ask for a prefix, too
	turn         bool   // they come and go
	reserve      int
}

// workshopPrefixes is where the workshops' prefixes come from: 16 of them.
const workshopPrefixes = "2001:db8:40:8000::/52"

// places6 is the mill's part of 2001:db8:40::/48.
func places6() []place6 {
	const mill = "2001:db8:40"
	return []place6{
		{scope: "offices6", link: "offices", subnet: mill + ":0::/64", pools: []string{"all"}, lease: "8h", valid: "12h", clients: 84,
			of:   "offices",
			note: "Offices and the counting house, beside their IPv4"},
		{scope: "looms6", link: "looms", subnet: mill + ":8::/64", pools: []string{mill + ":8::1000-" + mill + ":8::1fff"}, lease: "12h",
			clients: 120, of: "looms", reserve: 6, note: "Looms with new firmware; known by their DUID"},
		{scope: "vats6", link: "dye-house", subnet: mill + ":10::/64", pools: []string{mill + ":10::100/121"}, lease: "10m", clients: 134,
			of: "dye-house", note: "Vat sensors; a small pool, since their gateway keeps a table of 128"},
		{scope: "visitors6", link: "visitors", subnet: mill + ":40::/64", pools: []string{"all"}, lease: "10m", clients: 160,
			of:   "visitors",
			turn: true, options: map[string]string{"v6/addr-reg-enable": "true"},
			note: "Visitors' wireless; laptops register what they make themselves"},
		{scope: shed6, link: shed, subnet: mill + ":30::/64", pools: []string{"all"}, lease: "8h", clients: 17, of: shed, reserve: 1,
			note: "Retired; drains until everything has moved"},
		{scope: workshops, link: workshops, subnet: mill + ":60::/64", pools: []string{"all"}, lease: "1h", clients: 14,
			prefixPools: []string{workshopPrefixes + " in /56"}, name: "workshop-%02d", routers: true,
			note: "Let workshops bring routers of their own; each gets a /56. The switch has the route to what it relays"},
	}
}

// moved6 moves the machines of the carding shed to other numbers of IPv6, as those of IPv4 move.
func moved6(until time.Time) []api.Edit {
	return []api.Edit{
		{Op: "add", Kind: "scope", Name: "carding-floor6", Scope: &api.ScopeEdit{Subnet: ptr("2001:db8:40:31::/64"), Link: ptr(shed),
			Pools: &[]string{"all"}, Mode: ptr("serving"), Note: ptr("What was in the carding shed")}},
		{Op: "edit", Kind: "reservation", Name: "card-01-v6", Reservation: &api.ReservationEdit{Scope: ptr("carding-floor6")}},
		{Op: "edit", Kind: "scope", Name: shed6, Scope: &api.ScopeEdit{Mode: ptr("draining"), DrainUntil: &until}}}
}

// plan6 is the mill's plan of IPv6.
func plan6(clients map[string][]*Client6) []step {
	const names = "v6/dns-servers"
	steps := []step{{"IPv6 at the mill", []api.Edit{
		{Op: "add", Kind: "supernet", Name: "mill6", Supernet: &api.SupernetEdit{Prefix: ptr("2001:db8:40::/48"),
			Options: map[string]string{names: "2001:db8:40::53,2001:db8:40::54", "v6/domain-list": "fellgate.example"},
			Note:    ptr("All of Fellgate Mill in IPv6")}},
		{Op: "add", Kind: "supernet", Name: "delegated", Supernet: &api.SupernetEdit{Prefix: ptr("2001:db8:40:8000::/49"),
			Note: ptr("What routers of others are given")}}}}}
	for _, p := range places6() {
		e := &api.ScopeEdit{Link: &p.link, Subnet: &p.subnet, Pools: &p.pools, PrefixPools: &p.prefixPools, Options: p.options,
			Lease: &p.lease, Mode: ptr("serving"), Note: &p.note, NewPerMinute: ptr(-1)}
		if p.valid != "" {
			e.Valid = &p.valid
		}
		edits := []api.Edit{{Op: "add", Kind: "scope", Name: p.scope, Scope: e}}
		if p.of == "" { // its link is its own
			e.Link = nil
			relays := []string{relay6Of(p).String()}
			edits = append(edits, api.Edit{Op: "edit", Kind: "link", Name: p.scope, Link: &api.LinkEdit{Relays: &relays}})
		}
		for n := range p.reserve {
			c := clients[p.scope][n]
			edits = append(edits, api.Edit{Op: "add", Kind: "reservation", Name: c.Hostname + "-v6", Reservation: &api.ReservationEdit{
				DUID: ptr(addr.DUID(c.DUID).String()), Address: ptr(fmt.Sprintf("%s%x", p.subnet[:len(p.subnet)-3], 0x10+n)),
				Hostname: &c.Hostname}})
		}
		steps = append(steps, step{p.note, edits})
	}
	return append(steps, step{"the looms' yard has a network of its own", []api.Edit{
		{Op: "add", Kind: "reservation", Name: "show-room-net", Reservation: &api.ReservationEdit{
			DUID: ptr(addr.DUID(clients[workshops][0].DUID).String()), Address: ptr("2001:db8:40:8000::/56"),
			Note: ptr("the show room's router keeps its prefix: it stands in the catalogue")}},
		{Op: "add", Kind: "trial", Name: "workshops-served", Trial: &api.TrialEdit{Scope: ptr(workshops), Every: ptr("10m")}}}})
}

// relay6Of is the address of a place's relay on its link.
func relay6Of(p place6) netip.Addr { return netip.MustParsePrefix(p.subnet).Addr().Next() }

// people6 sets up relays and clients of IPv6, if the servers serve that.
func (m *mill) people6() error {
	for _, p := range places6() {
		r, err := trial.NewRelay6(netip.IPv6Loopback(), relay6Of(p), m.DHCP6...)
		if err != nil {
			return err
		}
		m.relays6[p.scope] = r
		for n := range p.clients {
			m.clients6[p.scope] = append(m.clients6[p.scope], m.person6(p, n, r))
		}
	}
	r, err := trial.NewRelay6(netip.IPv6Loopback(), netip.MustParseAddr("2001:db8:40:99::1"), m.DHCP6...)
	if err != nil {
		return err
	}
	m.relays6[""] = r
	return nil
}

// person6 is client n of a place: one of the hosts that speak IPv4 there, or another one.
func (m *mill) person6(p place6, n int, r *trial.Relay6) *Client6 {
	c := &Client6{Relay: r, Wants: []uint16{option.DNSServers6, 24, 56}, Patience: 4 * time.Second,
		Asks: []dhcp6.IA{{Code: option.IANA, ID: uint32(0x40000 + n)}}}
	if p.of == "" {
		c.Hardware = addr.Hardware([]byte{0x02, 0x40, 0x60, 0, 0, byte(n)})
		c.Hostname, c.Circuit, c.DUID = fmt.Sprintf(p.name, n+1), fmt.Sprintf("ge-0/%d", n+1), trial.DUIDOf(c.Hardware)
	} else {
		host := m.clients[p.of][n]
		c.Hardware, c.Hostname, c.Circuit = host.Hardware, host.Hostname, host.Circuit
		if p.turn { // phones and tablets make one up (RFC 6355)
			c.DUID = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64([]byte{0, 4}, m.random.Uint64()), m.random.Uint64())
		} else { // by when they were installed
			c.DUID = append(binary.BigEndian.AppendUint32([]byte{0, 1, 0, 1}, uint32(0x2d000000+9000*n)), host.Hardware...)
		}
	}
	if p.routers {
		c.Asks = append(c.Asks, dhcp6.IA{Code: option.IAPD, ID: uint32(0x40000 + n)})
	}
	return c
}

// live6 lets clients of IPv6 renew, come and leave, and some misbehave.
func (m *mill) live6(ctx context.Context) {
	for _, p := range places6() {
		for n, c := range m.clients6[p.scope] {
			r := rand.New(rand.NewPCG(seed, uint64(len(p.scope))<<32|uint64(n)))
			m.wg.Go(func() {
				if p.scope == shed6 && n < moveSoon && pause(ctx, moveEach*time.Duration(n+1)) {
					c.Renew(ctx)
				}
				m.life6(ctx, p, c, r)
			})
		}
	}
	m.misbehave6(ctx)
}

// life6 is one client's day, as life is.
func (m *mill) life6(ctx context.Context, p place6, c *Client6, r *rand.Rand) {
	for {
		if len(c.Holds) == 0 {
			if !pause(ctx, time.Duration(5+r.IntN(40))*time.Second) {
				return
			}
			c.Get(ctx)
			continue
		}
		if len(c.Holds) < len(c.Asks) { // it asks for the rest sooner
			if !pause(ctx, time.Duration(20+r.IntN(20))*time.Second) {
				return
			}
		} else if half := c.Lease() / 2; !pause(ctx, half-time.Duration(r.Int64N(int64(half/4)+1))) {
			return
		}
		if p.turn && r.IntN(3) == 0 {
			if r.IntN(4) == 0 {
				c.Release()
			}
			c.Holds = nil
			if !pause(ctx, time.Duration(60+r.IntN(600))*time.Second) {
				return
			}
			continue
		}
		var refused *Refusal
		if err := c.Renew(ctx); errors.As(err, &refused) {
			c.Get(ctx)
		}
	}
}

// misbehave6 adds the troubles that a network of IPv6 has.
func (m *mill) misbehave6(ctx context.Context) {
	odd := func(scope string, n int, name string, asks ...dhcp6.IA) *Client6 {
		hw := addr.Hardware([]byte{0x02, 0x40, 0xee, 6, 0, byte(n)})
		return &Client6{Relay: m.relays6[scope], Circuit: fmt.Sprintf("sw9/0/%d", n), Hostname: name, Hardware: hw,
			DUID:  trial.DUIDOf(hw),
			Wants: []uint16{option.DNSServers6}, Patience: 2 * time.Second, Asks: asks}
	}
	address := dhcp6.IA{Code: option.IANA, ID: 1}
	// A link that nobody defined.
	lost := odd("", 1, "wash-house", address)
	m.wg.Go(func() { m.repeat(ctx, 10*time.Second, func() { lost.Solicit(ctx) }) })
	// A router where no prefixes are delegated.
	hopeful := odd("offices6", 2, "spare-router", address, dhcp6.IA{Code: option.IAPD, ID: 1})
	m.wg.Go(func() { m.repeat(ctx, 14*time.Second, func() { hopeful.Get(ctx) }) })
	// One that wants a temporary address, which nobody gives.
	private := odd("visitors6", 3, "shy-tablet", dhcp6.IA{Code: option.IATA, ID: 1})
	m.wg.Go(func() { m.repeat(ctx, 16*time.Second, func() { private.Solicit(ctx) }) })
	// It comes back from home with the address that it had there.
	homesick := odd("offices6", 4, "travel-kit-6", address)
	m.wg.Go(func() {
		m.repeat(ctx, 19*time.Second, func() {
			homesick.Do(ctx, homesick.Message(dhcp6.Confirm, dhcp6.IA{Code: option.IANA, ID: 1,
				Leases: []dhcp6.Lease{{Prefix: netip.MustParsePrefix("2001:db8:77::17/128")}}}))
		})
	})
	// It finds its address in use, once.
	picky := odd("looms6", 5, "dobby-6", address)
	m.wg.Go(func() {
		if pause(ctx, 3*time.Second) && picky.Get(ctx) == nil {
			picky.Decline()
		}
	})
	// It names a server that is not there any more.
	faithful := odd("offices6", 6, "time-clock", address)
	faithful.Server = trial.DUIDOf(addr.Hardware([]byte{0x02, 0x40, 0, 0, 0, 0xfe}))
	m.wg.Go(func() {
		m.repeat(ctx, 21*time.Second, func() { faithful.Do(ctx, faithful.Message(dhcp6.Request, address)) })
	})
	// It asks for options alone.
	printer := odd("offices6", 7, "press-room")
	m.wg.Go(func() { m.repeat(ctx, 30*time.Second, func() { printer.Inform(ctx) }) })
	// Two machines that were set up from one image have one DUID, and take turns with one address.
	for n, name := range []string{"ledger-1", "ledger-2"} {
		twin := odd("offices6", 8, name, address)
		twin.Hardware = addr.Hardware([]byte{0x02, 0x40, 0xee, 6, 1, byte(n)})
		m.wg.Go(func() { m.repeat(ctx, time.Duration(17+4*n)*time.Second, func() { twin.Get(ctx) }) })
	}
	m.private6(ctx, odd)
}

// private6 has visitors' laptops make addresses of their own, a new one each hour, and register
// them.
func (m *mill) private6(ctx context.Context, odd func(string, int, string, ...dhcp6.IA) *Client6) {
	link := netip.MustParsePrefix("2001:db8:40:40::/64").Addr().As16()
	for n := range 9 {
		laptop := odd("visitors6", 0x20+n, fmt.Sprintf("laptop-%02d", n+1))
		r := rand.New(rand.NewPCG(seed, 9686+uint64(n)))
		m.wg.Go(func() {
			var made []netip.Addr
			for {
				a := link
				binary.BigEndian.PutUint64(a[8:], r.Uint64()&^(1<<57)) // of no hardware address
				made = append(made[max(0, len(made)-2):], netip.AddrFrom16(a))
				for _, a := range made {
					laptop.Register(ctx, a, 4*time.Hour)
				}
				if !pause(ctx, time.Duration(10+r.IntN(50))*time.Minute/time.Duration(1+len(made)%3)) {
					return
				}
			}
		})
	}
}
