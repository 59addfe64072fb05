package leaseadmin

import (
	"net/netip"
	"testing"

	"yarnpost/core/lease"
)

// What may be cleared.
func TestClearable(t *testing.T) {
	a := netip.MustParseAddr("10.77.0.7")
	const now = lease.Time(1_790_000_000)
	for status, can := range map[lease.Status]bool{lease.Active: false, lease.Expired: false, lease.Free: false, lease.Abandoned: true} {
		if err := clearable(lease.Host(a), &lease.Lease{Prefix: lease.Host(a), Status: status, Expires: now + 60}); (err == nil) != can {
			t.Errorf("%s: %v", status, err)
		}
	}
	if clearable(lease.Host(a), nil) == nil {
		t.Error("an address without a record can be cleared")
	}
	if clearable(lease.Host(a), &lease.Lease{Status: lease.Released, Client: lease.ByIdentifier([]byte{1, 2}), Expires: now}) != nil {
		t.Error("an address that is kept from others cannot be cleared")
	}
}
