package engine

import (
	"errors"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// Who went away a week ago leaves memory and disk; of a scope with too many of them all do sooner.
func TestSweepFormer(t *testing.T) {
	b := newBench(t, "10.77.0.100-10.77.0.120")
	d := b.table.Plan().Draft()
	link, err := d.PutLink(plan.Link{Name: "guests"})
	if err != nil {
		t.Fatal(err)
	}
	subnet := netip.MustParsePrefix("2001:db8:40:1::/64")
	if _, err := d.PutScope(plan.Scope{Name: "guests", Link: link, Subnet: subnet, Mode: plan.Serving,
		Pools: []addr.Range{addr.OfPrefix(subnet)}}); err != nil {
		t.Fatal(err)
	}
	b.Take(d.Finish())
	vast := b.table.Plan().ScopeNamed("guests")
	gone := 0
	drop := func(keys []netip.Prefix, before lease.Time) error {
		if gone += len(keys); len(keys) > formerPart || before > b.now() {
			t.Errorf("%d keys leave the disk at a time, before %d", len(keys), before)
		}
		return nil
	}
	guests := func(n int) {
		now := b.now()
		b.With(func(table *lease.Table) {
			for i := range n {
				a := vast.Subnet.Addr().As16()
				copy(a[8:], fmt.Sprintf("%08d", i))
				table.Put(&lease.Lease{Prefix: lease.Host(netip.AddrFrom16(a)), Status: lease.Expired, Expires: now, Changed: now,
					Heard:  now,
					Client: lease.Client{Kind: lease.Addresses, ID: fmt.Sprint("guest ", i)}})
			}
		})
	}
	guests(10)
	b.SweepFormer(drop)
	b.pass(lease.FormerKept - time.Hour)
	guests(3) // came again
	b.pass(time.Hour)
	b.paper.down = errors.New("the disk is full")
	if b.SweepFormer(drop); gone != 0 {
		t.Fatalf("%d went while nothing can be recorded", gone)
	}
	b.paper.down = nil
	if b.SweepFormer(drop); gone != 7 {
		t.Fatalf("%d of 10 guests went, of whom 3 were there an hour ago", gone)
	}
	guests(lease.FormerMost + 1)
	b.pass(2 * time.Hour)
	for range 10 {
		b.SweepFormer(drop)
		b.pass(time.Minute)
	}
	if left := b.table.Former(vast.ID); left != 0 {
		t.Errorf("%d guests are remembered", left)
	}
}
