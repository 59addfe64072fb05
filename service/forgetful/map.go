// Package forgetful is a map with a bound: what is full forgets what was put or
// touched longest ago. What strangers can fill lives in such maps. Values that proved
// themselves stay as long as there is another to forget, so a flood of made-up ones
// pushes no true one out.
package forgetful

import (
	"container/list"
	"iter"
)

// Map is such a map. Its owner lets one goroutine at a time in.
type Map[K comparable, V any] struct {
	most   int
	at     map[K]*list.Element
	proved func(V) bool // nil: none ever is
	order  [2]list.List // oldest first: those that are not proved, and those that are
}

type remembered[K comparable, V any] struct {
	key   K
	value V
	in    int // which order it stands in
}

// New is an empty map that holds most entries at most.
func New[K comparable, V any](most int) *Map[K, V] {
	return &Map[K, V]{most: most, at: map[K]*list.Element{}}
}

// Proved is New for values of which some proved themselves. Whether one did is asked
// whenever it is put.
func Proved[K comparable, V any](most int, proved func(V) bool) *Map[K, V] {
	m := New[K, V](most)
	m.proved = proved
	return m
}

// Get is what is remembered under a key; the zero value if nothing is.
func (f *Map[K, V]) Get(k K) (v V) {
	if e := f.at[k]; e != nil {
		v = e.Value.(*remembered[K, V]).value
	}
	return v
}

// Put remembers a value, as the newest.
func (f *Map[K, V]) Put(k K, v V) {
	in := 0
	if f.proved != nil && f.proved(v) {
		in = 1
	}
	if e := f.at[k]; e != nil {
		r := e.Value.(*remembered[K, V])
		r.value = v
		if r.in == in {
			f.order[in].MoveToBack(e)
			return
		}
		f.order[r.in].Remove(e)
		r.in = in
		f.at[k] = f.order[in].PushBack(r)
		return
	}
	if len(f.at) >= f.most {
		oldest := f.order[0].Front()
		if oldest == nil {
			oldest = f.order[1].Front()
		}
		f.Drop(oldest.Value.(*remembered[K, V]).key)
	}
	f.at[k] = f.order[in].PushBack(&remembered[K, V]{k, v, in})
}

// Drop forgets a key.
func (f *Map[K, V]) Drop(k K) {
	if e := f.at[k]; e != nil {
		f.order[e.Value.(*remembered[K, V]).in].Remove(e)
		delete(f.at, k)
	}
}

// Size is how much is remembered.
func (f *Map[K, V]) Size() int { return len(f.at) }

// All yields everything, oldest first, those that proved themselves last; what is
// yielded may be dropped.
func (f *Map[K, V]) All() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for i := range f.order {
			for e := f.order[i].Front(); e != nil; {
				next, r := e.Next(), e.Value.(*remembered[K, V])
				if !yield(r.key, r.value) {
					return
				}
				e = next
			}
		}
	}
}
