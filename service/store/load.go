package store

import (
	"context"
	"fmt"

	"yarnpost/core/lease"
)

// LoadLeases gives every recorded lease to put, telling progress now and then:
// active ones in any order, then the others by when they ended. Reading and
// putting go side by side; reading may run far ahead, since what is read is kept
// anyway.
func (s *Store) LoadLeases(ctx context.Context, put func(*lease.Lease), progress func(done int)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	parts, failed := make(chan []*lease.Lease, 1000), make(chan error, 1)
	go func() {
		defer close(parts)
		for _, which := range []string{"where status = $1", "where status <> $1 order by changed"} {
			if err := s.readLeases(ctx, which, parts); err != nil {
				failed <- fmt.Errorf("load leases: %w", err)
				return
			}
		}
	}()
	n := 0
	for part := range parts {
		for i := range part {
			put(part[i])
		}
		if before := n; (n+len(part))/100_000 > before/100_000 {
			progress(n + len(part))
		}
		n += len(part)
	}
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

// readLeases hands on leases a part at a time.
func (s *Store) readLeases(ctx context.Context, which string, parts chan<- []*lease.Lease) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "set statement_timeout = 0"); err != nil {
		return err
	}
	defer func() { _, _ = conn.Exec(ctx, "reset statement_timeout") }() // one that fails is not used again
	rows, err := conn.Query(ctx, "select "+leaseColumns+" from lease "+which, int16(lease.Active))
	if err != nil {
		return err
	}
	defer rows.Close()
	const partSize = 1000
	var part []*lease.Lease
	for rows.Next() {
		if part == nil {
			part = make([]*lease.Lease, 0, partSize)
		}
		l, err := leaseOf(rows.RawValues())
		if err != nil {
			return err
		}
		part = append(part, l)
		if len(part) == partSize {
			parts <- part
			part = nil
		}
	}
	parts <- part
	return rows.Err()
}
