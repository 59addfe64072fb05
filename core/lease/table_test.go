package lease

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// named is a client that a test knows by a word.
func named(who string) Client { return ByIdentifier([]byte(who)) }

// scoped makes a plan with one scope of a pool, and a table under it.
func scoped(tb testing.TB, subnet, pool string) (*Table, plan.ID) {
	tb.Helper()
	d := plan.New().Draft()
	r, err := addr.ParseRange(pool)
	if err != nil {
		tb.Fatal(err)
	}
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix(subnet), Pools: []addr.Range{r}, Mode: plan.Serving}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		tb.Fatal(err)
	}
	id, err := d.PutScope(s)
	if err != nil {
		tb.Fatal(err)
	}
	p, _ := d.Finish()
	return New(p, 1000), id
}

func change(tb testing.TB, t *Table, edit func(*plan.Draft) error) {
	tb.Helper()
	d := t.Plan().Draft()
	if err := edit(d); err != nil {
		tb.Fatal(err)
	}
	p, changes := d.Finish()
	t.SetPlan(p, changes)
}

func held(a string, n int, until Time) *Lease {
	hw := addr.Hardware([]byte{2, 0, 0, 0, 0, byte(n)})
	return &Lease{Prefix: Host(netip.MustParseAddr(a)), Status: Active, Client: ByHardware(1, hw), Hardware: hw, Since: 1000, Changed: 1000,
		Expires: until, Granted: time.Hour}
}

func anyAddr(netip.Addr) bool { return true }

// recount works headroom out the slow way.
func recount(t *Table, id plan.ID) (n uint64) {
	v := t.Plan().Scope(id)
	for _, r := range v.Ranges {
		for a := r.From; r.Contains(a); a = a.Next() {
			l := t.At(a)
			_, offered := t.OfferOf(Host(a))
			if t.Plan().ReservationAt(a) == nil && !offered && (l == nil || !l.busy()) {
				n++
			}
		}
	}
	return n
}

func TestHeadroomIsExact(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.19")
	check := func(what string, want uint64) {
		t.Helper()
		if got := table.Count(id).Headroom; got != want || recount(table, id) != want {
			t.Errorf("%s: headroom %d, counted by hand %d, want %d", what, got, recount(table, id), want)
		}
	}
	reserve := func(name, a string, n byte) {
		change(t, table, func(d *plan.Draft) error {
			_, err := d.PutReservation(plan.Reservation{Name: name, Scope: id, Hardware: addr.Hardware([]byte{2, 0, 0, 0, 1, n}),
				Address: netip.MustParseAddr(a)})
			return err
		})
	}
	check("new", 10)
	table.Put(held("10.77.0.10", 1, 5000))
	check("a lease", 9)
	table.PutOffer(Offer{Prefix: Host(netip.MustParseAddr("10.77.0.11")), Client: named("x"), Until: 2000})
	check("an offer", 8)
	reserve("a", "10.77.0.12", 1)
	check("a reservation", 7)
	reserve("b", "10.77.0.10", 2)
	check("a reservation of a held address", 7)
	reserve("c", "10.77.0.99", 3)
	check("a reservation outside the pool", 7)
	table.Put(table.At(netip.MustParseAddr("10.77.0.10")).Ended(Released, 1500))
	check("released but reserved", 7)
	change(t, table, func(d *plan.Draft) error { return d.RemoveReservation("b") })
	check("reservation removed", 8)
	table.Lapse(2000)
	check("offer lapsed", 9)
	table.Put(&Lease{Prefix: Host(netip.MustParseAddr("10.77.0.13")), Status: Abandoned})
	check("abandoned", 8)
	change(t, table, func(d *plan.Draft) error {
		s := d.Plan().Scope(id).Scope
		r, _ := addr.ParseRange("10.77.0.13-10.77.0.15")
		s.Exclusions = []plan.Exclusion{{Range: r}}
		_, err := d.PutScope(s)
		return err
	})
	check("excluded", 6)
}

func TestPickOrder(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.12")
	pick := func() string {
		a, ok := table.pickAddr(table.plan.Scope(id), addr.Range{}, anyAddr)
		if !ok {
			return "none"
		}
		return a.String()
	}
	expect := func(what, want string) {
		t.Helper()
		if got, again := pick(), pick(); got != want || again != want {
			t.Errorf("%s: picked %s, then %s, want %s", what, got, again, want)
		}
	}
	expect("first", "10.77.0.10")
	for i, a := range []string{"10.77.0.10", "10.77.0.11", "10.77.0.12"} {
		table.Put(held(a, i, 9000))
	}
	expect("all held", "none")
	table.Put(table.At(netip.MustParseAddr("10.77.0.12")).Ended(Released, 1100))
	table.Put(table.At(netip.MustParseAddr("10.77.0.10")).Ended(Released, 1200))
	expect("free for longest", "10.77.0.12")
	table.PutOffer(Offer{Prefix: Host(netip.MustParseAddr("10.77.0.12")), Client: named("x"), Until: 1300})
	expect("the other, while that is on offer", "10.77.0.10")
	table.Lapse(1300)
	expect("after the offer lapsed", "10.77.0.12")
	table.Put(held("10.77.0.12", 9, 9000))
	expect("taken again", "10.77.0.10")
	if a, ok := table.pickAddr(table.plan.Scope(id), addr.Range{}, func(a netip.Addr) bool { return a.String() != "10.77.0.10" }); ok {
		t.Errorf("picked %s, which the caller cannot use", a)
	}
}

