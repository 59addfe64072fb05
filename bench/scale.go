package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"yarnpost/api"
	"yarnpost/client"
)

// What a big network has: scopes of 24 bits from 100.64.0.0 on, each with some
// reservations and leases.
const (
	manyScopes   = 10_000
	reservedEach = 10
	manyLeases   = 100 * manyScopes
)

// insertMany puts leases of made-up clients into the database of a service that
// stands still.
const insertMany = `insert into lease (address, status, reserved, client, hardware, hostname, vendor, circuit, relay, since, changed, expires, heard, granted, revision)
select '100.64.0.0'::inet + n / 100 * 256 + 100 + n % 100, 2, false, '\x6901'::bytea || hw, hw, 'client-' || to_char(n * 7919::bigint % 1000003, 'FM0000000'), 'maker ' || n % 40,
	convert_to('sw' || n % 500 || '/0/1', 'UTF8'), '127.0.0.1', t - n % 90000, t - n % 90000, t + 100000 + n % 90000, t - n % 3600, 190000, 1
from (select n, '\x02'::bytea || decode(lpad(to_hex((n * 2654435761) % 1099511627776), 10, '0'), 'hex') as hw, extract(epoch from now())::bigint as t
	from generate_series(0::bigint, $1 - 1) n) x`

// atScale starts a service that finds many scopes, reservations and leases in
// its database, adds a reservation, and asks it for pages of the lease table.
func atScale() error {
	s, err := newService()
	if err != nil {
		return err
	}
	defer s.close()
	ctx := context.Background()
	if err := defineMany(ctx, s.client); err != nil {
		return err
	}
	conn, err := s.database(ctx)
	if err == nil {
		_, err = conn.Exec(ctx, insertMany, manyLeases)
		conn.Close(ctx)
	}
	if err != nil {
		return fmt.Errorf("insert leases: %w", err)
	}
	s.stop()
	begun := time.Now()
	if err := s.start(); err != nil {
		return err
	}
	load, err := newGenerator(s.udp, false)
	if err != nil {
		return err
	}
	if !load.first(2 * time.Minute) {
		text, _ := os.ReadFile(filepath.Join(s.dir, "log"))
		return fmt.Errorf("no answer after two minutes:\n%s", text)
	}
	fmt.Printf("\nStart with %d leases in the database, until the first answer: %.1f s   (bar 10 s, goal 3 s)\n", manyLeases,
		time.Since(begun).Seconds())
	if err := addReservations(ctx, s.client); err != nil {
		return err
	}
	if err := pages(ctx, s.client); err != nil {
		return err
	}
	if err := audited(ctx, s, load); err != nil {
		return err
	}
	if err := sampled(ctx, s); err != nil {
		return err
	}
	return heldUp(ctx, s, load)
}

// reservation is number r of scope n.
func reservation(n, r int) api.Edit {
	scope, name := fmt.Sprintf("scope-%05d", n), fmt.Sprintf("reserved-%05d-%02d", n, r)
	address, hw := fmt.Sprintf("100.%d.%d.%d", 64+n>>8, n&255, 2+r), fmt.Sprintf("02:ff:%02x:%02x:00:%02x", n>>8, n&255, r)
	return api.Edit{Op: "add", Kind: "reservation", Name: name,
		Reservation: &api.ReservationEdit{Scope: &scope, Address: &address, Hardware: &hw}}
}

// defineMany adds the scopes and their reservations, 500 scopes a change.
func defineMany(ctx context.Context, c *client.Client) error {
	begun := time.Now()
	mode, lease := "serving", "8h"
	for n := 0; n < manyScopes; {
		var edits []api.Edit
		for ; len(edits) < 500*(1+reservedEach); n++ {
			subnet := fmt.Sprintf("100.%d.%d.0/24", 64+n>>8, n&255)
			edits = append(edits, api.Edit{Op: "add", Kind: "scope", Name: fmt.Sprintf("scope-%05d", n),
				Scope: &api.ScopeEdit{Subnet: &subnet, Pools: &[]string{"all"}, Mode: &mode, Lease: &lease,
					Options: map[string]string{"router": fmt.Sprintf("100.%d.%d.1", 64+n>>8, n&255)}}})
			for r := range reservedEach {
				edits = append(edits, reservation(n, r))
			}
		}
		if _, err := c.Change(ctx, api.ChangeRequest{Edits: edits}); err != nil {
			return fmt.Errorf("define scopes: %w", err)
		}
	}
	fmt.Printf("\n%d scopes with %d reservations defined in %.1f s, %d scopes a change\n", manyScopes, manyScopes*reservedEach,
		time.Since(begun).Seconds(), 500)
	return nil
}

// addReservations times changes of one reservation each, until they are served.
func addReservations(ctx context.Context, c *client.Client) error {
	var took []time.Duration
	for n := range 20 {
		begun := time.Now()
		if _, err := c.Change(ctx, api.ChangeRequest{Edits: []api.Edit{reservation(n*100, reservedEach)}}); err != nil {
			return err
		}
		took = append(took, time.Since(begun))
	}
	fmt.Printf("One reservation added to them, until served: p50 %.0f ms, p95 %.0f ms   (bar 50 ms, goal 10 ms)\n", percentile(took, 0.5),
		percentile(took, 0.95))
	return nil
}

// pages times pages of the lease table, by every column and some searches.
func pages(ctx context.Context, c *client.Client) error {
	var took []time.Duration
	slowest, at := time.Duration(0), ""
	for _, sort := range []string{"address", "hardware", "hostname", "vendor", "scope", "status", "since", "expires", "heard", "changed"} {
		for _, search := range []string{"", "client-00012", "02:00", "maker 7", "100.65.7.", "sw49"} {
			after := ""
			for range 2 {
				begun := time.Now()
				page, err := c.Leases(ctx, client.LeaseQuery{Sort: sort, Search: search, Limit: 50, After: after})
				if err != nil {
					return err
				}
				took = append(took, time.Since(begun))
				if d := took[len(took)-1]; d > slowest {
					slowest, at = d, fmt.Sprintf("sort by %s, search %q", sort, search)
				}
				if after = page.Next; after == "" {
					break
				}
			}
		}
	}
	fmt.Printf("A page of them, any sort, with and without a search (%d pages): p50 %.0f ms, p95 %.0f ms   (bar 200 ms, goal 50 ms); slowest %d ms: %s\n",
		len(took), percentile(took, 0.5), percentile(took, 0.95), slowest.Milliseconds(), at)
	return nil
}
