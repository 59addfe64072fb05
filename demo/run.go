package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"yarnpost/api"
	"yarnpost/client"
	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/service/trial"
)

// Config says which service the mill is played to.
type Config struct {
	API     *client.Client
	DHCP4   []netip.AddrPort // where its servers hear relays: the primary first
	DHCP6   []netip.AddrPort // the same for IPv6; none: the mill has none
	Log     *slog.Logger
	Out     io.Writer // what a person should read
	SignIn  string    // where and how to sign in
	Token   string    // file with the API token
	Also    string    // what else can be done
	Records []string  // databases of its servers, for what was before; may be none
}

// seed makes the mill the same each time.
const seed = 1847

// mill is the simulation at work.
type mill struct {
	Config
	random   *rand.Rand
	relays   map[string]*Relay
	clients  map[string][]*Client
	relays6  map[string]*trial.Relay6
	clients6 map[string][]*Client6
	nobody   []*Client // behind a relay whose link nobody defined
	wg       sync.WaitGroup
}

// Run defines the mill's plan and plays its clients until the context ends.
func Run(ctx context.Context, c Config) error {
	m := &mill{Config: c, random: rand.New(rand.NewPCG(seed, seed)), relays: map[string]*Relay{}, clients: map[string][]*Client{},
		relays6: map[string]*trial.Relay6{}, clients6: map[string][]*Client6{}}
	defer m.wg.Wait()
	if err := m.people(); err != nil {
		return err
	}
	defer m.close()
	fmt.Fprintln(c.Out, "Defining Fellgate Mill …")
	for _, s := range m.plans() {
		if _, err := c.API.Change(ctx, api.ChangeRequest{Reason: s.reason, Edits: s.edits, Confirm: true}); err != nil {
			return fmt.Errorf("define the mill: %w", err)
		}
	}
	m.wishes()
	if err := m.remember(ctx); err != nil {
		return err
	}
	if err := m.arrive(ctx); err != nil {
		return err
	}
	for _, s := range m.settled() {
		if _, err := c.API.Change(ctx, api.ChangeRequest{Reason: s.reason, Edits: s.edits, Confirm: true}); err != nil {
			return fmt.Errorf("settle the mill: %w", err)
		}
	}
	for _, p := range prepared() {
		if err := p.gather(ctx, c.API); err != nil {
			return fmt.Errorf("prepare what is to come at the mill: %w", err)
		}
	}
	if _, err := c.API.SetReportSchedule(ctx, api.ReportSchedule{Every: "7d"}); err != nil {
		return fmt.Errorf("have reports made of the mill: %w", err)
	}
	fmt.Fprintf(c.Out, "\nFellgate Mill is at work.\n\n  Console       %s\n  Command line  bin/yarnpost --token-file %s status\n%s\nCtrl-C ends it.\n", c.SignIn, c.Token, c.Also)
	m.live(ctx)
	return nil
}

// close closes all relays.
func (m *mill) close() {
	for _, r := range m.relays {
		r.Close()
	}
	for _, r := range m.relays6 {
		r.Close()
	}
}

// plans is how the mill's plan came about, of both families where its servers serve both.
func (m *mill) plans() []step {
	if len(m.DHCP6) == 0 {
		return plan4(m.clients)
	}
	return append(plan4(m.clients), plan6(m.clients6)...)
}

// people sets up relays and clients.
func (m *mill) people() error {
	for i, p := range places() {
		subnet := netip.MustParsePrefix(p.subnet)
		servers := m.DHCP4
		if p.scope == "cameras" {
			servers = servers[:1] // somebody forgot the second one
		}
		r, err := NewRelay(relayOf(i), subnet.Addr().Next(), servers...)
		if err != nil {
			return err
		}
		m.relays[p.scope] = r
		for n := range p.clients {
			m.clients[p.scope] = append(m.clients[p.scope], m.person(p, n, r))
		}
	}
	r, err := NewRelay(netip.MustParseAddr("127.40.99.1"), netip.MustParseAddr("10.40.99.1"), m.DHCP4...)
	if err != nil {
		return err
	}
	m.relays[""] = r
	if m.relays["silent"], err = NewRelay(silentRelay, netip.MustParseAddr("10.40.16.1"), m.DHCP4...); err != nil {
		return err
	}
	for n := range 3 {
		c := m.person(place{name: "wash-%02d", vendor: "sensor-1", prefix: 0x99, wants: []byte{1, 3, 6}}, n, r)
		m.nobody = append(m.nobody, c)
	}
	if len(m.DHCP6) > 0 {
		return m.people6()
	}
	return nil
}

