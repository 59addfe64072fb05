package lease

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// While a change of the plan is on its way in, whatever happens to the table is
// there afterwards: as if the change had been made at once in the end.
func TestTurnBesideTraffic(t *testing.T) {
	for seed := range uint64(80) {
		r := rand.New(rand.NewPCG(seed, 1))
		slow, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
		quick, _ := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
		now := Time(2000)
		touch := func() {
			a := netip.AddrFrom4([4]byte{10, 77, 0, byte(8 + r.IntN(100))})
			n, what := r.IntN(50), r.IntN(6)
			now++
			for _, table := range []*Table{slow, quick} {
				l := table.At(a)
				switch what {
				case 0, 1:
					table.Put(held(a.String(), n, now+Time(n)))
				case 2:
					table.PutOffer(Offer{Prefix: Host(a), Client: named(fmt.Sprint(n)), Until: now + 5})
				case 3:
					table.DropOffer(Host(a))
				case 4:
					if l != nil {
						table.Put(l.Ended(Released, now))
					}
				case 5:
					list, _ := dueOf(table, now, 3)
					for _, l := range list {
						table.Put(l.Ended(Expired, l.Expires))
					}
				}
			}
		}
		for range 200 {
			touch()
		}
		reserve := func(d *plan.Draft, from, to int) {
			for n := from; n < to; n++ {
				hw := addr.Hardware([]byte{2, 0, 0, 0, 1, byte(n)})
				if _, err := d.PutReservation(plan.Reservation{Name: fmt.Sprint("r-", n), Scope: id, Hardware: hw,
					Address: netip.AddrFrom4([4]byte{10, 77, 0, byte(8 + 2*n)})}); err != nil {
					t.Fatal(err)
				}
			}
		}
		d := slow.Plan().Draft()
		reserve(d, 0, 20)
		next, changes := d.Finish()
		slow.SetPlan(next, changes)
		quick.SetPlan(next, changes)
		d = slow.Plan().Draft()
		edit := func() error {
			s := d.Plan().Scope(id).Scope
			switch seed % 4 {
			case 0:
				s.Pools = []addr.Range{{From: netip.MustParseAddr("10.77.0.30"), To: netip.MustParseAddr("10.77.0.120")}}
			case 1:
				s.Subnet, s.Pools = netip.MustParsePrefix("10.77.0.0/25"),
					[]addr.Range{{From: netip.MustParseAddr("10.77.0.30"), To: netip.MustParseAddr("10.77.0.90")}}
			case 2:
				return d.RemoveScope("looms")
			case 3:
				for n := range 10 {
					if err := d.RemoveReservation(fmt.Sprint("r-", n)); err != nil {
						return err
					}
				}
				reserve(d, 20, 40)
				return nil
			}
			_, err := d.PutScope(s)
			return err
		}
		if err := edit(); err != nil {
			t.Fatal(err)
		}
		next, changes = d.Finish()
		u := slow.NewRebuild(next, changes)
		u.Begin()
		for u.Step(7) {
			touch()
		}
		u.Sort()
		for range 20 {
			touch()
		}
		for u.Queue(5) {
			touch()
		}
		u.End()
		quick.SetPlan(next, changes)
		for u.Rest(3) {
			touch()
		}
		for range 50 {
			touch()
		}
		for a := netip.MustParseAddr("10.77.0.0"); a != netip.MustParseAddr("10.77.0.200"); a = a.Next() {
			one, two := slow.At(a), quick.At(a)
			if fmt.Sprint(one) != fmt.Sprint(two) && (one == nil || two == nil || *one != *two) {
				t.Fatalf("seed %d: %s is %+v, and at once %+v", seed, a, one, two)
			}
		}
		if slow.Count(id) != quick.Count(id) {
			t.Fatalf("seed %d: counts %+v, and at once %+v", seed, slow.Count(id), quick.Count(id))
		}
		if next.Scope(id) != nil && slow.Count(id).Headroom != recount(slow, id) {
			t.Fatalf("seed %d: headroom %d, counted by hand %d", seed, slow.Count(id).Headroom, recount(slow, id))
		}
		listsHold(t, slow)
		listsHold(t, quick)
		one, two := slow.Upcoming(id, 200), quick.Upcoming(id, 200)
		slices.SortFunc(one, netip.Addr.Compare)
		slices.SortFunc(two, netip.Addr.Compare)
		if !slices.Equal(slices.Compact(one), slices.Compact(two)) {
			t.Fatalf("seed %d: next are %v, and at once %v", seed, one, two)
		}
		for _, table := range []*Table{slow, quick} {
			for _, l := range must(dueOf(table, now+1000, 1000)) {
				table.Put(l.Ended(Expired, l.Expires))
			}
			if n := len(must(dueOf(table, now+2000, 1000))); n != 0 || table.Count(id).Active != 0 {
				t.Fatalf("seed %d: %d leases never end", seed, table.Count(id).Active)
			}
		}
	}
}

