package httpd

import (
	"slices"
	"testing"

	"yarnpost/core/lease"
)

func TestInside(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	for _, c := range []struct {
		name                string
		ends                []lease.Time
		endless, begin, end int
		last                lease.Time
	}{
		{"nobody", nil, 0, 0, 0, 0},
		{"one", []lease.Time{now + 3000}, 0, 1, 0, now + 3000},
		{"some, and one for good", []lease.Time{now + 100, now + 1500, now + 3000, lease.Never}, 1, 4, 1, now + 3000},
		{"for good alone", []lease.Time{lease.Never}, 1, 0, 0, 0},
		{"about to end", []lease.Time{now + 1}, 0, 1, 0, now + 1},
	} {
		v := insideView(c.ends, now)
		if v.Clients != len(c.ends) || v.Endless != c.endless || (v.Last == nil) != (c.last == 0) || v.Last != nil &&
			!v.Last.Equal(c.last.Std()) {
			t.Errorf("%s: %+v", c.name, v)
		}
		if c.last == 0 {
			if len(v.Left) != 0 {
				t.Errorf("%s: %v", c.name, v.Left)
			}
			continue
		}
		if len(v.Left) != leftSteps+1 || v.Left[0] != c.begin || v.Left[leftSteps] != c.end || !slices.IsSortedFunc(v.Left, func(a,
			b int) int {
			return b - a
		}) {
			t.Errorf("%s: %v", c.name, v.Left)
		}
	}
}