var firstNames = []string{"ada", "bram", "cleo", "dov", "esme", "finn", "greta", "hugo", "ines", "jory", "kira", "lars", "maud", "nico",
	"oda", "pim"}

func (m *mill) person(p place, n int, r *Relay) *Client {
	c := &Client{Relay: r, Circuit: fmt.Sprintf("sw%d/0/%d", n/48+1, n%48+1), Vendor: p.vendor, Wants: p.wants, Patience: 4 * time.Second,
		Hardware: addr.Hardware([]byte{0x02, 0x40, p.prefix, 0, byte(n >> 8), byte(n)})}
	if p.nudge {
		c.Extra = []dhcp4.Option{{Code: option.ForceRenewNonce, Data: []byte{1}}}
	}
	if p.name != "" {
		c.Hostname = fmt.Sprintf(p.name, n+1)
		c.ID = append([]byte{1}, c.Hardware...)
	} else {
		kinds := []string{"phone", "tablet", "laptop"}
		c.Hostname = firstNames[m.random.IntN(len(firstNames))] + "s-" + kinds[m.random.IntN(len(kinds))]
		c.Vendor = []string{"phone-os 15", "phone-os 16", "desk-os 11"}[m.random.IntN(3)]
		c.Circuit = fmt.Sprintf("ap-%02d", n%32+1)
	}
	return c
}

// arrive lets everybody ask for an address, a few dozen at a time.
func (m *mill) arrive(ctx context.Context) error {
	var all []interface{ Get(context.Context) error }
	for _, p := range places() {
		for _, c := range m.clients[p.scope] {
			if p.mode == "serving" && p.scope != "gatehouse" {
				all = append(all, c)
			}
		}
	}
	for _, clients := range m.clients6 {
		for _, c := range clients {
			all = append(all, c)
		}
	}
	fmt.Fprintf(m.Out, "%d clients ask for addresses …\n", len(all))
	work := make(chan interface{ Get(context.Context) error })
	var wg sync.WaitGroup
	for range 32 {
		wg.Go(func() {
			for c := range work {
				c.Get(ctx) // those that get nothing show as unserved
			}
		})
	}
	for _, c := range all {
		select {
		case work <- c:
		case <-ctx.Done():
		}
	}
	close(work)
	wg.Wait()
	return ctx.Err()
}

// live lets clients renew, come, leave and misbehave.
func (m *mill) live(ctx context.Context) {
	for _, p := range places() {
		if p.scope == "gatehouse" {
			m.elsewhere(ctx, m.clients[p.scope])
			continue
		}
		for n, c := range m.clients[p.scope] {
			r := rand.New(rand.NewPCG(seed, uint64(p.prefix)<<32|uint64(n)))
			m.wg.Go(func() {
				if p.scope == shed && n < moveSoon && pause(ctx, moveEach*time.Duration(n+1)) {
					m.renew(ctx, c)
				}
				m.life(ctx, p, c, r)
			})
		}
	}
	for n, c := range m.nobody {
		m.wg.Go(func() { m.repeat(ctx, time.Duration(9+n)*time.Second, func() { c.Discover(ctx) }) })
	}
	m.misbehave(ctx)
	if len(m.DHCP6) > 0 {
		m.live6(ctx)
	}
	<-ctx.Done()
}

func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}

