package answer

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// BenchmarkDiscover is the way of a DISCOVER through the core: parse, decide,
// encode.
func BenchmarkDiscover(b *testing.B) {
	w := newWorld(b, "10.77.0.0/16", "10.77.1.0-10.77.250.255")
	packet, _, err := dhcp4.Append(nil, w.message(dhcp4.Discover, 1), 0)
	if err != nil {
		b.Fatal(err)
	}
	var m dhcp4.Message
	var d Decision
	out := make([]byte, 0, 600)
	b.ReportAllocs()
	for b.Loop() {
		if err := dhcp4.Decode(&m, packet); err != nil {
			b.Fatal(err)
		}
		got := Decide(asked(&m, request.Path{Server: netip.MustParseAddr("10.77.0.1"), Unicast: true}),
			w.world(), &d)
		if got.First().Outcome != Offered {
			b.Fatal(got.First().Outcome, got.First().Why)
		}
		if out, _, err = got.Reply.AppendTo(out[:0], got.Limit); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkScale compares a decision in a small network with one in a big one:
// 10 and 10,000 scopes, each with 100 leases and 10 reservations. Nine of ten
// requests are renewals by anybody, the others newcomers.
func BenchmarkScale(b *testing.B) {
	small, big := newNetwork(b, 10), newNetwork(b, 10_000)
	var took [2]time.Duration
	turns := 0
	for b.Loop() { // side by side, so that what disturbs one disturbs the other
		for n, w := range []*network{small, big} {
			begun := time.Now()
			for range 1000 {
				w.decide(b)
			}
			took[n] += time.Since(begun)
		}
		turns += 1000
	}
	b.ReportMetric(float64(took[0].Nanoseconds())/float64(turns), "ns/small")
	b.ReportMetric(float64(took[1].Nanoseconds())/float64(turns), "ns/big")
	b.ReportMetric(float64(took[1])/float64(took[0]), "big÷small")
}

// network is a plan of many scopes with a full lease table.
type network struct {
	scopes  int
	table   *lease.Table
	into    Decision
	random  *rand.Rand
	message dhcp4.Message
}

func (w *network) address(scope, n int) netip.Addr {
	return netip.AddrFrom4([4]byte{10, byte(scope >> 8), byte(scope), byte(n)})
}

func (w *network) hardware(scope, n int) addr.Hardware {
	return addr.Hardware([]byte{2, 0, 0, byte(scope >> 8), byte(scope), byte(n)})
}

func newNetwork(b *testing.B, scopes int) *network {
	w := &network{scopes: scopes, random: rand.New(rand.NewPCG(1, 1))}
	d := plan.New().Draft()
	for n := range scopes {
		s := plan.Scope{Name: fmt.Sprint("scope-", n), Subnet: netip.PrefixFrom(w.address(n, 0), 24), Mode: plan.Serving,
			Pools: []addr.Range{{From: w.address(n, 20), To: w.address(n, 250)}},
			Settings: plan.Settings{Lease: plan.Duration(time.Hour),
				Options: map[option.Key]string{option.Std(option.Router): w.address(n, 1).String()}}}
		err := d.PlaceScope(&s, "", nil)
		var id plan.ID
		if err == nil {
			id, err = d.PutScope(s)
		}
		for r := 2; r < 12 && err == nil; r++ {
			_, err = d.PutReservation(plan.Reservation{Name: fmt.Sprint("r-", n, "-", r), Scope: id, Hardware: w.hardware(n, r),
				Address: w.address(n, r)})
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	p, _ := d.Finish()
	w.table = lease.New(p, 1_000_000)
	for n := range scopes {
		for i := 2; i < 102; i++ {
			a := i
			if i >= 12 {
				a = i + 8 // inside the pool
			}
			hw := w.hardware(n, i)
			w.table.Put(&lease.Lease{Prefix: lease.Host(w.address(n, a)), Status: lease.Active, Client: lease.ByHardware(1, hw),
				Hardware: hw,
				Granted:  3600, Since: 999_000, Expires: 1_003_000, Relay: w.address(n, 1)})
		}
	}
	return w
}

// decide takes one message in, and takes nothing up.
func (w *network) decide(b *testing.B) {
	scope, n, fresh := w.random.IntN(w.scopes), 2+w.random.IntN(100), w.random.IntN(10) == 0
	m := &w.message
	zero := netip.IPv4Unspecified()
	*m = dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, CIAddr: zero, YIAddr: zero, SIAddr: zero, GIAddr: w.address(scope, 1),
		Type: dhcp4.Request, CHAddr: w.hardware(scope, n), Options: m.Options[:0]}
	want := Acknowledged
	if fresh {
		m.Type, m.CHAddr, want = dhcp4.Discover, w.hardware(scope, 200), Offered
	} else if m.CIAddr = w.address(scope, n); n >= 12 {
		m.CIAddr = w.address(scope, n+8)
	}
	m.Options = append(m.Options, dhcp4.Option{Code: option.MessageType, Data: []byte{byte(m.Type)}},
		dhcp4.Option{Code: option.ParameterList, Data: []byte{1, 3, 6, 15}})
	if d := Decide(asked(m, request.Path{Server: server, Unicast: true}),
		World{Table: w.table, Now: 1_002_000, Ours: func(a netip.Addr) bool { return a == server }, Writable: true},
		&w.into); d.First().Outcome != want {
		b.Fatalf("%s of %s: %s, %s", m.Type, m.CHAddr, d.First().Outcome, d.First().Why)
	}
}

// BenchmarkSolicit is the way of a SOLICIT from a newcomer through the core: parse, decide, encode.
func BenchmarkSolicit(b *testing.B) {
	f := newWorld6(b)
	m := ask6(dhcp6.Solicit, 1, na(1))
	m.Options = append(m.Options, dhcp6.Option{Code: option.FQDN6, Data: dhcp6.FQDN("bench-0001")})
	packet, _, err := m.AppendTo(nil, 0)
	if err != nil {
		b.Fatal(err)
	}
	var got dhcp6.Message
	var d Decision
	out := make([]byte, 0, 600)
	b.ReportAllocs()
	for b.Loop() {
		if err := dhcp6.Decode(&got, packet); err != nil {
			b.Fatal(err)
		}
		decided := Decide(got.Request(request.Path{Interface: "eth1"}), f.world6(), &d)
		if decided.First().Outcome != Offered {
			b.Fatal(decided.First().Outcome, decided.First().Why)
		}
		if out, _, err = decided.Reply.AppendTo(out[:0], decided.Limit); err != nil {
			b.Fatal(err)
		}
	}
}
