package observe

import (
	"time"

	"yarnpost/core/lease"
)

// Window counts events by the minute over the last day.
type Window struct {
	minutes [24 * 60]int
	at      int64 // minute of the newest count
}

// Add counts one event.
func (w *Window) Add(now lease.Time) {
	w.roll(now)
	w.minutes[w.at%int64(len(w.minutes))]++
}

func (w *Window) roll(now lease.Time) {
	minute := int64(now) / 60
	for ; w.at < minute; w.at++ {
		if minute-w.at > int64(len(w.minutes)) {
			w.at = minute - int64(len(w.minutes))
		}
		w.minutes[(w.at+1)%int64(len(w.minutes))] = 0
	}
}

// Sum counts the events of the last span, up to a day.
func (w *Window) Sum(now lease.Time, span time.Duration) int {
	w.roll(now)
	n := 0
	for i := range min(int64(span/time.Minute), int64(len(w.minutes))) {
		if m := w.at - i; m >= 0 {
			n += w.minutes[m%int64(len(w.minutes))]
		}
	}
	return n
}
