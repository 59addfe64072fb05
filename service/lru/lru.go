// Package lru is a segmented LRU cache: a map with a bound that forgets what was put longest
// ago. What strangers can fill lives in such maps. Values that proved themselves stand in a
// segment of their own, and stay as long as there is another to forget, so a flood of made-up
// ones pushes no true one out.
package lru

import (
	"iter"
	"math"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// Map is such a map. Its owner lets one goroutine at a time in.
type Map[K comparable, V any] struct {
	most     int
	proved   func(V) bool            // nil: none ever is
	segments [2]*simplelru.LRU[K, V] // those that are not proved, and those that are
}

// New is an empty map that holds most entries at most.
func New[K comparable, V any](most int) *Map[K, V] {
	m := &Map[K, V]{most: most}
	for i := range m.segments {
		m.segments[i], _ = simplelru.NewLRU[K, V](math.MaxInt, nil) // it refuses sizes below one; the bound is of both together
	}
	return m
}

// Proved is New for values of which some proved themselves. Whether one did is asked
// whenever it is put.
func Proved[K comparable, V any](most int, proved func(V) bool) *Map[K, V] {
	m := New[K, V](most)
	m.proved = proved
	return m
}

// Get is what is remembered under a key; the zero value if nothing is. It does not make that
// the newest.
func (m *Map[K, V]) Get(k K) V {
	for _, s := range m.segments {
		if v, ok := s.Peek(k); ok {
			return v
		}
	}
	var none V
	return none
}

// Put remembers a value, as the newest.
func (m *Map[K, V]) Put(k K, v V) {
	in, other := m.segments[0], m.segments[1]
	if m.proved != nil && m.proved(v) {
		in, other = other, in
	}
	if !other.Remove(k) && !in.Contains(k) && m.Size() >= m.most {
		if _, _, ok := m.segments[0].RemoveOldest(); !ok {
			m.segments[1].RemoveOldest()
		}
	}
	in.Add(k, v)
}

// Drop forgets a key.
func (m *Map[K, V]) Drop(k K) {
	for _, s := range m.segments {
		s.Remove(k)
	}
}

// Size is how much is remembered.
func (m *Map[K, V]) Size() int { return m.segments[0].Len() + m.segments[1].Len() }

// All yields everything, oldest first, those that proved themselves last; what is
// yielded may be dropped.
func (m *Map[K, V]) All() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for _, s := range m.segments {
			for _, k := range s.Keys() {
				if v, ok := s.Peek(k); ok && !yield(k, v) {
					return
				}
			}
		}
	}
}