func TestDue(t *testing.T) {
	table, _ := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
	due := func(now Time) []*Lease {
		list, more := dueOf(table, now, 1000)
		if more {
			t.Error("there is more than a thousand")
		}
		return list
	}
	for i := range 20 {
		table.Put(held(fmt.Sprintf("10.77.0.%d", 10+i), i, Time(1010+i)))
	}
	table.Put(held("10.77.0.10", 0, 5000)) // renewed meanwhile
	if n := len(due(1014 + Grace)); n != 4 {
		t.Errorf("%d leases are due by 1014, want 4", n)
	}
	part, more := dueOf(table, 1_000_000, 6) // after a long sleep, a part at a time
	late := append(part, due(1_000_000)...)
	if len(part) != 6 || !more || len(late) != 16 {
		t.Errorf("%d leases are due after a long sleep, %d at first, want 16 and 6", len(late), len(part))
	}
	table.Put(late[0]) // what could not be recorded is due again
	if n := len(due(1_000_001)); n != 1 {
		t.Errorf("%d leases are due again, want 1", n)
	}
	never := held("10.77.0.60", 60, Never)
	table.Put(never)
	if n := len(due(1 << 50)); n != 0 || !never.HeldAt(1<<60) {
		t.Errorf("%d are due, an infinite lease among them", n)
	}
}

// However often a lease is renewed, one entry waits for its end.
func TestDueStaysSmall(t *testing.T) {
	table, _ := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
	for i := range 10_000 {
		table.Put(held("10.77.0.10", 1, Time(5000+i)))
	}
	if n := table.due.Size(); n != 1 {
		t.Errorf("%d entries wait for one lease", n)
	}
	if list, _ := dueOf(table, 14_000+Grace, 10); len(list) != 0 {
		t.Error("a lease that was prolonged is due")
	}
	if list, _ := dueOf(table, 14_999+Grace, 10); len(list) != 1 {
		t.Errorf("%d leases are due at the end", len(list))
	}
}

// An address that was taken from its client is nobody else's until the promise
// has passed, and is the client's all the while.
func TestKept(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.10")
	l := held("10.77.0.10", 1, 9000)
	table.Put(l)
	table.Put(l.KeptUntil(2000, l.Expires))
	if a, ok := table.pickAddr(table.plan.Scope(id), addr.Range{}, anyAddr); ok || table.Count(id).Headroom != 0 {
		t.Errorf("%s would be given, headroom %d", a, table.Count(id).Headroom)
	}
	if mine := table.ByClient(table.plan.Scope(id), l.Client); mine == nil || mine.Address() != l.Address() {
		t.Error("its client does not find it")
	}
	list, _ := dueOf(table, 9000+Grace, 10)
	if len(list) != 1 {
		t.Fatalf("%d are due when the promise has passed", len(list))
	}
	table.Put(list[0].Ended(Expired, 9000))
	if _, ok := table.pickAddr(table.plan.Scope(id), addr.Range{}, anyAddr); !ok || table.Count(id).Headroom != 1 {
		t.Error("it is not given although the promise has passed")
	}
}

// Leases survive their scope: they wait outside every scope until one holds
// their addresses again.
func TestOrphansComeHome(t *testing.T) {
	table, id := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.19")
	l := held("10.77.0.10", 1, 9000)
	table.Put(l)
	change(t, table, func(d *plan.Draft) error { return d.RemoveScope("looms") })
	if *table.At(l.Address()) != *l || table.Count(id).Active != 0 {
		t.Error("the lease is gone with its scope")
	}
	change(t, table, func(d *plan.Draft) error {
		s := plan.Scope{Name: "again", Subnet: netip.MustParsePrefix("10.77.0.0/16"), Mode: plan.Serving}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			return err
		}
		_, err := d.PutScope(s)
		return err
	})
	v := table.Plan().ScopeNamed("again")
	if *table.At(l.Address()) != *l || *table.ByClient(v, l.Client) != *l || table.Count(v.ID).Active != 1 {
		t.Error("the lease did not come home")
	}
	seen := 0
	var part Part
	for at := table.Iterator(0); at.Next(&part, 1); {
		seen += part.Size()
	}
	if seen != 1 {
		t.Errorf("a walk sees %d leases", seen)
	}
}

// BenchmarkPickAndPut shows that picking costs the same in a full table.
func BenchmarkPickAndPut(b *testing.B) {
	table, id := scoped(b, "10.0.0.0/8", "10.0.0.0/8")
	n := 0
	b.ReportAllocs()
	for b.Loop() {
		a, ok := table.pickAddr(table.plan.Scope(id), addr.Range{}, anyAddr)
		if !ok {
			b.Fatal("empty")
		}
		n++
		hw := addr.Hardware([]byte{2, 0, byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
		table.Put(&Lease{Prefix: Host(a), Status: Active, Client: ByHardware(1, hw), Hardware: hw, Expires: 1 << 40})
	}
}

func poolTo(tb testing.TB, table *Table, id plan.ID, pool string) {
	tb.Helper()
	change(tb, table, func(d *plan.Draft) error {
		s := d.Plan().Scope(id).Scope
		r, err := addr.ParseRange(pool)
		s.Pools = []addr.Range{r}
		if err == nil {
			_, err = d.PutScope(s)
		}
		return err
	})
}

// pickAddr is Pick of an IPv4 address.
func (t *Table) pickAddr(v *plan.View, pool addr.Range, usable func(netip.Addr) bool) (netip.Addr, bool) {
	k, ok := t.Pick(v, Sought{Pool: pool}, func(k netip.Prefix) bool { return usable(k.Addr()) })
	return k.Addr(), ok
}
