package node

import (
	"testing"
	"time"

	"yarnpost/core/lease"
)

// How a record is taken that was made under a clock that was ahead.
func TestRecordsAsTheyCanBe(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	ahead := lease.Lease{Status: lease.Active, Heard: now + 86400, Since: now + 3600, Changed: now - 5, Granted: time.Hour,
		Expires: now + 90000}
	if l := sane(&ahead, now); l.Heard != now || l.Since != now || l.Changed != now-5 || l.Expires != now+3600 {
		t.Errorf("one of tomorrow: %+v", l)
	}
	for name, l := range map[string]lease.Lease{
		"a moment ahead":        {Status: lease.Active, Heard: now + 60, Granted: time.Hour, Expires: now + 3660},
		"one that never ends":   {Status: lease.Active, Heard: now + 86400, Expires: lease.Never},
		"one that is over":      {Status: lease.Expired, Heard: now + 86400, Expires: now + 90000},
		"as all others are":     {Status: lease.Active, Heard: now - 60, Granted: time.Hour, Expires: now + 3540},
		"long, and heard today": {Status: lease.Active, Heard: now - 60, Granted: time.Hour, Expires: now + 900000},
	} {
		was := l
		if got := sane(&l, now); *got != was {
			t.Errorf("%s becomes %+v", name, got)
		}
	}
}
