package node

import (
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/clock"
	"yarnpost/service/engine"
)

// effects tells what a change does to clients before it is made.
func TestEffects(t *testing.T) {
	d := plan.New().Draft()
	r, _ := addr.ParseRange("10.77.0.10-10.77.0.20")
	v := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Pools: []addr.Range{r}, Mode: plan.Serving}
	if err := d.PlaceScope(&v, "", nil); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutScope(v)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	table := lease.New(p, 1000)
	for i := range 3 {
		hw := addr.Hardware([]byte{2, 0, 0, 0, 0, byte(i)})
		table.Put(&lease.Lease{Prefix: lease.Host(netip.AddrFrom4([4]byte{10, 77, 0, byte(10 + i)})), Status: lease.Active,
			Client: lease.ByHardware(1, hw), Hardware: hw, Expires: 5000})
	}
	n := &Node{engine: engine.New(engine.Parts{Table: table, Events: &engine.Events{}, Metrics: engine.NewMetrics(), Clock: clock.New(),
		Log: slog.New(slog.DiscardHandler)})}
	for name, c := range map[string]struct {
		edit    func(*plan.Draft) error
		clients int
		strands bool
	}{
		"remove": {func(d *plan.Draft) error { return d.RemoveScope("looms") }, 3, true},
		"hold":   {change(id, func(s *plan.Scope) { s.Mode = plan.Held }), 3, true},
		"drain":  {change(id, func(s *plan.Scope) { s.Mode = plan.Draining }), 3, true},
		"shrink": {change(id, func(s *plan.Scope) { s.Pools[0].From = netip.MustParseAddr("10.77.0.12") }), 2, false},
		"lease":  {change(id, func(s *plan.Scope) { s.Lease = plan.Duration(time.Hour) }), 3, false},
		"note":   {change(id, func(s *plan.Scope) { s.Note = "x" }), 0, false},
		"reserve a held address": {func(d *plan.Draft) error {
			_, err := d.PutReservation(plan.Reservation{Name: "r", Scope: id, Hardware: "\x02\x00\x00\x00\x00\x09",
				Address: netip.MustParseAddr("10.77.0.11")})
			return err
		}, 1, false},
	} {
		d := p.Draft()
		if err := c.edit(d); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		next, changes := d.Finish()
		got := n.effects(p, next, changes, 2000)
		if c.clients == 0 {
			if len(got) != 0 {
				t.Errorf("%s: %+v", name, got)
			}
			continue
		}
		if len(got) != 1 || got[0].Clients != c.clients || got[0].Strands != c.strands {
			t.Errorf("%s: %+v, want %d clients, stranded %v", name, got, c.clients, c.strands)
		}
	}
}

func change(id plan.ID, f func(*plan.Scope)) func(*plan.Draft) error {
	return func(d *plan.Draft) error {
		s := d.Plan().Scope(id).Scope
		s.Pools = append([]addr.Range(nil), s.Pools...)
		f(&s)
		_, err := d.PutScope(s)
		return err
	}
}
