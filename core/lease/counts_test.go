package lease

import (
	"math/rand/v2"
	"net/netip"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// What is counted of pools is what a walk through the table comes to, whatever
// happened, and through changes of the plan.
func TestPoolsAreCounted(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 9))
	pools := []addr.Range{}
	for _, text := range []string{"10.77.0.10-10.77.0.40", "10.77.0.60-10.77.0.70"} {
		r, err := addr.ParseRange(text)
		if err != nil {
			t.Fatal(err)
		}
		pools = append(pools, r)
	}
	d := plan.New().Draft()
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving, Pools: pools}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	const now = Time(1_780_000_000)
	table := New(p, now)
	v := p.ScopeNamed("looms")
	var came Churn
	for step := range 3000 {
		a := netip.AddrFrom4([4]byte{10, 77, 0, byte(random.IntN(100))})
		client := ByHardware(1, addr.Hardware([]byte{2, 0, 0, 0, 0, byte(random.IntN(40))}))
		old := table.At(a)
		before := table.Churn(v.ID)
		switch random.IntN(5) {
		case 0, 1:
			table.Put(&Lease{Prefix: Host(a), Status: Active, Client: client, Expires: now + 1000, Reserved: random.IntN(5) == 0})
			if old == nil || old.Status != Active || old.Client != client {
				came.New++ // or it returned
			}
			if old != nil && old.Status == Active && old.Client != client {
				came.Left++
			}
		case 2:
			if old != nil && old.Status != Free {
				if old.Status == Active {
					came.Left++
				}
				table.Put(old.Ended(Expired, now))
			}
		case 3:
			if v.Allocatable(a) && old == nil {
				table.PutOffer(Offer{Prefix: Host(a), Client: client, Until: now + 30})
			}
		case 4:
			table.DropOffer(Host(a))
		}
		if after := table.Churn(v.ID); after.New < before.New || after.Left < before.Left {
			t.Fatalf("churn goes back: %+v, %+v", before, after)
		}
		if step%500 == 499 { // a change that has the scope built anew
			d := table.Plan().Draft()
			next := v.Scope
			next.Exclusions = []plan.Exclusion{{Range: addr.Range{From: netip.AddrFrom4([4]byte{10, 77, 0, byte(20 + step/500)}),
				To: netip.AddrFrom4([4]byte{10, 77, 0, byte(20 + step/500)})}}}
			if _, err := d.PutScope(next); err != nil {
				t.Fatal(err)
			}
			p, changes := d.Finish()
			table.SetPlan(p, changes)
			v = p.ScopeNamed("looms")
		}
		if step%50 == 0 {
			recountPools(t, table, v)
			listsHold(t, table)
		}
	}
	if n := table.Churn(v.ID); n.New+n.Returned != came.New || n.Left != came.Left {
		t.Errorf("%+v came and left; %+v is counted", came, n)
	}
}

func recountPools(t *testing.T, table *Table, v *plan.View) {
	t.Helper()
	counts := table.CountPools(v.ID)
	var whole Counts
	for i, part := range v.Parts {
		var want Counts
		for a := part.Pool.From; part.Pool.Contains(a); a = a.Next() {
			l := table.At(a)
			_, offered := table.OfferOf(Host(a))
			if offered {
				want.Offered++
			}
			if l != nil {
				switch l.Status {
				case Active:
					want.Active++
					if l.Reserved {
						want.Claimed++
					}
				case Expired:
					want.Expired++
				}
			}
			if addr.In(part.Ranges, a) && !offered && (l == nil || !l.busy()) {
				want.Headroom++
			}
		}
		if counts[i] != want {
			t.Fatalf("pool %s: %+v is counted, %+v is there", part.Pool, counts[i], want)
		}
		whole.Headroom += want.Headroom
	}
	if n := table.Count(v.ID); n.Headroom != whole.Headroom {
		t.Fatalf("%d are left in the pools, %d in the scope", whole.Headroom, n.Headroom)
	}
}
