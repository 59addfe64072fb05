// Package forgetful is a map with a bound: what is full forgets what was put or
// touched longest ago. What strangers can fill lives in such maps.
package forgetful

import (
	"container/list"
	"iter"
)

// Map is such a map. Its owner lets one goroutine at a time in.
type Map[K comparable, V any] struct {
	most  int
	at    map[K]*list.Element
	order *list.List // oldest first
}

type remembered[K comparable, V any] struct {
	key   K
	value V
}

// New is an empty map that holds most entries at most.
func New[K comparable, V any](most int) *Map[K, V] {
	return &Map[K, V]{most: most, at: map[K]*list.Element{}, order: list.New()}
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
	if e := f.at[k]; e != nil {
		e.Value.(*remembered[K, V]).value = v
		f.order.MoveToBack(e)
		return
	}
	if len(f.at) >= f.most {
		f.Drop(f.order.Front().Value.(*remembered[K, V]).key)
	}
	f.at[k] = f.order.PushBack(&remembered[K, V]{k, v})
}

// Drop forgets a key.
func (f *Map[K, V]) Drop(k K) {
	if e := f.at[k]; e != nil {
		f.order.Remove(e)
		delete(f.at, k)
	}
}

// Size is how much is remembered.
func (f *Map[K, V]) Size() int { return len(f.at) }

// All yields everything, oldest first; what is yielded may be dropped.
func (f *Map[K, V]) All() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for e := f.order.Front(); e != nil; {
			next, r := e.Next(), e.Value.(*remembered[K, V])
			if !yield(r.key, r.value) {
				return
			}
			e = next
		}
	}
}
