package lease

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/plan"
)

const week = Time(FormerKept / time.Second)

// A client that went away leaves no record behind, and gets the same address if it comes back;
// the slot is used again.
func TestForget(t *testing.T) {
	table, v := workshop(t, Alone)
	k, _ := table.Pick(v, Sought{Who: "a guest"}, any6)
	l := table.give(k, "a guest")
	if table.Forget(k) {
		t.Fatal("a lease that is held was forgotten")
	}
	ended := l.Ended(Expired, 2000)
	table.Put(ended)
	if ended.PastFor(FormerKept, 2000+week-1) || !ended.PastFor(FormerKept, 2000+week) || !table.Forget(k) || table.Get(k) != nil {
		t.Fatalf("what ended at %d is on record for ever: %+v", ended.Expires, table.Get(k))
	}
	if table.ByClient(v, l.Client) != nil || table.Former(v.ID) != 0 || table.Forget(k) {
		t.Errorf("its client is on record still, or %d are", table.Former(v.ID))
	}
	if again, _ := table.Pick(v, Sought{Who: "a guest"}, any6); again != k {
		t.Errorf("it had %s, and gets %s", k, again)
	}
	slots := table.in(v).slots.Size()
	for n := range 50 {
		who := fmt.Sprint("guest ", n)
		k, _ := table.Pick(v, Sought{Who: who}, any6)
		table.Put(table.give(k, who).Ended(Expired, 2000))
		table.Forget(k)
	}
	if now := table.in(v).slots.Size(); now > slots+1 {
		t.Errorf("50 guests one after the other took %d slots", now-slots)
	}
	table.Restore(k, l) // undone, twice
	table.Restore(k, nil)
	if table.in(v).slot(keyOf(k)) >= 0 {
		t.Error("what was never recorded left a record")
	}
}

// What is needed stays: where pools find a key by its record, what is reserved, on offer, owed or
// not agreed with the partner.
func TestForgetNothingNeeded(t *testing.T) {
	table, v := workshop(t, Alone)
	var prefix *Lease
	for n := range 4 {
		k, _ := table.Pick(v, Sought{Who: fmt.Sprint("router ", n), Delegated: true}, any6)
		prefix = table.give(k, fmt.Sprint("router ", n))
	}
	table.in(v).advance(10) // the cursor goes by
	table.Put(prefix.Ended(Expired, 2000))
	if table.Forget(prefix.Prefix) {
		t.Error("a prefix of a pool that fills up was forgotten, and is never given again")
	}
	k, _ := table.Pick(v, Sought{Who: "a guest"}, any6)
	l := table.give(k, "a guest").Ended(Expired, 2000)
	table.Put(l)
	table.PutOffer(Offer{Prefix: k, Client: l.Client, Until: 3000})
	if table.Forget(k) {
		t.Error("what is on offer was forgotten")
	}
	table.DropOffer(k)
	owed := *l
	owed.Owed = true
	table.Put(&owed)
	if table.Forget(k) {
		t.Error("what the partner has to be told was forgotten")
	}
	d := table.Plan().Draft()
	if _, err := d.PutReservation(plan.Reservation{Name: "guest", Scope: v.ID, Address: k.Addr(),
		Identifier: "\x00\x03\x00\x01abcdef"}); err != nil {
		t.Fatal(err)
	}
	p, changes := d.Finish()
	table.SetPlan(p, changes)
	table.Put(l)
	if table.Forget(k) {
		t.Error("what is reserved was forgotten")
	}
	paired, v := workshop(t, Primary)
	k, _ = paired.Pick(v, Sought{Who: "a guest"}, any6)
	guest := paired.give(k, "a guest")
	paired.Put(guest.Ended(Expired, 2000))
	if paired.Forget(k) {
		t.Error("what is not agreed with the partner was forgotten")
	}
	paired.Put(guest.Ended(FreeBackup, 2000))
	if paired.Forget(k) {
		t.Error("what is the partner's by its record alone was forgotten")
	}
	d = paired.Plan().Draft()
	s := d.Plan().Scope(v.ID).Scope
	s.Pools = nil
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	without, off := d.Finish()
	paired.SetPlan(without, off)
	if paired.Forget(k) {
		t.Error("what is the partner's by its record alone was forgotten while no pool gave it")
	}
	paired.Put(guest.Ended(Free, 2000))
	if !paired.Forget(k) {
		t.Error("what is free by both is never forgotten")
	}
}

