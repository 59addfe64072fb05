// Package calendar is a calendar queue: keys by the second in which something has to happen to
// them. Those of a second are linked through their entries by number, so that there is no
// pointer among a million of them.
package calendar

import (
	"slices"

	"yarnpost/core/lease/internal/chunk"
)

// Queue holds keys by second. It takes New to make one.
type Queue[K any] struct {
	at      map[int64]list
	entries chunk.List[entry[K]]
	free    uint32   // list of entries that can be used again
	swept   int64    // all seconds up to here were taken out
	late    []second // taken out, and not looked at yet
}

// list is where the first and the last of a list stand, as number + 1.
type list struct{ first, last uint32 }

type entry[K any] struct {
	key  K
	next uint32 // in the list, as number + 1
}

type second struct {
	at   int64
	next uint32 // entry to be looked at; never 0
}

func (d *Queue[K]) entry(number uint32) *entry[K] { return d.entries.At(int(number - 1)) }

// Add puts a key behind the others of a second.
func (d *Queue[K]) Add(at int64, k K) {
	n := d.free
	if n == 0 {
		d.entries.Add(entry[K]{key: k})
		n = uint32(d.entries.Size())
	} else {
		e := d.entry(n)
		d.free = e.next
		*e = entry[K]{key: k}
	}
	c := d.at[at]
	if c.last == 0 {
		c.first = n
	} else {
		d.entry(c.last).next = n
	}
	c.last = n
	d.at[at] = c
}

// Next takes out the first key of what is late; there must be one.
func (d *Queue[K]) Next() (k K, at int64) {
	of := &d.late[0]
	n := of.next
	e := d.entry(n)
	k, at, of.next = e.key, of.at, e.next
	if e.next, d.free = d.free, n; of.next == 0 {
		d.late = d.late[1:]
	}
	return k, at
}

// New makes a queue of which all seconds up to now are past.
func New[K any](now int64) Queue[K] { return Queue[K]{at: map[int64]list{}, swept: now} }

// Swept is the second up to which all were taken out: a key is put behind it.
func (d *Queue[K]) Swept() int64 { return d.swept }

// Size counts the keys that Next has not given, and those that it gave and whose room was not
// used again.
func (d *Queue[K]) Size() int { return d.entries.Size() }

// Late reports whether keys were taken out that Next has not given yet.
func (d *Queue[K]) Late() bool { return len(d.late) > 0 }

// Sweep takes out a second whose time has come, and reports whether there was one.
func (d *Queue[K]) Sweep(now int64) bool {
	if now-d.swept > int64(len(d.at))+60 { // after a long sleep, look at what there is
		var past []int64
		for at := range d.at {
			if at <= now {
				past = append(past, at)
			}
		}
		slices.Sort(past)
		for _, at := range past {
			d.take(at)
		}
		d.swept = now
		return len(d.late) > 0
	}
	for d.swept < now {
		d.swept++
		if d.take(d.swept); len(d.late) > 0 {
			return true
		}
	}
	return false
}

func (d *Queue[K]) take(at int64) {
	if c, any := d.at[at]; any {
		d.late = append(d.late, second{at, c.first})
		delete(d.at, at)
	}
}
