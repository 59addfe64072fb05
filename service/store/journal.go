package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"yarnpost/core/lease"
)

// Entry is one decision on its way to the disk. Without After it has nothing
// to write and waits for what is written before it.
type Entry struct {
	Before, After *lease.Lease // of one address; Before is nil if it had no record
	Set           []byte       // of After.Given, if that was never recorded before
	Note          any          // whatever the owner wants back with it
	Quiet         bool         // the history gets no line of it
	Body          []byte       // where this server of a pair stands, as JSON, or nil
	more          bool         // the next entry belongs to it
}

// Limits of the journal, in entries.
const (
	gatherLimit = 16384 // waiting for a commit; more is refused
	batchLimit  = 1024  // in one commit
)

// Journal records leases: while one batch commits, the next gathers. Entries
// become durable in the order in which they were added. When a batch fails, so
// does all that gathered meanwhile, since it may build on it.
type Journal struct {
	store *Store
	log   *slog.Logger
	owner Owner

	mu       sync.Mutex
	wake     *sync.Cond
	gathered []Entry
	pending  map[netip.Prefix]int // entries not yet durable, by key
	unwanted map[uint64]bool      // digests of sets that go with the next batches
	down     error                // why nothing can be recorded; nil while all is well
	began    time.Time            // when the commit began that is under way; zero if none is
	idle     bool                 // since the last look at the database
	closing  bool
	done     chan struct{}
	conn     *pgx.Conn
	batch    int64 // number of the last batch tried
	rows     rows
	now      func() time.Time

	Stats Stats
}

// Stats counts the journal's work; read it with Snapshot.
type Stats struct {
	Batches, Entries, Failed uint64
	Spent                    time.Duration // on commits
}

// Owner is told what became of entries.
type Owner interface {
	// Recorded gets entries that are durable now, in order.
	Recorded([]Entry)
	// Undo must lock out whoever adds entries, call take, and undo what take
	// gives, last first.
	Undo(take func() []Entry)
}

// NewJournal starts the journal; now tells the time of what is recorded.
func (s *Store) NewJournal(ctx context.Context, log *slog.Logger, owner Owner, now func() time.Time) (*Journal, error) {
	j := &Journal{store: s, log: log, owner: owner, now: now, pending: map[netip.Prefix]int{}, unwanted: map[uint64]bool{}, rows: newRows(),
		done: make(chan struct{})}
	j.wake = sync.NewCond(&j.mu)
	if err := j.adopt(ctx, s.writer); err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	s.writer = nil
	go j.run()
	go j.watch()
	return j, nil
}

// watch has an idle journal ask the database for a sign, so that it is known to be
// away before somebody needs it.
func (j *Journal) watch() {
	for {
		select {
		case <-j.done:
			return
		case <-time.After(watchEvery):
		}
		j.mu.Lock()
		if j.idle = true; len(j.gathered) == 0 {
			j.wake.Signal()
		}
		j.mu.Unlock()
	}
}

// Add queues entries that belong together, so that they become durable at once
// or not at all, and reports whether they were taken. They are not while the
// database is away or too much waits already. Call it under the lock that orders
// decisions.
func (j *Journal) Add(entries ...Entry) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.down != nil || j.closing || len(j.gathered)+len(entries) > gatherLimit {
		return false
	}
	for i, e := range entries {
		e.more = i < len(entries)-1
		j.gathered = append(j.gathered, e)
		if e.After != nil {
			j.pending[e.After.Prefix]++
		}
		if e.Set != nil {
			delete(j.unwanted, e.After.Given)
		}
	}
	j.wake.Signal()
	return true
}

// Forget drops sets to which no lease refers any more, before it writes the
// next ones; those of a batch that fails stay until the next start. Call it
// under the lock that orders decisions.
func (j *Journal) Forget(digests []uint64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, d := range digests {
		j.unwanted[d] = true
	}
}

// forgetLimit is how many sets go with one batch.
const forgetLimit = 1000

// forgotten takes some of the sets that go.
func (j *Journal) forgotten() (digests []int64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for d := range j.unwanted {
		if len(digests) == forgetLimit {
			break
		}
		digests = append(digests, int64(d))
		delete(j.unwanted, d)
	}
	return digests
}

// Pending reports whether a key has a record that is not yet durable.
func (j *Journal) Pending(a netip.Prefix) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.pending[a] > 0
}

// askLong is how long a look at the database may take before its connection is given up.
const askLong = 30 * time.Second

// stuckAfter is for how long a commit may take before nothing more is promised that
// would have to wait for it.
const stuckAfter = 3 * time.Second

// ErrStuck says that a commit takes too long.
var ErrStuck = fmt.Errorf("the database has not answered for more than %s", stuckAfter)

// Down is why nothing can be recorded now, or nil.
func (j *Journal) Down() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.down == nil && !j.began.IsZero() && j.now().Sub(j.began) > stuckAfter {
		return ErrStuck
	}
	return j.down
}

