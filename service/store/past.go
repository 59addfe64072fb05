package store

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
)

// Event is one line of history: what became of a lease at a moment. Of the lease
// it has what the history keeps.
type Event struct {
	At time.Time
	lease.Lease
}

// Past says which part of history is wanted.
type Past struct {
	Key      netip.Prefix  // of this address or prefix, if valid
	Hardware addr.Hardware // of this hardware address, unless empty
	Client   lease.Client  // of this client, unless empty
	DUID     addr.DUID     // of the client with this DUID, unless empty
	Hostname string        // of clients that said this host name, unless empty; case does not matter
	Before   time.Time     // only what happened before
	Limit    int
}

// History lists what happened, newest first. That a lease ended by time is not on
// record, but follows from it: such lines are added.
func (s *Store) History(ctx context.Context, q Past, now time.Time) ([]Event, error) {
	out, err := s.written(ctx, q)
	if err == nil {
		out, err = s.withEndings(ctx, q, out, now)
	}
	if err != nil {
		return nil, fmt.Errorf("read history: %w", err)
	}
	return out, nil
}

// withEndings adds a line for each lease whose time was over before anything else
// became of its address.
func (s *Store) withEndings(ctx context.Context, q Past, written []Event, now time.Time) ([]Event, error) {
	if q.Before.Before(now) {
		now = q.Before
	}
	next := map[netip.Prefix]Event{} // the line behind, by address
	var out, last []Event            // last: of leases behind which nothing is known
	for _, e := range written {
		behind, known := next[e.Prefix]
		next[e.Prefix] = e
		end := e.Expires.Std()
		if out = append(out, e); e.Status != lease.Active || !end.After(e.At) {
			continue
		}
		ended := e
		ended.At, ended.Status, ended.Given = end, lease.Expired, 0
		switch {
		case known && behind.At.After(end) && behind.Status != lease.Expired:
			out = append(out, ended)
		case !known && end.Before(now):
			last = append(last, ended)
		}
	}
	if len(last) > 0 && !q.Key.IsValid() { // another name, or another client, may have come before the end
		var err error
		if last, err = s.notFollowed(ctx, last, next); err != nil {
			return nil, err
		}
	}
	out = append(out, last...)
	slices.SortStableFunc(out, func(a, b Event) int { return b.At.Compare(a.At) })
	return out[:min(len(out), q.Limit)], nil
}

// notFollowed keeps those endings before which nothing else became of the address.
func (s *Store) notFollowed(ctx context.Context, endings []Event, next map[netip.Prefix]Event) (kept []Event, err error) {
	for _, e := range endings {
		var followed bool
		err := s.pool.QueryRow(ctx, "select exists (select from lease_history where address = $1 and at > $2 and at <= $3)", e.Prefix,
			next[e.Prefix].At, e.At).Scan(&followed)
		if err != nil {
			return nil, err
		}
		if !followed {
			kept = append(kept, e)
		}
	}
	return kept, nil
}

// written lists what is on record, newest first.
func (s *Store) written(ctx context.Context, q Past) ([]Event, error) {
	where, args := "at < $1", []any{q.Before, q.Limit}
	for _, w := range []struct {
		column string
		value  any
		set    bool
	}{{"address", q.Key, q.Key.IsValid()}, {"hardware", []byte(q.Hardware), q.Hardware != ""},
		{"client", q.Client.Append(nil), q.Client.Known()},
		{"lower(hostname)", strings.ToLower(q.Hostname), q.Hostname != ""},
		{duidColumn, []byte(q.DUID), q.DUID != ""}} {
		if w.set {
			args = append(args, w.value)
			where += fmt.Sprintf(" and %s = $%d", w.column, len(args))
		}
	}
	rows, err := s.pool.Query(ctx, "select at, "+pastColumns+" from lease_history where "+where+" order by at desc limit $2", args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(pgx.CollectableRow) (Event, error) { return eventOf(rows) })
}

// duidColumn is the DUID of a client, as its key has it (lease.Client.Append): behind a letter and an
// IAID, or, with IPv4, in an identifier of type 255 (RFC 4361).
const duidColumn = `case when substr(client, 1, 2) = '\x69ff' then substr(client, 7)
	when substr(client, 1, 1) in ('n', 'p', 'r') then substr(client, 6) end`

// eventOf reads a row of history: its moment and the columns of pastColumns.
func eventOf(rows pgx.Rows) (e Event, err error) {
	raw := rows.RawValues()
	if err := rows.Conn().TypeMap().Scan(pgtype.TimestamptzOID, pgx.BinaryFormatCode, raw[0], &e.At); err != nil {
		return e, err
	}
	n := 0
	for i := range fields {
		if f := &fields[i]; f.past {
			n++
			if err := f.get(&e.Lease, raw[n]); err != nil {
				return e, fmt.Errorf("column %s: %w", f.name, err)
			}
		}
	}
	return e, nil
}

// EachPast reads what happened in a span, in the order of time; of the subnets that
// are named, if any are.
func (s *Store) EachPast(ctx context.Context, from, to time.Time, subnets []netip.Prefix, each func(Event)) error {
	return s.eachPast(ctx, from, to, lease.Never, subnets, each)
}

// EachBegun does the same, for what clients had at the beginning of the span already.
func (s *Store) EachBegun(ctx context.Context, from, to time.Time, subnets []netip.Prefix, each func(Event)) error {
	return s.eachPast(ctx, from, to, lease.At(from), subnets, each)
}

func (s *Store) eachPast(ctx context.Context, from, to time.Time, begun lease.Time, subnets []netip.Prefix, each func(Event)) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("read history: %w", err)
	}
	defer conn.Release()
	where, args := "", []any{from, to, int64(begun)}
	if len(subnets) > 0 {
		where, args = " and address <<= any($4)", append(args, subnets)
	}
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "set local statement_timeout = '10min'"); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, "select at, "+pastColumns+" from lease_history where at >= $1 and at < $2 and since <= $3"+where+" order by at", args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			e, err := eventOf(rows)
			if err != nil {
				return err
			}
			each(e)
		}
		return rows.Err()
	})
	if err != nil {
		return fmt.Errorf("read history: %w", err)
	}
	return nil
}
