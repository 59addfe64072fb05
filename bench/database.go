package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/service/journal"
	"yarnpost/service/store"
)

// another makes one more database with the service's tables, in the same
// cluster.
func (s *service) another(ctx context.Context, name string) (records *store.Store, dsn string, err error) {
	conn, err := s.database(ctx)
	if err != nil {
		return nil, "", err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "create database "+name); err != nil {
		return nil, "", err
	}
	dsn = strings.Replace(s.dsn(), "/postgres?", "/"+name+"?", 1)
	if records, err = store.Open(ctx, dsn); err != nil {
		return nil, "", err
	}
	if err := records.KeepHistory(ctx, time.Now()); err != nil {
		records.Close()
		return nil, "", err
	}
	return records, dsn, nil
}

// databaseTime is the processor time that the database has used, in ticks of
// the kernel's clock: of its first process, of those that live, and of those
// that ended.
func (s *service) databaseTime() (float64, error) {
	text, err := os.ReadFile(filepath.Join(s.dir, "postgres", "postmaster.pid"))
	if err != nil {
		return 0, err
	}
	first, _, _ := strings.Cut(string(text), "\n")
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		return 0, err
	}
	var ticks float64
	for _, path := range stats {
		text, err := os.ReadFile(path)
		if err != nil {
			continue // it ended
		}
		pid, rest, _ := strings.Cut(string(text), " ")
		f := strings.Fields(rest[strings.LastIndexByte(rest, ')')+
			1:]) // state, parent, …; 11 and 12 are its time, 13 and 14 that of its children
		last := 13
		if pid == first {
			last = 15
		} else if f[1] != first {
			continue
		}
		for _, t := range f[11:last] {
			n, _ := strconv.ParseFloat(t, 64)
			ticks += n
		}
	}
	return ticks, nil
}

// logged is how many octets the database has written ahead since it began.
func (s *service) logged() (octets int64, err error) {
	ctx := context.Background()
	conn, err := s.database(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	err = conn.QueryRow(ctx, "select (pg_current_wal_lsn() - '0/0')::bigint").Scan(&octets)
	return octets, err
}

// syncing is the least that makes arrivals durable: what has arrived meanwhile is
// written to a file that has its blocks already, and synced. It gives the latency
// of each arrival, counted from when it was due.
func syncing(dir string, span time.Duration, rate float64, octets int) ([]time.Duration, error) {
	const size = 16 << 20
	f, err := os.Create(filepath.Join(dir, "syncing"))
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	buf := make([]byte, size)
	if _, err := f.Write(buf); err != nil {
		return nil, err
	}
	if err := f.Sync(); err != nil {
		return nil, err
	}
	var took []time.Duration
	due := func(n int) time.Duration { return time.Duration(float64(n) / rate * float64(time.Second)) }
	at := 0
	for begin := time.Now(); time.Since(begin) < span; {
		arrived := int(time.Since(begin).Seconds() * rate)
		if arrived <= len(took) {
			time.Sleep(due(len(took)+1) - time.Since(begin))
			continue
		}
		n := min((arrived-len(took))*octets, size)
		if at+n > size {
			at = 0
		}
		if _, err := f.WriteAt(buf[:n], int64(at)); err != nil {
			return nil, err
		}
		if err := syscall.Fdatasync(int(f.Fd())); err != nil {
			return nil, err
		}
		at += n
		for end := time.Since(begin); len(took) < arrived; {
			took = append(took, end-due(len(took)))
		}
	}
	return took, nil
}

// bareUpsert records leases with their history, a batch in one statement, and
// nothing else.
const bareUpsert = `with r as (
	select * from unnest($1::inet[], $2::smallint[], $3::bool[], $4::bytea[], $5::bytea[], $6::text[], $7::text[], $8::bytea[],
		$9::inet[], $10::bigint[], $11::bigint[], $12::bigint[], $13::bigint[], $14::bigint[], $15::bigint[], $16::bigint[], $17::bytea[])
	as t(address, status, reserved, client, hardware, hostname, vendor, circuit, relay, since, changed, expires, heard, granted, revision,
		given, nudge)
), h as (
	insert into lease_history (at, address, status, client, hardware, hostname, vendor, circuit, relay, since, expires, given)
	select now(), address, status, client, hardware, hostname, vendor, circuit, relay, since, expires, given from r
)
insert into lease select * from r
on conflict (address) do update set status = excluded.status, reserved = excluded.reserved, client = excluded.client,
	hardware = excluded.hardware,
	hostname = excluded.hostname, vendor = excluded.vendor, circuit = excluded.circuit, relay = excluded.relay, since = excluded.since,
		changed = excluded.changed,
	expires = excluded.expires, heard = excluded.heard, granted = excluded.granted, revision = excluded.revision, given = excluded.given,
		nudge = excluded.nudge`

// bareLoop is a connection that does nothing but such batches.
type bareLoop struct {
	conn *pgx.Conn
	next uint32
}

// run records batches for a while, and says how many leases that were.
func (b *bareLoop) run(ctx context.Context, span time.Duration, size int) (leases int, err error) {
	same := func(n int64) []int64 { return slices.Repeat([]int64{n}, size) }
	octets := func(text string) [][]byte { return slices.Repeat([][]byte{[]byte(text)}, size) }
	now := time.Now().Unix()
	since, expires, granted, one, none := same(now), same(now+28800), same(28800), same(1), octets("")
	status, reserved, vendor := slices.Repeat([]int16{2}, size), make([]bool, size), slices.Repeat([]string{"bench"}, size)
	circuit, relay := octets("sw1/0/1"), slices.Repeat([]netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}, size)
	address, client, hardware, hostname := make([]netip.Addr, size), make([][]byte, size), make([][]byte, size), make([]string, size)
	for begin := time.Now(); time.Since(begin) < span; leases += size {
		for i := range size {
			b.next++
			n := b.next
			hw := []byte{2, 0, byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
			address[i], hardware[i], client[i] = netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)}), hw,
				append([]byte{'i', 1}, hw...)
			hostname[i] = fmt.Sprintf("bench-%08x", n)
		}
		if _, err := b.conn.Exec(ctx, bareUpsert, address, status, reserved, client, hardware, hostname, vendor, circuit, relay, since,
			since,
			expires, since, granted, one, one, none); err != nil {
			return 0, err
		}
	}
	return leases, nil
}

