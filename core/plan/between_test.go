package plan

import (
	"net/netip"
	"testing"

	"yarnpost/core/addr"
)

// What lies between two plans makes the second of the first, and the first of the
// second, with all ids.
func TestBetween(t *testing.T) {
	d := New().Draft()
	pool, _ := addr.ParseRange("10.77.0.100-10.77.0.109")
	s := Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: Serving, Pools: []addr.Range{pool}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutScope(s)
	if err != nil {
		t.Fatal(err)
	}
	put := func(d *Draft, name, a string) {
		if _, err := d.PutReservation(Reservation{Name: name, Scope: id, Hardware: "\x02\x40\x00\x00\x00" + addr.Hardware(name[:1]),
			Address: netip.MustParseAddr(a)}); err != nil {
			t.Fatal(err)
		}
	}
	put(d, "press", "10.77.0.9")
	one, _ := d.Finish()
	d = one.Draft()
	if err := d.RemoveReservation("press"); err != nil {
		t.Fatal(err)
	}
	put(d, "scale", "10.77.0.10")
	two, changes := d.Finish()
	if got := Between(one, two); len(got) != len(changes) {
		t.Errorf("%d items differ, want %d", len(got), len(changes))
	}
	none := New()
	for _, c := range []struct{ from, to *Plan }{{one, two}, {two, one}, {none, two}} {
		p, err := c.from.Replay(c.to.Revision, Between(c.from, c.to))
		if err != nil {
			t.Fatal(err)
		}
		if rest := Between(p, c.to); len(rest) > 0 {
			t.Errorf("%+v is still different", rest)
		}
	}
	// The plan that a revision is put on serves meanwhile, and stays as it is.
	for a, want := range map[string]bool{"10.77.0.9": true, "10.77.0.10": false} {
		if r := one.ReservationAt(netip.MustParseAddr(a)); (r != nil) != want {
			t.Errorf("%s is reserved in the first plan: %v", a, r != nil)
		}
	}
	if none.ScopeAt(netip.MustParseAddr("10.77.0.9")) != nil || none.ReservationAt(netip.MustParseAddr("10.77.0.9")) != nil {
		t.Error("an empty plan has a scope")
	}
}