// Snapshot is a copy of the statistics, and how many entries wait.
func (j *Journal) Snapshot() (Stats, int) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.Stats, len(j.gathered)
}

// Close records what has been added and ends the journal.
func (j *Journal) Close() {
	j.mu.Lock()
	j.closing = true
	j.wake.Signal()
	j.mu.Unlock()
	<-j.done
	if j.conn != nil {
		j.conn.Close(context.Background())
	}
}

func (j *Journal) run() {
	defer close(j.done)
	// While replies leave, the next batch commits already.
	durable := make(chan []Entry)
	var telling sync.WaitGroup
	telling.Go(func() {
		for batch := range durable {
			j.owner.Recorded(batch)
		}
	})
	defer telling.Wait()
	defer close(durable)
	for {
		j.mu.Lock()
		for len(j.gathered) == 0 && !j.closing && !j.idle {
			j.wake.Wait()
		}
		j.idle = false
		if len(j.gathered) == 0 {
			closing := j.closing
			j.mu.Unlock()
			if closing {
				return
			}
			j.ask()
			continue
		}
		n := min(len(j.gathered), batchLimit)
		for j.gathered[n-1].more { // what belongs together is not split
			n++
		}
		batch := append([]Entry(nil), j.gathered[:n]...)
		j.gathered = append(j.gathered[:0], j.gathered[n:]...)
		j.mu.Unlock()
		var err error
		spent := j.timed(func() { err = j.commit(batch) })
		var unknown *unknownOutcome
		if errors.As(err, &unknown) {
			err = j.resolve(batch, err)
		}
		if err != nil {
			j.fail(batch, err)
			continue
		}
		j.settle(batch, spent)
		durable <- batch
	}
}

// timed does what waits for the database, so that Down knows since when.
func (j *Journal) timed(work func()) time.Duration {
	began := j.now()
	j.mu.Lock()
	j.began = began
	j.mu.Unlock()
	work()
	j.mu.Lock()
	j.began = time.Time{}
	j.mu.Unlock()
	return j.now().Sub(began)
}

// ask finds out whether the database is there and still this process's, with nothing
// to write.
func (j *Journal) ask() {
	ctx, cancel := context.WithTimeout(context.Background(), askLong)
	defer cancel()
	var err error
	j.timed(func() {
		var epoch int64
		if err = j.conn.QueryRow(ctx, "select epoch from server").Scan(&epoch); err == nil && epoch != j.store.epoch {
			err = ErrFenced
			j.conn.Close(ctx)
		}
	})
	if err != nil && j.conn.IsClosed() {
		j.fail(nil, err)
	}
}

// settle notes that the batch is durable.
func (j *Journal) settle(batch []Entry, spent time.Duration) {
	j.mu.Lock()
	j.Stats.Spent += spent
	j.Stats.Batches++
	j.Stats.Entries += uint64(len(batch))
	j.unpend(batch)
	j.mu.Unlock()
}

func (j *Journal) unpend(entries []Entry) {
	for _, e := range entries {
		if e.After == nil {
			continue
		}
		if a := e.After.Prefix; j.pending[a] > 1 {
			j.pending[a]--
		} else {
			delete(j.pending, a)
		}
	}
}

// fail undoes a batch that was certainly not recorded, and all behind it.
func (j *Journal) fail(batch []Entry, err error) {
	if len(batch) > 0 {
		j.log.Error("leases could not be recorded and are undone", "entries", len(batch), "err", err)
	} else {
		j.log.Error("the database is away", "err", err)
	}
	lost := j.conn.IsClosed()
	j.owner.Undo(func() []Entry {
		j.mu.Lock()
		defer j.mu.Unlock()
		all := append(append([]Entry(nil), batch...), j.gathered...)
		j.gathered = j.gathered[:0]
		j.Stats.Failed += uint64(len(all))
		j.unpend(all)
		if lost {
			j.down = err
		}
		return all
	})
	if lost {
		j.reconnect(err)
	}
}

// unknownOutcome wraps the error of a commit that may or may not have happened.
type unknownOutcome struct{ error }

func (u *unknownOutcome) Unwrap() error { return u.error }

// resolve finds out what became of a batch of unknown outcome. Until then its
// leases are frozen: they stay pending, and what gathered behind it is undone.
func (j *Journal) resolve(batch []Entry, cause error) error {
	j.log.Error("the outcome of a commit is unknown; its leases are frozen until the database tells", "entries", len(batch), "err", cause)
	j.owner.Undo(func() []Entry {
		j.mu.Lock()
		defer j.mu.Unlock()
		behind := append([]Entry(nil), j.gathered...)
		j.gathered = j.gathered[:0]
		j.Stats.Failed += uint64(len(behind))
		j.unpend(behind)
		j.down = cause
		return behind
	})
	tried := j.batch
	if last := j.reconnect(cause); last == tried {
		j.log.Info("the commit had happened; its leases stand", "entries", len(batch))
		return nil
	}
	return cause
}

