package plan

import (
	"fmt"
	"net/netip"
	"testing"

	"yarnpost/core/addr"
)

// Whatever comes and goes, a scope's bloom lets each of its reservations through,
// in every revision, and keeps most else out.
func TestSieve(t *testing.T) {
	d := New().Draft()
	pool, _ := addr.ParseRange("10.77.8.0-10.77.9.0")
	s := Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/16"), Pools: []addr.Range{pool}, Mode: Serving}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutScope(s)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	hw := func(n int) addr.Hardware { return addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)}) }
	at := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{10, 77, byte(n>>8 + 1), byte(n)}) }
	revisions := []*Plan{p}
	for n := range 400 {
		d := p.Draft()
		if _, err := d.PutReservation(Reservation{Name: fmt.Sprint("r-", n), Scope: id, Hardware: hw(n), Address: at(n)}); err != nil {
			t.Fatal(err)
		}
		if n%5 == 4 {
			if err := d.RemoveReservation(fmt.Sprint("r-", n-3)); err != nil {
				t.Fatal(err)
			}
		}
		if n%50 == 0 { // the scope is compiled anew
			if err := d.SetDefaults(Defaults{Note: fmt.Sprint(n)}); err != nil {
				t.Fatal(err)
			}
			changed := d.Plan().Scope(id).Scope
			changed.Note = fmt.Sprint(n)
			if _, err := d.PutScope(changed); err != nil {
				t.Fatal(err)
			}
		}
		p, _ = d.Finish()
		revisions = append(revisions, p)
	}
	for _, p := range revisions {
		v := p.Scope(id)
		if p.OnLink(v.Link)[0] != v || p.ScopeAt(at(1)) != v {
			t.Fatalf("revision %d has two views of a scope", p.Revision)
		}
		for n := range 400 {
			if r := p.ReservationIn(v, only(at(n))); r != p.ReservationAt(at(n)) {
				t.Fatalf("revision %d: %s is reserved for %v, and in its scope for %v", p.Revision, at(n), p.ReservationAt(at(n)), r)
			}
			if r, _ := p.reserved.byClient.Get(whoKey{id, 'h', string(hw(n))}); p.ReservationFor(v, hw(n), "", nil) != r {
				t.Fatalf("revision %d does not find the reservation of client %d", p.Revision, n)
			}
		}
	}
	through := 0
	for n := range 1000 {
		if p.Scope(id).bloom.may(hashOfKey(only(netip.AddrFrom4([4]byte{10, 78, byte(n >> 8), byte(n)})))) {
			through++
		}
	}
	if through > 200 {
		t.Errorf("of 1,000 addresses that nobody has, %d get through", through)
	}
}