func (m *mill) repeat(ctx context.Context, every time.Duration, f func()) {
	for pause(ctx, every) {
		f()
	}
}

// life is one client's day: it renews at half time; visitors leave after a
// while and others come.
func (m *mill) life(ctx context.Context, p place, c *Client, r *rand.Rand) {
	for {
		if !c.Address.IsValid() {
			if !pause(ctx, time.Duration(5+r.IntN(40))*time.Second) {
				return
			}
			c.Get(ctx)
			continue
		}
		if !pause(ctx, c.Lease/2-time.Duration(r.Int64N(int64(c.Lease/8)+1))) {
			return
		}
		if p.turn && r.IntN(3) == 0 { // it leaves, and mostly says nothing
			if r.IntN(4) == 0 {
				c.Release()
			}
			c.Address = netip.Addr{}
			if !pause(ctx, time.Duration(60+r.IntN(600))*time.Second) {
				return
			}
			continue
		}
		m.renew(ctx, c)
	}
}

// renew renews a client's lease; one that is refused asks for another address.
func (m *mill) renew(ctx context.Context, c *Client) {
	var refused *Refusal
	if err := c.Renew(ctx); errors.As(err, &refused) {
		c.Get(ctx)
	}
}

// elsewhere plays the gatehouse, which another server still serves: its clients
// take what that one gives, and most of it is what Yarn Post would give.
func (m *mill) elsewhere(ctx context.Context, clients []*Client) {
	old := netip.MustParseAddr("10.40.56.2")
	for n, c := range clients {
		took := netip.AddrFrom4([4]byte{10, 40, 56, byte(60 + n)})
		switch n {
		case 3:
			took = netip.MustParseAddr("10.40.56.124") // excluded here
		case 9:
			took = netip.MustParseAddr("10.40.57.9") // of no scope
		}
		m.wg.Go(func() {
			for {
				c.Relay.Send(c.Message(dhcp4.Discover), c.Circuit)
				if !pause(ctx, time.Second) {
					return
				}
				c.Relay.Send(c.Message(dhcp4.Request, AddrOption(option.AddressRequest, took), AddrOption(option.ServerID, old)), c.Circuit)
				if !pause(ctx, time.Duration(120+n)*time.Second) {
					return
				}
			}
		})
	}
}

