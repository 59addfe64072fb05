package pair

import (
	"testing"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
)

// The rules of how long a promise may be.
func TestPromises(t *testing.T) {
	const now, hour, lead = lease.Time(1_790_000_000), lease.Time(3600), time.Hour
	active := func(acked lease.Time) *lease.Lease {
		return &lease.Lease{Status: lease.Active, Acked: lease.MomentOf(acked)}
	}
	for _, c := range []struct {
		what   string
		before *lease.Lease
		wanted time.Duration
		want   time.Duration
	}{
		{"a new client gets the lead time", nil, 8 * time.Hour, lead},
		{"or what it wants, if that is less", nil, 10 * time.Minute, 10 * time.Minute},
		{"what both know of, and the lead time", active(now + 2*hour), 8 * time.Hour, 3 * time.Hour},
		{"what is long past counts for nothing", active(now - 9*hour), 8 * time.Hour, lead},
		{"nor does what was known of a lease that is over", &lease.Lease{Status: lease.Expired, Acked: lease.MomentOf(now + 9*hour)},
			8 * time.Hour, lead},
		{"for good, once that is acknowledged", active(lease.Never), option.Infinite, option.Infinite},
	} {
		if got := Promise(now, c.before, c.wanted, lead); got != c.want {
			t.Errorf("%s: %s, want %s", c.what, got, c.want)
		}
	}
	// What is acknowledged after a lease is enough for the full time at half of it.
	wanted := 8 * time.Hour
	acked := active(Desired(now, wanted))
	for _, after := range []time.Duration{lead / 2, wanted / 2} {
		if got := Promise(now.Add(after), acked, wanted, lead); got != wanted {
			t.Errorf("after %s a renewal gets %s", after, got)
		}
	}
	if got := Others(now, &lease.Lease{Told: lease.MomentOf(now + 2*hour)}, lead); got != (now + 3*hour).Add(clockSlack) {
		t.Errorf("the partner's address is free at %d", got)
	}
}
