package node

import (
	"runtime/debug"
	gauges "runtime/metrics"
)

// spareMemory is how much garbage may gather before it is collected, in octets.
// A collection takes one of two cores from the packets for tens of
// milliseconds, so with a small table they should be rare, and with a large one
// the memory spent on waiting should not grow with it.
const spareMemory = 512 << 20

// tuneMemory sets the collector's pace by what is live now.
func tuneMemory() {
	sample := []gauges.Sample{{Name: "/gc/heap/live:bytes"}}
	gauges.Read(sample)
	live := max(sample[0].Value.Uint64(), 1<<20)
	debug.SetGCPercent(int(min(max(spareMemory*100/live, 50), 5000)))
}
