// Package cowmap is a copy-on-write map: copies share what did not change. A copy costs a table
// of 256 parts, and a write the one part that it falls into, so a write to a copy of a map of
// 100,000 copies a few hundred entries. A map that was copied must not be written any more.
package cowmap

import (
	"hash/maphash"
	"iter"
	"maps"
)

const parts = 256

var seed = maphash.MakeSeed() // places keys in parts; nothing depends on which

// Map is such a map. The zero value is empty, and may be written.
type Map[K comparable, V any] struct {
	parts [parts]map[K]V
	owned [parts]bool
}

// Fork returns a copy that may be written; the original must not be any more.
func (s *Map[K, V]) Fork() *Map[K, V] {
	return &Map[K, V]{parts: s.parts}
}

func partOf[K comparable](k K) uint8 { return uint8(maphash.Comparable(seed, k)) }

// Get is the value of a key; ok is false if there is none.
func (s *Map[K, V]) Get(k K) (V, bool) {
	v, ok := s.parts[partOf(k)][k]
	return v, ok
}

func (s *Map[K, V]) own(k K) map[K]V {
	i := partOf(k)
	if !s.owned[i] {
		s.owned[i] = true
		if s.parts[i] = maps.Clone(s.parts[i]); s.parts[i] == nil {
			s.parts[i] = map[K]V{}
		}
	}
	return s.parts[i]
}

// Set gives a key a value.
func (s *Map[K, V]) Set(k K, v V) { s.own(k)[k] = v }

// Remove takes a key out.
func (s *Map[K, V]) Remove(k K) { delete(s.own(k), k) }

// All yields every entry, in no order.
func (s *Map[K, V]) All() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for _, part := range s.parts {
			for k, v := range part {
				if !yield(k, v) {
					return
				}
			}
		}
	}
}
