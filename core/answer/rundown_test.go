package answer

import (
	"testing"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// Leases run down until a moment: none reaches beyond it, but that each lasts ten minutes at
// least; after it they are as long as ever.
func TestRunDown(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	f.edit(func(s *plan.Scope) {
		s.Lease, s.RunDown = plan.Duration(8*time.Hour), time.Unix(int64(f.now)+12*3600, 0)
	})
	a := f.get(1)
	begin := f.now
	for _, c := range []struct{ at, lasts uint32 }{{3600, 8 * 3600}, {5 * 3600, 7 * 3600}, {11 * 3600, 3600}, {12*3600 - 60, 600},
		{12*3600 + 300, 8 * 3600}} {
		f.now = begin + lease.Time(c.at)
		m := f.message(dhcp4.Request, 1)
		m.CIAddr = a
		d := f.do(m)
		f.expect("a renewal", d, Acknowledged, "", a.String())
		if s, _ := said(d).Options.Uint32(option.AddressTime); s != c.lasts {
			t.Errorf("after %d s it gets %d s, not %d", c.at, s, c.lasts)
		}
	}
}