// databaseWork compares the processor time that the database takes for leases
// of the service and for those of a bare loop with batches of the same size.
func (s *service) databaseWork(load *generator, span time.Duration) error {
	ctx := context.Background()
	records, dsn, err := s.another(ctx, "bare")
	if err != nil {
		return err
	}
	defer records.Close()
	config, err := pgx.ParseConfig(dsn)
	if err != nil {
		return err
	}
	config.RuntimeParams["plan_cache_mode"], config.RuntimeParams["jit"] = "force_generic_plan", "off"
	loop := &bareLoop{}
	if loop.conn, err = pgx.ConnectConfig(ctx, config); err != nil {
		return err
	}
	defer loop.conn.Close(ctx)
	var ratios []float64
	for range 3 {
		before, err := s.client.Status(ctx)
		if err != nil {
			return err
		}
		t0, err := s.databaseTime()
		if err != nil {
			return err
		}
		load.closed(span, outstanding)
		t1, _ := s.databaseTime()
		after, err := s.client.Status(ctx)
		if err != nil {
			return err
		}
		leases := after.Recorded - before.Recorded
		size := max(1, int(leases/(after.Commits-before.Commits)))
		t2, _ := s.databaseTime()
		bare, err := loop.run(ctx, span, size)
		if err != nil {
			return err
		}
		t3, _ := s.databaseTime()
		ratios = append(ratios, (t1-t0)/float64(leases)/((t3-t2)/float64(bare)))
		fmt.Printf("  the database: %d leases of the service %.0f ticks, %d of a bare loop with the same %d a commit %.0f ticks\n",
			leases, t1-t0,
			bare, size, t3-t2)
	}
	fmt.Printf("  processor time of the database a lease, service ÷ bare loop, median  %.2f   (bar 1.3, goal 1.1)\n", median(ratios))
	return nil
}

// each waits for one entry to be recorded before the next is added.
type each struct {
	journal.Owner // what it is not asked for
	done          chan struct{}
}

func (e each) Recorded([]journal.Entry)         { e.done <- struct{}{} }
func (e each) Undo(take func() []journal.Entry) { take(); close(e.done) }

// oneByOne commits leases one at a time through the same journal, in a
// database of its own, and gives leases a second.
func (s *service) oneByOne(span time.Duration) (float64, error) {
	ctx := context.Background()
	records, _, err := s.another(ctx, "onebyone")
	if err != nil {
		return 0, err
	}
	defer records.Close()
	owner := each{done: make(chan struct{}, 1)}
	j, err := records.StartJournal(ctx, slog.New(slog.DiscardHandler), owner, time.Now)
	if err != nil {
		return 0, err
	}
	defer j.Close()
	n, begin := 0, time.Now()
	for ; time.Since(begin) < span; n++ {
		a := netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)})
		hw := addr.Hardware([]byte{2, 0, 0, byte(n >> 16), byte(n >> 8), byte(n)})
		now := lease.At(time.Now())
		l := &lease.Lease{Prefix: lease.Host(a), Status: lease.Active, Client: lease.ByIdentifier([]byte("\x01" + hw)), Hardware: hw,
			Hostname: "bench-00000000", Vendor: "bench",
			Circuit: "sw1/0/1", Relay: netip.AddrFrom4([4]byte{127, 0, 0, 1}), Since: now, Changed: now, Heard: now, Granted: 8 * time.Hour,
			Expires: now.Add(8 * time.Hour), Revision: 1}
		if !j.Add(journal.Entry{After: l}) {
			return 0, fmt.Errorf("one by one: %w", j.Down())
		}
		<-owner.done
	}
	return float64(n) / time.Since(begin).Seconds(), nil
}