// Whatever comes and goes, also while a change of the plan is on its way in, the table knows
// what one knows that was filled with what is left.
func TestForgetRandomly(t *testing.T) {
	for seed := range uint64(20) {
		random := rand.New(rand.NewPCG(seed, 1))
		table, v := workshop(t, Alone)
		has := map[netip.Prefix]*Lease{}
		var keys []netip.Prefix
		var turn *Rebuild
		for n := range 3000 {
			switch who := fmt.Sprint("client ", random.IntN(500)); random.IntN(4) {
			case 0, 1:
				k, ok := table.Pick(v, Sought{Who: who, Delegated: random.IntN(20) == 0}, any6)
				if ok {
					has[k] = table.give(k, who)
					keys = append(keys, k)
				}
			case 2:
				if l := has[pickOne(random, keys)]; l != nil && l.Status == Active {
					n := l.Ended(Released, 1500)
					has[l.Prefix] = n
					table.Put(n)
				}
			case 3:
				if k := pickOne(random, keys); k.IsValid() && table.Forget(k) {
					if has[k] == nil || has[k].Status == Active {
						t.Fatalf("seed %d: %s was forgotten: %+v", seed, k, has[k])
					}
					delete(has, k)
				}
			}
			turn = turnOn(t, table, v.ID, n, turn)
			v = table.Plan().Scope(v.ID)
		}
		other := New(table.Plan(), 1000)
		other.ChooseBy("secret")
		for _, l := range has {
			other.Put(l)
		}
		for _, k := range keys {
			if a, b := table.Get(k), other.Get(k); (a == nil) != (b == nil) || a != nil && *a != *b {
				t.Fatalf("seed %d: %s is %+v, and should be %+v", seed, k, a, b)
			}
		}
		if a, b := table.Count(v.ID), other.Count(v.ID); a != b {
			t.Fatalf("seed %d: counted are %+v, and should be %+v", seed, a, b)
		}
		if a, b := table.CountDelegated(v.ID), other.CountDelegated(v.ID); a != b || table.Former(v.ID) != other.Former(v.ID) {
			t.Fatalf("seed %d: prefixes counted are %+v, and should be %+v", seed, a, b)
		}
		seen := 0
		var part Part
		for at, more := table.Iterator(0), true; more; {
			more = at.Next(&part, 7)
			for l := range part.Leases {
				if seen++; has[l.Prefix] == nil {
					t.Fatalf("seed %d: a walk meets %s", seed, l.Prefix)
				}
			}
		}
		if seen != len(has) {
			t.Fatalf("seed %d: a walk meets %d of %d", seed, seen, len(has))
		}
	}
}

// turnOn moves a change of the plan that is under way on by a step, or begins one now and then.
func turnOn(t *testing.T, table *Table, id plan.ID, n int, turn *Rebuild) *Rebuild {
	t.Helper()
	switch {
	case turn == nil && n%300 == 10:
		d := table.Plan().Draft()
		s := d.Plan().Scope(id).Scope
		s.Exclusions = nil
		if n%600 == 10 {
			s.PrefixPools = s.PrefixPools[:0]
		} else {
			s.PrefixPools = []plan.PrefixPool{{Prefix: netip.MustParsePrefix("2001:db8:40:8000::/54"), Length: 56}}
		}
		if _, err := d.PutScope(s); err != nil {
			t.Fatal(err)
		}
		p, changes := d.Finish()
		turn = table.NewRebuild(p, changes)
		turn.Begin()
	case turn != nil && turn.Step(5):
	case turn != nil:
		turn.End()
		for turn.Rest(1 << 20) {
		}
		turn = nil
	}
	return turn
}

func pickOne(random *rand.Rand, keys []netip.Prefix) netip.Prefix {
	if len(keys) == 0 {
		return netip.Prefix{}
	}
	return keys[random.IntN(len(keys))]
}
