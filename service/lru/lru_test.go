package lru

import "testing"

// A flood of made-up values pushes out one another, and none that proved itself.
func TestProvedStay(t *testing.T) {
	m := Proved[int, bool](10, func(v bool) bool { return v })
	m.Put(1, true)
	m.Put(2, false)
	m.Put(2, true) // proves itself later
	for n := range 1000 {
		m.Put(100+n, false)
	}
	if !m.Get(1) || !m.Get(2) || m.Size() != 10 {
		t.Errorf("after a flood 1 is there: %v, 2: %v; %d in all", m.Get(1), m.Get(2), m.Size())
	}
	for n := range 20 { // a map of nothing but proved ones forgets, too
		m.Put(2000+n, true)
	}
	if m.Size() != 10 || m.Get(1) || !m.Get(2019) {
		t.Errorf("%d are there, the oldest: %v, the newest: %v", m.Size(), m.Get(1), m.Get(2019))
	}
	m.Drop(2019)
	n := 0
	for k := range m.All() {
		m.Drop(k)
		n++
	}
	if n != 9 || m.Size() != 0 {
		t.Errorf("%d were yielded, %d are left", n, m.Size())
	}
}
