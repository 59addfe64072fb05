package main

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"time"

	"yarnpost/api"
)

// holdUpRate is how many clients a second come in while something large happens.
const holdUpRate = 250

// pastEvents is how long the history of the day before is that gets closed.
const pastEvents = 3_000_000

const insertPast = `insert into lease_history (at, address, status, client, hardware, hostname, circuit, since, expires)
select date_trunc('day', now() at time zone 'UTC') at time zone 'UTC' - interval '1 day' + n * interval '20 milliseconds', '100.64.0.0'::inet + n % 2000000, 2,
	'\x6901'::bytea || decode(lpad(to_hex(n % 1000000), 12, '0'), 'hex'), decode(lpad(to_hex(n % 1000000), 12, '0'), 'hex'), 'client-' || n % 1000000, '', 0, 0
from generate_series(0::bigint, $1 - 1) n`

// heldUp measures, on a service with a big network, the longest time for which an
// OFFER and an ACK are kept back while each of several large things happens. It
// stands against the longest time while nothing does, in the same run.
func heldUp(ctx context.Context, s *service, load *generator) error {
	runtime.GOMAXPROCS(4) // what asks for the changes, and what is compared with, run beside the generator
	bare, err := newBare(s.dir)
	if err != nil {
		return err
	}
	defer bare.close()
	fmt.Printf("\nLongest wait of %d clients a second for an OFFER and an ACK while …   (bar 20 ms), and at the same time\n", holdUpRate)
	fmt.Println("that of a bare echo loop, and of a bare loop that syncs: what the machine adds by itself")
	c := s.client
	change := func(edits ...api.Edit) func() error {
		return func() error {
			_, err := c.Change(ctx, api.ChangeRequest{Confirm: true, Edits: edits})
			return err
		}
	}
	during := func(what string, do func() error) error {
		done := make(chan error, 1)
		begun := time.Now()
		go func() {
			err := do()
			time.Sleep(500 * time.Millisecond) // what is left to do behind the answer
			done <- err
		}()
		machine := bare.watch()
		var err error
		r := load.openUntil(holdUpRate, func(time.Duration) bool {
			select {
			case err = <-done:
				return true
			default:
				return false
			}
		})
		echo, sync, bareErr := machine()
		if err = errors.Join(err, bareErr); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		fmt.Printf("  %-40s OFFER %6.1f ms   ACK %6.1f ms   bare echo %6.1f ms   sync %6.1f ms   (p99 of all %5.1f ms, lost %d, %.1f s)\n", what,
			ms(r.offerWait), ms(r.ackWait), ms(echo), ms(sync), r.percentile(0.99), r.lost, time.Since(begun).Seconds())
		return nil
	}
	quiet := func() error { time.Sleep(8 * time.Second); return nil }
	if err := s.flush(ctx); err != nil {
		return err
	}
	for range 3 { // warm up: plan, records and this generator
		load.open(time.Second, holdUpRate)
	}
	var many []api.Edit
	for n := range manyScopes {
		many = append(many, reservation(n, reservedEach+1))
	}
	note := func(text string) *string { return &text }
	for _, of := range []struct {
		what string
		do   func() error
	}{
		{"nothing happens", quiet},
		{"10,000 reservations are added in a change", change(many...)},
		{"the defaults get a note", change(api.Edit{Op: "edit", Kind: "defaults", Defaults: &api.DefaultsEdit{Note: note("seen by the bench")}})},
		{"the clients' scope gets another pool",
			change(api.Edit{Op: "edit", Kind: "scope", Name: "bench", Scope: &api.ScopeEdit{Pools: &[]string{"10.0.0.0-10.200.0.255"}}})},
		{"a scope gets a note", change(api.Edit{Op: "edit", Kind: "scope", Name: "scope-00007",
			Scope: &api.ScopeEdit{Note: note("seen by the bench")}})},
	} {
		if err := during(of.what, of.do); err != nil {
			return err
		}
	}

	conn, err := s.database(ctx)
	if err != nil {
		return err
	}
	yesterday := time.Now().UTC().AddDate(0, 0, -1)
	table, from := "lease_history_"+yesterday.Format("20060102"), yesterday.Format(time.DateOnly)
	_, err = conn.Exec(ctx, fmt.Sprintf("create table if not exists %s partition of lease_history for values from ('%s+00') to ('%s+00')",
		table, from, time.Now().UTC().Format(time.DateOnly)))
	if err == nil {
		_, err = conn.Exec(ctx, insertPast, pastEvents)
	}
	conn.Close(ctx)
	if err != nil {
		return fmt.Errorf("insert history: %w", err)
	}
	if err := s.again(ctx, load); err != nil {
		return err
	}
	if err := during(fmt.Sprintf("a day of %d events is closed", pastEvents), func() error { return s.closed(ctx, table) }); err != nil {
		return err
	}

	if conn, err = s.database(ctx); err != nil {
		return err
	}
	ends := time.Now().Add(60 * time.Second)
	_, err = conn.Exec(ctx, "update lease set expires = $1 where address << '100.64.0.0/10' and status = 2", ends.Unix())
	conn.Close(ctx)
	if err != nil {
		return err
	}
	if err := s.again(ctx, load); err != nil {
		return err
	}
	if late := time.Since(ends); late > 0 {
		fmt.Printf("  (the start took %.0f s too long for all of what follows to be seen)\n", late.Seconds())
	}
	time.Sleep(time.Until(ends) - time.Second)
	return during(fmt.Sprintf("%d leases end at once", manyLeases), func() error {
		for {
			now, err := c.Status(ctx)
			if err != nil || now.Active < manyLeases/10 {
				return err
			}
			time.Sleep(time.Second)
		}
	})
}

// flush has the database write out what preparations left behind, and clean up
// behind them, which would be measured as a wait otherwise.
func (s *service) flush(ctx context.Context) error {
	conn, err := s.database(ctx)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	if _, err = conn.Exec(ctx, "vacuum analyze"); err == nil {
		_, err = conn.Exec(ctx, "checkpoint")
	}
	return err
}

// again restarts the service and waits until it serves.
func (s *service) again(ctx context.Context, load *generator) error {
	if err := s.flush(ctx); err != nil {
		return err
	}
	s.stop()
	if err := s.start(); err != nil {
		return err
	}
	if !load.first(2 * time.Minute) {
		return fmt.Errorf("no answer after two minutes")
	}
	return nil
}

// closed waits until a table of the history has both its indexes.
func (s *service) closed(ctx context.Context, table string) error {
	conn, err := s.database(ctx)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for range 1200 {
		var n int
		err := conn.QueryRow(ctx,
			"select count(*) from pg_index where indrelid = to_regclass($1) and indisvalid and indexrelid in (to_regclass($2), to_regclass($3))",
			table, table+"_address", table+"_hardware").Scan(&n)
		if err != nil || n == 2 {
			return err
		}
		time.Sleep(250 * time.Millisecond)
	}
	return fmt.Errorf("%s was not closed", table)
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
