package plan

import (
	"hash/maphash"
	"iter"
	"maps"
)

const shardCount = 256

var seed = maphash.MakeSeed() // places keys in shards; nothing depends on which

// shards is a map whose copies share what did not change: a copy costs the
// table of shards, and a write the one shard it falls into, so adding one
// reservation to a plan of 100,000 copies a few hundred entries.
type shards[K comparable, V any] struct {
	parts [shardCount]map[K]V
	owned [shardCount]bool
}

// fork returns a copy that may be written; the original must not be any more.
func (s *shards[K, V]) fork() *shards[K, V] {
	return &shards[K, V]{parts: s.parts}
}

func shardOf[K comparable](k K) uint8 { return uint8(maphash.Comparable(seed, k)) }

func (s *shards[K, V]) get(k K) (V, bool) {
	v, ok := s.parts[shardOf(k)][k]
	return v, ok
}

func (s *shards[K, V]) own(k K) map[K]V {
	i := shardOf(k)
	if !s.owned[i] {
		s.owned[i] = true
		if s.parts[i] = maps.Clone(s.parts[i]); s.parts[i] == nil {
			s.parts[i] = map[K]V{}
		}
	}
	return s.parts[i]
}

func (s *shards[K, V]) set(k K, v V) { s.own(k)[k] = v }
func (s *shards[K, V]) remove(k K)   { delete(s.own(k), k) }

// all yields every entry, in no order.
func (s *shards[K, V]) all() iter.Seq2[K, V] {
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