// misbehave adds the troubles that any network has.
func (m *mill) misbehave(ctx context.Context) {
	odd := func(scope string, n int, name, vendor string) *Client {
		return &Client{Relay: m.relays[scope], Circuit: fmt.Sprintf("sw9/0/%d", n), Hostname: name, Vendor: vendor, Wants: usual,
			Patience: 2 * time.Second,
			Hardware: addr.Hardware([]byte{0x02, 0x40, 0xee, 0, 0, byte(n)})}
	}
	// Its way back is broken: it hears no offer.
	deaf := odd("cameras", 1, "cam-gate-3", "camera")
	m.wg.Go(func() {
		m.repeat(ctx, 7*time.Second, func() { deaf.Relay.Send(deaf.Message(dhcp4.Discover), deaf.Circuit) })
	})
	// A laptop where only reserved clients are served.
	laptop := odd("stores", 2, "auditors-laptop", "desk-os 11")
	m.wg.Go(func() { m.repeat(ctx, 11*time.Second, func() { laptop.Discover(ctx) }) })
	// It insists on the address it has at home.
	homesick := odd("offices", 3, "travel-kit", "desk-os 11")
	m.wg.Go(func() {
		m.repeat(ctx, 13*time.Second, func() { homesick.Reboot(ctx, netip.MustParseAddr("192.168.1.23")) })
	})
	// It finds its address in use, twice.
	picky := odd("scanners", 4, "scan-bench", "scan-os 4")
	m.wg.Go(func() {
		for declined := 0; declined < 2; {
			if picky.Get(ctx) == nil {
				picky.Decline()
				declined++
			}
			if !pause(ctx, 3*time.Second) {
				return
			}
		}
	})
	// A printer that brings its own address and asks for options alone.
	printer := odd("offices", 5, "press-room", "printer")
	m.wg.Go(func() {
		m.repeat(ctx, 30*time.Second, func() { printer.Inform(ctx, netip.MustParseAddr("10.40.0.40")) })
	})
	// A toy robot that a rule ignores, and readers that another refuses.
	toy := odd("visitors", 7, "robo-lamb", "toy")
	toy.Hardware = addr.Hardware([]byte{0x02, 0x4c, 0, 0, 0, 7})
	m.wg.Go(func() { m.repeat(ctx, 9*time.Second, func() { toy.Discover(ctx) }) })
	reader := odd("scanners", 8, "reader-old", "scan-os 2")
	m.wg.Go(func() {
		m.repeat(ctx, 14*time.Second, func() { reader.Reboot(ctx, netip.MustParseAddr("10.40.20.99")) })
	})
	// Whatever is plugged in at the weighbridge.
	scale := odd("cameras", 12, "scale-indicator", "scale")
	m.wg.Go(func() { m.life(ctx, place{}, scale, rand.New(rand.NewPCG(seed, 12))) })
	// A loom from the days of BOOTP, and two that boot from the network.
	dobby := odd("looms", 13, "", "")
	dobby.Hardware = addr.Hardware([]byte{0x02, 0x40, 0x18, 0, 0xbb, 1})
	m.wg.Go(func() {
		m.repeat(ctx, 20*time.Second, func() { dobby.Bootp(ctx) })
	})
	for n, arch := range []byte{7, 11} {
		boot := odd("looms", 14+n, "", "loomctl/2.7")
		boot.Wants = []byte{1, 3, 43, 60, 66, 67, 97}
		boot.Extra = []dhcp4.Option{{Code: option.ClientSystem, Data: []byte{0, arch}}}
		m.wg.Go(func() { m.life(ctx, place{}, boot, rand.New(rand.NewPCG(seed, uint64(14+n)))) })
	}
	// An exhibitor, who has a pool of his own.
	stand := odd("visitors", 16, "stand-4", "desk-os 11")
	stand.Extra = []dhcp4.Option{{Code: option.UserClass, Data: append([]byte{9}, "exhibitor"...)}}
	m.wg.Go(func() { m.life(ctx, place{}, stand, rand.New(rand.NewPCG(seed, 16))) })
	// A machine with seven guests behind one adapter, and one with a made-up address.
	for n := range 7 {
		guest := odd("offices", 30, fmt.Sprintf("guest-%d", n+1), "desk-os 11")
		guest.ID = []byte{0, 'g', byte(n)}
		m.wg.Go(func() { m.life(ctx, place{}, guest, rand.New(rand.NewPCG(seed, uint64(30+n)))) })
	}
	cloned := odd("scanners", 31, "scan-spare", "scan-os 4")
	cloned.Hardware = addr.Hardware([]byte{0, 0x11, 0x22, 0x33, 0x44, 0x55})
	m.wg.Go(func() { m.life(ctx, place{}, cloned, rand.New(rand.NewPCG(seed, 40))) })
	// Behind a relay that is busy at first and then falls silent.
	drier := &Client{Relay: m.relays["silent"], Circuit: "sw8/0/1", Hostname: "drier", Vendor: "sensor-1", Wants: []byte{1, 3},
		Patience: time.Second, Hardware: addr.Hardware([]byte{0x02, 0x40, 0xee, 0, 1, 1})}
	m.wg.Go(func() {
		for n := 0; n < 80 && pause(ctx, 4*time.Second); n++ {
			drier.Discover(ctx)
		}
	})
	// It asks for somebody else's address.
	thief := odd("offices", 6, "loaner-6", "desk-os 11")
	m.wg.Go(func() {
		m.repeat(ctx, 17*time.Second, func() {
			thief.Do(ctx, thief.Message(dhcp4.Request, AddrOption(option.AddressRequest, netip.MustParseAddr("10.40.0.45"))))
		})
	})
}
