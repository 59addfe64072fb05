package lease

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
)

// A record holds no pointer, and takes two lines of memory.
func TestRecordHasNoPointer(t *testing.T) {
	var plain func(of reflect.Type) bool
	plain = func(of reflect.Type) bool {
		switch of.Kind() {
		case reflect.Array:
			return plain(of.Elem())
		case reflect.Struct:
			for i := range of.NumField() {
				if !plain(of.Field(i).Type) {
					return false
				}
			}
			return true
		}
		return of.Kind() <= reflect.Float64
	}
	of := reflect.TypeFor[record]()
	if !plain(of) || of.Size() != 128 {
		t.Errorf("a record of %d octets; without pointers: %v", of.Size(), plain(of))
	}
}

// whatever fills each field of a lease with something, or nothing.
func whatever(r *rand.Rand, k netip.Prefix) *Lease {
	text := func(most int) string {
		b := make([]byte, r.IntN(2)*r.IntN(most))
		for i := range b {
			b[i] = byte(r.Uint32())
		}
		return string(b)
	}
	l := &Lease{Prefix: k, Status: Status(r.IntN(statuses)), Reserved: r.IntN(2) == 0, Owed: r.IntN(2) == 0, By: Side(r.IntN(3)),
		Version: VersionVector{r.Uint32(), r.Uint32()}, Acked: Moment(r.Uint32()), Told: Moment(r.Uint32()),
		Client:  Client{ClientKind(r.IntN(5)), r.Uint32(), text(300)},
		Expires: Time(r.Int64()), Heard: Time(r.Int64()), Granted: time.Duration(r.Int64()), Revision: r.Int64(),
		Hardware: addr.Hardware(text(20)), Nudge: text(40), Since: Time(r.Int64()), Changed: Time(r.Int64()), Given: r.Uint64(),
		Hostname: text(300), Vendor: text(300), Circuit: text(300)}
	switch r.IntN(5) {
	case 0:
		l.Hardware = addr.Hardware(l.Client.ID[len(l.Client.ID)/2:])
	case 1:
		l.Relay = netip.AddrFrom4([4]byte{10, 0, 0, byte(r.Uint32())})
	case 2:
		l.Relay = netip.MustParseAddr("fe80::1%weave-floor-uplink")
	case 3:
		l.Relay = netip.MustParseAddr("::ffff:10.77.0.1")
	}
	return l
}

// What a lease says, the table says, whatever it said before of the same key, and
// however many texts its clients send.
func TestRecordsSayWhatLeasesSay(t *testing.T) {
	table, _ := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
	r := rand.New(rand.NewPCG(5, 5))
	want := map[netip.Prefix]Lease{}
	long := strings.Repeat("x", textMost)
	for n := range 20_000 {
		k := Host(netip.AddrFrom4([4]byte{10, 77, byte(r.IntN(2)), byte(r.IntN(100))}))
		switch n % 50 {
		case 0:
			k = netip.MustParsePrefix(fmt.Sprintf("2001:db8:%x::/48", r.IntN(50)))
		case 1:
			k = Host(netip.MustParseAddr(fmt.Sprintf("2001:db8::%x", r.IntN(50))))
		}
		l := whatever(r, k)
		if n%1000 == 0 {
			l.Client.ID, l.Hostname, l.Nudge, l.Vendor, l.Circuit = long, long, long, long, long
		}
		table.Put(l)
		want[k] = *l
		if n%2000 != 0 {
			continue
		}
		for k, l := range want {
			if got := table.Get(k); got == nil || *got != l {
				t.Fatalf("after %d leases: %+v is on record as %+v", n, l, got)
			}
		}
	}
	var part Part
	seen := 0
	for walk := table.Iterator(0); walk.Next(&part, 7); {
		for l := range part.Leases {
			if seen++; *l != want[l.Prefix] {
				t.Fatalf("a walk sees %+v as %+v", want[l.Prefix], l)
			}
		}
	}
	if seen != len(want) {
		t.Errorf("a walk sees %d of %d", seen, len(want))
	}
	for n := range 2 * textsMost {
		table.texts.Number(fmt.Sprint(n))
	}
	if n := len(table.texts.List()); n != textsMost {
		t.Errorf("clients made it remember %d texts", n)
	}
}

// What is kept of a walk is a clone: it stays as it was.
func TestClone(t *testing.T) {
	table, _ := scoped(t, "10.77.0.0/24", "10.77.0.10-10.77.0.99")
	for n := range 5 {
		table.Put(held(fmt.Sprint("10.77.0.", 10+n), n, 9000))
	}
	var part Part
	var kept []*Lease
	table.Iterator(0).Next(&part, 100)
	for l := range part.Leases {
		kept = append(kept, l.Clone())
	}
	table.Iterator(0).Next(&part, 2)
	for n, l := range kept {
		if *l != *table.At(netip.MustParseAddr(fmt.Sprint("10.77.0.", 10+n))) {
			t.Errorf("kept is %+v", l)
		}
	}
}
