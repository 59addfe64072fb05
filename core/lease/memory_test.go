package lease

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"runtime"
	"runtime/metrics"
	"testing"
	"time"

	"yarnpost/core/addr"
)

// crowded is a table with n leases of one scope, all of them renewed once, in whatever
// order.
func crowded(b *testing.B, n int) *Table {
	table, id := scoped(b, "10.0.0.0/8", "10.0.0.0/8")
	for i := range n {
		a, ok := table.pickAddr(table.plan.Scope(id), addr.Range{}, anyAddr)
		if !ok {
			b.Fatal("empty")
		}
		hw := addr.Hardware([]byte{2, 0, byte(i >> 24), byte(i >> 16), byte(i >> 8), byte(i)})
		table.Put(&Lease{Prefix: Host(a), Status: Active, Client: ByIdentifier([]byte("\x01" + string(hw))), Hardware: hw,
			Hostname: fmt.Sprintf("client-%07d", i),
			Vendor:   string([]byte("made-up client")), Circuit: fmt.Sprintf("sw%d/0/1", i%500), Relay: netip.AddrFrom4([4]byte{10, 0, 0, 1}),
			Expires: Time(1<<30 + i/1000)})
	}
	for _, i := range rand.Perm(n) {
		table.Put(table.shards[id].get(i))
	}
	return table
}

// crowded6 is the same of IPv6, in one /64.
func crowded6(b *testing.B, n int) *Table {
	table, v := workshop(b, Alone)
	for i := range n {
		hw := string([]byte{2, 0, byte(i >> 24), byte(i >> 16), byte(i >> 8), byte(i)})
		duid := "\x00\x01\x00\x01\x2a\x00\x00\x00" + hw // by link-layer address and time
		k, ok := table.Pick(v, Sought{Who: duid}, any6)
		if !ok {
			b.Fatal("empty")
		}
		table.Put(&Lease{Prefix: k, Status: Active, Client: Client{Kind: Addresses, Number: uint32(i), ID: duid}, Hardware: addr.Hardware(hw),
			Hostname: fmt.Sprintf("client-%07d", i), Vendor: string([]byte("made-up client")), Circuit: fmt.Sprintf("sw%d/0/1", i%500),
			Relay: netip.MustParseAddr("2001:db8:40:1::1"), Expires: Time(1<<30 + i/1000)})
	}
	for _, i := range rand.Perm(n) {
		table.Put(table.shards[v.ID].get(i))
	}
	return table
}

// BenchmarkMemory tells the memory that a lease takes in a big table, in how many
// objects it lies, and what it adds to a collection of garbage.
func BenchmarkMemory(b *testing.B) {
	b.Run("IPv4", func(b *testing.B) { measureMemory(b, crowded) })
	b.Run("IPv6", func(b *testing.B) { measureMemory(b, crowded6) })
}

func measureMemory(b *testing.B, crowded func(*testing.B, int) *Table) {
	const n = 1_000_000
	var before, after runtime.MemStats
	for b.Loop() {
		runtime.GC()
		runtime.ReadMemStats(&before)
		table := crowded(b, n)
		runtime.GC()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/n, "octets/lease")
		b.ReportMetric(float64(after.HeapObjects-before.HeapObjects)/n, "objects/lease")
		b.ReportMetric(collecting(), "ns-of-a-collection/lease")
		runtime.KeepAlive(table)
	}
}

// BenchmarkWalk tells how long a walk through a big table keeps it to itself, and how
// long reading what it took lasts besides.
func BenchmarkWalk(b *testing.B) {
	const n = 1_000_000
	table := crowded(b, n)
	var took, read time.Duration
	var part Part
	hosts := 0
	for b.Loop() {
		begun := time.Now()
		for walk := table.Iterator(0); walk.Next(&part, 512); begun = time.Now() {
			took += time.Since(begun)
			begun = time.Now()
			for l := range part.Leases {
				hosts += len(l.Hostname)
			}
			read += time.Since(begun)
		}
	}
	b.ReportMetric(float64(took)/n/float64(b.N), "ns-of-the-table/lease")
	b.ReportMetric(float64(read)/n/float64(b.N), "ns-beside-it/lease")
}

// collecting is the processor time, in nanoseconds, that a collection of garbage takes
// for each of a million leases: the least of a few.
func collecting() float64 {
	spent := []metrics.Sample{{Name: "/cpu/classes/gc/mark/assist:cpu-seconds"}, {Name: "/cpu/classes/gc/mark/dedicated:cpu-seconds"},
		{Name: "/cpu/classes/gc/mark/idle:cpu-seconds"}}
	least, last := math.Inf(1), math.Inf(-1)
	for range 6 {
		runtime.GC()
		metrics.Read(spent)
		sum := 0.0
		for _, s := range spent {
			sum += s.Value.Float64()
		}
		least, last = min(least, sum-last), sum
	}
	return least * 1e9 / 1_000_000
}
