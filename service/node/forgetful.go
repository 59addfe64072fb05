package node

import (
	"container/list"
	"iter"
)

// forgetful is a map with a bound: what is full forgets what was put or touched
// longest ago.
type forgetful[K comparable, V any] struct {
	most  int
	at    map[K]*list.Element
	order *list.List // oldest first
}

type remembered[K comparable, V any] struct {
	key   K
	value V
}

func newForgetful[K comparable, V any](most int) *forgetful[K, V] {
	return &forgetful[K, V]{most: most, at: map[K]*list.Element{}, order: list.New()}
}

// get is what is remembered under a key; the zero value if nothing is.
func (f *forgetful[K, V]) get(k K) (v V) {
	if e := f.at[k]; e != nil {
		v = e.Value.(*remembered[K, V]).value
	}
	return v
}

// put remembers a value, as the newest.
func (f *forgetful[K, V]) put(k K, v V) {
	if e := f.at[k]; e != nil {
		e.Value.(*remembered[K, V]).value = v
		f.order.MoveToBack(e)
		return
	}
	if len(f.at) >= f.most {
		f.drop(f.order.Front().Value.(*remembered[K, V]).key)
	}
	f.at[k] = f.order.PushBack(&remembered[K, V]{k, v})
}

func (f *forgetful[K, V]) drop(k K) {
	if e := f.at[k]; e != nil {
		f.order.Remove(e)
		delete(f.at, k)
	}
}

func (f *forgetful[K, V]) size() int { return len(f.at) }

// all yields everything, oldest first; what is yielded may be dropped.
func (f *forgetful[K, V]) all() iter.Seq2[K, V] {
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
