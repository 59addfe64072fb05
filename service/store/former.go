package store

import (
	"context"
	"fmt"
	"net/netip"

	"yarnpost/core/lease"
)

// ForgetLeases deletes the records of some keys that are as they were before a moment: whatever
// was recorded of a key meanwhile stays, and another process that took the database over loses
// nothing. The history stays.
func (s *Store) ForgetLeases(ctx context.Context, keys []netip.Prefix, before lease.Time) error {
	_, err := s.pool.Exec(ctx, `delete from lease where address = any($1::inet[]) and greatest(expires, changed, heard) < $2
		and exists (select from server where epoch = $3)`, keys, int64(before), s.epoch)
	if err != nil {
		return fmt.Errorf("forget leases that were over before %s: %w", before.Std().Format("2006-01-02 15:04"), err)
	}
	return nil
}
