package node

import (
	"runtime/debug"
	gauges "runtime/metrics"
	"sync"

	"golang.org/x/sys/unix"
)

// Bounds of spareMemory, in octets.
const (
	spareLeast = 128 << 20
	spareMost  = 1 << 30
)

// spareMemory is how much garbage may gather before it is collected: an eighth of
// what the machine has, within bounds. A collection that comes because memory is
// used up takes every thread that nobody needs, and packets wait for them; one that
// comes because there was none for two minutes takes a single thread. So what may
// gather is more than two minutes of ordinary work leave, and the rare large work,
// such as a change of ten thousand items or a million endings.
var spareMemory = sync.OnceValue(func() uint64 {
	var machine unix.Sysinfo_t
	if unix.Sysinfo(&machine) != nil {
		return spareLeast
	}
	return min(max(machine.Totalram*uint64(machine.Unit)/8, spareLeast), spareMost)
})

// tuneMemory sets the collector's pace by what is live now.
func tuneMemory() {
	sample := []gauges.Sample{{Name: "/gc/heap/live:bytes"}}
	gauges.Read(sample)
	live := max(sample[0].Value.Uint64(), 1<<20)
	debug.SetGCPercent(int(min(max(spareMemory()*100/live, 50), 5000)))
}