func must(list []*Lease, _ bool) []*Lease { return list }

// dueOf lists what is due.
func dueOf(table *Table, now Time, most int) (list []*Lease, more bool) {
	var part Part
	more = table.Due(&part, now, most)
	for l := range part.Leases {
		list = append(list, l.Clone())
	}
	return list, more
}

// A note on the defaults rebuilds nothing; a changed pool does.
func TestReshaped(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
	before := table.shards[id]
	change(t, table, func(d *plan.Draft) error { return d.SetDefaults(plan.Defaults{Note: "x"}) })
	if table.shards[id] != before {
		t.Error("a note on the defaults rebuilt a scope")
	}
	change(t, table, func(d *plan.Draft) error {
		s := d.Plan().Scope(id).Scope
		s.Pools = nil
		_, err := d.PutScope(s)
		return err
	})
	if table.shards[id] == before || table.shards[id].view != table.Plan().Scope(id) {
		t.Error("a scope without pools keeps what it had")
	}
}

// Reservations count as taken in a plan that comes from the partner, one revision after
// the other, as in one that is made here.
func TestPartnersReservationsCount(t *testing.T) {
	const now = Time(1_790_000_000)
	p := plan.New()
	table := New(plan.New(), now)
	table.Reset(plan.New(), now)
	table.Pair(Secondary)
	q := plan.New()
	carry := func(f func(d *plan.Draft)) {
		d := p.Draft()
		f(d)
		var c []plan.Change
		p, c = d.Finish()
		for i := range c {
			b, err := json.Marshal(c[i].After)
			if err != nil {
				t.Fatal(err)
			}
			c[i].Before = nil
			if c[i].After, err = plan.Decode(c[i].Kind, b); err != nil {
				t.Fatal(err)
			}
		}
		next, err := q.Replay(p.Revision, c)
		if err != nil {
			t.Fatal(err)
		}
		q = next
		table.SetPlan(q, c)
	}
	carry(func(d *plan.Draft) {
		r, _ := addr.ParseRange("10.77.0.10-10.77.0.19")
		sc := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving, Pools: []addr.Range{r}}
		if err := d.PlaceScope(&sc, "", nil); err != nil {
			t.Fatal(err)
		}
		if _, err := d.PutScope(sc); err != nil {
			t.Fatal(err)
		}
	})
	for i := range 3 {
		carry(func(d *plan.Draft) {
			r := plan.Reservation{Name: fmt.Sprint("r", i), Scope: p.Scopes()[0].ID,
				Address: netip.AddrFrom4([4]byte{10, 77, 0, byte(10 + i)}), Hardware: addr.Hardware([]byte{2, 0, 0, 0, 0, byte(i)})}
			if _, err := d.PutReservation(r); err != nil {
				t.Fatal(err)
			}
		})
		if n := table.Count(q.Scopes()[0].ID); n.Headroom != 0 || n.Partner != uint64(9-i) {
			t.Errorf("with %d of 10 addresses reserved %d are the partner's to give", i+1, n.Partner)
		}
	}
}