// reconnect tries until the database is back, and gives the number of the last
// batch it knows. It gives up when the journal closes.
func (j *Journal) reconnect(cause error) (last int64) {
	for wait := 100 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
		j.mu.Lock()
		closing := j.closing
		j.mu.Unlock()
		if closing {
			return 0
		}
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		err := j.connect(ctx)
		cancel()
		if err == nil {
			j.mu.Lock()
			j.down = nil
			j.mu.Unlock()
			j.log.Info("the database is back; leases are recorded again")
			return j.batch
		}
		if errors.Is(err, ErrFenced) || errors.Is(err, errLocked) {
			cause = err
		}
		j.mu.Lock()
		j.down = cause
		j.mu.Unlock()
		if errors.Is(cause, ErrFenced) { // for good: what this process knows is old
			j.log.Error("this service answers nobody any more, since another one has taken its database", "err", cause)
			j.await()
			return 0
		}
		time.Sleep(wait)
	}
}

// await waits until the journal closes.
func (j *Journal) await() {
	j.mu.Lock()
	defer j.mu.Unlock()
	for !j.closing {
		j.wake.Wait()
	}
}

// connect opens the writing connection again.
func (j *Journal) connect(ctx context.Context) error {
	conn, err := j.store.lock(ctx)
	if errors.Is(err, errLocked) { // has its holder taken over, or is it our own dead connection?
		var epoch int64
		if j.store.pool.QueryRow(ctx, "select epoch from server").Scan(&epoch) == nil && epoch != j.store.epoch {
			err = ErrFenced
		}
	}
	if err != nil {
		return err
	}
	if err := j.adopt(ctx, conn); err != nil {
		conn.Close(ctx)
		return err
	}
	return nil
}

// adopt checks that the database is still this process's, learns the last
// batch, and makes the connection the journal's own.
func (j *Journal) adopt(ctx context.Context, conn *pgx.Conn) error {
	var epoch int64
	if err := conn.QueryRow(ctx, "select epoch, last_batch from server").Scan(&epoch, &j.batch); err != nil {
		return err
	}
	if epoch != j.store.epoch {
		return ErrFenced
	}
	if _, err := conn.Prepare(ctx, recordName, record); err != nil {
		return err
	}
	j.conn = conn
	return nil
}

const recordName = "record"

var binaryFormat = []int16{pgx.BinaryFormatCode} // of every parameter

// commit makes a batch durable. An error that wraps unknownOutcome leaves open
// whether it is.
func (j *Journal) commit(batch []Entry) error {
	r := &j.rows
	if r.fill(batch) == 0 && r.body == nil {
		return nil // all of it waited for batches that are durable by now
	}
	j.batch++
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	// Sets go and come rarely, before anything of the batch is sent.
	if gone := j.forgotten(); len(gone) > 0 {
		if _, err := j.conn.Exec(ctx, "delete from given_set where digest = any($1)", gone); err != nil {
			return err
		}
	}
	if len(r.sets) > 0 {
		if _, err := j.conn.Exec(ctx,
			"insert into given_set (digest, body) select * from unnest($1::bigint[], $2::bytea[]) on conflict do nothing", r.digests,
			r.sets); err != nil {
			return err
		}
	}
	if r.count == 0 {
		return j.outcome(ctx, j.commitBody(ctx))
	}
	result := j.conn.PgConn().ExecPrepared(ctx, recordName, r.values(j.store.epoch, j.batch, j.now()), binaryFormat, nil).Read()
	err := result.Err
	if err == nil && result.CommandTag.RowsAffected() == 0 {
		err = ErrFenced
	}
	return j.outcome(ctx, err)
}

// commitBody records where this server of a pair stands, and nothing else.
func (j *Journal) commitBody(ctx context.Context) error {
	var ours int // the pair may have ended meanwhile, which is no sign of another process
	err := j.conn.QueryRow(ctx, `with mark as (update server set last_batch = $2 where epoch = $1 returning 1),
		p as (update pair set record = $3::jsonb from mark) select count(*) from mark`, j.store.epoch, j.batch, string(j.rows.body)).Scan(&ours)
	if err == nil && ours == 0 {
		return ErrFenced
	}
	return err
}

// outcome says what an error of a commit means: one that wraps unknownOutcome leaves
// open whether it happened.
func (j *Journal) outcome(ctx context.Context, err error) error {
	var pg *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, ErrFenced):
		j.conn.Close(ctx)
		return err
	case errors.As(err, &pg) && pg.Severity == "ERROR" || pgconn.SafeToRetry(err):
		return err // the server itself said that it did not happen, or never heard of it
	}
	j.conn.Close(ctx)
	return &unknownOutcome{err}
}
