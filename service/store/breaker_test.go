package store

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/service/journal"
)

// What waits for a database ends once it gives no sign, what begins meanwhile ends at
// once, and what begins later is let alone.
func TestPatience(t *testing.T) {
	p := newBreaker()
	over := func(ctx context.Context) bool {
		select {
		case <-ctx.Done():
			return true
		case <-time.After(50 * time.Millisecond):
			return false
		}
	}
	mine, cancel := context.WithCancel(context.Background())
	first, other := p.begin(context.Background()), p.begin(mine)
	if over(first) {
		t.Error("a use of the database ends by itself")
	}
	if cancel(); !over(other) || over(first) {
		t.Error("a use whose asker went goes on, or takes another with it")
	}
	p.end(other)
	done := p.begin(context.Background())
	p.end(done)
	p.set(true)
	if p.set(true); !over(first) {
		t.Error("a use goes on although the database gives no sign")
	}
	p.end(first)
	if meanwhile := p.begin(context.Background()); meanwhile.Err() == nil {
		t.Error("the database is asked although it gives no sign")
	}
	p.set(false)
	later := p.begin(context.Background())
	if p.set(false); over(later) {
		t.Error("with the database back, a use is given up")
	}
	p.end(later)
}

// until waits for something that the store notices by itself.
func until(t *testing.T, what string, ready func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !ready(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("waited in vain for %s", what)
		}
	}
}

// A journal with nothing to do notices that its connection is gone, and has another one
// before somebody needs it; and that another process has the database now.
func TestIdleJournal(t *testing.T) {
	ctx := context.Background()
	dsn := fresh(t)
	s := open(t, dsn)
	j, o := started(t, s)
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	holder := func() (pid int) {
		_ = conn.QueryRow(ctx, "select pid from pg_locks where locktype = 'advisory' and objid = $1 and granted and database = "+
			"(select oid from pg_database where datname = current_database())", writerLock).Scan(&pid) // 0 if there is none
		return pid
	}
	was := holder()
	if _, err := conn.Exec(ctx, "select pg_terminate_backend($1)", was); err != nil || was == 0 {
		t.Fatalf("the journal's connection is %d: %v", was, err)
	}
	until(t, "another connection of the journal's", func() bool { now := holder(); return now != 0 && now != was && j.Down() == nil })
	if !j.Add(journal.Entry{After: sample(1)}) {
		t.Error("nothing can be added")
	}
	o.await(t, 1, 0)
	if _, err := conn.Exec(ctx, "update server set epoch = epoch + 1"); err != nil {
		t.Fatal(err)
	}
	until(t, "the journal to notice that it is fenced off", func() bool { return errors.Is(j.Down(), journal.ErrFenced) })
	if j.Add(journal.Entry{After: sample(2)}) {
		t.Error("fenced off, it takes entries")
	}
	if _, err := s.Revisions(ctx, 0, 1, 1); err != nil {
		t.Errorf("fenced off, nothing can be read: %v", err)
	}
}
