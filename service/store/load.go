package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
)

const leaseColumns = "address, status, reserved, client, hardware, hostname, vendor, circuit, relay, since, changed, expires, heard, granted, revision, given, nudge"

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
	defer conn.Exec(ctx, "reset statement_timeout")
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
		part = append(part, leaseOf(rows.RawValues()))
		if len(part) == partSize {
			parts <- part
			part = nil
		}
	}
	parts <- part
	return rows.Err()
}

// leaseOf reads a row of leaseColumns in PostgreSQL's binary format: integers
// big-endian; an address behind four octets on its family. Reading rows by
// reflection takes several times as long, and a start waits for it.
func leaseOf(row [][]byte) *lease.Lease {
	n := 0
	next := func() []byte { n++; return row[n-1] }
	number := func() int64 { return int64(binary.BigEndian.Uint64(next())) }
	inet := func() netip.Addr {
		b := next()
		if len(b) < 4 { // null
			return netip.Addr{}
		}
		a, _ := netip.AddrFromSlice(b[4:])
		return a
	}
	moment := func() lease.Time { return lease.Time(number()) }
	return &lease.Lease{
		Address: inet(), Status: lease.Status(binary.BigEndian.Uint16(next())), Reserved: next()[0] == 1, Client: lease.Client(next()), Hardware: addr.Hardware(next()),
		Hostname: string(next()), Vendor: string(next()), Circuit: string(next()), Relay: inet(), Since: moment(), Changed: moment(), Expires: moment(), Heard: moment(),
		Granted: time.Duration(number()) * time.Second, Revision: number(), Given: uint64(number()), Nudge: string(next()),
	}
}
