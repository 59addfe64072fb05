package plan

import (
	"encoding/json"
	"net/netip"
	"testing"
	"time"
)

// none takes an inherited lease time away at each level: what the service does by itself holds.
func TestNoLease(t *testing.T) {
	const hour = Duration(time.Hour)
	for _, c := range []struct {
		what                                   string
		defaults, supernet, scope, reservation Duration
		want                                   time.Duration
		from                                   Level
	}{
		{"inherited", hour, 0, 0, 0, time.Hour, AtDefaults},
		{"taken away by the supernet", hour, NoLease, 0, 0, DefaultLease, AtSupernet},
		{"set again below", hour, NoLease, 2 * hour, 0, 2 * time.Hour, AtScope},
		{"taken away by the scope", hour, 2 * hour, NoLease, 0, DefaultLease, AtScope},
		{"and by the reservation", hour, 2 * hour, 3 * hour, NoLease, DefaultLease, AtScope},
		{"of none", NoLease, 0, 0, 0, DefaultLease, AtDefaults},
	} {
		d := New().Draft()
		if err := d.SetDefaults(Defaults{Settings: Settings{Lease: c.defaults}}); err != nil {
			t.Fatal(err)
		}
		mill := Supernet{Name: "mill", Prefix: netip.MustParsePrefix("10.0.0.0/8"), Settings: Settings{Lease: c.supernet}}
		if _, err := d.PutSupernet(mill); err != nil {
			t.Fatal(err)
		}
		link, err := d.PutLink(Link{Name: "floor"})
		if err != nil {
			t.Fatal(err)
		}
		s := Scope{Name: "looms", Link: link, Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: Serving, Settings: Settings{Lease: c.scope}}
		if _, err := d.PutScope(s); err != nil {
			t.Fatal(err)
		}
		p, _ := d.Finish()
		v := p.ScopeNamed("looms")
		if got := v.LeaseFor(&Reservation{Settings: Settings{Lease: c.reservation}}); got != c.want || v.LeaseFrom.Level != c.from {
			t.Errorf("%s: %v from %v", c.what, got, v.LeaseFrom)
		}
	}
	b, err := json.Marshal(Settings{Lease: NoLease})
	var back Settings
	if err != nil || string(b) != `{"lease":"none"}` || json.Unmarshal(b, &back) != nil || back.Lease != NoLease {
		t.Errorf("written %s, read %v, %v", b, back.Lease, err)
	}
}
